"""Writing XML: names, attributes and texts, each escaped, without characters that XML has not."""

from __future__ import annotations

import io
import re
from contextlib import contextmanager
from typing import TYPE_CHECKING
from xml.sax.saxutils import XMLGenerator
from xml.sax.xmlreader import AttributesImpl

if TYPE_CHECKING:
    from collections.abc import Iterator

__all__ = ["XmlWriter"]

# All but the characters of XML 1.0, section 2.2.
UNKNOWN = re.compile("[^\t\n\r\u0020-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


class XmlWriter:
    """An XML document as it is written, in UTF-8, an element a line."""

    def __init__(self) -> None:
        self.stream = io.StringIO()
        self.out = XMLGenerator(self.stream, "utf-8", short_empty_elements=True)
        self.stream.write('<?xml version="1.0" encoding="utf-8"?>\n')

    @contextmanager
    def element(self, name: str, **attributes: str) -> Iterator[None]:
        """Write an element around what is written meanwhile."""
        self.out.startElement(name, named(attributes))
        self.out.characters("\n")
        yield
        self.out.endElement(name)
        self.out.characters("\n")

    def leaf(self, name: str, text: str = "", **attributes: str) -> None:
        """Write an element with a text."""
        self.out.startElement(name, named(attributes))
        if text:
            self.out.characters(UNKNOWN.sub("", text))
        self.out.endElement(name)
        self.out.characters("\n")

    def text(self) -> str:
        """Return the document."""
        self.out.endDocument()
        return self.stream.getvalue()


def named(attributes: dict[str, str]) -> AttributesImpl:
    """Return attributes by their names in XML: ``xml_lang`` is ``xml:lang``."""
    return AttributesImpl(
        {name.replace("_", ":"): UNKNOWN.sub("", text) for name, text in attributes.items() if text}
    )
