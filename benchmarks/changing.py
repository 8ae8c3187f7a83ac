"""Time changing content, and looking ahead, in one process: each step, beside reading and writing the files.

    .venv/bin/python benchmarks/changing.py [ENTRIES] [FILES] [RUNS]

A made-up site of Markdown files; FILES of them are changed. The floor reads each of these files, writes it beside
itself and puts it in its place; it runs in turns with the change. Figures are medians of the processor's
time in seconds, user and system together. What time brings is asked of the same number of entries and of
twenty listings, for thirty days, after loading; one entry in a hundred lies ahead.
"""

from __future__ import annotations

import random
import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import datetime, timedelta
from pathlib import Path

from processes import made_up

import elenchus
from elenchus.asking.query import Query
from elenchus.comparing.upcoming import upcoming
from elenchus.editing.assignments import read_assignments
from elenchus.editing.changing import content_change
from elenchus.editing.entries import entry_changes
from elenchus.editing.undoing import last_change, undone

QUESTIONS = [
    "from note where topic = t{} order by newest limit 10",
    "from note where date in last 30 days order by newest limit 20",
    "from note where starts > now order by starts limit 5",
    "from note where date in this month group by topic",
    "from note where size > 5 and topic = t{} order by oldest limit 8",
    "from note where starts in next 7 days order by starts",
]
SITE = """[site]
clock = 2026-06-15T09:00:00
timezone = "UTC"
[sources.notes]
read = "jsonl"
path = "notes.jsonl"
kind = "note"
[kinds.note.fields]
starts = { type = "datetime" }
size = { type = "integer" }
[taxonomies.topic]
"""
MONTH = 30 * 86_400_000_000  # microseconds


def timed(work: Callable[[], object]) -> float:
    """Return the processor's time that something takes."""
    started = time.process_time()
    work()
    return time.process_time() - started


def rewritten(files: list[Path]) -> None:
    """Read files and write them, each as a whole."""
    for path in files:
        part = path.with_suffix(".part")
        part.write_bytes(path.read_bytes())
        part.replace(path)


def one_change(folder: Path, count: int, run: int) -> dict[str, float]:
    """Return what the steps of one change take, and the floor beside it; the change is taken back."""
    site = elenchus.open_site(folder)
    ids = Query.of(site, f"from sighting order by oldest limit {count}").ids()
    value = ("possible", "probable", "confirmed")[run % 3]
    wanted = read_assignments([f"certainty={value}", f"individuals={1000 + run}"])
    entries = entry_changes(site, ids, wanted)
    change = content_change(site, entries)
    files = [folder / file.path for file in change.files]
    times = {
        "floor": timed(lambda: rewritten(files)),
        "checked": timed(lambda: entry_changes(site, ids, wanted)),
        "rewritten": timed(lambda: content_change(site, entries)),
        "read again": timed(lambda: change.reread),
        "written": timed(lambda: change.write("benchmark")),
    }
    undone(folder, last_change(folder))
    return times


def changing(folder: Path, count: int, runs: int) -> None:
    """Print what changing two fields of some entries takes."""
    found = [one_change(folder, count, run) for run in range(runs)]
    medians = {name: statistics.median(each[name] for each in found) for name in found[0]}
    floor = medians.pop("floor")
    print(f"{'reading and writing':24} {floor:6.3f} s  ({count} files)")
    for name, seconds in medians.items():
        print(f"{name:24} {seconds:6.3f} s")
    total = sum(medians.values())
    print(f"{'the change':24} {total:6.3f} s  {total / floor:.1f} ×")


def ahead(folder: Path, count: int, runs: int) -> None:
    """Print what looking a month ahead takes."""
    draw = random.Random(1)  # noqa: S311 - nothing here is secret
    (folder / "elenchus.toml").write_text(SITE)
    with (folder / "notes.jsonl").open("w") as out:
        for number in range(count):
            days = draw.randrange(1, 30) if number % 100 == 0 else -draw.randrange(1, 3000)
            date = datetime(2026, 6, 15, 9) + timedelta(days=days, minutes=draw.randrange(1440))  # noqa: DTZ001
            starts = date + timedelta(days=draw.randrange(1, 60))
            out.write(
                f'{{"id": "n{number}", "title": "Note {number}", "date": "{date:%Y-%m-%d %H:%M}", "starts": "{starts:%Y-%m-%d %H:%M}", "topic": "t{number % 8}", "size": {number % 9}}}\n'
            )
    listings = "".join(f'[l{at}]\nask = "{QUESTIONS[at % 6].format(at % 8)}"\n' for at in range(20))
    (folder / "listings.toml").write_text(listings)
    site = elenchus.open_site(folder)
    _ = site.engine
    found = []
    times = [timed(lambda: found.append(len(upcoming(site, site.clock.now + MONTH)))) for _ in range(runs)]
    print(f"{'a month ahead':24} {statistics.median(times):6.3f} s  ({found[0]} changes in 20 listings)")


def main(entries: int, files: int, runs: int) -> None:
    """Measure both."""
    with tempfile.TemporaryDirectory() as name:
        made_up(Path(name), entries)
        changing(Path(name), files, runs)
    with tempfile.TemporaryDirectory() as name:
        ahead(Path(name), entries, runs)


if __name__ == "__main__":
    given = [int(word) for word in sys.argv[1:]]
    main(*given, *(10_000, 1_000, 5)[len(given) :])
