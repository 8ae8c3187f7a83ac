"""JSON Feed 1.1."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

from elenchus.forms._record import Form, Need
from elenchus.pieces.piece import Piece
from elenchus.values.dates import stamp

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.forms._feed import FeedItem
    from elenchus.forms._record import Frame
    from elenchus.plan.answer import Answer

__all__ = ["FORM"]


def _write(answer: Answer, frame: Frame) -> Iterator[Piece]:
    """Yield the rows of an answer as JSON; what it has not is left out."""
    feed = frame.feed_of(answer)
    document = {
        "version": "https://jsonfeed.org/version/1.1",
        "title": feed.title,
        "home_page_url": feed.page,
        "feed_url": feed.address,
        "next_url": feed.next,
        "description": feed.about,
        "language": feed.language,
        "authors": [{"name": feed.site}],
        "items": [_entry(item) for item in feed.items],
    }
    kept = {name: value for name, value in document.items() if value or name == "items"}
    yield Piece(json.dumps(kept, ensure_ascii=False, indent=1) + "\n")


def _entry(item: FeedItem) -> dict[str, Any]:
    """Return one item."""
    found = {
        "id": item.id,
        "url": item.link,
        "title": item.title,
        "summary": item.summary,
        "image": item.image,
        "date_published": stamp(item.published) if item.published else "",
        "date_modified": stamp(item.updated) if item.updated else "",
        "authors": [{"name": item.author}] if item.author else [],
        "tags": list(dict.fromkeys(term for _, term in item.terms)),
    }
    text = {"content_html": item.content} if item.content else {"content_text": item.summary or item.title}
    return {**{name: value for name, value in found.items() if value}, **text}


FORM = Form(
    name="jsonfeed",
    label="JSON Feed",
    media_type="application/feed+json",
    write=_write,
    ending=".feed.json",
    needs=frozenset({Need.ENTRIES, Need.ADDRESS}),
    in_pages=True,
)
