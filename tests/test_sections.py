"""Random questions in sections: checked, published in every layout with every form beside, woven, served."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import elenchus
from conftest import often
from elenchus.checks.run import check_site
from elenchus.pages.sections import placed
from elenchus.preview.api import api_reply
from elenchus.preview.live import Scene
from elenchus.preview.pages import page_reply
from elenchus.preview.tools import why_page
from elenchus.publishing.outputs import outputs
from elenchus.publishing.weaving import weave
from elenchus.rendering.renderer import Renderer
from elenchus.site.site import Content, Site
from oracle import TREE
from test_oracle import ASKED

SITE = """[site]
title = "S"
address = "https://s.example/"
timezone = "Atlantic/Azores"
clock = 2026-05-20T12:00:00
[sources.n]
read = "markdown"
path = "n"
[kinds.a]
address = "a/{slug}/"
[kinds.a.fields]
num = { type = "integer" }
ratio = { type = "number", unit = "m" }
flag = { type = "yesno" }
level = { type = "choice", choices = ["low", "mid", "high"] }
when = { type = "date" }
name = { type = "text" }
tags = { type = "text", many = true }
place = { type = "entry", kind = "b" }
photos = { type = "image", many = true }
[kinds.b.fields]
num = { type = "integer" }
name = { type = "text" }
[taxonomies.area]
tree = true
terms = "area.csv"
address = "areas/{path}/"
[taxonomies.topic]
"""
ODD = [
    "title: <b>Bold</b> & “quoted”\ndate: 0001-01-01\nwhen: 9999-12-31\narea: [north, bay, inlet]\nimage: http://[",
    "title: '<!-- elenchus end -->'\ndate: 2026-05-19 23:59\nnum: 3\nplace: e1\ntopic: [seals, birds]\nlevel: high",
    "title: ']]> {{ x }} {nope}'\ndate: 2026-05-20\nratio: 0.5\nflag: yes\ntags: [Seal, seal, \"a|b\"]\nimage: i.svg",
    "title: '=1+1'\ndate: 2026-01-05\nwhen: 0001-01-01\nplace: e9\nname: '@cmd'\narea: west\nupdated: 0001-01-02 03:04",
    "date: 1800-06-01 12:30\nsummary: '[x](javascript:alert(1))'\nparent: e1\nexpires: 9999-12-31\ntopic: [tides]",
    "title: 北 Étang\nnum: about 3\nlevel: low\nname: ''\nphotos: ['a b.svg', '//[']\ndate: 2026-05-20 11:59",
    "title: draft\nstatus: draft\ntopic: [birds]",
]
FIELDS = [
    "title",
    "date",
    "date.month",
    "date.week",
    "date.weekday",
    "summary",
    "image",
    "area",
    "area.name",
    "topic",
    "num",
    "kind",
]


@pytest.fixture(scope="module")
def base(tmp_path_factory: pytest.TempPathFactory) -> Site:
    """Return a site with a little of everything that is hard to show."""
    folder = tmp_path_factory.mktemp("sections")
    (folder / "elenchus.toml").write_text(SITE, encoding="utf-8")
    rows = "".join(
        f"{path.rpartition('/')[2]},{path.rpartition('/')[2].title()},{path.rpartition('/')[0]},{n or ''}\n"
        for n, path in enumerate(TREE)
    )
    (folder / "area.csv").write_text(f"slug,name,parent,id\n{rows}", encoding="utf-8")
    for kind in "ab":
        (folder / "n" / kind).mkdir(parents=True)
    for number, front in enumerate(ODD):
        body = f"# Head\n\nText {number}, [link](//[) ![x](http://[) `` ` <b>\n"
        (folder / "n" / "a" / f"e{number * 2}.md").write_text(
            f"---\n{front}\nid: e{number * 2}\n---\n{body}", encoding="utf-8"
        )
    for number in (1, 3, 5, 7, 9, 11):  # so that all that random questions name is there
        text = f"---\nid: e{number}\ntitle: Place\nnum: {number}\narea: [south]\ndate: 2026-04-{number:02}\n---\n"
        (folder / "n" / "b" / f"e{number}.md").write_text(text, encoding="utf-8")
    site = elenchus.open_site(folder)
    assert len(site.dataset.entries) == len(ODD) + 6
    return site


SECTION = st.fixed_dictionaries(
    {
        "ask": ASKED,
        "layout": st.sampled_from(["titles", "list", "cards", "table"]),
        "show": st.none() | st.lists(st.sampled_from(FIELDS), min_size=1, max_size=4, unique=True),
        "beside": st.lists(
            st.sampled_from(["atom", "rss", "jsonfeed", "csv", "json"]), max_size=3, unique=True
        ),
    }
)


def site_with(base: Site, sections: list[dict[str, Any]], *, no_repeats: bool) -> Site:
    """Return the site with a page of some sections, its content read once for all of them."""
    folder, pages, listings = base.definition.folder, [], []
    for number, each in enumerate(sections):
        asked = elenchus.print_question(each["ask"]) or "order by newest"
        text = asked.replace("\\", "\\\\").replace('"', '\\"')
        show = f"show = {each['show']}\n" if each["show"] else ""
        listings.append(f'[l{number}]\nask = "{text}"\nlayout = "{each["layout"]}"\n{show}')
        pages.append(
            f'{{ listing = "l{number}", beside = {each["beside"]}, pages_at = "{f"p{number}/" if number else ""}" }}'
        )
    repeats = "no_repeats = true\n" if no_repeats and len(sections) > 1 else ""
    each_entry = '[entries]\neach = "from a"\nsections = []\n'
    (folder / "listings.toml").write_text("".join(listings), encoding="utf-8")
    page = f'[all]\naddress = "index.html"\nprivate = false\n{repeats}sections = [{", ".join(pages)}]\n{each_entry}'
    (folder / "pages.toml").write_text(page, encoding="utf-8")
    content = Content(base.definition)
    content.__dict__.update({key: base.content.__dict__[key] for key in ("found", "dataset")})
    site = Site(content, base.clock)
    assert not site.library.problems
    return site


@given(sections=st.lists(SECTION, min_size=1, max_size=3), no_repeats=st.booleans())
@settings(max_examples=often(150), deadline=None)
def test_random_sections(base: Site, sections: list[dict[str, Any]], no_repeats: bool) -> None:
    """Whatever can be asked can be checked, published, woven and served; what cannot is reported by each of them."""
    site = site_with(base, sections, no_repeats=no_repeats)
    report = check_site(site)
    renderer = Renderer(site)
    pages = [placed(renderer.book, page) for page in renderer.book.pages]
    wrong = {problem.code for page in pages for problem in page.problems}
    assert wrong <= {each.problem.code for each in report.findings}
    if not wrong:
        files = {each.path: each.content for each in outputs(renderer, pages)}
        assert b"e12" not in b"".join(files.values())
        for number, each in enumerate(sections):
            assert each["ask"].unpublished or all(
                any(path.endswith(f"l{number}{ending}") for path in files)
                for ending in (f".{form}".replace(".jsonfeed", ".feed.json") for form in each["beside"])
            )
    for name, before in (("page.html", "<p>"), ("page.md", "")):
        path = Path(base.definition.folder / name)
        marked = "".join(
            f"{before}<!-- elenchus begin l{n} --><!-- elenchus end -->\n" for n in range(len(sections))
        )
        path.write_text(marked, encoding="utf-8")
        try:
            found = weave(renderer, path)
        except elenchus.MarkerError as error:
            assert {each.code for each in error.problems} & (wrong | {"unpublished-on-page"})
            continue
        path.write_bytes(found.new)
        assert not weave(renderer, path).changes, "a second run changes nothing"
    moment = Scene(site, 1)
    assert page_reply(moment, "", "").status == 200
    for number in range(len(sections)):
        assert api_reply(moment, f"/api/listings/l{number}", "").status in (200, 400)
        assert why_page(moment, f"page=/&section={number}").status == 200
