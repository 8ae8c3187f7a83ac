"""Atom (RFC 4287), in pages where the section is (RFC 5005, section 3)."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.forms._record import Form, Need
from elenchus.pieces.piece import Piece
from elenchus.values.dates import stamp
from elenchus.values.xml import XmlWriter

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence
    from datetime import datetime

    from elenchus.forms._feed import FeedItem
    from elenchus.forms._record import Frame
    from elenchus.plan.answer import Answer

__all__ = ["FORM"]

_ATOM = "http://www.w3.org/2005/Atom"


def _write(answer: Answer, frame: Frame) -> Iterator[Piece]:
    """Yield the rows of an answer as an Atom document."""
    feed = frame.feed_of(answer)
    at = answer.at.replace(month=1, day=1, hour=0, minute=0, second=0, microsecond=0)
    times = _times(feed.items, at)
    xml = XmlWriter()
    with xml.element("feed", xmlns=_ATOM, xml_lang=feed.language):
        xml.leaf("id", feed.id)
        xml.leaf("title", feed.title)
        if feed.about:
            xml.leaf("subtitle", feed.about)
        xml.leaf("updated", stamp(max(times, default=at)))
        with xml.element("author"):
            xml.leaf("name", feed.site)
        xml.leaf("link", rel="self", type="application/atom+xml", href=feed.address)
        xml.leaf("link", rel="alternate", type="text/html", href=feed.page)
        for rel, address in feed.around:
            xml.leaf("link", rel=rel, type="application/atom+xml", href=address)
        for item, updated in zip(feed.items, times, strict=True):
            _entry(xml, item, updated)
    yield Piece(xml.text())


def _times(items: Sequence[FeedItem], default: datetime) -> list[datetime]:
    """Return when each entry was updated, which Atom demands.

    One without a date has that of the dated entry before it, or of the first one: so readers keep the order.
    Where none has a date, it is the beginning of the present year: an hour would be another each time.
    """
    latest = next((item.updated for item in items if item.updated), default)
    found = []
    for item in items:
        latest = item.updated or latest
        found.append(latest)
    return found


def _entry(xml: XmlWriter, item: FeedItem, updated: datetime) -> None:
    """Write one entry."""
    with xml.element("entry"):
        xml.leaf("id", item.id)
        xml.leaf("title", item.title)
        xml.leaf("updated", stamp(updated))
        if item.published:
            xml.leaf("published", stamp(item.published))
        if item.author:
            with xml.element("author"):
                xml.leaf("name", item.author)
        if item.link:
            xml.leaf("link", rel="alternate", type="text/html", href=item.link)
        for taxonomy, term in item.terms:
            xml.leaf("category", term=term, scheme=f"urn:taxonomy:{taxonomy}")
        xml.leaf("summary", item.summary)
        if item.content:
            xml.leaf("content", item.content, type="html")


FORM = Form(
    name="atom",
    label="Atom",
    media_type="application/atom+xml",
    write=_write,
    ending=".atom",
    needs=frozenset({Need.ENTRIES, Need.ADDRESS}),
    in_pages=True,
)
