"""Changing content by the program: what files say afterwards, what is shown before, kills, and the way back."""

from __future__ import annotations

import json
import os
import resource
import shlex
import shutil
import sqlite3
import subprocess
import sys
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, ExitStack, contextmanager, suppress
from functools import partial
from hashlib import sha256
from itertools import product
from pathlib import Path
from typing import Any

import pytest

import elenchus
import servers
from conftest import PROGRAM, SOAK, Run, Write, cases, kill_at_moments, share
from elenchus.asking.query import Query
from elenchus.editing.assignments import Assignment, read_assignments
from elenchus.editing.changing import ContentChange, content_change
from elenchus.editing.entries import entry_changes
from elenchus.pieces.commands import set_command
from elenchus.site.site import journal_of

SITE = """[site]
clock = 2026-06-01
timezone = "UTC"
[sources.notes]
read = "markdown"
path = "notes"
kind = "note"
encoding = "cp1252"
statuses = { live = "published", gone = "withdrawn" }
[sources.rows]
read = "csv"
path = "rows"
kind = "row"
[sources.lines]
read = "jsonl"
path = "lines"
kind = "row"
[sources.docs]
read = "json"
path = "docs"
kind = "row"
[sources.pages]
read = "html"
path = "pages"
kind = "page"
[fields]
size = { type = "number" }
tags = { type = "text", many = true }
certainty = { type = "choice", choices = ["possible", "confirmed"] }
[kinds.note]
[kinds.row]
[kinds.page]
[taxonomies.topic]
terms = "topics.csv"
"""
OTHERS = {
    "topics.csv": "slug,name\nice,Ice\nopen-sea,Open sea\n",
    "notes/other.md": "---\ntitle: Other\ntopic: [Open sea]\n---\n",
    **{f"{name}/.keep": "" for name in ("rows", "lines", "docs", "pages")},
}


@pytest.mark.parametrize("case", cases("editing.toml"), ids=lambda case: case["name"])
def test_set(case: dict[str, Any], make_site: Write, tmp_path: Path, run: Run) -> None:
    """Each change does what it says and no more, or says why not; undoing it gives the file back to the byte."""
    make_site({"elenchus.toml": SITE, **OTHERS, case["file"]: ""})
    path, encoding = tmp_path / case["file"], case.get("encoding", "utf-8")
    before = case["before"].encode(encoding)
    path.write_bytes(before)
    question = case.get("question", "from note, row where source = " + json.dumps(case["file"]))
    found = run("set", f"{question} including unpublished", *case["set"], "--yes")
    assert found.returncode == case.get("code", 0), found.stderr
    assert path.read_bytes() == case["after"].encode(encoding)
    assert case.get("says", "Written; elenchus undo takes it back.") in found.stdout + found.stderr
    if before != path.read_bytes():
        assert run("undo", "--yes").returncode == 0
        assert path.read_bytes() == before
    assert run("undo", "--yes").returncode == 7


NOTES = 40
MANY = {"elenchus.toml": SITE, **OTHERS, "listings.toml": '[sizes]\nask = "from note where size > 1 order by title"\n[latest]\nask = "from note order by newest limit 2"\n'} | {
    f"notes/n{number:03}.md": f"---\ntitle: Note {number:03}\ndate: 2026-01-{number % 28 + 1:02}\nsize: 1\n---\nText\n"
    for number in range(NOTES)
}  # fmt: skip


def test_what_is_shown(make_site: Write, tmp_path: Path, run: Run) -> None:
    """Before anything is written, lines, listings and pages are told; without a yes, nothing is."""
    make_site({**MANY, "pages.toml": '[home]\naddress = "index.html"\nsections = ["sizes"]\n'})
    asked = ("set", "from note where title = 'Note 003'", "size=2")
    shown = run(*asked, "--dry-run")
    for line in ("notes/n003.md", "     4 - size: 1", "     4 + size: 2", "1 entry in 1 file.", "In listings", "  sizes  0 → 1", "    + Note 003 enters at 1", "  sizes on /  0 → 1", "Nothing was written."):  # fmt: skip
        assert line in shown.stdout.splitlines()
    refused = run(*asked)
    assert (refused.returncode, "nobody can be asked here" in refused.stderr) == (2, True)
    assert "size: 1" in (tmp_path / "notes/n003.md").read_text()
    told = json.loads(run(*asked, "--yes", "--format", "json").stdout)
    assert told["entries"] == [
        {
            "id": "note/n003",
            "file": "notes/n003.md",
            "fields": [{"field": "size", "before": ["1"], "after": ["2"]}],
        }
    ]
    assert [(each["listing"], each["enters"][0]["id"]) for each in told["listings"]] == [
        ("sizes", "note/n003")
    ]
    assert told["change"] == 1
    assert "set 'from note where title" in run("undo", "--list").stdout
    assert "finds no entry" in run("set", "from note where title = x", "size=2", "--dry-run").stdout


def test_undo_keeps_what_was_changed_since(make_site: Write, tmp_path: Path, run: Run) -> None:
    """A file that somebody changed since stays as it is, and is named; the others go back."""
    make_site(MANY)
    before = {path.name: path.read_bytes() for path in (tmp_path / "notes").iterdir()}
    run("set", "from note", "size=2", "--yes")
    theirs = tmp_path / "notes" / "n001.md"
    theirs.write_text(theirs.read_text() + "More\n")
    found = run("undo", "--yes")
    assert (found.returncode, "! notes/n001.md" in found.stdout) == (1, True)
    now = {path.name: path.read_bytes() for path in (tmp_path / "notes").iterdir()}
    assert {name for name in now if now[name] != before[name]} == {"n001.md"}


def test_kills(make_site: Write, tmp_path: Path) -> None:
    """A change over many files that is killed at any moment is, after the next command, made or not made at all."""
    make_site(
        {
            **MANY,
            **{f"notes/m{number:03}.md": f"---\ntitle: M {number}\nsize: 1\n---\n" for number in range(460)},
        }
    )
    sizes: list[set[str]] = []

    def look() -> None:
        journal_of(tmp_path).finish()
        texts = {
            path.name: path.read_text() for path in (tmp_path / "notes").iterdir() if path.name != "other.md"
        }
        assert len(texts) == 500
        found = {line for text in texts.values() for line in text.splitlines() if line.startswith("size")}
        assert len(found) == 1, "a change that was half made"
        sizes.append(found)
        assert not list((tmp_path / "notes").glob("*.part"))
        for path in (tmp_path / "notes").iterdir():
            path.write_text(path.read_text().replace("size: 2", "size: 1"))
        shutil.rmtree(tmp_path / ".elenchus", ignore_errors=True)

    command = [
        str(PROGRAM),
        "set",
        "from note where title is set",
        "size=2",
        "--yes",
        "--site",
        str(tmp_path),
    ]
    kill_at_moments(command, tmp_path, look, 60 if SOAK else 8)
    assert {"size: 1"} in sizes
    assert {"size: 2"} in sizes


def unfinished(tmp_path: Path, *files: tuple[str, str], rows: list[Any] | None = None) -> Path:
    """Write a journal by hand whose change is unfinished: paths with what they are to hold, "" to delete them."""
    folder = tmp_path / ".elenchus-changes" / "000001"
    (folder / "after").mkdir(parents=True)
    named = []
    for at, (path, text) in enumerate(files):
        target = tmp_path / path
        old = sha256(target.read_bytes()).hexdigest() if target.is_file() else ""
        if text:
            (folder / "after" / str(at)).write_text(text)
        named.append([path, old, sha256(text.encode()).hexdigest() if text else ""])
    told = {"made": 1, "told": "x", "rows": rows or [], "undoes": 0, "files": named}
    (folder / "change.json").write_text(json.dumps(told))
    (folder.parent / "pending").write_text("000001")
    return folder


@pytest.mark.parametrize("path", ["../victim/evil.sh", "/{victim}/evil.sh", "notes/../../victim/a.md", ".git/hooks/x", "link/evil.sh", "../victim/old.md", "notes/n001.md"])  # fmt: skip
def test_a_journal_is_input(tmp_path: Path, run: Run, path: str) -> None:
    """No command that reads, and none that writes, carries out a change that came with the site."""
    here, victim = tmp_path / "site", tmp_path / "victim"
    for name, text in {**MANY, ".git/hooks/old": ""}.items():
        (here / name).parent.mkdir(parents=True, exist_ok=True)
        (here / name).write_text(text)
    victim.mkdir()
    (victim / "old.md").write_text("theirs")
    (here / "link").symlink_to(victim)
    unfinished(here, (path.replace("/{victim}", str(victim)), "" if "old" in path else "evil"))
    before = {
        each: each.read_bytes()
        for each in sorted(tmp_path.rglob("*"))
        if each.is_file() and ".elenchus" not in each.parts
    }
    commands = (
        ["ask", "from note"], ["check"], ["why", "from note"], ["describe"], ["pages"], ["undo", "--list"],
        ["set", "from note", "size=3", "--yes"], ["weave", "x.html"], ["publish"], ["undo"],
    )  # fmt: skip
    for command in commands:
        found = run(*command, cwd=here)
        assert found.returncode != 70
        if command[0] not in ("undo", "weave"):
            assert "A change of content is unfinished: x (1 file)" in found.stderr
        if command[0] == "set":
            assert (found.returncode, "was not made by you in this folder" in found.stderr) == (6, True)
    asked = run("undo", cwd=here)
    assert (asked.returncode, "It was not made by you in this folder" in asked.stdout) == (2, True)
    found = run("undo", "--yes", cwd=here)
    assert (found.returncode, "[journal-refused]" in found.stderr) == (6, True)
    now = {each: each.read_bytes() for each in before}
    assert now == before
    assert not (victim / "evil.sh").exists()


def test_damaged_copies(make_site: Write, tmp_path: Path, run: Run) -> None:
    """A copy that is not what its digest says is never written, and a copied site's changes are not ours."""
    make_site(MANY)
    before = (tmp_path / "notes/n001.md").read_bytes()
    run("set", "from note", "size=2", "--yes")
    now = (tmp_path / "notes/n001.md").read_bytes()
    folder = tmp_path / ".elenchus-changes" / "000001"
    [at] = [at for at, (path, *_) in enumerate(json.loads((folder / "change.json").read_text())["files"]) if path == "notes/n001.md"]  # fmt: skip
    kept = folder / "before" / str(at)
    assert kept.stat().st_nlink == 1
    kept.write_bytes(b"destroyed")
    found = run("undo", "--yes")
    assert (found.returncode, "The copy of notes/n001.md" in found.stderr) == (6, True)
    assert (tmp_path / "notes/n001.md").read_bytes() == now
    kept.write_bytes(before)
    elsewhere = Path(shutil.copytree(tmp_path, tmp_path.parent / f"{tmp_path.name}-copy"))
    assert "It was not made by you in this folder" in run("undo", cwd=elsewhere).stdout
    assert "elenchus undo without --yes" in run("undo", "--yes", cwd=elsewhere).stderr
    shutil.rmtree(elsewhere)
    assert run("undo", "--yes").returncode == 0
    assert (tmp_path / "notes/n001.md").read_bytes() == before


def test_a_run_that_ended_in_the_middle(make_site: Write, tmp_path: Path, run: Run) -> None:
    """What reads answers from the files as they are; what writes finishes first, and says so."""
    site = make_site(MANY)
    ids = Query.of(site, "from note where size = 1").ids()
    change = content_change(site, entry_changes(site, ids, read_assignments(["size=2"])))
    for ending in ("undo", "set"):
        interrupted(tmp_path, change)
        read = run("ask", "from note where size = 2", "--format", "number")
        assert (read.stdout, "The next command that changes content finishes it" in read.stderr) == (
            "5\n",
            True,
        )
        if ending == "undo":
            assert run("undo", "--yes").stdout.endswith("Undone in 5 files: set\n")
            assert run("ask", "from note where size = 1", "--format", "number").stdout == f"{NOTES}\n"
            assert journal_of(tmp_path).changes() == []
    found = run("set", "from note where size = 2", "size=3", "--yes")
    assert "Finished the change that an earlier run had begun: set (40 files)" in found.stderr
    assert run("ask", "from note where size = 3", "--format", "number").stdout == f"{NOTES}\n"


def interrupted(folder: Path, change: ContentChange) -> None:
    """Begin a change in a process that dies after five files."""
    if (child := os.fork()) == 0:
        os.environ["HOME"] = str(folder)
        ticks = iter(range(5))
        with suppress(StopIteration):
            change.write("set", lambda: os._exit(0) if next(ticks) == 4 else None)
        os._exit(1)
    assert os.waitpid(child, 0)[1] == 0


def test_what_belongs_to_a_file_stays(make_site: Write, tmp_path: Path, run: Run) -> None:
    """Permissions, owner and extended attributes stay; another name of a file is told of."""
    make_site(MANY)
    one, two = tmp_path / "notes" / "n001.md", tmp_path / "notes" / "n002.md"
    one.chmod(0o640)
    if os.geteuid() == 0:
        os.chown(one, 1234, 1235)
    with suppress(OSError):
        os.setxattr(one, "user.mood", b"calm")
    os.link(two, tmp_path / "other-name")
    owner, names = one.stat(), os.listxattr(one)
    found = run("set", "from note where size = 1", "size=2", "--yes")
    assert "notes/n002.md had another name (a hard link), which keeps the old content" in found.stdout
    now = one.stat()
    assert (now.st_mode, now.st_uid, now.st_gid) == (owner.st_mode, owner.st_uid, owner.st_gid)
    assert os.listxattr(one) == names
    assert "size: 1" in (tmp_path / "other-name").read_text()


def test_a_folder_that_became_a_link(make_site: Write, tmp_path: Path) -> None:
    """The way to each file is looked at again while writing."""
    site = make_site(MANY)
    ids = Query.of(site, "from note").ids()
    change = content_change(site, entry_changes(site, ids, read_assignments(["size=2"])))
    outside = tmp_path.parent / f"{tmp_path.name}-outside"
    (tmp_path / "notes").rename(outside)
    (tmp_path / "notes").symlink_to(outside)
    before = {path: path.read_bytes() for path in outside.iterdir()}
    with pytest.raises(elenchus.FolderError, match="is a link"):
        change.write("set")
    assert {path: path.read_bytes() for path in outside.iterdir()} == before
    shutil.rmtree(outside)


def small_disk() -> None:
    """Let this process write only small files."""
    resource.setrlimit(resource.RLIMIT_FSIZE, (600, 600))


@pytest.mark.parametrize("trouble", ["disk", "in the middle", "read-only"])
def test_cannot_write(
    make_site: Write, tmp_path: Path, trouble: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Where one file cannot be written, none is, and the error names it."""
    site = make_site({**MANY, "notes/n030.md": "---\ntitle: Large\nsize: 1\n---\n" + "x" * 700})
    assert elenchus.ask(site, "from note").total == NOTES + 1
    before = {path: path.read_bytes() for path in (tmp_path / "notes").iterdir()}
    if trouble == "disk":
        command = [str(PROGRAM), "set", "from note", "size=2", "--yes", "--site", str(tmp_path)]
        found = subprocess.run(command, capture_output=True, text=True, preexec_fn=small_disk, check=False)
        assert (found.returncode, "so nothing was changed" in found.stderr) == (6, True), found.stderr
        assert "Traceback" not in found.stderr
    else:
        whole, can = Path.replace, os.access
        if trouble == "read-only":
            monkeypatch.setattr(
                os, "access", lambda path, mode: Path(path).name != "n030.md" and can(path, mode)
            )
        else:

            def replaced(self: Path, target: Path) -> Path:
                if target.name == "n030.md" and self.parent.name == "after":
                    raise OSError(28, "No space left on device", str(target))
                return whole(self, target)

            monkeypatch.setattr(Path, "replace", replaced)
        ids = Query.of(site, "from note").ids()
        change = content_change(site, entry_changes(site, ids, read_assignments(["size=2"])))
        with pytest.raises(elenchus.FolderError, match=r"n030\.md cannot be written"):
            change.write("set")
    assert {path: path.read_bytes() for path in (tmp_path / "notes").iterdir()} == before
    assert journal_of(tmp_path).changes() == []


def test_two_at_once(make_site: Write, tmp_path: Path, run: Run) -> None:
    """Two runs cannot change a site at the same time; the second one says so."""
    make_site(MANY)
    with journal_of(tmp_path).alone():
        found = run("set", "from note", "size=2", "--yes")
    assert (found.returncode, "Another run is changing this site" in found.stderr) == (6, True)


TABLES = [
    "CREATE TABLE bay_things (id {key} PRIMARY KEY, name VARCHAR(80), size INTEGER, is_out {truth}, tags VARCHAR(80), changed {time})",
    "CREATE TABLE bay_topics (id INTEGER PRIMARY KEY, name VARCHAR(80), parent INTEGER)",
    "CREATE TABLE bay_thing_topics (thing {key}, topic INTEGER)",
    "CREATE TABLE bay_more (thing {key}, name VARCHAR(80), value VARCHAR(80))",
    "INSERT INTO bay_topics VALUES (1, 'Sea', NULL)", "INSERT INTO bay_topics VALUES (2, 'Ice', 1)",
    "INSERT INTO bay_things VALUES ({one}, 'It''s \"one\"', 3, {yes}, 'a, b', '2026-01-01 10:00:00')",
    "INSERT INTO bay_things VALUES ({two}, 'Two', NULL, {no}, NULL, '2026-01-02 10:00:00')",
    "INSERT INTO bay_thing_topics VALUES ({one}, 2)", "INSERT INTO bay_more VALUES ({one}, 'weight', '1.5')",
]  # fmt: skip
TABLE_SITE = """[site]
clock = 2026-06-01
timezone = "UTC"
[sources.things]
read = "database"
{where}
table = "things"
prefix = "bay_"
updated = "changed"
writable = true
kind = "thing"
columns = {{ title = "name" }}
[sources.things.terms.topic]
table = "thing_topics"
entry = "thing"
term = "topic"
names = "topics"
parent = "parent"
[sources.things.extras]
table = "more"
entry = "thing"
name = "name"
value = "value"
[kinds.thing.fields]
size = {{ type = "integer" }}
weight = {{ type = "number" }}
is_out = {{ type = "yesno" }}
tags = {{ type = "text", many = true }}
[taxonomies.topic]
tree = true
"""


@pytest.mark.parametrize("key", ["number", "text"])
@pytest.mark.parametrize("server", ["sqlite", "postgresql", "mariadb"])
def test_tables(
    server: str, key: str, tmp_path: Path, tmp_path_factory: pytest.TempPathFactory, run: Run
) -> None:
    """Rows of a database change where the site lets them: columns, joined terms, more fields; and go back."""
    run = partial(run, BAY_PASSWORD=servers.PASSWORD)
    with opened_database(server, tmp_path, tmp_path_factory) as (where, connect):
        one, two = ("1", "2") if key == "number" else ("'a/1'", "'b:2'")
        names = {"key": "INTEGER" if key == "number" else "VARCHAR(20)", "truth": "BOOLEAN" if server == "postgresql" else "INTEGER", "time": "TIMESTAMP NULL" if server != "sqlite" else "TEXT", "one": one, "two": two, "yes": "true" if server == "postgresql" else "1", "no": "false" if server == "postgresql" else "0"}  # fmt: skip
        with connect() as owner:
            for sql in TABLES:
                owner.cursor().execute(sql.format(**names))
            if server == "sqlite":
                owner.commit()

        def content() -> list[Any]:
            found = []
            with connect() as reader:
                for table, order in (
                    ("things", "name"),
                    ("thing_topics", "thing, topic"),
                    ("more", "thing, name"),
                ):
                    cursor = reader.cursor()
                    cursor.execute(f"SELECT * FROM bay_{table} ORDER BY {order}")
                    found.append([tuple(map(str, row)) for row in cursor.fetchall()])
            return found

        (tmp_path / "elenchus.toml").write_text(TABLE_SITE.format(where=where))
        before = content()
        asked = ("set", "from thing", "title-=x")
        assert "has one value" in run(*asked, "--yes").stderr
        changes = ["size=7", "is_out=no", "tags+=c", "topic=Sea", "weight=2.5"]
        shown = run("set", "from thing", *changes, "--dry-run")
        assert shown.returncode == 0, shown.stderr
        assert "    - size: 3\n    + size: 7\n" in shown.stdout
        assert content() == before
        done = run("set", "from thing", *changes, "--yes")
        assert done.returncode == 0, done.stderr
        site = elenchus.open_site(tmp_path)
        rows = elenchus.ask(
            site, "from thing where size = 7 and not is_out and weight = 2.5 and topic = sea and tags = c"
        )
        assert rows.total == 2
        assert [row[1] for row in content()[1]] == ["1", "1"]
        assert run("set", "from thing where title = Two", "topic=Fog", "--yes").returncode == 4
        assert run("undo", "--yes").returncode == 0
        assert [[row[:5] for row in table] for table in content()] == [
            [row[:5] for row in table] for table in before
        ]
        run("set", "from thing where title = Two", "size=5", "--yes")
        with connect() as owner:
            owner.cursor().execute("UPDATE bay_things SET size = 6 WHERE name = 'Two'")
            if server == "sqlite":
                owner.commit()
        late = run("undo", "--yes")
        assert (late.returncode, "size is 6, and this change left 5" in late.stdout) == (1, True), late.stdout
        assert [row[2] for row in content()[0] if row[1] == "Two"] == ["6"]
        assert run("undo", "--yes").returncode == 7  # it is on top no longer
        (tmp_path / "elenchus.toml").write_text(TABLE_SITE.format(where=where).replace("writable = true", ""))
        refused = run("set", "from thing", "size=1", "--yes")
        assert (refused.returncode, "Write writable = true in [sources.things]" in refused.stderr) == (
            4,
            True,
        )


COLD = {
    "notes/a.md": "---\ntitle: A\ntopic: [Sea/Ice]\n---\n",
    "listings.toml": '[cold]\nask = "where topic = sea/ice"\n',
}
RENAMED = {
    "notes/a.md": "---\ntitle: A\ntopic: [Sea/Pack ice]\n---\n",
    "listings.toml": '[cold]\nask = "where topic = sea/pack-ice"\n',
}


def make_cold_site(folder: Path, where: str, *owners: AbstractContextManager[Any]) -> None:
    """Make a site whose topic stands in files, in a database, and in a second one, of SQLite."""
    is_sqlite = where.startswith("path")
    for own, connection in enumerate(owners):
        time = "TEXT" if own or is_sqlite else "TIMESTAMP NULL"
        names = {"key": "INTEGER", "truth": "INTEGER", "time": time, "one": "1", "two": "2", "yes": "1", "no": "0"}  # fmt: skip
        with connection as owner:
            for sql in TABLES:
                owner.cursor().execute(sql.format(**names))
            if isinstance(owner, sqlite3.Connection):
                owner.commit()
    second = TABLE_SITE[TABLE_SITE.index("[sources.things]") : TABLE_SITE.index("[kinds.thing.fields]")]
    second = second.replace("sources.things", "sources.zz").format(where='path = "other.db"')
    second = second.replace('kind = "thing"', 'kind = "other"\nslug = "o{id}"')
    notes = '[kinds.other]\n[kinds.note]\n[sources.notes]\nread = "markdown"\npath = "notes"\nkind = "note"\n'
    (folder / "elenchus.toml").write_text(TABLE_SITE.format(where=where) + second + notes)
    for name, text in COLD.items():
        (folder / name).parent.mkdir(exist_ok=True)
        (folder / name).write_text(text)


def state_of_cold(folder: Path) -> str:
    """Say whether all of that site is as it was, or all renamed; raise AssertionError for anything else."""
    texts = {name: (folder / name).read_text() for name in COLD}
    found = [texts == COLD, texts == RENAMED]
    for name in ("all.db", "other.db"):
        if (folder / name).exists():
            with closing_connection(sqlite3.connect(folder / name)) as reader:
                [(term,)] = reader.execute("SELECT name FROM bay_topics WHERE id = 2")
            found = [found[0] and term == "Ice", found[1] and term == "Pack ice"]
    assert any(found), texts
    return "as it was" if found[0] else "renamed"


@pytest.mark.parametrize("server", ["sqlite", "postgresql", "mariadb"])
def test_a_term_of_files_and_databases(
    server: str, tmp_path: Path, tmp_path_factory: pytest.TempPathFactory, run: Run
) -> None:
    """A term is renamed in files and in two databases as one: all of them or none, and back."""
    run = partial(run, BAY_PASSWORD=servers.PASSWORD)
    other = tmp_path / "other.db"
    command = ("rename-term", "topic/sea/ice", "Pack ice")
    with opened_database(server, tmp_path, tmp_path_factory) as (where, connect):
        make_cold_site(tmp_path, where, connect(), closing_connection(sqlite3.connect(other)))

        def total(question: str) -> int:
            return elenchus.ask(elenchus.open_site(tmp_path), question).total

        assert total("cold") == 3
        shown = run(*command, "--dry-run")
        assert (shown.returncode, "- name: Ice\n    + name: Pack ice\n" in shown.stdout) == (0, True), shown
        assert run(*command, "--yes").returncode == 0
        assert (state_of_cold(tmp_path), total("cold")) == ("renamed", 3)
        assert run("undo", "--yes").stdout.count("Undone") == 2
        assert (state_of_cold(tmp_path), total("cold")) == ("as it was", 3)
        merged = run("rename-term", "topic/sea/ice", "--into", "sea", "--yes")
        assert (merged.returncode, total("where topic = sea")) == (0, 3), merged.stderr
        assert run("undo", "--yes").returncode == 0
        assert (state_of_cold(tmp_path), total("cold")) == ("as it was", 3)
        for name in COLD:  # of rows alone
            (tmp_path / name).rename(tmp_path / f"{name}.away")
        assert run("rename-term", "topic/sea", "Ocean", "--yes").returncode == 0
        assert total("where topic = ocean/ice") == 2
        assert "Undone in 4 rows" in run("undo", "--yes").stdout
        for name in COLD:
            (tmp_path / f"{name}.away").rename(tmp_path / name)
        # the database that is written last refuses, after all else was written
        with closing_connection(sqlite3.connect(other)) as owner:
            owner.execute("CREATE TRIGGER no BEFORE UPDATE OF changed ON bay_things WHEN NEW.changed > '2026-06' BEGIN SELECT RAISE(ABORT, 'not today'); END")  # fmt: skip
            owner.commit()
        found = run("set", "from note, thing, other", "title=New", "--yes")
        assert (found.returncode, "not today" in found.stderr) == (4, True), found.stderr
        assert (state_of_cold(tmp_path), total("where title = new")) == ("as it was", 0)


def test_two_sources_share_a_table_of_terms(tmp_path: Path, run: Run) -> None:
    """A term that two tables of one database have is renamed in its own table once."""
    make_cold_site(tmp_path, 'path = "all.db"', closing_connection(sqlite3.connect(tmp_path / "all.db")))
    with closing_connection(sqlite3.connect(tmp_path / "all.db")) as owner:
        for sql in ("CREATE TABLE bay_others AS SELECT * FROM bay_things", "CREATE TABLE bay_other_topics AS SELECT * FROM bay_thing_topics"):  # fmt: skip
            owner.execute(sql)
        owner.commit()
    site = (
        (tmp_path / "elenchus.toml").read_text().replace('path = "other.db"', 'path = "all.db"\nkey = "id"')
    )
    before, second = site[: site.index("[sources.zz]")], site[site.index("[sources.zz]") :]
    second = second.replace('table = "things"', 'table = "others"').replace('table = "thing_topics"', 'table = "other_topics"')  # fmt: skip
    (tmp_path / "elenchus.toml").write_text(before + second)
    done = run("rename-term", "topic/sea/ice", "Pack ice", "--yes")
    assert done.returncode == 0, done.stderr
    assert state_of_cold(tmp_path) == "renamed"
    assert elenchus.ask(elenchus.open_site(tmp_path), "cold").total == 3
    assert run("undo", "--yes").returncode == 0
    assert state_of_cold(tmp_path) == "as it was"


@pytest.mark.parametrize("mode", ["kill", "fail"])
def test_every_write_can_be_the_last(mode: str, tmp_path: Path, run: Run) -> None:
    """Killed before any of its writes, or refused any, a change is made whole or not at all."""
    site, faults = tmp_path / "site", Path(__file__).with_name("faults.py")
    site.mkdir()
    databases = [closing_connection(sqlite3.connect(site / name)) for name in ("all.db", "other.db")]
    make_cold_site(site, 'path = "all.db"', *databases)
    command = ["rename-term", "topic/sea/ice", "Pack ice", "--yes"]
    call = [sys.executable, str(faults), mode, str(site), str(tmp_path), *command]
    done = subprocess.run(call, capture_output=True, text=True, check=True)
    ends = [tuple(map(int, line.split())) for line in done.stdout.splitlines()]
    assert len(ends) > 30
    assert ends.pop()[1] == 99
    states = set()
    for at, code in [*share(ends[:-6], 8), *ends[-6:]]:
        folder, told = tmp_path / str(at), (tmp_path / f"{at}.txt").read_text()
        assert code in ({-9} if mode == "kill" else {0, 6}), told
        pending = folder / ".elenchus-changes" / "pending"
        if mode == "fail":
            assert state_of_cold(folder) == ("as it was" if code else "renamed"), told
            assert not (code and pending.exists())
        if pending.exists():  # the next command that writes comes to an end with it
            if at % 3 == 0:  # commands that only read say so
                assert "is unfinished" in run("ask", "from note", cwd=folder, HOME=str(folder)).stderr
                assert run("undo", "--list", cwd=folder, HOME=str(folder)).returncode == 0
            finished = run("set", "from note", "title=A", "--yes", cwd=folder, HOME=str(folder))
            assert (finished.returncode, pending.exists()) == (0, False), finished.stderr
        states.add(state_of_cold(folder))
        elenchus.ask(elenchus.open_site(folder), "cold")
    assert states == {"as it was", "renamed"}


@contextmanager
def opened_database(
    server: str, folder: Path, homes: pytest.TempPathFactory
) -> Iterator[tuple[str, Callable[[], Any]]]:
    """Give where a database is, as a site file says it, and what connects to it."""
    if server == "sqlite":
        yield 'path = "all.db"', lambda: closing_connection(sqlite3.connect(folder / "all.db"))
        return
    home = servers.home(homes)
    with getattr(servers, server)(home) as (url, connect):
        if server == "postgresql":
            with connect() as owner:
                owner.execute("GRANT pg_write_all_data TO reader")
        else:
            with connect() as owner:
                owner.cursor().execute("GRANT ALL ON bay.* TO reader@'127.0.0.1'")
        yield f'url = "{url}"\npassword_from = "BAY_PASSWORD"', connect


@contextmanager
def closing_connection(database: sqlite3.Connection) -> Iterator[sqlite3.Connection]:
    """Give a connection, and close it."""
    try:
        yield database
    finally:
        database.close()


def test_pending_edits(make_site: Write, tmp_path: Path, run: Run) -> None:
    """An edit beside an entry is shown to nobody until it is approved, and asked for where somebody wants that."""
    listings = '[sizes]\nask = "from note where size > 1"\n'
    files = {"elenchus.toml": SITE, **OTHERS, "listings.toml": listings, "notes/a.md": "---\ntitle: A\nsize: 1\n---\nOld\n", "notes/a.edit.md": "---\ntitle: A\nsize: 7\n---\nNew\n", "notes/b.edit.md": "---\ntitle: B\nsize: 9\n---\n"}  # fmt: skip
    site = make_site(files)
    assert Query.of(site, "from note").ids() == ["note/a", "note/other"]
    assert Query.of(site, "sizes").ids() == []
    assert run("ask", "sizes", "--edits", "--format", "lines").stdout == "note/a\n"
    assert "A pending edit would list it:\n  elenchus approve note/a\n" in run("why", "sizes", "a").stdout
    assert "Listed: 1 of 1" in run("why", "sizes", "a", "--edits").stdout
    found = json.loads(run("check", "--format", "json").stdout)["findings"]
    assert ("notes/b.edit.md", "edit-of-nothing") in [(each["file"], each["code"]) for each in found]
    shown = run("approve", "a", "--dry-run").stdout
    assert "     3 - size: 1\n     3 + size: 7\n" in shown
    assert "    + A enters at 1\n" in shown
    assert run("approve", "other", "--yes").returncode == 7
    assert run("approve", "--yes").returncode == 0
    assert (tmp_path / "notes" / "a.md").read_text() == files["notes/a.edit.md"]
    assert not (tmp_path / "notes" / "a.edit.md").exists()
    assert run("ask", "sizes", "--format", "lines").stdout == "note/a\n"
    assert run("approve", "--yes").stdout == "No edit is pending.\n"
    assert run("undo", "--yes").returncode == 0
    assert [(tmp_path / "notes" / name).read_text() for name in ("a.md", "a.edit.md")] == [
        files["notes/a.md"],
        files["notes/a.edit.md"],
    ]


ROWS = {
    "csv": 'id,title,size,is_out,tags,draft\none,One,1,no,"a, b","{""size"": 7, ""is_out"": true, ""tags"": [""c"", ""d""], ""title"": ""Uno""}"\ntwo,Two,2,no,,\n',
    "json": '[{"id": "one", "title": "One", "size": 1, "is_out": false, "tags": ["a", "b"], "draft": {"size": 7, "is_out": true, "tags": ["c", "d"], "title": "Uno"}},\n {"id": "two", "title": "Two", "size": 2}]\n',
    "jsonl": '{"id": "one", "size": 1, "title": "One", "draft": "{\\"size\\": 7, \\"is_out\\": true, \\"tags\\": [\\"c\\", \\"d\\"], \\"title\\": \\"Uno\\"}"}\n{"id": "two", "title": "Two", "size": 2}\n',
}  # fmt: skip
DRAFTS = [
    "CREATE TABLE bay_things (id VARCHAR(20) PRIMARY KEY, title VARCHAR(80), size INTEGER, is_out {truth}, tags VARCHAR(80), draft {json})",
    "INSERT INTO bay_things VALUES ('one', 'One', 1, {no}, NULL, '{{\"size\": 7, \"is_out\": true, \"tags\": [\"c\", \"d\"], \"title\": \"Uno\"}}')",
    "INSERT INTO bay_things VALUES ('two', 'Two', 2, {no}, NULL, NULL)",
]  # fmt: skip
DRAFT_SITE = """[site]
clock = 2026-06-01
[sources.things]
{where}
kind = "thing"
edits = "draft"
[kinds.thing.fields]
size = {{ type = "integer" }}
is_out = {{ type = "yesno" }}
tags = {{ type = "text", many = true }}
"""


@pytest.mark.parametrize("read", [*ROWS, "sqlite", "postgresql", "mariadb"])
def test_pending_edits_of_rows(
    read: str, tmp_path: Path, tmp_path_factory: pytest.TempPathFactory, run: Run
) -> None:
    """The edit of a row stands in a column of it: the same as one beside a file, and approved as one."""
    run = partial(run, BAY_PASSWORD=servers.PASSWORD)
    listing = (
        '[sizes]\nask = "from thing where size > 2 and is_out and tags has all (c, d) and title = Uno"\n'
    )
    (tmp_path / "listings.toml").write_text(listing)
    with ExitStack() as stack:
        file = tmp_path / f"all.{read}"
        if read in ROWS:
            file.write_text(ROWS[read])
            where = f'read = "{read}"\npath = "all.{read}"'
        else:
            place, connect = stack.enter_context(opened_database(read, tmp_path, tmp_path_factory))
            where = f'read = "database"\n{place}\ntable = "bay_things"\nwritable = true'
            names = {"truth": "BOOLEAN" if read == "postgresql" else "INTEGER", "no": "false" if read == "postgresql" else "0", "json": {"postgresql": "JSONB", "mariadb": "JSON"}.get(read, "TEXT")}  # fmt: skip
            with connect() as owner:
                for sql in DRAFTS:
                    owner.cursor().execute(sql.format(**names))
                owner.commit()
        (tmp_path / "elenchus.toml").write_text(DRAFT_SITE.format(where=where))
        before = file.read_bytes() if read in ROWS else b""
        asked = ("ask", "sizes", "--format", "lines")
        assert run(*asked).stdout == ""
        assert run(*asked, "--edits").stdout == "thing/one\n" or run(*asked, "--edits").stdout == "one\n"
        entry = run(*asked, "--edits").stdout.strip()
        assert (
            f"A pending edit would list it:\n  elenchus approve {entry}\n"
            in run("why", "sizes", entry).stdout
        )
        assert run("approve", "two", "--yes").returncode == 7
        shown = run("approve", "--dry-run")
        assert "    + Uno enters at 1\n" in shown.stdout, shown.stdout + shown.stderr
        assert run(*asked).stdout == ""
        done = run("approve", entry, "--yes")
        assert done.returncode == 0, done.stdout + done.stderr
        assert run(*asked).stdout == f"{entry}\n"
        assert run("approve", "--yes").stdout == "No edit is pending.\n"
        assert run("undo", "--yes").returncode == 0
        assert run(*asked).stdout == ""
        assert run(*asked, "--edits").stdout == f"{entry}\n"
        assert before == (file.read_bytes() if read in ROWS else b"")


def test_wrong_edits_of_rows(tmp_path: Path, run: Run) -> None:
    """An edit that cannot be read is found by the check, and stops those who ask for all edits."""
    (tmp_path / "elenchus.toml").write_text(
        DRAFT_SITE.format(where='read = "csv"\npath = "all.csv"\ncolumns = { title = "head" }')
    )
    (tmp_path / "all.csv").write_text(
        'id,head,size,draft\n1,One,1,size 7\n2,Two,2,"{""id"": 3}"\n3,Three,3,"{""head"": ""Tre""}"\n4,Four,4,[1]\n'
    )
    wrong = ["all.csv:2", "all.csv:3", "all.csv:5"]
    found = json.loads(run("check", "--format", "json").stdout)["findings"]
    assert [f"{each['file']}:{each['line']}" for each in found if each["code"] == "bad-edit"] == wrong
    asked = run("ask", "from thing", "--edits")
    assert (asked.returncode, [line.partition(": ")[0] for line in asked.stderr.splitlines() if line.startswith("all.csv")]) == (4, wrong)  # fmt: skip
    assert run("approve", "thing/1", "--yes").returncode == 4
    assert "+ 3,Tre,3," in run("approve", "thing/3", "--yes").stdout
    assert "\n3,Tre,3,\n" in (tmp_path / "all.csv").read_text()


TERMS = {
    "elenchus.toml": SITE.replace('[taxonomies.topic]\n', '[taxonomies.topic]\ntree = true\n') + '[taxonomies.mood]\n[conditions]\ncold = "topic = ice"    # and topic = ice\n',
    "topics.csv": 'slug,name,parent\nsea,Sea,\nice,"Ice, cold",sea\nfloe,Floe,ice\nsand,Sand,\n',
    "notes/a.md": "---\ntitle: A\ntopic: [ice, sand] # ice\nmood: [Calm, ice]\n---\nice\n",
    "notes/b.md": '---\ntitle: B\ntopic: ["Ice, cold"]\nmood: calm\n---\n',
    "notes/c.md": "+++\ntitle = 'C'\ntopic = ['sea/ice/floe', 'sea']\n+++\n",
    "rows/all.csv": "id,title,topic\n1,Row,\"sand, ice\"\n",
    "listings.toml": '[chilly]\nask = "from note where topic in (ice, sand) and mood = ice order by title"\n[below]\nask = """\nfrom note where topic under sea/ice  # ice\n"""\n[near]\nask = "from note where topic under :where"\n[near.parameters]\nwhere = { type = "topic", default = "ice", label = "ice" }\n',
    "pages.toml": '[topics]\neach = "from topic"\naddress = "topics/{slug}/"\nsections = [{ ask = "where topic under :here" }, { listing = "near", with = { where = "ice" } }, { ask = \'where topic = "Ice, cold"\' }]\n',
}  # fmt: skip


@pytest.mark.parametrize("arguments", [["topic/ice", "pack-ice"], ["topic/sea/ice", "Pack ice"], ["topic/ice", "--into", "sand"], ["mood/calm", "Still water"]], ids=" ".join)  # fmt: skip
def test_rename_term(make_site: Write, tmp_path: Path, run: Run, arguments: list[str]) -> None:
    """A term is called otherwise wherever it is meant and nowhere else; the site is sound, and asks the same."""
    site = make_site({**TERMS, **{f"{name}/.keep": "" for name in ("lines", "docs", "pages")}})
    asked = (
        "chilly",
        "below",
        "near",
        "from note where mood is set",
        "from row where topic under sea",
        "where cold",
    )
    before = {name: Query.of(site, name).ids() for name in asked}
    kept = {
        path: path.read_bytes()
        for path in tmp_path.rglob("*")
        if path.is_file() and ".elenchus" not in path.parts
    }
    found = run("rename-term", *arguments, "--yes")
    assert found.returncode == 0, found.stderr
    after = elenchus.open_site(tmp_path)
    texts = {name: (tmp_path / name).read_text() for name in TERMS}
    if "--into" in arguments:
        assert texts["notes/a.md"].splitlines()[2:4] == ["topic: [sand] # ice", "mood: [Calm, ice]"]
        assert texts["topics.csv"].splitlines()[1:] == ["sea,Sea,", "floe,Floe,sand", "sand,Sand,"]
        assert "['sand/floe', 'sea']" in texts["notes/c.md"]
    elif arguments[0] == "mood/calm":
        assert [texts[f"notes/{name}.md"].splitlines()[3] for name in "ab"] == [
            "mood: [Still water, ice]",
            "mood: Still water",
        ]
    else:
        name = '"Pack ice"' if arguments[1] == "Pack ice" else '"Ice, cold"'
        assert texts["topics.csv"].splitlines()[2:4] == [f"pack-ice,{name},sea", "floe,Floe,pack-ice"]
        assert texts["elenchus.toml"].endswith('cold = "topic = pack-ice"    # and topic = ice\n')
        assert 'default = "pack-ice", label = "ice"' in texts["listings.toml"]
        assert "topic in (pack-ice, sand) and mood = ice" in texts["listings.toml"]
        assert "topic under sea/pack-ice  # ice" in texts["listings.toml"]
        assert 'with = { where = "pack-ice" }' in texts["pages.toml"]
        assert "topic: [pack-ice, sand] # ice\nmood: [Calm, ice]\n---\nice\n" in texts["notes/a.md"]
        assert '"sand, pack-ice"' in texts["rows/all.csv"]
        assert "['sea/pack-ice/floe', 'sea']" in texts["notes/c.md"]
    if "--into" not in arguments:
        assert {name: Query.of(after, name).ids() for name in asked} == before
        assert not after.dataset.problems
    assert run("undo", "--yes").returncode == 0
    assert {path: path.read_bytes() for path in kept} == kept


LENT = [
    "where topic under sea and date in last 9 days",
    "where pages > 300 or deposit > 150 or cost > 90",
    "where title contains tide limit 1",
]


@pytest.mark.parametrize("name", ["skerry-bay", "lending-library", "reference"])
def test_cures(name: str, reference: elenchus.Site) -> None:
    """What why offers to change in an entry lists it, once the command that it ends with has made the change."""
    lent = LENT if name == "lending-library" else []
    site = reference if name == "reference" else elenchus.open_site(elenchus.demo_folder().parent / name)
    questions = [case["question"] for case in cases("questions.toml") if "question" in case]
    asked = [*lent, *site.library.names] or questions
    tried = 0
    for listing in asked:
        try:
            ids = Query.of(site, listing).ids()
        except elenchus.ElenchusError:
            continue
        for entry in [each for each in site.dataset.entries.ids if each not in ids][
            :: 9 if name == "reference" else 2
        ]:
            with suppress(elenchus.ElenchusError):  # its rows are terms
                tried += cured(site, listing, entry)
    assert tried > 10


def cured(site: elenchus.Site, listing: str, entry: str) -> int:
    """Make each change that why offers for an entry by its command, see that it is listed; return how many."""
    commands = 0
    for way in elenchus.why_entry(site, listing, entry).ways:
        edits = [change.edit for change in way if change.edit]
        for edit in edits:
            if edit.by_hand:  # nothing here writes its source, as the command would say
                change = entry_changes(site, [entry], [Assignment(edit.field, edit.operator, edit.value)])
                with pytest.raises(elenchus.SiteError) as refused:
                    content_change(site, change)
                [problem] = refused.value.problems
                assert problem.sentences.endswith(edit.by_hand)
                commands += 1
        command = shlex.split(set_command(edits)) if len(edits) == len(way) else []
        if command:
            question, *assignments = command[2:]
            found = Query.of(site, question).ids()
            assert found == [entry]
            changes = entry_changes(site, found, read_assignments(assignments))
            after = content_change(site, changes).after
            assert elenchus.why_entry(after, listing, entry).listed, f"{listing}: {command}"
            commands += 1
    return commands


def test_what_keeps_back(make_site: Write) -> None:
    """Whatever keeps an entry back, alone or together, why says it, and its command publishes the entry."""
    parts = [
        ["status: draft", "status: withdrawn", "status: scheduled", "status: hello", "status: published"],
        ["draft: true", "published: false", "draft: hello", "draft: no"],
        ["date: 2026-01-01", "date: 2027-01-01", "date: soon"],
        ["expires: 2026-01-02", "expires: later", "expires: 2027-02-02"],
    ]
    notes = {"elenchus.toml": SITE, **OTHERS}
    for number, chosen in enumerate(product(*([*each, ""] for each in parts))):
        notes[f"notes/n{number}.md"] = "\n".join(
            ["---", f"title: N{number}", *filter(None, chosen), "---", ""]
        )
    site = make_site(notes)
    listed = set(Query.of(site, "from note").ids())
    hidden = [f"note/n{number}" for number in range(6 * 5 * 4 * 4) if f"note/n{number}" not in listed]
    assert all(cured(site, "from note", entry) for entry in hidden)
    assert len(hidden) > 400


AS_WRITTEN = """
[site]
[sources.prices]
read = "csv"
path = "prices.csv"
kind = "price"
numbers = "de"
unit = { cost = "€" }
scale = { rating = 5 }
header = 2
[kinds.price.fields]
cost = { type = "number" }
rating = { type = "number" }
stock = { type = "yesno" }
"""


@pytest.mark.parametrize(
    ("change", "cells"),
    [
        ("cost=1300.5", "1.300,50 €;★★★★;ja"),
        ("cost=7", "7,00 €;★★★★;ja"),
        ("rating=2", "1.299,00 €;★★;ja"),
        ("stock=no", "1.299,00 €;★★★★;nein"),
        ("cost=", ";★★★★;ja"),
    ],
)
def test_numbers_as_they_are_written(
    make_site: Write, run: Run, tmp_path: Path, change: str, cells: str
) -> None:
    """A value is written as the cell has it that it replaces: with its unit, its signs, its stars, its words."""
    head = "Prices;;;\n;;;\n;;rating;stock\ntitle;cost;;\n"
    rows = "Rope;1.299,00 €;★★★★;ja\nLamp;49,90 €;3/5;nein\nMug;5,00 €;5/5;ja\n"
    make_site({"elenchus.toml": AS_WRITTEN, "prices.csv": head + rows})
    done = run("set", "where title = Rope", change, "--yes", cwd=tmp_path)
    assert done.returncode == 0, done.stdout + done.stderr
    assert (tmp_path / "prices.csv").read_text().splitlines()[4] == f"Rope;{cells}"
