"""What attackers, accidents and killed runs leave: nothing stays public, nothing goes outside, nothing crashes.

Linear work is tested by counting the calls of Python's own functions at two sizes, not by a clock.
"""

from __future__ import annotations

import csv
import json
import os
import random
import re
import shutil
import socket
import subprocess
import sys
import zipfile
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import ExitStack, suppress
from pathlib import Path
from typing import Any

import feedparser
import markdown_it
import pytest
from starlette.testclient import TestClient

import elenchus
from conftest import PROGRAM, Run, Write
from elenchus.checks.run import check_site
from elenchus.errors import FolderError
from elenchus.pages.book import Book
from elenchus.pages.sections import placed
from elenchus.preview.app import application
from elenchus.preview.live import Live
from elenchus.publishing import weaving
from elenchus.publishing.markers import markers_in
from elenchus.rendering.bodies import Body
from elenchus.rendering.renderer import Renderer
from test_publishing import files_of

SITE = """[site]
title = "S"
address = "https://s.example/"
clock = 2026-06-01
[sources.n]
read = "markdown"
path = "n"
kind = "note"
[kinds.note]
address = "{slug}/"
[taxonomies.topic]
address = "topics/{slug}/"
"""
PAGES = """[home]
address = "index.html"
sections = [{ ask = "order by title" }]
[notes]
each = "from note"
sections = []
"""
NOTE = "---\ntitle: {0}\ndate: 2026-05-01\n---\nText\n"
FILES = {"elenchus.toml": SITE, "pages.toml": PAGES, "n/a.md": NOTE.format("A"), "n/b.md": NOTE.format("B")}


# Publishing: killed, linked, told lies


class Killed(BaseException):
    """What a test does to a run."""


def publish_killed(site: Path, out: Path, after: int) -> None:
    """Publish until some files stand, then stop as a kill would."""
    from elenchus.publishing.drawing import published_to
    from elenchus.publishing.publication import Wishes, writing

    def tick() -> None:
        nonlocal after
        after -= 1
        if after <= 0:
            raise Killed

    renderer = Renderer(elenchus.open_site(site))
    pages = [placed(renderer.book, page) for page in renderer.book.pages]
    with pytest.raises(Killed), writing(out):
        published_to(renderer, pages, out, Wishes()).apply(tick)


@pytest.mark.parametrize("kills", [1, 2, 3])
def test_what_a_killed_run_wrote_is_ours(make_site: Write, run: Run, tmp_path: Path, kills: int) -> None:
    """Killed after pages stand, changed, killed again; then an entry is withdrawn: its page goes, without force."""
    make_site(FILES)
    out = tmp_path / "published"
    for number in range(kills):
        (tmp_path / "n" / "b.md").write_text(NOTE.format(f"B {number}"), encoding="utf-8")
        publish_killed(tmp_path, out, 4)
    assert (out / "b" / "index.html").exists()
    (tmp_path / "n" / "b.md").write_text(
        NOTE.format("B").replace("---\n", "---\ndraft: yes\n", 1), encoding="utf-8"
    )
    done = run("publish")
    assert (done.returncode, done.stderr) == (0, "")
    assert not (out / "b").exists()
    assert (out / "a" / "index.html").exists()


@pytest.mark.parametrize(
    "path", ["../keep.txt", "/KEEP", "a/../../keep.txt", ".elenchus/../../keep.txt", "..\\keep.txt"]
)
def test_a_manifest_is_input(make_site: Write, run: Run, tmp_path: Path, path: str) -> None:
    """A manifest that lists files outside of its folder is refused, and nothing outside is removed."""
    make_site(FILES)
    keep = tmp_path / "keep.txt"
    keep.write_text("mine", encoding="utf-8")
    assert run("publish").returncode == 0
    manifest = tmp_path / "published" / ".elenchus" / "manifest.json"
    data = json.loads(manifest.read_text(encoding="utf-8"))
    name = path.replace("/KEEP", str(keep))
    for part, value in (("files", ["home", "0" * 64]), ("coming", ["0" * 64])):
        manifest.write_text(json.dumps({**data, part: {**data[part], name: value}}), encoding="utf-8")
        done = run("publish", "--force")
        assert (done.returncode, "which no run wrote" in done.stderr) == (6, True)
    assert keep.read_text(encoding="utf-8") == "mine"


def test_own_folder_is_no_link(make_site: Write, run: Run, tmp_path: Path) -> None:
    """A link in the place of ``.elenchus`` is refused, and so are pages with an address below it."""
    make_site(FILES)
    (tmp_path / "other" / "stage").mkdir(parents=True)
    (tmp_path / "other" / "stage" / "mine.txt").write_text("mine", encoding="utf-8")
    (tmp_path / "published").mkdir()
    (tmp_path / "published" / ".elenchus").symlink_to(tmp_path / "other")
    assert run("publish").returncode == 6
    assert (tmp_path / "other" / "stage" / "mine.txt").read_text(encoding="utf-8") == "mine"
    (tmp_path / "published" / ".elenchus").unlink()
    make_site({"pages.toml": PAGES.replace("index.html", ".elenchus/stage/index.html")})
    done = run("publish")
    assert (done.returncode, ".elenchus" in done.stderr) == (1, True)


def test_dry_run_says_what_the_real_one_would(make_site: Write, run: Run, tmp_path: Path) -> None:
    """Files changed by hand are reported by a dry run too, with a code of their own."""
    make_site(FILES)
    assert run("publish").returncode == 0
    (tmp_path / "published" / "index.html").write_text("by hand", encoding="utf-8")
    dry, real = run("publish", "--dry-run"), run("publish")
    assert (dry.returncode, real.returncode) == (1, 6)
    for done in (dry, real):
        assert "changed by hand" in done.stdout + done.stderr


# Addresses: one function makes them all


SLUGS = [
    "javascript:alert(1)//",
    "JaVaScRiPt:x",
    "data:text/html,x",
    "{nope}",
    "p-{title}",
    "a b",
    "//evil.example",
    "é?#&\"'<",
    "%2e%2e",
]


@pytest.mark.parametrize("slug", SLUGS)
def test_addresses_lead_below_the_root(make_site: Write, slug: str) -> None:
    """Whatever the slugs of entries and terms are, no link written anywhere is more than a path below the root."""
    quoted = json.dumps(slug)
    site = make_site(
        {
            **FILES,
            "elenchus.toml": SITE.replace("[taxonomies.topic]", '[taxonomies.topic]\nterms = "topic.csv"'),
            "topic.csv": f'slug,name\n"{slug.replace(chr(34), chr(34) * 2)}",Term\n',
            "n/a.md": f"---\nslug: {quoted}\ntitle: A\ndate: 2026-05-01\ntopic: [Term]\n---\n",
            "pages.toml": '[home]\naddress = "index.html"\nsections = [{ listing = "all", beside = ["atom", "rss", "jsonfeed", "json"] }, { ask = "group by topic" }, { ask = "from topic" }]\n',
            "listings.toml": '[all]\nask = "where topic in :topic?"\nshow = ["title", "topic"]\n[all.parameters]\ntopic = { type = "topic" }\n',
        }
    )
    texts = {
        path: content.decode()
        for path, content in files_of(site).items()
        if path.endswith(("html", "json", "atom", "rss"))
    }
    for name, question in (("w.html", "from topic"), ("w.md", "order by title"), ("w2.md", "group by topic")):
        path = site.definition.folder / name
        path.write_text(f'<!-- elenchus begin "{question}" --><!-- elenchus end -->', encoding="utf-8")
        texts[name] = weaving.weave(Renderer(site), path).new.decode()
    from elenchus.forms import form

    for written in ("markdown", "html"):
        text = form(written).text(elenchus.ask(site, "where topic is set"))
        texts[f"x.{'md' if written == 'markdown' else 'html'}"] = text
    links = {path: links_of(path, text) for path, text in texts.items()}
    assert links["index.html"]
    for name, found in links.items():
        for link in found:
            below = link.removeprefix("https://s.example").removeprefix("data:,")  # the icon of no page
            assert re.fullmatch(r"(?!//)[/.#?A-Za-z0-9_~%!$&'()*+,;=@:-]*", below), (name, link)
            assert not re.match(r"[A-Za-z][A-Za-z0-9+.-]*:", below), (name, link)


def links_of(path: str, text: str) -> list[str]:
    """Return the links that stand in a file."""
    if path.endswith("md"):
        text = markdown_it.MarkdownIt().render(text)
    if path.endswith("json"):
        return [
            each
            for each in strings(json.loads(text))
            if re.match(r"https?:|/|\w+:", each)
            and " " not in each
            and "T" not in each
            and not each.startswith("https://jsonfeed.org")
        ]
    if path.endswith(("atom", "rss")):
        feed = feedparser.parse(text)
        return [each.href for entry in [feed.feed, *feed.entries] for each in entry.get("links", [])]
    return [each.replace("&amp;", "&") for each in re.findall(r'(?:href|src|action)="([^"]*)"', text)]


def strings(value: Any) -> Iterator[str]:
    """Yield the values called url, address or the like in a document."""
    if isinstance(value, dict):
        for key, each in value.items():
            if isinstance(each, str) and key in (
                "url",
                "address",
                "home_page_url",
                "feed_url",
                "external_url",
            ):
                yield each
            yield from strings(each)
    elif isinstance(value, list):
        for each in value:
            yield from strings(each)


FORMULAS = ["=1+1", "+1", "-1", "@SUM(A1)", "\t=1", "\r=1", "=cmd|' /C calc'!A0", "plain", "a=b"]


@pytest.mark.parametrize("allowed", [False, True])
def test_cells_that_spreadsheets_would_run(make_site: Write, run: Run, allowed: bool) -> None:
    """Texts that a spreadsheet takes for formulas are quoted in published tables, and in answers that are meant for one."""
    site = SITE + f"[publish]\nformulas = {str(allowed).lower()}\n"
    notes = {
        f"n/{number}.md": f"---\ntitle: {json.dumps(text)}\ndate: 2026-05-01\n---\n"
        for number, text in enumerate(FORMULAS)
    }
    page = PAGES.replace('title" }]', 'title", name = "all", beside = ["csv"] }]', 1)
    made = make_site({"elenchus.toml": site, "pages.toml": page, **notes})
    published = next(content.decode() for path, content in files_of(made).items() if path.endswith(".csv"))
    asked = ("ask", "order by title", "--format", "csv")
    marked = run(*asked, "--for-spreadsheet").stdout
    assert run("ask", "order by title", "--for-spreadsheet").returncode == 2
    for text, is_live in ((published, allowed), (marked, False), (run(*asked).stdout, True)):
        titles = [row["title"] for row in csv.DictReader(text.splitlines(keepends=True))]
        dangerous = [each for each in titles if each[:1] in ("=", "+", "-", "@", "\t", "\r")]
        assert len(titles) == len(FORMULAS)
        assert bool(dangerous) == is_live
        assert "plain" in titles


# What must stay private


def test_sources_and_drafts_are_no_files(make_site: Write, tmp_path: Path, run: Run) -> None:
    """Of a folder that is published as it is, sources, links and pictures of drafts stay behind."""
    secret = tmp_path.parent / f"{tmp_path.name}-secret.env"
    secret.write_text("SECRET", encoding="utf-8")
    make_site(
        {
            **FILES,
            "elenchus.toml": SITE.replace("clock = 2026-06-01\n", "clock = 2026-06-01\n")
            + '[publish]\nfiles = ["n", "pictures"]\n',
            "n/draft.md": "---\ntitle: SECRET\ndraft: true\nimage: pictures/draft.svg\n---\nSECRET\n",
            "n/c.md": "---\ntitle: C\ndate: 2026-05-01\nimage: pictures/shown.svg\n---\n",
            "pictures/draft.svg": "<svg>SECRET</svg>",
            "pictures/shown.svg": "<svg/>",
        }
    )
    (tmp_path / "pictures" / ".env").symlink_to(secret)
    (tmp_path / "pictures" / "link.txt").symlink_to(secret)
    assert run("publish").returncode == 0
    out = tmp_path / "published"
    found = {path.relative_to(out).as_posix(): path.read_bytes() for path in out.rglob("*") if path.is_file()}
    assert not [name for name, content in found.items() if b"SECRET" in content or b"draft.svg" in content]
    assert [name for name in found if name.endswith("svg")] == ["pictures/shown.svg"]
    client = TestClient(application(Live(tmp_path), watched=False), base_url="http://localhost")
    for address in ("/n/draft.md", "/pictures/link.txt", "/pictures/.env", "/pictures/draft.svg"):
        assert client.get(address).status_code == 404


HIDING = {"Draft": "true", "DRAFT": "yes", "Status": "draft", "STATUS": "Withdrawn", "Date": "2027-01-01", "Published": "false", "EXPIRES": "2020-01-01", "Hidden": "true"}  # fmt: skip


@pytest.mark.parametrize("key", HIDING)
def test_keys_in_any_letters(make_site: Write, tmp_path: Path, run: Run, key: str) -> None:
    """What decides who may see an entry does so in any case of letters and in all formats, and set keeps it so."""
    value, tables = (
        HIDING[key],
        '[sources.{0}]\nread = "{0}"\npath = "{0}"\nkind = "note"\nflags = {{ hidden = "draft" }}\n',
    )
    row = {"Title": "Kept", key: value}
    text = SITE.replace('kind = "note"', 'kind = "note"\nflags = { hidden = "draft" }')
    make_site(
        {
            "elenchus.toml": text + "".join(map(tables.format, ("csv", "json", "jsonl", "html"))),
            "n/kept.md": f"---\nTitle: Kept\n{key}: {value}\n---\n",
            "n/toml.md": f'+++\nTitle = "Kept"\n{key} = "{value}"\n+++\n',
            "n/json.md": json.dumps(row) + "\nText\n",
            "n/seen.md": NOTE.format("Seen"),
            "n/both.md": f'---\ntitle: Both\n{key}: {value}\n{key.lower()}: ""\n---\n',
            "csv/rows.csv": f"Title,{key}\nKept in csv,{value}\nSeen in csv,\n",
            "json/rows.json": json.dumps([{**row, "Title": "Kept in json"}, {"Title": "Seen in json"}]),
            "jsonl/rows.jsonl": json.dumps({**row, "Title": "Kept in lines"}) + "\n",
            "html/kept.html": f'<html><head><title>Kept</title><meta name="{key}" content="{value}"></head><body></body></html>',
        }
    )
    seen = run("ask", "order by title", "--format", "lines").stdout.split()
    assert [each.partition("/")[2] for each in seen] == ["seen", "seen-in-csv", "seen-in-json"]
    assert "n/both.md:4" in run("check").stdout
    if key.lower() in ("draft", "status", "published", "hidden"):
        word = "published"
        done = run(
            "set", "from note where title contains kept including unpublished", f"status={word}", "--yes"
        )
        assert done.returncode in (0, 4), done.stderr  # HTML is not written
        done = run(
            "set",
            "from note where title contains kept and slug != kept including unpublished",
            f"status={word}",
            "--yes",
        )
        assert done.returncode == 0, done.stderr
        now = run("ask", "where title contains kept", "--format", "lines").stdout.split()
        assert {
            "note/toml",
            "note/json",
            "note/kept-in-csv",
            "note/kept-in-json",
            "note/kept-in-lines",
        } <= set(now)
        assert key.encode() in (tmp_path / "csv" / "rows.csv").read_bytes()
        assert (tmp_path / "csv" / "rows.csv").read_text().partition("\n")[0] == f"Title,{key}"


@pytest.mark.parametrize("path", ["../outside", "{outside}", "link", "link/deep", "../outside/*.md"])
def test_sources_outside(tmp_path: Path, run: Run, path: str) -> None:
    """What lies outside a site is read only where its file says so, and is not written to."""
    here, outside = tmp_path / "site", tmp_path / "outside"
    for name, text in {"site/elenchus.toml": "", "outside/a.md": NOTE.format("A"), "outside/deep/b.md": NOTE.format("B")}.items():  # fmt: skip
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).write_text(text)
    (here / "link").symlink_to(outside)
    path = path.format(outside=outside)
    (here / "elenchus.toml").write_text(SITE.replace('path = "n"', f'path = "{path}"'))
    found = run("ask", "", cwd=here)
    assert (found.returncode, "[outside-site]" in found.stderr) == (4, True)
    (here / "elenchus.toml").write_text(SITE.replace('path = "n"', f'path = "{path}"\noutside = true'))
    assert run("ask", "", "--format", "number", cwd=here).stdout in ("1\n", "2\n")
    before = {each: each.read_bytes() for each in outside.rglob("*.md")}
    assert run("set", "from note", "title=X", "--yes", cwd=here).returncode in (4, 6)
    assert {each: each.read_bytes() for each in outside.rglob("*.md")} == before


@pytest.mark.parametrize("link", [".elenchus", ".elenchus/.gitignore", ".elenchus/units"])
def test_the_index_follows_no_link(tmp_path: Path, run: Run, link: str) -> None:
    """Nothing is written through a link that came with a site."""
    here, victim = tmp_path / "site", tmp_path / "victim"
    for name, text in FILES.items():
        (here / name).parent.mkdir(parents=True, exist_ok=True)
        (here / name).write_text(text)
    victim.mkdir()
    (victim / "units").write_text("theirs")
    (here / link).parent.mkdir(exist_ok=True)
    (here / link).symlink_to(victim if link == ".elenchus" else victim / "new" if link.endswith("ignore") else victim / "units")  # fmt: skip
    for _ in range(2):
        assert run("ask", "", "--format", "number", cwd=here).stdout == "2\n"
    assert [(each.name, each.read_text()) for each in victim.iterdir()] == [("units", "theirs")]


EVIL = "a\x1b]52;c;aGk=\x07\x9b31m\u202e"
RAW = (b"\x1b]52", b"\x07", b"\xc2\x9b", "\u202e".encode())


def on_terminal(folder: Path, *arguments: str, **settings: str) -> bytes:
    """Return what the program writes to a terminal, byte by byte."""
    ours, theirs = os.openpty()
    environment = {"PATH": os.environ["PATH"], "HOME": str(folder), "TERM": "xterm", **settings}
    with subprocess.Popen([PROGRAM, *arguments], cwd=folder, env=environment, stdin=theirs, stdout=theirs, stderr=theirs) as process:  # fmt: skip
        os.close(theirs)
        found = b""
        with suppress(OSError):
            while piece := os.read(ours, 65536):
                found += piece
        process.wait()
    os.close(ours)
    return found


def test_nothing_reaches_a_terminal_raw(make_site: Write, tmp_path: Path, run: Run) -> None:
    """Names and contents of files, members of archives, and what is typed cannot set a terminal up."""
    make_site(FILES | {f"n/{EVIL}.md": "---\ntitle: [\n", f"n/{EVIL} two.md": f"---\ntitle: {EVIL!r}\ndate: never\n---\n", "n/c.md": '---\ntitle: "C \u202e"\n---\n'})  # fmt: skip
    with zipfile.ZipFile(tmp_path / "n.zip", "w") as archive:
        archive.writestr(f"{EVIL}.md", "---\ntitle: [\n")
    with (tmp_path / "elenchus.toml").open("a") as file:
        file.write('[sources.z]\nread = "markdown"\npath = "n.zip"\nkind = "note"\n')
    commands: list[tuple[str, ...]] = [
        ("ask", "", "--problems"), ("check",), ("why", ""), ("describe",), ("pages",), ("publish",), ("ask", f"where title = '{EVIL}'"),
        *(("ask", "", "--format", each) for each in ("json", "csv", "lines", "html", "markdown", "jsonl")),
        ("check", "--format", "json"), ("ask", EVIL), (EVIL,), ("explore", "--plain", EVIL), ("weave", EVIL),
    ]  # fmt: skip
    for command in commands:
        found = on_terminal(tmp_path, *command)
        assert not any(raw in found for raw in RAW), (command, found)
    plain = run("ask", "", "--format", "json").stdout
    assert json.loads(plain)["rows"]
    assert "\u202e" in plain  # data in a pipe is as it is


@pytest.mark.parametrize("encoding", ["latin-1", "cp1252", "ascii", "utf-8"])
def test_any_standard_output(demo_copy: Path, encoding: str) -> None:
    """Text is written as far as its encoding goes, data in UTF-8 always; what cannot be written exits with 6."""
    home = {"PATH": os.environ["PATH"], "HOME": str(demo_copy), "PYTHONIOENCODING": encoding}
    for command, errors in ((["ask", ""], ""), (["ask", "", "--format", "json"], ""), (["check"], ""), (["ask", "from nowhére"], "nearest")):  # fmt: skip
        done = subprocess.run([PROGRAM, *command], cwd=demo_copy, env=home, capture_output=True, check=False)
        assert done.returncode in (0, 1, 3), done.stderr
        assert b"at fault" not in done.stderr
        if "json" in command:
            json.loads(done.stdout.decode())
        elif not errors:
            done.stdout.decode(encoding)
    with Path("/dev/full").open("wb") as full:
        done = subprocess.run([PROGRAM, "ask", ""], cwd=demo_copy, env=home, stdout=full, stderr=subprocess.PIPE, check=False)  # fmt: skip
    assert (done.returncode, b"Standard output cannot be written" in done.stderr) == (6, True)
    done = subprocess.run(f"{PROGRAM} ask '' >&-", shell=True, cwd=demo_copy, env=home, capture_output=True, check=False)  # fmt: skip
    assert (done.returncode, b"Standard output cannot be written" in done.stderr) == (6, True)
    assert b"\x1b[" in on_terminal(demo_copy, "ask", "", NO_COLOR="")
    assert b"\x1b[" not in on_terminal(demo_copy, "ask", "", NO_COLOR="1")


def test_nobody_is_told_of_drafts(make_site: Write) -> None:
    """Neither a suggestion nor a notice of the API or of published data names what is not public."""
    site = make_site(
        {
            **FILES,
            "elenchus.toml": SITE + '[kinds.note.fields]\nplace = { type = "entry", kind = "note" }\n',
            "n/hidden-thing.md": "---\ntitle: Hidden thing\ndraft: true\ntopic: [secret-word]\n---\n",
            "listings.toml": '[of]\nask = "where place = :place or topic = :topic?"\n[of.parameters]\nplace = { type = "entry", kind = "note" }\ntopic = { type = "topic" }\n',
            "pages.toml": '[home]\naddress = "index.html"\nsections = [{ ask = "where status is set and title contains thing", beside = ["json", "atom"], name = "x" }]\n',
        }
    )
    client = TestClient(application(Live(site.definition.folder), watched=False), base_url="http://localhost")
    for asked in (
        "place=hidden-thin",
        "place=hidden-thing",
        "place=a&topic=secret-wor",
        "place=hidden-thingg&page%5Bsize%5D=1",
    ):
        reply = client.get(f"/api/listings/of?{asked}").text
        assert not re.search(
            r"hidden-thing(?!g)|Hidden|secret-word",
            reply.replace(asked.partition("=")[2].partition("&")[0], ""),
        ), reply
    for path, content in files_of(site).items():
        assert b"hidden-" not in content, path


# One bad file is a problem of that file


def deep(folder: Path) -> None:
    """Make 400 folders inside one another."""
    here = os.open(folder, os.O_RDONLY)
    for _ in range(400):
        os.mkdir("d", dir_fd=here)
        inner = os.open("d", os.O_RDONLY, dir_fd=here)
        os.close(here)
        here = inner
    os.close(here)


def put(name: str, content: str | bytes) -> Callable[[Path], None]:
    """Return what writes a file of a site."""

    def write(folder: Path) -> None:
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(content if isinstance(content, bytes) else content.encode())

    return write


def pipe(name: str) -> Callable[[Path], None]:
    """Return what puts a pipe, which never ends, in the place of a file."""

    def make(folder: Path) -> None:
        (folder / name).unlink(missing_ok=True)
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        os.mkfifo(folder / name)

    return make


def link(name: str, target: str) -> Callable[[Path], None]:
    """Return what makes a link."""

    def make(folder: Path) -> None:
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).symlink_to(target)

    return make


def non_utf8(folder: Path) -> None:
    """Make a file whose name is no text."""
    Path(os.fsdecode(bytes(folder / "n") + b"/\xff.md")).write_text(NOTE.format("Odd"), encoding="utf-8")


def front(text: str) -> Callable[[Path], None]:
    """Return what writes an entry with some front matter."""
    return put("n/bad.md", f"---\ntitle: Bad\n{text}\n---\nText\n")


BOMB = "a: &a [x,x,x,x,x,x,x,x,x]\n" + "".join(
    f"{new}: &{new} [{','.join([f'*{old}'] * 9)}]\n" for old, new in zip("abcdefgh", "bcdefghi", strict=True)
)
MERGES = (
    "a: &a\n"
    + "".join(f"  k{number}: x\n" for number in range(40_000))
    + f"b:\n  <<: [{', '.join(['*a'] * 40_000)}]"
)
# What is done to a site; how ask, check, publish and the preview end; what is said of it.
FINE, HELD = (0, 0, 0, 200), (0, 1, 0, 200)  # what is left out may be an error of the check
REFUSED = (0, 1, 1, 200)  # what may hold many entries, or a definition
BAD: dict[str, tuple[Callable[[Path], None], tuple[int, ...], str]] = {
    "a cycle": (front("x: &a [*a]"), HELD, "n/bad.md"),
    "a bomb of aliases": (front(BOMB), HELD, "n/bad.md"),
    "a bomb of merges": (front(MERGES), HELD, "n/bad.md"),
    "900 brackets": (front("x: " + "[" * 900), HELD, "n/bad.md"),
    "brackets of TOML": (put("n/bad.md", f"+++\nx = {'[' * 5000}\n+++\n"), HELD, "n/bad.md"),
    "digits": (front("x: " + "9" * 5000), FINE, ""),
    "digits of TOML": (put("n/bad.md", f"+++\nx = {'9' * 5000}\n+++\n"), HELD, "n/bad.md"),
    "the last day": (front("date: 9999-12-31\nexpires: 9999-12-31 23:59:59"), FINE, ""),
    "the first day": (front("date: 0001-01-01T00:00:00+14:00"), HELD, ""),
    "no text": (put("n/bad.md", b"\xff\x00---"), HELD, "n/bad.md"),
    "unclosed": (put("n/bad.md", "---\n" + "a: b\n" * 400_000), HELD, "n/bad.md"),
    "a name that is no text": (non_utf8, REFUSED, ""),
    "a pipe": (pipe("n/bad.md"), FINE, "n/bad.md"),
    "deep folders": (lambda folder: deep(folder / "n"), REFUSED, ""),
    "an image": (front("image: 'http://['\nlink: '//['"), FINE, ""),
    "a link": (
        put("n/bad.md", NOTE.format("B") + '<a href="//[">x</a> ![y](http://[) [z](' + "x" * 300 + ")\n"),
        FINE,
        "",
    ),
    "a loop of links": (link("n/loop.md", "loop.md"), FINE, ""),
    "pages as a pipe": (pipe("pages.toml"), (0, 1, 1, 500), "pages.toml"),
    "listings as a pipe": (pipe("listings/x.toml"), REFUSED, "x.toml"),
    "terms as a pipe": (pipe("topic.csv"), (4, 1, 1, 500), "topic.csv"),
    "the site file as a pipe": (pipe("elenchus.toml"), (4, 4, 4, 500), "elenchus.toml"),
    "digits in the site file": (
        put("elenchus.toml", SITE.replace('"S"', "9" * 5000)),
        (4, 4, 4, 500),
        "elenchus.toml",
    ),
    "brackets in pages": (put("pages.toml", "x = " + "[" * 5000), (0, 1, 1, 500), "pages.toml"),
    "a dangling template": (
        link("templates/sheet.html", "nowhere.html"),
        REFUSED,
        "templates/sheet.html",
    ),
    "a loop in files": (link("pictures/loop", "."), FINE, ""),
}


@pytest.mark.parametrize("name", BAD)
def test_one_bad_file(make_site: Write, run: Run, tmp_path: Path, name: str) -> None:
    """Every command ends with a code of its own, says which file it is, and shows no traceback."""
    site = (
        SITE.replace("[taxonomies.topic]", '[taxonomies.topic]\nterms = "topic.csv"')
        + '[publish]\nfiles = ["pictures"]\n'
    )
    make_site({**FILES, "elenchus.toml": site, "topic.csv": "slug,name\nx,X\n", "pictures/.keep": ""})
    do, ends, says = BAD[name]
    do(tmp_path)
    commands = (["ask", "from note", "--format", "lines"], ["check"], ["publish"])
    done = [run(*command, timeout=60) for command in commands]
    for command, each in zip(commands, done, strict=True):
        assert each.returncode not in (70, -9), (command, each.stderr)
        assert "Traceback" not in each.stderr + each.stdout
        assert len(each.stdout + each.stderr) < 20_000
        assert says in each.stderr + each.stdout or command[0] != "check", (command, each.stdout, each.stderr)
    client = TestClient(application(Live(tmp_path), watched=False), base_url="http://localhost")
    page = client.get("/")
    assert (*(each.returncode for each in done), page.status_code) == ends
    if not ends[0]:
        assert {"note/a", "note/b"} <= set(done[0].stdout.split())
    assert str(tmp_path) not in page.text


# The preview


@pytest.fixture(scope="module")
def demo() -> Iterator[TestClient]:
    live = Live(elenchus.demo_folder())
    with TestClient(
        application(live, watched=False), base_url="http://localhost", follow_redirects=False
    ) as client:
        yield client


@pytest.mark.parametrize(
    ("address", "cookie"),
    [
        ("/", "9999-12-31T23:59:59-12:00"),
        ("/", "0001-01-01T00:00:00+14:00"),
        ("/", "9" * 400),
        ("/", "²"),
        ("/-elenchus/why?page=/&section=²", ""),
        ("/-elenchus/why?page=/&section=٣", ""),
        ("/-elenchus/time?at=2026-01-01%0aSet-Cookie:x", ""),
        ("/-elenchus/time?at=٢٠٢٦-01-01", ""),
        ("/notebook/?page=²", ""),
        ("/api/listings/find?page%5Bnumber%5D=²", ""),
    ],
)
def test_odd_requests(demo: TestClient, address: str, cookie: str) -> None:
    """What nobody's browser sends is answered, and never by a failure of the program."""
    usual = demo.get("/").headers
    reply = demo.get(
        address, headers={"cookie": f"elenchus-at={cookie}"} if cookie.isascii() and cookie else {}
    )
    assert reply.status_code in (200, 302, 400, 404, 500)
    assert "Traceback" not in reply.text
    if cookie:
        assert (reply.status_code, set(reply.headers) <= {*usual, "set-cookie"}) == (200, True)
    assert "\n" not in "".join(reply.headers.values())


def test_a_folder_without_a_site(tmp_path: Path) -> None:
    """A site file that is gone is a page with the problem, which shows no path of the machine."""
    (tmp_path / "elenchus.toml").write_text(SITE, encoding="utf-8")
    live = Live(tmp_path)
    (tmp_path / "elenchus.toml").unlink()
    live.changed()
    page = TestClient(application(live, watched=False), base_url="http://localhost").get("/")
    assert (page.status_code, str(tmp_path) in page.text) == (500, False)


def test_half_sent_requests(tmp_path: Path) -> None:
    """Hundreds of requests that never end hold nobody else up, and are closed in time."""
    shutil.copytree(elenchus.demo_folder(), tmp_path / "demo")
    command = [str(PROGRAM), "serve", "--port", "0", "--site", str(tmp_path / "demo")]
    with (
        subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True) as process,
        ExitStack() as stack,
    ):
        try:
            assert process.stdout
            port = int(process.stdout.readline().split()[2].rstrip("/").rpartition(":")[2])
            half = [
                stack.enter_context(socket.create_connection(("127.0.0.1", port), timeout=30))
                for _ in range(250)
            ]
            for each in half:
                each.sendall(b"GET / HTTP/1.1\r\nHost: localhost\r\nX-Slow: ")
            assert half[0].recv(1000).startswith((b"HTTP/1.1 408", b"")), "the oldest ends"
            with socket.create_connection(("127.0.0.1", port), timeout=20) as good:
                good.sendall(b"GET /guides/ HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n")
                assert good.recv(15) == b"HTTP/1.1 200 OK"
        finally:
            process.kill()


# Work that grows no faster than its input


COUNTED = tuple(str(Path(str(each.__file__)).parent) for each in (elenchus, markdown_it))


def steps(work: Callable[[], object]) -> int:
    """Return how many lines of this program a piece of work runs."""
    count = 0

    def trace(frame: Any, event: str, _arg: object) -> Any:
        nonlocal count
        if not frame.f_code.co_filename.startswith(COUNTED):
            return None
        count += event == "line"
        return trace

    before = sys.gettrace()
    sys.settrace(trace)
    try:
        work()
    finally:
        sys.settrace(before)
    return count


def terms(size: int, row: Callable[[int], str]) -> Callable[[Path], object]:
    """Return what reads a site with many terms."""

    def work(folder: Path) -> object:
        site = SITE.replace("[taxonomies.topic]", '[taxonomies.topic]\ntree = true\nterms = "topic.csv"')
        put("elenchus.toml", site)(folder)
        put("topic.csv", "slug,name,parent\n" + "".join(row(number) + "\n" for number in range(size)))(folder)
        put("n/a.md", NOTE.format("A"))(folder)
        return elenchus.ask(elenchus.open_site(folder), "limit 1")

    return work


def marked(text: str) -> Callable[[Path], object]:
    """Return what looks for markers in a text."""
    return lambda _: markers_in(text, "x.md", markdown=True)


def read(text: str) -> Callable[[Path], object]:
    """Return what makes HTML of a body."""
    return lambda _: Body(text).html()


GROWING: dict[str, Callable[[int], Callable[[Path], object]]] = {
    "terms": lambda size: terms(size, lambda number: f"t{number},T {number},"),
    "terms of one name": lambda size: terms(size, lambda number: f"t{number},Same,"),
    "a tree of terms": lambda size: terms(
        size, lambda number: f"t{number},T {number},{f't{number // 10}' if number else ''}"
    ),
    "unclosed comments": lambda size: marked("<!-- x " * size),
    "backticks": lambda size: marked(" ".join("`" * (1 + number % 97) for number in range(size))),
    "sections of characters": lambda size: read("a <![CDATA[" * size),
    "pictures": lambda size: read("![" * size),
    "brackets": lambda size: read("[" * size),
    "emphasis": lambda size: read("*a _b " * size),
    "paragraphs": lambda size: read("Some *words* and a [link](https://a.example/).\n\n" * size),
}


@pytest.mark.parametrize("name", GROWING)
def test_linear(tmp_path: Path, name: str) -> None:
    """Four times as much takes hardly more than four times as many steps."""
    counts = []
    for size in (400, 1600):
        work = GROWING[name](size)
        folder = tmp_path / str(size)
        folder.mkdir()
        counts.append(steps(lambda work=work, folder=folder: work(folder)))  # type: ignore[misc]
    assert counts[1] <= 5 * counts[0] + 2000, counts


# Weaving


@pytest.mark.parametrize(
    "title",
    [
        "<!-- elenchus end -->",
        "HTML comments begin with <!-- and",
        "<!-- elenchus begin x -->",
        "`<!--`",
        "-->",
        "&lt;!-- x",
        "\\<!-- x",
    ],
)
def test_titles_like_markers(make_site: Write, title: str) -> None:
    """Woven twice, a file is what it was after the first time, and what stands behind the marker is kept."""
    site = Renderer(make_site({**FILES, "n/a.md": NOTE.format(json.dumps(title))}))
    for name, before in (("w.md", "\\<!-- is no comment"), ("w.html", "<!-- is one -->")):
        path = site.site.definition.folder / name
        begin = '<!-- elenchus begin "where title is set order by title" -->'
        path.write_text(f"{before}\n\n{begin}<!-- elenchus end -->\nbehind\n", encoding="utf-8")
        once = weaving.weave(site, path)
        assert once.changes
        path.write_bytes(once.new)
        assert not weaving.weave(site, path).changes
        assert once.new.endswith(b"\nbehind\n")


def test_an_edit_made_meanwhile_is_kept(make_site: Write, tmp_path: Path) -> None:
    """A file that was changed since it was read is left as it is; a killed run's part is taken away."""
    site = Renderer(make_site(FILES))
    path = tmp_path / "w.html"
    path.write_text('<!-- elenchus begin "order by title" --><!-- elenchus end -->', encoding="utf-8")
    (tmp_path / ".w.html.99999999.part").write_text("left", encoding="utf-8")
    woven = weaving.weave(site, path)
    path.write_text("edited", encoding="utf-8")
    with pytest.raises(FolderError) as raised:
        weaving.write(woven)
    assert raised.value.problems[0].code == "changed-meanwhile"
    assert path.read_text(encoding="utf-8") == "edited"
    path.write_bytes(woven.old)
    weaving.write(woven)
    assert sorted(each.name for each in tmp_path.iterdir() if "w.html" in each.name) == ["w.html"]


def test_the_check_finds_nothing_to_hide(make_site: Write) -> None:
    """The site that these tests start from has no errors: what they see is of their own making."""
    found = check_site(make_site(FILES)).findings
    assert not [each for each in found if each.level == "error"]


GREEDY = [  # templates that would run for ever, or take the memory of the machine
    "{% for a in range(99999) %}{% for b in range(99999) %}{% endfor %}{% endfor %}", "{{ 'a' * 4000000000 }}", "{% set ns = namespace(x='aaaaaaaa') %}{% for i in range(60) %}{% set ns.x = ns.x ~ ns.x %}{% endfor %}{{ ns.x }}",
    "{% set ns = namespace(x='aaaaaaaa') %}{% for i in range(60) %}{% set ns.x = ns.x + ns.x %}{% endfor %}{{ ns.x }}", "{{ 'a'|center(4000000000) }}", "{{ '%4000000000d' % 1 }}", "{{ '{:>4000000000}'.format(1) }}",
    "{{ 'a'.ljust(4000000000) }}", "{{ 9 ** 99999999 }}", "{{ [1] * 4000000000 }}", "{{ lipsum(n=99999) }}", "{% macro f(n) %}{{ f(n - 1) if n }}{{ f(n - 1) if n }}{% endmacro %}{{ f(200) }}", "{% for a in range(99999) if range(99999)|sum %}{% endfor %}",
    "{{ ('a' * 100000)|replace('a', 'a' * 100000) }}", "{{ ('a' * 100000).replace('a', 'a' * 100000) }}", "{{ 'a'|indent(4000000000, true) }}", "{% set ns = namespace(x=[1] * 9000) %}{% for i in range(60) %}{% set ns.x = ns.x + ns.x %}{% endfor %}",
]  # fmt: skip


@pytest.mark.parametrize("template", GREEDY)
def test_templates_have_bounds(make_site: Write, template: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """A template that does more than any page needs is told with its line, soon, and takes little memory."""
    monkeypatch.setattr("elenchus.rendering.bounds._SECONDS", 1)
    site = make_site({**FILES, "templates/sheet.html": f"<p>\n{template}\n</p>"})
    book = Book(site)
    with pytest.raises(elenchus.SiteError) as caught:
        Renderer(site, book).page(placed(book, book.pages[0]))
    [problem] = caught.value.problems
    assert str(problem.place) in ("templates/sheet.html:2", "templates/sheet.html:1")


def test_nothing_of_ours_is_written_out(make_site: Write, tmp_path: Path, run: Run) -> None:
    """What a template writes out as it is has a title, and none of the program's inside."""
    names = ["sheet", "site", "sheet.sections", "sheet.sections[0]", "sheet.sections[0].rows", "sheet.sections[0].rows[0]", "sheet.sections[0].columns", "sheet.sections[0].pager", "sheet.trail", "site.menu", "ask('from note').rows|list", "sheet.row", "sheet.sections[0].rows|string", "[sheet, site]|pprint", "{'a': sheet}", "sheet.sections[0].groups", "namespace(x=sheet).x", "sheet.sections[0].rows[0]['title']"]  # fmt: skip
    pages = '[home]\naddress = "index.html"\nsections = [{ ask = "order by title" }]\n'
    make_site(
        {
            **FILES,
            "pages.toml": pages,
            "templates/sheet.html": "".join(f"<p>{{{{ {name} }}}}</p>\n" for name in names),
        }
    )
    done = run("publish")
    assert done.returncode == 0, done.stderr
    written = (tmp_path / "published" / "index.html").read_text()
    assert len(written) < 5_000
    for inside in (str(tmp_path), "object at", "SourceSpec", "Desk", "RowView(", "PageView("):
        assert inside not in written, inside
    assert "A" in written
    for name in ("ask", "sheet.sections[0].meta", "word", "range"):
        (tmp_path / "templates" / "sheet.html").write_text(f"{{{{ {name} }}}}")
        done = run("publish")
        assert "is no text that can be written on a page" in done.stderr + done.stdout, name


MUTATIONS = ["{{", "{%", "{#", "{% for x in rows %}", "{% endfor %}", "{{ sheet.__class__ }}", "{{ ask(1) }}", "{% extends 'sheet.html' %}", "{{ 1 / 0 }}", "\0", "{% macro m() %}{{ m() }}{% endmacro %}{{ m() }}", "{% raw %}", "{{ sheet|attr('rule') }}", "{{ part() }}", "{{ part.rows|batch(0)|list }}", "{{ 'a'|wordwrap(0) }}", "{{ part.rows|sort }}", "{{ 1.5|round(10 ** 6) }}", "{{ self }}", "{{ caller() }}"]  # fmt: skip


def test_mutated_templates(demo_copy: Path) -> None:
    """Built-in templates with pieces cut out, moved and put in: a page is drawn, or the problem is told."""
    draw, built_in = random.Random(3), Path(elenchus.__file__).parent / "rendering" / "templates"  # noqa: S311 - nothing here is secret
    ends: Counter[str] = Counter()
    for name in (
        "rows.html",
        "entry.html",
        "sheet.html",
        "parts.html",
        "layouts/row.html",
        "layouts/list.html",
    ):
        text = (built_in / name).read_text()
        target = demo_copy / "templates" / name
        target.parent.mkdir(parents=True, exist_ok=True)
        for _ in range(25):
            at, length = draw.randrange(len(text)), draw.randint(1, 40)
            put = draw.choice(MUTATIONS) if draw.random() < 0.6 else ""
            cut = text[:at] + put + text[at + length * (draw.random() < 0.5) :]
            target.write_text(cut)
            site = elenchus.open_site(demo_copy)
            try:
                book = Book(site)
                drawn = Renderer(site, book).page(placed(book, draw.choice(book.pages[::20])))
                ends["drawn"] += "</html>" in drawn
            except elenchus.ElenchusError as error:
                assert all(problem.message for problem in error.problems)
                ends["told"] += 1
        target.unlink()
    assert min(ends["drawn"], ends["told"]) > 20
