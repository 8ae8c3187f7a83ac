"""Content of all formats: the same answers from each, changes noticed, secrets kept."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any, ClassVar

import pytest

import elenchus
import formats
import servers
from conftest import Run, Write, cases


@pytest.fixture(scope="session", params=[*formats.FORMATS, "postgresql", "mariadb"])
def written(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """Return the reference site with its content in one of the formats."""
    folder = tmp_path_factory.mktemp("written")
    if request.param not in ("postgresql", "mariadb"):
        yield formats.write(folder / "site", request.param)
        return
    home = tmp_path_factory.mktemp("server", numbered=True)
    os.environ["BAY_PASSWORD"] = servers.PASSWORD
    for path in (home, *home.parents):
        if path.stat().st_uid == os.geteuid() and path != Path("/tmp"):  # noqa: S108 - what leads to the server's folder
            path.chmod(path.stat().st_mode | 0o011)
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
            "groups": ", ".join(f"{group.label} {group.count}" for group in answer.groups or ()),
            **{name: getattr(answer, name) for name in ("matched", "total", "pages", "placements")},
        }
        wrong += [
            (case["question"], name, value) for name, value in told.items() if case.get(name, value) != value
        ]
        said = case.get("notice", "").partition(" in notebook")[0]
        if not any(said in notice.message for notice in answer.notices) and said:
            wrong.append((case["question"], "notice", said))
    assert wrong == []


def test_no_secret(written: Path, run: Run) -> None:
    """Neither an output nor a file of the index tells a password, also where it is refused."""
    if "password_from" not in (written / "elenchus.toml").read_text():
        pytest.skip("nothing here has a password")
    said = ""
    for password in (servers.PASSWORD, f"{servers.PASSWORD}, and wrong"):
        for command in (["ask", ""], ["check"], ["describe"], ["why", ""], ["describe", "--index"]):
            done = run(*command, "--site", str(written), BAY_PASSWORD=password)
            assert done.returncode in (0, 1), done.stderr
            said += done.stdout + done.stderr
    assert "the database cannot be read" in said
    assert "tide & ebb" not in said
    assert all(b"tide & ebb" not in path.read_bytes() for path in (written / ".elenchus").iterdir())


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
