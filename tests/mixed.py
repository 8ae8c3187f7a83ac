"""Some hundred files in the mixed habits of many hands, and what each of them is meant to say."""

from __future__ import annotations

import json
import random
from datetime import date, timedelta
from pathlib import Path
from typing import Any, NamedTuple

MONTHS = [
    "January",
    "February",
    "March",
    "April",
    "May",
    "June",
    "July",
    "August",
    "September",
    "October",
    "November",
    "December",
]
SECTIONS = ("travel", "kitchen", "boats")
TERMS = ("bread", "train", "seal watching", "tides", "🍜", "C++")
PLACES = ("travel/europe", "travel/asia", "home")
PEOPLE = ("Anna-Lena Krüger", "Odd Holm", "Mara Lind")


class Meant(NamedTuple):
    """What a file is meant to be: its title, day, terms, whether everybody may see it."""

    title: str
    day: date
    tags: tuple[str, ...]
    category: str
    author: str
    is_public: bool
    rating: float | None
    is_odd: bool


def write(folder: Path, count: int = 300, seed: int = 5) -> dict[str, Meant]:
    """Write the files, and return what each is meant to be, by its path."""
    draw = random.Random(seed)  # noqa: S311 - nothing here is secret
    found: dict[str, Meant] = {}
    for number in range(count):
        day = date(2022, 1, 1) + timedelta(days=draw.randrange(1400))
        title = f"{draw.choice(('Slow', 'Long', 'Cold', 'Étang', 'Wet'))} {draw.choice(('walk', 'boat', 'soup', 'shore'))} {number}"
        hidden = draw.random() < 0.2
        rating = draw.choice((None, 4, 4.5, 3))
        is_odd = draw.random() < 0.03  # and says 4.5/5
        meant = Meant(
            title,
            day,
            tuple(draw.sample(TERMS, draw.randrange(4))),
            draw.choice(PLACES),
            draw.choice(PEOPLE),
            not hidden,
            4.5 if is_odd else rating,
            is_odd,
        )
        path, text = _file(draw, number, meant)
        target = folder / path
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(_bytes(draw, text))
        found[path] = meant
    return found


def _file(draw: random.Random, number: int, meant: Meant) -> tuple[str, str]:
    """Return where a file stands, and its text."""
    style = draw.choice(("yaml", "yaml", "toml", "json", "none"))
    section = draw.choice(SECTIONS)
    stem = draw.choice(("same-name", f"note-{number}"))
    if style == "none":
        meant_day = f"{meant.day.isoformat()}-{number}" if meant.is_public else ""
        if not meant_day:
            style = "yaml"
        else:
            return f"{meant.day.year}/{section}/{meant_day}.md", f"# {meant.title}\n\nWords of {number}.\n"
    name = draw.choice((f"{stem}-{number}.md", f"{number}/{stem}.md", f"{number}-folder/index.md"))
    values: dict[str, Any] = {
        "title": meant.title,
        "date": _date(draw, meant.day, style),
        "author": meant.author,
    }
    if meant.tags:
        values["tags"] = ", ".join(meant.tags) if draw.random() < 0.5 else list(meant.tags)
    values["category"] = meant.category
    if not meant.is_public:
        values["draft"] = draw.choice(("true", "yes", "True", "on", "1"))
    elif draw.random() < 0.3:
        values["draft"] = draw.choice(("false", "no", "off"))
    if meant.rating is not None and not meant.is_odd:
        values["rating"] = draw.choice((f"{meant.rating:g}", f"{meant.rating:g}", f'"{meant.rating:g}"'))
    if meant.is_odd:
        values["rating"] = "4.5/5"
    if number % 3 == 0:
        values["price"] = draw.choice(("€12", "12.50 EUR", "free"))
    body = f"Words of {number}.\n"
    if style == "json":
        plain = {key: value.strip('"') if isinstance(value, str) else value for key, value in values.items()}
        return (
            f"{meant.day.year}/{section}/{name}",
            f"{json.dumps(plain, ensure_ascii=False, indent=2)}\n{body}",
        )
    fence, sign = ("---", ":") if style == "yaml" else ("+++", " =")
    lines = [f"{key}{sign} {_value(value, style, key)}" for key, value in values.items()]
    return f"{meant.day.year}/{section}/{name}", "\n".join([fence, *lines, fence, body])


def _value(value: Any, style: str, key: str) -> str:
    """Return a value as front matter has it."""
    if isinstance(value, list):
        return f"[{', '.join(json.dumps(each, ensure_ascii=False) for each in value)}]"
    if style == "toml" and not (key == "draft" and value in ("true", "false")):
        return json.dumps(value.strip('"'), ensure_ascii=False)
    return json.dumps(value, ensure_ascii=False) if ":" in value or key == "title" else value


def _date(draw: random.Random, day: date, style: str) -> str:
    """Return a day in one of five spellings, of which none could be another day."""
    spellings = [
        day.isoformat(),
        f"{MONTHS[day.month - 1]} {day.day}, {day.year}",
        f"{day.day} {MONTHS[day.month - 1]} {day.year}",
        f"{day.day}.{day.month}.{day.year}",
        f"{day.isoformat()}T10:00:00Z",
    ]
    del style
    return draw.choice(spellings)


def _bytes(draw: random.Random, text: str) -> bytes:
    """Return a text as one of several editors saves it."""
    how = draw.choice(("plain", "plain", "plain", "windows", "mark", "wide"))
    if how == "windows":
        return text.replace("\n", "\r\n").encode()
    return text.encode("utf-8-sig" if how == "mark" else "utf-16" if how == "wide" else "utf-8")
