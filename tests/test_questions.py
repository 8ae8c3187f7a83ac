"""The reference site's answers, through the public API and through the installed program."""

from __future__ import annotations

import json
from typing import Any

import pytest

import elenchus
from conftest import HERE, Run, cases, group_words

CASES = cases("questions.toml")
REFERENCE = HERE / "reference"


@pytest.mark.parametrize("case", CASES, ids=lambda case: case["question"] or "everything")
def test_answer(case: dict[str, Any]) -> None:
    """The API gives the ids, counts and notices of the case."""
    site = elenchus.open_site(REFERENCE, at=case.get("at"))
    answer = elenchus.ask(site, case["question"], page=case.get("page", 1), given=case.get("with"))
    if "ids" in case:
        assert " ".join(row.id for row in answer.rows) == case["ids"]
    for count in ("matched", "total", "pages", "placements"):
        assert getattr(answer, count) == case.get(count, getattr(answer, count))
    if "groups" in case:
        assert group_words(answer) == case["groups"]
    if "measures" in case:
        assert ", ".join(str(each.value) for each in answer.measures) == case["measures"]
    assert sorted(answer.overlap) == sorted(case.get("overlap", " ".join(answer.overlap)).split())
    assert any(case.get("notice", "") in notice.message for notice in answer.notices) or "notice" not in case


@pytest.mark.parametrize(
    "case", [case for case in CASES if "ids" in case][::6], ids=lambda case: case["question"]
)
def test_program(case: dict[str, Any], run: Run) -> None:
    """The installed program prints the same ids, one a line, and nothing else on standard output."""
    options = ["--site", str(REFERENCE), "--format", "lines", "--page", str(case.get("page", 1))]
    values = {
        name: [value] if isinstance(value, str) else value for name, value in case.get("with", {}).items()
    }
    given = [f"--with={name}={value}" for name, found in values.items() for value in found]
    done = run("ask", case["question"], *options, *(("--at", case["at"]) if "at" in case else ()), *given)
    assert done.stdout.split() == case["ids"].split()
    assert done.returncode == 0


def test_shown_fields(run: Run) -> None:
    """Other fields than those of a listing or a question are shown, in every form; an unknown one is told."""
    ask = ("ask", "from sighting limit 1", "--site", str(elenchus.demo_folder()), "--show")
    plain = run(*ask, "station.title, individuals").stdout
    assert plain.split("\n")[0].split() == ["id", "station.title", "individuals"]
    assert run(*ask, "individuals", "-f", "csv").stdout.startswith(
        "id,kind,slug,title,date,address,individuals\n"
    )
    wrong = run(*ask, "indviduals")
    assert (wrong.returncode, "Did you mean individuals?" in wrong.stderr) == (3, True)
    listing = run("ask", "fresh-from-shore", *ask[2:], "kind").stdout
    assert listing.split("\n")[0].split() == ["id", "kind"]


def test_measures_in_every_form(run: Run) -> None:
    """A measure goes by its own name after having, and is told in each form; a term's number of entries has one, too."""
    question = 'from sighting group by habitat limit 0 per group having "how many" > 30 measure sum of individuals as "how many", max of date'
    wanted = {
        "table": "habitat     rows  how many  max of date\nTide pools     2        40  2026-05-12 10:00\nMudflat        1       140  2026-05-18 23:30\nall rows       7       193  2026-05-18 23:30\n",
        "csv": "habitat,count,how many,max of date\ntide-pools,2,40,2026-05-12T10:00:00-03:00\nmudflat,1,140,2026-05-18T23:30:00-03:00\n",
        "markdown": "| habitat | rows | how many | max of date |\n|---|---:|---:|---:|\n| Tide pools | 2 | 40 | 2026-05-12 10:00 |\n| Mudflat | 1 | 140 | 2026-05-18 23:30 |\n| all rows | 7 | 193 | 2026-05-18 23:30 |\n",
    }
    for form, text in wanted.items():
        assert run("ask", question, "--site", str(REFERENCE), "--format", form).stdout.startswith(text), form
    found = json.loads(run("ask", question, "--site", str(REFERENCE), "--format", "json").stdout)
    assert [group["measures"]["how many"] for group in found["groups"]] == [40, 140]
    assert found["measures"][0] == {"label": "how many", "field": "individuals", "value": 193, "missing": 2}
    assert "<td>193</td>" in run("ask", question, "--site", str(REFERENCE), "--format", "html").stdout
    plain = run(
        "ask", "from sighting limit 1 measure average of individuals", "--site", str(REFERENCE)
    ).stdout
    assert "average of individuals  140.00\n" in plain
    assert (
        "sum of own  21\n" in run("ask", "from habitat measure sum of own", "--site", str(REFERENCE)).stdout
    )
    why = run("why", question, "--site", str(REFERENCE)).stdout
    assert "Only groups where sum of individuals is more than 30.\n" in why
    assert "Of all rows, and of each group: how many (sum of individuals), max of date.\n" in why


@pytest.mark.parametrize("count", [1, 2, 3, 5, 17, 18, 19])
@pytest.mark.parametrize("order", ["newest", "oldest", "title", "individuals desc", "starts, kind desc"])
def test_pages_partition(reference: elenchus.Site, order: str, count: int) -> None:
    """Over all its pages an order shows each row once, whatever the size of a page."""
    question = f"order by {order} per page {count}"
    pages = elenchus.ask(reference, question).pages
    shown = [
        row.id for page in range(1, pages + 1) for row in elenchus.ask(reference, question, page=page).rows
    ]
    assert shown == [row.id for row in elenchus.ask(reference, f"order by {order}").rows]
    assert len(set(shown)) == 18


@pytest.mark.parametrize("page", ["0", "5", "-1", "abc", "", "²", "1e1", "9" * 40])
def test_no_such_page(reference: elenchus.Site, page: str) -> None:
    """A page outside 1 … last is an error of its own; page 1 of an empty answer is none."""
    with pytest.raises(elenchus.NoSuchPage, match="the last page is 4"):
        elenchus.ask(reference, "per page 5", page=page)
    assert elenchus.ask(reference, "where habitat = open-water per page 5", page="1").rows == ()
