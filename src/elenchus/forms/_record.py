"""The shape of a form's record."""

from __future__ import annotations

from enum import Enum
from typing import TYPE_CHECKING

from elenchus.frozen import Frozen
from elenchus.values.addresses import given_href, rooted

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable

    from elenchus.forms._feed import Feed
    from elenchus.pieces.piece import Piece
    from elenchus.plan.answer import Answer, Row
    from elenchus.values.addresses import Href

__all__ = ["Form", "Frame", "Need"]


class Need(Enum):
    """What a form needs besides an answer."""

    ENTRIES = "rows that are entries: terms have no texts and no dates of their own"
    ADDRESS = "the whole address of the site, under which its rows can be read elsewhere"


class Frame(Frozen):
    """What surrounds an answer when it is written.

    ``width`` is that of the terminal in columns, None where lines may be of any length. ``feed`` gives the
    rows of an answer as feeds have them; it is there for forms that need entries and an address. ``link``
    gives the link to an address of the site that holds wherever the text will stand. ``lasts`` says that the
    text is kept as a file: it does not tell when it was asked, so that it changes when its rows do. ``place``
    is that of the tables which answered.
    """

    width: int | None = None
    feed: Callable[[Answer], Feed] | None = None
    link: Callable[[Href], Href] = rooted
    lasts: bool = False
    place: str = ""

    def feed_of(self, answer: Answer) -> Feed:
        """Return the rows of an answer as feeds have them; LookupError where nobody says how."""
        if self.feed is None:
            raise LookupError("a feed needs what surrounds its rows")
        return self.feed(answer)

    def link_to(self, row: Row) -> Href:
        """Return the link to a row; empty where it has no address, which must not become the root."""
        address = given_href(str(row.values.get("address") or ""))
        return self.link(address) if address else address


class Form(Frozen):
    """One way to write an answer.

    ``label`` is what people call it, ``ending`` that of its files (empty for what is no file beside a page),
    ``media_type`` that of its content. ``in_pages`` says that the pages of an answer are files of their own;
    else all rows stand in one. ``tells`` says that it has a place for notices.
    """

    name: str
    label: str
    media_type: str
    write: Callable[[Answer, Frame], Iterable[Piece]]
    ending: str = ""
    needs: frozenset[Need] = frozenset()
    in_pages: bool = False
    tells: bool = False

    def text(self, answer: Answer, frame: Frame | None = None) -> str:
        """Return an answer in this form as plain text."""
        return "".join(piece.text for piece in self.write(answer, frame or Frame()))
