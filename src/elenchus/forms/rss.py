"""RSS 2.0, with the link to itself in Atom's terms, and the whole text in those of its content module."""

from __future__ import annotations

from email.utils import format_datetime
from typing import TYPE_CHECKING

from elenchus.forms._record import Form, Need
from elenchus.pieces.piece import Piece
from elenchus.values.xml import XmlWriter

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.forms._feed import FeedItem
    from elenchus.forms._record import Frame
    from elenchus.plan.answer import Answer

__all__ = ["FORM"]

_NAMESPACES = {
    "xmlns_atom": "http://www.w3.org/2005/Atom",
    "xmlns_content": "http://purl.org/rss/1.0/modules/content/",
    "xmlns_dc": "http://purl.org/dc/elements/1.1/",
}


def _write(answer: Answer, frame: Frame) -> Iterator[Piece]:
    """Yield the rows of an answer as an RSS document; its dates as RFC 822 has them."""
    feed = frame.feed_of(answer)
    xml = XmlWriter()
    with xml.element("rss", version="2.0", **_NAMESPACES), xml.element("channel"):
        xml.leaf("title", feed.title)
        xml.leaf("link", feed.page)
        xml.leaf("description", feed.about or feed.title)
        xml.leaf("language", feed.language)
        xml.leaf("atom:link", rel="self", type="application/rss+xml", href=feed.address)
        for rel, address in feed.around:
            xml.leaf("atom:link", rel=rel, type="application/rss+xml", href=address)
        for item in feed.items:
            _entry(xml, item)
    yield Piece(xml.text())


def _entry(xml: XmlWriter, item: FeedItem) -> None:
    """Write one item."""
    with xml.element("item"):
        xml.leaf("title", item.title)
        if item.link:
            xml.leaf("link", item.link)
        xml.leaf("guid", item.id, isPermaLink="false")
        if item.published:
            xml.leaf("pubDate", format_datetime(item.published))
        if item.author:
            xml.leaf("dc:creator", item.author)
        for taxonomy, term in item.terms:
            xml.leaf("category", term, domain=f"urn:taxonomy:{taxonomy}")
        xml.leaf("description", item.summary)
        if item.content:
            xml.leaf("content:encoded", item.content)


FORM = Form(
    name="rss",
    label="RSS",
    media_type="application/rss+xml",
    write=_write,
    ending=".rss",
    needs=frozenset({Need.ENTRIES, Need.ADDRESS}),
    in_pages=True,
)
