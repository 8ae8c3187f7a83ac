"""Feeds: Atom (RFC 4287), RSS and JSON Feed, in files or at addresses."""

from __future__ import annotations

import re
from collections import Counter
from typing import TYPE_CHECKING, Any

from elenchus.sources._blocks import as_block
from elenchus.sources._encoding import decoded
from elenchus.sources._fetching import fetched_content, scan_address
from elenchus.sources._files import FileReader, scan_files
from elenchus.sources._json import Lines, offsets_of, whole_value, without_halves
from elenchus.sources._rows import columns_of, rows_of
from elenchus.sources._simple import Unreadable
from elenchus.values.slugs import slug_of

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence
    from pathlib import Path

    from elenchus.sources._files import FileContent
    from elenchus.sources._spec import Item, Scan, SourceSpec

__all__ = ["SUFFIXES", "reader", "scan"]

SUFFIXES = (".atom", ".rss", ".rdf", ".xml", ".feed.json")
_ITEM = re.compile(r"<(?:[\w-]+:)?(?:entry|item)\b")
_MOST_WORDS = 12  # of a text that stands for a title


def scan(spec: SourceSpec, root: Path, before: Scan | None) -> Scan:
    """Return the feeds of a source."""
    return scan_files(spec, root, SUFFIXES) if spec.paths else scan_address(spec, root, before)


def reader(spec: SourceSpec, root: Path, _units: Sequence[str]) -> _FeedReader:
    """Return what reads them."""
    return _FeedReader(spec, root, _parse)


class _FeedReader(FileReader):
    """What reads feeds, those that were fetched among them."""

    def content(self, unit: str) -> FileContent:
        """Return what a feed holds. Raises OSError."""
        return super().content(unit) if self.spec.paths else fetched_content(self.spec, self.root)


def _parse(spec: SourceSpec, unit: str, content: FileContent) -> Iterator[Item]:
    """Yield the entries of a feed. Raises OSError."""
    data = content.whole()
    try:
        text = decoded(data, spec) if data.lstrip(b"\xef\xbb\xbf \t\r\n").startswith(b"{") else ""
        found = _of_json(text) if text else _of_xml(data)
    except Unreadable as error:
        yield error.problem(unit)
        return
    if not found:
        return
    lines = [line for line, _ in found]
    columns = columns_of([values for _, values in found])
    if "slug" not in spec.columns and not spec.slug:
        columns["slug"] = _slugs(columns)
    yield from rows_of(spec, unit, columns, lines)


def _slugs(columns: dict[str, list[Any]]) -> list[str]:
    """Return a slug for each entry: that of its title, for the second of one title with a number.

    They are counted from the oldest one, so that no later entry changes the slug of an earlier one.
    """
    titles, dates = columns["title"], columns["date"]
    found, met = [""] * len(titles), Counter[str]()
    for at in sorted(range(len(titles)), key=lambda at: (dates[at] or "", -at)):
        slug = slug_of(titles[at] or columns["guid"][at] or "entry")
        met[slug] += 1
        found[at] = slug if met[slug] == 1 else f"{slug}-{met[slug]}"
    return found


def _of_json(text: str) -> list[tuple[int, dict[str, Any]]]:
    """Return the items of a JSON Feed (version 1.1) with their lines. Raises Unreadable."""
    document = whole_value(without_halves(text))
    items = document.get("items") if isinstance(document, dict) else None
    if not isinstance(items, list):
        raise Unreadable("this is no JSON Feed: it has no list of items", 1)
    lines = Lines(text)
    places = [at for _, at in offsets_of(text, [("items", number) for number in range(len(items))])]
    found = zip(map(lines.of, places), items, strict=True)
    return [(line, _from_json(item)) for line, item in found if isinstance(item, dict)]


def _from_json(item: dict[str, Any]) -> dict[str, Any]:
    """Return what an item of a JSON Feed says, as entries have it."""
    authors = item.get("authors") or ([item["author"]] if item.get("author") else [])
    names = [each.get("name") for each in authors if isinstance(each, dict) and each.get("name")]
    html = item.get("content_html")
    return _values(
        {
            "guid": item.get("id"),
            "title": item.get("title") or _begin_of(item.get("content_text") or ""),
            "date": item.get("date_published") or item.get("date_modified"),
            "updated": item.get("date_modified"),
            "summary": item.get("summary"),
            "body": as_block(str(html)) if html else item.get("content_text"),
            "link": item.get("url") or item.get("external_url"),
            "image": item.get("image"),
            "writer": names[0] if names else None,
            "tags": item.get("tags"),
        }
    )


def _of_xml(data: bytes) -> list[tuple[int, dict[str, Any]]]:
    """Return the entries of an Atom or RSS feed with their lines. Raises Unreadable."""
    import feedparser

    if b"<!ENTITY" in data:
        raise Unreadable(
            "the feed declares entities of its own", 1, "Feeds need none, and they can be harmful."
        )
    feed = feedparser.parse(data, sanitize_html=False, resolve_relative_uris=True)
    if not feed.version and not feed.entries:
        wrong = " ".join(str(feed.get("bozo_exception") or "").split())
        raise Unreadable(f"this is neither Atom nor RSS nor JSON Feed{': ' if wrong else ''}{wrong}", 1)
    text = data.decode("utf-8", "replace")
    starts = [match.start() for match in _ITEM.finditer(text)]
    lines = [text.count("\n", 0, at) + 1 for at in starts]
    if len(lines) != len(feed.entries):
        lines = [1] * len(feed.entries)
    return [(line, _from_xml(entry)) for line, entry in zip(lines, feed.entries, strict=True)]


def _from_xml(entry: Any) -> dict[str, Any]:
    """Return what an entry of an Atom or RSS feed says, as entries have it."""
    content = next(iter(entry.get("content") or ()), None)
    html = content.value if content else entry.get("summary") or ""
    summary = entry.get("summary") if content else None
    return _values(
        {
            "guid": entry.get("id"),
            "title": _plain(entry.get("title") or "") or _begin_of(_plain(html)),
            "date": _moment(entry, "published") or _moment(entry, "updated"),
            "updated": _moment(entry, "updated"),
            "summary": _plain(summary) if summary else None,
            "body": as_block(html),
            "link": entry.get("link"),
            "writer": entry.get("author"),
            "tags": [
                tag.get("label") or tag.get("term") for tag in entry.get("tags") or () if tag.get("term")
            ],
        }
    )


def _values(told: dict[str, Any]) -> dict[str, Any]:
    """Return values with nothing for what is empty."""
    return {name: value or None for name, value in told.items()}


def _moment(entry: Any, name: str) -> str | None:
    """Return an instant in UTC, as ISO 8601 has it; what feeds write comes in several standards' forms."""
    parsed = dict.get(entry, f"{name}_parsed")  # the reader's own way warns where it takes one for another
    if parsed is None:
        return dict.get(entry, name)
    return "{:04}-{:02}-{:02}T{:02}:{:02}:{:02}Z".format(*parsed[:6])


def _plain(html: str) -> str:
    """Return the words of HTML."""
    from html import unescape

    return " ".join(unescape(re.sub(r"<[^>]*>", " ", html)).split())


def _begin_of(text: str) -> str:
    """Return the first words of a text, which stand for a title."""
    words = text.split()
    return " ".join(words[:_MOST_WORDS]) + (" …" if len(words) > _MOST_WORDS else "")
