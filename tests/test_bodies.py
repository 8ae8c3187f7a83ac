"""Twenty bodies of content as other programs leave it: two commands make a site, and it counts as Python does."""

from __future__ import annotations

import csv
import gzip
import io
import json
import re
import shutil
import sqlite3
from collections import Counter
from collections.abc import Callable, Mapping
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, Literal

import pytest

import elenchus
from conftest import Run
from elenchus.checks.census import census
from elenchus.starting.beginning import begin

BODIES = Path(__file__).with_name("bodies")
Row = Mapping[str, Any]


def table(name: str, delimiter: str = ",", encoding: str = "utf-8", *, skip: int = 0) -> list[Row]:
    """Return the rows of a table by the standard library's reader."""
    data = (BODIES / name).read_bytes()
    text = (gzip.decompress(data) if name.endswith(".gz") else data).decode(encoding)
    quoting: Literal[0, 3] = csv.QUOTE_NONE if name.endswith(".tsv") else csv.QUOTE_MINIMAL
    lines = io.StringIO("".join(text.splitlines(keepends=True)[skip:]))
    return list(csv.DictReader(lines, delimiter=delimiter, quoting=quoting))


def document(name: str) -> Any:
    """Return a document of JSON."""
    return json.loads((BODIES / name).read_text())


def texts(pattern: str) -> list[Row]:
    """Return the text files of a body with their paths."""
    return [{"path": path, "text": path.read_text()} for path in sorted(BODIES.glob(pattern))]


def forum() -> list[Row]:
    """Return the threads of the forum that are not hidden."""
    with sqlite3.connect(BODIES / "forum/board.db") as database:
        database.row_factory = sqlite3.Row
        query = (
            "SELECT threads.*, members.nick, labels.name AS label FROM threads JOIN members ON members.id = member_id"
            " JOIN thread_labels ON thread_id = threads.id JOIN labels ON labels.id = label_id"
        )
        found: list[Row] = [dict(row) for row in database.execute(query)]
    database.close()
    return found


def money(text: str) -> float:
    """Return an amount as Germans write it."""
    return float(re.sub(r"[^\d,]", "", text).replace(",", "."))


def front(row: Row) -> dict[str, str]:
    """Return the simple lines of front matter."""
    return dict(re.findall(r"^(\w+): ?(.*)$", str(row["text"]).split("---")[1], re.MULTILINE))


Asked = tuple[str, Callable[[list[Row]], object]]
NOW = datetime(2026, 12, 1, tzinfo=UTC)
# For each body its rows, and five questions with what Python says.
CASES: dict[str, tuple[Callable[[], list[Row]], list[Asked]]] = {
    "shop": (
        lambda: table("shop/products_export.csv"),
        [
            ("including unpublished", len),
            ("", lambda rows: sum(row["Status"] == "active" for row in rows)),
            (
                "where price > 20 including unpublished",
                lambda rows: sum(float(row["Price"][1:]) > 20 for row in rows),
            ),
            (
                "where collections = Gifts including unpublished",
                lambda rows: sum("Gifts" in row["Collections"].split("; ") for row in rows),
            ),
            (
                "where rating >= 4.5 and in-stock = yes including unpublished",
                lambda rows: sum(
                    float(row["Rating"][:-2]) >= 4.5 and row["In Stock"] == "yes" for row in rows
                ),
            ),
        ],
    ),
    "museum": (
        lambda: document("museum/export.json")["response"]["objects"],
        [
            ("", len),
            (
                'where maker = "Mara Lind"',
                lambda rows: sum(row["maker"]["name"] == "Mara Lind" for row in rows),
            ),
            (
                "where dimensions-height > 40",
                lambda rows: sum(row["dimensions"]["height"]["value"] > 40 for row in rows),
            ),
            (
                "where materials = brass and ondisplay = yes",
                lambda rows: sum("brass" in row["materials"] and row["onDisplay"] for row in rows),
            ),
            (
                'where title contains "herring drifter"',
                lambda rows: sum("drifter" in (row["title"] or "") for row in rows),
            ),
        ],
    ),
    "loans": (
        lambda: table("loans/books.csv", ";"),
        [
            ("from book", len),
            ("from book where pages > 200", lambda rows: sum(int(row["pages"]) > 200 for row in rows)),
            ("from book where returned = yes", lambda rows: sum(row["returned"] == "ja" for row in rows)),
            (
                'from book where author.title = "Odd Holm"',
                lambda rows: sum(row["author_id"] == "2" for row in rows),
            ),
            (
                "from book where date >= 2025-07-01",
                lambda rows: sum(int(row["lent_on"].split(".")[1]) >= 7 for row in rows),
            ),
        ],
    ),
    "films": (
        lambda: table("films/films.csv"),
        [
            (
                "",
                lambda rows: sum(
                    datetime.strptime(row["release_date"] + "+0000", "%d-%b-%y%z") <= NOW for row in rows
                ),
            ),
            ("where genre = Drama", lambda rows: sum(row["genre"] == "Drama" for row in rows)),
            ("where runtime >= 120", lambda rows: sum(int(row["runtime"].split()[0]) >= 120 for row in rows)),
            (
                "where score > 7",
                lambda rows: sum(row["score"] != "n/a" and float(row["score"]) > 7 for row in rows),
            ),
            (
                'where director = "Mara Lind" and date in 2022',
                lambda rows: sum(
                    row["director"] == "Mara Lind" and row["release_date"].endswith("-22") for row in rows
                ),
            ),
        ],
    ),
    "airports": (
        lambda: table("airports/airports.tsv", "\t"),
        [
            ("", len),
            ("where type = heliport", lambda rows: sum(row["type"] == "heliport" for row in rows)),
            (
                "where elevation_ft > 100",
                lambda rows: sum(int(row["elevation_ft"] or 0) > 100 for row in rows),
            ),
            (
                "where country = NO and lat > 60.5",
                lambda rows: sum(row["country"] == "NO" and float(row["lat"]) > 60.5 for row in rows),
            ),
            ("where title contains '\"'", lambda rows: sum('"' in row["name"] for row in rows)),
        ],
    ),
    "glossary": (
        lambda: [{"key": key, **value} for key, value in document("glossary/terms.json").items()],
        [
            ("", len),
            ("where since = 1890", lambda rows: sum(row["since"] == "1890" for row in rows)),
            ("where see = ebb", lambda rows: sum("ebb" in row["see"] for row in rows)),
            ("where title starts with s", lambda rows: sum(row["key"].startswith("s") for row in rows)),
            (
                'where summary contains "call bore"',
                lambda rows: sum("call bore" in row["definition"] for row in rows),
            ),
        ],
    ),
    "manual": (
        lambda: texts("manual/**/*.html"),
        [
            ("", len),
            ('where author = "Mara Lind"', len),
            ("where title = Nets", lambda rows: sum("<h1>Nets<" in row["text"] for row in rows)),
            (
                "where date = 2025-05-10",
                lambda rows: sum('datetime="2025-05-10"' in row["text"] for row in rows),
            ),
            ('where body contains "rights reserved"', lambda _: 0),
        ],
    ),
    "minutes": (
        lambda: texts("minutes/**/*.md"),
        [
            ("", lambda rows: sum(row["path"].name != "README.md" for row in rows)),
            ("where date in 2025", lambda rows: sum(row["path"].name.startswith("2025") for row in rows)),
            (
                "where title contains meeting",
                lambda rows: sum("# Board meeting" in row["text"] for row in rows),
            ),
            ("where date is missing", lambda _: 1),
            ('where body contains "Odd Holm"', lambda rows: sum("Odd Holm" in row["text"] for row in rows)),
        ],
    ),
    "recipes": (
        lambda: [document(f"recipes/{path.name}") for path in sorted((BODIES / "recipes").glob("*-*.json"))],
        [
            ("including unpublished", len),
            ("", lambda rows: sum(row["published"] for row in rows)),
            (
                "where tags = winter including unpublished",
                lambda rows: sum("winter" in row["tags"] for row in rows),
            ),
            (
                "where servings > 4 including unpublished",
                lambda rows: sum(row["servings"] > 4 for row in rows),
            ),
            (
                "where date in 2024 including unpublished",
                lambda rows: sum(datetime.fromtimestamp(row["created"], UTC).year == 2024 for row in rows),
            ),
        ],
    ),
    "changes": (
        lambda: texts("changes/*.md"),
        [
            ("including unpublished", len),
            ("", lambda rows: sum("draft = false" in row["text"] for row in rows)),
            ("where breaking = yes", lambda rows: sum("breaking = true" in row["text"] for row in rows)),
            (
                "where date in 2025-03 including unpublished",
                lambda rows: sum("date = 2025-03" in row["text"] for row in rows),
            ),
            ("where title = 2.0", lambda rows: sum('title = "2.0"' in row["text"] for row in rows)),
        ],
    ),
    "album": (
        lambda: [json.loads(line) for line in (BODIES / "album/photos.jsonl").read_text().splitlines()],
        [
            ("", len),
            ('where people = "Mara Lind"', lambda rows: sum("Mara Lind" in row["people"] for row in rows)),
            ("where stars >= 4", lambda rows: sum(len(row["stars"]) >= 4 for row in rows)),
            ("where camera = Pocket", lambda rows: sum(row["camera"] == "Pocket" for row in rows)),
            ("where date in 2025-03", lambda rows: sum(row["taken"].startswith("2025:03") for row in rows)),
        ],
    ),
    "events": (
        lambda: table("events/calendar.csv"),
        [
            ("", len),
            ("where starts >= 2026-12-01", lambda rows: sum(row["starts"] >= "2026-12-01" for row in rows)),
            ("where free = yes", lambda rows: sum(row["free"] == "yes" for row in rows)),
            (
                'where organiser = "Mara Lind"',
                lambda rows: sum(row["organiser"] == "Mara Lind" for row in rows),
            ),
            ('where "where" = Hall', lambda rows: sum(row["where"] == "Hall" for row in rows)),
        ],
    ),
    "bibliography": (
        lambda: [*document("bibliography/refs.json").values()],
        [
            ("", len),
            ("from article", lambda rows: sum(row["type"] == "article" for row in rows)),
            ("where issued > 2004", lambda rows: sum(row["issued"] > 2004 for row in rows)),
            ("where title contains kelp", lambda rows: sum("kelp" in row["title"] for row in rows)),
            (
                "from book where issued = 2003",
                lambda rows: sum(row["type"] == "book" and row["issued"] == 2003 for row in rows),
            ),
        ],
    ),
    "species": (
        lambda: [
            {"all": line.split(";")}
            for line in (BODIES / "species/list.txt.csv").read_bytes().decode("cp1252").splitlines()
        ],
        [
            ("", len),
            ("where column-4 > 100", lambda rows: sum(int(row["all"][3]) > 100 for row in rows)),
            ("where column-5 = VU", lambda rows: sum(row["all"][4] == "VU" for row in rows)),
            ("where title contains seal", lambda rows: sum("seal" in row["all"][2] for row in rows)),
            ("where title contains tång", lambda rows: sum("tång" in row["all"][2] for row in rows)),
        ],
    ),
    "forum": (
        forum,
        [
            ("from thread including unpublished", len),
            ("from thread", lambda _: 0),
            (
                "from thread where topic = help including unpublished",
                lambda rows: sum(row["label"] == "help" for row in rows),
            ),
            (
                "from thread where author.title = mara including unpublished",
                lambda rows: sum(row["nick"] == "mara" for row in rows),
            ),
            (
                "from thread where date in 2025-03 including unpublished",
                lambda rows: sum(row["posted"].startswith("2025-03") for row in rows),
            ),
        ],
    ),
    "preise": (
        lambda: table("preise/Preisliste 2026.csv", ";", "cp1252", skip=2)[:-1],
        [
            ("", len),
            ("where preis > 1000", lambda rows: sum(money(row["Preis"]) > 1000 for row in rows)),
            ("where mwst = 7", lambda rows: sum(row["MwSt"] == "7 %" for row in rows)),
            ("where lieferbar = yes", lambda rows: sum(row["lieferbar"] == "ja" for row in rows)),
            ("where warengruppe = Seile", lambda rows: sum(row["Warengruppe"] == "Seile" for row in rows)),
        ],
    ),
    "tides": (
        lambda: [*table("tides/tides-2025.csv"), *table("tides/tides-2026.csv")],
        [
            ("", len),
            ("where station = Ness", lambda rows: sum(row["station"] == "Ness" for row in rows)),
            ("where height_m > 1.5", lambda rows: sum(float(row["height_m"]) > 1.5 for row in rows)),
            ("where date in 2026", lambda rows: sum(row["day"].startswith("2026") for row in rows)),
            (
                "where type = high and date = 2025-01-02",
                lambda rows: sum(row["kind"] == "high" and row["day"] == "2025-01-02" for row in rows),
            ),
        ],
    ),
    "rooms": (
        lambda: texts("rooms/*/*.md"),
        [
            ("including unpublished", len),
            ("", lambda rows: sum(front(row)["status"] != "Kladde" for row in rows)),
            ("where language = de", lambda rows: sum(front(row)["language"] == "de" for row in rows)),
            (
                'where title = "Lampe 2" including unpublished',
                lambda rows: sum(front(row)["title"] == "Lampe 2" for row in rows),
            ),
            ("where language = da", lambda _: 0),
        ],
    ),
    "wiki": (
        lambda: texts("wiki/**/*.md"),
        [
            ("", lambda _: 3),  # one of four has the slug, one cannot be read, one has an impossible date
            ("including unpublished", lambda _: 4),
            ("where tags = place", lambda _: 1),
            ("where title = Talk", lambda _: 1),
            ("where stage is set", lambda rows: sum("officially-assigned" in row["text"] for row in rows)),
        ],
    ),
    "measurements": (
        lambda: [*table("measurements/cruise.csv.gz", ";", skip=1)],
        [
            ("", len),
            (
                "where temperatur-oben > 10",
                lambda rows: sum(float(row["oben"].replace(",", ".")) > 10 for row in rows),
            ),
            ("where salz is missing", lambda rows: sum(row[""] == "–" for row in rows)),
            ("where salz = 34.1", lambda rows: sum(row[""] == "34,1" for row in rows)),
            ("where title starts with A", lambda rows: sum(row["Station"].startswith("A") for row in rows)),
        ],
    ),
}


@pytest.mark.parametrize("name", CASES)
def test_bodies(tmp_path: Path, run: Run, name: str) -> None:
    """Two commands publish it; five questions have the answers of plain Python; start again proposes nothing."""
    folder = tmp_path / name
    shutil.copytree(BODIES / name, folder)
    done = run("start", ".", cwd=folder)
    assert (done.returncode, done.stderr) == (0, ""), done.stdout + done.stderr
    assert len(done.stdout.splitlines()) <= 30
    load, asked = CASES[name]
    rows = load()
    site = elenchus.open_site(folder, at="2026-12-01T12:00Z")
    answers = {question: elenchus.ask(site, question).total for question, _ in asked}
    assert answers == {question: count(rows) for question, count in asked}, (
        folder / "elenchus.toml"
    ).read_text()
    published = run("publish", cwd=folder)
    assert published.returncode == 0, published.stdout + published.stderr
    found = census(site)
    told = Counter(found.held) + Counter(
        {"public": found.public, "ahead": found.ahead.number if found.ahead else 0}
    )
    assert told.total() + found.over == found.found
    again = begin(str(folder))
    assert (list(again.written), list(again.proposed)) == ([], [])
