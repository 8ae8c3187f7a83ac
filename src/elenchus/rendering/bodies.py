"""The text of entries: Markdown to HTML that is safe to show, and to plain words for summaries."""

from __future__ import annotations

import re
from functools import cache
from html import escape
from html.parser import HTMLParser
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable

    from markdown_it import MarkdownIt
    from markdown_it.token import Token

    Rewrite = Callable[[str], str]

__all__ = ["LONGEST", "body_html", "excerpt", "is_readable", "words_of"]

LONGEST = 2**20  # characters of a text that is read as Markdown
MOST_OPEN = 1_000  # brackets of a sort that are never closed
PAIRS = (("[", "]"), ("<![CDATA[", "]]>"), ("<?", "?>"), ("<!", ">"))
LOWEST = 6  # the deepest level of headings
LANGUAGE = re.compile(r"language-[\w+-]+")  # the class of a code block
IMAGE_ATTRIBUTES = {"src", "alt", "title", "loading", "width", "height"}
# Elements whose text is no running text.
BESIDES = frozenset(
    {"pre", "table", "figure", "script", "style", "h1", "h2", "h3", "h4", "h5", "h6", "math", "svg"}
)
BLOCKS = frozenset({"p", "li", "blockquote", "div", "br", "ul", "ol", "dl", "dt", "dd", "hr", "section"})


@cache
def reader() -> MarkdownIt:
    """Return the reader of Markdown: CommonMark 0.31 with tables and struck out text."""
    from markdown_it import MarkdownIt

    return MarkdownIt("commonmark").enable(["table", "strikethrough"])


def is_readable(text: str) -> bool:
    """Say whether a text is read as Markdown: neither too long, nor full of brackets that never close.

    Each of those would be looked for to the end of the text: time would grow with the square of its length.
    """
    if len(text) > LONGEST:
        return False
    return all(text.count(begin) - text.count(end) <= MOST_OPEN for begin, end in PAIRS)


def as_written(text: str) -> str:
    """Return a text that is not read as Markdown as HTML: its paragraphs, with all signs as they are."""
    return "".join(f"<p>{escape(part)}</p>\n" for part in text.split("\n\n") if part.strip())


def body_html(text: str, *, trusted: bool = False, level: int = 2, rewrite: Rewrite | None = None) -> str:
    """Return Markdown as HTML: its highest heading at a level, its addresses rewritten, cleaned.

    Unless the text is trusted, all elements and attributes that could run something are taken out.
    """
    if not is_readable(text):
        return as_written(text)
    markdown = reader()
    tokens = markdown.parse(text)
    shift_headings(tokens, level)
    if rewrite:
        rewrite_addresses(tokens, rewrite)
    found: str = markdown.renderer.render(tokens, markdown.options, {})
    return found if trusted else clean(found)


def shift_headings(tokens: Iterable[Token], level: int) -> None:
    """Move all headings down so that the highest is of a level: that of the page stands above them."""
    headings = [token for token in tokens if token.type in ("heading_open", "heading_close")]
    highest = min((int(token.tag[1]) for token in headings), default=level)
    for token in headings:
        token.tag = f"h{min(int(token.tag[1]) + max(level - highest, 0), LOWEST)}"


def rewrite_addresses(tokens: Iterable[Token], rewrite: Rewrite) -> None:
    """Rewrite the addresses of links and images; a link that leads nowhere becomes plain text."""
    for token in tokens:
        for name in ("href", "src"):
            if name in token.attrs:
                found = rewrite(str(token.attrs[name]))
                token.attrs[name] = found
                if not found:
                    del token.attrs[name]
        if token.type == "image":
            token.attrSet("loading", "lazy")
        rewrite_addresses(token.children or (), rewrite)


def clean(html: str) -> str:
    """Return HTML without anything that could run, disguise itself or break out of its place."""
    import nh3

    return nh3.clean(
        html,
        tags=nh3.ALLOWED_TAGS - {"h1"},
        attributes={**nh3.ALLOWED_ATTRIBUTES, "img": IMAGE_ATTRIBUTES, "code": {"class"}},
        attribute_filter=kept_attribute,
        url_schemes={"http", "https", "mailto", "tel"},
        link_rel=None,
    )


def kept_attribute(_element: str, name: str, value: str) -> str | None:
    """Return the value of an attribute, None to take it out."""
    return None if name == "class" and not LANGUAGE.fullmatch(value) else value


class Words(HTMLParser):
    """The running text of HTML: no headings, tables, code blocks, captions."""

    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self.parts: list[str] = []
        self.inside: list[str] = []

    def handle_starttag(self, tag: str, _attrs: Any) -> None:
        """Begin an element."""
        if tag in BESIDES:
            self.inside.append(tag)
        elif tag in BLOCKS:
            self.parts.append(" ")

    def handle_endtag(self, tag: str) -> None:
        """End an element."""
        if self.inside and self.inside[-1] == tag:
            self.inside.pop()
        elif tag in BLOCKS:
            self.parts.append(" ")

    def handle_data(self, data: str) -> None:
        """Take a text."""
        if not self.inside:
            self.parts.append(data)


def words_of(text: str) -> list[str]:
    """Return the words of Markdown, without headings, tables, code blocks and markup."""
    if not is_readable(text):
        return text.split()
    words = Words()
    words.feed(body_html(text))
    words.close()
    return "".join(words.parts).split()


def excerpt(text: str, most: int) -> str:
    """Return the first words of Markdown, an ellipsis where there are more."""
    words = words_of(text)
    if len(words) <= most:
        return " ".join(words)
    return " ".join(words[:most]).rstrip(",;:–—-") + "…"
