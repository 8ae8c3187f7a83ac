"""Time start, the first answer and publish on content that nobody described, beside plain readers as the floor.

    .venv/bin/python benchmarks/first_meeting.py [SHARE]

The content is made up in the shapes that other programs write: Markdown files, a table of 14 columns, JSON files of
one shape, a large table, a large table of SQLite. SHARE (1 by default) is how much of the usual size there is. Each
row tells seconds of wall-clock time of ``elenchus start``, its peak of memory, and the time that a plain reader of
the same files takes in one process: csv, json, sqlite3, PyYAML.
"""

from __future__ import annotations

import csv
import json
import random
import sqlite3
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from datetime import date, timedelta
from pathlib import Path

from made_up import WORDS

PROGRAM = Path(sys.executable).with_name("elenchus")


def rows(count: int) -> Iterator[list[str]]:
    """Yield rows of 14 columns as people write them."""
    draw = random.Random(7)  # noqa: S311 - nothing here is secret
    day = date(2015, 1, 1)
    for number in range(count):
        when = day + timedelta(days=draw.randrange(4000))
        yield [
            f"SB-{number:06}", f"{draw.choice(WORDS)} {draw.choice(WORDS)} {number}".title(),
            f"{when:%d %b %Y}", f"€{draw.randrange(100, 90000) / 100:,.2f}", draw.choice(["yes", "no"]),
            draw.choice(WORDS), "; ".join(draw.sample(WORDS, 2)), f"{draw.randrange(2, 11) / 2:g}/5",
            str(draw.randrange(500)), f"{draw.random() * 90:.4f}", f"{draw.randrange(1, 300)} km",
            draw.choice(["North", "South"]), " ".join(draw.choices(WORDS, k=12)),
            f"https://skerrybay.example/{number}",
        ]  # fmt: skip


HEADER = [
    "code", "name", "added", "price", "in stock", "habitat", "topics", "rating", "count", "lat", "distance",
    "coast", "remarks", "link",
]  # fmt: skip


def markdown(folder: Path, count: int) -> None:
    """Write text files with front matter."""
    for row in rows(count):
        front = f"title: {row[1]}\ndate: {row[2]}\ntags: [{row[5]}]\ndraft: {'true' if row[8] == '7' else 'false'}"
        (folder / f"{row[0].lower()}.md").write_text(f"---\n{front}\n---\n{row[12]}\n")


def table(folder: Path, count: int) -> None:
    """Write a table."""
    with (folder / "things.csv").open("w", newline="") as file:
        csv.writer(file).writerows([HEADER, *rows(count)])


def documents(folder: Path, count: int) -> None:
    """Write JSON files of one shape, each with a list inside."""
    for row in rows(count):
        values = dict(zip(HEADER, row, strict=True))
        parts = [{"text": word} for word in row[12].split()]
        (folder / f"{row[0].lower()}.json").write_text(json.dumps({**values, "parts": parts}))


def database(folder: Path, count: int) -> None:
    """Write a table of SQLite."""
    with sqlite3.connect(folder / "bay.db") as file:
        names = ", ".join(f'"{name}" TEXT' for name in HEADER)
        file.execute(f"CREATE TABLE things (id INTEGER PRIMARY KEY, {names})")
        marks = ", ".join("?" * len(HEADER))
        file.executemany(f"INSERT INTO things VALUES (NULL, {marks})", rows(count))
    file.close()


def plainly(folder: Path) -> int:
    """Read all of it with the readers that everybody has; return how many records there are."""
    import yaml

    count = 0
    for path in folder.iterdir():
        if path.suffix == ".md":
            count += bool(yaml.load(path.read_text().split("---")[1], yaml.CSafeLoader))
        elif path.suffix == ".csv":
            with path.open(newline="") as file:
                count += sum(1 for _ in csv.DictReader(file))
        elif path.suffix == ".json":
            count += bool(json.loads(path.read_text()))
        elif path.suffix == ".db":
            with sqlite3.connect(path) as connection:
                count += sum(1 for _ in connection.execute("SELECT * FROM things"))
    return count


def timed(folder: Path, *words: str) -> tuple[float, float]:
    """Return the seconds and the megabytes that a command takes."""
    begun = time.perf_counter()
    code = (
        "import resource, subprocess, sys;"
        "done = subprocess.run(sys.argv[1:], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE);"
        "sys.stderr.buffer.write(done.stderr if done.returncode else b'');"
        "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss); sys.exit(done.returncode)"
    )
    done = subprocess.run(
        [sys.executable, "-c", code, str(PROGRAM), *words],
        cwd=folder,
        capture_output=True,
        text=True,
        check=False,
    )
    if done.returncode:
        sys.exit(done.stderr)
    return time.perf_counter() - begun, int(done.stdout) / 1024


CASES: list[tuple[str, Callable[[Path, int], None], int, float]] = [
    ("Markdown files", markdown, 300, 2),
    ("a table of 14 columns", table, 10_000, 2),
    ("JSON files", documents, 600, 5),
    ("a large table", table, 200_000, 8),
    ("a table of SQLite", database, 1_000_000, 20),
]


def main() -> None:
    """Print a row for each body of content."""
    share = float(sys.argv[1]) if len(sys.argv) > 1 else 1
    head = (
        f"{'content':24}{'records':>10}{'start s':>9}{'wanted':>8}{'MB':>7}{'plain s':>9}{'first ask s':>13}"
    )
    print(f"{head}{'rows/s':>9}")
    for name, write, usual, wanted in CASES:
        count = max(int(usual * share), 20)
        with tempfile.TemporaryDirectory() as made:
            folder = Path(made)
            write(folder, count)
            begun = time.perf_counter()
            if plainly(folder) != count:
                sys.exit(f"{name}: the plain readers count otherwise")
            plain = time.perf_counter() - begun
            seconds, size = timed(folder, "start", ".")
            answer, _ = timed(folder, "ask", "limit 1")
            cells = (
                f"{name:24}{count:>10,}{seconds:>9.2f}{wanted:>8g}{size:>7.0f}{plain:>9.2f}{answer:>13.2f}"
            )
            print(f"{cells}{count / answer:>9,.0f}", flush=True)


if __name__ == "__main__":
    main()
