"""Time publishing a site as people have it, beside what its pages cost at the least.

    .venv/bin/python benchmarks/publishing.py [ENTRIES] [RUNS] [--keep FOLDER]

The made-up site has entries of three kinds with 300 words each, which name a station, a person, habitats in a tree,
topics and species. The page of each entry has two sections of related entries and repeats none; there are pages
for all terms, months, stations and people, and feeds. Each run is a process of its own; figures are medians of the
processor's time of all processes in seconds, with the time by the clock beside it. The floor is one process that
reads each entry, composes its front matter by libyaml, renders its Markdown, fills one Jinja template with ten
links, and writes the page; it makes nothing for the pages of listings.
"""

from __future__ import annotations

import random
import shutil
import statistics
import sys
import tempfile
import time
from datetime import date, timedelta
from pathlib import Path

from made_up import LEVELS, SITE_OF_FILES, WORDS, spent

PROGRAM = Path(sys.executable).with_name("elenchus")
SITE = f"""{SITE_OF_FILES}
station = {{ type = "entry", kind = "station" }}
[kinds.note]
address = "notes/{{slug}}/"
[kinds.note.fields]
station = {{ type = "entry", kind = "station" }}
[kinds.guide]
address = "guides/{{slug}}/"
[kinds.station]
address = "stations/{{slug}}/"
[kinds.person]
address = "people/{{slug}}/"
[taxonomies.habitat]
tree = true
address = "habitats/{{slug}}/"
[taxonomies.topic]
address = "topics/{{slug}}/"
[taxonomies.species]
address = "species/{{slug}}/"
"""
LISTINGS = """
[newest]
ask = "from sighting, note, guide order by newest limit 12"
[kin]
ask = "from sighting, note, guide where related to :here by species, topic order by newest limit 5"
[near]
ask = "from sighting, note, guide where station = :here.station order by newest limit 5"
[in-term]
ask = "from sighting, note, guide order by newest per page 20"
"""
PAGES = """
[home]
address = "index.html"
no_repeats = true
sections = [
    { listing = "newest", title = "Newest", beside = ["atom"] },
    { ask = "from guide order by title limit 8", title = "Guides" },
    { ask = "from sighting where certainty = confirmed order by individuals desc limit 8", title = "Largest counts" },
]
[sightings]
each = "from sighting"
address = "sightings/{slug}/"
no_repeats = true
sections = [{ listing = "near", title = "Near it" }, { listing = "kin", title = "Related" }]
[notes]
each = "from note"
address = "notes/{slug}/"
no_repeats = true
sections = [{ listing = "near", title = "Near it" }, { listing = "kin", title = "Related" }]
[guides]
each = "from guide"
address = "guides/{slug}/"
sections = [{ listing = "kin", title = "Related" }]
[stations]
each = "from station"
address = "stations/{slug}/"
sections = [{ ask = "from sighting, note where station = :here order by newest per page 20", title = "Seen here" }]
[people]
each = "from person"
address = "people/{slug}/"
sections = [{ ask = "from sighting, note, guide where author = :here order by newest per page 20", title = "Written" }]
[habitats]
each = "from habitat"
address = "habitats/{slug}/"
sections = [{ listing = "in-term", ask = "where habitat under :here", title = "Entries", beside = ["atom"] }]
[topics]
each = "from topic"
address = "topics/{slug}/"
sections = [{ listing = "in-term", ask = "where topic = :here", title = "Entries", beside = ["atom"] }]
[species]
each = "from species"
address = "species/{slug}/"
sections = [{ listing = "in-term", ask = "where species = :here", title = "Entries" }]
[archive]
address = "archive/"
sections = [{ ask = "from sighting, note, guide group by date.month limit 0 per group", title = "Months" }]
[months]
each = "from sighting, note, guide group by date.month"
address = "archive/{year}/{month}/"
sections = [{ ask = "from sighting, note, guide where date in :here.date.month order by newest per page 20" }]
"""
FLOOR = """
import os, sys, yaml, jinja2
from markdown_it import MarkdownIt
reader = MarkdownIt()
template = jinja2.Environment(autoescape=True).from_string(
    "<!doctype html><html><head><title>{{ title }}</title></head><body><h1>{{ title }}</h1><p>{{ date }}</p>"
    "{{ body|safe }}<ul>{% for each in links %}<li><a href='{{ each }}'>{{ each }}</a></li>{% endfor %}</ul>"
    "</body></html>")
walk, count = [sys.argv[1]], 0
while walk:
    for each in os.scandir(walk.pop()):
        if each.is_dir():
            walk.append(each.path)
            continue
        _, front, body = open(each.path, encoding='utf-8').read().split('---', 2)
        told = {k.value: v.value for k, v in yaml.compose(front, Loader=yaml.CSafeLoader).value}
        html = template.render(title=told['title'], date=told.get('date', ''), body=reader.render(body),
                               links=[f'/entries/{count + n}/' for n in range(10)])
        folder = os.path.join(sys.argv[2], str(count))
        os.makedirs(folder)
        with open(os.path.join(folder, 'index.html'), 'w', encoding='utf-8') as out:
            out.write(html)
        count += 1
"""


def made_up(folder: Path, count: int) -> None:
    """Write the site with so many entries, the same for the same count."""
    draw = random.Random(7)  # noqa: S311 - nothing here is secret
    for name, text in (("elenchus.toml", SITE), ("listings.toml", LISTINGS), ("pages.toml", PAGES)):
        (folder / name).write_text(text)
    stations, people = max(8, count // 100), max(5, count // 200)
    for kind, number in (("station", stations), ("person", people)):
        below = folder / "notebook" / kind
        below.mkdir(parents=True)
        for each in range(number):
            (below / f"{kind}-{each}.md").write_text(
                f"---\ntitle: {kind.capitalize()} {each}\n---\n{words(draw, 300)}\n"
            )
    for number in range(count):
        kind = draw.choices(["sighting", "note", "guide"], [80, 15, 5])[0]
        day = date(2026, 6, 15) - timedelta(days=draw.randrange(1500))
        below = folder / "notebook" / kind / f"{day.year}"
        below.mkdir(parents=True, exist_ok=True)
        (below / f"{kind}-{number}.md").write_text(entry(draw, kind, number, day, stations, people))


def words(draw: random.Random, count: int) -> str:
    """Return paragraphs of some words, some of them links and some strong."""
    found = draw.choices(WORDS, k=count)
    for at in range(0, count, 40):
        found[at] = f"**{found[at]}**"
    return "\n\n".join(" ".join(found[at : at + 60]) for at in range(0, count, 60))


def entry(draw: random.Random, kind: str, number: int, day: date, stations: int, people: int) -> str:
    """Return the text of one entry."""
    top = f"h{draw.randrange(8)}"
    habitat = top if draw.random() < 0.3 else f"{top}/{top}-{draw.randrange(6)}"
    told = [
        f"title: {' '.join(draw.choices(WORDS, k=4)).capitalize()} {number}", f"date: {day}",
        f"author: person-{draw.randrange(people)}", f"habitat: [{habitat}]",
        f"topic: [t{draw.randrange(30)}, t{draw.randrange(30)}]", f"summary: {' '.join(draw.choices(WORDS, k=12))}",
    ]  # fmt: skip
    if kind != "guide":
        told.append(f"station: station-{draw.randrange(stations)}")
    if kind == "sighting":
        told += [f"species: s{draw.randrange(300):03}", f"individuals: {draw.randrange(200)}", f"certainty: {draw.choice(LEVELS)}"]  # fmt: skip
    return "---\n" + "\n".join(told) + f"\n---\n{words(draw, 300)}\n"


def edits(folder: Path, run: int) -> dict[str, tuple[Path, str]]:
    """Return files with another title, date, term and body, each by what is other in it."""
    paths = sorted((folder / "notebook" / "sighting").rglob("*.md"))
    draw = random.Random(run)  # noqa: S311
    found = {}
    for name, (old, new) in {
        "title": ("title: ", f"title: Anew {run} "), "date": ("date: 20", "date: 2024-02-03 #"),
        "term": ("topic: [", f"topic: [t{draw.randrange(30)}, "), "body": ("\n---\n", f"\n---\nMore {run}. "),
    }.items():  # fmt: skip
        path = draw.choice(paths)
        found[name] = path, path.read_text().replace(old, new, 1)
    return found


def main(count: int, runs: int, keep: str) -> None:
    """Print what each sort of run takes."""
    with tempfile.TemporaryDirectory() as name:
        folder, floor = Path(keep or name) / "site", Path(name) / "floor"
        if not folder.exists():
            folder.mkdir(parents=True)
            made_up(folder, count)
        publish = [str(PROGRAM), "publish", "--to", f"{folder}-published"]
        times: dict[str, list[tuple[float, float]]] = {}

        def take(what: str, command: list[str]) -> None:
            times.setdefault(what, []).append(spent(command, folder))

        for run in range(runs):
            shutil.rmtree(floor, ignore_errors=True)
            floor.mkdir()
            take("floor", [sys.executable, "-c", FLOOR, str(folder / "notebook"), str(floor)])
            shutil.rmtree(f"{folder}-published", ignore_errors=True)
            spent([str(PROGRAM), "ask", ""], folder)  # content is read before: what follows is publishing
            take("published for the first time", publish)
            pages = sum(1 for _ in Path(f"{folder}-published").rglob("*.html"))
            time.sleep(2.5)  # files that are too young count as changed
            take("published, nothing changed", publish)
            take("checked", [str(PROGRAM), "check"])
            for what, (path, text) in edits(folder, run).items():
                before = path.read_text()
                path.write_text(text)
                take(f"published after one edit: {what}", publish)
                take("checked after an edit", [str(PROGRAM), "check"])
                path.write_text(before)
                spent(publish, folder)
                time.sleep(2.5)
        print(f"{count} entries, {pages} pages")
        base = statistics.median(cpu for cpu, _ in times["floor"])
        for what, every in times.items():
            cpu, clock = (statistics.median(each) for each in zip(*every, strict=True))
            print(f"{what:36} {cpu:7.2f} s  {cpu / base:6.2f} × floor  {clock:7.2f} s by the clock")


if __name__ == "__main__":
    words_given = [each for each in sys.argv[1:] if not each.startswith("--")]
    kept = sys.argv[sys.argv.index("--keep") + 1] if "--keep" in sys.argv else ""
    numbers = [int(each) for each in words_given if each != kept]
    main(*(numbers + [2_000, 1][len(numbers) :]), kept)
