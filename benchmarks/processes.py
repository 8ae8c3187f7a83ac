"""Time whole runs of the program on a made-up site of files, beside what such a run costs at the least.

    .venv/bin/python benchmarks/processes.py [ENTRIES] [RUNS]

Each run is a process of its own, and what is compared is run in turns, so that a busy machine troubles all
alike. The figures are medians of the processor's time in seconds, user and system together; beside them stands
how many times the floor that is. The floors are Python programs without Elenchus:

    bare        a program of Typer that prints its help
    imported    Typer and NumPy imported, and all files looked at (size and time)
    composed    all files read, and their front matter composed by libyaml

At the end stands how long the preview takes by the clock: from the moment at which a file is written until the
page of its entry has the new text.

Python keeps what it compiles, as it does unless told otherwise: PYTHONDONTWRITEBYTECODE is taken out.
"""

from __future__ import annotations

import http.client
import os
import random
import shutil
import socket
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import date, timedelta
from pathlib import Path

from made_up import LEVELS, SITE_OF_FILES, WORDS, spent

SITE = f"""{SITE_OF_FILES}
[taxonomies.habitat]
address = "habitats/{{slug}}/"
[taxonomies.species]
address = "species/{{slug}}/"
"""
PAGES = """
[home]
address = "index.html"
sections = [{ ask = "order by newest limit 12", title = "Newest", beside = ["atom"] }]
[entries]
each = "from sighting"
address = "sightings/{slug}/"
sections = [{ ask = "where habitat in :here.habitat order by newest limit 5", title = "Near it" }]
[habitats]
each = "from habitat"
address = "habitats/{slug}/"
sections = [{ ask = "where habitat = :here order by newest per page 20", title = "Sightings" }]
"""
# A command that is given only one of the machine's cores, so that content is read by one process.
ONE_CORE = [
    sys.executable,
    "-c",
    "import os, sys; os.sched_setaffinity(0, {0}); os.execv(sys.argv[1], sys.argv[1:])",
]
QUESTION = "from sighting where habitat = h3 and individuals > 10 order by newest limit 10"
FLOORS = {
    "bare": "import sys, typer\napp = typer.Typer(rich_markup_mode=None, add_completion=False)\n"
    "@app.command()\ndef ask(question: str) -> None: ...\nsys.argv = ['x', '--help']\napp()",
    "imported": "import os, sys\nos.environ['OPENBLAS_NUM_THREADS'] = '1'\nimport typer, numpy\n"
    "walk = [sys.argv[1]]\nwhile walk:\n    for each in os.scandir(walk.pop()):\n"
    "        walk.append(each.path) if each.is_dir() else each.stat()",
    "composed": "import os, sys, yaml\nwalk = [sys.argv[1]]\nwhile walk:\n    for each in os.scandir(walk.pop()):\n"
    "        if each.is_dir(): walk.append(each.path); continue\n"
    "        text = open(each.path, encoding='utf-8').read()\n        yaml.compose(text.split('---', 2)[1], Loader=yaml.CSafeLoader)",
}


def made_up(folder: Path, count: int) -> None:
    """Write a site with some entries, the same for the same count."""
    draw = random.Random(7)  # noqa: S311 - nothing here is secret
    (folder / "elenchus.toml").write_text(SITE)
    (folder / "pages.toml").write_text(PAGES)
    for number in range(count):
        day = date(2026, 6, 15) - timedelta(days=draw.randrange(1500))
        path = folder / "notebook" / "sighting" / f"{day.year}" / f"sighting-{number}.md"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(entry(draw, number, day))


def entry(draw: random.Random, number: int, day: date) -> str:
    """Return the text of one entry."""
    body = "\n\n".join(" ".join(draw.choices(WORDS, k=60)) for _ in range(3))
    return (
        f"---\ntitle: {' '.join(draw.choices(WORDS, k=4)).capitalize()} {number}\ndate: {day}\n"
        f"habitat: [h{draw.randrange(40)}, h{draw.randrange(40)}]\nspecies: s{draw.randrange(300):03}\n"
        f"individuals: {draw.randrange(200)}\ncertainty: {draw.choice(LEVELS)}\n"
        f"image: images/{number}.jpg\nsummary: {' '.join(draw.choices(WORDS, k=12))}\n---\n{body}\n"
    )


def seconds(command: list[str]) -> float:
    """Return the processor's time that a command takes with all its children. Raises CalledProcessError."""
    return spent(command)[0]


def one_edit(folder: Path) -> None:
    """Change the body of one entry."""
    path = sorted((folder / "notebook").rglob("*.md"))[0]
    path.write_text(f"{path.read_text()}\nAnother line.\n")


def preview(folder: Path, edits: int) -> list[float]:
    """Return the milliseconds from each of some edits until the preview shows it."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    program = [
        str(Path(sys.executable).with_name("elenchus")),
        "serve",
        "--site",
        str(folder),
        "--port",
        str(port),
    ]
    paths = sorted((folder / "notebook").rglob("*.md"))[:edits]
    found = []
    with subprocess.Popen(program, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as server:
        try:
            _ = page_with(port, paths[0].stem, "", patience=60)
            events = http.client.HTTPConnection("127.0.0.1", port, timeout=60)
            events.request("GET", "/-elenchus/events")  # by which browsers are told to load a page again
            told = events.getresponse()
            news(told)
            for number, path in enumerate(paths):
                word, text = f"Seen anew {number} {random.random()}", path.read_text()  # noqa: S311 - no secret
                begun = time.perf_counter()
                path.write_text(f"{text}\n{word}\n")
                news(told)
                page_with(port, path.stem, word)
                found.append((time.perf_counter() - begun) * 1000)
        finally:
            server.terminate()
    return found


def news(told: http.client.HTTPResponse) -> None:
    """Wait until the preview tells that the site has changed."""
    while not told.readline().startswith(b"event: version"):
        pass


def page_with(port: int, slug: str, word: str, patience: float = 10) -> float:
    """Return the seconds until the page of an entry has a word. Raises TimeoutError."""
    begun = time.perf_counter()
    while time.perf_counter() - begun < patience:
        link = http.client.HTTPConnection("127.0.0.1", port, timeout=patience)
        try:
            link.request("GET", f"/sightings/{slug}/")
            if word in link.getresponse().read().decode():
                return time.perf_counter() - begun
        except ConnectionError:
            pass
        finally:
            link.close()
        time.sleep(0.01)
    raise TimeoutError(slug)


def main(count: int, runs: int) -> None:
    """Measure all runs in turns, and print the medians with their ratios."""
    program = [str(Path(sys.executable).with_name("elenchus"))]
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary)
        made_up(folder, count)
        site, out = ["--site", temporary], folder / "published"

        def elenchus(*arguments: str) -> Callable[[], list[str]]:
            return lambda: [*program, *arguments, *([] if "--help" in arguments else site)]

        def floor(text: str) -> Callable[[], list[str]]:
            return lambda: [sys.executable, "-c", text, str(folder / "notebook")]

        def edited(*arguments: str) -> Callable[[], list[str]]:
            def ready() -> list[str]:
                one_edit(folder)
                return [*program, *arguments, *site]

            return ready

        def first(*arguments: str) -> Callable[[], list[str]]:
            def ready() -> list[str]:
                shutil.rmtree(folder / ".elenchus", ignore_errors=True)
                return [*program, *arguments, *site]

            return ready

        def cold() -> list[str]:
            shutil.rmtree(out, ignore_errors=True)
            return [*program, "publish", "--to", str(out), *site]

        # each with the floor that it is measured by
        wanted: dict[str, tuple[Callable[[], list[str]], str]] = {
            **{name: (floor(text), name) for name, text in FLOORS.items()},
            "--help": (elenchus("--help"), "bare"),
            "first scan": (first("ask", QUESTION), "composed"),
            "first scan, one core": (lambda: [*ONE_CORE, *first("ask", QUESTION)()], "composed"),
            "ask": (elenchus("ask", QUESTION), "imported"),
            "ask after an edit": (edited("ask", QUESTION), "ask"),
            "ask --no-index": (elenchus("ask", QUESTION, "--no-index"), "composed"),
            "check": (elenchus("check"), "composed"),
            "check, one edit": (edited("check"), "check"),
            "publish, cold": (cold, "composed"),
            "publish, unchanged": (elenchus("publish", "--to", str(out)), "publish, cold"),
            "publish, one edit": (edited("publish", "--to", str(out)), "publish, cold"),
        }
        found: dict[str, list[float]] = {name: [] for name in wanted}
        for turn in range(runs):
            for what, (command, _) in wanted.items():
                found[what].append(seconds(command()))
            sys.stderr.write(f"turn {turn + 1} of {runs}\n")
        shown = statistics.median(preview(folder, max(runs, 3)))
    sys.stdout.write(f"{count} entries, medians of {runs} turns, on {os.cpu_count()} cores\n\n")
    for name, (_, by) in wanted.items():
        middle = statistics.median(found[name])
        ratio = middle / statistics.median(found[by])
        sys.stdout.write(f"{name:<20}{middle:>9.3f} s   {ratio:>7.2f} × {by}\n")
    sys.stdout.write(f"{'preview, one edit':<20}{shown / 1000:>9.3f} s   by the clock\n")


if __name__ == "__main__":
    given = [int(text) for text in sys.argv[1:]]
    main(*[*given, *(2000, 3)[len(given) :]])
