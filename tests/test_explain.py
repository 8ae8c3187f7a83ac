"""Explanations: the funnel, the verdict on an entry, descriptions, charts, and named conditions."""

from __future__ import annotations

import json
import xml.etree.ElementTree as ET
from pathlib import Path
from typing import Any

import pytest

import elenchus
from conftest import HERE, Run, Write, cases
from elenchus.asking.query import Query
from elenchus.asking.tallying import term_tally

REFERENCE = HERE / "reference"
SHORE = "from sighting where habitat under shore and individuals >= 10"


@pytest.mark.parametrize("case", cases("explanations.toml"), ids=lambda case: " ".join(case["arguments"]))
def test_explanations(run: Run, case: dict[str, Any]) -> None:
    """The program says what the case says, line by line."""
    done = run(*case["arguments"], cwd=REFERENCE)
    assert done.stdout == case["says"].lstrip("\n")
    assert done.returncode == case.get("code", 0)


def test_funnel(reference: elenchus.Site) -> None:
    """Each step says how many rows it leaves; a text reading of numbers is shown where it would be wrong."""
    found = elenchus.why(reference, SHORE)
    assert [step.left for step in found.steps] == [20, 8, 7, 5, 2]
    assert [removed.id for step in found.steps for removed in step.examples] == [
        "s8",
        "s2",
        "s5",
        "s3",
        "s6",
        "s7",
    ]
    alone = elenchus.why(reference, "from sighting where individuals >= 10").steps[-1]
    assert sorted(alone.as_text or ()) == ["s1", "s2", "s3", "s4", "s7"]


def test_tally(reference: elenchus.Site) -> None:
    """Several terms are counted each, together, and by what overlaps."""
    tally = elenchus.why(reference, "where species in (grey-seal, harbour-seal)").steps[-1].tally
    assert tally
    assert (tally.counts, tally.distinct, tally.overlap) == (
        (("grey-seal", 4), ("harbour-seal", 2)),
        5,
        ("g1",),
    )


@pytest.mark.parametrize(
    ("question", "entry", "change", "edit"),
    [
        (SHORE, "s3", "set individuals to 10 or more", ("individuals: 9", "individuals: 10")),
        (SHORE, "s7", "set individuals to 10 or more", ("individuals: about 20", "individuals: 20")),
        (
            "from sighting where individuals < 5",
            "s8",
            "publish it: set status to published",
            ("status: draft", "status: published"),
        ),
        (
            "from outing",
            "o3",
            "set its date to now or earlier, or wait: it becomes public by itself",
            ("date: 2026-06-01", "date: 2026-05-01"),
        ),
        (
            "where species has all (grey-seal, limpet)",
            "g4",
            "give it all of species grey-seal and limpet",
            ("[limpet]", "[limpet, grey-seal]"),
        ),
        (
            "where habitat not under shore",
            "s1",
            "take habitat shore and all below away",
            ("[rocky-shore]", "[dunes]"),
        ),
        (
            "from report where not (reliability > 9 or habitat = dunes)",
            "p2",
            "set reliability to 9 or less",
            ("reliability: 10", "reliability: 9"),
        ),
        ("where pinned", "g2", "set pinned to yes", ("id: g2", "id: g2\npinned: yes")),
        (
            "from guide where date in 2025",
            "g2",
            "set date to something in 2025",
            ("date: 2026", "date: 2025"),
        ),
    ],
)
def test_one_change_lists_it(
    site_folder: Path, question: str, entry: str, change: str, edit: tuple[str, str]
) -> None:
    """The change that is offered is one that, once made, lists the entry."""
    site = elenchus.open_site(site_folder)
    verdict = elenchus.why_entry(site, question, entry)
    assert (verdict.listed, [[str(each) for each in way] for way in verdict.ways]) == (False, [[change]])
    file = site_folder / verdict.place
    file.write_text(file.read_text().replace(*edit))
    after = elenchus.why_entry(elenchus.open_site(site_folder), question, entry)
    assert after.listed, after


@pytest.mark.parametrize(
    ("question", "entry", "cut", "change"),
    [
        ("limit 3", "s3", "limit 3 ends before it", "a limit of 4 or more"),
        ("offset 2", "g4", "offset 2 skips it", "an offset of 1 or less"),
        (
            "at most 1 per kind",
            "s1",
            "at most 1 of the same kind, and as many stand before it",
            "raise “at most 1” to 2 or more",
        ),
    ],
)
def test_passed_over(reference: elenchus.Site, question: str, entry: str, cut: str, change: str) -> None:
    """An entry that matches and is cut says by what, and what would list it."""
    verdict = elenchus.why_entry(reference, question, entry)
    assert (verdict.listed, verdict.matches, verdict.cut) == (False, True, cut)
    assert [[str(each) for each in way] for way in verdict.ways] == [[change]]


def test_places(reference: elenchus.Site) -> None:
    """A listed entry has a rank and a page, or its groups; a term is judged like an entry."""
    assert elenchus.why_entry(reference, "per page 5", "s6").page == 2
    assert elenchus.why_entry(reference, "per page 5", "s7").rank == 11
    assert elenchus.why_entry(reference, "group by habitat", "p1").groups == ("Shore", "Rocky shore")
    assert elenchus.why_entry(reference, "from habitat where with_below > 5", "Tide pools").listed is False
    assert elenchus.why_entry(reference, "from sighting lead with g1", "g1").listed is True


def test_left_out_entry(make_site: Write) -> None:
    """An entry whose file cannot be used is reported by its file, not only as unknown."""
    toml = '[sources.n]\nread = "markdown"\npath = "n"\n[kinds.note]\n'
    site = make_site({"elenchus.toml": toml, "n/note/broken.md": "---\ntitle: [\n---\n"})
    with pytest.raises(elenchus.NoSuchName, match="its file cannot be used"):
        elenchus.why_entry(site, "", "broken")


CONDITIONS = """
[conditions]
fresh = "date in last 30 days"
big = "individuals >= 10 or pinned"
both = "fresh and big"
loop = "not round"
round = "loop"
typo = "individuls > 3"
"""


@pytest.mark.parametrize(
    ("question", "outcome"),
    [
        ("from sighting where fresh", "s2 s1 s3 s4"),
        ("where both order by id", "s1 s2 s4"),
        ("where not big and habitat = rocky-shore order by id", "g4 o2 p1 s3 s7"),
        ("where loop", "the condition loop leads back to itself: loop → round → loop"),
        ("where typo", "in the condition typo: there is no field “individuls”"),
        ("where freshh", "“freshh” is neither a field nor a condition of the site"),
    ],
)
def test_named_conditions(site_folder: Path, question: str, outcome: str) -> None:
    """A bare name stands for the condition that the site gives it; errors are reported at the name."""
    file = site_folder / "elenchus.toml"
    file.write_text(file.read_text() + CONDITIONS)
    site = elenchus.open_site(site_folder)
    try:
        found = " ".join(row.id for row in elenchus.ask(site, question).rows)
    except elenchus.QuestionError as error:
        found = error.problems[0].message
    assert found == outcome


def test_conditions_are_checked_with_the_site(site_folder: Path) -> None:
    """A condition that cannot be parsed, or has the name of something else, is an error of the site file."""
    file = site_folder / "elenchus.toml"
    file.write_text(file.read_text() + '\n[conditions]\nsighting = "pinned"\nbad = "pinned and"\n')
    with pytest.raises(elenchus.SiteError) as caught:
        elenchus.open_site(site_folder)
    assert [problem.code for problem in caught.value.problems] == ["name-clash", "expected"]


def test_json_groups(run: Run) -> None:
    """In JSON a group has its keys, label, count, how many are shown, and ids; rows stand once."""
    question = "where habitat under shore group by habitat under shore limit 1 per group"
    answer = json.loads(run("ask", question, "--format", "json", cwd=REFERENCE).stdout)
    assert answer["groups"][1] == {
        "keys": ["rocky-shore"],
        "label": "Rocky shore",
        "count": 6,
        "shown": 1,
        "rows": ["g4"],
    }
    assert (answer["total"], answer["placements"]) == (11, 13)
    assert answer["overlap"] == {"p1": ["Shore", "Rocky shore"], "s3": ["Rocky shore", "Tide pools"]}
    assert [row["id"] for row in answer["rows"]] == ["p1", "g4", "s3", "s6"]


def test_lines_and_markdown(run: Run) -> None:
    """JSON Lines has an object a line; Markdown is a list, a table or headed lists, safe to paste."""
    lines = run("ask", "from guide", "--format", "jsonl", cwd=REFERENCE).stdout.splitlines()
    assert [json.loads(line)["id"] for line in lines] == ["g4", "g2", "g3", "g1"]
    assert (
        run("ask", "from guide limit 1", "-f", "markdown", cwd=REFERENCE).stdout
        == "- Zonation for beginners\n"
    )
    table = run("ask", "from guide where pinned", "-f", "markdown", cwd=REFERENCE).stdout
    assert table.splitlines()[2] == "| Telling seals apart | 2025-05-03 10:00 | yes |"
    assert "## Seagrass beds (2)\n" in run("ask", "group by habitat", "-f", "markdown", cwd=REFERENCE).stdout


@pytest.mark.parametrize("question", ["from sighting group by date.month", "group by species by count desc"])
def test_chart(run: Run, tmp_path: Path, question: str) -> None:
    """A chart is a well-formed SVG with each label, the same on every run, or a PNG."""
    outputs = []
    for _ in range(2):
        done = run("ask", question, "--site", str(REFERENCE), "--chart", "chart.svg")
        assert done.returncode == 0, done.stderr
        outputs.append((tmp_path / "chart.svg").read_bytes())
    assert outputs[0] == outputs[1]
    texts = [node.text or "" for node in ET.fromstring(outputs[0]).iter() if node.tag.endswith("text")]  # noqa: S314
    wanted = "2026-04" if "month" in question else "Grey seal"
    assert wanted in texts
    tall = f"{question} measure sum of individuals"
    run("ask", tall, "--site", str(REFERENCE), "--chart", "tall.svg")
    words = "sum of individuals of 7 entries" if "month" in question else "sum of individuals of 18 entries"
    assert words in (tmp_path / "tall.svg").read_text()
    run("ask", question, "--site", str(REFERENCE), "--chart", "chart.png")
    assert (tmp_path / "chart.png").read_bytes().startswith(b"\x89PNG")


@pytest.mark.parametrize(
    ("question", "file", "code", "said"),
    [
        ("from guide", "a.svg", 3, "a chart draws groups, and the question has none"),
        ("group by id", "a.gif", 2, "ends neither in .svg nor in .png"),
        ("group by kind", "no/such/a.svg", 6, "cannot be written"),
    ],
)
def test_no_chart(run: Run, question: str, file: str, code: int, said: str) -> None:
    """What cannot be drawn is an error that says why."""
    done = run("ask", question, "--site", str(REFERENCE), "--chart", file)
    assert done.returncode == code
    assert said.lower() in done.stderr.lower()


@pytest.mark.parametrize("on", ["memory", "tables"])
@pytest.mark.parametrize(
    "question",
    [
        "from species where name contains seal",
        "from habitat where own > 0 limit 4",
        "from topic where own = 99",
        "from habitat including unpublished",
    ],
)
def test_tally_of_terms(demo_site: elenchus.Site, question: str, on: str) -> None:
    """Counts of terms add up: the sum of each term's own, the entries that are distinct, those under several."""
    site = demo_site if on == "memory" else demo_site.in_tables()
    query = Query.of(site, question)
    tally = term_tally(query)
    assert tally is not None
    own = {row.id: row["own"] for row in elenchus.ask(demo_site, question, changes="no per page").rows}
    assert dict(tally.counts) == own
    assert tally.total == sum(own.values())
    terms = ", ".join(f'"{name}"' for name in own) or "nowhere"
    also = "including unpublished" if "unpublished" in question else ""
    counted = elenchus.ask(demo_site, f"{also} where {tally.taxonomy} in ({terms})") if own else None
    assert tally.distinct == (counted.matched if counted else 0)
    extra = sum(len(names) - 1 for names in tally.several.values())
    assert tally.total - extra == tally.distinct
    assert term_tally(Query.of(site, "from sighting")) is None


def test_charts_are_well_formed(make_site: Write, run: Run, tmp_path: Path) -> None:
    """Whatever is in a title, a chart of it is XML."""
    site = '[site]\ntitle = "T"\n[kinds.note]\n[kinds.note.fields]\nword = { type = "text" }\n[sources.notes]\nread = "json"\npath = "n.json"\nkind = "note"\n'
    words = [f"a{chr(code)}b $x$" for code in (*range(1, 32), 127, 0xFFFE)]
    make_site(
        {"elenchus.toml": site, "n.json": json.dumps([{"title": each, "word": each} for each in words])}
    )
    assert run("ask", "from note group by word", "--chart", "chart.svg").returncode == 0
    ET.parse(tmp_path / "chart.svg")  # noqa: S314 - our own file
