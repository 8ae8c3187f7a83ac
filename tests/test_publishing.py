"""Publishing: what is written, what is reported before, what is kept, and what must never get onto a page."""

from __future__ import annotations

import csv
import json
import pickle
import re
import shutil
import subprocess
from collections import Counter
from datetime import datetime
from functools import cached_property
from html import unescape
from html.parser import HTMLParser
from itertools import pairwise
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urljoin, urlsplit
from xml.etree import ElementTree

import feedparser
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from typer.testing import CliRunner

import elenchus
from conftest import PROGRAM, Run, Write, kill_at_moments, often
from elenchus.comparing.changes import listing_changes, moved
from elenchus.pages.sections import placed
from elenchus.publishing.outputs import outputs
from elenchus.publishing.sitemap import sitemap_files
from elenchus.rendering.addresses import Root
from elenchus.rendering.bodies import body_of, excerpt
from elenchus.rendering.pager import window
from elenchus.rendering.renderer import Renderer
from elenchus.values.addresses import is_harmless

ATOM = {"a": "http://www.w3.org/2005/Atom"}


def files_of(site: elenchus.Site) -> dict[str, bytes]:
    """Return all files that a site publishes."""
    renderer = Renderer(site)
    pages = [placed(renderer.book, page) for page in renderer.book.pages]
    return {each.path: each.content for each in outputs(renderer, pages)}


@pytest.fixture(scope="session")
def demo_files(demo_site: elenchus.Site) -> dict[str, bytes]:
    return files_of(demo_site)


@pytest.fixture
def demo(tmp_path: Path) -> Path:
    """Return a copy of the demo that a test may change."""
    return Path(shutil.copytree(elenchus.demo_folder(), tmp_path / "demo"))


def tree(folder: Path) -> dict[str, bytes]:
    """Return the published files of a folder."""
    found = {path.relative_to(folder).as_posix(): path for path in folder.rglob("*") if path.is_file()}
    return {name: path.read_bytes() for name, path in found.items() if not name.startswith(".elenchus/")}


class Page(HTMLParser):
    """What tests look at in a page: its elements with their attributes, its headings, its words."""

    def __init__(self, content: bytes) -> None:
        super().__init__()
        self.elements: list[tuple[str, dict[str, str | None]]] = []
        self.texts: list[str] = []
        self.open: list[str] = []
        self.feed(content.decode())

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.elements.append((tag, dict(attrs)))
        self.open.append(tag)

    def handle_endtag(self, _tag: str) -> None:
        self.open.append("")

    def handle_data(self, data: str) -> None:
        self.texts.append(data)

    def all(self, tag: str, **wanted: str) -> list[dict[str, str | None]]:
        """Return the attributes of all elements of a name, those with some attributes only."""
        return [each for name, each in self.elements if name == tag and wanted.items() <= each.items()]

    @property
    def text(self) -> str:
        return " ".join("".join(self.texts).split())


# The pages of the demo


def test_links_lead_somewhere(demo_files: dict[str, bytes]) -> None:
    """Every link, image, script and stylesheet of every page is a file that is published."""
    for path, content in demo_files.items():
        if not path.endswith(".html"):
            continue
        page = Page(content)
        ids = {each["id"] for _, each in page.elements if "id" in each}
        for _, attributes in page.elements:
            for name in ("href", "src", "action"):
                parts = urlsplit(attributes.get(name) or "")
                if name not in attributes or parts.scheme in ("https", "data"):
                    continue
                target = unquote(urljoin(f"/{path}", parts.path)).removeprefix("/")
                file = f"{target}index.html" if target.endswith("/") or not target else target
                assert file in demo_files, f"{path} links {attributes[name]}"
                assert not parts.fragment or file != path or parts.fragment in ids


def test_every_page_is_well_made(demo_files: dict[str, bytes]) -> None:
    """One main heading, levels without gaps, ids once, one main landmark, a title and a canonical link of its own."""
    titles: dict[str | None, str] = {}
    for path, content in demo_files.items():
        if not path.endswith(".html"):
            continue
        page = Page(content)
        levels = [int(name[1]) for name, _ in page.elements if re.fullmatch("h[1-6]", name)]
        assert levels.count(1) == 1, path
        assert levels[0] == 1, path
        assert all(after <= before + 1 for before, after in pairwise(levels)), (path, levels)
        ids = [each["id"] for _, each in page.elements if "id" in each]
        assert len(ids) == len(set(ids)), path
        assert len(page.all("main")) == 1
        assert all("alt" in each for each in page.all("img")), path
        assert len(page.all("a", **{"aria-current": "page"})) <= 2
        canonical = page.all("link", rel="canonical")[0]["href"]
        assert titles.setdefault(canonical, path) == path
        assert not any(
            "style" in each or any(key.startswith("on") for key in each) for _, each in page.elements
        )
        assert all(urlsplit(each.get("src") or "").netloc == "" for each in page.all("script"))


@pytest.mark.parametrize(
    ("path", "previous", "following", "numbers"),
    [
        ("notebook/index.html", None, "/notebook/page/2/", 4),
        ("notebook/page/2/index.html", "/notebook/", "/notebook/page/3/", 4),
        ("notebook/page/4/index.html", "/notebook/page/3/", None, 4),
        ("index.html", None, None, 0),
    ],
)
def test_pager(
    demo_files: dict[str, bytes], path: str, previous: str | None, following: str | None, numbers: int
) -> None:
    """Numbers with the current one marked, previous and next absent at the ends, the same in the head."""
    page = Page(demo_files[path])
    for rel, address in (("prev", previous), ("next", following)):
        assert [each["href"] for each in page.all("a", rel=rel)] == ([address] if address else [])
        assert [each["href"] for each in page.all("link", rel=rel)] == ([address] if address else [])
    current = [each for each in page.all("a", **{"aria-current": "page"}) if each.get("aria-label")]
    assert len(current) == bool(numbers)
    assert (
        len([each for each in page.all("a") if (each.get("aria-label") or "").startswith("Page ")]) == numbers
    )


def test_rows_of_all_pages_are_the_listing(demo_site: elenchus.Site, demo_files: dict[str, bytes]) -> None:
    """Page after page shows the rows of the listing, in its order, each once."""
    wanted = [f"/{row['address']}" for row in elenchus.ask(demo_site, "find", changes="no per page").rows]
    found = []
    for path in ("notebook/index.html", *(f"notebook/page/{number}/index.html" for number in (2, 3, 4))):
        html = re.sub(r"<template.*?</template>", "", demo_files[path].decode(), flags=re.DOTALL)
        found += re.findall(r'<h3><a href="([^"]+)"', html)
    assert found == wanted


def test_an_entry_page(demo_files: dict[str, bytes]) -> None:
    """Its text, its date and author, its fields and terms as links, the pages around it in their listing."""
    page = Page(demo_files["sightings/limpets-in-square-nine/index.html"])
    assert page.all("time")[0]["datetime"] == "2026-06-12"
    assert "Square nine has filled again" in page.text
    assert {"/people/tomas-brekke/", "/habitats/shore/rocky-shore/", "/species/limpet/"} <= {
        each["href"] for each in page.all("a")
    }
    assert [each["href"] for each in page.all("a", rel="prev")] == ["/sightings/dunlin-at-last-light/"]
    assert [each["href"] for each in page.all("a", rel="next")] == [
        "/sightings/ochre-stars-in-the-long-pool/"
    ]


GROUPED = {
    "elenchus.toml": '[site]\ntitle = "G"\nclock = 2026-06-01\n[sources.n]\nread = "markdown"\npath = "n"\nkind = "note"\n[kinds.note]\n[taxonomies.topic]\n',
    "pages.toml": '[all]\naddress = "index.html"\nsections = [{ ask = "order by title group by topic per page 3", title = "All" }, { title = "Few", ask = "order by title limit 2", on_every_page = true }, { title = "Own", ask = "order by title per page 4", pages_at = "own/" }]\n',
    **{
        f"n/{name}.md": f"---\ntitle: {name}\ndate: 2026-05-01\ntopic: {topic}\n---\n"
        for name, topic in zip("abcdefg", "xxxxyyz", strict=True)
    },
}


def test_groups_sections_and_pages_of_their_own(make_site: Write) -> None:
    """A group goes on with its heading; other sections stand on page 1 unless they say otherwise."""
    files = files_of(make_site(GROUPED))
    texts = {path: Page(content).text for path, content in files.items() if path.endswith(".html")}
    assert sorted(texts) == ["index.html", "own/page/2/index.html", "page/2/index.html", "page/3/index.html"]
    assert "x 4 a" in texts["index.html"]
    assert "continued" not in texts["index.html"]
    assert "x 4 continued d" in texts["page/2/index.html"]
    assert "Own" in texts["index.html"]
    headings = {path: re.findall("<h2[^>]*>([^<]*)<", content.decode()) for path, content in files.items()}
    assert headings["page/2/index.html"] == ["All", "Few"]
    assert headings["own/page/2/index.html"] == ["Few", "Own"]


def test_same_bytes(
    demo_site: elenchus.Site, demo_files: dict[str, bytes], monkeypatch: pytest.MonkeyPatch
) -> None:
    """The same content at the same time gives the same bytes, whatever the zone and language of the machine."""
    monkeypatch.setenv("TZ", "Asia/Tokyo")
    monkeypatch.setenv("LC_ALL", "de_DE.UTF-8")
    assert files_of(elenchus.open_site(demo_site.definition.folder)) == demo_files


def test_links_in_texts(run: Run, demo: Path) -> None:
    """Links to content lead to pages, to hidden entries nowhere; what nobody publishes is reported."""
    text = "[a](../report/seal-year-2025.md#x) [b](../sighting/unknown-wader.md) [c](nowhere/) ![d](../../images/seal.svg) [e](https://a.example/) [f](../../../etc/passwd) [g](#h)"
    entry = demo / "notebook" / "guide" / "linking.md"
    entry.write_text(
        f"---\ntitle: Linking\ndate: 2026-06-01\nimage: images/none.svg\n---\n{text}\n", encoding="utf-8"
    )
    done = run("publish", cwd=demo)
    page = (demo / "published" / "guides" / "linking" / "index.html").read_text(encoding="utf-8")
    assert (
        '<a href="/reports/seal-year-2025/#x">a</a> <a>b</a> <a href="/nowhere/">c</a> <img src="/images/seal.svg"'
        in page
    )
    assert '<a href="https://a.example/">e</a>' in page
    assert '<a href="#h">g</a>' in page
    told = done.stdout.partition("Links that lead nowhere\n")[2].splitlines()
    assert [line.split()[0] for line in told[:3]] == ["/../../../etc/passwd", "/images/none.svg", "/nowhere/"]


SITE_OF_LINKS = """
[site]
[sources.notes]
read = "markdown"
path = "n"
kind = "note"
name_links = true
[sources.pages]
read = "html"
path = "h"
kind = "note"
[kinds.note]
address = "{slug}/"
"""


@pytest.mark.parametrize(
    ("written", "shown"),
    [
        ("[x](tides.md)", '<a href="/tides/">x</a>'),
        ("[x](tides)", '<a href="/tides/">x</a>'),
        ("[x](tools/)", '<a href="/tools/">x</a>'),
        ("[x][y]\n\n[y]: tides.md#low-water", '<a href="/tides/#low-water">x</a>'),
        ("[[Tides]]", '<a href="/tides/">Tides</a>'),
        ("[[tides#Low water|low]]", '<a href="/tides/#low-water">low</a>'),
        ("[[Nowhere]]", "<a>Nowhere</a>"),
        ("`[[Tides]]`", "<code>[[Tides]]</code>"),
        ('<a href="../h/nets.html#mending">x</a>', '<a href="/nets/#mending">x</a>'),
        ("<a href='tides.md' id='elen-x'>x</a>", '<a href="/tides/">x</a>'),
        ('<p id="here">x</p>', '<p id="here">x</p>'),
        ('<p id="a-keys" onclick="x()">x</p>', "<p>x</p>"),
        (
            "## Low water\n\n## Low water",
            '<h2 id="low-water">Low water</h2>\n<h2 id="low-water-2">Low water</h2>',
        ),
    ],
)
def test_links_of_many_kinds(make_site: Write, written: str, shown: str) -> None:
    """Links lead to pages in Markdown and HTML, with and without endings, to folders and headings, and by names."""
    site = make_site(
        {
            "elenchus.toml": SITE_OF_LINKS,
            "pages.toml": '[notes]\neach = "from note"\n',
            "n/a.md": f"---\ntitle: A\n---\n{written}\n",
            "n/tides.md": "# Tides\n\n## Low water\n",
            "n/tools/index.md": "# Tools\n",
            "h/nets.html": '<nav>menu</nav><h1>Nets</h1><h2 id="mending">Mending</h2><footer>all rights</footer>',
            "h/rope.html": "<aside>menu</aside><main><h1>Rope</h1><aside>by the way</aside></main><p>outside</p>",
        }
    )
    files = files_of(site)
    assert shown in files["a/index.html"].decode()
    assert not any(word in files["nets/index.html"].decode() for word in ("all rights", "<nav>menu"))
    rope = files["rope/index.html"].decode()
    assert ["by the way" in rope, "menu</" in rope, "outside" in rope] == [True, False, False]


ABOUT = {
    **{name: text for name, text in GROUPED.items() if name != "pages.toml"},
    "pages.toml": '[notes]\neach = "from note"\naddress = "n/{slug}/"\nabout = "All of {title}"\n[topics]\neach = "group by topic"\naddress = "t/{key}/"\nabout = "{count} of {label}"\n[hidden]\naddress = "hidden/"\nprivate = true\n[quiet]\naddress = "quiet/"\nmenu = false\n[loud]\naddress = "loud.html"\ntemplate = "own.html"\n',
    "templates/own.html": "{{ site.menu | map(attribute='text') | join(',') }}|{{ word('next') }}|{{ sheet.heading }}",
}


def test_words_about_pages(make_site: Write) -> None:
    """What a set says of each page is filled; private pages are nowhere; the menu has those that want it."""
    files = files_of(make_site(ABOUT))
    assert 'content="All of a"' in files["n/a/index.html"].decode()
    assert "4 of x" in Page(files["t/x/index.html"]).text
    assert not [path for path in files if "hidden" in path]
    assert files["loud.html"] == b"Loud|Next|Loud"


# Feeds, data, the sitemap


def test_atom(demo_site: elenchus.Site, demo_files: dict[str, bytes]) -> None:
    """Valid to a parser; its pages follow each other and hold the listing; ids and instants are whole."""
    address, seen, ids = "https://skerrybay.example/notebook/find.atom", [], []
    while address:
        feed = feedparser.parse(demo_files[urlsplit(address).path.removeprefix("/")])
        assert not feed.bozo
        links = {each["rel"]: each["href"] for each in feed.feed.links}
        assert links["self"] == address
        assert links["first"] == "https://skerrybay.example/notebook/find.atom"
        assert links["last"].endswith("/notebook/page/4/find.atom")
        seen += [entry.link for entry in feed.entries]
        ids += [entry.id for entry in feed.entries]
        for entry in feed.entries:
            assert datetime.fromisoformat(entry.updated).tzinfo
        address = links.get("next", "")
    wanted = elenchus.ask(demo_site, "find", changes="no per page").rows
    assert seen == [f"https://skerrybay.example/{row['address']}" for row in wanted]
    assert len(set(ids)) == len(ids)
    assert all(name.startswith("urn:uuid:") for name in ids)


def test_rss_and_json_feed(demo_files: dict[str, bytes]) -> None:
    """They say the same as Atom does, each in its own way."""
    atom, rss = (feedparser.parse(demo_files[f"notebook/find.{form}"]) for form in ("atom", "rss"))
    feed = json.loads(demo_files["notebook/find.feed.json"])
    assert not rss.bozo
    assert rss.version == "rss20"
    assert feed["version"] == "https://jsonfeed.org/version/1.1"
    assert feed["next_url"] == "https://skerrybay.example/notebook/page/2/find.feed.json"
    for one, two, three in zip(atom.entries, rss.entries, feed["items"], strict=True):
        assert one.id == two.id == three["id"]
        assert one.link == two.link == three["url"]
        assert one.title == two.title == three["title"]
        assert one.published_parsed == two.published_parsed
        assert (
            datetime.fromisoformat(three["date_published"]).utctimetuple()[:6]
            == tuple(one.published_parsed)[:6]
        )
        assert one.content[0].value == two.content[0].value == three["content_html"].strip()
    assert 'src="/' not in demo_files["notebook/find.atom"].decode()


def test_data(demo_site: elenchus.Site, demo_files: dict[str, bytes]) -> None:
    """CSV and JSON hold all rows of all pages."""
    wanted = [row.id for row in elenchus.ask(demo_site, "find", changes="no per page").rows]
    rows = list(csv.DictReader(demo_files["notebook/find.csv"].decode().splitlines()))
    assert [row["id"] for row in rows] == wanted
    assert [row["id"] for row in json.loads(demo_files["notebook/find.json"])["rows"]] == wanted


def test_sitemap(demo_files: dict[str, bytes]) -> None:
    """All pages stand in it, each once, with whole addresses; beyond its limit there are several."""
    space = {"s": "http://www.sitemaps.org/schemas/sitemap/0.9"}
    root = ElementTree.fromstring(demo_files["sitemap.xml"])  # noqa: S314 - our own file
    found = [each.text or "" for each in root.findall("s:url/s:loc", space)]
    pages = [path for path in demo_files if path.endswith(".html")]
    assert sorted(found) == sorted(
        f"https://skerrybay.example/{path.removesuffix('index.html')}" for path in pages
    )
    assert all(
        datetime.fromisoformat(each.text or "").tzinfo for each in root.findall("s:url/s:lastmod", space)
    )
    many = dict(
        sitemap_files(Root.of("https://a.example/b"), [(f"{number}/", "") for number in range(100_001)])
    )
    assert sorted(many) == ["sitemap-1.xml", "sitemap-2.xml", "sitemap-3.xml", "sitemap.xml"]
    assert b"<loc>https://a.example/b/sitemap-3.xml</loc>" in many["sitemap.xml"]
    assert many["sitemap-1.xml"].count(b"<loc>") == 50_000


MEASURED = """
[by-habitat]
ask = "from note group by topic by sum of size desc having count >= 1 limit 0 per group measure sum of size, max of date as latest"
[every]
ask = "from note measure average of size"
"""


def test_measures_on_pages(make_site: Write, tmp_path: Path, run: Run) -> None:
    """Measures stand on pages and in sentences; what changes one changes each page that shows it, and no other."""
    files = {
        "elenchus.toml": '[site]\nclock = 2026-06-01\n[sources.n]\nread = "markdown"\npath = "n"\nkind = "note"\n[kinds.note.fields]\nsize = { type = "integer" }\n[taxonomies.topic]\n',
        "listings.toml": MEASURED,
        "pages.toml": '[home]\naddress = "index.html"\nsections = [{ listing = "by-habitat" }]\n[other]\naddress = "other/"\nsections = [{ listing = "every" }]\n[none]\naddress = "none/"\nsections = [{ ask = "from note limit 1" }]\n',
        "w/index.html": '<p><!-- elenchus begin measure every -->?<!-- elenchus end --></p>',
        "w/archive.md": "<!-- elenchus begin by-habitat -->\n<!-- elenchus end -->\n",
        **{f"n/n{number}.md": f"---\ntitle: N{number}\ndate: 2026-05-0{number}\nsize: {number}\ntopic: [t{number % 2}]\n---\n" for number in range(1, 6)},
    }  # fmt: skip
    make_site(files)
    assert run("publish").returncode == 0
    web = tmp_path / "published"
    page = (web / "index.html").read_text()
    assert re.findall(r'number">([^<]*)<', page.split("<tbody>")[1]) == [
        "3",
        "9",
        "",
        "2",
        "6",
        "",
        "5",
        "15",
        "",
    ]
    assert '<time datetime="2026-05-05">May 5, 2026</time>' in page
    assert "<dt>Average of size</dt><dd>3.00</dd>" in (web / "other" / "index.html").read_text()
    path = tmp_path / "n" / "n2.md"
    path.write_text(path.read_text().replace("size: 2", "size: 7"))
    done = run("publish").stdout
    assert re.findall(r"~ (\S*index.html)", done) == ["index.html", "other/index.html"]
    assert re.findall(r'number">([^<]*)<', (web / "index.html").read_text().split("<tbody>")[1])[:2] == [
        "2",
        "11",
    ]
    assert run("weave", "w").returncode == 0
    assert ">4.00<!--" in (tmp_path / "w" / "index.html").read_text()
    assert "| t0 | 2 | 11 | 2026-05-04 |" in (tmp_path / "w" / "archive.md").read_text()
    (tmp_path / "w" / "index.html").write_text(
        '<!-- elenchus begin measure "from note" --><!-- elenchus end -->'
    )
    wrong = run("weave", "w")
    assert (wrong.returncode, "“from note” has no measure" in wrong.stderr) == (8, True), wrong
    before = {path: path.read_bytes() for path in web.rglob("*.html")}
    assert run("export", "duckdb:///all.duckdb").returncode == 0
    assert run("publish", "--tables", "duckdb:///all.duckdb", "--to", "there").returncode == 0
    assert {path: (tmp_path / "there" / path.relative_to(web)).read_bytes() for path in before} == before


# Writing


def test_publish_tells_and_keeps(run: Run, demo: Path) -> None:
    """Only what changes is written, and told before with the entries that enter, leave and move."""
    first = run("publish", "--dry-run", cwd=demo)
    assert first.stdout.endswith("Nothing was written (--dry-run).\n")
    assert not (demo / "published").exists()
    assert run("publish", cwd=demo).returncode == 0
    old = tree(demo / "published")
    times = {name: (demo / "published" / name).stat().st_mtime_ns for name in old}
    assert run("publish", cwd=demo).stdout.startswith("Nothing changes: ")

    new = demo / "notebook" / "guide" / "a-new-guide.md"
    new.write_text(
        "---\ntitle: A new guide\ndate: 2026-06-14\nlevel: first-steps\n---\nText\n", encoding="utf-8"
    )
    gone = demo / "notebook" / "guide" / "birds-at-night.md"
    gone.unlink()
    dry = run("publish", "--dry-run", "--in-full", cwd=demo).stdout
    assert tree(demo / "published") == old
    assert "+ guides/a-new-guide/index.html" in dry
    assert "- guides/birds-at-night/index.html" in dry
    assert (
        "guides-by-level on /guides/\n    + A new guide enters at 1\n    - guide/birds-at-night leaves, it was at 11"
        in dry
    )
    done = run("publish", cwd=demo)
    assert done.stdout.splitlines()[0] == dry.splitlines()[0]
    found = tree(demo / "published")
    assert "guides/a-new-guide/index.html" in found
    assert not (demo / "published" / "guides" / "birds-at-night").exists()
    same = [name for name in old if found.get(name) == old[name]]
    assert len(same) > 150
    assert all((demo / "published" / name).stat().st_mtime_ns == times[name] for name in same)

    pages = demo / "pages.toml"
    pages.write_text(
        pages.read_text(encoding="utf-8")
        .replace("order by title", "x")
        .replace("newest-reports", "newest-reports", 1),
        encoding="utf-8",
    )
    listings = demo / "listings.toml"
    listings.write_text(
        listings.read_text(encoding="utf-8").replace(
            "from guide order by title", "from guide order by title desc"
        ),
        encoding="utf-8",
    )
    assert "moves from" in run("publish", "--dry-run", cwd=demo).stdout


def test_files_of_others_are_safe(run: Run, demo: Path, tmp_path: Path) -> None:
    """What was changed by hand or written by others stays, unless forced; links lead nowhere else."""
    assert run("publish", cwd=demo).returncode == 0
    out = demo / "published"
    mine = out / "guides" / "index.html"
    mine.write_text("by hand", encoding="utf-8")
    (out / "notes.txt").write_text("mine", encoding="utf-8")
    (demo / "notebook" / "guide" / "birds-at-night.md").unlink()
    (out / "guides" / "birds-at-night" / "index.html").write_text("by hand", encoding="utf-8")
    refused = run("publish", cwd=demo)
    assert refused.returncode == 6
    assert "guides/index.html: The file was changed by hand, so nothing is written." in refused.stderr
    assert mine.read_text(encoding="utf-8") == "by hand"
    forced = run("publish", "--force", cwd=demo)
    assert forced.returncode == 0
    assert mine.read_text(encoding="utf-8").startswith("<!doctype html>")
    assert (out / "notes.txt").read_text(encoding="utf-8") == "mine"

    outside = tmp_path / "outside"
    outside.mkdir()
    (outside / "index.html").write_text("mine", encoding="utf-8")
    shutil.rmtree(out / "archive" / "2026")
    (out / "archive" / "2026").symlink_to(outside)
    linked = run("publish", "--force", cwd=demo)
    assert linked.returncode == 6
    assert "is a link" in linked.stderr
    assert (outside / "index.html").read_text(encoding="utf-8") == "mine"


@pytest.mark.parametrize(
    ("to", "code", "says"),
    [
        (".", 6, "holds files that the site is made of"),
        ("notebook/out", 6, "holds files"),
        ("..", 6, "holds files"),
        ("listings.toml", 6, "is no folder"),
        ("elsewhere/deep", 0, "Wrote"),
    ],
)
def test_targets(run: Run, demo: Path, to: str, code: int, says: str) -> None:
    """A site is never published over itself."""
    done = run("publish", "--to", to, cwd=demo)
    assert done.returncode == code
    assert says in done.stderr + done.stdout


def test_one_page_at_a_time(run: Run, demo: Path) -> None:
    """--only writes and removes what belongs to one page or set; unknown ones are named with the nearest."""
    assert run("publish", cwd=demo).returncode == 0
    before = tree(demo / "published")
    for path in (
        demo / "notebook" / "guide" / "birds-at-night.md",
        demo / "notebook" / "report" / "porpoises-by-ear.md",
    ):
        path.unlink()
    assert run("publish", "--only", "guide-page", cwd=demo).returncode == 0
    after = tree(demo / "published")
    assert before.keys() - after.keys() == {"guides/birds-at-night/index.html"}
    assert before["index.html"] == after["index.html"]
    done = run("publish", cwd=demo)
    assert "reports/porpoises-by-ear/index.html" in done.stdout
    wrong = run("publish", "--only", "guide-pages", cwd=demo)
    assert (wrong.returncode, "Did you mean guide-page" in wrong.stderr) == (7, True)


def test_what_stops_it(run: Run, demo: Path) -> None:
    """What the check calls an error, a broken list of what was published, a second run at the same time."""
    import fcntl

    listings = demo / "listings.toml"
    text = listings.read_text(encoding="utf-8")
    listings.write_text(text.replace("habitat under shore", "habitat under shoar"), encoding="utf-8")
    stopped = run("publish", cwd=demo)
    assert (stopped.returncode, "shoar" in stopped.stderr, stopped.stdout) == (1, True, "")
    listings.write_text(text, encoding="utf-8")
    assert run("publish", cwd=demo).returncode == 0
    with (demo / "published" / ".elenchus" / "lock").open() as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        assert run("publish", cwd=demo).returncode == 6
    (demo / "pages.toml").rename(demo / "none.toml")
    bare = run("publish", cwd=demo)
    assert (bare.returncode, "the site has no pages" in bare.stderr.lower()) == (4, True)
    (demo / "none.toml").rename(demo / "pages.toml")
    manifest = demo / "published" / ".elenchus" / "manifest.json"
    manifest.write_text("{", encoding="utf-8")
    broken = run("publish", cwd=demo)
    assert (broken.returncode, "cannot be read" in broken.stderr) == (6, True)


def test_a_kill_leaves_whole_files(demo: Path, tmp_path: Path) -> None:
    """Killed at any moment, a run leaves old files or new ones; the next one ends what it began, without force."""
    command = [str(PROGRAM), "publish", "--to", str(tmp_path / "out"), "--site", str(demo)]
    out, listings = tmp_path / "out", demo / "pages.toml"
    seen: list[dict[str, bytes]] = []
    text = listings.read_text(encoding="utf-8")

    def look() -> None:
        seen.append(tree(out))
        number = len(seen)
        listings.write_text(text.replace('title = "Guides"', f'title = "Guides {number}"'), encoding="utf-8")

    kill_at_moments(command, tmp_path, look)
    for found in seen:
        assert all(content.endswith((b"</html>\n", b"\n", b"}")) and content for content in found.values())
        for name, content in found.items():
            if name.endswith(".html"):
                assert content.startswith(b"<!doctype html>")
                assert content.endswith(b"</html>\n")
    subprocess.run(command, check=True, capture_output=True)
    assert tree(out) == files_of(elenchus.open_site(demo))
    assert [
        path.name
        for path in (out / ".elenchus").iterdir()
        if path.name not in ("manifest.json", "lock", "pages")
    ] == []


# What must never get onto a page


BROKEN_ITEMS = {
    "notebook/guide/torn.md": "---\ntitle: [torn\n---\nx\n",
    "notebook/guide/some-day.md": "---\ntitle: Some day\ndate: someday soon\n---\nx\n",
    "notebook/guide/twice.md": "---\ntitle: Twice\nslug: boats-near-seals\n---\nx\n",
    "notebook/guide/torn-draft.md": "---\ntitle: Two drafts\ndraft: true\nDraft: false\n---\nSECRET\n",
}


def test_a_bad_item_costs_itself(run: Run, demo: Path) -> None:
    """Entries that cannot be used are left out and counted; all others are published; --strict stops before."""
    assert run("publish", cwd=demo).returncode == 0
    before = tree(demo / "published")
    for name, text in BROKEN_ITEMS.items():
        (demo / name).write_text(text)
    strict = run("publish", "--strict", cwd=demo)
    assert (strict.returncode, strict.stdout) == (1, "")
    assert all(f"[{code}]" in strict.stderr for code in ("unreadable-file", "unreadable-date", "duplicate-slug", "doubled-key"))  # fmt: skip
    assert tree(demo / "published") == before
    told = "73 of 77 entries published; 4 held back: elenchus check names them.\n"
    for count in ("Nothing changes", "Nothing changes"):  # also where nothing is read again
        done = run("publish", cwd=demo)
        assert (done.returncode, count in done.stdout, told in done.stdout) == (0, True, True), done.stdout
    assert tree(demo / "published") == before
    (demo / "notebook/guide/torn.md").write_text("---\ntitle: Whole\ndate: 2026-06-01\n---\nx\n")
    done = run("publish", "--dry-run", cwd=demo)
    assert "+ guides/torn/index.html" in done.stdout
    assert "74 of 77 entries would be published; 3 held back" in done.stdout


@pytest.mark.parametrize(
    ("file", "text", "code"),
    [
        ("listings/torn.toml", "x = [", "bad-toml"),
        ("pages/torn.toml", '[a]\naddress = "a/"\nsections = ["nowhere"]\n', "unknown-listing"),
        ("rows.json", "[{]", "unreadable-file"),
    ],
)
def test_a_bad_definition_costs_the_run(run: Run, demo: Path, file: str, text: str, code: str) -> None:
    """A wrong definition stops the run, and so does a file of many entries: their pages would be removed."""
    (demo / file).parent.mkdir(exist_ok=True)
    (demo / file).write_text(text)
    if file == "rows.json":
        with (demo / "elenchus.toml").open("a") as site:
            site.write('[sources.rows]\nread = "json"\npath = "rows.json"\nkind = "guide"\n')
    done = run("publish", cwd=demo)
    assert (done.returncode, f"[{code}]" in done.stderr) == (1, True), done.stderr
    assert not (demo / "published").exists()


PICTURES = {
    "elenchus.toml": '[site]\naddress = "https://bay.example/"\nremote = true\n[sources.n]\nread = "markdown"\npath = "n"\nkind = "note"\n[kinds.note]\naddress = "n/{slug}/"\n[kinds.note.fields]\nphotos = { type = "image", many = true }\n',
    "pages.toml": '[home]\naddress = "index.html"\nsections = [{ listing = "all", beside = ["atom", "json"] }]\n[notes]\neach = "from note"\naddress = "n/{slug}/"\n',
    "listings.toml": '[all]\nask = "from note order by title"\nlayout = "cards"\nshow = ["image", "photos", "title"]\n',
    "n/a.md": "---\ntitle: A\nimage: https://pictures.example/a.png\nphotos: [HTTPS://Photos.example/b.png, own.png, //nowhere.example/k.png]\n---\n![A > b](https://cdn.example/c.png) and ![own](/d.png)\n\n<p><a href='https://links.example/'><img alt='x > y' src='\\\\evil.example/e.png'></a> <img src=//EVIL.example/f.png></p>\n\n<img title='t' src='https://bay.example/g.png' alt='g'>\n",
    "n/b.md": "---\ntitle: B\nimage: /h.png\n---\n[a link](https://links.example/x.png) `![code](https://code.example/i.png)`\n",
    "n/draft.md": "---\ntitle: D\ndraft: true\nimage: https://draft.example/j.png\n---\n",
}  # fmt: skip


def test_pictures_of_other_origins(make_site: Write, tmp_path: Path, run: Run) -> None:
    """Check names the origins that pages load from; where the site wants none, no page has one."""
    make_site(PICTURES)
    found = json.loads(run("check", "--format", "json").stdout)
    told = [each["message"].partition(" from ")[2] for each in found["findings"] if each["code"] == "other-origin"]  # fmt: skip
    origins = ["cdn", "evil", "photos", "pictures"]
    assert told == [f"https://{name}.example: note/a" for name in origins]

    def loaded() -> set[str]:
        files = [path for path in (tmp_path / "published").rglob("*") if path.suffix in (".html", ".xml")]
        texts = "".join(unescape(path.read_text()) for path in files)
        return set(re.findall(r'\ssrc="([^"]*)"', texts))

    assert run("publish").returncode == 0
    assert {name for name in origins if any(f"{name}.example" in each.lower() for each in loaded())} == {
        *origins
    }
    (tmp_path / "elenchus.toml").write_text(
        PICTURES["elenchus.toml"].replace("remote = true", "remote = false")
    )
    done = run("publish")
    assert done.returncode == 0, done.stderr
    assert {each.removeprefix("https://bay.example") for each in loaded()} == {"/own.png", "/d.png", "/g.png", "/h.png"}  # fmt: skip
    page = (tmp_path / "published/n/a/index.html").read_text()
    assert '<span class="elen-left-out">A &gt; b</span>' in page
    assert '<a href="https://links.example/"><span class="elen-left-out">x' in page
    assert "other-origin" not in run("check").stdout
    (tmp_path / "elenchus.toml").write_text(PICTURES["elenchus.toml"].replace("remote = true", "remote = false\ntrusted = true"))  # fmt: skip
    assert "cannot be kept beside trusted = true" in run("ask", "").stderr


EVIL = '"><script>alert(1)</script><img src=x onerror=alert(2)>{{ 7*7 }}'


def test_hostile_content(make_site: Write) -> None:
    """Markup in titles, terms, fields, parameters, front matter and file names stays text everywhere."""
    front, plain = json.dumps(EVIL), json.dumps(EVIL.partition("{")[0])
    body = "<script>alert(3)</script>\n\n<b onclick=x>bold</b> [go](javascript:alert(4)) ![i](data:text/html,x)\n\n<iframe src=//x></iframe><style>*{}</style><svg onload=x></svg><a href='vbscript:x'>y</a>\n\n<!-- elenchus begin x -->\n"
    files = {
        "elenchus.toml": f"[site]\ntitle = {front}\naddress = 'https://a.example/'\nclock = 2026-06-01\n[sources.n]\nread = 'markdown'\npath = 'n'\nkind = 'note'\n[kinds.note]\naddress = '{{slug}}/'\n[kinds.note.fields]\nsize = {{ type = 'choice', choices = [{front}, 'b'] }}\nlink = {{ type = 'url' }}\nphoto = {{ type = 'image' }}\n[taxonomies.topic]\naddress = 'topics/{{slug}}/'\n",
        "listings.toml": f"[all]\ntitle = {front}\nask = 'where topic in :topic? order by title'\nlayout = 'cards'\nshow = ['image', 'title', 'date', 'summary', 'size', 'topic', 'link']\n[all.parameters]\ntopic = {{ type = 'topic', many = true, label = {front} }}\n",
        "pages.toml": f"[home]\naddress = 'index.html'\ntitle = {plain}\nabout = {plain}\nsections = [{{ listing = 'all', beside = ['atom', 'rss', 'jsonfeed', 'csv', 'json'] }}, {{ ask = 'group by size', title = {front} }}]\n[notes]\neach = 'from note'\nsections = []\n[topics]\neach = 'from topic'\nsections = [{{ ask = 'where topic = :here' }}]\n",
        "n/a.md": f"---\ntitle: {front}\nsummary: {front}\ndate: 2026-05-01\nsize: {front}\nlink: 'javascript:alert(5)'\nphoto: 'javascript:alert(6)'\nimage: {front}\ntopic: [{front}]\n---\n{body}",
        "n/b<script>alert(7)<.md": "---\ndate: 2026-05-02\n---\nx\n",
    }
    found = files_of(make_site(files))
    assert len([path for path in found if path.endswith(".html")]) == 4
    for path, content in found.items():
        if not path.endswith(".html"):
            continue
        page = Page(content)
        scripts = page.all("script")
        assert all(set(each) in ({"type", "src"}, {"type", "id"}) for each in scripts), path
        assert not page.all("iframe") + page.all("svg") + page.all("style")
        assert not [key for _, each in page.elements for key in each if key.startswith("on")]
        for _, attributes in page.elements:
            for name in ("href", "src"):
                assert not re.match(
                    r"\s*(javascript|vbscript|data:text)", attributes.get(name) or "", re.IGNORECASE
                )
        assert "49" not in page.text
    for form in ("atom", "rss"):
        assert not feedparser.parse(found[f"all.{form}"]).bozo
    feed = ElementTree.fromstring(found["all.atom"])  # noqa: S314 - our own file
    for text in [each.text or "" for each in feed.findall(".//a:content", ATOM)]:
        assert "<script" not in text
        assert '="javascript:' not in text
    assert json.loads(found["all.json"])["rows"]


def test_pieces_of_html(make_site: Write, demo_site: elenchus.Site) -> None:
    """An answer as HTML is escaped, its dates and links as machines read them; groups have their headings."""
    from elenchus.forms import form

    def drawn(site: elenchus.Site, question: str) -> str:
        return form("html").text(elenchus.ask(site, question))

    entry = f"---\ntitle: {json.dumps(EVIL)}\naddress: 'javascript:alert(1)'\ndate: 2026-05-01\ntopic: [{json.dumps(EVIL)}]\n---\n"
    site = make_site({**GROUPED, "n/a.md": entry})
    for question in ("order by title", "where topic is set order by date", "group by topic"):
        page = Page(drawn(site, question).encode())
        assert {name for name, _ in page.elements} <= {
            "ul",
            "li",
            "a",
            "h3",
            "table",
            "thead",
            "tbody",
            "tr",
            "th",
            "td",
            "time",
        }
        assert not [each for each in page.all("a") if (each["href"] or "").startswith("javascript")]
    assert '<td><time datetime="2026-06-18T19:00:00+01:00">2026-06-18 19:00</time></td>' in drawn(
        demo_site, "outings-to-come"
    )
    assert drawn(demo_site, "from guide where species = limpet group by level limit 1 per group").startswith(
        "<h3>"
    )


@pytest.mark.parametrize(
    "slug", ["../../evil", "/etc/evil", "a/../../b", "..", "a\\b", "con", "x" * 300, "a\u0000b"]
)
def test_slugs_that_lead_outside(run: Run, demo: Path, slug: str) -> None:
    """A slug that leads out of the folder, or names no file, holds its entry back; all others are published."""
    path = demo / "notebook" / "guide" / "evil.md"
    path.write_text(f"---\ntitle: Evil\ndate: 2026-05-01\nslug: {json.dumps(slug)}\n---\n", encoding="utf-8")
    around = {each for each in demo.parent.rglob("*") if demo not in each.parents}
    done = run("publish", "--to", "out/site", cwd=demo)
    assert (done.returncode, "1 held back" in done.stdout) == (0, True)
    assert "unsafe-slug" in run("check", cwd=demo).stdout
    assert not [each for each in (demo / "out").rglob("*.html") if "Evil" in each.read_text()]
    assert {each for each in demo.parent.rglob("*") if demo not in each.parents} == around
    assert [each.name for each in (demo / "out").iterdir()] == ["site"]


def test_nothing_outside_is_published(run: Run, demo: Path, tmp_path: Path) -> None:
    """Links out of the site, and files not named, stay where they are; templates cannot reach files either."""
    secret = tmp_path / "secret.txt"
    secret.write_text("SECRET", encoding="utf-8")
    (demo / "images" / "leak.svg").symlink_to(secret)
    (demo / "images" / "folder").symlink_to(tmp_path)
    (demo / "notebook" / "guide" / "leak.md").symlink_to(secret)
    (demo / "templates").mkdir()
    (demo / "templates" / "entry.html").symlink_to(secret)
    assert "no regular file" in run("publish", cwd=demo).stderr
    (demo / "templates" / "entry.html").unlink()
    assert run("publish", cwd=demo).returncode == 0
    assert not [
        name for name, content in tree(demo / "published").items() if b"SECRET" in content or "leak" in name
    ]
    site = demo / "elenchus.toml"
    site.write_text(
        site.read_text(encoding="utf-8").replace(
            'files = ["images"]', 'files = ["../secret.txt", "nowhere"]'
        ),
        encoding="utf-8",
    )
    done = run("publish", cwd=demo)
    assert done.returncode == 4
    assert "is not inside the site" in done.stderr
    assert "there is no file or folder" in done.stderr.lower()


# Templates


@pytest.mark.parametrize(
    ("template", "text", "says"),
    [
        ("entry.html", "<h1>{{ sheet.heading }}</h1>{{ number('from guide') }}|{{ ask('from guide order by title limit 1').rows[0].title }}|{{ listing('shore-sidebar') }}", "12|A square metre, well read|<ul class=\"elen-titles\">"),
        ("entry.html", "<h1>{{ sheet.heading }}</h1>{% for row in listing('by-habitat', habitat='dunes') %}{{ row.date.time }} {{ row.habitat }}{% endfor %}", '2026-06-07 <a href="/habitats/shore/sandy-shore/">'),
        ("entry.html", "<h1>x</h1>{{ listing('by-habitat') }}", '<a href="/habitats/dunes/">Dunes (5)</a></li>'),
        ("entry.html", "{{ ask('from sighting including unpublished') }}", "templates/entry.html:1: “from sighting including unpublished” includes what is not published"),
        ("assets/elenchus.css", "body { margin: 0 }", "elenchus.css?v="),
        ("entry.html", "\n\n{{ nothing }}", "templates/entry.html:3: In the template: 'nothing' is undefined"),
        ("entry.html", "{% if %}", "templates/entry.html:1: In the template: Expected an expression"),
        ("entry.html", "\n{{ ask('from giude') }}", "templates/entry.html:2: There is no kind “giude”"),
        ("entry.html", "{{ sheet.__class__.__mro__ }}", "templates/entry.html:1: In the template: access to attribute '__class__'"),
        ("entry.html", "{{ sheet.row.desk.site.definition.folder.read_text() }}", "templates/entry.html:1: In the template: access to attribute 'desk'"),
        ("layouts/titles.html", "{% include 'nowhere.html' %}", "There is no template “nowhere.html”"),
    ],
)  # fmt: skip
def test_own_templates(run: Run, demo: Path, template: str, text: str, says: str) -> None:
    """Any template can be replaced and ask questions; its problems are reported with file and line."""
    path = demo / "templates" / template
    path.parent.mkdir(parents=True)
    path.write_text(text, encoding="utf-8")
    done = run("publish", cwd=demo)
    page = demo / "published" / "guides" / "a-square-metre" / "index.html"
    told = page.read_text(encoding="utf-8") if page.exists() else done.stderr
    assert says.lower() in told.lower()
    assert "Traceback" not in done.stderr


def test_own_layout_and_stylesheet(make_site: Write) -> None:
    """A listing has a layout of the site's own, the stylesheet is the site's, and its address changes with it."""
    own = {
        "pages.toml": '[p]\naddress = "index.html"\nsections = ["tide"]\n',
        "listings.toml": '[tide]\nask = "order by title limit 2"\nlayout = "tide.html"\n',
        "templates/tide.html": "{% for row in rows %}<h{{ level }}>{{ row.title }} of {{ part.total }}</h{{ level }}>{% endfor %}",
    }
    first = files_of(make_site({**GROUPED, **own, "templates/assets/elenchus.css": "a {}"}))
    assert "<h3>a of 2</h3><h3>b of 2</h3>" in first["index.html"].decode()
    assert first["assets/elenchus.css"] == b"a {}"
    second = files_of(make_site({"templates/assets/elenchus.css": "b {}"}))
    assert Page(second["index.html"]).all("link", rel="stylesheet") != Page(first["index.html"]).all(
        "link", rel="stylesheet"
    )


# What visitors choose


INDEPENDENT = [
    ("where topic in :topic? order by title", True),
    ("where topic in :topic? and title contains :word?", True),
    ("where :when? and topic in :topic? order by :order", True),
    ("where topic in :topic? per page 5", True),
    ("where title in :part?", True),
    ("where title contains :part?", False),
    ("where topic in :topic", False),
    ("where topic not in :topic?", False),
    ("where topic has all :topic?", False),
    ("where topic in :topic? or title = a", False),
    ("where not topic in :topic?", False),
    ("where topic in :topic? or :when?", False),
    ("where topic in :topic? and (topic = x or topic in :topic?)", False),
    ("where topic in (x, :topic?)", False),
    ("where topic in :topic? limit 5", False),
    ("where topic in :topic? offset 1", False),
    ("where topic in :topic? group by topic", False),
    ("where topic in :topic? order by title at most 1 per topic", False),
    ("where topic in :topic? lead with a", False),
    ("where related to :note?", False),
]
PARAMETERS = """
[all.parameters]
topic = { type = "topic", many = true }
word = { choices = ["a", "b"] }
part = { choices = ["a", "b"], many = true }
note = { type = "note" }
when = { conditions = { may = "date in 2026-05", ever = "" } }
order = { orders = { up = "title", down = "title desc" }, default = "up" }
"""


@pytest.mark.parametrize(("question", "wanted"), INDEPENDENT)
def test_independent_choices(make_site: Write, question: str, wanted: bool) -> None:
    """A form stands on a published page only where sets of rows say the same as the listing."""
    files = {
        **GROUPED,
        "listings.toml": f"[all]\nask = '{question}'\n{PARAMETERS}",
        "pages.toml": '[p]\naddress = "index.html"\nsections = ["all"]\n',
    }
    page = Page(files_of(make_site(files))["index.html"])
    assert bool(page.all("form")) is wanted
    assert bool(page.all("script", type="module")) is wanted


def keys_in(content: bytes) -> Any:
    """Return the keys of a page's form."""
    found = re.search(r'<script type="application/json"[^>]*>(.*?)</script>', content.decode())
    assert found
    return json.loads(found[1])


@settings(max_examples=often(60), deadline=None)
@given(st.data())
def test_keys_say_what_the_listing_says(
    demo_site: elenchus.Site, demo_files: dict[str, bytes], data: st.DataObject
) -> None:
    """Whatever is chosen, the rows that the keys leave are those of the listing, in its order."""
    content = demo_files["notebook/index.html"]
    keys = keys_in(content)
    rows = dict(re.findall(r'data-row="(\d+)">\s*<article>\s*<h3><a href="/([^"]+)"', content.decode()))
    names = list(keys["choices"])
    chosen = {
        name: data.draw(
            st.lists(
                st.sampled_from(list(keys["choices"][name])),
                max_size=3 if name == "habitat" else 1,
                unique=True,
            ),
            label=name,
        )
        for name in names
    }
    left = set(map(int, rows))
    for name in names:
        if chosen[name] and name not in keys["orders"]:
            left &= {row for text in chosen[name] for row in keys["choices"][name][text]}
    order = keys["choices"]["order"][(chosen["order"] or ["newest"])[0]]
    answer = elenchus.ask(demo_site, "find", given=chosen, changes="no per page")
    assert [rows[str(row)] for row in order if row in left] == [row["address"] for row in answer.rows]


# Small parts


@pytest.mark.parametrize(
    ("text", "words", "wanted"),
    [
        ("One two three", 5, "One two three"),
        ("One **two** [three](x) four", 3, "One two three…"),
        ("# Heading\n\nText `code` ends, and on", 3, "Text code ends…"),
        ("| a | b |\n|---|---|\n| c | d |\n\nAfter", 9, "After"),
        ("```\ncode\n```\n- item one\n- item two", 9, "item one item two"),
        ("a<script>alert(1)</script>b &amp; c<br>d", 9, "ab & c d"),
        ("![alt](x.png) text\nnext line", 9, "text next line"),
        ("", 9, ""),
    ],
)
def test_excerpts(text: str, words: int, wanted: str) -> None:
    """The first words of clean text: no headings, tables, code blocks or markup."""
    assert excerpt(text, words) == wanted


@pytest.mark.parametrize(
    ("text", "wanted"),
    [
        ("# One\n\n## Two", "<h2 id=\"one\">One</h2>\n<h3 id=\"two\">Two</h3>\n"),
        ("#### Four\n\n# One", "<h5 id=\"four\">Four</h5>\n<h2 id=\"one\">One</h2>\n"),
        ("###### Six", "<h6 id=\"six\">Six</h6>\n"),
        ("a ~~b~~\n\n|x|\n|-|\n|y|", "<p>a <s>b</s></p>\n<table>\n<thead>\n<tr>\n<th>x</th>\n</tr>\n</thead>\n<tbody>\n<tr>\n<td>y</td>\n</tr>\n</tbody>\n</table>\n"),
        ("```python\n1 < 2\n```", '<pre><code class="language-python">1 &lt; 2\n</code></pre>\n'),
        ('<p class="x" style="y" id="z" onclick="w">t</p>', '<p id="z">t</p>'),
    ],
)  # fmt: skip
def test_bodies(text: str, wanted: str) -> None:
    """Markdown below the heading of its page, cleaned unless it is trusted."""
    assert body_of(text).html() == wanted
    assert ("onclick" in body_of(text).html(trusted=True)) is ("onclick" in text)


@pytest.mark.parametrize(
    ("address", "harmless"),
    [
        ("https://a", True),
        ("/a:b", True),
        ("a/b?c=d:e", True),
        ("#x:y", True),
        ("mailto:a@b", True),
        ("javascript:x", False),
        ("JaVa\tScript:x", False),
        (" javascript:x", False),
        ("\x01javascript:x", False),
        ("data:text/html,x", False),
        ("//evil.example", False),
        ("/\\evil", False),
    ],
)
def test_harmless_addresses(address: str, harmless: bool) -> None:
    """Only addresses that run nothing become links."""
    assert is_harmless(address) is harmless


@settings(max_examples=often(200), deadline=None)
@given(st.integers(1, 60).flatmap(lambda pages: st.tuples(st.integers(1, pages), st.just(pages))))
def test_windows_of_pagers(drawn: tuple[int, int]) -> None:
    """First, last, the current page and those beside it are named; a gap stands for two pages at least."""
    number, pages = drawn
    found = list(window(number, pages))
    named = [page for page in found if page]
    assert named == sorted(set(named))
    assert {1, pages, number} | {page for page in (number - 1, number + 1) if 1 <= page <= pages} <= set(
        named
    )
    for before, gap, after in zip(found, found[1:], found[2:], strict=False):
        assert gap or after - before > 2
    assert all(after == before + 1 for before, after in pairwise(found) if before and after)


@settings(max_examples=often(300), deadline=None)
@given(st.lists(st.integers(0, 12), unique=True), st.lists(st.integers(0, 12), unique=True))
def test_fewest_moves(old: list[int], new: list[int]) -> None:
    """The rows that are not told as moved kept their order, and no more of them could have."""
    before, after = [str(each) for each in old], [str(each) for each in new]
    told = moved(before, after)
    kept = [row for row in after if row in before and row not in told]
    assert kept == [row for row in before if row in kept]
    best = 0
    lengths: dict[str, int] = {}
    for row in [row for row in after if row in before]:
        lengths[row] = 1 + max(
            (lengths[each] for each in lengths if before.index(each) < before.index(row)), default=0
        )
        best = max(best, lengths[row])
    assert len(kept) == best
    changes: list[Any] = list(listing_changes({"/ x": before}, {"/ x": after}))
    assert bool(changes) == (before != after)
    for change in changes:
        assert {row for row, _ in change.enters} == set(after) - set(before)
        assert {row for row, _ in change.leaves} == set(before) - set(after)


def test_links_beside_pages(make_site: Write) -> None:
    """Links in pieces of HTML and Markdown hold wherever those stand, also where the site has a path of its own."""
    site = make_site(
        {
            "elenchus.toml": '[site]\naddress = "https://skerry.example/bay/"\n[sources.n]\nread = "markdown"\npath = "n"\nkind = "note"\n'
            '[kinds.note]\naddress = "notes/{slug}/"\n',
            "n/a.md": "---\ntitle: Algae\ndate: 2026-05-01\n---\n",
            "pages.toml": '[all]\naddress = "all/"\nsections = [{ ask = "group by date.year", title = "Years", beside = ["html", "markdown"] }]\n',
        }
    )
    files = files_of(site)
    assert b'<a href="/bay/notes/a/">Algae</a>' in files["all/years.part.html"]
    assert b"- [Algae](/bay/notes/a/)" in files["all/years.md"]


def test_work_is_done_once(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Publishing the demo makes each column, and each mask of what may be seen, once for a content and a clock."""
    from elenchus.cli.commands import load
    from elenchus.engine.view import View

    made: Counter[Any] = Counter()
    seen: list[View] = []  # kept, so that no two have one identity
    make, see = View.made, vars(View)["visible"].func

    def note(view: View, *of: Any) -> None:
        seen.append(view)
        made[id(view.data), view.now, view.unpublished, view.besides, *of] += 1

    def columns(view: View, *of: Any) -> Any:
        note(view, *of)
        return make(view, *of)

    def visible(view: View) -> Any:
        note(view)
        return see(view)

    mask = cached_property(visible)
    mask.__set_name__(View, "visible")
    monkeypatch.setattr(View, "made", columns)
    monkeypatch.setattr(View, "visible", mask)
    command = ["publish", "--site", str(elenchus.demo_folder()), "--to", str(tmp_path / "out")]
    done = CliRunner().invoke(load(), command, standalone_mode=False, catch_exceptions=False)
    assert done.return_value == 0, done.output
    assert len(made) > 30
    assert [each for each, count in made.items() if count > 1] == []


class Elsewhere:
    """An executor that might stand on another machine: all that it is given and gives travels as bytes."""

    def __init__(self, site: elenchus.Site) -> None:
        self.engine = site.engine
        self.asked = 0

    def __getattr__(self, name: str) -> Any:
        def call(*arguments: Any, **named: Any) -> Any:
            self.asked += 1
            sent, words = pickle.loads(pickle.dumps((arguments, named)))  # noqa: S301 - written a moment ago
            return pickle.loads(pickle.dumps(getattr(self.engine, name)(*sent, **words)))  # noqa: S301

        return call


def test_an_executor_is_one_class(demo_files: dict[str, bytes], monkeypatch: pytest.MonkeyPatch) -> None:
    """Whatever keeps the protocol can answer for a site: plans, answers and ids are all that passes between them."""
    from elenchus.site.site import Site

    site = elenchus.open_site(elenchus.demo_folder())
    other = Elsewhere(elenchus.open_site(elenchus.demo_folder()))
    monkeypatch.setattr(Site, "executor", other)
    assert files_of(site) == demo_files
    assert other.asked > 100
    questions = ("from guide where habitat under shore order by title limit 2", "group by habitat")
    found = [(elenchus.ask(site, each), elenchus.why(site, each)) for each in questions]
    verdicts = [elenchus.why_entry(site, each, "otter-tracks") for each in questions]
    monkeypatch.undo()
    plain = elenchus.open_site(elenchus.demo_folder())
    assert found == [(elenchus.ask(plain, each), elenchus.why(plain, each)) for each in questions]
    assert verdicts == [elenchus.why_entry(plain, each, "otter-tracks") for each in questions]
