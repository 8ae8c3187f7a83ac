"""A feed whatever its form: whose it is, where its other pages are, what stands in it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.frozen import Frozen

if TYPE_CHECKING:
    from collections.abc import Iterator
    from datetime import datetime

__all__ = ["Feed", "FeedItem", "stable_id"]


class FeedItem(Frozen):
    """One entry: ``content`` is HTML whose addresses are whole, ``summary`` plain text.

    ``updated`` and ``published`` are instants with their offset; ``terms`` pairs of a taxonomy's name
    and a term's.
    """

    id: str
    title: str
    link: str
    published: datetime | None
    updated: datetime | None
    summary: str
    content: str
    author: str = ""
    image: str = ""
    terms: tuple[tuple[str, str], ...] = ()


class Feed(Frozen):
    """A feed: all addresses are whole.

    ``page`` is the page beside which it stands, ``address`` its own; ``previous`` and the like are those
    of its other pages (RFC 5005, section 3), empty where there are none.
    """

    id: str
    title: str
    about: str
    site: str
    language: str
    page: str
    address: str
    items: tuple[FeedItem, ...]
    first: str = ""
    previous: str = ""
    next: str = ""
    last: str = ""

    @property
    def around(self) -> Iterator[tuple[str, str]]:
        """The other pages of the feed, each with its relation to this one."""
        for rel in ("first", "previous", "next", "last"):
            if address := getattr(self, rel):
                yield rel, address


def stable_id(site: str, name: str) -> str:
    """Return an id that stays the same wherever its page moves (RFC 9562, a UUID of version 5).

    ``site`` is the address of the site, ``name`` the id of an entry, or the path of a feed.
    """
    from uuid import NAMESPACE_URL, uuid5

    return uuid5(NAMESPACE_URL, f"{site}#{name}").urn
