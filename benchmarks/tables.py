"""Time the same questions in memory and on tables, side by side.

    .venv/bin/python benchmarks/tables.py ENTRIES [PLACE ...]

A made-up site of JSON Lines with so many entries is read, exported to each place (a folder, duckdb:///FILE,
postgresql://…; spark:FOLDER after that folder) and asked a dozen questions there, each three times in turns.
Figures are medians of wall-clock time in milliseconds, with the building of the statement in them; before them
stand seconds and megabytes of reading and of each export, behind them the megabytes that a process has at the
most which opens the site and asks all questions once (a server has its own besides).
"""

from __future__ import annotations

import random
import statistics
import subprocess
import sys
import tempfile
import time
from datetime import date, timedelta
from pathlib import Path

import elenchus
from elenchus.asking.query import Query
from elenchus.tables.export import export

SITE = """[site]
clock = 2026-06-15T09:00:00
timezone = "Atlantic/Faroe"
[sources.notes]
read = "jsonl"
path = "notes.jsonl"
kind = "note"
[kinds.note.fields]
individuals = { type = "integer" }
certainty = { type = "choice", choices = ["possible", "probable", "confirmed"] }
station = { type = "entry" }
[taxonomies.habitat]
tree = true
"""
QUESTIONS = [
    "from note order by newest limit 10",
    "from note where habitat under h3 order by newest per page 20",
    "from note where individuals > 190 and certainty = confirmed order by individuals desc limit 10",
    "from note where title contains seal order by title limit 10",
    "from note where date in last 30 days order by oldest limit 10",
    "from note where not certainty = possible and habitat = h1/a order by title limit 5",
    "from note where station.certainty = confirmed order by newest limit 10",
    "from note group by date.month limit 0 per group",
    "from note group by habitat limit 0 per group",
    "from note where habitat under h2 group by certainty by count desc limit 3 per group",
    "from note at most 1 per certainty order by newest",
    "from note order by random limit 5",
]
WORDS = ["seal", "heron", "crab", "kelp", "eel", "tern", "limpet", "star", "plover", "otter", "wrack", "gull"]


def written(folder: Path, count: int, *, prefix: str = "n", month: date | None = None) -> None:
    """Write a site with some entries, the same for the same count; of one month, if that is wanted.

    Their ids begin with ``prefix``.
    """
    draw = random.Random(prefix)  # noqa: S311 - nothing here is secret
    (folder / "elenchus.toml").write_text(SITE)
    with (folder / "notes.jsonl").open("w") as out:
        for number in range(count):
            if month:
                day = month + timedelta(days=draw.randrange(28))
            else:
                day = date(2026, 6, 14) - timedelta(days=int(draw.random() ** 2 * 3000))
            habitat = f"h{draw.randrange(12)}" + draw.choice(["", "/a", "/b"])
            title = f"{draw.choice(WORDS)} {draw.choice(WORDS)} {draw.choice(WORDS)} {number}".capitalize()
            out.write(
                f'{{"id": "{prefix}{number}", "title": "{title}", "date": "{day}", "habitat": ["{habitat}"], "individuals": {draw.randrange(200)}, "certainty": "{draw.choice(["possible", "probable", "confirmed"])}", "station": "{prefix}{draw.randrange(count)}"}}\n'
            )


def megabytes() -> int:
    """Return the most memory that this process had since it began, in megabytes."""
    told = dict(line.split(":", 1) for line in Path("/proc/self/status").read_text().splitlines())
    return int(told["VmHWM"].split()[0]) // 1024


def asking(folder: str, place: str) -> None:
    """Ask all questions at a place, and print how many megabytes that took."""
    site = elenchus.open_site(folder)
    there = site if place == "memory" else site.on(place)
    for question in QUESTIONS:
        _ = Query.of(there, question).answer().rows
    print(megabytes())


def main(count: int, places: list[str]) -> None:
    """Measure, and print a table in Markdown."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        written(folder, count)
        site = elenchus.open_site(folder)
        begun = time.perf_counter()
        _ = site.dataset
        print(f"reading: {time.perf_counter() - begun:.1f} s, {megabytes()} MB")
        there = {"memory": site}
        for place in places:
            begun = time.perf_counter()
            if not place.startswith("spark"):
                done = export(site.dataset, place)
                print(
                    f"export to {place}: {time.perf_counter() - begun:.1f} s, {megabytes()} MB, {done.written} written"
                )
                begun = time.perf_counter()
                export(site.dataset, place)
                print(f"  a second time: {time.perf_counter() - begun:.1f} s")
            there[place] = site.on(place)
        print(f"| {count} entries | {' | '.join(there)} |\n|---|{'---|' * len(there)}")
        for question in QUESTIONS:
            times: dict[str, list[float]] = {place: [] for place in there}
            totals = set()
            for _ in range(3):
                for place, asked in there.items():
                    asked.executor.kept.results.clear()
                    begun = time.perf_counter()
                    totals.add(Query.of(asked, question).answer().total)
                    times[place].append(time.perf_counter() - begun)
            assert len(totals) == 1, question  # noqa: S101 - or the figures are of different answers
            cells = " | ".join(f"{statistics.median(each) * 1000:.1f}" for each in times.values())
            print(f"| {question} | {cells} |", flush=True)
        del site
        memory = [
            subprocess.run(
                [sys.executable, __file__, "asking", name, place], capture_output=True, text=True, check=True
            ).stdout.strip()
            for place in there
        ]
        print(f"| megabytes of a process that asks all of them | {' | '.join(memory)} |")


if __name__ == "__main__":
    if sys.argv[1] == "asking":
        asking(*sys.argv[2:])
    else:
        main(int(sys.argv[1]), sys.argv[2:])
