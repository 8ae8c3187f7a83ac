"""The preview's own pages: why a section or an entry, what the check finds, another time."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING
from urllib.parse import parse_qsl

from elenchus.errors import NoSuchName, Problem
from elenchus.pages.sections import placed
from elenchus.pieces.piece import Piece
from elenchus.preview.pages import page_named, told
from elenchus.preview.preview import TOOLS, pieces_html
from elenchus.preview.reply import Reply, redirect
from elenchus.rendering.views import Link, PageView
from elenchus.report.checks import findings
from elenchus.report.explanations import explanation, verdict
from elenchus.values.addresses import NOWHERE, Href
from elenchus.values.numbers import counting_number
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.pages.section import Section
    from elenchus.pages.sections import Placed
    from elenchus.preview.live import Live, Scene

__all__ = ["COOKIE", "SHOWN", "problems_data", "problems_page", "shown_reply", "time_reply", "why_page"]

COOKIE = "elenchus-at"  # the time at which the site is seen
SHOWN = "elenchus-shown"  # whether all is shown, or what is public
_WIDTH = 110  # columns of what is reported
_FIRST = 8  # findings that the panel names


def why_page(scene: Scene, query: str) -> Reply:
    """Return why a section of a page shows what it shows, or why an entry stands there. Raises NoSuchName."""
    pairs = parse_qsl(query)
    asked = dict(pairs)
    page = page_named(scene, asked.get("page", ""))
    number = asked.get("section", "")
    is_number = number == "0" or counting_number(number) > 0
    if page is None or not is_number or int(number) >= len(page.rule.sections):
        message = f"there is no section {quoted(number)} on {quoted(asked.get('page', ''))}"
        raise NoSuchName([Problem("unknown-page", message)])
    chosen: dict[str, list[str]] = {}
    for name, text in pairs:
        if name not in ("page", "section", "entry"):
            chosen.setdefault(name, []).append(text)
    found = placed(scene.book, page, visitor=chosen)
    section = found.sections[int(number)]
    pieces = tuple(_why_pieces(found, section, asked.get("entry", "")))
    back = Link(f"Back to {page.title}", scene.renderer.root.link(page.address))
    links = [back]
    if asked.get("entry"):
        address = f"{TOOLS}why?{query.partition('&entry=')[0]}"
        links.append(Link("Why the whole section", Href(address)))
    heading = f"Why {asked['entry']}" if asked.get("entry") else f"Why {section.title or section.label}"
    about = f"In {section.label} on /{page.address}"
    view = PageView(heading, heading, NOWHERE, about=about, is_private=True)
    return told(scene, view, text=pieces_html(pieces), links=links)


def _why_pieces(found: Placed, section: Section, entry: str) -> Iterator[Piece]:
    """Yield the funnel of a section, or what becomes of an entry in it, and what stands elsewhere already."""
    if section.query is None:
        for problem in section.problems:
            yield Piece(f"{problem}\n")
        return
    if entry:
        yield from verdict(section.query.verdict(entry))
        return
    yield from explanation(section.query.explanation())
    left_out = section.left_out
    for name, other in left_out:
        yield Piece(f"\nLeft out: {name}, which stands in {found.sections[other].label} already")
    yield Piece("\n" if left_out else "")


def problems_page(scene: Scene) -> Reply:
    """Return all that the check finds, as a page."""
    view = PageView("What the check finds", "What the check finds", NOWHERE, is_private=True)
    return told(scene, view, text=pieces_html(findings(scene.report, _WIDTH)))


def problems_data(scene: Scene) -> Reply:
    """Return how much the check finds, with the first of it."""
    report = scene.report
    counted = [each for each in report.findings if not each.accepted and each.level != "note"]
    document = {
        "errors": report.count("error"),
        "warnings": report.count("warning"),
        "notes": report.count("note"),
        "first": [str(each.problem) for each in counted[:_FIRST]],
    }
    return Reply(json.dumps(document, ensure_ascii=False).encode(), "application/json")


def _is_of_site(address: str) -> bool:
    """Say whether an address is one of the preview, and can be sent as a header."""
    leads_away = not address.startswith("/") or address.startswith(("//", "/\\"))
    return address.isascii() and address.isprintable() and not leads_away


def time_reply(live: Live, query: str) -> Reply:
    """Return the way back to a page, which is seen at another time from now on. Raises SiteError."""
    pairs = parse_qsl(query, keep_blank_values=True)
    asked = dict(pairs)
    at, back = asked.get("at", "").strip(), asked.get("back", "/")
    if at:
        live.scene(at)
    if not (at.isascii() and at.isprintable()):  # a date may be spelt in other digits; a header may not
        at = ""
    return _way_back(back, COOKIE, at)


def shown_reply(query: str) -> Reply:
    """Return the way back to a page, which has all from now on, or what is public."""
    asked = dict(parse_qsl(query))
    return _way_back(asked.get("back", "/"), SHOWN, "all" if asked.get("what") == "all" else "")


def _way_back(back: str, name: str, value: str) -> Reply:
    """Return the way back to a page, with what is to be kept in mind; nothing forgets it."""
    age = "" if value else "; Max-Age=0"
    cookie = f"{name}={value}; Path=/; SameSite=Strict; HttpOnly{age}"
    return redirect(back if _is_of_site(back) else "/", **{"Set-Cookie": cookie})
