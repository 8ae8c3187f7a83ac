"""Ask the same questions of Elenchus, SQLite, DuckDB and pandas, side by side in one run.

    .venv/bin/python benchmarks/compare.py [ENTRIES] [RUNS]

Needs duckdb and pandas besides (pip install duckdb pandas). Each engine holds the same made-up site in memory, SQLite
and DuckDB with the indexes that one would make; each answers with the ids of one page and the number of all rows,
which must be the same everywhere. Elenchus is timed from the text of the question on. The figures are medians in
milliseconds; beside those of the others stands how many times longer they take.
"""

from __future__ import annotations

import random
import sqlite3
import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import duckdb
import numpy as np
import pandas as pd
from made_up import LEVELS, WORDS

import elenchus
from elenchus.engine.columns.build import build
from elenchus.errors import Place
from elenchus.schema.record import Raw, Record
from elenchus.schema.terms import TermRow

NOW = datetime(2026, 6, 15, 9, tzinfo=UTC)
SITE = """
[site]
timezone = "UTC"
clock = 2026-06-15T09:00:00
[sources.none]
read = "markdown"
path = "."
kind = "sighting"
[kinds.report]
[kinds.sighting.fields]
individuals = { type = "integer" }
certainty = { type = "choice", choices = ["possible", "probable", "confirmed"] }
[taxonomies.habitat]
tree = true
[taxonomies.species]
"""
HABITATS = [f"h{top}" for top in range(8)] + [f"h{top}-{sub}" for top in range(8) for sub in range(6)]
SPECIES = [f"s{number:03}" for number in range(300)]
Answer = tuple[list[Any], int]
_FEWEST = 3_000


def made_up(count: int) -> list[dict[str, Any]]:
    """Return entries, each a dictionary; the same for the same count."""
    draw = random.Random(7)  # noqa: S311 - nothing here is secret
    rows = []
    for number in range(count):
        moment = NOW - timedelta(minutes=draw.randrange(5 * 365 * 24 * 60))
        rows.append(
            {
                "id": f"e{number:07}",
                "kind": "sighting" if draw.random() < 0.8 else "report",
                "title": f"{draw.choice(WORDS)} {draw.choice(WORDS)} {draw.randrange(10**6):06}",
                "date": moment.strftime("%Y-%m-%dT%H:%M"),
                "individuals": draw.randrange(500),
                "certainty": draw.choice(LEVELS),
                "habitat": sorted({draw.choice(HABITATS) for _ in range(draw.randrange(1, 3))}),
                "species": sorted({SPECIES[int(300 * draw.random() ** 3)] for _ in range(draw.randrange(3))}),
            }
        )
    return rows


def site_of(rows: list[dict[str, Any]]) -> elenchus.Site:
    """Return the entries as a site."""
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "elenchus.toml").write_text(SITE, encoding="utf-8")
        site = elenchus.open_site(folder)
    keys = ("title", "date", "individuals", "certainty", "habitat", "species", "id")
    records = [
        Record(Place("made-up"), row["kind"], row["id"], {key: Raw(row[key]) for key in keys if key in row})
        for row in rows
    ]
    terms = {
        "habitat": [
            TermRow(name, name, Place("made-up"), name.partition("-")[0] if "-" in name else "")
            for name in HABITATS
        ],
        "species": [TermRow(name, name, Place("made-up")) for name in SPECIES],
    }
    site.content.__dict__["dataset"] = build(site.definition.schema, records, terms, site.clock.zone)
    return site


TABLES = """
create table entry (id text primary key, kind text, title text, date text, individuals int, certainty int);
create table habitat (term text, id text);
create table species (term text, id text);
"""
INDEXES = """
create index by_date on entry (date desc, id);
create index by_kind on entry (kind, date desc, id);
create index by_title on entry (title, id);
create index by_habitat on habitat (term, id);
create index by_species on species (term, id);
create index of_habitat on habitat (id);
create index of_species on species (id);
"""


def database(
    rows: list[dict[str, Any]], run: Callable[[str], Any], load: Callable[[str, list[Any]], Any]
) -> None:
    """Fill a database with the entries."""
    for statement in filter(str.strip, TABLES.split(";")):
        run(statement)
    load(
        "entry",
        [
            (r["id"], r["kind"], r["title"], r["date"], r["individuals"], LEVELS.index(r["certainty"]))
            for r in rows
        ],
    )
    for name in ("habitat", "species"):
        load(name, [(term, row["id"]) for row in rows for term in row[name]])
    for statement in filter(str.strip, INDEXES.split(";")):
        run(statement)


# Each question: what Elenchus is asked, SQL for the page and for the number of all, and pandas.
UNDER = "(select id from habitat where term = 'h3' or term like 'h3-%')"
SUBTREE = f"kind = 'sighting' and id in {UNDER} and individuals >= 100 and certainty >= 1"
WINDOW = "date >= '2026-03-18T00:00' and date < '2026-06-16T00:00'"
SHARED = "(select id from species where term in (select term from species where id = 'e0000001'))"


def paged(where: str, order: str, cut: str) -> tuple[str, str]:
    """Return SQL for a page of ids and for their number."""
    return (
        f"select id from entry where {where} order by {order} {cut}",
        f"select count(*) from entry where {where}",
    )


QUESTIONS: dict[str, tuple[str, tuple[str, str]]] = {
    "kind and term, newest": (
        "from sighting where species = s007 order by newest per page 20",
        paged(
            "kind = 'sighting' and id in (select id from species where term = 's007')",
            "date desc, id",
            "limit 20",
        ),
    ),
    "subtree, two fields, 90 days, sorted": (
        "from sighting where habitat under h3 and individuals >= 100 and certainty >= probable and date in last 90 days "
        "order by individuals desc per page 20",
        paged(f"{SUBTREE} and {WINDOW}", "individuals desc, id", "limit 20"),
    ),
    "the same without the window": (
        "from sighting where habitat under h3 and individuals >= 100 and certainty >= probable order by individuals desc per page 20",
        paged(SUBTREE, "individuals desc, id", "limit 20"),
    ),
    "months with counts": (
        "from sighting group by date.month limit 0 per group",
        (
            "select count(*) from entry where kind = 'sighting' group by substr(date, 1, 7) order by substr(date, 1, 7) desc",
            "select count(*) from entry where kind = 'sighting'",
        ),
    ),
    "counts of terms under a filter": (
        "from sighting where individuals >= 250 and species is set group by species by name limit 0 per group",
        (
            "select count(*) from species join entry using (id) where kind = 'sighting' and individuals >= 250 group by term order by term",
            "select count(*) from entry where kind = 'sighting' and individuals >= 250 and id in (select id from species)",
        ),
    ),
    "page 100 by title": (
        "from sighting order by title per page 20",
        paged("kind = 'sighting'", "title, id", "limit 20 offset 1980"),
    ),
    "substring in the title": (
        "where title contains 'flock 12' order by newest per page 20",
        paged("title like '%flock 12%'", "date desc, id", "limit 20"),
    ),
    "related by species, newest": (
        "where related to e0000001 by species order by newest per page 10",
        paged(f"id in {SHARED} and id <> 'e0000001'", "date desc, id", "limit 10"),
    ),
}


def with_pandas(rows: list[dict[str, Any]]) -> dict[str, Callable[[], Answer]]:
    """Return the questions as they are asked of pandas."""
    frame = pd.DataFrame(rows)
    frame["certainty"] = frame["certainty"].map(LEVELS.index)
    frame["moment"] = pd.to_datetime(frame["date"])
    frame = frame.sort_values(["date", "id"], ascending=[False, True]).reset_index(drop=True)
    terms = {name: frame[["id", name]].explode(name).dropna() for name in ("habitat", "species")}
    sightings = frame["kind"] == "sighting"

    def page(
        mask: Any, by: list[str] | None = None, *, down: bool = False, first: int = 0, size: int = 20
    ) -> Answer:
        found = frame[mask]
        chosen = found.sort_values(by, ascending=[not down, True]) if by else found
        return chosen["id"].iloc[first : first + size].tolist(), len(found)

    def subtree() -> Any:
        names = terms["habitat"]["habitat"]
        below = terms["habitat"]["id"][(names == "h3") | names.str.startswith("h3-")]
        return sightings & frame["id"].isin(below) & (frame["individuals"] >= 100) & (frame["certainty"] >= 1)

    def window() -> Any:
        return (frame["date"] >= "2026-03-18T00:00") & (frame["date"] < "2026-06-16T00:00")

    def having(name: str, wanted: Any) -> Any:
        table = terms[name]
        return frame["id"].isin(table["id"][table[name].isin(wanted)])

    def months() -> Answer:
        counts = (
            frame[sightings].groupby(frame["moment"].dt.to_period("M")).size().sort_index(ascending=False)
        )
        return counts.tolist(), int(counts.sum())

    def counts() -> Answer:
        wanted = frame["id"][sightings & (frame["individuals"] >= 250)]
        table = terms["species"][terms["species"]["id"].isin(wanted)]
        return table.groupby("species").size().sort_index().tolist(), table["id"].nunique()

    def related() -> Answer:
        table = terms["species"]
        mine = table["species"][table["id"] == "e0000001"]
        return page(having("species", mine) & (frame["id"] != "e0000001"), size=10)

    asked: list[Callable[[], Answer]] = [
        lambda: page(sightings & having("species", ["s007"])),
        lambda: page(subtree() & window(), ["individuals", "id"], down=True),
        lambda: page(subtree(), ["individuals", "id"], down=True),
        months,
        counts,
        lambda: page(sightings, ["title", "id"], first=1980),
        lambda: page(frame["title"].str.contains("flock 12", regex=False)),
        related,
    ]
    return dict(zip(QUESTIONS, asked, strict=True))


def of_elenchus(site: elenchus.Site, text: str, page: int) -> Answer:
    """Return the answer of Elenchus in the form of the others; no plan or answer of before may help."""
    site.plans.results.clear()
    site.engine.kept.results.clear()
    answer = elenchus.ask(site, text, page=page)
    if answer.groups is not None:
        return [group.count for group in answer.groups], answer.total
    return [row.id for row in answer.rows], answer.total


def of_sql(run: Callable[[str], list[Any]], texts: tuple[str, str]) -> Answer:
    """Return the answer of a database."""
    return [row[0] for row in run(texts[0])], run(texts[1])[0][0]


def median(ask: Callable[[], Answer], runs: int) -> float:
    """Return the median time of some runs in milliseconds; the first is not counted."""
    ask()
    found = []
    for _ in range(runs):
        started = time.perf_counter()
        ask()
        found.append((time.perf_counter() - started) * 1000)
    return statistics.median(found)


def main() -> None:
    """Build the four, compare their answers, print their times."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    runs = int(sys.argv[2]) if len(sys.argv) > 2 else 9
    if count < _FEWEST:
        sys.exit(f"{count} entries have no page 100: take {_FEWEST} or more.")
    rows = made_up(count)
    site, frames = site_of(rows), with_pandas(rows)
    lite, duck = sqlite3.connect(":memory:"), duckdb.connect()
    database(
        rows,
        lite.execute,
        lambda name, found: lite.executemany(
            f"insert into {name} values ({','.join('?' * len(found[0]))})", found
        ),
    )
    database(rows, duck.execute, lambda name, found: duck_load(duck, name, found))
    print(
        f"{count} entries, medians of {runs} runs, Python {sys.version.split()[0]}, NumPy {np.__version__}, "
        f"SQLite {sqlite3.sqlite_version}, DuckDB {duckdb.__version__}, pandas {pd.__version__}\n"
    )
    print(f"{'milliseconds':<38}{'Elenchus':>9}{'SQLite':>18}{'DuckDB':>18}{'pandas':>18}")
    for name, (text, sql) in QUESTIONS.items():
        page = 100 if name.startswith("page 100") else 1
        engines = {
            "Elenchus": lambda text=text, page=page: of_elenchus(site, text, page),
            "SQLite": lambda sql=sql: of_sql(lambda query: lite.execute(query).fetchall(), sql),
            "DuckDB": lambda sql=sql: of_sql(lambda query: duck.execute(query).fetchall(), sql),
            "pandas": frames[name],
        }
        answers = {engine: ask() for engine, ask in engines.items()}
        wrong = [engine for engine, answer in answers.items() if answer != answers["SQLite"]]
        if wrong:
            sys.exit(
                f"{name}: {wrong} answer otherwise than SQLite: {[answers[each] for each in (*wrong, 'SQLite')]}"
            )
        times = {engine: median(ask, runs) for engine, ask in engines.items()}
        others = "".join(
            f"{times[each]:>9.2f} {times[each] / times['Elenchus']:>7.1f}×"
            for each in ("SQLite", "DuckDB", "pandas")
        )
        print(f"{name:<38}{times['Elenchus']:>9.2f}{others}")


def duck_load(duck: Any, name: str, found: list[Any]) -> None:
    """Fill a table of DuckDB from a frame, which is its fast way in."""
    frame = pd.DataFrame(found)
    duck.register("given", frame)
    duck.execute(f"insert into {name} select * from given")
    duck.unregister("given")


if __name__ == "__main__":
    main()
