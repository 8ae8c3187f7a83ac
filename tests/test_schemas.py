"""JSON Schemas of the files that define a site: what they accept and refuse is what the program does."""

from __future__ import annotations

import json
import re
import tomllib
from datetime import date, time
from pathlib import Path
from typing import Any

import pytest
from jsonschema import Draft202012Validator

import elenchus
from conftest import HERE, Run, Write, cases
from elenchus.site.schemas import NAMES, schema_of
from test_content import FILES, SITE

DOCS = HERE.parent / "docs"
VALIDATORS = {name: Draft202012Validator(schema_of(name)) for name in NAMES}
GOOD = [
    *(path for folder in ("skerry-bay", "lending-library") for path in (elenchus.demo_folder().parent / folder).glob("*.toml")),
    HERE / "reference" / "elenchus.toml",
]  # fmt: skip
# What no schema can know: it takes other files, other tables, or a list of all zones.
OUTSIDE = {"unknown-zone", "missing-folder", "unknown-kind", "name-clash", "unreadable-terms"}


def plain(value: Any) -> Any:
    """Return a value of TOML as JSON has it: with dates as texts."""
    if isinstance(value, dict):
        return {key: plain(each) for key, each in value.items()}
    if isinstance(value, list):
        return [plain(each) for each in value]
    return value.isoformat() if isinstance(value, date | time) else value


def refusals(name: str, text: str) -> list[str]:
    """Return what a schema says against a file."""
    return [error.message for error in VALIDATORS[name].iter_errors(plain(tomllib.loads(text)))]


def clashes(text: str) -> bool:
    """Say whether a text is no TOML."""
    try:
        return not tomllib.loads(text)
    except tomllib.TOMLDecodeError:
        return True


@pytest.mark.parametrize("path", GOOD, ids=lambda path: f"{path.parent.name}/{path.name}")
def test_good_files(path: Path) -> None:
    """The files of the demos are as the schemas say."""
    assert refusals(path.stem, path.read_text(encoding="utf-8")) == []


@pytest.mark.parametrize("case", cases("sites.toml"), ids=lambda case: str(case["said"])[:60])
def test_broken_files(make_site: Write, case: dict[str, Any]) -> None:
    """A site file is refused by its schema if the program refuses it for what stands in this one file."""
    old, new = case.get("replace", ("", ""))
    text = SITE.replace(old, new) if old else SITE
    try:
        make_site({**FILES, "elenchus.toml": text, "area.csv": case.get("csv", "slug\n")})
        codes: set[str] = set()
    except elenchus.SiteError as error:
        codes = {problem.code for problem in error.problems}
    if "bad-toml" not in codes:
        assert bool(refusals("elenchus", text)) == bool(codes - OUTSIDE), codes


def test_broken_copy() -> None:
    """What is wrong in the keys of the broken listings and pages is refused."""
    listings = "\n".join(
        refusals("listings", (HERE / "broken" / "listings.toml").read_text(encoding="utf-8"))
    )
    assert all(word in listings for word in ("limt", "3 is not of type", "7 is not of type", "Nothing"))
    pages = refusals("pages", (HERE / "broken" / "pages.toml").read_text(encoding="utf-8"))
    assert len(pages) == 4, pages


WRONG = {  # what each schema refuses, and check does with this code
    "listings": [
        ('["1st"]\nask = "from note"', "bad-name"),
        ('[a]\ntitle = "A"', "missing-key"),
        ('[a]\nask = "from note"\nat_least = 0', "bad-number"),
        ('[a]\nask = "from note"\nexpect = [{ with = {} }]', "missing-key"),
        ('[a]\nask = "from note where :x"\n[a.parameters.x]\nchoices = ["a"]\nconditions = { b = "" }', "idle-key"),
        ('[a]\nask = "from note where title = :x"\n[a.parameters."2x"]\ntype = "text"', "bad-name"),
        ('[a]\nask = "from note"\nlayuot = "list"', "unknown-key"),
    ],
    "pages": [
        ('[a]\ntitle = "A"', "missing-key"),
        ('[a]\neach = "from note"\naddress = "{slug}/"\nmenu = true', "idle-key"),
        ('[a]\naddress = "a/"\nwithin = "newest"', "idle-key"),
        ('[a]\naddress = "a/"\nno_repeats = true\nsections = ["newest"]', "idle-key"),
        ('[a]\naddress = "a/"\nsections = [3]', "wrong-type"),
    ],
}  # fmt: skip


@pytest.mark.parametrize(("name", "text", "code"), [(name, *each) for name, found in WRONG.items() for each in found])  # fmt: skip
def test_wrong_files(make_site: Write, run: Run, name: str, text: str, code: str) -> None:
    """Listings and pages that check refuses are refused by their schemas, too."""
    site = '[sources.n]\nread = "markdown"\npath = "n"\nkind = "note"\n[kinds.note]\naddress = "n/{slug}/"\n'
    newest = '[newest]\nask = "from note order by newest"\n'
    make_site({"elenchus.toml": site, "n/a.md": "---\ntitle: A\n---\n", "listings/newest.toml": newest, f"{name}.toml": text})  # fmt: skip
    found = json.loads(run("check", "--format", "json").stdout)["findings"]
    assert code in {each["code"] for each in found if each["file"] == f"{name}.toml"}
    assert refusals(name, text)


def test_examples_of_the_docs() -> None:
    """Whatever the docs show of the three files is accepted by one of the schemas."""
    count = 0
    for page in sorted(DOCS.glob("*.md")):
        for block in re.findall(r"```toml\n(.*?)```", page.read_text(encoding="utf-8"), re.DOTALL):
            below = f"[a]\nask = 'from a'\n{block}"  # a few show keys of one listing
            texts = [text for text in (block, below) if not clashes(text)]
            wrong = [refusals(name, text) for name in NAMES for text in texts]
            found = [[each for each in told if "is a required property" not in each] for told in wrong]
            assert [] in found, f"{page.name}: {block}"
            count += 1
    assert count > 10


def test_written(run: Run, tmp_path: Path) -> None:
    """The command prints one schema, or writes all; another name is told."""
    assert json.loads(run("schema", "pages").stdout) == schema_of("pages")
    assert run("schema", "--to", "made").returncode == 0
    assert sorted(path.name for path in (tmp_path / "made").iterdir()) == [
        f"{name}.schema.json" for name in NAMES
    ]
    assert "Did you mean pages?" in run("schema", "page").stderr
    assert run("schema").returncode == 2
