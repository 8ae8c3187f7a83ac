"""Values as pages show them: texts, times, links, images, each escaped and with its markup."""

from __future__ import annotations

from typing import TYPE_CHECKING

from markupsafe import Markup, escape

from elenchus.frozen import Frozen
from elenchus.values.addresses import NOWHERE, Href

if TYPE_CHECKING:
    from collections.abc import Iterator

__all__ = ["NOTHING", "Image", "Item", "Presented", "Value"]


class Presented(Frozen):
    """The base of what templates are given: written out, it is what people read, and no more."""

    def __str__(self) -> str:
        return ""

    def __repr__(self) -> str:
        return str(self)


class Item(Presented):
    """One value: its text, where it leads, or the machine-readable time that it is.

    ``time`` is a valid date or instant of HTML's ``<time datetime>``. A ``mark`` stands behind the text: the
    preview tells with it what nobody else is shown.
    """

    text: str
    href: Href = NOWHERE
    time: str = ""
    mark: str = ""

    def __str__(self) -> str:
        return self.text

    def __html__(self) -> str:
        text = escape(self.text)
        if self.time:
            return Markup(f'<time datetime="{escape(self.time)}">{text}</time>')  # noqa: S704 - escaped
        if self.href:
            text = Markup(f'<a href="{escape(self.href)}">{text}</a>')  # noqa: S704 - escaped
        return text + Markup(' <span class="elen-mark">{}</span>').format(self.mark) if self.mark else text


class Image(Presented):
    """A picture: its address and the text for those who cannot see it, empty where it only decorates."""

    src: Href
    alt: str = ""

    @property
    def text(self) -> str:
        """The address."""
        return self.src

    def __str__(self) -> str:
        return self.src

    def __html__(self) -> str:
        return Markup('<img src="{}" alt="{}" loading="lazy" decoding="async">').format(self.src, self.alt)


class Value(Presented):
    """What a row has in a field: no, one or several items; false where there is none.

    ``is_number`` lets tables put numbers under each other.
    """

    items: tuple[Item | Image, ...] = ()
    is_number: bool = False

    def __bool__(self) -> bool:
        return bool(self.items)

    def __iter__(self) -> Iterator[Item | Image]:
        return iter(self.items)

    def __str__(self) -> str:
        return ", ".join(map(str, self.items))

    def __html__(self) -> str:
        return Markup(", ").join(self.items) if self.items else ""

    @property
    def first(self) -> Item | Image | None:
        """The first item."""
        return self.items[0] if self.items else None

    @property
    def time(self) -> str:
        """The machine-readable time of the first item."""
        first = self.first
        return first.time if isinstance(first, Item) else ""


NOTHING = Value()
