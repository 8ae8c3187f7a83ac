"""What a run leaves to the next changes no answer: content is edited, the clock set back, files damaged, runs killed."""

# ruff: noqa: S311 - nothing here is secret
from __future__ import annotations

import json
import os
import random
import re
import shutil
import subprocess
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import elenchus
from conftest import PROGRAM, SOAK, Run, kill_at_moments, often, share
from elenchus.engine.columns.column import Column, Texts
from elenchus.engine.columns.dataset import Dataset
from elenchus.errors import Problem
from elenchus.files import signature
from elenchus.index import reading
from elenchus.index.pack import Pack, write_pack
from elenchus.index.store import FOLDER, ROOT
from elenchus.index.work import Work
from elenchus.sources._files import FileReader
from elenchus.values.texts import fold

SITE = """
[site]
timezone = "Atlantic/Faroe"
clock = 2026-06-15T09:00:00
[sources.n]
read = "markdown"
path = "n"
statuses = { live = "published" }
[sources.more]
read = "markdown"
path = "more"
kind = "note"
separator = "|"
[kinds.note.fields]
depth = { type = "integer", at_least = 0 }
level = { type = "choice", choices = ["low", "high"] }
seen = { type = "date" }
near = { type = "entry", many = true }
tags = { type = "text", many = true }
[kinds.walk.fields]
depth = { type = "number" }
[taxonomies.topic]
tree = true
[taxonomies.place]
terms = "places.csv"
"""
PLACES = "slug,name,parent\nbay,The bay,\nledge,“Ledge, low”,bay\n"
# What files are made of: values of all types, some that do not fit, names that lead to other entries.
VALUES: dict[str, list[str]] = {
    "title": ["Seal", "seal", "“Kelp”", "Étang", "a\u0301bc", "12 eels", "2 eels", "ключ", "''", "[a, b]"],
    "date": ["2026-06-14", "2026-06-14 08:00", "2026-07-01", "2026-3-1", "soon", "0001-01-01", "9999-12-31"],
    "status": ["draft", "live", "scheduled", "nonsense", "withdrawn", "''"],
    "draft": ["true", "false", "perhaps", ""],
    "depth": ["4", "-1", "four", "4.5", "[1, 2]"],
    "level": ["low", "High", "hihg"],
    "seen": ["2026-01-02", "2026-01-02 10:00", "never"],
    "near": ["[note/a0, b1]", "a1", "nobody", "walk/a1", "[a2, a2]"],
    "tags": ["a, b", "[a, B]", "a|b", "x"],
    "topic": ["sea", "[Sea, sea/kelp]", "land/dune", "Sea", "kelp", "a, b"],
    "place": ["bay", "Ledge", "“Ledge, low”", "bey", "[bay, ledge]"],
    "parent": ["a0", "a1", "b0", "nobody"],
    "id": ["one", "note/a1"],
    "slug": ["a1", "shared"],
    "kind": ["walk", "note", "boat"],
    "address": ["https://x.example/", "javascript:alert(1)", "y/"],
    "extra": ["anything", "[1, 2]", "{a: b}", ""],
}


def text_of(draw: random.Random) -> str:
    """Return a file with random front matter, sometimes one that cannot be read."""
    keys = draw.sample(sorted(VALUES), draw.randrange(0, 7))
    lines = [f"{key}: {draw.choice(VALUES[key])}" for key in keys]
    fence = "---" if draw.random() > 0.03 else "--"
    return f"---\n{chr(10).join(lines)}\n{fence}\n{draw.choice(['', '# Heading', 'Some text about kelp.', 'é'])}\n"


def edited(folder: Path, draw: random.Random) -> None:
    """Change something below a folder: create, change, delete, rename, touch a file, or the site's own files."""
    files = sorted(
        path for name in ("n", "more") for path in (folder / name).rglob("*.md") if not path.is_symlink()
    )
    path = draw.choice(files) if files else folder / "n" / "note" / "a0.md"
    action = draw.choice(
        ["create", "create", "change", "same size", "delete", "rename", "touch", "site", "terms", "odd"]
    )
    match action:
        case "create":
            path = (
                folder
                / draw.choice(["n/note", "n/walk", "n", "more", "more/in"])
                / f"{draw.choice('ab')}{draw.randrange(4)}.md"
            )
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(text_of(draw), encoding="utf-8")
        case "change":
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(text_of(draw), encoding="utf-8")
        case "same size" if path.exists():  # within the same second, and the time of change set back
            told = path.stat()
            path.write_bytes(path.read_bytes().replace(b"a", b"e"))
            os.utime(path, ns=(told.st_atime_ns, told.st_mtime_ns))
        case "delete":
            path.unlink(missing_ok=True)
        case "rename" if path.exists():
            path.rename(path.with_name(f"{draw.choice('abc')}{draw.randrange(4)}.md"))
        case "touch" if path.exists():
            os.utime(path, (draw.randrange(2 * 10**9), draw.randrange(2 * 10**9)))
        case "site":
            (folder / "elenchus.toml").write_text(
                SITE.replace("at_least = 0", f"at_least = {draw.randrange(5)}")
            )
        case "terms":
            (folder / "places.csv").write_text(
                f"{PLACES}dune{draw.randrange(3)},Dune,{draw.choice(['', 'bay', 'x'])}\n"
            )
        case "odd":
            odd = folder / "n" / f"odd{draw.randrange(2)}.md"
            odd.unlink() if odd.is_symlink() else odd.symlink_to("note")


QUESTIONS = (
    "including unpublished order by title",
    "from note where topic = sea group by topic with empty",
    "including unpublished where title contains e order by depth of note descending group by title",
    'including unpublished where title > "k" or tags = B',
    "where near is set group by place, month of date",
    "order by random 7 limit 3",
    "from topic order by name",
)


def told(data: Dataset) -> dict[str, Any]:
    """Return all that a dataset says, by rows and words, so that two can be compared."""
    entries, rows = data.entries, range(len(data.entries))
    return {
        "ids": list(entries.ids),
        "kinds": [data.kind_of(row) for row in rows],
        "rank": entries.id_rank.tolist(),
        "visible": (entries.opens.tolist(), entries.closes.tolist()),
        "ancestry": (entries.ancestry.numbers.tolist(), entries.ancestry.ends.tolist()),
        "columns": {
            (name, str(kind)): ([column.item(row) for row in rows], ordered(column))
            for (name, kind), column in entries.columns.items()
        },
        "terms": {
            name: (each.terms, list(each.ends), each.is_made) for name, each in data.taxonomies.items()
        },
        "problems": list(map(str, data.problems)),
        "misfits": data.misfits,
        "notes": data.notes,
        "flags": dict(data.flags),
        "guessed": dict(data.guessed),
        "fields": {kind: data.schema.fields_of(kind) for kind in data.schema.kinds},
        "names": {name: entries.names.find(name) for name, _ in entries.names.items()},
        "digests": data.record_names.digests[entries.names.records].tolist(),
    }


def ordered(column: Column) -> list[Any]:
    """Return how the rows of a column of texts are put in order, and which are the same."""
    if not isinstance(column, Texts):
        return []
    orders = (column.keys, column.natural_keys, column.codes)
    return [np.unique(keys[column.valid], return_inverse=True)[1].tolist() for keys in orders[:2]] + [
        [
            text and column.lexicon.find(fold(text)) == code
            for text, code in zip(
                map(column.item, range(len(column.places))), orders[2].tolist(), strict=True
            )
        ]
    ]


def answers(site: elenchus.Site) -> list[Any]:
    """Return what a site answers to some questions, problems in them included."""
    found: list[Any] = []
    for question in QUESTIONS:
        try:
            answer = elenchus.ask(site, question)
        except elenchus.ElenchusError as error:
            found.append(list(map(str, error.problems)))
        else:
            found.append((answer.rows, answer.groups, answer.total, list(map(str, answer.notices))))
    return found


def read(folder: Path, *, index: bool) -> elenchus.Site:
    """Return the site of a folder, with its index or without."""
    return elenchus.open_site(folder, index=index)


def made(folder: Path, draw: random.Random, files: int) -> None:
    """Write a site with some files."""
    for name in ("n/note", "n/walk", "more"):
        (folder / name).mkdir(parents=True)
    (folder / "elenchus.toml").write_text(SITE)
    (folder / "places.csv").write_text(PLACES)
    for _ in range(files):
        kind = draw.choice(["n/note", "n/walk", "more"])
        (folder / kind / f"{draw.choice('ab')}{draw.randrange(4)}.md").write_text(
            text_of(draw), encoding="utf-8"
        )


@settings(max_examples=often(15), deadline=None)
@given(seed=st.integers(0, 2**32))
def test_edits(seed: int, tmp_path_factory: pytest.TempPathFactory) -> None:
    """After any series of edits a site says what one says that is read for the first time."""
    draw, folder = random.Random(seed), tmp_path_factory.mktemp("site")
    made(folder, draw, 6)
    for _ in range(8):
        for _ in range(draw.randrange(3)):
            edited(folder, draw)
        kept, fresh = read(folder, index=True), read(folder, index=False)
        assert told(kept.dataset) == told(fresh.dataset)
        assert answers(kept) == answers(fresh)
    shutil.rmtree(folder)


QUESTION = "including unpublished order by title"


@pytest.fixture
def kept(tmp_path: Path) -> Path:
    """Return a site with an index, read long enough ago that nothing has to be looked into again."""
    folder = tmp_path / "site"
    made(folder, random.Random(5), 12)
    for path in folder.rglob("*"):
        os.utime(path, (1, 1))
    read(folder, index=True).dataset  # noqa: B018 - reading is what writes the index
    return folder


def noticed(folder: Path) -> tuple[dict[str, Any], list[str]]:
    """Return what a site says with its index, and the notices of reading it."""
    notices: list[Problem] = []
    site = read(folder, index=True).working(Work(tell=notices.append))
    return told(site.dataset), [each.code for each in notices]


def damages(folder: Path) -> Iterator[tuple[Path, Callable[[bytes], bytes]]]:
    """Yield a file of an index with each way to damage it: a bit in each section, cut off, an older version, empty."""
    for path in sorted((folder / FOLDER).iterdir()):
        if path.name.startswith("."):
            continue
        pack = Pack(path)
        for _, offset, size, _ in pack.sections.values():
            if size:
                at = pack.first + offset + size // 2
                yield path, lambda old, at=at: old[:at] + bytes([old[at] ^ 4]) + old[at + 1 :]  # type: ignore[misc]
        yield path, lambda old: old[: len(old) // 2]
        yield path, lambda old: old.replace(b"elenchus index 2", b"elenchus index 0", 1)
        yield path, lambda old: old[:30] + bytes([old[30] ^ 1]) + old[31:]
        yield path, lambda _: b""


def test_damage(kept: Path) -> None:
    """Whatever becomes of a file of the index, the next run notices, answers as ever, and leaves a sound one."""
    wanted = told(read(kept, index=False).dataset)
    whole = {path: path.read_bytes() for path in (kept / FOLDER).iterdir()}
    for path, damage in share(list(damages(kept)), 2):
        shutil.rmtree(kept / FOLDER)
        (kept / FOLDER).mkdir()
        for each, content in whole.items():
            each.write_bytes(damage(content) if each == path else content)
        assert noticed(kept) == (wanted, ["index-rebuilt"])
        assert noticed(kept) == (wanted, [])


@pytest.mark.parametrize("seed", share(range(12), 3))
def test_sound_checksums_over_anything(kept: Path, run: Run, seed: int) -> None:
    """An index whose checksums are right and whose content is anything costs one run its time, and no answer."""
    draw = random.Random(seed)
    fresh = [run(*command, "--no-index", cwd=kept).returncode for command in MANY_COMMANDS]
    noticed(kept)
    for path in sorted((kept / FOLDER).iterdir()):
        if path.name.startswith("."):
            continue
        pack = Pack(path)
        sections: dict[str, Any] = {}
        for name, (kind, *_) in pack.sections.items():
            if kind == "bytes":
                data = bytearray(pack.bytes_of(name))
                for _ in range(draw.choice((0, 0, 1, 9))):
                    if data:
                        data[draw.randrange(len(data))] = draw.randrange(256)
                sections[name] = bytes(data)
            else:
                array = pack.array(name).copy()
                if len(array) and draw.random() < 0.3:
                    at = draw.randrange(len(array))
                    array[at] = draw.choice((0, 1, 100)) if array.dtype.kind == "b" else array[at] ^ 1 << draw.randrange(array.dtype.itemsize * 8 - 1) if array.dtype.kind in "iu" else 0  # fmt: skip
                sections[name] = array[: draw.choice((len(array), len(array), len(array), len(array) // 2))]
        write_pack(path, pack.meta, sections)
    signed = json.loads(json.dumps(Pack(kept / FOLDER / ROOT).meta))
    for part in signed["parts"].values():
        part["signature"] = list(signature((kept / FOLDER / part["file"]).stat()))
    root = Pack(kept / FOLDER / ROOT)
    write_pack(kept / FOLDER / ROOT, signed, {name: root.bytes_of(name) if kind == "bytes" else root.array(name).copy() for name, (kind, *_) in root.sections.items()})  # fmt: skip
    damaged = {path: path.read_bytes() for path in (kept / FOLDER).iterdir() if path.is_file()}
    for command, wanted in zip(MANY_COMMANDS, fresh, strict=True):
        for path, content in damaged.items():
            path.write_bytes(content)
        found = run(*command, cwd=kept)
        assert found.returncode != 70, (command, found.stderr)
        assert found.returncode in (wanted, 0, 1), (command, found.stderr)


MANY_COMMANDS = (
    ["ask", QUESTION], ["ask", "order by title group by topic", "--format", "json"], ["why", QUESTION], ["check"], ["describe"],
    ["set", "where title is set", "title=New", "--dry-run"], ["describe", "--index"],
)  # fmt: skip


def test_foreign_files(kept: Path) -> None:
    """Files that are lacking, of somebody else, or copied without their times cost no answer and no notice but one."""
    wanted = told(read(kept, index=False).dataset)
    (tables,) = (kept / FOLDER).glob("tables-*")
    copied = tables.read_bytes()
    tables.unlink()
    tables.write_bytes(copied)  # another file with the same bytes: checked, and then trusted again
    assert noticed(kept) == (wanted, [])
    tables.unlink()
    assert noticed(kept) == (wanted, [])
    shutil.rmtree(kept / FOLDER)
    (kept / FOLDER).write_text("no folder")
    assert noticed(kept)[0] == wanted
    (kept / FOLDER).unlink()
    assert noticed(kept) == (wanted, [])


def test_hot_runs_read_nothing(kept: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A run after which nothing has changed opens no file of the content; after one edit it parses that one only."""
    later = time.time_ns() + 10**10
    monkeypatch.setattr(time, "time_ns", lambda: later)  # what is younger than its step is read again
    noticed(kept)
    loaded: list[str] = []
    whole = FileReader.content
    monkeypatch.setattr(FileReader, "content", lambda self, unit: loaded.append(unit) or whole(self, unit))  # type: ignore[func-returns-value]
    assert noticed(kept)[1] == []
    assert loaded == []
    (kept / "n" / "note" / "another.md").write_text("---\ntitle: Another\n---\n")
    assert "note/another" in noticed(kept)[0]["ids"]
    assert loaded == ["n/note/another.md"]


def test_kills(kept: Path) -> None:
    """A run that is killed while it reads and writes leaves an index that holds, or none; nothing is lost."""
    draw, wanted = random.Random(6), told(read(kept, index=False).dataset)

    def look() -> None:
        nonlocal wanted
        assert noticed(kept) == (wanted, [])
        names = [each.name for each in (kept / FOLDER).iterdir()]
        assert len([name for name in names if not name.startswith(".")]) == 3, names
        edited(kept, draw)
        wanted = told(read(kept, index=False).dataset)

    kill_at_moments([str(PROGRAM), "ask", QUESTION, "--site", str(kept)], kept, look, 60 if SOAK else 8)


def test_two_at_once(kept: Path) -> None:
    """Runs at the same time on content that changes answer right, and leave one whole index."""
    draw = random.Random(7)
    command = [str(PROGRAM), "ask", QUESTION, "--site", str(kept), "--format", "lines"]
    for _ in range(6):
        edited(kept, draw)
        running = [
            subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE) for _ in range(3)
        ]
        texts = {each.communicate()[0] for each in running}
        fresh = elenchus.ask(read(kept, index=False), QUESTION)
        assert texts == {"".join(f"{row.id}\n" for row in fresh.rows).encode()}
        assert noticed(kept) == (told(read(kept, index=False).dataset), [])


def test_program(kept: Path, run: Run) -> None:
    """The program tells of its index, does without, and keeps it among the user's caches where it must."""
    before = run("ask", QUESTION, "--site", str(kept)).stdout
    facts = run("describe", "--index", "--site", str(kept)).stdout
    assert f"{kept / FOLDER}" in facts
    assert re.search(r"holds +yes", facts)
    next((kept / "n").rglob("*.md")).write_text("---\ntitle: New\n---\n")
    assert "1 file has changed" in run("describe", "--index", "--site", str(kept)).stdout
    shutil.rmtree(kept / FOLDER)
    after = run("ask", QUESTION, "--site", str(kept), "--no-index").stdout
    assert after != before
    assert not (kept / FOLDER).exists()
    (kept / FOLDER).write_text("in the way")
    assert run("ask", QUESTION, "--site", str(kept)).stdout == after
    cached = kept.parent / ".cache" / "elenchus"
    assert len(list(cached.iterdir())) == 1
    assert str(cached) in run("describe", "--index", "--site", str(kept)).stdout


def test_many_files_are_shared(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Where there are many files, several processes read them, and what they give is as from one."""
    made(tmp_path, random.Random(8), 10)
    alone = told(read(tmp_path, index=False).dataset)
    monkeypatch.setattr(reading, "_FEWEST", 1)
    assert told(read(tmp_path, index=False).working(Work(index=False, processes=3)).dataset) == alone
