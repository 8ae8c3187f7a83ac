"""The files beside a page: the rows of one of its sections in any form that has files."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING, NamedTuple

from elenchus.forms import Frame, form
from elenchus.frozen import replace
from elenchus.pages.paths import file_beside
from elenchus.publishing.feeds import FeedPlace, feed_at

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator

    from elenchus.asking.query import Query
    from elenchus.pages.book import Page
    from elenchus.pages.section import Section
    from elenchus.rendering.marks import PageMarks
    from elenchus.rendering.renderer import Renderer

__all__ = ["Beside", "file_of_form", "files_beside"]


class Beside(NamedTuple):
    """A file beside a page: its path, its content, and the digest of what that is made of.

    Data are compared as they are: they cost no more than their digest would.
    """

    path: str
    make: Callable[[], bytes]
    mark: Callable[[], bytes] | None


def files_beside(renderer: Renderer, page: Page, section: Section, marks: PageMarks) -> Iterator[Beside]:
    """Yield the files beside a page.

    They hold the rows of the section, also those that the page leaves out because they stand in another:
    a feed must not lose an entry because it moved up. Feeds have the section's pages, data all rows.
    """
    for name in section.rule.beside:
        query, is_feed = _open_query(section), form(name).in_pages
        for number in range(1, (query.answer(in_public=True).pages if is_feed else 1) + 1):
            make = partial(file_of_form, renderer, page, section, name, number)
            mark = partial(_mark_of_feed, renderer, page, section, name, number, marks) if is_feed else None
            yield Beside(file_beside(page.path, section.slug, name, number), make, mark)


def _mark_of_feed(
    renderer: Renderer, page: Page, section: Section, name: str, number: int, marks: PageMarks
) -> bytes:
    """Return the digest of what a page of a feed is made of."""
    query, place = _open_query(section), _place_of(renderer, page, section, name)
    told = f"{name}\n{place.title}\n{place.about}\n{place.page}\n{place.path}\n{page.path}"
    return marks.feed(query, query.answer(number, in_public=True), told)


def file_of_form(renderer: Renderer, page: Page, section: Section, name: str, number: int = 1) -> bytes:
    """Return the rows of a section as a file: a page of them, or all. Raises NoSuchPage."""
    written = form(name)
    query = _open_query(section)
    answer = query.answer(number, in_public=True) if written.in_pages else query.whole(in_public=True)
    place = _place_of(renderer, page, section, name)
    frame = Frame(feed=lambda rows: feed_at(renderer, place, rows), link=renderer.root.link, lasts=True)
    return written.text(answer, frame).encode()


def _open_query(section: Section) -> Query:
    """Return what a section asks, with the rows that its page leaves out."""
    return replace(section.asked, without=())


def _place_of(renderer: Renderer, page: Page, section: Section, name: str) -> FeedPlace:
    """Return where the feed of a section stands."""
    about = section.asked.listing.setting("about")
    return FeedPlace(
        title=" · ".join(dict.fromkeys(part for part in (page.title, section.title) if part)),
        about=page.about or str(about),
        page=renderer.root.link(page.address),
        path=file_beside(page.path, section.slug, "atom"),
        file=lambda number: file_beside(page.path, section.slug, name, number),
    )
