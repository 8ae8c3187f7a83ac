"""The pages of a site on request: what visitors choose by address, later pages, files beside, own files."""

from __future__ import annotations

import mimetypes
import re
from typing import TYPE_CHECKING
from urllib.parse import parse_qsl

from elenchus.asking.choices import possible
from elenchus.errors import About, NoSuchPage, Problem
from elenchus.forms import form
from elenchus.frozen import replace
from elenchus.pages.book import no_pages_at_all
from elenchus.pages.paths import address_of, later_page
from elenchus.pages.sections import free_parameters, placed
from elenchus.preview.reply import Reply, redirect
from elenchus.publishing.beside import file_of_form
from elenchus.publishing.outputs import content_of, published_file
from elenchus.rendering.controls import PAGE, canonical, query_text
from elenchus.rendering.renderer import ASSETS
from elenchus.rendering.views import Link, PageView, Visit
from elenchus.schema.subject import ENTRIES
from elenchus.values.addresses import Href, href_of
from elenchus.values.numbers import counting_number
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Mapping, Sequence

    from elenchus.pages.book import Page
    from elenchus.pages.sections import Placed
    from elenchus.preview.live import Scene
    from elenchus.preview.places import PagePlace

    _Values = Mapping[str, Sequence[str]]

__all__ = ["missing", "page_named", "page_reply", "sentence", "told"]

_LONGEST_VALUE = 500  # characters
_SITEMAP = re.compile(r"sitemap(-\d{1,6})?\.xml")


def page_reply(scene: Scene, path: str, query: str) -> Reply:
    """Return what stands at a path of the site. Raises SiteError and the like for what cannot be made."""
    place = scene.places.find(path)
    if place is None:
        return _folder_reply(scene, path) or _file_reply(scene, path) or missing(scene, path)
    if place.form:
        return _beside_reply(scene, place, path)
    given, number = _read_query(query)
    return _visited(scene, place, given, number)


def _read_query(query: str) -> tuple[dict[str, list[str]], str]:
    """Return the values of a query, and the number of the page that it asks for; nothing where none is."""
    found: dict[str, list[str]] = {}
    for name, text in parse_qsl(query):
        found.setdefault(name, []).append(text[:_LONGEST_VALUE])
    number = found.pop(PAGE, [""])[-1]
    return found, number


def _visited(scene: Scene, place: PagePlace, given: _Values, number: str) -> Reply:
    """Return a page with what a visitor chose; an address that could be shorter leads to the short one."""
    page, root = place.page, scene.renderer.root
    found = placed(scene.book, page, visitor=given)
    wrong = [each for each in found.problems if each.about is About.VALUE]
    if given and wrong:
        return _not_found(scene, page.address, wrong, list(_choices_on(scene, found)))
    known = _known_names(found)
    chosen = _canonical_query(scene, found)
    unknown = [name for name in given if name not in known]
    at = counting_number(number) if number else place.visit.number
    if not unknown and _is_longer(given, chosen, number, place.visit):
        if chosen:
            return redirect(f"{root.link(page.address)}?{query_text(chosen, at)}")
        return redirect(root.link(address_of(later_page(page.path, max(at, 1)))))
    notices = tuple(f"Nothing here can be chosen by {quoted(name)}; it was left out." for name in unknown)
    visit = Visit(at, place.visit.folder, chosen, (*_why_hidden(scene, page), *notices))
    if not _goes_on(found, visit):
        problem = Problem("no-such-page", f"{page.title} has no page {quoted(number or str(at))}")
        return _not_found(scene, page.address, [problem], [Link(page.title, root.link(page.address))])
    return Reply(scene.renderer.page(found, visit).encode())


def _why_hidden(scene: Scene, page: Page) -> Iterator[str]:
    """Yield why visitors are not shown the page of an entry, or not so."""
    if scene.shown and page.here and page.here.subject == ENTRIES:
        mark = scene.shown.mark(page.here.name)
        if mark:
            yield f"Visitors are not shown this, or not so: {mark}."


def _is_longer(given: _Values, chosen: _Values, number: str, visit: Visit) -> bool:
    """Say whether an address could be shorter or in better order: idle values, page 1, two page numbers."""
    in_order = list(given.items()) == [(name, list(texts)) for name, texts in chosen.items()]
    is_twice = bool((given or number) and visit.number > 1)
    return (
        not in_order or number == "1" or is_twice or bool(number and not chosen and counting_number(number))
    )


def _goes_on(found: Placed, visit: Visit) -> bool:
    """Say whether a page has a page of a number."""
    if visit.number == 1:
        return True
    sections = [each for each in found.sections if each.has_pages and each.rule.pages_at == visit.folder]
    return any(each.answer and 1 < visit.number <= each.answer.pages for each in sections)


def _known_names(found: Placed) -> list[str]:
    """Return the parameters that a visitor can choose on a page."""
    return [
        name
        for section in found.sections
        if section.listing
        for name in free_parameters(section.listing, section.rule)
    ]


def _canonical_query(scene: Scene, found: Placed) -> dict[str, list[str]]:
    """Return what is chosen on a page, in the order of its sections and their parameters."""
    chosen: dict[str, list[str]] = {}
    for section in found.sections:
        if section.listing:
            names = free_parameters(section.listing, section.rule)
            chosen |= {
                name: texts
                for name, texts in canonical(scene.site, section, names).items()
                if name not in chosen
            }
    return chosen


def _choices_on(scene: Scene, found: Placed) -> Iterable[Link]:
    """Yield what can be chosen on a page, as links."""
    root = scene.renderer.root.link(found.page.address)
    for section in placed(scene.book, found.page).sections:
        listing = section.listing
        if listing is None:
            continue
        for name in free_parameters(listing, section.rule):
            rule = listing.parameters[name][0]
            for value, label, _ in possible(scene.site, rule):
                yield Link(f"{rule.label or name}: {label}", Href(f"{root}?{query_text({name: [value]})}"))


# What is no page


def _beside_reply(scene: Scene, place: PagePlace, path: str) -> Reply:
    """Return a file beside a page."""
    section = placed(scene.book, place.page).sections[place.section]
    if section.answer is None:
        return missing(scene, path)
    try:
        content = file_of_form(scene.renderer, place.page, section, place.form, place.visit.number)
    except NoSuchPage:
        return missing(scene, path)
    return Reply(content, f"{form(place.form).media_type}; charset=utf-8")


def _folder_reply(scene: Scene, path: str) -> Reply | None:
    """Return the way to a folder whose slash is missing."""
    if path and not path.endswith("/") and scene.places.find(f"{path}/"):
        return redirect(scene.renderer.root.file(f"{path}/"))
    return None


def _file_reply(scene: Scene, path: str) -> Reply | None:
    """Return our own stylesheet or script, or a file that the site publishes as it is; never another."""
    kind = mimetypes.guess_type(path)[0] or "application/octet-stream"
    own = scene.renderer.assets()
    if path.removeprefix(f"{ASSETS}/") in own and path.startswith(f"{ASSETS}/"):
        return Reply(own[path.removeprefix(f"{ASSETS}/")], kind)
    if _SITEMAP.fullmatch(path):
        found = scene.sitemaps.get(path)
        return Reply(found, "application/xml; charset=utf-8") if found else None
    file = published_file(scene.site, path, scene.hidden_files) if "\0" not in path else None
    return Reply(content_of(file, path), kind) if file else None


def missing(scene: Scene, path: str) -> Reply:
    """Return the reply for an address at which nothing stands, with those that look like it."""
    root = scene.renderer.root
    near = [Link(f"/{address}", root.link(Href(address))) for address in scene.places.near(path)]
    problems = [Problem("unknown-page", f"nothing stands at {quoted(f'/{path}')}")]
    if scene.book.rules:
        return _not_found(scene, path, problems, near)
    unread = scene.site.pages.problems  # of files without which it is not known what stands where
    reply = _not_found(scene, path, unread or [*problems, no_pages_at_all()], near)
    return replace(reply, status=500) if unread else reply


def _not_found(scene: Scene, path: str, problems: Sequence[Problem], links: Sequence[Link]) -> Reply:
    """Return a clear 404: what is wrong, and what there is."""
    notices = tuple(sentence(problem) for problem in problems)
    view = PageView("Nothing here", "Nothing here", href_of(path), notices=notices, is_private=True)
    return replace(told(scene, view, links=links), status=404)


def sentence(problem: Problem) -> str:
    """Return a problem as a sentence, with what would help."""
    text = problem.message.rstrip(".")
    place = f"{problem.place}: " if problem.place else ""
    return f"{place}{text[:1].upper()}{text[1:]}. {problem.hint}".strip()


def told(scene: Scene, page: PageView, *, links: Sequence[Link] = (), text: object = "") -> Reply:
    """Return a page of the preview's own: a text and links."""
    from elenchus.preview.preview import TOOLS

    drawn = scene.renderer.templates.drawn(
        "preview/told.html", sheet=page, links=links, told=text, tools=TOOLS
    )
    return Reply(drawn.encode())


def page_named(scene: Scene, address: str) -> Page | None:
    """Return the page at an address."""
    place = scene.places.find(address.removeprefix("/"))
    return place.page if place and not place.form else None
