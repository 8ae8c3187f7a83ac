"""The files beside a page: the rows of one of its sections in any form that has files."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.forms import Frame, form
from elenchus.frozen import replace
from elenchus.pages.paths import file_beside
from elenchus.publishing.feeds import FeedPlace, feed_at

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.asking.query import Query
    from elenchus.pages.book import Page
    from elenchus.pages.sections import Section
    from elenchus.rendering.renderer import Renderer

__all__ = ["file_of_form", "files_beside"]


def files_beside(renderer: Renderer, page: Page, section: Section) -> Iterator[tuple[str, bytes]]:
    """Yield the path and the content of each file beside a page.

    They hold the rows of the section, also those that the page leaves out because they stand in another:
    a feed must not lose an entry because it moved up. Feeds have the section's pages, data all rows.
    """
    for name in section.rule.beside:
        pages = _open_query(section).answer(in_public=True).pages if form(name).in_pages else 1
        for number in range(1, pages + 1):
            content = file_of_form(renderer, page, section, name, number)
            yield file_beside(page.path, section.slug, name, number), content


def file_of_form(renderer: Renderer, page: Page, section: Section, name: str, number: int = 1) -> bytes:
    """Return the rows of a section as a file: a page of them, or all. Raises NoSuchPage."""
    written = form(name)
    query = _open_query(section)
    answer = query.answer(number, in_public=True) if written.in_pages else query.whole(in_public=True)
    place = _place_of(renderer, page, section, name)
    frame = Frame(feed=lambda rows: feed_at(renderer, place, rows), link=renderer.root.link)
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
