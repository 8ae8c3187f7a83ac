"""The text of entries: Markdown to HTML that is safe to show, and to plain words for summaries."""

from __future__ import annotations

import re
from functools import cache
from html.parser import HTMLParser
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable

    from markdown_it import MarkdownIt
    from markdown_it.token import Token

    Rewrite = Callable[[str], str]

__all__ = ["body_html", "excerpt", "words_of"]

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


def body_html(text: str, *, trusted: bool = False, level: int = 2, rewrite: Rewrite | None = None) -> str:
    """Return Markdown as HTML: its highest heading at a level, its addresses rewritten, cleaned.

    Unless the text is trusted, all elements and attributes that could run something are taken out.
    """
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
