"""Time how soon the screen of explore answers a key, on a made-up site.

    .venv/bin/python benchmarks/exploring.py [ENTRIES]

The program runs on a terminal of its own. 300 keys are pressed one after another, each as soon as the screen has been
still for a while: clauses are typed with their offers, wrong words, taken back, entered, undone. For each key stands
how long the first sign of it took, and how long until the last change of the screen that it caused: by then offers,
rows and counts are those of the new text. Figures are milliseconds of wall-clock time.
"""

from __future__ import annotations

import fcntl
import os
import pty
import select
import signal
import statistics
import struct
import sys
import tempfile
import termios
import time
from pathlib import Path

from tables import written

PROGRAM = Path(sys.executable).with_name("elenchus")
QUESTION = "from note where habitat under h3 order by newest per page 20"
TYPED = [
    "and where certainty = confirmed\r",
    "and where individuals >= 150 \r",
    "and where title contains seal \r",
    "limit 30\r",
    "order by title desc\r",
    "group by habitat by count limit 3 per group\r",
    "no group\r",
    "and where habitat = h3/b \x1b\x1b",
    "and where certanty = confirmed \x1b\x1b",
    "\x0e\x0e\x14\x14",
    "\x1b[B\x1b[B\r\x1b",
    "\x1a\x1a\x1a\x1a",
    "and where date in last 90 days\r",
]
MOST = 300
STILL = 0.12  # seconds without any output after which the screen has settled


def keys() -> list[bytes]:
    """Return the keys, one by one; those that terminals send as several bytes together."""
    found: list[bytes] = []
    while len(found) < MOST:
        for text in TYPED:
            rest = text
            while rest:
                length = 3 if rest.startswith("\x1b[") else 1
                found.append(rest[:length].encode())
                rest = rest[length:]
    return found[:MOST]


def settled(file: int) -> tuple[float | None, float | None]:
    """Return when the first and the last output came, until there is none for a while."""
    first = last = None
    while select.select([file], [], [], STILL if last else 2.0)[0]:
        data = os.read(file, 65536)
        last = time.perf_counter()
        first = first or last
        if b"\x1b[6n" in data:
            os.write(file, b"\x1b[1;1R")
    return first, last


def main(count: int) -> None:
    """Press the keys and print how long each took."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        written(folder, count)
        pid, file = pty.fork()
        if not pid:
            os.chdir(folder)
            os.environ["TERM"] = "xterm-256color"
            os.execv(PROGRAM, [str(PROGRAM), "explore", QUESTION])  # noqa: S606
        fcntl.ioctl(file, termios.TIOCSWINSZ, struct.pack("HHHH", 40, 120, 0, 0))
        time.sleep(3)
        settled(file)
        signs, answers, slowest = [], [], []
        for key in keys():
            begun = time.perf_counter()
            os.write(file, key)
            first, last = settled(file)
            if first and last:
                signs.append((first - begun) * 1000)
                answers.append((last - begun) * 1000)
                slowest.append((answers[-1], len(answers), key))
        os.kill(pid, signal.SIGKILL)
        os.waitpid(pid, 0)
    print(f"| {count} entries, {len(signs)} keys | median | 95 of 100 | worst |\n|---|---|---|---|")
    for what, times in (("first sign of a key", signs), ("answered as a whole", answers)):
        near = sorted(times)[int(len(times) * 0.95)]
        print(f"| {what} | {statistics.median(times):.0f} | {near:.0f} | {max(times):.0f} |")
    for taken, number, key in sorted(slowest, reverse=True)[:5]:
        print(f"  {taken:.0f} ms at key {number}, {key.decode()!r}")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 10_000)
