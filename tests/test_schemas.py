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
# What a schema can know: whether a key is known, and of what type its value is.
KNOWN = {"unknown-key", "wrong-type", "unknown-source", "unknown-type"}


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
    """A site file is refused by its schema where the program finds unknown keys, wrong types or unknown words."""
    old, new = case.get("replace", ("", ""))
    text = SITE.replace(old, new) if old else SITE
    try:
        make_site({**FILES, "elenchus.toml": text, "area.csv": case.get("csv", "slug\n")})
        codes: set[str] = set()
    except elenchus.SiteError as error:
        codes = {problem.code for problem in error.problems}
    if "bad-toml" not in codes:
        assert bool(refusals("elenchus", text)) == bool(codes & KNOWN), codes


def test_broken_copy() -> None:
    """What is wrong in the keys of the broken listings and pages is refused."""
    listings = "\n".join(
        refusals("listings", (HERE / "broken" / "listings.toml").read_text(encoding="utf-8"))
    )
    assert all(word in listings for word in ("limt", "3 is not of type", "7 is not of type", "Nothing"))
    assert len(refusals("pages", (HERE / "broken" / "pages.toml").read_text(encoding="utf-8"))) == 2


def test_examples_of_the_docs() -> None:
    """Whatever the docs show of the three files is accepted by one of the schemas."""
    count = 0
    for page in sorted(DOCS.glob("*.md")):
        for block in re.findall(r"```toml\n(.*?)```", page.read_text(encoding="utf-8"), re.DOTALL):
            below = f"[a]\nask = 'from a'\n{block}"  # a few show keys of one listing
            found = [refusals(name, text) for name in NAMES for text in (block, below) if not clashes(text)]
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
