"""Reading sites: what is wrong in content is reported and does not stop the answer; a wrong site file does."""

from __future__ import annotations

import json
import shlex
from typing import Any
from zoneinfo import available_timezones

import pytest

import elenchus
from conftest import Run, Write, cases

SITE = """[site]
title = "A site"
timezone = "UTC"

[sources.notebook]
read = "markdown"
path = "notebook"

[kinds.note.fields]
count = { type = "integer" }
ratio = { type = "number" }
done = { type = "yesno" }
day = { type = "date" }
level = { type = "choice", choices = ["low", "high"] }
place = { type = "entry", kind = "place" }
count2 = { type = "integer", at_least = 0, at_most = 9 }

[kinds.place]

[taxonomies.area]
tree = true
terms = "area.csv"
"""
TERMS = "slug,name,parent\nnorth,North,\nbay,North Bay,north\nsouth,South,\nbay,South Bay,south\n"
FILES = {"elenchus.toml": SITE, "area.csv": TERMS, "notebook/.keep": ""}


@pytest.mark.parametrize("case", cases("contents.toml"), ids=lambda case: case["name"])
def test_content(make_site: Write, case: dict[str, Any]) -> None:
    """Every problem names its file, line and value; what can be read is there."""
    site = make_site({**FILES, "elenchus.toml": site_text(case), **case["files"]})
    assert sorted(map(str, site.dataset.problems)) == sorted(case["said"])
    answer = elenchus.ask(site, case.get("question", ""))
    assert sorted(row.id for row in answer.rows) == sorted(case["ids"].split())
    assert [each.message for each in site.dataset.notes] == case.get("notes", [])
    assert case.get("notice", "") in "".join(map(str, answer.notices))
    if "rows" in case:
        rows = elenchus.ask(site, "where title is set or body is set").rows
        shown = [" · ".join(str(row[name] or "–") for name in ("id", "title", "date")) for row in rows]
        found = [f"{line} · {row['body'] or ''}" for line, row in zip(shown, rows, strict=True)]
        assert sorted(found) == sorted(case["rows"])
    if "terms" in case:
        name, _, wanted = case["terms"].partition(": ")
        found = [row["name"].replace(" ", "~") for row in elenchus.ask(site, f"from {name}").rows]
        assert sorted(found) == sorted(wanted.split())


def site_text(case: dict[str, Any]) -> str:
    """Return the site file with what a case writes in its source, and with its taxonomies."""
    keys = "".join(f"{key} = {value}\n" for key, value in case.get("source", {}).items())
    text = SITE.replace('path = "notebook"\n', f'path = "notebook"\n{keys}')
    return text + "".join(
        f"[taxonomies.{key}]\n{value}\n" for key, value in case.get("taxonomies", {}).items()
    )


@pytest.mark.parametrize("case", cases("sites.toml"), ids=lambda case: str(case["said"])[:60])
def test_site_file(make_site: Write, case: dict[str, Any]) -> None:
    """All problems of a site's own files come at once, each with its line."""
    old, new = case.get("replace", ("", ""))
    files = {
        **FILES,
        "elenchus.toml": SITE.replace(old, new) if old else SITE,
        "area.csv": case.get("csv", TERMS),
    }
    if case["said"]:
        with pytest.raises(elenchus.SiteError) as caught:
            make_site(files).dataset.problems  # noqa: B018 - reading is what raises
        assert sorted(map(str, caught.value.problems)) == sorted(case["said"])
    else:
        assert [str(problem) for problem in make_site(files).dataset.problems] == case["problems"]


def test_front_matter_formats(make_site: Write) -> None:
    """YAML, TOML, none at all, a byte-order mark and Windows line ends are all read."""
    site = make_site(
        {
            **FILES,
            "notebook/note/yaml.md": "\ufeff---\r\ntitle: Été\r\ncount: 3\r\n---\r\nBody\r\n",
            "notebook/note/toml.md": '+++\ntitle = "T"\ncount = 3\nday = 2026-05-18\ndone = true\n+++\nBody\n',
            "notebook/note/none.md": "Only a body.\n",
            "notebook/note/deep/er/down.md": "---\ntitle: Down\n---\n",
            "notebook/note/.hidden.md": "---\ntitle: Hidden\n---\n",
        }
    )
    assert site.dataset.problems == []
    assert elenchus.ask(site, "where count = 3 and title is set").matched == 2
    assert elenchus.ask(site, "where day = 2026-05-18 and done").matched == 1
    assert elenchus.ask(site, "where body contains only").rows[0].id == "note/none"
    assert elenchus.ask(site, "from note").matched == 4


def test_foreign_words(make_site: Write) -> None:
    """A source may name the kind in a column, fields by other names, and statuses by other words."""
    spec = 'path = "notebook"\nkind = "{sort}"\ncolumns = { title = "Headline" }\nstatuses = { live = "published" }'
    site = make_site(
        {
            **FILES,
            "elenchus.toml": SITE.replace('path = "notebook"', spec),
            "notebook/a.md": "---\nsort: note\nHeadline: One\nstatus: live\n---\n",
            "notebook/b.md": "---\nsort: place\nHeadline: Two\nstatus: draft\n---\n",
        }
    )
    assert [(row.id, row["title"]) for row in elenchus.ask(site, "").rows] == [("note/a", "One")]


def test_links_out_of_the_site(make_site: Write, tmp_path_factory: pytest.TempPathFactory) -> None:
    """Symbolic links are not followed, so that nothing from outside becomes content."""
    outside = tmp_path_factory.mktemp("outside")
    (outside / "secret.md").write_text("---\ntitle: Secret\n---\n")
    site = make_site(FILES)
    folder = site.definition.folder / "notebook"
    (folder / "note").symlink_to(outside)
    (folder / "place").mkdir()
    (folder / "place" / "link.md").symlink_to(outside / "secret.md")
    assert elenchus.ask(site, "").matched == 0


@pytest.mark.parametrize(
    ("status", "date", "expires", "seen"),
    [
        ("", "", "", True),
        ("published", "2026-05-18", "", True),
        ("", "2026-05-20", "", True),
        ("", "2026-05-20 12:01", "", False),
        ("scheduled", "2026-05-20", "", True),
        ("scheduled", "2026-05-21", "", False),
        ("scheduled", "", "", False),
        ("draft", "2026-05-18", "", False),
        ("withdrawn", "", "", False),
        ("", "", "2026-05-20", True),
        ("", "", "2026-05-20 12:00", False),
        ("", "", "2026-05-19", False),
    ],
)
def test_who_may_see_it(make_site: Write, status: str, date: str, expires: str, seen: bool) -> None:
    """Status, date and expiry together decide; a day opens as it begins and lasts to its end."""
    site = SITE.replace('timezone = "UTC"', 'timezone = "UTC"\nclock = 2026-05-20T12:00:00')
    note = f"---\nstatus: {status}\ndate: {date}\nexpires: {expires}\n---\n"
    found = make_site({**FILES, "elenchus.toml": site, "notebook/note/a.md": note})
    assert elenchus.ask(found, "").matched == seen


def test_references_to_hidden_entries(make_site: Write) -> None:
    """A reference to an entry that is not public is missing, for every operator."""
    site = make_site(
        {
            **FILES,
            "notebook/place/open.md": "---\ntitle: Open\n---\n",
            "notebook/place/shut.md": "---\ntitle: Shut\nstatus: draft\n---\n",
            "notebook/note/a.md": "---\nplace: open\n---\n",
            "notebook/note/b.md": "---\nplace: shut\n---\n",
        }
    )
    found = {
        question: [row.id for row in elenchus.ask(site, f"from note where {question}").rows]
        for question in ("place = open", "place = shut", "place != open", "place is set", "place is missing")
    }
    assert found == {
        "place = open": ["note/a"],
        "place = shut": [],
        "place != open": ["note/b"],
        "place is set": ["note/a"],
        "place is missing": ["note/b"],
    }
    assert [row["place"] for row in elenchus.ask(site, "from note order by place").rows] == [
        "place/open",
        None,
    ]


@pytest.mark.parametrize("zone", [*sorted(available_timezones())[::20], "Pacific/Kiritimati", "Etc/GMT+12"])
def test_the_whole_calendar(make_site: Write, zone: str) -> None:
    """The first and the last minute of all years, and one that the clocks leave out, are dates in every zone."""
    days = ["0001-01-01", "0001-01-01 00:30", "9999-12-31", "9999-12-31 23:59", "2026-03-29 02:30"]
    notes = {
        f"notebook/note/{number}.md": f"---\ndate: {day}\nexpires: 9999-12-31\n---\n"
        for number, day in enumerate(days)
    }
    site = make_site(
        {**FILES, **notes, "elenchus.toml": SITE.replace('"UTC"', f'"{zone}"\nclock = 2026-06-01')}
    )
    assert not site.dataset.problems
    every = elenchus.ask(site, "order by date group by date.year including unpublished")
    assert [group.label for group in every.groups or ()] == ["0001", "2026", "9999"]
    assert elenchus.ask(site, "where date >= 9999-12-30 including unpublished").matched == 2
    assert elenchus.ask(site, "where date.year = 0001").matched == 2


MISFITS = ("unknown-term", "unfit-value", "unreadable-date")


@pytest.mark.parametrize(
    ("line", "near", "edit"),
    [
        ("topic: sae", ["sea"], ("topic", "sea")),
        ("topic: [sky, sae]", ["sea"], ("topic", "sky, sea")),
        ("topic: [sae, sea]", ["sea"], ("topic", "sea")),
        ("topic: walrus", [], None),
        ("level: loww", ["low"], ("level", "low")),
        ("level: igh", ["high"], ("level", "high")),
        ("level: purple", [], None),
        ("date: 2026-5-8", ["2026-05-08"], ("date", "2026-05-08")),
    ],
)
def test_cures_of_content(
    make_site: Write, run: Run, line: str, near: list[str], edit: tuple[str, str] | None
) -> None:
    """A finding tells the names that come near, and the edit that puts it right: made, the finding is gone."""
    site_file = (
        '[site]\n[sources.n]\nread = "markdown"\npath = "n"\nkind = "note"\n[kinds.note]\n[taxonomies.topic]\n'
        'terms = "topic.csv"\n[kinds.note.fields]\nlevel = { type = "choice", choices = ["low", "high"] }\n'
    )
    page = "---\ntitle: Algae\n{}\n---\n"
    files = {"elenchus.toml": site_file, "topic.csv": "slug\nsea\nsky\n", "n/a.md": page.format(line)}
    folder = make_site(files).definition.folder
    found = json.loads(run("check", "--site", str(folder), "--format", "json").stdout)["findings"]
    finding = next(each for each in found if each["file"] == "n/a.md" and each["code"] in MISFITS)
    assert finding["near"] == near
    cure = finding["cure"]
    command = shlex.split(cure.pop("command")) if cure else []
    assert cure is None or cure.pop("by_hand") is None
    assert cure == (edit and {"entry": "note/a", "field": edit[0], "operator": "=", "value": edit[1]})
    if cure:
        assert run(*command[1:], "--yes", cwd=folder).returncode == 0
        found = json.loads(run("check", "--site", str(folder), "--format", "json").stdout)["findings"]
        assert not [each for each in found if each["code"] in MISFITS and each["file"] == "n/a.md"]
