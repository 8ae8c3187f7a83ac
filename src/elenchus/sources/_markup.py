"""HTML as content: what its head says, its heading, and its body as a block that Markdown leaves alone."""

from __future__ import annotations

import re
from html.parser import HTMLParser
from typing import TYPE_CHECKING

from elenchus.schema.record import Raw
from elenchus.sources._blocks import as_block

if TYPE_CHECKING:
    from typing import Any

__all__ = ["Document"]

_MOST_METAS = 10_000
# Elements that are no text of the page; and those that are none outside its main part.
_NEVER = frozenset({"nav", "script", "style", "noscript", "template"})
_AROUND = frozenset({"header", "footer", "aside"})
_DATES = {
    "article:published_time": "date",
    "dc.date": "date",
    "dcterms.date": "date",
    "article:modified_time": "updated",
}
# What the head of a page says to browsers and to those that search.
_OF_BROWSERS = frozenset({"viewport", "robots", "generator", "theme-color", "referrer", "format-detection"})


class Document(HTMLParser):
    """A document that is read once: ``values`` are those of its head, ``title`` and ``heading`` its names."""

    def __init__(self, text: str) -> None:
        super().__init__(convert_charrefs=True)
        self.text = text
        self.starts = [0, *(match.end() for match in re.finditer("\n", text))]
        self.values: dict[str, Raw] = {}
        self.title = self.heading = ""
        self.open = self.day = ""
        self.beside: list[str] = []  # elements beside the text that are open
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
        if tag == "meta":
            self.meta({name: value or "" for name, value in attrs})
        elif tag == "title" and not self.title:
            self.open = tag
        elif tag == "h1" and not self.heading:
            self.open, self.at = tag, self.place
        elif tag == "time" and not self.day:
            self.day = next((value or "" for name, value in attrs if name == "datetime"), "")
        elif tag in _NEVER or (tag in _AROUND and not self.is_inside):
            self.beside.append(tag)
            if len(self.beside) == 1:
                self.left_out.append([self.place, len(self.text)])
        elif tag in ("body", "main", "article"):
            begins = self.place + len(self.get_starttag_text() or "")
            self.spans.setdefault(tag, [begins, len(self.text)])

    def handle_endtag(self, tag: str) -> None:
        """Note what ends."""
        if tag == self.open:
            if tag == "h1":
                self.heading = " ".join(self.heading.split())
                self.heading_span = (self.at, self.place + len("</h1>"))
            else:
                self.title = " ".join(self.title.split())
            self.open = ""
        elif tag in self.beside:
            while self.beside.pop() != tag:  # others were never closed
                pass
            if not self.beside:
                self.left_out[-1][1] = self.place + len(f"</{tag}>")
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
