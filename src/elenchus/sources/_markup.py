"""HTML as content: what its head says, its heading, and its body as a block that Markdown leaves alone."""

from __future__ import annotations

import re
from hashlib import blake2b
from html.parser import HTMLParser
from typing import TYPE_CHECKING, NamedTuple

from elenchus.schema.record import Raw
from elenchus.sources._blocks import as_block

if TYPE_CHECKING:
    from collections.abc import Sequence
    from typing import Any

__all__ = ["Document", "Element", "elements"]

_MOST_METAS = 10_000
# Elements that are no text of the page; and those that are none outside its main part.
_NEVER = frozenset({"nav", "script", "style", "noscript", "template"})
_AROUND = frozenset({"header", "footer", "aside"})
_BESIDE = _AROUND | {"nav"}
# Elements that roles stand for (ARIA in HTML, section 4).
_OF_ROLES = {
    "navigation": "nav",
    "search": "nav",
    "banner": "header",
    "contentinfo": "footer",
    "complementary": "aside",
}
_VOID = frozenset(
    ["area", "base", "br", "col", "embed", "hr", "img", "input", "link", "meta", "source", "track", "wbr"]
)
_UNOPENED = _VOID | {"html", "head", "body"}
_UNSEEN = frozenset({"script", "style", "title", "template", "noscript"})
# Elements that end a paragraph which was not ended (HTML standard, section 13.1.2.4).
_END_PARAGRAPHS = frozenset({
    "address", "article", "aside", "blockquote", "div", "dl", "fieldset", "footer", "form", "h1", "h2", "h3",
    "h4", "h5", "h6", "header", "hr", "main", "nav", "ol", "p", "pre", "section", "table", "ul",
})  # fmt: skip
_DATES = {
    "article:published_time": "date",
    "dc.date": "date",
    "dcterms.date": "date",
    "article:modified_time": "updated",
}
# What the head of a page says to browsers and to those that search.
_OF_BROWSERS = frozenset({"viewport", "robots", "generator", "theme-color", "referrer", "format-detection"})


def _meant(tag: str, attrs: Sequence[tuple[str, str | None]]) -> str:
    """Return the element that one is by its role, else the one that it is."""
    roles = (_OF_ROLES.get((value or "").strip().lower()) for name, value in attrs if name == "role")
    return next(filter(None, roles), tag)


class _Outline(HTMLParser):
    """A document with the elements that are open where its reader stands."""

    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self.inside: list[str] = []

    def begin(self, tag: str, attrs: Sequence[tuple[str, str | None]]) -> list[str]:
        """Note that an element begins, and return its names as ``omit`` has them: ``#menu``, ``.box``.

        One without an id or class that stands right in the body is called ``body > ul``.
        """
        if tag in _END_PARAGRAPHS and self.inside and self.inside[-1] == "p":
            self.inside.pop()
        found = []
        for name, value in attrs:
            if name == "id" and value:
                found.append(f"#{value.strip()}")
            elif name == "class" and value:
                found += [f".{each}" for each in value.split()]
        names = found or ([] if self.inside else [f"body > {tag}"])
        if tag not in _UNOPENED:
            self.inside.append(tag)
        return names

    def end(self, tag: str) -> int:
        """Note that an element ends, with all in it that were never closed; return how many are open then."""
        if tag in self.inside:
            while self.inside.pop() != tag:
                pass
        return len(self.inside)


class Document(_Outline):
    """A document that is read once: ``values`` are those of its head, ``title`` and ``heading`` its names.

    Elements with one of the names ``without`` are no part of its body.
    """

    def __init__(self, text: str, without: Sequence[str] = ()) -> None:
        super().__init__()
        self.text = text
        self.without = frozenset(without)
        self.starts = [0, *(match.end() for match in re.finditer("\n", text))]
        self.values: dict[str, Raw] = {}
        self.title = self.heading = ""
        self.open = self.day = ""
        self.beside = -1  # how many elements are open around the one beside the text that is read
        self.left_out: list[list[int]] = []
        self.spans: dict[str, list[int]] = {}
        self.at = 0
        self.heading_span = (0, 0)
        self.feed(text)
        self.close()

    @property
    def place(self) -> int:
        """Where the parser stands."""
        line, column = self.getpos()
        return self.starts[line - 1] + column

    @property
    def is_inside(self) -> bool:
        """Say whether the parser stands in the main part of the page, or in an article."""
        length = len(self.text)
        return any(self.spans.get(tag, (0, 0))[1] == length for tag in ("main", "article"))

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        """Note what begins."""
        names = self.begin(tag, attrs)
        around = len(self.inside) - (tag not in _UNOPENED)
        if self.beside >= around:  # a paragraph that was not ended
            self.left_out[-1][1] = self.place
            self.beside = -1
        if self.beside < 0 and (not self.without.isdisjoint(names) or self.is_beside(_meant(tag, attrs))):
            ends = self.place + len(self.get_starttag_text() or "") if tag in _UNOPENED else len(self.text)
            self.left_out.append([self.place, ends])
            self.beside = -1 if tag in _UNOPENED else around
        if tag == "meta":
            self.meta({name: value or "" for name, value in attrs})
        elif tag == "title" and not self.title:
            self.open = tag
        elif tag == "h1" and not self.heading:
            self.open, self.at = tag, self.place
        elif tag == "time" and not self.day:
            self.day = next((value or "" for name, value in attrs if name == "datetime"), "")
        elif tag in ("body", "main", "article"):
            begins = self.place + len(self.get_starttag_text() or "")
            self.spans.setdefault(tag, [begins, len(self.text)])

    def is_beside(self, tag: str) -> bool:
        """Say whether an element is no text of the page: by itself, or outside its main part."""
        return tag in _NEVER or (tag in _AROUND and not self.is_inside)

    def handle_endtag(self, tag: str) -> None:
        """Note what ends."""
        if self.end(tag) <= self.beside:
            self.left_out[-1][1] = self.place + len(f"</{tag}>")
            self.beside = -1
        if tag == self.open:
            if tag == "h1":
                self.heading = " ".join(self.heading.split())
                self.heading_span = (self.at, self.place + len("</h1>"))
            else:
                self.title = " ".join(self.title.split())
            self.open = ""
        elif tag in self.spans and self.spans[tag][1] == len(self.text):
            self.spans[tag][1] = self.place

    def handle_data(self, data: str) -> None:
        """Take the text of a title or heading."""
        if self.open == "title":
            self.title += data
        elif self.open == "h1":
            self.heading += data

    def meta(self, told: dict[str, str]) -> None:
        """Take what one element of the head says; several of one name are a list."""
        name, value = (told.get("name") or told.get("property", "")).strip(), told.get("content", "").strip()
        name = _DATES.get(name.lower(), name)
        if ":" in name or name.lower() in _OF_BROWSERS:
            return
        if not name or len(self.values) >= _MOST_METAS:
            return
        name = "summary" if name.lower() == "description" and "summary" not in self.values else name
        before = self.values.get(name)
        line = self.getpos()[0]
        if before is None:
            self.values[name] = Raw(value, line)
        else:
            listed: list[Any] = before.value if isinstance(before.value, list) else [before.value]
            self.values[name] = Raw([*listed, value], before.line)

    def body(self, *, without_heading: bool) -> Raw:
        """Return what stands in the document, and its line: the main part, an article, or all of it."""
        begin, end = next(
            (self.spans[name] for name in ("main", "article", "body") if name in self.spans),
            (0, len(self.text)),
        )
        first, last = self.heading_span
        gone = [(start, stop) for start, stop in self.left_out if begin <= start < stop <= end]
        if without_heading and begin <= first < last <= end:
            gone.append((first, last))
        html, at = "", begin
        for start, stop in sorted(gone):
            if start >= at:
                html, at = html + self.text[at:start], stop
        html += self.text[at:end]
        return Raw(as_block(html), self.text.count("\n", 0, begin) + 1)


class Element(NamedTuple):
    """An element of a body that has names, and the place of the one around it, or -1.

    ``words`` is the digest of its words, ``size`` how many there are.
    """

    names: tuple[str, ...]
    around: int
    words: bytes = b""
    size: int = 0


class _Elements(_Outline):
    """The elements of a body, in their order."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.found: list[Element] = []
        self.words: list[str] = []
        self.open: list[tuple[int, int, int]] = []  # how many are around it, its place and first word
        self.feed(text)
        self.close()
        self.close_to(-1)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        """Note an element that has names."""
        names = self.begin(tag, attrs)
        depth = len(self.inside) - (tag not in _UNOPENED)
        self.close_to(depth - 1)
        if names and tag not in _UNOPENED and self.is_text(_meant(tag, attrs)):
            around = self.open[-1][1] if self.open else -1
            self.open.append((depth, len(self.found), len(self.words)))
            self.found.append(Element(tuple(names), around))

    def handle_endtag(self, tag: str) -> None:
        """Note what ends."""
        self.close_to(self.end(tag) - 1)

    def is_text(self, tag: str) -> bool:
        """Say whether what begins is not left out anyway."""
        left_out = _UNSEEN | _BESIDE
        return tag not in _BESIDE and left_out.isdisjoint(self.inside)

    def handle_data(self, data: str) -> None:
        """Take the words of the text."""
        if not _UNSEEN.intersection(self.inside):
            self.words += data.split()

    def close_to(self, depth: int) -> None:
        """Give the elements that stand deeper their words."""
        while self.open and self.open[-1][0] > depth:
            _, at, first = self.open.pop()
            words = self.words[first:]
            digest = blake2b(" ".join(words).encode("utf-8", "surrogatepass"), digest_size=16).digest()
            self.found[at] = self.found[at]._replace(words=digest, size=len(words))


def elements(text: str) -> Sequence[Element]:
    """Return the elements of a document that have an id or a class, or stand right in its body."""
    return _Elements(text).found
