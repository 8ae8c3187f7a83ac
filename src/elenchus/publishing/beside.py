"""The files beside a page: feeds and data with the rows of one of its sections."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from elenchus.engine.run import run
from elenchus.feeds import feed_form
from elenchus.feeds import names as feed_names
from elenchus.feeds.feed import Feed, FeedItem, stable_id
from elenchus.formats import answer_format
from elenchus.pages.paths import file_beside

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.engine.answer import Answer
    from elenchus.pages.book import Page
    from elenchus.pages.sections import Section
    from elenchus.rendering.renderer import Renderer
    from elenchus.rendering.rows import RowView

__all__ = ["file_of_form", "files_beside"]

WORDS_OF_SUMMARY = 60


def files_beside(renderer: Renderer, page: Page, section: Section) -> Iterator[tuple[str, bytes]]:
    """Yield the path and the content of each file beside a page.

    They hold the rows of the section, also those that the page leaves out because they stand in another:
    a feed must not lose an entry because it moved up. Feeds have the section's pages, data all rows.
    """
    for form in section.rule.beside:
        pages = answered(renderer, section, 1).pages if form in feed_names() else 1
        for number in range(1, pages + 1):
            content = file_of_form(renderer, page, section, form, number)
            yield file_beside(page.path, section.slug, form, number), content


def file_of_form(renderer: Renderer, page: Page, section: Section, form: str, number: int = 1) -> bytes:
    """Return a page of a feed, or all rows of a section as data. Raises NoSuchPage."""
    if form in feed_names():
        answer = answered(renderer, section, number)
        return feed_form(form).write(feed_of(renderer, page, section, form, answer))
    answer = answered(renderer, section, number, whole=True)
    answer = replace(answer, formulas=renderer.site.definition.formulas)
    return "".join(piece.text for piece in answer_format(form).write(answer, None)).encode()


def answered(renderer: Renderer, section: Section, number: int, *, whole: bool = False) -> Answer:
    """Return the rows of a section on one of its pages, or all of them."""
    listing, plan, _ = section.parts
    plan = replace(plan, per_page=None) if whole else plan
    return run(plan, renderer.site.dataset, renderer.site.clock, listing.text, number, in_public=True)


def feed_of(renderer: Renderer, page: Page, section: Section, form: str, answer: Answer) -> Feed:
    """Return one page of a feed."""
    site, root = renderer.site.definition, renderer.root

    def address(number: int) -> str:
        if not 1 <= number <= answer.pages or answer.pages == 1:
            return ""
        return root.whole(root.file(file_beside(page.path, section.slug, form, number)))

    title = " · ".join(dict.fromkeys(part for part in (site.title, page.title, section.title) if part))
    about = section.listing.setting("about", "") if section.listing else ""
    return Feed(
        id=stable_id(root.address, file_beside(page.path, section.slug, "atom")),
        title=title,
        about=page.about or str(about),
        site=site.title or root.address,
        language=site.language,
        page=root.whole(root.link(page.address)),
        address=root.whole(root.file(file_beside(page.path, section.slug, form, answer.page))),
        items=tuple(item_of(renderer, renderer.desk.row("", row.id)) for row in answer.rows),
        first=address(1),
        previous=address(answer.page - 1),
        next=address(answer.page + 1),
        last=address(answer.pages),
    )


def item_of(renderer: Renderer, row: RowView) -> FeedItem:
    """Return an entry as feeds have it."""
    root = renderer.root
    taxonomies = renderer.site.dataset.schema.taxonomies
    return FeedItem(
        id=stable_id(root.address, row.id),
        title=row.title,
        link=root.whole(row.address) if row.address else "",
        published=row.published,
        updated=row.changed,
        summary=row.summary(WORDS_OF_SUMMARY),
        content=str(row.body_elsewhere),
        author=str(row["author"].first or ""),
        image=root.whole(row.image.src) if row.image else "",
        terms=tuple((name, str(item)) for name in taxonomies for item in row[name]),
    )
