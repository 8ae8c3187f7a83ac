"""A database as programs that run websites keep one: begun, asked, changed, cut off, on three sorts of servers."""

from __future__ import annotations

import csv
import gc
import json
import os
import re
import socket
import sqlite3
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager, suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, NamedTuple
from zoneinfo import ZoneInfo, available_timezones

import pytest

import elenchus
import office
import servers
from conftest import Run, share
from elenchus.asking.query import Query
from elenchus.editing.assignments import read_assignments
from elenchus.editing.changing import content_change
from elenchus.editing.entries import entries_of, entry_changes, with_fresh_rows
from elenchus.editing.terms import TermChange, merged, renamed
from elenchus.editing.undoing import last_change, undone
from elenchus.preview.live import Live

ITEMS = 240
ZONES = sorted(
    {
        *share(sorted(available_timezones() - {"localtime", "Factory"}), 20),
        "Asia/Kathmandu",
        "Australia/Lord_Howe",
    }
)
SERVERS = ("sqlite", "postgresql", "mariadb")


class Base(NamedTuple):
    """A database with an office in it: its address or file, and what connects as its owner."""

    server: str
    where: str
    connect: Callable[[], Any]

    @property
    def source(self) -> str:
        """The lines of a source that say where it is."""
        if self.server == "sqlite":
            return f'path = "{self.where}"\noutside = true'
        return f'url = "{self.where}"\npassword_from = "BAY_PASSWORD"'

    def sql(self, text: str) -> list[tuple[Any, ...]]:
        """Return the rows that a query gives its owner, or nothing for a change."""
        with closing(self.connect()) as owner:
            cursor = owner.cursor()
            cursor.execute(text)
            found = [tuple(row) for row in cursor.fetchall()] if cursor.description else []
            owner.commit()
            return found

    def dump(self) -> dict[str, list[str]]:
        """Return all rows of all tables, in an order of their own."""
        names = [line.split()[2] for line in office.SCHEMA.strip().splitlines() if "TABLE" in line]
        return {name: sorted(map(repr, self.sql(f"SELECT * FROM {name}"))) for name in names}

    def start(self, folder: Path, run: Run, **more: str) -> None:
        """Begin a site for it, whose rows may be changed."""
        place = [self.where] if self.server == "sqlite" else [self.where, "--password-from", "BAY_PASSWORD"]
        done = run("start", *place, "--into", str(folder), BAY_PASSWORD=servers.PASSWORD, **more)
        assert done.returncode == 0, done.stderr
        site = folder / "elenchus.toml"
        text = site.read_text(encoding="utf-8")
        parts = re.split(r"(?m)^(?=\[)", text)
        parts = [part.replace('key = "id"\n', 'key = "id"\nwritable = true\n') if ".terms." not in part else part for part in parts]  # fmt: skip
        site.write_text("".join(parts), encoding="utf-8")


def filled(server: str, connect: Callable[[], Any]) -> None:
    """Fill a database with an office."""
    with closing(connect()) as owner:
        office.fill(owner, server, office.office(ITEMS))


@pytest.fixture(scope="session", params=SERVERS)
def base(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Base]:
    server: str = request.param
    folder = tmp_path_factory.mktemp("office")
    if server == "sqlite":
        path = folder / "office.sqlite"
        filled(server, lambda: sqlite3.connect(path))
        yield Base(server, str(path), lambda: sqlite3.connect(path))
        return
    with getattr(servers, server)(servers.home(tmp_path_factory)) as (url, connect):
        filled(server, connect)
        with closing(connect()) as owner:
            cursor = owner.cursor()
            if server == "postgresql":
                cursor.execute("GRANT ALL ON ALL TABLES IN SCHEMA public TO reader")
                cursor.execute("GRANT ALL ON ALL SEQUENCES IN SCHEMA public TO reader")
            else:
                cursor.execute("GRANT ALL ON bay.* TO reader@'127.0.0.1'")
        os.environ["BAY_PASSWORD"] = servers.PASSWORD
        yield Base(server, url, connect)


@pytest.fixture
def started(base: Base, tmp_path: Path, run: Run) -> Path:
    """Return a site that was begun for the database."""
    base.start(tmp_path / "site", run)
    return tmp_path / "site"


DATED = "({0}date IS NULL OR CAST({0}date AS CHAR(19)) NOT LIKE '0000%')"  # a date of zero holds its row back
PUBLIC = f"state = 'published' AND {DATED.format('')}"
QUESTIONS = {
    "from news": f"SELECT id FROM office_item WHERE type = 'news' AND {PUBLIC}",
    "from news, guide, sighting": f"SELECT id FROM office_item WHERE {PUBLIC}",
    "from guide where topic = ice": f"SELECT i.id FROM office_item i JOIN office_item_word w ON w.item_id = i.id WHERE type = 'guide' AND w.word_id = 1 AND {PUBLIC}",
    "from news where topic under sea-birds": f"SELECT DISTINCT i.id FROM office_item i JOIN office_item_word w ON w.item_id = i.id WHERE type = 'news' AND w.word_id IN (2, 6) AND {PUBLIC}",
    "from news where topic = fish-and-chips": f"SELECT i.id FROM office_item i JOIN office_item_word w ON w.item_id = i.id WHERE type = 'news' AND w.word_id = 3 AND {PUBLIC}",
    "from sighting where place under old-mole or place under skerry-bay": f"SELECT DISTINCT i.id FROM office_item i JOIN office_item_word w ON w.item_id = i.id WHERE type = 'sighting' AND w.word_id IN (7, 9) AND {PUBLIC}",
    'from news where author.title = "Bo Strand"': f"SELECT id FROM office_item WHERE type = 'news' AND author_id = 2 AND {PUBLIC}",
    "from news where weather = storm": f"SELECT i.id FROM office_item i JOIN office_detail d ON d.item_id = i.id WHERE d.name = 'weather' AND d.value = 'storm' AND type = 'news' AND {PUBLIC}",
    "from news where size > 250": f"SELECT id FROM office_item WHERE type = 'news' AND size > 250 AND {PUBLIC}",
    "from news where date in 2023": f"SELECT id FROM office_item WHERE type = 'news' AND date >= '2023-01-01' AND date < '2024-01-01' AND {PUBLIC}",
    "from guide where parent is set": f"SELECT c.id FROM office_item c JOIN office_item p ON p.id = c.parent_id WHERE c.type = 'guide' AND c.state = 'published' AND {DATED.format('c.')} AND p.state = 'published' AND {DATED.format('p.')}",
    "from remark where item.kind = news": f"SELECT r.id FROM office_remark r JOIN office_item i ON i.id = r.item_id WHERE i.type = 'news' AND i.state = 'published' AND {DATED.format('i.')}",
}  # fmt: skip


def test_start(base: Base, started: Path, run: Run) -> None:
    """Start and publish succeed; types are kinds, vocabularies apart, secrets stay; counts are those of SQL."""
    text = (started / "elenchus.toml").read_text(encoding="utf-8")
    for said in ('kind = "{type}"', 'where = { vocabulary = "topic" }', 'slug = "slug"', "author_id", '"_*"', "[taxonomies.place]", 'missing_status = "draft"', 'parent = "parent_id"'):  # fmt: skip
        assert said in text
    done = run("publish", cwd=started, BAY_PASSWORD=servers.PASSWORD)
    assert done.returncode == 0, done.stderr
    pages = "\n".join(path.read_text(encoding="utf-8") for path in (started / "published").rglob("*.html"))
    hidden = base.sql("SELECT slug FROM office_item WHERE state IN ('draft', 'private') OR state IS NULL")
    for secret in ("$2y$10$", "@skerry.example", "ev@mail.example", "192.0.2.7", *(f"/{slug}/" for (slug,) in hidden)):  # fmt: skip
        assert secret not in pages
    assert "Fish &amp;amp; Chips" not in pages
    site = elenchus.open_site(started)
    assert len(QUESTIONS) == 12
    for question, sql in QUESTIONS.items():
        ids = {int(row.id.rpartition("/")[2]) for row in elenchus.ask(site, question).rows}
        assert ids == {key for (key,) in base.sql(sql)}, question
    again = run("start", base.where, *(["--password-from", "BAY_PASSWORD"] if base.server != "sqlite" else []), "--into", str(started), BAY_PASSWORD=servers.PASSWORD)  # fmt: skip
    assert again.returncode == 0


def changed(folder: Path, question: str, *assignments: str, new_terms: bool = False) -> None:
    """Change entries as the program does."""
    site = elenchus.open_site(folder)
    query = Query.of(site, question, {})
    site = with_fresh_rows(site, entries_of(query))
    entries = entry_changes(
        site, entries_of(Query.of(site, question, {})), read_assignments(list(assignments))
    )
    change = content_change(site, entries, new_terms=new_terms)
    assert not change.is_empty
    change.write("set")


def undo(folder: Path) -> tuple[str, ...]:
    """Take the last change back, and return what stayed."""
    return undone(folder, last_change(folder)).left


ONE = 'from news, guide, sighting where entry = "{id}" including unpublished'
CHANGES: list[tuple[str, str, str]] = [
    ("date=2026-11-02", "date", "2026-11-02 00:00:00"),
    ("date=2026-11-02 08:30", "date", "2026-11-02 08:30:00"),
    ("date=2026-11-02T08:30:15", "date", "2026-11-02 08:30:15"),
    ("date=2026-11-02T08:30:00+02:00", "date", "2026-11-02 06:30:00"),
    ("date=", "date", "None"),
    ("created_at=2026-01-01", "created_at", "2026-01-01 00:00:00"),
    ("size=44", "size", "44"),
    ("size=0", "size", "0"),
    ("size=", "size", "None"),
    ("title=Wind & weather in May", "title", "Wind &amp; weather in May"),
    ("title=Søgræs og tang", "title", "Søgræs og tang"),
    ("title=Four’s <5", "title", "Four’s &lt;5"),
    ("slug=other-slug", "slug", "other-slug"),
    ("status=draft", "state", "draft"),
    ("status=withdrawn", "state", "private"),
    ("status=published", "state", "published"),
    ("author=person/2", "author_id", "2"),
    ("author=person/4", "author_id", "4"),
    ("author=", "author_id", "None"),
    ("parent=news/{other}", "parent_id", "{other}"),
    ("parent=", "parent_id", "None"),
]
LISTS: list[tuple[tuple[str, ...], str, set[str]]] = [
    (("topic=ice",), "topic", {"Ice"}),
    (("topic+=ice",), "topic", {"Ice", "Boats"}),
    (("topic+=plants",), "topic", {"Plants", "Boats"}),
    (("topic+=Fish & Chips",), "topic", {"Fish &amp; Chips", "Boats"}),
    (("topic-=boats",), "topic", set()),
    (("topic=",), "topic", set()),
    (("topic=weather, ice",), "topic", {"Weather", "Ice"}),
    (("place=seal-rock",), "place", {"Seal Rock"}),
    (("place+=north-quay",), "place", {"North Quay", "Old Mole"}),
    (("place-=old-mole",), "place", set()),
    (("topic=ice", "place=north-quay"), "topic", {"Ice"}),
    (("weather=storm",), "weather", {"storm"}),
    (("weather=",), "weather", set()),
    (("height=12.5",), "height", {"12.5"}),
    (("gallery=a.jpg",), "gallery", {"a.jpg"}),
    (("gallery=a.jpg, b.jpg, c.jpg",), "gallery", {"a.jpg", "b.jpg", "c.jpg"}),
    (("gallery+=p1.jpg",), "gallery", {"one.jpg", "two.jpg", "p1.jpg"}),
    (("gallery-=one.jpg",), "gallery", {"two.jpg"}),
    (("gallery=",), "gallery", set()),
]


def test_changes(base: Base, started: Path) -> None:
    """Each of forty changes writes what it says and nothing else, and undoing it gives the database back."""
    assert len(CHANGES) + len(LISTS) == 40
    key = 5
    [(kind,)] = base.sql(f"SELECT type FROM office_item WHERE id = {key}")
    [(other,)] = base.sql("SELECT MIN(id) FROM office_item WHERE type = 'news' AND id > 20")
    base.sql(
        f"UPDATE office_item SET state = 'published', date = '2024-05-05 10:00:00', size = 7, title = 'Five', author_id = 1, parent_id = {2 if kind != 'x' else 3} WHERE id = {key}"
    )
    base.sql(
        "UPDATE office_item SET state = 'published', date = '2024-05-05 10:00:00', title = 'Two' WHERE id = 2"
    )
    base.sql(f"DELETE FROM office_item_word WHERE item_id = {key}")
    for word in (5, 9):
        base.sql(f"INSERT INTO office_item_word VALUES ({key}, {word})")
    base.sql(f"DELETE FROM office_detail WHERE item_id = {key}")
    for at, (name, value) in enumerate(
        (("gallery", "one.jpg"), ("gallery", "two.jpg"), ("weather", "calm"), ("height", "3.5"))
    ):
        base.sql(f"INSERT INTO office_detail VALUES ({90_000 + at}, {key}, '{name}', '{value}')")
    question, before = ONE.format(id=f"{kind}/{key}"), base.dump()
    part = 2 if base.server == "sqlite" else 5
    for text, column, wanted in share(CHANGES, part):
        assignment, said = text.format(other=other), wanted.format(other=other)
        [(now,)] = base.sql(f"SELECT {column} FROM office_item WHERE id = {key}")
        if str(now) == said:
            continue
        changed(started, question, assignment)
        [(found,)] = base.sql(f"SELECT {column} FROM office_item WHERE id = {key}")
        assert str(found) == said, text
        differing = {name for name, rows in base.dump().items() if rows != before[name]}
        assert differing == {"office_item"}, text
        assert undo(started) == ()
        assert base.dump() == before, text
    for assignments, name, words in share(LISTS, part):
        changed(started, question, *assignments)
        if name in ("topic", "place"):
            sql = f"SELECT name FROM office_word JOIN office_item_word ON word_id = id WHERE item_id = {key} AND vocabulary = '{name}'"
        else:
            sql = f"SELECT value FROM office_detail WHERE item_id = {key} AND name = '{name}'"
        assert {word for (word,) in base.sql(sql)} == words, assignments
        assert undo(started) == ()
        assert _without_keys(base.dump()) == _without_keys(before), assignments
    base.sql("DELETE FROM office_detail WHERE id >= 90000")


def _without_keys(dump: dict[str, list[str]]) -> dict[str, list[str]]:
    """Return a dump whose rows of more fields have no keys: what came back has another."""
    rows = (re.sub(r"^\(\d+, ", "(", row) for row in dump["office_detail"])
    return {**dump, "office_detail": sorted(rows)}


def test_terms(base: Base, started: Path) -> None:
    """A term is renamed, merged and added in its own table, as one change that is undone as one."""
    before = base.dump()
    with_ice = base.sql("SELECT COUNT(*) FROM office_item_word WHERE word_id = 1")

    def made(change: TermChange) -> None:
        change.write("rename-term")

    made(renamed(elenchus.open_site(started), "topic/ice", "Sea ice"))
    assert base.sql("SELECT name, slug FROM office_word WHERE id = 1") == [("Sea ice", "sea-ice")]
    assert base.sql("SELECT COUNT(*) FROM office_item_word WHERE word_id = 1") == with_ice
    assert undo(started) == ()
    assert base.dump() == before
    made(merged(elenchus.open_site(started), "topic/sea-birds", "weather"))
    assert base.sql("SELECT COUNT(*) FROM office_word WHERE id = 2") == [(0,)]
    assert base.sql("SELECT COUNT(*) FROM office_item_word WHERE word_id = 2") == [(0,)]
    assert base.sql("SELECT parent_id FROM office_word WHERE name = 'Plants'") == [(4,)]
    both = base.sql("SELECT COUNT(DISTINCT item_id) FROM office_item_word WHERE word_id = 4")
    assert int(both[0][0]) > 0
    assert undo(started) == ()
    assert base.dump() == before
    [(first, kind)] = base.sql("SELECT id, type FROM office_item WHERE id = 7")
    question = ONE.format(id=f"{kind}/{first}")
    with pytest.raises(elenchus.SiteError, match="no row for Lichen"):
        changed(started, question, "topic+=Lichen")
    changed(started, question, "topic+=Lichen", new_terms=True)
    assert base.sql("SELECT name, slug, vocabulary FROM office_word WHERE id = 11") == [
        ("Lichen", "lichen", "topic")
    ]
    assert base.sql("SELECT COUNT(*) FROM office_item_word WHERE word_id = 11") == [(1,)]
    assert undo(started) == ()
    assert base.dump() == before


def test_changed_by_others(base: Base, started: Path) -> None:
    """A row that others changed is read again, one that they changed since stays as it is and is named."""
    before = base.dump()
    _ = elenchus.open_site(started).dataset
    base.sql("UPDATE office_item SET size = 4321 WHERE id = 31")  # which says nothing of it
    [(kind,)] = base.sql("SELECT type FROM office_item WHERE id = 30")
    changed(started, ONE.format(id=f"{kind}/30"), "title=Thirty")
    assert undo(started) == ()
    ids = [
        f"{kind}/{key}"
        for key, kind in base.sql("SELECT id, type FROM office_item WHERE id BETWEEN 40 AND 59")
    ]
    wanted = " or ".join(f'entry = "{name}"' for name in ids)
    changed(started, f"from news, guide, sighting where ({wanted}) including unpublished", "size=999")
    base.sql("UPDATE office_item SET size = 1 WHERE id = 44")
    left = undo(started)
    assert len(left) == 1
    assert "id 44: size is 1, and this change left 999" in left[0]
    assert base.sql("SELECT COUNT(*) FROM office_item WHERE size = 999") == [(0,)]
    old = dict(row for row in [(31, None), (44, None)])
    for key in old:
        [value] = [row for row in office.office(ITEMS).item if row[0] == key]
        base.sql(f"UPDATE office_item SET size = {value[11] if value[11] is not None else 'NULL'}, changed_at = '{value[10]}' WHERE id = {key}")  # fmt: skip
    assert base.dump() == before


def test_seen_by_a_preview(base: Base, started: Path) -> None:
    """A preview that looks at the database sees that a row, a link or more fields of it are otherwise."""
    live = Live(started)
    assert live.poll() == 5
    assert not live.has_other_rows()
    assert not live.has_other_rows()
    for change, back in (
        ("UPDATE office_item SET changed_at = '2026-11-30 10:00:00' WHERE id = 90", None),
        ("INSERT INTO office_item_word VALUES (90000, 1)", "DELETE FROM office_item_word WHERE item_id = 90000"),
        ("UPDATE office_person SET shown_as = 'Ada F.' WHERE id = 1", "UPDATE office_person SET shown_as = 'Ada Fell' WHERE id = 1"),
    ):  # fmt: skip
        base.sql(change)
        assert live.has_other_rows(), change
        assert not live.has_other_rows()
        if back:
            base.sql(back)
            assert live.has_other_rows()
    [row] = [row for row in office.office(ITEMS).item if row[0] == 90]
    base.sql(f"UPDATE office_item SET changed_at = '{row[10]}' WHERE id = 90")


@contextmanager
def proxy(host: str, port: int) -> Iterator[tuple[int, Callable[[int], None]]]:
    """Give the port of what passes bytes on to a server, and what lets it end after so many of its answer."""
    left = [-1]
    listener = socket.create_server(("127.0.0.1", 0))
    opened: list[socket.socket] = [listener]

    def passed(source: socket.socket, target: socket.socket, *, counts: bool) -> None:
        with suppress(OSError):
            while data := source.recv(4096):
                if counts and left[0] >= 0:
                    data = data[: left[0]]
                    left[0] -= len(data)
                    target.sendall(data)
                    if left[0] == 0:
                        break
                    continue
                target.sendall(data)
        for each in (source, target):
            with suppress(OSError):
                each.shutdown(socket.SHUT_RDWR)

    def serve() -> None:
        with suppress(OSError):
            while True:
                near, _ = listener.accept()
                far = socket.create_connection((host, port))
                opened.extend((near, far))
                threading.Thread(
                    target=passed, args=(near, far), kwargs={"counts": False}, daemon=True
                ).start()
                threading.Thread(
                    target=passed, args=(far, near), kwargs={"counts": True}, daemon=True
                ).start()

    threading.Thread(target=serve, daemon=True).start()

    def end_after(count: int) -> None:
        left[0] = count

    try:
        yield listener.getsockname()[1], end_after
    finally:
        for each in opened:
            each.close()


def all_or_nothing(base: Base, folder: Path, end_after: Callable[[int], None]) -> bool:
    """Write twenty rows while the connection ends earlier or later, until they are written."""
    before = base.dump()
    ids = base.sql("SELECT id, type FROM office_item WHERE id BETWEEN 60 AND 79")
    wanted = " or ".join(f'entry = "{kind}/{key}"' for key, kind in ids)
    question = f"from news, guide, sighting where ({wanted}) including unpublished"
    for count in range(500, 60_000, 3_500):
        site = elenchus.open_site(folder)
        entries = entry_changes(
            site, entries_of(Query.of(site, question, {})), read_assignments(["size=777"])
        )
        change = content_change(site, entries)
        _ = change.reread
        end_after(count)
        with suppress(elenchus.ElenchusError):
            change.write("set")
        end_after(-1)
        [(now,)] = base.sql("SELECT COUNT(*) FROM office_item WHERE size = 777")
        assert now in (0, 20), count
        if now:
            with suppress(elenchus.NoSuchName):
                undo(folder)
            return base.dump() == before or now == 20
    return False


@pytest.mark.parametrize("base", SERVERS[1:], indirect=True)
@pytest.mark.filterwarnings(
    "ignore::pytest.PytestUnraisableExceptionWarning"
)  # cursors that psycopg could not close
def test_cut_off(base: Base, started: Path) -> None:
    """A read that ends in the middle gives no answer, or the one before, with its time; a write is all or none."""
    match = re.search(r"127\.0\.0\.1:(\d+)", base.where)
    assert match
    site_file = started / "elenchus.toml"
    text = site_file.read_text(encoding="utf-8")
    whole = [row.id for row in elenchus.ask(elenchus.open_site(started, index=False), "from news").rows]
    with proxy("127.0.0.1", int(match[1])) as (port, end_after):
        site_file.write_text(text.replace(match[1], str(port)), encoding="utf-8")
        failed = 0
        for count in (10, 400, 1_500, 2_500, 4_000, 6_000, 9_000, 14_000, 25_000, 60_000, 150_000, 900_000):
            end_after(count)
            try:
                found = [row.id for row in elenchus.ask(elenchus.open_site(started), "from news").rows]
            except elenchus.SourceError as error:
                failed += 1
                assert "office_" in str(error)
            else:
                assert found == whole, count
                break
        assert failed >= 8
        end_after(-1)
        assert [row.id for row in elenchus.ask(elenchus.open_site(started), "from news").rows] == whole
        base.sql("UPDATE office_item SET changed_at = '2026-11-30 10:00:00' WHERE id < 100")
        for count in (0, 300, 3_000, 20_000):
            end_after(count)
            site = elenchus.open_site(started)
            assert [row.id for row in elenchus.ask(site, "from news").rows] == whole
            assert "last whole read" in site.content.failures[0].hint
        end_after(-1)
        assert all_or_nothing(base, started, end_after)
    site_file.write_text(text, encoding="utf-8")
    gc.collect()  # what drivers left open goes here


@pytest.mark.parametrize("base", SERVERS[1:], indirect=True)
def test_few_rights(base: Base, tmp_path: Path, run: Run) -> None:
    """What a reader may not read costs nothing else, and the right that is missing is named."""
    with closing(base.connect()) as owner:
        cursor = owner.cursor()
        if base.server == "postgresql":
            cursor.execute(f"CREATE ROLE guest LOGIN PASSWORD '{servers.PASSWORD}'")
            cursor.execute(
                "GRANT SELECT ON office_item, office_word, office_item_word, office_detail TO guest"
            )
        else:
            cursor.execute("CREATE USER guest@'127.0.0.1' IDENTIFIED BY %s", [servers.PASSWORD])
            for name in ("item", "word", "item_word", "detail", "newest"):
                cursor.execute(f"GRANT SELECT ON bay.office_{name} TO guest@'127.0.0.1'")
    guest = base._replace(where=base.where.replace("reader@", "guest@"))
    guest.start(tmp_path / "site", run)
    site = elenchus.open_site(tmp_path / "site")
    assert elenchus.ask(site, "from news").total > 0
    done = run(
        "set", "from news limit 1", "size=5", "--yes", cwd=tmp_path / "site", BAY_PASSWORD=servers.PASSWORD
    )
    assert done.returncode != 0
    assert "lacks a right; its administrator can GRANT" in done.stderr
    assert "office_item" in done.stderr
    text = (tmp_path / "site" / "elenchus.toml").read_text(encoding="utf-8")
    (tmp_path / "site" / "elenchus.toml").write_text(text.replace('table = "item"', 'table = "remark"'), encoding="utf-8")  # fmt: skip
    done = run("ask", "from news", cwd=tmp_path / "site", BAY_PASSWORD=servers.PASSWORD)
    assert done.returncode == 9
    for wrong, said in (("no such", "refuses this user or password"), (None, "is not set")):
        more = {} if wrong is None else {"BAY_PASSWORD": wrong}
        done = run("ask", "from news", cwd=tmp_path / "site", **more)
        assert (done.returncode, said in done.stderr) == (9, True), done.stderr
        assert "Traceback" not in done.stderr


TIMES = ("2026-03-29 00:30:00", "2026-03-29 02:30:00", "2026-10-25 00:30:00", "2026-10-25 01:30:00", "2026-07-31 23:30:00", "1999-12-31 23:59:59", "2026-01-01 00:00:00")  # fmt: skip


def test_times(base: Base, tmp_path: Path) -> None:
    """Times without a zone are those of the source's, in a column and in more fields, on each server alike."""
    kind = {"sqlite": "TEXT", "postgresql": "TIMESTAMP", "mariadb": "DATETIME"}[base.server]
    base.sql(f"CREATE TABLE tide (id INTEGER PRIMARY KEY, title VARCHAR(40), at_time {kind})")
    base.sql("CREATE TABLE tide_more (tide INTEGER, name VARCHAR(40), value VARCHAR(40))")
    for key, text in enumerate(TIMES, 1):
        base.sql(f"INSERT INTO tide VALUES ({key}, '{text}', '{text}')")
        base.sql(f"INSERT INTO tide_more VALUES ({key}, 'low', '{text}')")
    (tmp_path / "elenchus.toml").write_text(
        '[site]\ntimezone = "Atlantic/Azores"\n[sources.tide]\nread = "database"\n' + base.source
        + '\ntable = "tide"\nkind = "tide"\nzone = "Europe/Lisbon"\ncolumns = { date = "at_time" }\n'
        '[sources.tide.extras]\ntable = "tide_more"\nentry = "tide"\nname = "name"\nvalue = "value"\n'
        '[kinds.tide.fields]\nlow = { type = "datetime" }\n',
        encoding="utf-8",
    )  # fmt: skip
    rows = elenchus.ask(
        elenchus.open_site(tmp_path, at="2027-01-01"), "from tide order by id", show=["low"]
    ).rows
    found = json.dumps([[str(row["title"]), str(row["date"]), str(row["low"])] for row in rows])
    told = [
        "2026-03-28 23:30", "2026-03-29 01:30", "2026-10-24 23:30", "2026-10-25 00:30", "2026-07-31 22:30", "1999-12-31 22:59", "2025-12-31 23:00",
    ]  # fmt: skip
    for text, local in zip(TIMES, told, strict=True):
        [row] = [each for each in json.loads(found) if each[0] == text]
        assert row[1].startswith(local), row
        assert row[1] == row[2]
    for name in ("tide", "tide_more"):
        base.sql(f"DROP TABLE {name}")


def _edges(zone: str) -> list[datetime]:
    """Return moments of 2026 at which the clocks of a zone change, a second before and after, or a new year."""
    clock, hour = ZoneInfo(zone), timedelta(hours=1)
    hours = [datetime(2026, 1, 1, tzinfo=UTC) + at * hour for at in range(365 * 24)]
    found = [
        at for at in hours if at.astimezone(clock).utcoffset() != (at - hour).astimezone(clock).utcoffset()
    ]
    return [edge + timedelta(seconds=by) for edge in found or hours[:1] for by in (-1, 0, 3600)]


def test_every_zone(base: Base, tmp_path: Path) -> None:
    """Times are the same instants on each server, whatever zone their source has, where its clocks change."""
    kind = {"sqlite": "TEXT", "postgresql": "TIMESTAMP", "mariadb": "DATETIME"}[base.server]
    whole = "TIMESTAMPTZ" if base.server == "postgresql" else "VARCHAR(40)"
    base.sql(f"CREATE TABLE edge (id INTEGER PRIMARY KEY, zone VARCHAR(60), title VARCHAR(80), at_time {kind}, instant {whole})")  # fmt: skip
    rows: list[str] = []
    wanted: dict[int, datetime] = {}
    for zone in ZONES:
        for moment in _edges(zone):
            local = moment.astimezone(ZoneInfo(zone))
            if local.fold:  # the second of two times that are told alike
                continue
            wanted[len(rows)] = moment
            rows.append(f"({len(rows)}, '{zone}', 'At {len(rows)}', '{local:%Y-%m-%d %H:%M:%S}', '{moment:%Y-%m-%d %H:%M:%S}+00:00')")  # fmt: skip
    found: dict[int, tuple[str, ...]] = {}
    try:
        base.sql(f"INSERT INTO edge VALUES {', '.join(rows)}")
        for first in range(0, len(ZONES), 40):  # each source has a connection of its own
            folder = tmp_path / str(first)
            folder.mkdir()
            sources = [
                f'[sources.z{number}]\nread = "database"\n{base.source}\ntable = "edge"\nkind = "edge"\nzone = "{zone}"\nwhere = {{ zone = "{zone}" }}\ncolumns = {{ date = "at_time" }}\n'
                for number, zone in enumerate(ZONES[first : first + 40])
            ]
            (folder / "elenchus.toml").write_text(
                f'[site]\ntimezone = "UTC"\n{"".join(sources)}[kinds.edge.fields]\ninstant = {{ type = "datetime" }}\n'
            )
            site = elenchus.open_site(folder, at="2028-01-01")
            for row in elenchus.ask(site, "from edge", show=["instant"]).rows:
                pair = (row["date"], row["instant"])
                found[int(row["id"].rpartition("/")[2])] = tuple(f"{each:%Y-%m-%d %H:%M:%S}" for each in pair)
        assert found == {key: (f"{moment:%Y-%m-%d %H:%M:%S}",) * 2 for key, moment in wanted.items()}
    finally:
        base.sql("DROP TABLE edge")


def test_without_keys(base: Base, tmp_path: Path, run: Run) -> None:
    """Rows that no column tells apart are entries by a key made of their values; so are those of a view."""
    base.sql("CREATE TABLE text_of_page (page INTEGER NOT NULL, language VARCHAR(2) NOT NULL, title VARCHAR(40), PRIMARY KEY (page, language))")  # fmt: skip
    base.sql("CREATE TABLE tide (harbour VARCHAR(40), height INTEGER)")
    base.sql("CREATE VIEW high_tide AS SELECT harbour, MAX(height) AS top FROM tide GROUP BY harbour")
    try:
        for number in range(6):
            for language in ("en", "no"):
                base.sql(
                    f"INSERT INTO text_of_page VALUES ({number}, '{language}', 'Page {number} {language}')"
                )
            base.sql(f"INSERT INTO tide VALUES ('Harbour {number % 3}', {number})")
        base.sql("INSERT INTO tide VALUES ('Harbour 0', 0)")  # which stands there already
        base.start(tmp_path / "site", run)
        site = elenchus.open_site(tmp_path / "site")
        counts = {kind: elenchus.ask(site, f"from {kind}").total for kind in site.dataset.kind_names}
        assert (counts["text_of_page"], counts["tide"], counts["high_tide"]) == (12, 7, 3)
    finally:
        base.sql("DROP VIEW high_tide")
        for name in ("text_of_page", "tide"):
            base.sql(f"DROP TABLE {name}")


COLUMNS = {
    "sqlite": ("JSON", "JSON", "'[1, 2]'", """'["a", "b, c"]'"""),
    "postgresql": ("INTEGER[]", "TEXT[]", "ARRAY[1, 2]", "ARRAY['a', 'b, c']"),
    "mariadb": ("JSON", "JSON", "'[1,2]'", """'["a","b, c"]'"""),
}


def test_lists_in_a_column(base: Base, tmp_path: Path, run: Run) -> None:
    """Lists in JSON and in arrays are read and written value by value, numbers as numbers, and undone."""
    whole, texts, numbers, words = COLUMNS[base.server]
    binary = "JSONB" if base.server == "postgresql" else "JSON"
    base.sql(f"CREATE TABLE shelf (id INTEGER PRIMARY KEY, title VARCHAR(40), labels {texts}, numbers {whole}, facts {binary}, more JSON)")  # fmt: skip
    for key in (1, 2):
        base.sql(f"INSERT INTO shelf (id, title) VALUES ({key}, 'Shelf {key}')")
    base.sql(f"""UPDATE shelf SET labels = {words}, numbers = {numbers}, facts = '["x"]', more = '{{"depth": 3}}' WHERE id = 1""")  # fmt: skip
    if base.server == "postgresql":
        base.sql("GRANT ALL ON shelf TO reader")
    (tmp_path / "elenchus.toml").write_text(
        f'[site]\n[sources.shelf]\nread = "database"\n{base.source}\ntable = "shelf"\nkind = "shelf"\nwritable = true\n'
        'columns = { depth = "more.depth" }\n[kinds.shelf.fields]\nnumbers = { type = "integer", many = true }\n'
        'facts = { type = "text", many = true }\ndepth = { type = "integer" }\n[taxonomies.labels]\n'
    )

    def stored() -> list[list[Any]]:
        rows = base.sql("SELECT labels, numbers, facts, more FROM shelf ORDER BY id")
        return [[json.loads(value) if isinstance(value, str) else value for value in row] for row in rows]

    def done(*call: str) -> str:
        ended = run(*call, BAY_PASSWORD=servers.PASSWORD)
        assert ended.returncode in (0, 4), ended.stderr
        return ended.stdout + ended.stderr

    try:
        before = stored()
        asked = done("ask", "from shelf", "--show", "labels,numbers,facts,depth", "--format", "jsonl")
        first = json.loads(asked.splitlines()[0])
        told = [first[name] for name in ("labels", "numbers", "facts", "depth")]
        assert told == [["a", "b-c"], [1, 2], ["x"], 3]
        for change in ("labels+=d", "labels-=a", "numbers+=5", "facts+=z"):
            assert "undo takes it back" in done("set", "from shelf", change, "--yes"), change
        assert stored() == [[["b, c", "d"], [1, 2, 5], ["x", "z"], {"depth": 3}], [["d"], [5], ["z"], None]]
        assert "depth stands inside a value of a column" in done("set", "from shelf", "depth=4", "--yes")
        done("set", "from shelf", "facts=", "--yes")
        assert [row[2] for row in stored()] == [None, None]
        for _ in range(5):
            done("undo", "--yes")
        assert stored() == before
    finally:
        base.sql("DROP TABLE shelf")


def test_a_server_that_restarts(base: Base, started: Path, run: Run) -> None:
    """While the server is down, answers are those of the last read, and say so; afterwards it is read again."""
    if base.server == "sqlite":
        pytest.skip("a file has no server")
    question = ("ask", "from news order by newest limit 1", "--site", str(started), "--format", "lines")
    before = run(*question, BAY_PASSWORD=servers.PASSWORD)
    assert before.returncode == 0
    key = before.stdout.strip().rpartition("/")[2]
    with servers.down(base.where):
        meanwhile = run(*question, BAY_PASSWORD=servers.PASSWORD)
        assert (meanwhile.returncode, meanwhile.stdout) == (0, before.stdout)
        assert "last whole read" in meanwhile.stderr
        strict = run("ask", "from news", "--strict", "--site", str(started), BAY_PASSWORD=servers.PASSWORD)
        assert strict.returncode == 9
        changed = run(
            "set",
            f"where id = news/{key}",
            "title=x",
            "--yes",
            "--site",
            str(started),
            BAY_PASSWORD=servers.PASSWORD,
        )
        assert changed.returncode != 0
    base.sql(
        f"UPDATE office_item SET title = 'Back again', changed_at = '2026-12-01 09:00:00' WHERE id = {key}"
    )
    wanted = ("ask", 'from news where title = "Back again"', *question[2:])
    again = run(*wanted, BAY_PASSWORD=servers.PASSWORD)
    assert (again.returncode, again.stdout, again.stderr.count("last whole read")) == (0, before.stdout, 0)


# What is changed, and what a question then says of the rows.
SEEN = [
    ("INSERT INTO {kelp} VALUES (3, 'Third', '100 % kelp', 'b')", ["First 50 %|", "Second|bay,sea", "Third|sea"]),
    ("UPDATE {kelp} SET title = 'Changed' WHERE id = 2", ["First 50 %|", "Changed|bay,sea", "Third|sea"]),
    ("UPDATE odd_term SET name = 'Ocean' WHERE id = 1", ["First 50 %|", "Changed|bay,ocean", "Third|ocean"]),
    ("INSERT INTO odd_joined VALUES (1, 2)", ["First 50 %|bay", "Changed|bay,ocean", "Third|ocean"]),
    ("UPDATE odd_more SET value = 'ice' WHERE name = 'weather'", ["First 50 %|bay", "Changed|bay,ocean", "Third|ocean"]),
    ("ALTER TABLE {kelp} ADD COLUMN depth INTEGER DEFAULT 7", ["First 50 %|bay", "Changed|bay,ocean", "Third|ocean"]),
    ("ALTER TABLE {kelp} DROP COLUMN depth", ["First 50 %|bay", "Changed|bay,ocean", "Third|ocean"]),
    ("DELETE FROM {kelp} WHERE id = 1", ["Changed|bay,ocean", "Third|ocean"]),
]  # fmt: skip


def test_what_changes_is_seen(base: Base, tmp_path: Path, run: Run) -> None:
    """Whatever changes in the tables of a source is seen at the next question, and nothing else is read again.

    Names and conditions hold signs that mean something to drivers. As long as nothing changes, no more is
    loaded than it takes to ask that.
    """
    if base.server == "sqlite":
        pytest.skip("the signature of a file tells whether it has changed")
    quote = '"' if base.server == "postgresql" else "`"
    kelp = f"{quote}odd %s kelp:x{quote}"
    for text in (
        f"CREATE TABLE {kelp} (id INTEGER PRIMARY KEY, title VARCHAR(40), {quote}what %{quote} VARCHAR(40), state VARCHAR(9))",
        f"INSERT INTO {kelp} VALUES (1, 'First 50 %', '50 % kelp', 'b'), (2, 'Second', '100 % kelp', 'b'), (9, 'No', 'x', 'a')",
        "CREATE TABLE odd_term (id INTEGER PRIMARY KEY, name VARCHAR(40), sort VARCHAR(9))",
        "INSERT INTO odd_term VALUES (1, 'Sea', '5 %'), (2, 'bay', '5 %'), (3, 'x', 'y')",
        "CREATE TABLE odd_joined (entry INTEGER, term INTEGER)",
        "INSERT INTO odd_joined VALUES (2, 1), (2, 2), (3, 1)",
        "CREATE TABLE odd_more (entry INTEGER, name VARCHAR(20), value VARCHAR(20))",
        "INSERT INTO odd_more VALUES (2, 'weather', 'sun')",
    ):
        base.sql(text)
    asked = f"SELECT * FROM {kelp} WHERE {quote}what %{quote} LIKE '%kelp'".replace('"', '\\"')
    tables = {"whole": f"table = '{kelp[1:-1]}'\nwhere = {{ state = \"b\" }}", "query": f'query = "{asked}"'}
    try:
        for name, told in tables.items():
            (tmp_path / name).mkdir()
            (tmp_path / name / "elenchus.toml").write_text(
                f'[site]\ntimezone = "UTC"\n[sources.kelp]\nread = "database"\n{base.source}\nkey = "id"\nkind = "kelp"\n{told}\n'
                '[sources.kelp.terms.place]\ntable = "odd_joined"\nentry = "entry"\nterm = "term"\nnames = "odd_term"\nkey = "id"\nname = "name"\nwhere = { sort = "5 %" }\n'
                '[sources.kelp.extras]\ntable = "odd_more"\nentry = "entry"\nname = "name"\nvalue = "value"\n'
                "[kinds.kelp.fields]\n[taxonomies.place]\n"
            )  # fmt: skip
        words = ("ask", "from kelp order by id", "--show", "title,place", "--format", "csv")

        def rows(name: str) -> list[str]:
            done = run(*words, "--site", name, BAY_PASSWORD=servers.PASSWORD)
            assert done.returncode == 0, done.stderr
            return [f"{each['title']}|{each['place']}" for each in csv.DictReader(done.stdout.splitlines())]

        for name in tables:
            assert rows(name) == ["First 50 %|", "Second|bay,sea"]
            still = subprocess.run(
                [sys.executable, "-X", "importtime", "-m", "elenchus", *words],
                cwd=tmp_path / name,
                env={**os.environ, "BAY_PASSWORD": servers.PASSWORD},
                capture_output=True,
                text=True,
                check=True,
            )
            assert "| sqlalchemy\n" not in still.stderr.replace("  ", "")
            assert "elenchus.sources._table_pulse" in still.stderr
        for change, wanted in SEEN:
            base.sql(change.format(kelp=kelp))
            for name in tables:
                site = elenchus.open_site(tmp_path / name)
                found = elenchus.ask(site, "from kelp order by id", show=["place"]).rows
                assert [f"{row['title']}|{','.join(sorted(row['place']))}" for row in found] == wanted, (
                    name,
                    change,
                )
        base.sql(f"DROP TABLE {kelp}")
        for name in tables:
            done = run(*words, "--site", name, BAY_PASSWORD=servers.PASSWORD)
            assert "last whole read" in done.stderr, done.stderr
    finally:
        for table in (kelp, "odd_term", "odd_joined", "odd_more"):
            base.sql(f"DROP TABLE IF EXISTS {table}")
