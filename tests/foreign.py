"""Content as nobody here would write it: trees of files and tables in the habits of other programs, with accidents."""

from __future__ import annotations

import csv
import io
import json
import random
from collections.abc import Callable
from pathlib import Path
from typing import Any

__all__ = ["HELD", "write"]

WORDS = [
    "kelp",
    "gull",
    "tide",
    "fog",
    "rope",
    "lamp",
    "quay",
    "salt",
    "ice",
    "sound",
    "ebb",
    "flood",
    "neap",
    "bore",
    "slack",
    "wrack",
]
HELD = "HELD-BACK"  # which stands in every entry that says draft, private or hidden
ACCIDENTS: tuple[Any, ...] = (
    "", None, "n/a", "-", "x" * 300, "🦭 seals", "...", "con", "../up", '"', "Trailing.", "  ", "<b>bold</b>",
    "a/b", "C:\\x", "0", "1,5", "30.2.2024", "null", "=1+1", "é\u0301", "word, word", "#", "[x]", "{y}", "a: b",
)  # fmt: skip
NAMES = (
    "Name", "title", "Titel", "name", "Label", "headline",
)  # fmt: skip
COLUMNS: dict[str, Callable[[random.Random], Any]] = {
    "id": lambda draw: draw.randrange(10_000),
    "code": lambda draw: f"{draw.choice(WORDS)[:2].upper()}-{draw.randrange(1000):03}",
    "Price": lambda draw: draw.choice((f"€{draw.randrange(1, 9000) / 100:.2f}", f"€{draw.randrange(90)}")),
    "Preis netto": lambda draw: f"{draw.randrange(1, 9)}.{draw.randrange(100, 999)},{draw.randrange(10, 99)} €",
    "date": lambda draw: f"20{draw.randrange(10, 26)}-0{draw.randrange(1, 9)}-1{draw.randrange(9)}",
    "created at": lambda draw: f"{draw.randrange(1, 28)}.{draw.randrange(1, 12)}.20{draw.randrange(10, 25)}",
    "when": lambda draw: f"{draw.choice(('Jan', 'May', 'Nov'))} {draw.randrange(10, 28)} 20{draw.randrange(10, 25)}",
    "tags": lambda draw: "; ".join(draw.sample(WORDS, draw.randrange(1, 3))),
    "genre": lambda draw: draw.choice(WORDS[:5]),
    "type": lambda draw: draw.choice(("post", "event", "odd one")),
    "kind": lambda draw: draw.choice(("a", "b")),
    "status": lambda draw: draw.choice(("officially-assigned", "user-assigned")),
    "rating": lambda draw: draw.choice(("★★★", "★★★★★", "★")),
    "where": lambda draw: draw.choice(WORDS),
    "order by": lambda draw: draw.randrange(9),
    "Größe": lambda draw: f"{draw.randrange(1, 99)} cm",
    "parent": lambda draw: draw.choice(WORDS),
    "address": lambda draw: f"{draw.randrange(1, 99)} {draw.choice(WORDS)} Street",
    "source": lambda draw: draw.choice(WORDS),
    "a.b": lambda draw: draw.randrange(5),
    "": lambda draw: draw.choice(("", "x")),
    "con": lambda draw: draw.choice(WORDS),
    "text": lambda draw: " ".join(draw.choices(WORDS, k=30)),
    "slug": lambda draw: draw.choice(WORDS),
}  # fmt: skip
HOLDING = (
    ("status", ("draft", "published")),
    ("hidden", ("yes", "no")),
    ("draft", (True, False)),
    ("state", ("trash", "live")),
)
STEMS = (
    "con",
    "a b",
    "Ünder_score",
    "2024-03-05-frost",
    "x" * 90,
    "UPPER",
    "dots.in.name",
    "nul",
    "one",
    "7",
)


def records(draw: random.Random, count: int) -> list[dict[str, Any]]:
    """Return entries of one shape with some accidents; each says whether it is held back."""
    names = draw.sample(sorted(COLUMNS), draw.randrange(2, 8))
    title = draw.choice((*NAMES, ""))
    flag, (hold, show) = draw.choice(HOLDING)
    if flag in names or draw.random() < 0.4:
        flag = ""
    found = []
    for _ in range(count):
        row = {name: COLUMNS[name](draw) for name in names}
        if title:
            row[title] = f"{draw.choice(WORDS)} {draw.choice(WORDS)}".title()
        for name in row:
            if draw.random() < 0.05 and name not in ("status", "kind", "type"):
                row[name] = draw.choice(ACCIDENTS)
        if flag:
            is_held = draw.random() < 0.3
            row[flag] = hold if is_held else show
            row["remarks"] = f"{HELD if is_held else 'fine'} {' '.join(draw.choices(WORDS, k=9))}."
        found.append(row)
    return found


def table(draw: random.Random, folder: Path, name: str) -> int:
    """Write a table; return how many rows it has that are not blank."""
    rows = records(draw, draw.randrange(3, 30))
    text = io.StringIO()
    writer = csv.writer(text, delimiter=draw.choice(",;\t"), lineterminator=draw.choice(("\n", "\r\n")))
    writer.writerow(rows[0])
    told = [["" if value is None else str(value) for value in row.values()] for row in rows]
    writer.writerows(told)
    ending = ".tsv" if "\t" in text.getvalue().partition("\n")[0] else ".csv"
    encoding = draw.choice(("utf-8", "utf-8-sig"))
    (folder / f"{name}{ending}").write_bytes(text.getvalue().encode(encoding))
    return sum(any(row) for row in told)


def document(draw: random.Random, folder: Path, name: str) -> int:
    """Write a document of JSON: a list, an object of objects, or records deep inside; or JSON Lines."""
    rows = records(draw, draw.randrange(3, 20))
    shape = draw.randrange(4)
    if shape == 3:
        lines = "".join(json.dumps(row, ensure_ascii=False) + "\n" for row in rows)
        (folder / f"{name}.jsonl").write_text(lines, encoding="utf-8")
        return len(rows)
    value: Any = rows
    if shape == 1:
        value = {f"{draw.choice(WORDS)} {number}": row for number, row in enumerate(rows)}
    elif shape == 2:
        value = {"version": 2, "data": {"items": rows, "other": [1, 2]}}
    (folder / f"{name}.json").write_text(json.dumps(value, ensure_ascii=False), encoding="utf-8")
    return len(rows)


def named_records(
    draw: random.Random, folder: Path, name: str
) -> tuple[Path, list[tuple[str, dict[str, Any]]]]:
    """Return a new folder, and records with the names of the files that they are to stand in."""
    inside = folder / name
    inside.mkdir()
    return inside, list(zip(STEMS, records(draw, draw.randrange(3, 9)), strict=False))


def documents(draw: random.Random, folder: Path, name: str) -> int:
    """Write a folder of documents of one shape, each with a list inside, and a file of settings."""
    inside, found = named_records(draw, folder, name)
    for stem, row in found:
        whole = {**row, "parts": [{"text": word} for word in draw.sample(WORDS, 3)], "sizes": [1, 2]}
        (inside / f"{stem}.json").write_text(json.dumps(whole, ensure_ascii=False), encoding="utf-8")
    (inside / "settings.json").write_text('{"theme": "dark", "pageSize": 20, "zoom": 3, "unit": "m"}')
    return len(found)


def texts(draw: random.Random, folder: Path, name: str) -> int:
    """Write a folder of Markdown with front matter, or none."""
    inside, found = named_records(draw, folder, name)
    for stem, row in found:
        body = f"{row.pop('text', '')}\n\nSee [[{draw.choice(WORDS)}]] and [it]({draw.choice(STEMS)}.md).\n"
        front = "".join(f"{json.dumps(key)}: {json.dumps(value)}\n" for key, value in row.items() if key)
        has_front = HELD in str(row) or draw.random() < 0.9
        (inside / f"{stem}.md").write_text(
            f"---\n{front}---\n{body}" if has_front else body, encoding="utf-8"
        )
    return len(found)


def pages(draw: random.Random, folder: Path, name: str) -> int:
    """Write a saved site of HTML."""
    inside = folder / name
    inside.mkdir()
    count = draw.randrange(2, 6)
    for stem in STEMS[:count]:
        menu = "".join(f'<a href="{other}.html">{other}</a>' for other in STEMS[:count])
        text = (
            f"<title>{stem}</title><nav>{menu}</nav><h1>{draw.choice(WORDS)}</h1><p>{draw.choice(WORDS)}</p>"
        )
        (inside / f"{stem}.html").write_text(text, encoding="utf-8")
    return count


def write(folder: Path, seed: int) -> int:
    """Write a tree; return how many records it has."""
    draw = random.Random(seed)  # noqa: S311 - nothing here is secret
    names = draw.sample(
        ("things", "Old Stuff", "2024", "data", "books", "export", "über"), draw.randrange(1, 4)
    )
    return sum(
        draw.choice((table, table, document, documents, texts, pages))(draw, folder, name) for name in names
    )
