"""The reference site in every format that content is read from."""

from __future__ import annotations

import csv
import json
import shutil
import sqlite3
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

import elenchus
from conftest import HERE

KINDS = ("sighting", "report", "guide", "outing")
PLAIN = ("slug", "title", "date", "status", "pinned", "individuals", "reliability", "starts", "body")
LISTS = ("habitat", "species")


def rows() -> list[dict[str, Any]]:
    """Return the entries of the reference site as rows: texts, lists of texts, None."""
    site = elenchus.open_site(HERE / "reference", index=False)
    found = []
    for name in site.dataset.entries.ids:
        record = site.content.record(name)
        values = {key: raw.value for key, raw in record.values.items()}
        for key in LISTS:
            value = values.get(key)
            values[key] = [value] if isinstance(value, str) else value or []
        found.append({"id": name, "kind": record.kind, "slug": record.slug, **values})
    return found


def write(folder: Path, name: str) -> Path:
    """Return a copy of the reference site whose content is in one of the formats."""
    shutil.copytree(HERE / "reference", folder)
    text = (folder / "elenchus.toml").read_text(encoding="utf-8")
    source = FORMATS[name](folder, rows())
    if name != "markdown":
        shutil.rmtree(folder / "notebook")
    (folder / "elenchus.toml").write_text(
        text.replace('[sources.notebook]\nread = "markdown"\npath = "notebook"\n', source), encoding="utf-8"
    )
    return folder


def _markdown(_folder: Path, _rows: list[dict[str, Any]]) -> str:
    return '[sources.notebook]\nread = "markdown"\npath = "notebook"\n'


def _front(row: dict[str, Any]) -> str:
    """Return a row as front matter in JSON, with what the name of its file does not say."""
    values = {key: value for key, value in row.items() if key not in ("kind", "slug", "body") and value}
    return f"{json.dumps(values, ensure_ascii=False, indent=1)}\n{row.get('body') or ''}\n"


def _fronts(folder: Path, found: list[dict[str, Any]]) -> str:
    for row in found:
        path = folder / "papers" / row["kind"] / f"{row['slug']}.md"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(_front(row), encoding="utf-8")
    return '[sources.notebook]\nread = "markdown"\npath = "papers"\n'


def _html(folder: Path, found: list[dict[str, Any]]) -> str:
    for row in found:
        metas = "".join(
            f'<meta name="{key}" content="{each}">\n'
            for key, value in row.items()
            if key not in ("kind", "slug", "title", "body") and value
            for each in (value if isinstance(value, list) else [value])
        )
        path = folder / "papers" / row["kind"] / f"{row['slug']}.html"
        path.parent.mkdir(parents=True, exist_ok=True)
        head = f"<!doctype html>\n<html><head><title>{row['title']}</title>\n{metas}</head>"
        path.write_text(f"{head}<body><p>{row.get('body') or ''}</p></body></html>\n", encoding="utf-8")
    return '[sources.notebook]\nread = "html"\npath = "papers"\n'


def _csv(folder: Path, found: list[dict[str, Any]]) -> str:
    with (folder / "all.csv").open("w", encoding="utf-8", newline="") as file:
        writer = csv.writer(file, delimiter=";")
        writer.writerow(["id", "what", *PLAIN, *LISTS])
        for row in found:
            lists = [", ".join(row[key]) for key in LISTS]
            writer.writerow([row["id"], row["kind"], *(row.get(key) or "" for key in PLAIN), *lists])
    return '[sources.notebook]\nread = "csv"\npath = "all.csv"\nkind = "{what}"\n'


def _json(folder: Path, found: list[dict[str, Any]]) -> str:
    document = {"data": {"items": found}}
    (folder / "all.json").write_text(json.dumps(document, indent=2), encoding="utf-8")
    return '[sources.notebook]\nread = "json"\npath = "all.json"\nrecords = "$.data.items"\nkind = "{kind}"\n'


def _jsonl(folder: Path, found: list[dict[str, Any]]) -> str:
    lines = "".join(f"{json.dumps(row, ensure_ascii=False)}\n" for row in found)
    (folder / "all.jsonl").write_text(lines, encoding="utf-8")
    return '[sources.notebook]\nread = "jsonl"\npath = "all.jsonl"\nkind = "{kind}"\n'


# Terms of one taxonomy in a joining table, those of the other in a column; a number among the extra fields.
TABLES = (
    "CREATE TABLE bay_entries (id VARCHAR(20) PRIMARY KEY, kind VARCHAR(20), slug VARCHAR(80), title VARCHAR(200), "
    "date VARCHAR(40), status VARCHAR(20), pinned VARCHAR(5), reliability VARCHAR(20), starts VARCHAR(20), "
    "body TEXT, species VARCHAR(200))",
    "CREATE TABLE bay_habitats (entry VARCHAR(20), habitat INTEGER)",
    "CREATE TABLE bay_habitat_names (id INTEGER PRIMARY KEY, name VARCHAR(40))",
    "CREATE TABLE bay_extras (entry VARCHAR(20), name VARCHAR(40), value VARCHAR(40))",
)
SHAPE = """
read = "database"
{where}
prefix = "bay_"
table = "entries"
kind = "{{kind}}"
[sources.notebook.terms.habitat]
table = "habitats"
entry = "entry"
term = "habitat"
names = "habitat_names"
[sources.notebook.extras]
table = "extras"
entry = "entry"
name = "name"
value = "value"
"""


def statements(found: list[dict[str, Any]], mark: str = "?") -> Iterable[tuple[str, list[Any]]]:
    """Yield what fills a database with rows, with the values of the marks in it."""
    for table in TABLES:
        yield table, []
    columns = ["id", "kind", *(name for name in PLAIN if name != "individuals")]
    habitats = sorted({each for row in found for each in row["habitat"]})
    for number, name in enumerate(habitats):
        yield f"INSERT INTO bay_habitat_names VALUES ({mark}, {mark})", [number, name]
    for row in found:
        values = [*(row.get(name) for name in columns), ", ".join(row["species"])]
        names = ", ".join([*columns, "species"])
        yield f"INSERT INTO bay_entries ({names}) VALUES ({', '.join([mark] * len(values))})", values
        for name in row["habitat"]:
            yield f"INSERT INTO bay_habitats VALUES ({mark}, {mark})", [row["id"], habitats.index(name)]
        if row.get("individuals"):
            extra = [row["id"], "individuals", row["individuals"]]
            yield f"INSERT INTO bay_extras VALUES ({mark}, {mark}, {mark})", extra


def _sqlite(folder: Path, found: list[dict[str, Any]]) -> str:
    with sqlite3.connect(folder / "all.db") as database:
        for sql, values in statements(found):
            database.execute(sql, values)
    database.close()
    return "[sources.notebook]" + SHAPE.format(where='path = "all.db"')


FORMATS: dict[str, Callable[[Path, list[dict[str, Any]]], str]] = {
    "markdown": _markdown,
    "front matter in JSON": _fronts,
    "html": _html,
    "csv": _csv,
    "json": _json,
    "jsonl": _jsonl,
    "sqlite": _sqlite,
}
