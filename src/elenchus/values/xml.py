"""Writing XML: names, attributes and texts, each escaped, without characters that XML has not."""

from __future__ import annotations

from contextlib import contextmanager
from html import escape
from typing import TYPE_CHECKING

from elenchus.values.lazily import pattern

if TYPE_CHECKING:
    from collections.abc import Iterator

__all__ = ["XmlWriter"]

# What is no character of XML 1.0, section 2.2.
_UNKNOWN = pattern("[\x00-\x08\x0b\x0c\x0e-\x1f\ud800-\udfff\ufffe\uffff]")


class XmlWriter:
    """An XML document as it is written, an element a line."""

    def __init__(self) -> None:
        self.parts = ['<?xml version="1.0" encoding="utf-8"?>\n']

    @contextmanager
    def element(self, name: str, **attributes: str) -> Iterator[None]:
        """Write an element around what is written meanwhile."""
        self.parts.append(f"<{name}{_named(attributes)}>\n")
        yield
        self.parts.append(f"</{name}>\n")

    def leaf(self, name: str, text: str = "", **attributes: str) -> None:
        """Write an element with a text."""
        end = f">{_escaped(text)}</{name}>" if text else "/>"
        self.parts.append(f"<{name}{_named(attributes)}{end}\n")

    def record(self, name: str, **texts: str) -> None:
        """Write an element of nothing but elements with texts, those that have one."""
        inner = "".join(f"<{each}>{_escaped(text)}</{each}>\n" for each, text in texts.items() if text)
        self.parts.append(f"<{name}>\n{inner}</{name}>\n")

    def text(self) -> str:
        """Return the document."""
        return "".join(self.parts)


def _escaped(text: str, *, quote: bool = False) -> str:
    """Return a text as XML has it, in an attribute with its quotes escaped too."""
    return escape(_UNKNOWN.sub("", text), quote=quote)


def _named(attributes: dict[str, str]) -> str:
    """Return attributes as they are written, by their names in XML: ``xml_lang`` is ``xml:lang``."""
    return "".join(
        f' {name.replace("_", ":")}="{_escaped(text, quote=True)}"'
        for name, text in attributes.items()
        if text
    )
