"""Content of all formats: the same answers from each, changes noticed, secrets kept."""

from __future__ import annotations

import gzip
import random
import re
import socket
import sqlite3
import threading
import time
import zipfile
from collections.abc import Iterator
from contextlib import suppress
from datetime import date, datetime
from http.client import HTTPConnection
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any, ClassVar

import pytest
from babel import Locale
from babel.dates import format_date
from hypothesis import given
from hypothesis import strategies as st

import elenchus
import formats
import servers
from conftest import Run, Write, cases, group_words
from elenchus.checks.run import check_site
from elenchus.errors import About
from elenchus.sources._guarded import Guard
from elenchus.sources._tables import Shape
from elenchus.values.datepatterns import date_reader, wrong_pattern

SERVERS = ("postgresql", "mariadb")


@pytest.fixture(scope="session", params=[*formats.FORMATS, *SERVERS])
def written(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """Return the reference site with its content in one of the formats."""
    folder = tmp_path_factory.mktemp("written")
    if request.param not in SERVERS:
        yield formats.write(folder / "site", request.param)
        return
    home = servers.home(tmp_path_factory)
    with getattr(servers, request.param)(home) as (url, connect):
        with connect() as owner, owner.cursor() as cursor:
            for sql, values in formats.statements(formats.rows(), "%s"):
                cursor.execute(sql, values or None)
        where = f'url = "{url}"\npassword_from = "BAY_PASSWORD"'
        shape = "[sources.notebook]" + formats.SHAPE.format(where=where)
        formats.FORMATS["server"] = lambda _folder, _rows: shape
        try:
            site = formats.write(folder / "site", "server")
        finally:
            del formats.FORMATS["server"]
        yield site


def test_same_answers(written: Path) -> None:
    """Whatever the format, each question has the same answer."""
    wrong = []
    sites: dict[str | None, elenchus.Site] = {}
    for case in cases("questions.toml"):
        site = sites.setdefault(case.get("at"), elenchus.open_site(written, at=case.get("at")))
        answer = elenchus.ask(site, case["question"], page=case.get("page", 1), given=case.get("with"))
        told = {
            "ids": " ".join(row.id for row in answer.rows),
            "groups": group_words(answer),
            **{name: getattr(answer, name) for name in ("matched", "total", "pages", "placements")},
        }
        wrong += [
            (case["question"], name, value) for name, value in told.items() if case.get(name, value) != value
        ]
        said = case.get("notice", "").partition(" in notebook")[0]
        if not any(said in notice.message for notice in answer.notices) and said:
            wrong.append((case["question"], "notice", said))
    assert wrong == []


@pytest.mark.parametrize("written", SERVERS, indirect=True)
def test_no_secret(written: Path, run: Run) -> None:
    """Neither an output nor a file of the index tells a password, also where it is refused."""
    said = ""
    for password in (servers.PASSWORD, f"{servers.PASSWORD}, and wrong"):
        for command in (["ask", ""], ["check"], ["describe"], ["why", ""], ["describe", "--index"]):
            done = run(*command, "--site", str(written), BAY_PASSWORD=password)
            assert done.returncode in (0, 1, 9), done.stderr
            said += done.stdout + done.stderr
    assert "the database cannot be read" in said
    assert "tide & ebb" not in said
    assert all(b"tide & ebb" not in path.read_bytes() for path in (written / ".elenchus").iterdir())


@pytest.mark.parametrize("written", SERVERS, indirect=True)
def test_start_of_a_server(written: Path, tmp_path: Path, run: Run) -> None:
    """Start looks at the tables of a server, too, by a password that it writes nowhere."""
    found = re.search(r'url = "(.*)"', (written / "elenchus.toml").read_text())
    assert found
    given = ["start", found[1], "--into", str(tmp_path), "--password-from", "BAY_PASSWORD"]
    done = run(*given, BAY_PASSWORD=servers.PASSWORD)
    assert done.returncode == 0, done.stdout + done.stderr
    site = elenchus.open_site(tmp_path, at="2026-05-20T12:00-03:00")
    assert len(site.dataset.entries) == 20
    assert {row.id for row in elenchus.ask(site, 'where habitat = "tide-pools"').rows} == {
        "s3",
        "s4",
        "o1",
        "o4",
    }
    texts = [path.read_text() for path in tmp_path.glob("*.toml")]
    assert all("tide & ebb" not in text for text in [*texts, done.stdout, done.stderr])
    wrong = run(*given, BAY_PASSWORD="wrong")  # noqa: S106 - of nobody
    assert (wrong.returncode, "the database cannot be read" in wrong.stderr.lower()) == (6, True)


ATOM = """<?xml version="1.0" encoding="utf-8"?>
<feed xmlns="http://www.w3.org/2005/Atom"><title>Arrivals</title><id>urn:bay</id><updated>2026-05-01T00:00:00Z</updated>
<entry><title>Tide tables</title><id>urn:1</id><published>2026-05-01T09:00:00+01:00</published>
<updated>2026-05-01T09:00:00+01:00</updated><category term="sea"/><content type="html">&lt;p&gt;New &amp;amp; bound&lt;/p&gt;</content></entry>
<entry><title>Tide tables</title><id>urn:2</id><updated>2026-05-02T09:00:00Z</updated><category term="birds"/><summary>Second one</summary></entry>
</feed>"""
RSS = """<rss version="2.0"><channel><title>Arrivals</title>
<item><title>Tide tables</title><guid>1</guid><pubDate>Fri, 01 May 2026 09:00:00 +0100</pubDate><category>sea</category><description>&lt;p&gt;New&lt;/p&gt;</description></item>
<item><title>Tide tables</title><guid>2</guid><pubDate>Sat, 02 May 2026 09:00:00 GMT</pubDate><category>birds</category></item>
</channel></rss>"""
JSON_FEED = """{"version": "https://jsonfeed.org/version/1.1", "title": "Arrivals", "items": [
 {"id": "1", "title": "Tide tables", "date_published": "2026-05-01T08:00:00Z", "tags": ["sea"], "content_html": "<p>New</p>"},
 {"id": "2", "title": "Tide tables", "date_published": "2026-05-02T09:00:00Z", "tags": ["birds"]}]}"""
FEED_SITE = '[site]\nclock = 2026-06-01\n[sources.arrivals]\nread = "feed"\n{where}\nkind = "arrival"\n[kinds.arrival]\n[taxonomies.tags]\n'


@pytest.mark.parametrize("text", [ATOM, RSS, JSON_FEED], ids=["atom", "rss", "json"])
def test_feeds(make_site: Write, text: str) -> None:
    """A feed of any standard gives the same entries: ids that stay, instants, terms, a text."""
    site = make_site({"elenchus.toml": FEED_SITE.format(where='path = "new.xml"'), "new.xml": text})
    rows = elenchus.ask(site, "where title is set and date is set and tags is set").rows
    assert [(row.id, str(row["date"]), row["tags"]) for row in rows] == [
        ("arrival/tide-tables-2", "2026-05-02 09:00:00+00:00", ("birds",)),
        ("arrival/tide-tables", "2026-05-01 08:00:00+00:00", ("sea",)),
    ]
    assert "New" in str(elenchus.ask(site, "where body contains new").rows)
    assert site.dataset.problems == []


class Stand(BaseHTTPRequestHandler):
    """A server whose one page is a feed, with a tag that changes when it does; it notes what it is asked."""

    text: ClassVar[str] = ATOM
    code: ClassVar[int] = 200
    said: ClassVar[list[str]] = []

    def do_GET(self) -> None:
        tag = f'"{hash(type(self).text)}"'
        self.said.append(self.headers.get("If-None-Match") or "")
        same = self.said[-1] == tag
        self.send_response(304 if same else type(self).code)
        self.send_header("ETag", tag)
        self.end_headers()
        if not same:
            self.wfile.write(type(self).text.encode())

    def log_message(self, *_: Any) -> None:
        """Tell nobody."""


def test_fetched(make_site: Write, monkeypatch: pytest.MonkeyPatch) -> None:
    """A feed is asked for again when it is old, only whether it has changed, and is there without a network."""
    Stand.said = []
    with ThreadingHTTPServer(("127.0.0.1", 0), Stand) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        where = f'url = "http://127.0.0.1:{server.server_port}/new.atom"'
        folder = make_site({"elenchus.toml": FEED_SITE.format(where=where)}).definition.folder

        def found() -> tuple[int, list[str]]:
            data = elenchus.open_site(folder).dataset
            return len(data.entries), [each.code for each in data.problems]

        assert found() == found() == (2, [])
        assert Stand.said == [""]
        begun = time.time()
        monkeypatch.setattr(time, "time", lambda: begun + 1000)
        assert found() == (2, [])
        assert Stand.said[1:] != [""]
        Stand.text = ATOM.replace("</feed>", "<entry><title>Third</title><id>urn:3</id></entry></feed>")
        assert found() == (2, [])
        monkeypatch.setattr(time, "time", lambda: begun + 2000)
        assert found() == (3, [])
        Stand.code = 500
        Stand.text = ""
        monkeypatch.setattr(time, "time", lambda: begun + 3000)
        assert found() == (3, ["unfetched"])
        server.shutdown()
    assert found() == (3, ["unfetched"])
    assert (folder / "elenchus.toml").write_text(FEED_SITE.format(where=where) + "[kinds.other]\n")
    assert found() == (3, ["unfetched"])


ODD_ANSWERS = {
    "garbage": (b"\x00\xff\x1b]52;c;aGk=\x07 what\r\n\r\n", "its answer cannot be understood"),
    "chunk": (
        b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\nzz\r\nabc",
        "its answer cannot be understood",
    ),
    "headers": (b"HTTP/1.1 200 OK\r\n" + b"a: b\r\n" * 200 + b"\r\n", "its answer cannot be understood"),
    "long header": (
        b"HTTP/1.1 200 OK\r\na: " + b"b" * 70_000 + b"\r\n\r\n",
        "its answer cannot be understood",
    ),
    "odd redirect": (b"HTTP/1.1 302 Found\r\nLocation: http://a b/\r\n\r\n", "cannot be fetched"),
    "half a bracket": (b"HTTP/1.1 302 Found\r\nLocation: http://[\r\n\r\n", "cannot be fetched"),
    "ftp": (b"HTTP/1.1 302 Found\r\nLocation: ftp://127.0.0.1/x\r\n\r\n", "other than http or https"),
    "file": (b"HTTP/1.1 302 Found\r\nLocation: file:///etc/passwd\r\n\r\n", "is not allowed"),
    "round": (b"HTTP/1.1 302 Found\r\nLocation: /again\r\n\r\n", "infinite loop"),
    "nothing": (b"", "cannot be fetched"),
    "slow": (b"HTTP/1.1 200 OK\r\nContent-Length: 90\r\n\r\n", "the server took more than 1 seconds"),
}


@pytest.mark.parametrize("name", ODD_ANSWERS)
def test_servers_that_answer_oddly(make_site: Write, monkeypatch: pytest.MonkeyPatch, name: str) -> None:
    """Whatever a server does, and however slowly, is a problem of its source, with no key of its address."""
    answer, says = ODD_ANSWERS[name]
    monkeypatch.setattr("elenchus.sources._fetching._PATIENCE", 1 if name == "slow" else 20)
    over = threading.Event()

    def serve(listening: socket.socket) -> None:
        with suppress(OSError):
            while True:
                connection, _ = listening.accept()
                with connection, suppress(OSError):
                    connection.settimeout(1)
                    connection.recv(10_000)
                    connection.sendall(answer)
                    while name == "slow" and not over.wait(0.1):
                        connection.sendall(b"x")

    with socket.create_server(("127.0.0.1", 0)) as listening:
        threading.Thread(target=serve, args=(listening,), daemon=True).start()
        where = f'url = "http://127.0.0.1:{listening.getsockname()[1]}/new.atom?token=secret"'
        site = make_site({"elenchus.toml": FEED_SITE.format(where=where)})
        problems = [str(each) for each in site.dataset.problems]
        over.set()
    assert len(problems) == 1
    assert says in problems[0]
    assert "secret" not in problems[0]
    assert "/new.atom?…" in problems[0]


@pytest.mark.parametrize("address", ["http://[", "http://x.example:port/", "http://a b/", "ftp://x.example/", "http:///x", "nonsense"])  # fmt: skip
def test_addresses_that_are_none(make_site: Write, run: Run, address: str) -> None:
    make_site({"elenchus.toml": FEED_SITE.format(where=f'url = "{address}"')})
    for command in (["ask", ""], ["check"], ["describe"]):
        found = run(*command)
        assert found.returncode in (0, 1, 4), found.stderr
        assert "cannot be fetched" in found.stdout + found.stderr


def test_redirects_stay_outside() -> None:
    """The server of a public address leads to no address inside; one that is inside may."""

    class Connection(HTTPConnection):
        def __init__(self, address: str) -> None:
            super().__init__("x.example")
            self.sock = self
            self.address = address

        def getpeername(self) -> tuple[str, int]:
            return self.address, 80

    inside = [
        "127.0.0.1",
        "10.1.2.3",
        "169.254.169.254",
        "::1",
        "::ffff:192.168.1.1",
        "fe80::1%eth0",
        "0.0.0.0",  # noqa: S104
    ]
    for address in inside:
        guard = Guard()
        guard.check(Connection("93.184.216.34"))
        with pytest.raises(OSError, match="inside this network"):
            guard.check(Connection(address))
        guard = Guard()
        guard.check(Connection(address))
        guard.check(Connection("192.168.7.7"))


TABLE_SITE = """[site]
clock = 2026-06-01
[sources.things]
read = "database"
{where}
table = "things"
{updated}
kind = "thing"
columns = {{ title = "name" }}
[sources.things.terms.topic]
table = "thing_topics"
entry = "thing"
term = "topic"
[sources.things.extras]
table = "thing_extras"
entry = "thing"
name = "name"
value = "value"
[kinds.thing.fields]
weight = {{ type = "number" }}
[taxonomies.topic]
"""


# Times as a server has them, and what a field with date and time says then; all but the first two are no times.
TIMES = {
    "2026-05-18 09:30:15": "2026-05-18T09:30:15Z", "2026-05-18 09:30:15.25": "2026-05-18T09:30:15.250Z",
    "infinity": None, "-infinity": None, "0044-03-15 00:00:00 BC": None, "12000-01-01": None,
}  # fmt: skip
TIMES_SITE = """[site]
timezone = "UTC"
[sources.things]
read = "database"
url = "{url}"
password_from = "BAY_PASSWORD"
table = "things"
kind = "thing"
[kinds.thing.fields]
day = {{ type = "date" }}
local = {{ type = "datetime" }}
exact = {{ type = "datetime" }}
"""


def test_times_of_a_server(tmp_path_factory: pytest.TempPathFactory, tmp_path: Path) -> None:
    """Times that our calendar has not are told row by row, whatever form the server is set to, and nothing is lost."""
    with servers.postgresql(servers.home(tmp_path_factory)) as (url, connect):
        with connect() as owner:
            owner.execute("ALTER ROLE reader SET datestyle TO 'German'")
            owner.execute(
                "CREATE TABLE things (id int PRIMARY KEY, day date, local timestamp, exact timestamptz)"
            )
            for number, text in enumerate(TIMES, start=1):
                owner.execute("INSERT INTO things VALUES (%s, %s, %s, %s)", [number, text, text, text])
        (tmp_path / "elenchus.toml").write_text(TIMES_SITE.format(url=url))
        site = elenchus.open_site(tmp_path, index=False)
        shown = "from thing where day is set or day is missing or local is set or exact is set order by id"
        rows = [(row["day"], row["local"], row["exact"]) for row in elenchus.ask(site, shown).rows]
        problems = [str(each) for each in site.dataset.problems]
    good = [datetime.fromisoformat(text) for text in TIMES.values() if text]
    assert rows == [*((each.date(), each, each) for each in good), *[(None, None, None)] * 4]
    assert len(problems) == 12
    assert [each for each in problems if "is not a da" not in each] == []
    assert "things:3: exact: “infinity” is not" in "\n".join(problems)


PARTS_SITE = """[site]
[sources.things]
read = "database"
url = "{url}"
password_from = "BAY_PASSWORD"
table = "things"
updated = "changed"
kind = "thing"
columns = {{ title = "name" }}
[kinds.thing]
"""


@pytest.mark.parametrize("key", ["integer", "text", "uuid"])
def test_parts_of_a_server(
    tmp_path_factory: pytest.TempPathFactory, tmp_path: Path, key: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Keys and times of changes come in parts, whatever signs are in them; a change reads its own unit only."""
    made = {"integer": "n", "text": "'t' || n || CASE WHEN n % 900 = 5 THEN chr(31) || 'é' ELSE '' END", "uuid": "md5(n::text)::uuid"}[key]  # fmt: skip
    monkeypatch.setattr("elenchus.sources._tables._PART", 1000)
    with servers.postgresql(servers.home(tmp_path_factory)) as (url, connect):
        with connect() as owner:
            owner.execute(f"CREATE TABLE things (id {key} PRIMARY KEY, name text, changed timestamptz)")
            owner.execute(
                f"INSERT INTO things SELECT {made}, 'Thing ' || n, CASE WHEN n % 7 = 0 THEN NULL ELSE now() - interval '2 days' END FROM generate_series(1, 4000) AS n"
            )
        (tmp_path / "elenchus.toml").write_text(PARTS_SITE.format(url=url))

        def titles(*, index: bool) -> list[str]:
            found = elenchus.ask(
                elenchus.open_site(tmp_path, index=index), "from thing where title is set order by id"
            )
            return [str(row["title"]) for row in found.rows]

        assert len(set(titles(index=True))) == 4000
        assert titles(index=True) == titles(index=False)
        asked: list[Any] = []
        whole = Shape.rows
        monkeypatch.setattr(Shape, "rows", lambda self, *ends: asked.append(ends) or whole(self, *ends))  # type: ignore[func-returns-value]
        with connect() as owner:
            owner.execute(
                "UPDATE things SET name = 'Other', changed = now() - interval '30 hours' WHERE name = 'Thing 900'"
            )
            owner.execute("DELETE FROM things WHERE name = 'Thing 77'")
        found = titles(index=True)
        assert 1 <= len(asked) <= 6
        assert found == titles(index=False)
        assert ("Other" in found, "Thing 77" in found, len(found)) == (True, False, 3999)


def told_of(folder: Path, *, index: bool) -> tuple[Any, list[str]]:
    """Return all that a site says of its things, and what is wrong with them."""
    site = elenchus.open_site(folder, index=index)
    rows = elenchus.ask(site, "where title is set or weight is set or topic is set order by id").rows
    shown = [(row.id, row["title"], row["weight"], row["topic"]) for row in rows]
    return shown, [str(each) for each in (*site.content.failures, *site.dataset.problems)]


def changed(database: sqlite3.Connection, keys: list[Any], draw: random.Random, now: str) -> None:
    """Change something of the things, or of what stands beside them."""
    name = draw.choice(keys)
    match draw.randrange(6):
        case 0:
            fresh = draw.randrange(10_000, 90_000)
            keys.append(fresh if isinstance(name, int) else f"t{fresh}é")
            database.execute("INSERT INTO things VALUES (?, 'New', ?)", [keys[-1], now])
        case 1:
            keys.remove(name)
            database.execute("DELETE FROM things WHERE id = ?", [name])
        case 2:
            database.execute("UPDATE things SET name = 'Other', changed = ? WHERE id = ?", [now, name])
        case 3:
            database.execute("DELETE FROM thing_topics WHERE thing = ?", [name])
        case 4:
            database.execute("INSERT INTO thing_topics VALUES (?, ?)", [name, draw.choice("abcd")])
        case _:
            weight = draw.choice(["1.5", "heavy", "3"])
            database.execute("INSERT INTO thing_extras VALUES (?, 'weight', ?)", [name, weight])


@pytest.mark.parametrize("updated", ['updated = "changed"', ""], ids=["updated", "compared"])
@pytest.mark.parametrize("key", ["INTEGER", "TEXT"])
def test_changed_rows(tmp_path: Path, key: str, updated: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """After any change of a table, or of those beside it, an index has what a fresh reading has, and reads little."""
    draw = random.Random(11)  # noqa: S311 - nothing here is secret
    database = sqlite3.connect(tmp_path / "all.db", isolation_level=None)
    database.execute(f"CREATE TABLE things (id {key} PRIMARY KEY, name TEXT, changed TEXT)")
    database.execute("CREATE TABLE thing_topics (thing, topic TEXT)")
    database.execute("CREATE TABLE thing_extras (thing, name TEXT, value TEXT)")
    keys: list[Any] = [number if key == "INTEGER" else f"t{number:05}é" for number in range(1, 3001)]
    clock = iter(
        f"2026-01-01 {number // 3600:02}:{number // 60 % 60:02}:{number % 60:02}" for number in range(80_000)
    )
    database.execute("BEGIN")  # or each row would be a transaction
    database.executemany(
        "INSERT INTO things VALUES (?, ?, ?)", [(name, f"Thing {name}", next(clock)) for name in keys]
    )
    database.executemany(
        "INSERT INTO thing_topics VALUES (?, ?)", [(name, draw.choice("abc")) for name in keys[::3]]
    )
    database.execute("COMMIT")
    (tmp_path / "elenchus.toml").write_text(TABLE_SITE.format(where='path = "all.db"', updated=updated))
    asked: list[Any] = []
    whole = Shape.rows
    monkeypatch.setattr(Shape, "rows", lambda self, *ends: asked.append(ends) or whole(self, *ends))  # type: ignore[func-returns-value]
    told_of(tmp_path, index=True)
    told_of(tmp_path, index=True)
    many = len(asked)
    assert many >= 2
    later = time.time_ns() + 10**10
    monkeypatch.setattr(time, "time_ns", lambda: later)  # what is newest is read again once more
    told_of(tmp_path, index=True)
    asked.clear()
    assert told_of(tmp_path, index=True) == told_of(tmp_path, index=True)
    assert asked == []
    for _ in range(8):
        for _ in range(draw.randrange(1, 4)):
            changed(database, keys, draw, next(clock))
        asked.clear()
        found = told_of(tmp_path, index=True)
        if updated:
            assert len(asked) <= 8  # of some thousands of rows those near a change
        assert found == told_of(tmp_path, index=False)
    database.close()
    (tmp_path / "all.db").write_bytes(b"SQLite format 3\0 and no more")
    kept, wrong = told_of(tmp_path, index=True)
    assert kept == found[0]
    assert any("the database cannot be read" in each for each in wrong)


FORMATS_OF = {
    "csv": "id,title,date,topic\n1,One,2026-01-01,a\n",
    "jsonl": '{"id": 1, "title": "One", "topic": ["a"]}\n',
    "json": '[{"id": 1, "title": "One", "topic": ["a"]}]',
    "feed": ATOM,
    "html": "<html><head><title>One</title><meta name='topic' content='a'></head><body><h1>One</h1><p>x</body></html>",
    "markdown": "---\ntitle: One\ntopic: [a]\n---\nText\n",
}
HOSTILE: dict[str, list[bytes]] = {
    "csv": [b'a,b\n"open', b"a,b\n" + b"x" * 33_554_500, b"\0" * 1000, b"a" * 70_000 + b",b\n1,2\n", b'id,title\n1,"=HYPERLINK(""http://x"")"\n', b",,,\n,,,\n", b"id\n" + b"1\n" * 5],
    "jsonl": [b"{" * 100_000, b'{"a":' * 2000 + b"1" + b"}" * 2000, b"[1]\n{}\nnull\n", b'{"a": 1, "a": 2}\n', b'{"id": 1e999999999}\n', b'{"title": "\\ud800"}\n'],
    "json": [b"[" * 100_000, b'{"a": {"b": 1}}', b"null", b'[{"a": 1, "a": 2}, 3, {"title": "Good"}]', b"", b'[{"title": "x"}'],
    "feed": [b'<!DOCTYPE lolz [<!ENTITY lol "lol"><!ENTITY lol2 "&lol;&lol;">]><feed>&lol2;</feed>', b"<feed>", b"<rss><channel><item></item></channel></rss>", b"<html></html>", b'{"version": "https://jsonfeed.org/version/1", "items": [1, {}]}', b"<" * 50_000],
    "html": [b"<" * 50_000, b"<title>" * 5000, b"<!--\n---\na: [\n---\n-->", b"<meta charset='nope'>", b"<!--\n{\"title\": 1\n-->", b"<body>" * 20_000],
    "markdown": [b'{"title": "x"', b'{"title": "x"} and more', b"---\na: &a [*a]\n---\n", b"\xff\xfe", b"\xfe\xff\x00"],
}  # fmt: skip


@pytest.mark.parametrize("name", FORMATS_OF)
def test_hostile(make_site: Write, name: str) -> None:
    """Whatever a file holds, there is no traceback, and what is wrong is told with the file."""
    draw = random.Random(3)  # noqa: S311 - nothing here is secret
    ending = {"markdown": "md", "feed": "atom"}.get(name, name)
    good = FORMATS_OF[name].encode()
    odd = list(HOSTILE[name])
    for _ in range(60):  # bytes that are changed, taken away and doubled
        text = bytearray(good)
        for _ in range(draw.randrange(1, 5)):
            at = draw.randrange(len(text))
            match draw.randrange(3):
                case 0:
                    text[at] = draw.randrange(256)
                case 1:
                    del text[at : at + draw.randrange(1, 20)]
                    text += b" "
                case _:
                    text[at:at] = text[at : at + draw.randrange(1, 30)] * 3
        odd.append(bytes(text))
    site = f'[site]\n[sources.all]\nread = "{name}"\npath = "all"\nkind = "note"\n[kinds.note]\n[taxonomies.topic]\n'
    folder = make_site({"elenchus.toml": site, "all/.keep": ""}).definition.folder
    begun = time.process_time()
    for number, content in enumerate(odd):
        (folder / "all" / f"f{number}.{ending}").write_bytes(content)
    (folder / "all" / f"good.{ending}").write_bytes(good)
    data = elenchus.open_site(folder).dataset
    assert time.process_time() - begun < 60
    assert all(
        each.place and (each.place.file.startswith("all/f") or "id" in each.message) for each in data.problems
    )
    assert any(
        row["source"] == f"all/good.{ending}"
        for row in elenchus.ask(elenchus.open_site(folder), "where source is set").rows
    ) or any(each.about is About.IDENTITY for each in data.problems)


def test_packed(make_site: Write) -> None:
    """Files may be packed and stand in archives; what unpacks to beyond all measure is not read."""
    site = '[site]\n[sources.all]\nread = "csv"\npath = ["a.csv.gz", "box.zip/in/*.csv", "more/**/*.csv"]\nkind = "note"\n[kinds.note]\n'
    folder = make_site(
        {
            "elenchus.toml": site.replace("path = [", "path = ["),
            "a.csv.gz": "",
            "box.zip": "",
            "more/x/y/d.csv": "slug\nfour\n",
        }
    ).definition.folder
    (folder / "a.csv.gz").write_bytes(gzip.compress(b"slug\none\n"))
    with zipfile.ZipFile(folder / "box.zip", "w", zipfile.ZIP_DEFLATED) as box:
        box.writestr("in/b.csv", "slug\ntwo\n")
        box.writestr("out/c.csv", "slug\nthree\n")
        box.writestr("in/bomb.csv", b"slug\n" + b"x" * 200_000_000)
    data = elenchus.open_site(folder).dataset
    assert sorted(data.entries.ids) == ["note/four", "note/one", "note/two"]
    assert [each.place.file for each in data.problems if each.place] == ["box.zip/in/bomb.csv"]
    (folder / "box.zip").write_bytes(b"PK no more")
    assert sorted(elenchus.open_site(folder).dataset.entries.ids) == ["note/four", "note/one"]


@pytest.mark.parametrize("case", cases("sources.toml"), ids=lambda case: case["name"])
def test_habits(make_site: Write, case: dict[str, Any]) -> None:
    """What a source says of its habits is what its entries are."""
    prefer = f"prefer = {case['prefer']}\n" if "prefer" in case else ""
    language = case.get("language", "en")
    text = f'[site]\nlanguage = "{language}"\n{prefer}[sources.all]\n{case["source"]}\n[kinds.note]\n[kinds.place]\n[taxonomies.topic]\n'
    site = make_site({"elenchus.toml": text, **case["files"]})
    assert sorted(map(str, site.dataset.problems)) == sorted(case.get("said", []))
    rows = elenchus.ask(site, "where title is set or date is set or topic is set including unpublished").rows
    found = []
    for row in rows:
        day = str(row["date"] or "")[:10]
        shown = (str(row["title"]), day, ",".join(row["topic"] or ()))
        found.append(" ".join([row.id, *("~".join(each.split()) or "-" for each in shown)]))
    wanted = [each.replace("~00:00", "") for each in case["rows"]]
    assert sorted(found) == sorted(wanted)
    if "public" in case:
        assert [row.id for row in elenchus.ask(site, "").rows] == case["public"]


@given(
    day=st.dates(date(1970, 1, 1), date(2069, 12, 31)),
    pattern=st.sampled_from(
        [
            "dd/MM/y",
            "M/d/yy",
            "d MMMM y",
            "MMMM d, y",
            "d. MMM y",
            "EEEE, d MMMM y",
            "y.MM.dd",
            "d 'de' MMMM 'de' y",
        ]
    ),
    language=st.sampled_from(["en", "de", "fr", "es", "pl", "pt-BR", "fi"]),
)
def test_patterns_of_dates(day: date, pattern: str, language: str) -> None:
    """What another library writes by a pattern in a language is read as the same day."""
    written = format_date(day, pattern, locale=Locale.parse(language, sep="-"))
    assert wrong_pattern(pattern) == ""
    for text in (written, written.upper(), f" {written} "):
        assert date_reader((pattern,), language)(text) == day.isoformat(), text


@pytest.mark.parametrize(
    ("pattern", "said"),
    [
        ("dd/MM", "it has no year (y)"),
        ("d y", "it has no month (M)"),
        ("dd/MM/yyyyQ", "nothing is called Q there"),
    ],
)
def test_wrong_patterns(pattern: str, said: str) -> None:
    assert wrong_pattern(pattern) == said


def test_times_by_patterns() -> None:
    """A time of day and an offset are read, and what the calendar has not is no date."""
    read = date_reader(("d/M/y h:mm a", "EEE, d MMM y HH:mm:ss Z", "epoch"), "en")
    assert read("5/3/2024 9:05 pm") == "2024-03-05T21:05:00"
    assert read("5/3/2024 12:05 am") == "2024-03-05T00:05:00"
    assert read("Tue, 5 Mar 2024 10:00:00 +0100") == "2024-03-05T10:00:00+01:00"
    assert read("1709632800") == read("1709632800000") == "2024-03-05T10:00:00+00:00"
    assert [read(text) for text in ("30/2/2024 9:05 am", "5/3/2024 13:61 am", "nonsense", "1e400")] == [
        ""
    ] * 4


BREAKING_OUT = [
    "select * from things) as x; commit; drop table things; select * from (select 1 as id",
    "select 1 as id; drop table things",
    "select 1 as id) as x; set session characteristics as transaction read write; begin; drop table things; commit; select * from (select 1 as id",
]


@pytest.mark.parametrize("name", SERVERS)
def test_queries_that_break_out(
    tmp_path_factory: pytest.TempPathFactory, make_site: Write, name: str
) -> None:
    """A query of a site is one statement that reads, whatever its text, and it does not take for ever."""
    sleep = {"postgresql": "pg_sleep(99)", "mariadb": "sleep(99)"}[name]
    with getattr(servers, name)(servers.home(tmp_path_factory)) as (url, connect):
        with connect() as owner, owner.cursor() as cursor:
            cursor.execute("CREATE TABLE things (id integer primary key)")
            cursor.execute("INSERT INTO things VALUES (1)")
        where = url.replace("reader@", "owner@" if name == "postgresql" else "reader@")
        for query in (*BREAKING_OUT, f"select id, {sleep} from things"):
            text = f'[site]\n[sources.things]\nread = "database"\nurl = "{where}"\npassword_from = "BAY_PASSWORD"\nquery = "{query}"\nkind = "thing"\ntimeout = 1\n[kinds.thing]\n'
            with pytest.raises(elenchus.SourceError) as failed:
                _ = make_site({"elenchus.toml": text}).dataset
            assert [each.code for each in failed.value.problems] == ["unreadable-database"], query
        with connect() as owner, owner.cursor() as cursor:
            cursor.execute("SELECT COUNT(*) FROM things")
            assert cursor.fetchone()[0] == 1


@pytest.mark.parametrize(
    ("address", "said"),
    [
        ("mariadb://a@127.0.0.1/b?init_command=drop%20table%20x", "the option init_command of its address is not allowed"),
        ("mariadb://a@127.0.0.1/b?client_flag=65536", "client_flag"),
        ("mysql://a@127.0.0.1/b?local_infile=1", "local_infile"),
        ("mysql://a@127.0.0.1/b?read_default_file=/etc/x", "read_default_file"),
        ("mysql://a@127.0.0.1/b?cursorclass=x", "cursorclass"),
        ("mysql://a@127.0.0.1/b?conv=x", "conv"),
        ("postgresql://a@127.0.0.1/b?passfile=/etc/x", "passfile"),
        ("postgresql://a@127.0.0.1/b?options=-c%20default_transaction_read_only%3Doff", "the option options"),
        ("postgresql://a@127.0.0.1/b?host=db.example", "the option host"),
        ("postgresql://a@db.example/b", "the variable BAY_PASSWORD was never used for db.example. If you trust that server: elenchus allow BAY_PASSWORD db.example"),
        ("postgresql://a@127.db.example/b", "was never used for 127.db.example"),
        ("postgresql://a@localhost,db.example/b", "was never used for localhost,db.example"),
        ("postgresql://a@allowed.example/b?sslmode=disable", "a password is never sent in plain text"),
        ("postgresql://a@allowed.example/b?sslmode=prefer", "a password is never sent in plain text"),
    ],
)  # fmt: skip
def test_addresses_of_databases(make_site: Write, run: Run, address: str, said: str) -> None:
    """What an address could do besides leading to a database is refused, before anything is asked there."""
    text = f'[site]\n[sources.things]\nread = "database"\nurl = "{address}"\npassword_from = "BAY_PASSWORD"\ntable = "things"\nkind = "thing"\n[kinds.thing]\n'
    make_site({"elenchus.toml": text})
    assert run("allow", "BAY_PASSWORD", "allowed.example").returncode == 0
    found = run("ask", "", BAY_PASSWORD="secret")  # noqa: S106
    assert said in " ".join(found.stderr.split())
    assert "secret" not in found.stderr


def test_files_of_sqlite_as_they_are(make_site: Write, tmp_path: Path) -> None:
    """Rows without a usable key are counted; nothing is left beside a file; an endless view comes to an end."""
    path = tmp_path / "all.db"
    with sqlite3.connect(path) as database:
        database.execute("PRAGMA journal_mode = WAL")
        database.execute("CREATE TABLE things (id PRIMARY KEY, name TEXT)")
        database.executemany(
            "INSERT INTO things VALUES (?, ?)",
            [(b"\xff\x00", "Blob"), (1, "One"), ("two", "Two"), (None, "None"), (2.5, "Half")],
        )
        database.execute(
            "CREATE VIEW endless AS WITH RECURSIVE n(id) AS (SELECT 1 UNION ALL SELECT id + 1 FROM n) SELECT id FROM n WHERE id < 0"
        )
    database.close()
    text = '[site]\n[sources.things]\nread = "database"\npath = "all.db"\ntable = "{}"\nkey = "id"\nkind = "thing"\n[kinds.thing]\n'
    before = sorted(each.name for each in tmp_path.iterdir())
    for _ in range(2):  # read, then as it is kept
        site = make_site({"elenchus.toml": text.format("things")})
        assert len(site.dataset.entries) == 3
        assert [each.message for each in site.dataset.problems] == [
            "2 rows have no key that is a number or a text"
        ]
    assert sorted(each.name for each in tmp_path.iterdir()) == sorted([*before, "elenchus.toml", ".elenchus"])
    with pytest.raises(elenchus.SourceError, match="took longer than allowed"):
        _ = make_site(
            {"elenchus.toml": text.replace("kind =", "timeout = 1\nkind =").format("endless")}
        ).dataset


def test_each_statement_has_its_time(make_site: Write, tmp_path: Path) -> None:
    """What a statement of SQLite may take is counted for each: together those of a run may take longer."""
    counting = "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {}) SELECT 1 AS id, 'Kelp' AS title, sum(i) AS total FROM n"
    with sqlite3.connect(tmp_path / "all.db") as database:
        begun = time.perf_counter()
        database.execute(counting.format(1_000_000)).fetchall()
        count = int(0.7 / (time.perf_counter() - begun) * 1_000_000)  # which takes 0.7 s here and now
        database.execute(f"CREATE VIEW slow AS {counting.format(count)}")
    database.close()
    site = '[site]\n[sources.things]\nread = "database"\npath = "all.db"\ntable = "slow"\nkey = "id"\ntimeout = 2\nkind = "thing"\n[kinds.thing]\n'
    assert list(make_site({"elenchus.toml": site}).dataset.entries.ids) == ["thing/1"]


@pytest.mark.parametrize(
    ("keys", "said"),
    [
        ('table = "thngs"', "things has no table “thngs”. Did you mean things?"),
        ('table = "things"\nkey = "idd"', "things has no column “idd”. Did you mean id?"),
        ('table = "things"\nupdated = "changd"', "things has no column “changd”. Did you mean changed?"),
        ('query = "select name, changed from things"', 'no column tells its rows apart; write key = "…"'),
        ('query = "selct 1"', 'syntax error'),
        ('query = "delete from things"', "syntax error"),
        ('table = "things"\n[sources.things.terms.topic]\ntable = "topics"\nentry = "thing"\nterm = "topc"', "topics has no column “topc”. Did you mean topic?"),
        ('table = "things"\n[sources.things.extras]\ntable = "more"\nentry = "a"\nname = "b"\nvalue = "c"', "things has no table “more”. There are things, topics."),
    ],
    ids=lambda text: text[:40],
)  # fmt: skip
def test_wrong_tables(make_site: Write, tmp_path: Path, keys: str, said: str) -> None:
    """What a database has not is told with the nearest name, and nothing is answered or written."""
    path = tmp_path / "all.db"
    with sqlite3.connect(path) as database:
        database.execute("CREATE TABLE things (id INTEGER PRIMARY KEY, name TEXT, changed TEXT)")
        database.execute("INSERT INTO things VALUES (1, 'One', '2026-01-01')")
        database.execute("CREATE TABLE topics (thing INTEGER, topic TEXT)")
    database.close()
    before = path.read_bytes()
    site = f'[site]\n[sources.things]\nread = "database"\npath = "{path}"\nkind = "thing"\n{keys}\n[kinds.thing]\n[taxonomies.topic]\n'
    with pytest.raises(elenchus.SourceError) as failed:
        _ = make_site({"elenchus.toml": site}).dataset
    [problem] = failed.value.problems
    assert problem.code == "unreadable-database"
    assert said in problem.message
    assert path.read_bytes() == before
    [found] = [
        each
        for each in check_site(elenchus.open_site(tmp_path)).findings
        if each.problem.code == "unreadable-database"
    ]
    assert said in found.problem.message


@pytest.mark.parametrize(
    ("keys", "said"),
    [
        ('read = "markdown"\npath = "all"\nslug = "{stme}"', "nothing fills “{stme}” Known here: {stem}, {folder}, {folders} or {date}."),
        ('read = "csv"\npath = "all"\ndate = "{day}"', "nothing fills “{day}” Known here: {stem}, {folder}, {folders} or {date}."),
        ('read = "csv"\npath = "al"', "there is no file or folder “al” in the site Did you mean all?"),
        ('read = "csv"\npath = "all"\nencoding = "cp12522"', "there is no encoding “cp12522”"),
        ('read = "csv"\npath = "all"\ndelimiter = ";;"', "“;;” cannot part cells Write one character, such as ; or |."),
        ('read = "csv"\npath = "all"\ndates = ["dd/MM"]', "“dd/MM” is no pattern of dates: it has no year (y)"),
        ('read = "json"\npath = "all"\nrecords = "$.a["', "“$.a[” is no path:"),
        ('read = "feed"\nurl = "https://x.example/a"\nfetch_every = "soon"', "“soon” is no age Write 15 minutes, 2 hours or 1 day."),
        ('read = "database"\nurl = "postgresql://me:secret@x/y"\ntable = "t"', "the address of the database tells its password"),
        ('read = "database"\nurl = "postgresql://me@x/y"', "does not say table = … or query = …"),
        ('read = "database"\nurl = "postgresql://me@x/y"\ntable = "t"\nzone = "Atlantic/Faro"', "there is no time zone “Atlantic/Faro” Did you mean"),
        ('read = "database"\npath = "all"\ntable = "t"\n[sources.all.terms.topic]\ntable = "x"', "does not say entry = …"),
    ],
    ids=lambda text: text[:60],
)  # fmt: skip
def test_wrong_sources(make_site: Write, keys: str, said: str) -> None:
    """What a site file says wrongly of a source stops everything, with its line and the nearest right word."""
    site = f"[site]\n[sources.all]\n{keys}\n[kinds.note]\n"
    with pytest.raises(elenchus.SiteError) as caught:
        make_site({"elenchus.toml": site, "all/.keep": ""}).dataset  # noqa: B018 - reading is what raises
    told = [str(each) for each in caught.value.problems]
    assert any(said in each and each.startswith("elenchus.toml:") for each in told), told
    assert not any("secret" in each for each in told)


def test_csv_goes_both_ways(make_site: Write, tmp_path: Path, run: Run) -> None:
    """What “ask” writes as CSV a source reads as it was: several values, commas in them, texts like formulas."""
    site = '[site]\ntitle = "R"\n[kinds.thing]\n[kinds.thing.fields]\nword = { type = "text" }\nwords = { type = "text", many = true }\n[sources.things]\nread = "csv"\npath = "t.csv"\nkind = "thing"\n'
    rows = 'slug,title,word,words\na,=A,"Ice, cold","""Ice, cold"",=b"\nb,B,"a|b",a|b\nc,C,-1 x,"x,""y"""\n'
    make_site({"elenchus.toml": site, "t.csv": rows})
    asked = ("ask", "from thing order by title", "--show", "slug,title,word,words", "--format")
    first, csv = run(*asked, "jsonl").stdout, run(*asked, "csv").stdout
    assert '"words": ["Ice, cold", "=b"]' in first
    assert "'=A" in run(*asked, "csv", "--for-spreadsheet").stdout
    (tmp_path / "t.csv").write_text(csv, encoding="utf-8")
    assert run(*asked, "jsonl").stdout == first
