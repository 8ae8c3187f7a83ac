"""Ask the same dozen questions of Elenchus, SQLite, DuckDB, pandas and Polars, side by side in one run.

    .venv/bin/python benchmarks/questions.py [--sizes 10000,100000] [--runs 7] [--json FILE]

Needs duckdb, pandas, pyarrow and polars besides (pip install duckdb pandas pyarrow polars). Each engine holds the
same made-up site in two settings: set up as a working engineer would (integer keys, typed dates, Arrow strings, the
obvious indexes, ANALYZE), and tuned for the very questions that are asked (benchmarks/tuned.py). Each answers with
the ids of one page and the number of all rows, or with the counts of groups; where answers differ, the run stops.

Elenchus is timed from the text of the question on, and does more for it: it checks the text, leaves out what is
not public, decodes the values of the rows on the page, and tells what is remarkable. No plan and no answer of
before helps it; what it keeps of columns stays, as the others keep their indexes.

For each question all engines are asked in turns. The first call of each is told apart. Figures are medians in
milliseconds of the processor's time (of all threads) and of the clock; beside those of the others stands how many
times longer they take. For several sizes the growth is told: the exponent of the size by which the time grows.
"""

from __future__ import annotations

import argparse
import gc
import json
import math
import resource
import sqlite3
import statistics
import sys
import time
from collections.abc import Callable
from datetime import UTC, datetime
from functools import cached_property
from pathlib import Path
from typing import Any

import duckdb
import numpy as np
import pandas as pd
import polars as pl
import tuned
from made_up import HABITATS, SPECIES, Row, entries, site_of

import elenchus

Answer = tuple[list[Any], int]
ENGINES = ("Elenchus", "SQLite", "DuckDB", "pandas", "Polars")
FEWEST = 3_000  # entries that have a page 100
NUMBERS = {
    name: number for number, name in enumerate(sorted(HABITATS))
}  # a term's own is before those below it
H3, H3_LAST = NUMBERS["h3"], max(number for name, number in NUMBERS.items() if name.startswith("h3"))
FIRST, END = datetime(2026, 3, 18, tzinfo=UTC), datetime(2026, 6, 16, tzinfo=UTC)  # the last 90 days

# What Elenchus is asked, and on which page; in SQL the rows that match, in which order, and where the page begins.
UNDER = "num in (select num from habitat where term between {h3} and {h3_last})"
SUBTREE = f"kind = 1 and {UNDER} and individuals >= 100 and certainty >= 1"
SHARED = "num in (select num from species where term in (select term from species where num = {anchor})) and num <> {anchor}"
NEWEST, BY_TITLE, MOST = "moment desc, id", "title, id", "individuals desc, id"
PAGED: dict[str, tuple[str, int, str, str, int, int]] = {
    "kind and term, newest": (
        "from sighting where species = s007 order by newest per page 20",
        1,
        "kind = 1 and num in (select num from species where term = 7)",
        NEWEST,
        20,
        0,
    ),
    "subtree, two fields, 90 days": (
        "from sighting where habitat under h3 and individuals >= 100 and certainty >= probable "
        "and date in last 90 days order by individuals desc per page 20",
        1,
        f"{SUBTREE} and moment >= {{first}} and moment < {{end}}",
        MOST,
        20,
        0,
    ),
    "the same without the days": (
        "from sighting where habitat under h3 and individuals >= 100 and certainty >= probable "
        "order by individuals desc per page 20",
        1,
        SUBTREE,
        MOST,
        20,
        0,
    ),
    "page 100 by title": (
        "from sighting order by title per page 20",
        100,
        "kind = 1",
        BY_TITLE,
        20,
        1980,
    ),
    "page 10 of a subtree by title": (
        "from sighting where habitat under h3 order by title per page 20",
        10,
        f"kind = 1 and {UNDER}",
        BY_TITLE,
        20,
        180,
    ),
    "substring in the title": (
        "where title contains 'flock 12' order by newest per page 20",
        1,
        "title like '%flock 12%'",
        NEWEST,
        20,
        0,
    ),
    "terms whose name contains": (
        "from sighting where species.name contains s01 order by newest per page 20",
        1,
        "kind = 1 and num in (select num from species where term in (select number from term where name like '%s01%'))",
        NEWEST,
        20,
        0,
    ),
    "related by species, newest": (
        "where related to e0000001 by species order by newest per page 10",
        1,
        SHARED,
        NEWEST,
        10,
        0,
    ),
    "either of two terms": (
        "from sighting where species in (s007, s250) order by newest per page 20",
        1,
        "kind = 1 and num in (select num from species where term in (7, 250))",
        NEWEST,
        20,
        0,
    ),
}
# What Elenchus is asked; in SQL the groups with their counts in order, and the number of all rows.
GROUPED: dict[str, tuple[str, str, str]] = {
    "months with counts": (
        "from sighting group by date.month limit 0 per group",
        "select count(*) from entry where kind = 1 group by {month} order by {month} desc",
        "select count(*) from entry where kind = 1",
    ),
    "terms with counts": (
        "from sighting where individuals >= 250 and species is set group by species by name limit 0 per group",
        "select count(*) from species join entry using (num) where kind = 1 and individuals >= 250 "
        "group by term order by term",
        "select count(*) from entry where kind = 1 and individuals >= 250 and num in (select num from species)",
    ),
    "kinds and years with counts": (
        "from sighting, report group by kind, date.year limit 0 per group",
        "select count(*) from entry group by kind, {year} order by kind, {year} desc",
        "select count(*) from entry",
    ),
}
TABLES = """
create table entry (num integer primary key, id text not null, kind int not null, title text not null,
    moment {moment} not null, individuals int not null, certainty int not null);
create table habitat (term int not null, num int not null);
create table species (term int not null, num int not null);
create table term (number int not null, name text not null);
"""
INDEXES = """
create unique index by_id on entry (id);
create index by_kind on entry (kind, moment desc, id);
create index by_moment on entry (moment desc, id);
create index by_title on entry (title, id);
create index by_habitat on habitat (term, num);
create index by_species on species (term, num);
create index of_species on species (num, term);
"""


class Tables:
    """The entries as columns, for all that is filled from them."""

    def __init__(self, rows: list[Row]) -> None:
        self.entry = pd.DataFrame(
            {
                "num": np.arange(len(rows)),
                "id": [row.id for row in rows],
                "kind": [int(row.kind == "sighting") for row in rows],
                "title": [row.title for row in rows],
                "moment": pd.to_datetime([row.moment.replace(tzinfo=None) for row in rows]).as_unit("s"),
                "individuals": [row.individuals for row in rows],
                "certainty": [row.certainty for row in rows],
            }
        )
        self.habitat = self.having((NUMBERS[name], at) for at, row in enumerate(rows) for name in row.habitat)
        self.species = self.having((int(name[1:]), at) for at, row in enumerate(rows) for name in row.species)
        self.term = pd.DataFrame({"number": range(len(SPECIES)), "name": SPECIES})

    @cached_property
    def prepared(self) -> tuned.Prepared:
        """The same made ready for the questions."""
        return tuned.Prepared(self)

    @staticmethod
    def having(pairs: Any) -> pd.DataFrame:
        """Return which entries have which terms."""
        return pd.DataFrame(list(pairs), columns=["term", "num"])


def of_elenchus(rows: list[Row], _: Tables) -> dict[str, Callable[[], Answer]]:
    """Return the questions as they are asked of Elenchus."""
    site = site_of(rows)

    def ask(text: str, page: int) -> Answer:
        for kept in (site.questions, site.names_of_here, site.plans, site.engine.kept):
            kept.results.clear()
        answer = elenchus.ask(site, text, page=page)
        if answer.groups is not None:
            return [group.count for group in answer.groups], answer.total
        return [row.id for row in answer.rows], answer.total

    pages = {name: lambda text=text, page=page: ask(text, page) for name, (text, page, *_) in PAGED.items()}
    return pages | {name: lambda text=text: ask(text, 1) for name, (text, *_) in GROUPED.items()}


def in_sql(run: Callable[[str], list[Any]], words: dict[str, Any]) -> dict[str, Callable[[], Answer]]:
    """Return the questions as they are asked in SQL; ``words`` are those in which dialects differ."""

    def ask(first: str, second: str) -> Answer:
        return [row[0] for row in run(first)], run(second)[0][0]

    found = {}
    for name, (_, _, where, order, limit, offset) in PAGED.items():
        texts = (
            f"select id from entry where {where} order by {order} limit {limit} offset {offset}",
            f"select count(*) from entry where {where}",
        )
        found[name] = [text.format(**words) for text in texts]
    for name, (_, *texts) in GROUPED.items():
        found[name] = [text.format(**words) for text in texts]
    return {name: lambda texts=texts: ask(*texts) for name, texts in found.items()}


def of_sqlite(_: list[Row], tables: Tables) -> dict[str, Callable[[], Answer]]:
    """Return the questions as they are asked of SQLite, with dates as seconds."""
    link = sqlite3.connect(":memory:")
    link.executescript(TABLES.format(moment="int"))
    entry = tables.entry.assign(moment=tables.entry["moment"].astype("int64"))
    for name, frame in (
        ("entry", entry),
        ("habitat", tables.habitat),
        ("species", tables.species),
        ("term", tables.term),
    ):
        marks = ",".join("?" * len(frame.columns))
        link.executemany(f"insert into {name} values ({marks})", frame.itertuples(index=False, name=None))
    link.executescript(f"{INDEXES} analyze;")
    words = {
        "h3": H3,
        "h3_last": H3_LAST,
        "anchor": 1,
        "first": int(FIRST.timestamp()),
        "end": int(END.timestamp()),
        "month": "strftime('%Y-%m', moment, 'unixepoch')",
        "year": "strftime('%Y', moment, 'unixepoch')",
    }
    return in_sql(lambda text: link.execute(text).fetchall(), words)


def of_duckdb(_: list[Row], tables: Tables) -> dict[str, Callable[[], Answer]]:
    """Return the questions as they are asked of DuckDB."""
    link = duckdb.connect()
    for statement in filter(str.strip, TABLES.format(moment="timestamp").split(";")):
        link.execute(statement)
    for name in ("entry", "habitat", "species", "term"):
        link.register("given", getattr(tables, name))
        link.execute(f"insert into {name} select * from given")
        link.unregister("given")
    for statement in filter(str.strip, INDEXES.replace(" desc", "").split(";")):
        link.execute(statement)
    link.execute("analyze")
    words = {
        "h3": H3,
        "h3_last": H3_LAST,
        "anchor": 1,
        "first": f"timestamp '{FIRST:%Y-%m-%d}'",
        "end": f"timestamp '{END:%Y-%m-%d}'",
        "month": "date_trunc('month', moment)",
        "year": "year(moment)",
    }
    return in_sql(lambda text: link.execute(text).fetchall(), words)


def of_pandas(_: list[Row], tables: Tables) -> dict[str, Callable[[], Answer]]:
    """Return the questions as they are asked of pandas: newest first, numbers for terms, Arrow strings."""
    frame = tables.entry.sort_values(["moment", "id"], ascending=[False, True]).reset_index(drop=True)
    frame = frame.astype({"id": "string[pyarrow]", "title": "string[pyarrow]"})
    habitat, species = tables.habitat, tables.species
    sightings = frame["kind"] == 1

    def page(
        mask: Any, by: list[str] | None = None, *, down: bool = False, first: int = 0, size: int = 20
    ) -> Answer:
        found = frame[mask]
        chosen = found.sort_values(by, ascending=[not down, True]) if by else found
        return chosen["id"].iloc[first : first + size].tolist(), len(found)

    def having(table: pd.DataFrame, terms: Any) -> Any:
        return frame["num"].isin(table["num"][table["term"].isin(terms)])

    def under() -> Any:
        return sightings & having(habitat, range(H3, H3_LAST + 1))

    def subtree() -> Any:
        return under() & (frame["individuals"] >= 100) & (frame["certainty"] >= 1)

    def days() -> Any:
        return (frame["moment"] >= FIRST.replace(tzinfo=None)) & (frame["moment"] < END.replace(tzinfo=None))

    def related() -> Answer:
        mine = species["term"][species["num"] == 1]
        return page(having(species, mine) & (frame["num"] != 1), size=10)

    def months() -> Answer:
        counts = frame["moment"][sightings].dt.to_period("M").value_counts().sort_index(ascending=False)
        return counts.tolist(), int(counts.sum())

    def terms() -> Answer:
        wanted = frame["num"][sightings & (frame["individuals"] >= 250)]
        found = species[species["num"].isin(wanted)]
        return found["term"].value_counts().sort_index().tolist(), found["num"].nunique()

    def years() -> Answer:
        counts = frame.groupby(["kind", frame["moment"].dt.year]).size()
        return counts.sort_index(ascending=[True, False]).tolist(), len(frame)

    names = tables.term["name"].astype("string[pyarrow]")
    return {
        "kind and term, newest": lambda: page(sightings & having(species, [7])),
        "subtree, two fields, 90 days": lambda: page(subtree() & days(), ["individuals", "id"], down=True),
        "the same without the days": lambda: page(subtree(), ["individuals", "id"], down=True),
        "page 100 by title": lambda: page(sightings, ["title", "id"], first=1980),
        "page 10 of a subtree by title": lambda: page(under(), ["title", "id"], first=180),
        "substring in the title": lambda: page(frame["title"].str.contains("flock 12", regex=False)),
        "terms whose name contains": lambda: page(
            sightings & having(species, tables.term["number"][names.str.contains("s01", regex=False)])
        ),
        "related by species, newest": related,
        "either of two terms": lambda: page(sightings & having(species, [7, 250])),
        "months with counts": months,
        "terms with counts": terms,
        "kinds and years with counts": years,
    }


def of_polars(_: list[Row], tables: Tables) -> dict[str, Callable[[], Answer]]:
    """Return the questions as they are asked of Polars: lazy frames, newest first."""
    frame = pl.from_pandas(tables.entry).sort(["moment", "id"], descending=[True, False]).lazy()
    habitat, species, term = (
        pl.from_pandas(each).lazy() for each in (tables.habitat, tables.species, tables.term)
    )
    sightings = pl.col("kind") == 1

    def page(
        found: pl.LazyFrame,
        by: list[str] | None = None,
        *,
        down: bool = False,
        first: int = 0,
        size: int = 20,
    ) -> Answer:
        chosen = found.sort(by, descending=[down, False]) if by else found
        asked = (chosen.select("id").slice(first, size), found.select(pl.len()))
        ids, total = pl.collect_all(asked)
        return ids["id"].to_list(), total.item()

    def having(rows: pl.LazyFrame, table: pl.LazyFrame, wanted: pl.Expr) -> pl.LazyFrame:
        return rows.join(
            table.filter(wanted).select("num").unique(), on="num", how="semi", maintain_order="left"
        )

    def under() -> pl.LazyFrame:
        return having(frame.filter(sightings), habitat, pl.col("term").is_between(H3, H3_LAST))

    def subtree() -> pl.LazyFrame:
        return under().filter((pl.col("individuals") >= 100) & (pl.col("certainty") >= 1))

    def related() -> Answer:
        mine = species.filter(pl.col("num") == 1).select("term").collect()["term"]
        return page(
            having(frame.filter(pl.col("num") != 1), species, pl.col("term").is_in(mine.implode())), size=10
        )

    def named() -> Answer:
        wanted = term.filter(pl.col("name").str.contains("s01", literal=True)).collect()["number"]
        return page(having(frame.filter(sightings), species, pl.col("term").is_in(wanted.implode())))

    def months() -> Answer:
        counts = (
            frame.filter(sightings)
            .group_by(pl.col("moment").dt.truncate("1mo"))
            .len()
            .sort("moment", descending=True)
            .collect()
        )
        return counts["len"].to_list(), int(counts["len"].sum())

    def terms() -> Answer:
        wanted = frame.filter(sightings & (pl.col("individuals") >= 250)).select("num")
        found = species.join(wanted, on="num", how="semi").collect()
        return found.group_by("term").len().sort("term")["len"].to_list(), found["num"].n_unique()

    def years() -> Answer:
        counts = frame.group_by("kind", pl.col("moment").dt.year().alias("year")).len()
        found = counts.sort(["kind", "year"], descending=[False, True]).collect()
        return found["len"].to_list(), int(found["len"].sum())

    first, end = (each.replace(tzinfo=None) for each in (FIRST, END))
    days = (pl.col("moment") >= first) & (pl.col("moment") < end)
    return {
        "kind and term, newest": lambda: page(having(frame.filter(sightings), species, pl.col("term") == 7)),
        "subtree, two fields, 90 days": lambda: page(
            subtree().filter(days), ["individuals", "id"], down=True
        ),
        "the same without the days": lambda: page(subtree(), ["individuals", "id"], down=True),
        "page 100 by title": lambda: page(frame.filter(sightings), ["title", "id"], first=1980),
        "page 10 of a subtree by title": lambda: page(under(), ["title", "id"], first=180),
        "substring in the title": lambda: page(
            frame.filter(pl.col("title").str.contains("flock 12", literal=True))
        ),
        "terms whose name contains": named,
        "related by species, newest": related,
        "either of two terms": lambda: page(
            having(frame.filter(sightings), species, pl.col("term").is_in([7, 250]))
        ),
        "months with counts": months,
        "terms with counts": terms,
        "kinds and years with counts": years,
    }


def tuned_by(build: Callable[..., dict[str, Callable[[], Answer]]]) -> Callable[..., Any]:
    """Return what builds an engine that is tuned for the questions."""
    return lambda _, tables: build(tables.prepared, FIRST, END)


USUAL = dict(zip(ENGINES, (of_elenchus, of_sqlite, of_duckdb, of_pandas, of_polars), strict=True))
TUNED = {
    "Elenchus": of_elenchus,
    "SQLite": tuned_by(tuned.of_sqlite),
    "DuckDB": tuned_by(tuned.of_duckdb),
    "pandas": tuned_by(tuned.of_pandas),
    "Polars": tuned_by(tuned.of_polars),
}
SETTINGS = {"usual": USUAL, "tuned": TUNED}


def timed(ask: Callable[[], Answer]) -> tuple[Answer, float, float]:
    """Return an answer with the milliseconds of the processor and of the clock that it took."""
    cpu, wall = time.process_time(), time.perf_counter()
    found = ask()
    return found, (time.process_time() - cpu) * 1000, (time.perf_counter() - wall) * 1000


def measured(rows: list[Row], tables: Tables, runs: int, setting: str) -> dict[str, Any]:
    """Return what was measured at a size: how each engine is built, and how long each question takes."""
    asked, built = {}, {}
    for engine, build in SETTINGS[setting].items():
        gc.collect()
        before, (questions, cpu, _) = memory(), timed(lambda build=build: build(rows, tables))  # type: ignore[misc]
        asked[engine], built[engine] = questions, {"seconds": cpu / 1000, "megabytes": memory() - before}
    times: dict[str, Any] = {}
    for name in (*PAGED, *GROUPED):
        first = {engine: timed(asked[engine][name]) for engine in ENGINES}
        wrong = [engine for engine in ENGINES if first[engine][0] != first["SQLite"][0]]
        if wrong:
            told = {engine: first[engine][0] for engine in (*wrong, "SQLite")}
            sys.exit(f"{name}: {', '.join(wrong)} answer otherwise than SQLite: {told}")
        cpu, wall = ({engine: [] for engine in ENGINES} for _ in range(2))
        for _ in range(runs):
            for engine in ENGINES:
                _, one, other = timed(asked[engine][name])
                cpu[engine].append(one)
                wall[engine].append(other)
        times[name] = {
            engine: {
                "first": first[engine][1],
                "cpu": statistics.median(cpu[engine]),
                "wall": statistics.median(wall[engine]),
            }
            for engine in ENGINES
        }
    return {"entries": len(rows), "setting": setting, "built": built, "questions": times}


def memory() -> float:
    """Return the memory that the process has now, in MB; where the system does not tell, the most it has had."""
    told = Path("/proc/self/statm")
    if told.exists():
        return int(told.read_text().split()[1]) * resource.getpagesize() / 2**20
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def shown(found: dict[str, Any]) -> None:
    """Print what was measured at a size."""
    built = ", ".join(
        f"{engine} {each['seconds']:.1f} s and {each['megabytes']:.0f} MB"
        for engine, each in found["built"].items()
    )
    print(f"\n{found['entries']} entries, {found['setting']} setting. Built: {built}.")
    for clock, words in (("cpu", "milliseconds of CPU"), ("wall", "milliseconds by the clock")):
        print(f"\n{words + ' (first call)':<34}" + "".join(f"{engine:>20}" for engine in ENGINES))
        for name, times in found["questions"].items():
            own = times["Elenchus"][clock]
            others = (times[engine][clock] for engine in ENGINES[1:])
            cells = [
                f"{own:.2f} ({times['Elenchus']['first']:.0f})",
                *(f"{each:.2f} {each / own:>6.1f}×" for each in others),
            ]
            print(f"{name:<34}" + "".join(f"{cell:>20}" for cell in cells))


def grown(all_found: list[dict[str, Any]]) -> None:
    """Print by which power of the size the time of each question grows from the smallest to the largest."""
    small, large = all_found[0], all_found[-1]
    print(f"\n{small['setting']} setting")
    factor = math.log(large["entries"] / small["entries"])
    print(
        f"\n{'growth from ' + str(small['entries']) + ' to ' + str(large['entries']):<34}"
        + "".join(f"{engine:>20}" for engine in ENGINES)
    )
    for name in small["questions"]:
        ratios = (
            large["questions"][name][each]["cpu"] / small["questions"][name][each]["cpu"] for each in ENGINES
        )
        print(f"{name:<34}" + "".join(f"{math.log(ratio) / factor:>20.2f}" for ratio in ratios))


def main() -> None:
    """Measure at each size, and tell."""
    reader = argparse.ArgumentParser(description="Ask the same questions of five engines.")
    reader.add_argument("--sizes", default="10000", help="numbers of entries, with commas between them")
    reader.add_argument("--runs", type=int, default=7, help="calls that are counted of each question")
    reader.add_argument(
        "--setting", choices=("usual", "tuned", "both"), default="both", help="how the others are set up"
    )
    reader.add_argument("--json", type=Path, help="a file for the figures")
    given = reader.parse_args()
    sizes = [int(size) for size in given.sizes.split(",")]
    if min(sizes) < FEWEST:
        sys.exit(f"{min(sizes)} entries have no page 100: take {FEWEST} or more.")
    print(
        f"Medians of {given.runs} calls, Python {sys.version.split()[0]}, NumPy {np.__version__}, SQLite {sqlite3.sqlite_version}, "
        f"DuckDB {duckdb.__version__}, pandas {pd.__version__}, Polars {pl.__version__}"
    )
    all_found = []
    for size in sizes:
        rows = entries(size)
        tables = Tables(rows)
        for setting in SETTINGS if given.setting == "both" else (given.setting,):
            all_found.append(measured(rows, tables, given.runs, setting))
            shown(all_found[-1])
            gc.collect()
    for setting in SETTINGS:
        of_setting = [found for found in all_found if found["setting"] == setting]
        if len(of_setting) > 1:
            grown(of_setting)
    if given.json:
        given.json.write_text(json.dumps(all_found, indent=1), encoding="utf-8")


if __name__ == "__main__":
    main()
