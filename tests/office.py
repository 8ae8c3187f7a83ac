"""A database as programs that run websites keep one: types, words of several sorts, more fields, people.

The same rows for SQLite, PostgreSQL and MariaDB, with what is odd in such databases: dates of zero, no title,
no status, entities in titles, long texts, secrets beside what is public, tables of the program's own.
"""

from __future__ import annotations

import random
from datetime import datetime, timedelta
from typing import Any, NamedTuple

TYPES = ("news", "guide", "sighting")
STATES = ("published", "draft", "private")
TOPICS = ("Ice", "Sea birds", "Fish &amp; Chips", "Weather", "Boats", "Plants")
PLACES = ("Skerry Bay", "North Quay", "Old Mole", "Seal Rock")
PEOPLE = ("Ada Fell", "Bo Strand", "Cato Mire", "Dina Holm")
ZERO = "0000-00-00 00:00:00"
FIRST = datetime(2020, 1, 1, 0, 30)  # noqa: DTZ001 - as the tables have times, without a zone

_KEY = {"sqlite": "INTEGER PRIMARY KEY", "postgresql": "SERIAL PRIMARY KEY", "mariadb": "INT AUTO_INCREMENT PRIMARY KEY"}  # fmt: skip
_TIME = {"sqlite": "TEXT", "postgresql": "TIMESTAMP", "mariadb": "DATETIME"}
_LATIN = {"mariadb": " CHARACTER SET latin1"}
SCHEMA = """
CREATE TABLE office_person (id {key}, login VARCHAR(40), shown_as VARCHAR(80), email VARCHAR(80), password_hash VARCHAR(80), created {time})
CREATE TABLE office_item (id {key}, type VARCHAR(20), state VARCHAR(20), title VARCHAR(255), slug VARCHAR(120), body {long}, author_id INTEGER, parent_id INTEGER, created_at {time}, date {time}, changed_at {time}, size INTEGER)
CREATE TABLE office_word (id {key}, vocabulary VARCHAR(20), name VARCHAR(80), slug VARCHAR(80), parent_id INTEGER){latin}
CREATE TABLE office_item_word (item_id INTEGER, word_id INTEGER, PRIMARY KEY (item_id, word_id))
CREATE TABLE office_detail (id {key}, item_id INTEGER, name VARCHAR(40), value {long})
CREATE TABLE office_remark (id {key}, item_id INTEGER, writer VARCHAR(40), email VARCHAR(80), ip VARCHAR(40), words TEXT, written_at {time})
CREATE TABLE office_session (token VARCHAR(80) PRIMARY KEY, person_id INTEGER, data TEXT)
CREATE TABLE office_option (name VARCHAR(80) PRIMARY KEY, value TEXT)
CREATE TABLE office_log (id {key}, what TEXT, at_time {time})
CREATE VIEW office_newest AS SELECT id, title, date FROM office_item WHERE state = 'published'
"""


class Office(NamedTuple):
    """The rows of each table."""

    person: list[tuple[Any, ...]]
    item: list[tuple[Any, ...]]
    word: list[tuple[Any, ...]]
    item_word: list[tuple[Any, ...]]
    detail: list[tuple[Any, ...]]
    remark: list[tuple[Any, ...]]
    session: list[tuple[Any, ...]]
    option: list[tuple[Any, ...]]
    log: list[tuple[Any, ...]]


def office(items: int, seed: int = 1) -> Office:
    """Return the rows of an office; every tenth item or so is odd in one way or another."""
    draw = random.Random(seed)  # noqa: S311 - of made-up rows
    found = Office([], [], [], [], [], [], [], [], [])
    for at, name in enumerate(PEOPLE, 1):
        login = name.split()[0].lower()
        secret = f"$2y$10${draw.randbytes(24).hex()}"
        found.person.append((at, login, name, f"{login}@skerry.example", secret, _text(FIRST)))
    for sort, names in (("topic", TOPICS), ("place", PLACES)):
        for name in names:
            parent = 2 if name == "Plants" else 10 if name == "Seal Rock" else None
            slug = name.replace("&amp;", "and").lower().replace(" ", "-")
            found.word.append((len(found.word) + 1, sort, name, slug, parent))
    for key in range(1, items + 1):
        found.item.append(_item(key, draw))
        found.item_word.extend((key, word) for word in draw.sample(range(1, 11), draw.randrange(1, 5)))
        details = [("weather", draw.choice(("calm", "storm"))), ("height", str(draw.randrange(900) / 10))]
        details += [("gallery", f"p{draw.randrange(99)}.jpg") for _ in range(draw.randrange(3))]
        details += [("_lock", f"{key}:{draw.randrange(4)}"), ("_edit_token", draw.randbytes(16).hex())]
        for name, value in draw.sample(details, draw.randrange(2, len(details) + 1)):
            found.detail.append((len(found.detail) + 1, key, name, value))
        if key % 3 == 0:
            at = len(found.remark) + 1
            found.remark.append((at, key, "Ev", "ev@mail.example", "192.0.2.7", "Well seen!", _text(FIRST)))
    found.session.extend((draw.randbytes(16).hex(), at % 4 + 1, "…") for at in range(20))
    found.option.extend((f"option_{at}", str(at)) for at in range(30))
    found.log.extend((at, "signed in", _text(FIRST)) for at in range(1, 50))
    return found


def _item(key: int, draw: random.Random) -> tuple[Any, ...]:
    """Return the row of an item."""
    kind = draw.choices(TYPES, (5, 3, 2))[0]
    state: str | None = draw.choices(STATES, (8, 1, 1))[0]
    title: str | None = f"{kind.capitalize()} {key} of the bay"
    shown = FIRST + timedelta(hours=draw.randrange(24 * 365 * 6), minutes=draw.choice((0, 15, 45)))
    date: str | None = _text(shown)
    body = f"<p>What was seen on day {key}.</p>"
    match draw.randrange(40):
        case 0:
            title = None
        case 1:
            title = f"Wind &amp; weather, part {key}"
        case 2:
            date = ZERO
        case 3:
            date = None
        case 4:
            state = None
        case 5:
            body = "<p>" + "A long report of the tide. " * 2_000 + "</p>"
    changed, size = _text(shown + timedelta(days=1)), draw.choice((None, draw.randrange(500)))
    parent = draw.randrange(1, key) if kind == "guide" and key > 20 and draw.random() < 0.2 else None
    author = draw.randrange(1, len(PEOPLE) + 1)
    slug = f"{kind}-{key}"
    return (key, kind, state, title, slug, body, author, parent, _text(shown), date, changed, size)


def _text(moment: datetime) -> str:
    return moment.isoformat(" ", "seconds")


def fill(connection: Any, server: str, rows: Office) -> None:
    """Create the tables in a database and fill them."""
    cursor = connection.cursor()
    if server == "mariadb":
        cursor.execute("SET sql_mode = ''")  # which takes dates of zero
    long = "LONGTEXT" if server == "mariadb" else "TEXT"
    for line in SCHEMA.strip().splitlines():
        cursor.execute(
            line.format(key=_KEY[server], time=_TIME[server], long=long, latin=_LATIN.get(server, ""))
        )
    mark = "?" if server == "sqlite" else "%s"
    for name, table in rows._asdict().items():
        values = [
            [None if server == "postgresql" and value == ZERO else value for value in row] for row in table
        ]
        marks = ", ".join([mark] * len(values[0]))
        cursor.executemany(f"INSERT INTO office_{name} VALUES ({marks})", values)
    if server == "postgresql":
        for name in ("person", "item", "word", "detail", "remark", "log"):
            table = f"office_{name}"
            cursor.execute(f"SELECT setval(pg_get_serial_sequence('{table}', 'id'), MAX(id)) FROM {table}")
    connection.commit()
