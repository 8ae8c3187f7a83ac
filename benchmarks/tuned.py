"""The opponents of Elenchus once more, each tuned for the very questions that are asked.

Rows stand newest first; what a question selects has a table, a frame or a list of its own, with an index that
covers it; titles are put in order beforehand; SQLite finds parts of titles by an index of three letters each.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from datetime import datetime
from typing import Any

import duckdb
import numpy as np
import pandas as pd
import polars as pl
from made_up import HABITATS

Answer = tuple[list[Any], int]
Asked = dict[str, Callable[[], Answer]]
ROOT = 3  # of the subtree that is asked for
NAMES = sorted(HABITATS)


class Prepared:
    """The entries newest first, and what the questions select of them."""

    def __init__(self, tables: Any) -> None:
        frame = tables.entry.sort_values(["moment", "id"], ascending=[False, True]).reset_index(drop=True)
        self.entry = frame.assign(
            place=np.arange(len(frame)),
            month=frame["moment"].dt.year * 100 + frame["moment"].dt.month,
            year=frame["moment"].dt.year,
        )
        by_title = self.entry.sort_values(["title", "id"])["place"].to_numpy()
        ranks = np.empty(len(frame), dtype=np.int64)
        ranks[by_title] = np.arange(len(frame))
        self.entry["title_rank"] = ranks
        self.species = self.with_rows(tables.species)
        self.of_species = self.species[self.species["kind"] == 1]
        roots = pd.Series([int(name[1]) for name in NAMES])
        habitat = tables.habitat.assign(term=roots[tables.habitat["term"]].to_numpy()).drop_duplicates()
        found = self.with_rows(habitat)
        self.of_root = found[found["kind"] == 1].rename(columns={"term": "root"})
        self.titles = self.entry[self.entry["kind"] == 1].sort_values("title_rank")
        self.term = tables.term
        self.anchor = int(self.entry.loc[self.entry["num"] == 1, "place"].iloc[0])

    def with_rows(self, having: pd.DataFrame) -> pd.DataFrame:
        """Return the pairs of terms and entries with all that the entries have, by term, newest first."""
        return having.merge(self.entry, on="num").sort_values(["term", "place"]).reset_index(drop=True)


TABLES = """
create table entry (place integer primary key, id text, kind int, title text, month int, year int);
create table of_species (term int, place int, id text, individuals int{species_key});
create table species (term int, place int, id text{species_key});
create table of_root (root int, place int, id text, moment int, individuals int, certainty int);
create table titles (rank integer primary key, id text);
create table root_titles (root int, rank int, id text{titles_key});
create table term (number int, name text);
"""
INDEXES = """
create index by_month on entry (kind, month);
create index by_year on entry (kind, year);
create index by_count on of_species (individuals, term, place);
create index of_terms on species (place, term);
create index by_days on of_root (root, moment, certainty, individuals, id);
create index by_most on of_root (root, individuals{down}, id, certainty);
"""
SUBTREE = "from of_root where root = 3 and individuals >= 100 and certainty >= 1"
RELATED = "from species where term in (select term from species where place = {anchor}) and place <> {anchor}"
NAMED = "from of_species where term in (select number from term where name like '%s01%')"
QUESTIONS = {
    "kind and term, newest": (
        "select id from of_species where term = 7 order by place limit 20",
        "select count(*) from of_species where term = 7",
    ),
    "subtree, two fields, 90 days": (
        f"select id {SUBTREE} and moment >= {{first}} and moment < {{end}} order by individuals desc, id limit 20",
        f"select count(*) {SUBTREE} and moment >= {{first}} and moment < {{end}}",
    ),
    "the same without the days": (
        f"select id {SUBTREE} order by individuals desc, id limit 20",
        f"select count(*) {SUBTREE}",
    ),
    "page 100 by title": (
        "select id from titles where rank >= 1980 and rank < 2000 order by rank",
        "select count(*) from titles",
    ),
    "page 10 of a subtree by title": (
        "select id from root_titles where root = 3 and rank >= 180 and rank < 200 order by rank",
        "select count(*) from root_titles where root = 3",
    ),
    "substring in the title": (
        "select id from entry where {contains} order by place limit 20",
        "select count(*) from entry where {contains}",
    ),
    "terms whose name contains": (
        f"select id from (select distinct place, id {NAMED}) as found order by place limit 20",
        f"select count(distinct place) {NAMED}",
    ),
    "related by species, newest": (
        f"select id from (select distinct place, id {RELATED}) as found order by place limit 10",
        f"select count(distinct place) {RELATED}",
    ),
    "either of two terms": (
        "select id from (select distinct place, id from of_species where term in (7, 250)) as found "
        "order by place limit 20",
        "select count(distinct place) from of_species where term in (7, 250)",
    ),
    "months with counts": (
        "select count(*) from entry where kind = 1 group by month order by month desc",
        "select count(*) from entry where kind = 1",
    ),
    "terms with counts": (
        "select count(*) from of_species where individuals >= 250 group by term order by term",
        "select count(distinct place) from of_species where individuals >= 250",
    ),
    "kinds and years with counts": (
        "select count(*) from entry group by kind, year order by kind, year desc",
        "select count(*) from entry",
    ),
}


def in_sql(
    ready: Prepared,
    run: Callable[[str], list[Any]],
    fill: Callable[[str, pd.DataFrame], None],
    words: dict[str, Any],
) -> Asked:
    """Return the questions as they are asked in SQL of tables that ``fill`` fills."""
    root_titles = ready.of_root.sort_values(["root", "title_rank"])
    root_titles = root_titles.assign(rank=root_titles.groupby("root").cumcount())
    seconds = ready.of_root.assign(moment=ready.of_root["moment"].astype("int64"))
    fill("entry", ready.entry[["place", "id", "kind", "title", "month", "year"]])
    fill("of_species", ready.of_species[["term", "place", "id", "individuals"]])
    fill("species", ready.species[["term", "place", "id"]])
    fill("of_root", seconds[["root", "place", "id", "moment", "individuals", "certainty"]])
    fill("titles", ready.titles.assign(rank=np.arange(len(ready.titles)))[["rank", "id"]])
    fill("root_titles", root_titles[["root", "rank", "id"]])
    fill("term", ready.term)
    for statement in filter(str.strip, INDEXES.format(**words).split(";")):
        run(statement)
    run("analyze")
    texts = {
        name: [text.format(anchor=ready.anchor, **words) for text in each] for name, each in QUESTIONS.items()
    }
    return {
        name: lambda both=both: ([row[0] for row in run(both[0])], run(both[1])[0][0])
        for name, both in texts.items()
    }


def of_sqlite(ready: Prepared, first: datetime, end: datetime) -> Asked:
    """Return the questions as they are asked of SQLite."""
    link = sqlite3.connect(":memory:")
    keys = {
        "species_key": ", primary key (term, place)) without rowid",
        "titles_key": ", primary key (root, rank)) without rowid",
    }
    link.executescript(TABLES.format(**keys).replace("without rowid)", "without rowid"))
    link.execute(
        "create virtual table grams using fts5 (title, tokenize = 'trigram', content = '', detail = 'full')"
    )

    def fill(name: str, frame: pd.DataFrame) -> None:
        marks = ",".join("?" * len(frame.columns))
        link.executemany(f"insert into {name} values ({marks})", frame.itertuples(index=False, name=None))

    pairs = ready.entry[["place", "title"]].itertuples(index=False, name=None)
    link.executemany("insert into grams (rowid, title) values (?, ?)", pairs)
    contains = "place in (select rowid from grams where title match '\"flock 12\"')"
    words = {
        "contains": contains,
        "down": " desc",
        "first": int(first.timestamp()),
        "end": int(end.timestamp()),
    }
    return in_sql(ready, lambda text: link.execute(text).fetchall(), fill, words)


def of_duckdb(ready: Prepared, first: datetime, end: datetime) -> Asked:
    """Return the questions as they are asked of DuckDB: tables in the order that is asked for."""
    link = duckdb.connect()
    for statement in filter(str.strip, TABLES.format(species_key="", titles_key="").split(";")):
        link.execute(statement)

    def fill(name: str, frame: pd.DataFrame) -> None:
        link.register("given", frame)
        link.execute(f"insert into {name} select * from given")
        link.unregister("given")

    words = {
        "contains": "contains(title, 'flock 12')", "down": "",
        "first": int(first.timestamp()), "end": int(end.timestamp()),
    }  # fmt: skip
    return in_sql(ready, lambda text: link.execute(text).fetchall(), fill, words)


def of_pandas(ready: Prepared, first: datetime, end: datetime) -> Asked:
    """Return the questions as they are asked of pandas: frames and lists made for them."""
    entry, root = (
        ready.entry.astype({"title": "string[pyarrow]"}),
        ready.of_root[ready.of_root["root"] == ROOT],
    )
    places = {term: each.to_numpy() for term, each in ready.of_species.groupby("term")["place"]}
    every = {term: each.to_numpy() for term, each in ready.species.groupby("term")["place"]}
    mine = ready.species["term"][ready.species["place"] == ready.anchor].tolist()
    ids, sightings = entry["id"].to_numpy(), entry["kind"].to_numpy() == 1
    most, titles = (
        root.sort_values(["individuals", "id"], ascending=[False, True]),
        root.sort_values("title_rank"),
    )
    start, stop = (each.replace(tzinfo=None) for each in (first, end))
    months, years = (
        entry["month"].to_numpy(),
        (1 - entry["kind"].to_numpy()) * 10_000 + entry["year"].to_numpy(),
    )
    counted = ready.of_species[["term", "place", "individuals"]]
    term_names = ready.term["name"].astype("string[pyarrow]")

    def many() -> Any:
        return (most["individuals"] >= 100) & (most["certainty"] >= 1)

    def page(found: Any, first: int = 0, size: int = 20) -> Answer:
        return found["id"].iloc[first : first + size].tolist(), len(found)

    def having(terms: list[int], known: dict[int, Any], without: int = -1, size: int = 20) -> Answer:
        found = np.unique(np.concatenate([known[term] for term in terms if term in known]))
        found = found[found != without]
        return ids[found[:size]].tolist(), len(found)

    def named() -> Answer:
        chosen = ready.term["number"][term_names.str.contains("s01", regex=False)]
        return having(chosen.tolist(), places)

    def counts(keys: Any) -> list[int]:
        found = np.bincount(keys)
        return found[found > 0].tolist()  # type: ignore[no-any-return]

    def with_terms() -> Answer:
        found = counted[counted["individuals"].to_numpy() >= 250]
        return counts(found["term"].to_numpy()), int(found["place"].nunique())

    def with_years() -> Answer:
        found = np.bincount(years)
        kinds = [found[10_000:], found[:10_000]]
        return [count for each in kinds for count in each[::-1][each[::-1] > 0].tolist()], len(entry)

    return {
        "kind and term, newest": lambda: having([7], places),
        "subtree, two fields, 90 days": lambda: page(
            most[many() & (most["moment"] >= start) & (most["moment"] < stop)]
        ),
        "the same without the days": lambda: page(most[many()]),
        "page 100 by title": lambda: page(ready.titles, 1980),
        "page 10 of a subtree by title": lambda: page(titles, 180),
        "substring in the title": lambda: page(entry[entry["title"].str.contains("flock 12", regex=False)]),
        "terms whose name contains": named,
        "related by species, newest": lambda: having(mine, every, ready.anchor, 10),
        "either of two terms": lambda: having([7, 250], places),
        "months with counts": lambda: (counts(months[sightings])[::-1], int(sightings.sum())),
        "terms with counts": with_terms,
        "kinds and years with counts": with_years,
    }


def of_polars(ready: Prepared, first: datetime, end: datetime) -> Asked:
    """Return the questions as they are asked of Polars: frames made for them."""
    entry = pl.from_pandas(ready.entry[["place", "id", "kind", "title", "month", "year"]])
    of_species = pl.from_pandas(ready.of_species[["term", "place", "id", "individuals"]])
    by_term = {key[0]: each for key, each in of_species.partition_by("term", as_dict=True).items()}
    species = pl.from_pandas(ready.species[["term", "place", "id"]])
    related = {key[0]: each for key, each in species.partition_by("term", as_dict=True).items()}
    mine = ready.species["term"][ready.species["place"] == ready.anchor].tolist()
    root = pl.from_pandas(ready.of_root[ready.of_root["root"] == ROOT])
    most = root.sort(["individuals", "id"], descending=[True, False])
    many = (pl.col("individuals") >= 100) & (pl.col("certainty") >= 1)
    start, stop = (each.replace(tzinfo=None) for each in (first, end))
    days = (pl.col("moment") >= start) & (pl.col("moment") < stop)
    titles, all_titles = root.sort("title_rank"), pl.from_pandas(ready.titles[["id"]])
    sightings = entry.filter(pl.col("kind") == 1)

    def page(found: pl.DataFrame, first: int = 0, size: int = 20) -> Answer:
        return found["id"][first : first + size].to_list(), len(found)

    def having(terms: list[int], known: dict[Any, pl.DataFrame], without: int = -1, size: int = 20) -> Answer:
        found = pl.concat([known[term] for term in terms if term in known])
        return page(found.filter(pl.col("place") != without).unique("place").sort("place"), size=size)

    def named() -> Answer:
        names = pl.from_pandas(ready.term)
        return having(
            names.filter(pl.col("name").str.contains("s01", literal=True))["number"].to_list(), by_term
        )

    def with_terms() -> Answer:
        found = of_species.filter(pl.col("individuals") >= 250)
        return found.group_by("term").len().sort("term")["len"].to_list(), found["place"].n_unique()

    def with_years() -> Answer:
        counts = entry.group_by("kind", "year").len().sort(["kind", "year"], descending=[False, True])
        return counts["len"].to_list(), len(entry)

    def with_months() -> Answer:
        return sightings.group_by("month").len().sort("month", descending=True)["len"].to_list(), len(
            sightings
        )

    return {
        "kind and term, newest": lambda: page(by_term[7]),
        "subtree, two fields, 90 days": lambda: page(most.filter(many & days)),
        "the same without the days": lambda: page(most.filter(many)),
        "page 100 by title": lambda: page(all_titles, 1980),
        "page 10 of a subtree by title": lambda: page(titles, 180),
        "substring in the title": lambda: page(
            entry.filter(pl.col("title").str.contains("flock 12", literal=True))
        ),
        "terms whose name contains": named,
        "related by species, newest": lambda: having(mine, related, ready.anchor, 10),
        "either of two terms": lambda: having([7, 250], by_term),
        "months with counts": with_months,
        "terms with counts": with_terms,
        "kinds and years with counts": with_years,
    }
