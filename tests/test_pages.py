"""Pages: sections that never repeat and are refilled, page sets, archives, addresses."""

from __future__ import annotations

import json
import os
from itertools import islice
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import elenchus
from conftest import Run, cases, often
from elenchus.checks.addresses import page_problems
from elenchus.errors import Place
from elenchus.pages.book import Book, Page
from elenchus.pages.labels import group_label
from elenchus.pages.overview import addresses, set_lines
from elenchus.pages.paths import address_of, file_of, later_page, likeness, unsafe
from elenchus.pages.sections import placed
from elenchus.rendering.renderer import Renderer
from elenchus.schema.subject import ENTRIES, terms_of
from elenchus.site.pages import PageRule, SectionRule

NOWHERE = Place("pages.toml", 1)


def page_of(sections: list[Any], *, no_repeats: bool) -> Page:
    """Return a page of questions, or of tables as in a page's file."""
    tables = [{"ask": each or "limit all"} if isinstance(each, str) else each for each in sections]
    rules = tuple(SectionRule(NOWHERE, **table) for table in tables)
    rule = PageRule("test", NOWHERE, path="test/", sections=rules, no_repeats=no_repeats)
    return Page(rule, "test/", "Test")


@pytest.mark.parametrize("case", cases("sections.toml"), ids=lambda case: str(case["sections"])[:60])
def test_sections(reference: elenchus.Site, case: dict[str, Any]) -> None:
    """Each section shows what the case says."""
    found = placed(Book(reference), page_of(case["sections"], no_repeats=not case.get("keep")))
    assert not found.problems
    assert [" ".join(section.ids) for section in found.sections] == case["shows"]


CONDITIONS = [
    "",
    "from sighting",
    "from guide, report",
    "where habitat under shore",
    "where species is missing",
    "from habitat",
]
ORDERS = ["", "order by title", "order by oldest", "order by kind, title desc", "order by random"]
CUTS = [
    "",
    "limit 3",
    "offset 2",
    "offset 1 limit 2",
    "per page 3",
    "lead with s5, g1 limit 4",
    "group by kind limit 1 per group",
]
SECTION = st.tuples(
    st.sampled_from(CONDITIONS), st.sampled_from(ORDERS), st.sampled_from(CUTS), st.none() | st.integers(1, 3)
)


@settings(max_examples=often(150), deadline=None)
@given(st.lists(SECTION, min_size=1, max_size=5), st.booleans())
def test_refill(
    reference: elenchus.Site, drawn: list[tuple[str, str, str, int | None]], no_repeats: bool
) -> None:
    """The plan of the sections agrees with an oracle that goes through the full lists row by row."""
    drawn = [
        each
        for each in drawn
        if not (each[0] == "from habitat" and (each[1] or "lead" in each[2] or "kind" in each[2]))
    ]
    if not drawn:
        return
    tables = [
        {"ask": " ".join((where, order, cut, "")).strip() or "limit all", "priority": priority}
        for where, order, cut, priority in drawn
    ]
    found = placed(Book(reference), page_of(tables, no_repeats=no_repeats))
    turns = sorted(range(len(drawn)), key=lambda at: (drawn[at][3] is None, drawn[at][3] or 0, at))
    shown: set[str] = set()
    for at in turns:
        where, order, cut, _ = drawn[at]
        lead = ["s5", "g1"] if "lead" in cut else []
        rows = elenchus.ask(reference, f"{where} {order}{' lead with s5, g1' if lead else ''}").rows
        left = [row for row in rows if not no_repeats or row.id not in shown or where == "from habitat"]
        words = cut.split()
        first = int(words[words.index("offset") + 1]) if "offset" in words else 0
        most = int(words[words.index("limit") + 1]) if "limit" in words and "group" not in words else None
        most = int(words[-1]) if "page" in words else most
        wanted = [row.id for row in islice(left, first, None if most is None else first + most)]
        if "group" in words:
            kinds = sorted({row["kind"] for row in left}, key=["sighting", "report", "guide", "outing"].index)
            wanted = [next(row.id for row in left if row["kind"] == kind) for kind in kinds]
        assert found.sections[at].ids == wanted, drawn
        if where != "from habitat":
            shown.update(wanted)


def test_repeats_are_told(reference: elenchus.Site) -> None:
    """A section names what it leaves out, and where that stands."""
    found = placed(
        Book(reference),
        page_of(["from sighting limit 3", "where habitat = rocky-shore limit 3"], no_repeats=True),
    )
    assert found.sections[1].left_out == [("s1", 0), ("s3", 0)]
    assert found.sections[1].answer is not None
    assert found.sections[1].answer.matched == 4


SETS = """
[kind-page]
each = "group by kind"
address = "{key}s/"
title = "All {label}s ({count})"

[letter-page]
each = "from guide group by title.initial"
address = "a-z/{key}/"

[month-page]
each = "group by date.month"
address = "{year}/{month}/"
sections = [{ ask = "where date in :here" }]

[year-page]
each = "group by date.year"
address = "{year}/"
sections = [{ ask = "where date in :here" }, { ask = "where date in :here group by date.month limit 0 per group" }]

[habitat-page]
each = "from habitat where with_below >= 1"
address = "habitats/{path}/"
sections = [{ ask = "where habitat under :here" }]

[entry-page]
each = "from guide"
address = "guides/{slug}/"
sections = [{ ask = "where related to :here limit 2" }, { ask = "from sighting where species in :here.species? limit 1" }]

[months]
address = "archive/"
sections = [{ ask = "group by date.month limit 0 per group" }]
"""


@pytest.fixture
def book(site_folder: Path) -> Book:
    """Return the pages of the reference site with several sets."""
    (site_folder / "pages.toml").write_text(SETS, encoding="utf-8")
    return Book(elenchus.open_site(site_folder))


@pytest.mark.parametrize(
    ("name", "paths"),
    [
        ("kind-page", "sighting report guide outing → sightings/ reports/ guides/ outings/"),
        ("letter-page", "an initial in small letters → a-z/e/ a-z/t/ a-z/z/"),
        ("month-page", "newest first → 2026/05/ 2026/04/ 2026/03/ 2026/02/ 2026/01/ 2025/11/ 2025/09/ 2025/05/"),
        ("year-page", "newest first → 2026/ 2025/"),
        ("entry-page", "newest first → guides/zonation-for-beginners/ guides/etang-edge-plants/ guides/eelgrass-how-to-map-it/ guides/telling-seals-apart/"),
    ],
)  # fmt: skip
def test_sets(book: Book, name: str, paths: str) -> None:
    """A page set has a page for each row or group, in their order."""
    assert [page.path for page in book.of(name).pages] == paths.partition("→ ")[2].split()


def test_archive_counts(book: Book) -> None:
    """The counts of an archive are those of the pages to which it links, labels are in the site's language."""
    archive = placed(book, book.of("months").pages[0]).sections[0].answer
    assert archive is not None
    totals = {line.address: line.entries for line in set_lines(book, "month-page")}
    counted = {book.address_of_group(archive, group): group.count for group in archive.groups or ()}
    assert counted == totals
    assert sum(counted.values()) == 18
    assert book.label(archive, (archive.groups or ())[0]) == "May 2026"


def test_neighbours(book: Book) -> None:
    """Before a month stands the earlier one, whatever the order of the set; at the ends there is none."""
    months = book.of("month-page").pages
    around = book.neighbours(months[1])
    assert [page.path for page in around if page] == ["2026/03/", "2026/05/"]
    assert book.neighbours(months[0])[1] is None
    assert book.neighbours(months[-1])[0] is None
    guides = book.of("entry-page").pages
    assert book.neighbours(guides[1]) == (guides[0], guides[2])


def test_values_reach_inner_listings(site_folder: Path) -> None:
    """What a page's row has in a field is known to the listings that a section's question names, too."""
    (site_folder / "listings.toml").write_text(
        '[inner]\nask = "where species in :here.species"\n[outer]\nask = "from inner where entry != :here"\n'
        '[filled]\nask = "where id = x"\nfill_from = "inner"\nat_least = 2\n',
        encoding="utf-8",
    )
    (site_folder / "pages.toml").write_text(
        '[page]\neach = "from sighting"\naddress = "{slug}/"\nsections = ["outer", "filled"]\n',
        encoding="utf-8",
    )
    book = Book(elenchus.open_site(site_folder))
    found = {page.here.name: placed(book, page) for page in book.pages if page.here}
    assert [problem for each in found.values() for problem in each.problems] == []
    assert found["s4"].sections[0].ids == ["p1"]
    assert found["s4"].sections[1].ids == ["p1", "s4"]


def test_bound_values_that_are_missing(site_folder: Path) -> None:
    """A value bound to a field that the page's row has not gives no rows and says so; it is no problem."""
    (site_folder / "listings.toml").write_text(
        '[like]\nask = "where species in :of limit 3"\n', encoding="utf-8"
    )
    (site_folder / "pages.toml").write_text(
        '[page]\neach = "from outing"\naddress = "{slug}/"\n'
        'sections = [{ listing = "like", with = { of = ":here.species" } }]\n',
        encoding="utf-8",
    )
    book = Book(elenchus.open_site(site_folder))
    found = {page.here.name: placed(book, page) for page in book.pages if page.here}
    assert [each.problems for each in found.values()] == [(), (), ()]
    assert {name: each.sections[0].ids for name, each in found.items()} == {
        "o1": [],
        "o2": ["s1", "o2", "s7"],
        "o4": [],
    }
    answer = found["o1"].sections[0].answer
    assert answer is not None
    assert "the row of the page has no value for :of" in answer.notices[0].message
    assert [line.resolved for line in set_lines(book, "page")] == [False, True, False]


def test_links(book: Book) -> None:
    """An entry or a term leads to its page, whatever address its kind would give it."""
    desk = Renderer(book.site, book).desk
    assert desk.address(ENTRIES, "g1") == "/guides/telling-seals-apart/"
    assert desk.address(terms_of("habitat"), "shore") == "/habitats/shore/"
    assert desk.address(ENTRIES, "s1") == ""


def test_row_values(book: Book) -> None:
    """A table of a set tells what each page takes from its row."""
    lines = {line.row: line for line in set_lines(book, "entry-page")}
    assert dict(lines["g1"].values)[":here.species"] == "grey-seal, harbour-seal"
    assert {line.resolved for line in lines.values()} == {True}
    assert [line.first for line in set_lines(book, "habitat-page")][:2] == ["g4", "g4"]


@pytest.mark.parametrize(
    ("field", "key", "language", "label"),
    [
        ("date.month", "2026-05", "en", "May 2026"),
        ("date.month", "2026-03", "de", "März 2026"),
        ("starts.month", "2026-01", "pt-BR", "Janeiro de 2026"),
        ("date.year", "2026", "fr", "2026"),
        ("date.day", "2026-05-18", "en", "May 18, 2026"),
        ("date.month_of_year", 3, "fr", "Mars"),
        ("date.weekday", 1, "en", "Monday"),
        ("habitat", "shore", "en", "as it is"),
        ("date.month", None, "en", "as it is"),
        ("date.month", "2026-05", "xx-nowhere", "May 2026"),
    ],
)
def test_labels(field: str, key: object, language: str, label: str) -> None:
    """Months and days are called as the site's language has them; all else keeps its name."""
    found = "2026" if field == "date.year" else "as it is"
    assert group_label(field, key, found, language) == label


def test_pages_command(run: Run) -> None:
    """The program lists addresses, the sections of a page, the pages of a set; unknown names have suggestions."""
    site = ("--site", str(elenchus.demo_folder()))
    every = run("pages", *site)
    assert every.returncode == 0, every.stderr
    book = Book(elenchus.open_site(elenchus.demo_folder()))
    lines, pages_of = addresses(book)
    problems = page_problems(book, pages_of)
    assert len([line for line in every.stdout.splitlines() if line.startswith("/")]) == len(lines) > 100
    assert problems == []
    home = run("pages", "home", *site).stdout
    assert "What they would share if none left anything out" in home
    assert "left out sighting/grey-seals-hauled-out, which stands in lead" in home
    assert "May 2026 7 → /archive/2026/05/" in home
    assert "as-if-1" in run("pages", "/", "--as-if", "1", *site).stdout
    months = run("pages", "month-page", *site).stdout
    assert months.startswith("address            row      resolved  entries")
    assert months.count("/archive/20") == 15
    wrong = run("pages", "hoem", *site)
    assert (wrong.returncode, "Did you mean home?" in wrong.stderr) == (7, True)


def test_listing_in_every_format(run: Run) -> None:
    """A listing by name gives what its question gives; its choices stand in JSON."""
    site = ("--site", str(elenchus.demo_folder()))
    choices = json.loads(run("ask", "by-habitat", "-f", "json", *site).stdout)["choices"]
    assert choices["parameter"] == "habitat"
    assert {each["value"]: each["count"] for each in choices["choices"]}["shore"] == 21
    assert run("ask", "by-habitat", "--with", "habitat=shore", "-f", "number", *site).stdout == "21\n"


@pytest.mark.parametrize(
    ("path", "file", "address", "second"),
    [
        ("index.html", "index.html", "", "page/2/"),
        ("", "index.html", "", "page/2/"),
        ("guides/", "guides/index.html", "guides/", "guides/page/2/"),
        ("guides/index.html", "guides/index.html", "guides/", "guides/page/2/"),
        ("about.html", "about.html", "about.html", "about/page/2/"),
        ("étang edge/", "étang edge/index.html", "%C3%A9tang%20edge/", "étang edge/page/2/"),
        ("a?b#c/", "a?b#c/index.html", "a%3Fb%23c/", "a?b#c/page/2/"),
    ],
)
def test_paths(path: str, file: str, address: str, second: str) -> None:
    """A path that ends with a slash is a folder with an index; addresses are encoded; later pages stand beneath."""
    assert (file_of(path), address_of(path), later_page(path, 2)) == (file, address, second)
    assert later_page(path, 1) == path


@pytest.mark.parametrize(
    ("path", "reason"),
    [
        ("../out/", "leads elsewhere"),
        ("a/../../b/", "leads elsewhere"),
        ("a//b/", "leads elsewhere"),
        ("./a/", "leads elsewhere"),
        ("/etc/passwd", "absolute"),
        ("C:/a/", "absolute"),
        ("a\\b/", "backslash"),
        ("a\x00b/", "cannot be seen"),
        ("a\nb/", "cannot be seen"),
        ("a\u202eb/", "cannot be seen"),
        ("a /b/", "begins or ends with a blank"),
        ("a./b/", "blank or a dot"),
        ("con/", "reserve"),
        ("NUL.txt", "reserve"),
        ("x" * 241 + "/", "too long"),
        ("guides/étang-edge/", ""),
        ("2026/05/", ""),
        ("index.html", ""),
    ],
)
def test_unsafe_paths(path: str, reason: str) -> None:
    """A path that leads out of the site, or that no file may have, is reported with its reason."""
    assert reason in unsafe(path)
    assert bool(unsafe(path)) == bool(reason)


@settings(max_examples=often(300), deadline=None)
@given(
    st.lists(
        st.sampled_from(["..", ".", "a", "", "b c", "/", "\\", "é", "con", "C:", "~"]), min_size=1, max_size=5
    )
)
def test_safe_paths_stay_inside(steps: list[str]) -> None:
    """Whatever a path is made of: one that is called safe leads to a file below the site's folder."""
    path = "/".join(steps)
    if not unsafe(path):
        root = Path("/site")
        target = Path(os.path.normpath(root / file_of(path)))
        assert target.is_relative_to(root)
        assert target != root


@pytest.mark.parametrize(
    ("one", "other", "alike"),
    [
        ("2026/05/", "2026/5/", True),
        ("Guides/", "guides/", True),
        ("a/007/", "a/7/", True),
        ("a/10/", "a/1/", False),
        ("a/100/", "a/1000/", False),
        ("STRASSE/", "straße/", True),
        ("a/0/", "a/", False),
    ],
)
def test_likeness(one: str, other: str, alike: bool) -> None:
    """Addresses are alike that differ only by case or by zeros before a number."""
    assert (likeness(one) == likeness(other)) is alike


HOSTILE = """
[kinds]
each = "from guide"
address = "g/{slug}/"
[plain]
address = "g/telling-seals-apart/index.html"
[pager]
address = "all/"
sections = [{ ask = "per page 5" }]
[hidden]
address = "all/page/2/"
[row]
each = "from sighting"
address = "{title}/{slug}"
"""


def test_hostile_slugs(site_folder: Path) -> None:
    """A slug that climbs out makes no entry; titles in a path are made into slugs; later pages hide no page unseen."""
    file = next((site_folder / "notebook" / "guide").glob("telling*.md"))
    for name, slug in (("up", "../../up"), ("root", "/root"), ("null", "a\\u0000b")):
        text = file.read_text(encoding="utf-8").replace("---\n", f'---\nslug: "{slug}"\n', 1)
        (file.parent / f"{name}.md").write_text(text.replace("id: g1", f"id: {name}"), encoding="utf-8")
    (site_folder / "pages.toml").write_text(HOSTILE, encoding="utf-8")
    book = Book(elenchus.open_site(site_folder))
    lines, pages_of = addresses(book)
    problems = page_problems(book, pages_of)
    codes = [problem.code for problem in problems]
    held = [problem.code for problem in book.site.dataset.problems]
    assert held.count("unsafe-slug") == 3
    assert sum(line.state == "unsafe" for line in lines) == 0
    assert [
        problem.code
        for problem in problems
        if "all/page/2/" in problem.message or "hidden" in problem.message
    ] == ["shadowed-page"]
    assert "duplicate-address" in codes
    assert any(line.address.startswith("grey-seals-hauled-out/") for line in lines)
