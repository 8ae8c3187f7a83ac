"""Feeds: one file a form, found by scanning this folder.

A form's module has a function ``write(feed)`` that returns its bytes; its name is the word in ``beside``.
"""

from __future__ import annotations

import pkgutil
from importlib import import_module
from typing import TYPE_CHECKING, Protocol, cast

if TYPE_CHECKING:
    from elenchus.feeds.feed import Feed

__all__ = ["FeedForm", "feed_form", "names"]


class FeedForm(Protocol):
    """What the module of a form offers."""

    def write(self, feed: Feed) -> bytes:
        """Return a feed as a file."""


def names() -> list[str]:
    """Return the names of all forms."""
    return sorted(each.name for each in pkgutil.iter_modules(__path__) if each.name not in ("feed", "xml"))


def feed_form(name: str) -> FeedForm:
    """Return a form by its name; KeyError when there is none."""
    if name not in names():
        raise KeyError(name)
    return cast("FeedForm", import_module(f"{__name__}.{name}"))
