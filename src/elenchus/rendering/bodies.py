"""The text of entries: Markdown to HTML that is safe to show, and to plain words for summaries."""

from __future__ import annotations

import re
from collections import Counter
from functools import cache, lru_cache
from html import escape, unescape
from html.parser import HTMLParser
from itertools import pairwise
from threading import Lock
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from elenchus.values.addresses import given_href, origin_of
from elenchus.values.kept import cached_property
from elenchus.values.slugs import slugify

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator, Sequence

    from markdown_it import MarkdownIt
    from markdown_it.rules_inline import StateInline
    from markdown_it.token import Token

    _Rewrite = Callable[[str], str]

__all__ = ["LONGEST", "NAMED", "Body", "body_of", "excerpt", "is_readable"]

LONGEST = 2**20  # characters of a text that is read as Markdown
_MOST_KEPT = 128  # texts that were read last
_MOST_OPEN = 1_000  # brackets of a sort that are never closed
_PAIRS = (("[", "]"), ("<![CDATA[", "]]>"), ("<?", "?>"), ("<!", ">"))
_LOWEST = 6  # the deepest level of headings
# An image in HTML that was cleaned: all values stand in double quotes.
_IMAGE = re.compile(r'<img(?:\s+[\w-]+(?:="[^"]*")?)*\s*/?>')
_SOURCE = re.compile(r'\ssrc="([^"]*)"')
_WORDS = re.compile(r'\salt="([^"]*)"')
_LANGUAGE = re.compile(r"language-[\w+-]+")  # the class of a code block
_NAMES = "names"  # in what the reader is told of a text
NAMED = "name:"  # with which the address of a link by name begins
_HAS_ADDRESS = re.compile(r"\s(?:href|src)\s*=", re.IGNORECASE)
_ADDRESS = re.compile(
    r"""(<(?:a|img|source|area)\b[^<>]*?\s)(href|src)\s*=\s*(["'])([^"'<>]*)\3""", re.IGNORECASE
)
# What links lead to: not what the script of forms looks for, nor what begins as the ids of pages do.
_ID = re.compile(r"(?!elen)(?!.*-(?:keys|rest|title)\Z)[^\W\d_][\w.:-]{0,199}")
_OWN_IDS = frozenset({"content", "main"})
_IMAGE_ATTRIBUTES = {"src", "alt", "title", "loading", "width", "height"}
# Elements whose text is no running text.
_BESIDES = frozenset(
    {"pre", "table", "figure", "script", "style", "h1", "h2", "h3", "h4", "h5", "h6", "math", "svg"}
)
_BLOCKS = frozenset({"p", "li", "blockquote", "div", "br", "ul", "ol", "dl", "dt", "dd", "hr", "section"})


@cache
def _reader() -> MarkdownIt:
    """Return the reader of Markdown: CommonMark 0.31 with tables and struck out text."""
    from markdown_it import MarkdownIt

    found = MarkdownIt("commonmark").enable(["table", "strikethrough"])
    found.inline.ruler.before("link", "names", _name_in_brackets)
    return found


def _name_in_brackets(state: StateInline, silent: bool) -> bool:  # noqa: FBT001 - as the reader calls it
    """Read ``[[Name]]`` and ``[[Name|words]]`` as a link to what has the name, if the text has such links."""
    if not state.env.get(_NAMES) or not state.src.startswith("[[", state.pos):
        return False
    end = state.src.find("]]", state.pos + 2, state.posMax)
    inner = state.src[state.pos + 2 : end] if end > 0 else ""
    name, _, words = inner.partition("|")
    if not name.strip() or "\n" in inner or "[" in inner:
        return False
    if not silent:
        opened = state.push("link_open", "a", 1)
        opened.attrSet("href", NAMED + quote(name.strip()))
        state.push("text", "", 0).content = (words or name).strip()
        state.push("link_close", "a", -1)
    state.pos = end + 2
    return True


def is_readable(text: str) -> bool:
    """Say whether a text is read as Markdown: neither too long, nor full of brackets that never close.

    Each of those would be looked for to the end of the text: time would grow with the square of its length.
    """
    if len(text) > LONGEST:
        return False
    return all(text.count(begin) - text.count(end) <= _MOST_OPEN for begin, end in _PAIRS)


def _as_written(text: str) -> str:
    """Return a text that is not read as Markdown as HTML: its paragraphs, with all signs as they are."""
    return "".join(f"<p>{escape(part)}</p>\n" for part in text.split("\n\n") if part.strip())


class Body:
    """The text of an entry, read once: its words, and its HTML with addresses and headings as wanted."""

    def __init__(self, text: str, *, names: bool = False) -> None:
        self.text = text
        self.lock = Lock()  # its tokens are written anew for each page, and several threads may draw it
        self.is_read = is_readable(text)
        self.tokens = _reader().parse(text, {_NAMES: names}) if self.is_read else []
        every = list(_walked(self.tokens))
        self.headings = [
            (token, int(token.tag[1])) for token in every if token.type in ("heading_open", "heading_close")
        ]
        self.addresses = [
            (token, name, str(token.attrs[name]))
            for token in every
            for name in ("href", "src")
            if name in token.attrs
        ]
        html = (token.content for token in every if token.type in ("html_block", "html_inline"))
        self.has_html = any(map(_HAS_ADDRESS.search, html))
        for token in every:
            if token.type == "image":
                token.attrSet("loading", "lazy")
        _name_headings(self.tokens)

    @cached_property
    def words(self) -> list[str]:
        """The words of its running text, without headings, tables, code blocks and markup."""
        if not self.is_read:
            return self.text.split()
        words = _Words()
        words.take(self.tokens)
        return "".join(words.parts).split()

    def html(
        self,
        *,
        trusted: bool = False,
        level: int = 2,
        rewrite: _Rewrite | None = None,
        only: str | None = None,
    ) -> str:
        """Return it as HTML: its highest heading at a level, its addresses rewritten, cleaned.

        Unless the text is trusted, all elements and attributes that could run something are taken out, and
        pictures of other origins than that of ``only``, a whole address, are the words that stand for them.
        """
        if not self.is_read:
            return _as_written(self.text)
        with self.lock:
            self.settle(level, rewrite)
            markdown = _reader()
            written: str = markdown.renderer.render(self.tokens, markdown.options, {})
        if self.has_html and rewrite:
            written = _ADDRESS.sub(lambda found: _rewritten(found, rewrite), written)
        if trusted:
            return written
        cleaned = _clean(written)
        return cleaned if only is None else _IMAGE.sub(lambda found: _of_own(found[0], only), cleaned)

    @property
    def loaded(self) -> Iterator[str]:
        """The addresses of pictures, which a page that shows it loads."""
        for token in _walked(self.tokens):
            if token.type == "image":
                yield given_href(str(token.attrs.get("src", "")))
            elif token.type in ("html_block", "html_inline"):
                cleaned = _clean(token.content) if "<" in token.content else ""
                yield from (unescape(_source_in(image)) for image in _IMAGE.findall(cleaned))

    def settle(self, level: int, rewrite: _Rewrite | None) -> None:
        """Write the levels of headings and the addresses into the tokens."""
        highest = min((depth for _, depth in self.headings), default=level)
        for token, depth in self.headings:  # that of the page stands above them
            token.tag = f"h{min(depth + max(level - highest, 0), _LOWEST)}"
        for token, name, address in self.addresses:
            found = rewrite(address) if rewrite else address
            if found:
                token.attrs[name] = found
            else:  # a link that leads nowhere becomes plain text
                token.attrs.pop(name, None)


@lru_cache(maxsize=_MOST_KEPT)
def body_of(text: str, *, names: bool = False) -> Body:
    """Return a text as it was read last, if that is not long ago: pages, feeds and summaries share it.

    If it has links by ``names``, these stand in double brackets.
    """
    return Body(text, names=names)


def _name_headings(tokens: Sequence[Token]) -> None:
    """Give headings ids by their words, so that links lead to them: the second of a name gets a number."""
    met: Counter[str] = Counter()
    for token, inline in pairwise(tokens):
        if token.type == "heading_open" and inline.type == "inline":
            texts = (each for each in inline.children or () if each.type in ("text", "code_inline"))
            words = "".join(each.content for each in texts)
            if name := slugify(words).strip("."):
                met[name] += 1
                token.attrSet("id", name if met[name] == 1 else f"{name}-{met[name]}")


def _rewritten(found: re.Match[str], rewrite: _Rewrite) -> str:
    """Return an attribute of an element with its address rewritten; nothing if that leads nowhere."""
    before, name, sign, address = found.groups()
    new = rewrite(unescape(address))
    return f"{before}{name}={sign}{escape(new)}{sign}" if new else before.rstrip()


def _walked(tokens: Iterable[Token]) -> Iterator[Token]:
    """Yield tokens, each before those inside it."""
    for token in tokens:
        yield token
        yield from _walked(token.children or ())


def _clean(html: str) -> str:
    """Return HTML without anything that could run, disguise itself or break out of its place."""
    import nh3

    return nh3.clean(
        html,
        tags=nh3.ALLOWED_TAGS - {"h1"},
        attributes={
            **nh3.ALLOWED_ATTRIBUTES,
            "img": _IMAGE_ATTRIBUTES,
            "code": {"class"},
            "*": {*nh3.ALLOWED_ATTRIBUTES.get("*", set()), "id"},
        },
        attribute_filter=_kept_attribute,
        url_schemes={"http", "https", "mailto", "tel"},
        link_rel=None,
    )


def _source_in(image: str) -> str:
    """Return the address in an element of cleaned HTML, as it is written."""
    found = _SOURCE.search(image)
    return found[1] if found else ""


def _of_own(image: str, own: str) -> str:
    """Return an element that shows a picture of one's own; of another, the words that stand for it."""
    address = unescape(_source_in(image))
    if not origin_of(address, own):
        return image
    words = _WORDS.search(image)
    return f'<span class="elen-left-out">{(words[1] if words else "") or escape(address)}</span>'


def _kept_attribute(_element: str, name: str, value: str) -> str | None:
    """Return the value of an attribute, None to take it out."""
    if name == "id":  # links lead to it; those of the page itself begin otherwise
        return value if _ID.fullmatch(value) and value not in _OWN_IDS else None
    return None if name == "class" and not _LANGUAGE.fullmatch(value) else value


class _Words(HTMLParser):
    """The running text of tokens of Markdown, and of the HTML in it: no headings, tables, code, captions."""

    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self.parts: list[str] = []
        self.inside: list[str] = []

    def take(self, tokens: Iterable[Token]) -> None:
        """Take the text of tokens; what stands in HTML is read as such, without what would never be shown."""
        for token in tokens:
            if token.type == "inline":
                self.take(token.children or ())
            elif token.type in ("html_block", "html_inline"):
                self.feed(token.content)
                self.close()  # nothing waits for what comes after it
            elif token.type in ("text", "code_inline"):
                self.handle_data(token.content)
            elif token.type in ("softbreak", "hardbreak"):
                self.handle_data(" ")
            elif token.nesting > 0:
                self.handle_starttag(token.tag, [])
            elif token.nesting < 0:
                self.handle_endtag(token.tag)

    def handle_starttag(self, tag: str, _attrs: Any) -> None:
        """Begin an element."""
        if tag in _BESIDES:
            self.inside.append(tag)
        elif tag in _BLOCKS:
            self.parts.append(" ")

    def handle_endtag(self, tag: str) -> None:
        """End an element."""
        if self.inside and self.inside[-1] == tag:
            self.inside.pop()
        elif tag in _BLOCKS:
            self.parts.append(" ")

    def handle_data(self, data: str) -> None:
        """Take a text."""
        if not self.inside:
            self.parts.append(data)


def excerpt(text: str, most: int, *, names: bool = False) -> str:
    """Return the first words of Markdown, an ellipsis where there are more; see :func:`body_of`."""
    words = body_of(text, names=names).words
    if len(words) <= most:
        return " ".join(words)
    return " ".join(words[:most]).rstrip(",;:–—-") + "…"
