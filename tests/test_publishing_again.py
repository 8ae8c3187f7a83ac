"""Publishing what changed: after any edits, the published files are those of a first run, byte for byte."""

# ruff: noqa: S311 - nothing here is secret
from __future__ import annotations

import random
import shutil
from pathlib import Path

import pytest

import elenchus
from conftest import Run, often
from elenchus.comparing.showing import Showing
from elenchus.errors import ElenchusError
from elenchus.pages.book import Book
from elenchus.pages.sections import Placed, placed
from elenchus.pages.survey import Survey
from elenchus.publishing import drawing, outputs, page_changes
from elenchus.publishing import unchanged as unchanged_module
from elenchus.publishing.carried import carried
from elenchus.publishing.drawing import published_to
from elenchus.publishing.last_run import read_last_run
from elenchus.publishing.page_changes import between, changed_since
from elenchus.publishing.publication import Publication, Wishes, writing
from elenchus.publishing.reached import reached
from elenchus.publishing.unchanged import texts_digest, unchanged
from elenchus.rendering.renderer import Renderer
from elenchus.rendering.views import Visit
from elenchus.tables.export import export
from elenchus.tables.opening import recorded
from test_publishing import tree
from test_tables import differences

SITE = """
[site]
title = "Skerry Bay"
address = "https://skerrybay.example/"
timezone = "Atlantic/Faroe"
[sources.n]
read = "markdown"
path = "n"
[kinds.note]
address = "notes/{slug}/"
[kinds.note.fields]
depth = { type = "integer", unit = "m" }
level = { type = "choice", choices = ["low", "high"] }
writer = { type = "entry", kind = "person" }
near = { type = "entry", kind = "note", many = true }
[kinds.person]
[taxonomies.topic]
tree = true
address = "topics/{path}/"
[taxonomies.place]
terms = "places.csv"
[publish]
files = ["images"]
"""
LISTINGS = """
[newest]
ask = "from note order by newest limit 4"
show = ["title", "writer", "topic", "near", "depth"]
[recent]
ask = "where date in last 30 days order by title"
layout = "table"
show = ["title", "writer.place", "level"]
[chosen]
ask = "from note where topic in :topic? and :period? order by title"
[chosen.parameters]
topic = { type = "topic" }
period = { conditions = { ever = "", lately = "date in last 20 days" } }
[kin]
ask = "from note where related to :here by topic order by relatedness, newest limit 3"
[groups]
ask = "from note group by date.month limit 2 per group per page 4"
[index]
ask = "from topic order by name"
layout = "table"
show = ["name", "own", "with_below"]
"""
PAGES = """
[home]
address = "index.html"
no_repeats = true
sections = [
  { listing = "newest", beside = ["atom", "csv", "json"] },
  { listing = "recent", ask = "limit 3" },
  { listing = "chosen" },
  { listing = "groups", pages_at = "archive/" },
  { listing = "index", title = "Topics" },
]
[notes]
each = "from note"
sections = [
  { ask = "where topic in :here.topic and id != :here order by newest limit 3", title = "Near it" },
  { ask = "where writer = :here.writer order by title limit 2", title = "By the same" },
  { listing = "kin" },
]
[people]
each = "from person"
address = "people/{slug}/"
sections = [{ ask = "where writer = :here per page 2", title = "Notes", beside = ["rss"] }]
[topics]
each = "from topic"
sections = [{ ask = "where topic under :here order by title per page 3", title = "Notes" }]
[months]
each = "from note group by date.month"
address = "months/{key}/"
title = "{label}"
sections = [{ ask = "where date.month = :here order by newest" }]
[all]
address = "notes/"
title = "All notes"
menu = false
sections = [{ ask = "from note order by title limit 1" }]
[recent]
address = "recent.html"
menu = false
sections = [{ listing = "recent" }]
[choose]
address = "choose.html"
menu = false
sections = [{ listing = "chosen" }]
[archive]
address = "archive.html"
menu = false
sections = [{ listing = "groups" }]
[terms]
address = "terms.html"
menu = false
sections = [{ listing = "index" }]
[list]
address = "list.html"
menu = false
sections = [{ ask = "from note order by title per page 2", title = "List" }]
[inner]
address = "inner.html"
private = true
sections = [{ ask = "including unpublished" }]
"""
WORDS = ["Seal", "kelp & wrack", "Étang", "12 eels", "2 eels", "<b>Tide</b>", "ключ", "Gull", "“Low” ledge"]
TEMPLATES = {
    "sheet.html": [
        '{% extends "base.html" %}{% block footer %}{{ ask("order by title limit 2") }}{% endblock %}',
        '{% extends "base.html" %}{% block footer %}{{ number("from note where level = high") }}{% endblock %}',
        '{% extends "base.html" %}{% block footer %}{{ listing("newest") }}{{ word("home") }}{% endblock %}',
    ],
    "layouts/row.html": [
        "<h3>{{ row.link }} {{ row.writer }} {{ loop.index }}</h3>\n",
        "<p>{{ row.title }}</p>\n",
    ],
    "layouts/titles.html": ["{% for row in rows %}{{ row.title }}, {% endfor %}"],
}


def note(draw: random.Random) -> str:
    """Return a random note: with links to others, to pictures, and dates on both sides of any clock."""
    keys = {
        "title": draw.choice(WORDS),
        "date": f"2026-0{draw.randrange(4, 8)}-{draw.randrange(10, 29)}{draw.choice(['', ' 08:30'])}",
        "updated": f"2026-06-{draw.randrange(10, 29)}",
        "expires": f"2026-07-{draw.randrange(10, 29)}",
        "draft": draw.choice(["true", "false", "false"]),
        "depth": str(draw.randrange(9)),
        "level": draw.choice(["low", "high"]),
        "writer": draw.choice(["p0", "p1"]),
        "near": f"[n{draw.randrange(6)}, n{draw.randrange(6)}]",
        "topic": draw.choice(["sea", "[sea, sea/kelp]", "[land, sea/kelp]", "land/dune", "air"]),
        "image": draw.choice(["images/a.svg", "images/b.svg"]),
        "image_alt": "A picture",
        "summary": draw.choice(WORDS),
        "other": draw.choice(WORDS[:3]),
    }
    chosen = draw.sample(sorted(keys), draw.randrange(4, len(keys)))
    lines = "\n".join(
        f"{key}: {keys[key]}" if keys[key][:1] in '["20' else f"{key}: '{keys[key]}'" for key in chosen
    )
    body = f"Some [text](n{draw.randrange(6)}.md), ![a](../../images/{draw.choice('ab')}.svg) and [b](/x/).\n"
    return f"---\n{lines}\n---\n{body * draw.randrange(3)}"


def made(folder: Path, draw: random.Random) -> None:
    """Write the site as it is at first."""
    files = {"elenchus.toml": SITE, "listings.toml": LISTINGS, "pages.toml": PAGES}
    files |= {"places.csv": "slug,name\nbay,The bay\n", "images/a.svg": "<svg/>"}
    files |= {f"n/note/n{number}.md": note(draw) for number in range(8)}
    files |= {f"n/person/p{number}.md": f"---\ntitle: Ase {number}\n---\n" for number in range(2)}
    for name, text in files.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(text, encoding="utf-8")


def replaced(path: Path, *changes: tuple[str, str]) -> None:
    """Write a file anew with some texts replaced."""
    text = path.read_text(encoding="utf-8")
    for old, new in changes:
        text = text.replace(old, new)
    path.write_text(text, encoding="utf-8")


def edited(folder: Path, draw: random.Random) -> str:  # noqa: PLR0912 - one branch a sort of edit
    """Change something of a site; return what."""
    action = draw.choice(
        [*["note"] * 5, *["listings", "pages", "person"] * 2, "away", "person", "places", "listings", "pages", "template", "no template", "site",
         "picture", "no picture", "style"]
    )  # fmt: skip
    path = folder / "n" / "note" / f"n{draw.randrange(9)}.md"
    match action:
        case "note":
            path.write_text(note(draw), encoding="utf-8")
        case "away":
            path.unlink(missing_ok=True)
        case "person":
            text = f"---\ntitle: {draw.choice([*WORDS, *['Ase'] * 9])!r}\n{draw.choice(['place: bay', 'place: bay', ''])}\n{draw.choice(['', 'draft: true'])}\n---\n"
            (folder / "n" / "person" / f"p{draw.randrange(2)}.md").write_text(text, encoding="utf-8")
        case "places":
            (folder / "places.csv").write_text(f"slug,name\nbay,{draw.choice(WORDS[:4])}\n", encoding="utf-8")
        case "listings":
            old, new = draw.choice(
                [("newest limit 4", "title limit 5"), ('layout = "table"', 'layout = "titles"'), ("30 days", "9 days"),
                 ('"depth"]', '"level"]'), ("relatedness, newest", "random daily"),
                 ('ever = ""', 'always = ""')]
            )  # fmt: skip
            replaced(folder / "listings.toml", draw.choice([(old, new), (new, old)]))
        case "pages":
            old, new = draw.choice(
                [("no_repeats = true\n", ""), ("per page 3", "per page 2"), ('title = "{label}"', 'title = "In {label}"'),
                 ("Near it", "Nearby"), ('["rss"]', '["atom", "json"]'), ("people/{slug}/", "who/{slug}.html"),
                 ("private = true", "menu = false"), ("All notes", "Every note"), ("months/{key}/", "in/{key}/"),
                 ("[topics]\n", '[topics]\ntitle = "On {name}"\n')]
            )  # fmt: skip
            is_new = bool(new) and new in (folder / "pages.toml").read_text()
            replaced(folder / "pages.toml", (new, old) if is_new else (old, new))
        case "template":
            name = draw.choice(sorted(TEMPLATES))
            own = folder / "templates" / name
            own.parent.mkdir(parents=True, exist_ok=True)
            own.write_text(draw.choice(TEMPLATES[name]).replace("base.html", "outer.html"), encoding="utf-8")
            outer = Path(elenchus.__file__).parent / "rendering" / "templates" / "sheet.html"
            shutil.copyfile(outer, folder / "templates" / "outer.html")
        case "no template":
            shutil.rmtree(folder / "templates", ignore_errors=True)
        case "site":
            old, new = draw.choice(
                [('title = "Skerry Bay"', 'title = "The Bay"'), ("skerrybay.example/", "skerrybay.example/in/"),
                 ("[publish]", '[words]\nhome = "Start"\n[publish]'), ('unit = "m"', 'unit = "km"'), ("notes/{slug}/", "note/{slug}/"), ("tree = true\n", "")]
            )  # fmt: skip
            if "[words]" not in new or "[words]" not in (folder / "elenchus.toml").read_text():
                replaced(folder / "elenchus.toml", draw.choice([(old, new), (new, old)]))
        case "picture":
            (folder / "images" / f"{draw.choice('ab')}.svg").write_text(f"<svg>{draw.random()}</svg>")
        case "no picture":
            (folder / "images" / f"{draw.choice('ab')}.svg").unlink(missing_ok=True)
        case "style":
            (folder / "templates" / "assets").mkdir(parents=True, exist_ok=True)
            (folder / "templates" / "assets" / "elenchus.css").write_text(f"/* {draw.random()} */")
    return action


def publish(folder: Path, to: Path, at: str) -> Publication | str:
    """Publish a site, as the program does; where it cannot be, return why."""
    try:
        wishes = Wishes(texts=texts_digest(folder))
        site = elenchus.open_site(folder, at=at)
        with writing(to):
            found = unchanged(site, to, wishes)
            if found is None:
                survey = Survey(site)
                standing = carried(survey, to, wishes)
                survey = standing.survey if standing else survey
                found = published_to(
                    Renderer(site, survey.book), survey.placed, to, wishes, standing=standing
                )
            found.apply()
    except ElenchusError as error:
        return "\n".join(map(str, error.problems))
    return found


@pytest.mark.parametrize("seed", range(often(8)))
def test_edits(seed: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Whatever is edited, and whenever, only what changed is drawn, and all is as if it had been drawn anew."""
    monkeypatch.setattr(unchanged_module, "YOUNG", 0)  # or the pictures would always be too young
    draw = random.Random(seed)
    folder, to, day, drawn, whole = tmp_path / "site", tmp_path / "to", 14, 0, 0
    made(folder, draw)
    for turn in range(14):
        told = [edited(folder, draw) for _ in range(draw.randrange(4) if turn else 0)]
        day += draw.randrange(3)
        at = f"2026-06-{day}T{draw.randrange(10, 24)}:00"
        if to.exists() and draw.random() < 0.2:
            told.append("by hand")
            stand = [path for path in to.rglob("*") if path.is_file() and path.name != "manifest.json"]
            path = draw.choice(sorted(stand))
            if path.name == "pages":
                content = bytearray(path.read_bytes())
                content[draw.randrange(len(content))] ^= 64
                path.write_bytes(content)
            else:
                path.unlink()
        fresh = tmp_path / f"fresh{turn}"
        wanted, found = publish(folder, fresh, at), publish(folder, to, at)
        where = f"seed {seed}, turn {turn}, at {at}: {told}"
        if isinstance(found, str) or isinstance(wanted, str):
            assert found == wanted, where
            continue
        assert tree(to) == tree(fresh), where
        assert (found.dead, found.listings) == (wanted.dead, wanted.listings), where
        assert found.files == wanted.files, where
        drawn, whole = drawn + found.drawn, whole + wanted.drawn
        shutil.rmtree(fresh)
    again = publish(folder, to, at)
    if not isinstance(again, str):
        assert again.is_idle
        assert again.drawn < len(again.files)
        assert drawn < whole
    assert read_last_run(to, "another version").files == {}


ONE_NOTE = (
    "---\ntitle: One\ndate: 2026-06-10\nwriter: p0\ntopic: sea\nlevel: low\n---\n[a](../../images/b.svg)\n"
)


@pytest.mark.parametrize(
    ("file", "old", "new", "changed"),
    [
        ("listings.toml", 'ever = ""', 'always = ""', "choose.html"),
        ("n/person/p0.md", "Ase 0\n", "Ase 0\nplace: bay\n", "recent.html"),
        ("places.csv", "The bay", "The other bay", "people/p1/index.html"),
        ("n/note/n0.md", "topic: sea", "topic: [sea, land]", "terms.html"),
        ("images/b.svg", "", "<svg/>", "notes/n0/index.html"),
        ("pages.toml", "All notes", "Every note", "notes/n0/index.html"),
        ("pages.toml", "months/{key}/", "in/{key}/", "archive.html"),
        ("pages.toml", "people/{slug}/", "who/{slug}/", "index.html"),
        ("templates/rows.html", "", "{% for row in part %}{{ row.title }}{% endfor %}", "list.html"),
    ],
)
def test_one_edit(file: str, old: str, new: str, changed: str, tmp_path: Path) -> None:
    """An edit that reaches a page on one way alone has that page drawn anew, and not all others."""
    folder, to = tmp_path / "site", tmp_path / "to"
    made(folder, random.Random(4))
    (folder / "n" / "note" / "n0.md").write_text(ONE_NOTE, encoding="utf-8")
    (folder / "n" / "person" / "p1.md").write_text("---\ntitle: Ase 1\nplace: bay\n---\n", encoding="utf-8")
    before = publish(folder, to, "2026-06-14")
    assert isinstance(before, Publication), before
    shutil.copytree(folder, tmp_path / "old")
    if old:
        replaced(folder / file, (old, new))
    else:
        (folder / file).parent.mkdir(exist_ok=True)
        (folder / file).write_text(new, encoding="utf-8")
    was, now = (Showing(elenchus.open_site(each, at="2026-06-14")) for each in (tmp_path / "old", folder))
    told = [set(between(was, now).changed or ()), set(changed_since(to, now) or ())]
    after = publish(folder, to, "2026-06-14")
    assert isinstance(after, Publication), after
    assert changed in after.changed
    assert after.drawn < len(after.files) or file.startswith("templates/")
    pages = {f"/{each.removesuffix('index.html')}" for each in after.changed if each.endswith(".html")}
    # That a picture is there is found out by drawing, which two folders are not compared by.
    assert told == [set() if file.startswith("images/") else pages, pages]
    publish(folder, tmp_path / "fresh", "2026-06-14")
    assert tree(to) == tree(tmp_path / "fresh")


@pytest.mark.parametrize("damage", ["", "torn", "changed", "away", "linked"])
def test_what_stands(damage: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """After an edit pages stand that it does not reach; where the content of then is not sure, none does."""
    monkeypatch.setattr(unchanged_module, "YOUNG", 0)  # or the pictures would always be too young
    folder, to, edited_file = tmp_path / "site", tmp_path / "to", tmp_path / "site" / "n" / "note" / "n0.md"
    made(folder, random.Random(4))
    edited_file.write_text(ONE_NOTE, encoding="utf-8")
    assert isinstance(publish(folder, to, "2026-06-14"), Publication)
    [kept] = (folder / ".elenchus").glob("published-*")
    assert not [path for path in to.rglob("*") if path.name.startswith(("records", "tables", "units"))]
    for path in sorted(kept.iterdir()):
        content = path.read_bytes()
        if damage in ("torn", "changed"):
            middle = len(content) // 2
            path.write_bytes(
                content[:middle] + (b"" if damage == "torn" else b"\xff" * (len(content) - middle))
            )
        elif damage:
            path.unlink()
            if damage == "linked":
                path.symlink_to("/dev/zero" if path.name == "units" else "/etc/hostname")
    edited_file.write_text(f"{ONE_NOTE}More.\n", encoding="utf-8")
    survey = Survey(elenchus.open_site(folder, at="2026-06-14"))
    standing = carried(survey, to, Wishes(texts=texts_digest(folder)))
    assert bool(standing) != bool(damage)
    if standing:
        looked_at = {page.page.path for page in standing.survey.placed}
        every = {page.path for page in survey.book.pages}
        assert looked_at.isdisjoint(standing.pages)
        assert looked_at | standing.pages.keys() == every
        assert "notes/n0/" in looked_at
        assert len(standing.pages) > 2
    publish(folder, to, "2026-06-14")
    publish(folder, tmp_path / "fresh", "2026-06-14")
    assert tree(to) == tree(tmp_path / "fresh")


# Pages whose sections leave out what stands above them, with groups and with rows that fill them up.
TOPICAL = """
[topical]
each = "from topic"
address = "topical/{path}/"
no_repeats = true
sections = [
  { ask = "from note where topic under :here order by newest limit 2" },
  { ask = "from note where topic under :here group by date.month limit 1 per group", title = "By month" },
  { ask = "from note where topic under :here and depth < 7 group by level by count desc, topic under sea", title = "By level" },
  { ask = "from note where topic under :here group by writer by count, title.initial limit 2 groups per page 3", title = "By writer" },
  { listing = "filled", given = { topic = ":here" } },
  { ask = "from note where topic under :here group by topic limit 0 per group", title = "Counts" },
  { ask = "from note where topic under :here order by title natural", title = "What is left" },
]
"""


def enlarge(tmp_path: Path) -> None:
    """Add listings and pages that ask in more ways."""
    listings = tmp_path / "listings.toml"
    listings.write_text(
        f"{listings.read_text()}"
        '[of]\nask = "from note where topic under :topic and depth > 1 order by title limit 3"\n'
        '[of.parameters]\ntopic = { type = "topic", many = true }\n'
        '[both]\nask = "where level = :here.level and depth >= :here.depth and not (topic = :here.topic) limit 4"\n'
        '[same]\nask = "where depth = :here.depth? and depth > 3 and writer = :here.writer?"\n'
        '[filled]\nask = "from note where topic under :topic order by title limit 2"\nfill_from = "newest"\nat_least = 4\n'
        '[filled.parameters]\ntopic = { type = "topic" }\n'
    )
    replaced(
        tmp_path / "pages.toml",
        ('{ listing = "kin" },', '{ listing = "kin" }, { listing = "of", given = { topic = ":here.topic" } },'
         '{ listing = "both" }, { listing = "same" }, { ask = "where near = :here group by topic" },'),
    )  # fmt: skip
    with (tmp_path / "pages.toml").open("a") as file:
        file.write(TOPICAL)


@pytest.mark.parametrize("seed", range(4))
def test_reached(seed: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """What a change of content reaches is all that differs, whatever is asked; what is not reached is not asked."""
    draw, old, new, skipped = random.Random(seed), tmp_path / "old", tmp_path / "new", 0
    old.mkdir()
    made(old, draw)
    enlarge(old)
    for turn in range(8):
        shutil.copytree(old, new)
        told = edited(new, draw) if turn % 4 == 3 else "note"
        for _ in range(draw.randrange(1, 3)):
            (new / "n" / "note" / f"n{draw.randrange(9)}.md").write_text(note(draw), encoding="utf-8")
        found: list[object] = []
        for way in (reached, lambda *_: None):
            monkeypatch.setattr(page_changes, "reached", way)
            try:
                was, now = (
                    Showing(elenchus.open_site(each, at=f"2026-06-{12 + turn}")) for each in (old, new)
                )
                found.append(between(was, now))
            except ElenchusError as error:
                found.append(error.problems)
        assert found[0] == found[1], f"seed {seed}, turn {turn}: {told}"
        reach = reached(was.survey.book, now.survey.book) if not isinstance(found[0], tuple) else None
        skipped += len(now.survey.book.pages) - len(reach.rows | reach.looks) if reach else 0
        shutil.rmtree(old)
        new.rename(old)
    assert skipped


@pytest.mark.parametrize("seed", range(6))
def test_together(seed: int, tmp_path: Path) -> None:
    """What the pages of a set are told when they are asked for together is what each is told by itself."""
    draw = random.Random(seed)
    made(tmp_path, draw)
    for number in range(9, 40):
        (tmp_path / "n" / "note" / f"n{number}.md").write_text(note(draw), encoding="utf-8")
    enlarge(tmp_path)
    site = elenchus.open_site(tmp_path, at="2026-06-20")
    export(site.dataset, place := f"duckdb:///{tmp_path}/all.duckdb")
    there = site.answered_on(place)
    alone, together, tables = Book(site), Book(site, in_bulk=True), Book(there, in_bulk=True)
    for page in alone.pages:
        one = placed(alone, page).sections
        for other in (together,) if seed else (together, tables):
            for mine, its in zip(one, placed(other, page).sections, strict=True):
                where = page.path, mine.number, other is tables
                assert (mine.problems, mine.above) == (its.problems, its.above), where
                assert not (mine.answer and its.answer) or differences(mine.answer, its.answer) == {}, where
                assert bool(mine.answer) == bool(its.answer), where
                assert mine.all_ids == its.all_ids, where
                assert mine.plan == its.plan, where
                assert set(mine.left_out) == set(its.left_out), where
    if seed:
        return
    counts = []
    for in_bulk in (True, False):
        book = Book(site.answered_on(place), in_bulk=in_bulk)
        pages = book.of("topical").pages
        with recorded(book.site.tables) as (statements, _):
            for page in pages:
                placed(book, page)
        counts.append(len(statements))
    assert counts[0] < counts[1] * 2 // 3


def test_several_processes(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Pages that several processes draw are those that one draws; none is drawn by one that sees other content."""
    draw, folder, to = random.Random(5), tmp_path / "site", tmp_path / "to"
    made(folder, draw)
    for number in range(9, 99):
        (folder / "n" / "note" / f"n{number}.md").write_text(note(draw), encoding="utf-8")
    wanted = publish(folder, tmp_path / "alone", "2026-06-14")
    assert isinstance(wanted, Publication), wanted
    monkeypatch.setattr(drawing, "_FEWEST", 20)
    here: list[Visit] = []

    def counted(renderer: Renderer, found: Placed, visit: Visit) -> bytes:
        here.append(visit)
        return renderer.page(found, visit).encode()

    monkeypatch.setattr(outputs, "page_content", counted)
    survey = Survey(elenchus.open_site(folder, at="2026-06-14"))
    pages = survey.placed
    for turn, text in enumerate(["", "More.\n"]):  # at the second, the others read what this one has not read
        with (folder / "n" / "note" / "n9.md").open("a", encoding="utf-8") as file:
            file.write(text)
        here.clear()
        with writing(to / str(turn)):
            renderer = Renderer(survey.site, survey.book)
            found = published_to(renderer, pages, to / str(turn), Wishes(processes=2))
            found.apply()
        assert tree(to / str(turn)) == tree(tmp_path / "alone")
        assert bool(here) == (turn == 1)
        assert found.files == wanted.files


def test_copied_templates(run: Run, tmp_path: Path) -> None:
    """The built-in templates, copied into the site with what they say of themselves, make the same pages."""
    site = Path(shutil.copytree(elenchus.demo_folder(), tmp_path / "site"))
    here = ("--site", str(site))
    names = [line.split()[0] for line in run("templates").stdout.splitlines()]
    run("publish", "--to", "one", *here)
    assert (
        "Did you mean layouts/cards.html" in run("templates", "layouts/card.html", "rows.html", *here).stderr
    )
    assert not (site / "templates").exists()
    assert run("templates", *names, *here).stdout.count("Wrote") == len(names) > 10
    run("publish", "--to", "two", *here)
    one, two = (tree(tmp_path / folder) for folder in ("one", "two"))
    assert one == two != {}
    again = run("templates", "sheet.html", *here)
    assert (again.returncode, "is there already" in again.stderr) == (6, True)


def test_nothing_to_do(run: Run, tmp_path: Path) -> None:
    """A second run has nothing to do; what was changed by hand is seen, though it looks the same."""
    made(tmp_path / "site", random.Random(4))
    (tmp_path / "site" / "images" / "b.svg").write_text("<svg/>")
    command = ("publish", "--site", "site", "--to", "to", "--at", "2026-06-14")
    assert run(*command, cwd=tmp_path).returncode == 0
    before = tree(tmp_path / "to")
    assert run(*command, cwd=tmp_path).stdout.startswith(f"Nothing changes: {len(before)} files")
    path = tmp_path / "to" / "index.html"
    path.write_bytes(path.read_bytes().replace(b"e", b"a"))  # of the same size
    assert "changed by hand" in run(*command, cwd=tmp_path).stderr
    assert run(*command, "--force", cwd=tmp_path).returncode == 0
    assert tree(tmp_path / "to") == before
