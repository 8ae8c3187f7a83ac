"""Exploring: sketches, what is offered, what keeping writes, and the screen as a terminal shows it."""

from __future__ import annotations

import random
import time
import tomllib
from collections.abc import Iterator
from pathlib import Path

import pytest

import elenchus
from conftest import PROGRAM, Run, Write, cases
from elenchus.exploring.keeping import keeping
from elenchus.exploring.looking import Basis
from elenchus.exploring.offers import offers
from elenchus.exploring.sketch import Sketch
from elenchus.exploring.workbench import Workbench
from elenchus.language.expecting import expected
from elenchus.language.parser import parse, read, read_changes
from elenchus.language.printer import print_question
from terminals import Terminal

QUESTIONS = [case["question"] for case in cases("questions.toml") if not read(case["question"])[1]]


def test_drafts() -> None:
    """A sketch asks what the question did that it was made of; what is switched off and on again stays."""
    for text in QUESTIONS:
        question = parse(text)
        sketch = Sketch.of(question)
        again = Sketch.of(sketch.question)
        assert print_question(sketch.question) == print_question(again.question)
        assert [line.text for line in sketch.lines] == [line.text for line in again.lines]
        written = sketch.written
        for number, line in enumerate(sketch.lines):
            span = written.spans[number]
            assert span is not None
            assert written.text[slice(*span)] == line.text
            off = sketch.switched(number)
            assert off.written.spans[number] is None
            assert off.switched(number) == sketch
            assert Sketch.of(off.question).lines == tuple(each for each in off.lines if each.is_on)


def test_offered_at_each_place(reference: elenchus.Site) -> None:
    """Whatever is written, its next word is among what may stand before it: the parser tells both."""
    missing = []
    listing = Workbench(reference, "").base
    for text in QUESTIONS:
        words = text.split()
        for at in range(len(words)):
            before = " ".join(words[:at]) + (" " if at else "")
            if before.count('"') % 2 or words[at].startswith((":", '"', "(")) or "(" in before:
                continue
            found = offers(Sketch(), Basis(reference, listing), before)
            known = {each.text.split(" ")[0].lower() for each in found.offers}
            numbers = {each.want.name for each in expected(before).awaited} & {"NUMBER", "VALUE", "FIELD"}
            first = words[at].rstrip(",").lower()
            if first not in known and not numbers and first not in {"asc", "order", "group", "lead"}:
                missing.append((before, words[at]))
    assert missing == []


OFFERED: dict[str, list[tuple[str, int | None]]] = {
    "and where certainty = ": [("confirmed", 13), ("probable", 3), ("possible", 0)],
    "and where certainty = p": [("probable", 3), ("possible", 0)],
    "where certainty = ": [("confirmed", 21), ("probable", 6), ("possible", 3)],
    "and where species = limpett": [("limpet", 3)],
    "and where species = limpet and certainty = conf": [("confirmed", 2)],
    "and where not pinned and habitat = rocky": [("rocky-shore", 8)],
    "and where date in last 3": [("last 30 days", 6)],
    "and where station = sker": [("station/outer-skerry", 3)],
    "order by newst": [("newest", None)],
    "and where stat": [("station", None), ("status", None)],
    "no l": [("limit", None)],
    "from sig": [("sighting", 30), ("newest-sightings", None)],
    "group by date.mon": [("date.month", None), ("date.month_of_year", None)],
}


def test_offers(demo_site: elenchus.Site) -> None:
    """Values come with the rows that each would leave, the most first; near spellings where nothing fits."""
    bench = Workbench(demo_site, "fresh-from-shore")
    found = {
        text: [(each.text, each.count) for each in bench.offers(text).offers][: len(awaited)]
        for text, awaited in OFFERED.items()
    }
    assert found == OFFERED


def test_counts_of_offers(demo_site: elenchus.Site) -> None:
    """The count of an offer is the number of rows of the question with it, whatever the field."""
    base = "from sighting, guide where not pinned"
    bench = Workbench(demo_site, base)
    fields = (
        "habitat",
        "species",
        "certainty",
        "status",
        "author",
        "individuals",
        "date",
        "topic.name",
        "station.title",
    )
    for lead in [f"and where {field} {sign} " for field in fields for sign in ("=", "!=")] + [
        "and where date in "
    ]:
        for offer in bench.offers(lead).offers:
            if offer.count is not None:
                answer = elenchus.ask(demo_site, base, changes=lead + offer.text)
                assert answer.matched == offer.count, (lead, offer)


def test_many_rows(make_site: Write) -> None:
    """Of hundreds of rows the first are looked at; all are counted, and all groups are there."""
    site_file = '[site]\n[sources.n]\nread = "jsonl"\npath = "n.jsonl"\nkind = "note"\n[kinds.note]\n[taxonomies.topic]\n'
    rows = "".join(f'{{"id": "n{at}", "title": "N{at}", "topic": "t{at % 7}"}}\n' for at in range(250))
    bench = Workbench(make_site({"elenchus.toml": site_file, "n.jsonl": rows}), "from note")
    look = bench.look()
    assert look.answer
    assert (look.is_cut, len(look.answer.rows), look.answer.total, look.answer.pages) == (True, 200, 250, 1)
    assert not bench.enter("group by topic").problems
    look = bench.look()
    assert look.answer
    assert look.is_cut
    assert [group.count for group in look.answer.groups or ()] == [36, 36, 36, 36, 36, 35, 35]
    assert not bench.enter("no group per page 20").problems
    look = bench.look()
    assert look.answer
    assert (look.is_cut, len(look.answer.rows), look.answer.pages) == (False, 20, 13)
    bench.page = 99
    last = bench.look().answer
    assert last
    assert (last.page, len(last.rows)) == (13, 10)


CHANGES = (
    "limit 2", "no limit", "and where certainty = confirmed", "where pinned", "no where", "order by title", "no order",
    "from guide", "per page 7", "group by habitat by count", "at most 1 per author", "offset 3 limit all",
    'and where title contains "a \\"b\\" \\\\ c"', "no from no limit",
)  # fmt: skip


def test_keeping(demo_site: elenchus.Site, demo_copy: Path) -> None:
    """What is kept is asked just so when the file is read again; comments and all else stay as they were."""
    chosen = random.Random(7)  # noqa: S311 - for cases, not for secrets
    names = demo_site.library.names
    for number in range(60):
        site = elenchus.open_site(demo_copy)
        name = chosen.choice(names)
        bench = Workbench(site, name)
        for change in chosen.sample(CHANGES, 2):
            changes, _ = read_changes(change)
            bench.put(type(bench.moment)(bench.sketch.changed(changes)))
        target = chosen.choice([name, f"new-{number}", chosen.choice(names)])
        before = (demo_copy / "listings.toml").read_text(encoding="utf-8")
        kept = keeping(site, bench.sketch.question, bench.base, target)
        kept.write() if not kept.is_idle else None
        after = (demo_copy / "listings.toml").read_text(encoding="utf-8")
        again = elenchus.open_site(demo_copy).library.get(target)
        assert Sketch.of(again.question).written.text == bench.sketch.written.text
        old, new = tomllib.loads(before), tomllib.loads(after)
        assert {key: value for key, value in new.items() if key != target} == {
            key: value for key, value in old.items() if key != target
        }
        assert {line for line in before.splitlines() if line.startswith("#")} <= set(after.splitlines())


KEPT = {
    '[a]\nask = "from sighting limit 3"\n[b]\nbased_on = "a"\nask = "limit 5"\n[c]\nask = "from guide"\n': (
        "limit 5",
        '[a]\nask = "from sighting limit 5"\n[b]\nbased_on = "a"\nask = "limit 5"\n[c]\nask = "from guide"\n',
    ),
    '[a]\n# why\nask = "from sighting limit 3" # three\ntitle = "A"\n': (
        "limit 5",
        '[a]\n# why\nask = "from sighting limit 5" # three\ntitle = "A"\n',
    ),
    'a = { ask = "from sighting limit 3", title = "A" }\n': (
        "no limit and where pinned",
        'a = { ask = "from sighting where pinned", title = "A" }\n',
    ),
    '[a]\nask = """\nfrom sighting   # all\nwhere pinned   # these\nlimit 3\n"""\n': (
        "and where certainty = confirmed order by newest",
        '[a]\nask = """\nfrom sighting   # all\nwhere pinned and certainty = confirmed   # these\nlimit 3\n'
        'order by newest\n"""\n',
    ),
    '[a]\r\nask = "from sighting"\r\n[b]\r\nask = "from guide"\r\n': (
        "limit 2",
        '[a]\r\nask = "from sighting limit 2"\r\n[b]\r\nask = "from guide"\r\n',
    ),
}


@pytest.mark.parametrize("before", KEPT)
def test_kept_as_written(demo_copy: Path, before: str) -> None:
    """Only the words that change are others: comments, quotes and line ends stay."""
    (demo_copy / "pages.toml").unlink()
    (demo_copy / "listings.toml").write_bytes(before.encode())
    bench = Workbench(elenchus.open_site(demo_copy), "a")
    change, after = KEPT[before]
    assert not bench.enter(change).problems
    said = bench.enter("keep")
    assert said.keeping
    bench.write(said.keeping)
    assert (demo_copy / "listings.toml").read_bytes().decode() == after
    assert bench.enter("keep").keeping.is_idle  # type: ignore[union-attr]


def test_kept_as_what_it_is_based_on(demo_copy: Path) -> None:
    """A listing that comes to ask just what the one does that it is based on has no words of its own then."""
    bench = Workbench(elenchus.open_site(demo_copy), "shore-sidebar")
    assert not bench.enter("drop 3").problems
    said = bench.enter("edit 4 limit 6")
    assert not said.problems
    said = bench.enter("keep")
    assert said.keeping, said.problems
    bench.write(said.keeping)
    again = elenchus.open_site(demo_copy).library
    assert again.get("shore-sidebar").question == again.get("fresh-from-shore").question


def test_program(run: Run, demo_copy: Path) -> None:
    """Lines from a pipe do what they do on the screen; nothing is written without keep and yes."""
    listings = demo_copy / "listings.toml"
    before = listings.read_bytes()
    typed = "limit 2\nwhere certainty = confirmd\nundo\nredo\noff 2\nwhy nobody\nkeep sighting\nkeep two\nno\ncopy\n"
    done = run("explore", "fresh-from-shore", "--plain", cwd=demo_copy, typed=typed)
    assert (done.returncode, done.stderr) == (0, "")
    assert listings.read_bytes() == before
    for said in (
        "Did you mean confirmed?",
        "(where habitat under shore)",
        "[unknown-name]",
        "[name-clash]",
        "+ [two]",
    ):
        assert said in done.stdout, said
    assert done.stdout.endswith("elenchus ask 'from sighting order by newest limit 2'\n")
    run("explore", "fresh-from-shore", "--plain", cwd=demo_copy, typed="limit 2\nkeep two\nyes\n")
    assert tomllib.loads(listings.read_text(encoding="utf-8"))["two"] == {
        "based_on": "fresh-from-shore",
        "ask": "limit 2",
    }
    assert run("undo", "--yes", cwd=demo_copy).returncode == 0
    assert listings.read_bytes() == before


TYPED = {
    ("near-it", "with here=limpets-in-square-nine\ncopy\n"): ["where station = :here.station      5 left", "3 of 4 entries"],
    ("near-it", "with here=limpets-in-squar\n"): ["Did you mean limpets-in-square-nine"],
    ("by-habitat", "with habitat=dunes\n"): ["1. from sighting, report", "entries"],
    ("from sighting where habitat = shor", "edit 2 habitat = shore\n"): ["Did you mean shore?", "2. where habitat = shore"],
    ("from sighting where habitat = dunes", "edit 2 where habitat = mudflat\nedit 2 and title = \"a  b\"\n edit 2  habitat = mudfla\nmove 2 up\nmove 1 down\n"): [
        "2. where habitat = mudflat", '2. where title = "a  b"', "     edit 2  habitat = mudfla\n                       ^^^^^^\n",
        "Line 2 is the first condition", "Line 1 is a clause",
    ],
    ("from sighting", "group by title\n"): ["Only the first 20 rows are shown", "Only the first 20 groups are shown here, and the first rows of each"],
    ("", "from habitat\nwhere depth = 1\nwhy shore\nchart parent\n"): ["no   depth is 1  (depth 0)", "12 in groups"],
    ("from sighting", "limit 2 groups\ndrop 9\npage 2\nat never\nwith x=1\nmove 1 up\nmove 1 aside\nshow titel\n"): [
        "[idle-limit]", "[no-such-line]", "[no-such-page]", "[bad-time]", "[unknown-parameter]", "[no-such-way]", "[unknown-field]",
    ],
    ("from sighting", "off 1\nundo\nundo\nredo\nredo\nchart\nchart titel\nhelp\nquit\nlimit 2\n"): [
        "1- (from sighting)", "nothing was changed", "Nothing was taken back", "in groups", "keep [NAME]",
    ],
}  # fmt: skip


@pytest.mark.parametrize(("begun", "typed"), TYPED)
def test_words(run: Run, demo_copy: Path, begun: str, typed: str) -> None:
    """Each word does what it says, and tells what is wrong with it; what follows quit is not done."""
    done = run("explore", begun, "--plain", cwd=demo_copy, typed=typed)
    assert done.returncode == 0
    for said in TYPED[begun, typed]:
        assert said.lower() in done.stdout.lower(), done.stdout
    assert ("2. limit 2" in done.stdout) is ("limit 2\n" in typed and "quit" not in typed)


# On a terminal


@pytest.fixture
def terminal(demo_copy: Path) -> Iterator[Terminal]:
    """Return a terminal on which a listing of a copy of the demo is explored."""
    found = Terminal(demo_copy, str(PROGRAM), "explore", "fresh-from-shore")
    yield found
    found.close()


def test_screen(terminal: Terminal, demo_copy: Path) -> None:
    """A question is changed with its answer in sight, a row explained, the listing kept and undone by nothing else."""
    before = (demo_copy / "listings.toml").read_bytes()
    terminal.until("2. where habitat under shore     16 left", "6 of 16 entries")
    terminal.type("and where species = lim")
    terminal.until("limpet       3")
    terminal.type("tab")
    terminal.until("+ 3. and species = limpet           3 left", "3 entries")
    terminal.type("enter")
    terminal.type("enter")
    terminal.until("fresh-from-shore (changed)", "  3. and species = limpet           3 left", without="+ 3.")
    terminal.type("down")
    terminal.type("enter")
    terminal.until("▸ sightin", "yes  species is limpet", "Listed: 1 of 3")
    terminal.type("down")  # whose id is cut to the same letters
    terminal.until("▸ sightin…  –         Limpets…  2026-03-29 00:30")
    terminal.type("esc")
    terminal.type("next")
    terminal.type("next")
    terminal.type("switch")
    terminal.until("▸ 2- (where habitat under shore)    off")
    terminal.type("undo")
    terminal.until("▸ 2. where habitat under shore     16 left")
    terminal.type("and where certainty = confirmd")
    terminal.until("confirmed", "is it this?")
    terminal.type("esc")
    terminal.until("Did you mean confirmed?")
    terminal.type("esc")
    terminal.type("keep limpets")
    terminal.type("enter")
    terminal.until("+ [limpets]", "Enter writes listings.toml")
    assert (demo_copy / "listings.toml").read_bytes() == before
    terminal.type("enter")
    terminal.until("Written to listings.toml")
    kept = tomllib.loads((demo_copy / "listings.toml").read_text(encoding="utf-8"))["limpets"]
    assert kept == {"based_on": "fresh-from-shore", "ask": "and where species = limpet"}


def test_small_and_colourless(demo_copy: Path) -> None:
    """At 80 by 24 all is there, also after the terminal was made smaller; without colours none is sent."""
    terminal = Terminal(demo_copy, str(PROGRAM), "explore", "fresh-from-shore", NO_COLOR="1")
    try:
        terminal.until("6 of 16 entries")
        terminal.resize(80, 24)
        shown = terminal.until("Skerry Bay", "4. limit 6", "6 of 16 entries", "Ctrl-N/P")
        assert max(map(len, shown.splitlines())) == 80
        terminal.type("group by habitat.top by count")
        terminal.until("█", "group by habitat.top by count")
        colours = {cell.fg for line in terminal.screen.buffer.values() for cell in line.values()}
        assert colours == {"default"}
    finally:
        terminal.close()


def test_killed(demo_copy: Path) -> None:
    """A program that is killed in the middle of keeping leaves the file as it was, or as it was to be."""
    listings = demo_copy / "listings.toml"
    before = listings.read_bytes()
    for wait in (0.0, 0.002, 0.01, 0.05):
        terminal = Terminal(demo_copy, str(PROGRAM), "explore", "fresh-from-shore")
        terminal.until("6 of 16 entries")
        terminal.type("limit 2")
        terminal.type("enter")
        terminal.until("(changed)")
        terminal.type("keep two")
        terminal.type("enter")
        terminal.until("Enter writes")
        terminal.type("enter")
        time.sleep(wait)
        terminal.close()
        elenchus.open_site(demo_copy)  # finishes what a run began
        found = tomllib.loads(listings.read_text(encoding="utf-8"))
        assert found.get("two") in (None, {"based_on": "fresh-from-shore", "ask": "limit 2"})
        listings.write_bytes(before)


def test_without_a_terminal(run: Run, demo_copy: Path) -> None:
    """Without a terminal the command says what to do; a wrong question is told as ask tells it."""
    done = run("explore", cwd=demo_copy)
    assert done.returncode == 2
    assert "with --plain it reads lines" in done.stderr
    done = run("explore", "fresh-from-shre", "--plain", cwd=demo_copy)
    assert (done.returncode, "Did you mean fresh-from-shore?" in done.stderr) == (7, True)
