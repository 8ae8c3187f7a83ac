"""Rows as feeds have them: who they are everywhere, where they can be read, what they say."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.asking.query import resolved
from elenchus.errors import NotSupported, Problem, QuestionError, SiteError
from elenchus.forms import Feed, FeedItem, stable_id
from elenchus.frozen import Frozen
from elenchus.pages.paths import address_of, file_beside
from elenchus.rendering.renderer import Renderer
from elenchus.schema.subject import ENTRIES
from elenchus.values.slugs import slugify

if TYPE_CHECKING:
    from collections.abc import Callable

    from elenchus.plan.answer import Answer
    from elenchus.rendering.rows import RowView
    from elenchus.site.site import Site
    from elenchus.values.addresses import Href

__all__ = ["FeedPlace", "feed_at", "feed_of_question"]

_WORDS_OF_SUMMARY = 60


class FeedPlace(Frozen):
    """Where a feed stands.

    ``title`` and ``about`` tell what it is of, ``page`` is the link to the page beside which it stands;
    ``file`` gives the path of the file of each of its pages, ``path`` is what its id is made of.
    """

    title: str
    about: str
    page: Href
    path: str
    file: Callable[[int], str]


def feed_at(renderer: Renderer, place: FeedPlace, answer: Answer) -> Feed:
    """Return one page of a feed with the rows of an answer."""
    site, root = renderer.site.definition, renderer.root

    def address(number: int) -> str:
        if not 1 <= number <= answer.pages or answer.pages == 1:
            return ""
        return root.whole(root.file(place.file(number)))

    return Feed(
        id=stable_id(root.address, place.path),
        title=" · ".join(dict.fromkeys(part for part in (site.title, place.title) if part)),
        about=place.about,
        site=site.title or root.address,
        language=site.language,
        page=root.whole(place.page),
        address=root.whole(root.file(place.file(answer.page))),
        items=tuple(_item_of(renderer, renderer.desk.row(ENTRIES, row.id)) for row in answer.rows),
        first=address(1),
        previous=address(answer.page - 1),
        next=address(answer.page + 1),
        last=address(answer.pages),
    )


def feed_of_question(site: Site, text: str, name: str, answer: Answer) -> Feed:
    """Return an answer as a feed at the root of its site. Raises SiteError, QuestionError, NotSupported."""
    if not site.definition.address:
        hint = 'Write address = "https://…/" below [site].'
        raise SiteError([Problem("no-address", f"a site without an address has no {name}", hint)])
    if answer.subject.is_terms:
        hint = "Feeds hold entries: ask for those, or take csv or json."
        problem = Problem("no-feed", f"these rows are terms, and no {name} can be made of them", hint)
        raise QuestionError(answer.question, [problem])
    if site.is_of_tables:
        raise NotSupported(f"{name}, which has the texts of entries as pages show them")
    listing = resolved(site, text)
    slug = slugify(listing.name) or "rows"
    renderer = Renderer(site)
    place = FeedPlace(
        title=listing.title if listing.name else "",
        about=str(listing.setting("about") or ""),
        page=renderer.root.link(address_of("")),
        path=file_beside("", slug, "atom"),
        file=lambda number: file_beside("", slug, name, number),
    )
    return feed_at(renderer, place, answer)


def _item_of(renderer: Renderer, row: RowView) -> FeedItem:
    """Return an entry as feeds have it."""
    root = renderer.root
    taxonomies = renderer.site.dataset.schema.taxonomies
    return FeedItem(
        id=stable_id(root.address, row.id),
        title=row.title,
        link=root.whole(row.address) if row.address else "",
        published=row.published,
        updated=row.changed,
        summary=row.summary(_WORDS_OF_SUMMARY),
        content=str(row.body_elsewhere),
        author=str(row["author"].first or ""),
        image=root.whole(row.image.src) if row.image else "",
        terms=tuple((name, str(item)) for name in taxonomies for item in row[name]),
    )
