"""Weaving: the markers of files filled, every other byte kept."""

from __future__ import annotations

import re
from pathlib import Path
from typing import TYPE_CHECKING

from elenchus.errors import ElenchusError, FolderError, MarkerError, Place, Problem
from elenchus.files import is_file, read_whole, scanned, unreadable, write_whole, written_or_told
from elenchus.forms import form
from elenchus.forms.markdown import escaped, linked
from elenchus.frozen import Frozen, replace
from elenchus.publishing.markers import markers_in
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator

    from elenchus.asking.query import Query
    from elenchus.publishing.markers import Marker
    from elenchus.rendering.renderer import Renderer
    from elenchus.rendering.views import SectionView

__all__ = ["Woven", "encoding_of", "files_of", "weave", "woven", "write"]

_MARKDOWN = (".md", ".markdown", ".mdown")
SUFFIXES = (".html", ".htm", ".xhtml", ".svg", *_MARKDOWN)
_DECLARED = re.compile(rb"""(?:charset|encoding)\s*=\s*["']?\s*([\w.:-]+)""", re.IGNORECASE)
_HEAD = 1024  # bytes in which an encoding is declared (the HTML Standard, “encoding sniffing algorithm”)
_LEVEL = 3  # of the headings of rows, unless a marker says otherwise


class Woven(Frozen):
    """A file as it was, and as it is with its markers filled."""

    path: Path
    old: bytes
    new: bytes
    markers: int

    @property
    def changes(self) -> bool:
        """Say whether anything in it changes."""
        return self.old != self.new


def files_of(names: Iterable[str]) -> list[Path]:
    """Return the files of some names: those of folders are pages and Markdown, without hidden ones.

    Raises FolderError for a name that there is not.
    """
    found: list[Path] = []
    for name in names:
        path = Path(name)
        if path.is_dir():
            found += sorted(_below(path))
        elif is_file(path):
            found.append(path)
        else:
            hint = "Name files or folders as they are seen from here."
            raise FolderError([Problem("unreadable-file", "there is no such file", hint, place=Place(name))])
    return list(dict.fromkeys(found))


def _below(folder: Path) -> Iterator[Path]:
    """Yield the pages and Markdown files of a folder; links are not followed."""
    found = scanned(folder, SUFFIXES)
    for met in found.others:
        if met.error:
            raise FolderError([unreadable(str(folder / met.path), met.error, what="folder")])
    yield from (folder / name for name in found.paths)


def woven(renderer: Renderer, paths: Iterable[Path]) -> list[Woven]:
    """Return files with their markers filled. Raises MarkerError with all that is wrong in any of them."""
    found: list[Woven] = []
    problems: list[Problem] = []
    for path in paths:
        try:
            found.append(weave(renderer, path))
        except MarkerError as error:
            problems += error.problems
    if problems:
        raise MarkerError(problems)
    return found


def weave(renderer: Renderer, path: Path) -> Woven:
    """Return one file with its markers filled. Raises MarkerError."""
    try:
        content = read_whole(path)
    except OSError as error:
        raise MarkerError([unreadable(str(path), error)]) from None
    encoding = encoding_of(content)
    text = content.decode(encoding)
    markdown = path.suffix.lower() in _MARKDOWN
    markers, problems = markers_in(text, str(path), markdown=markdown)
    parts, at = [], 0
    for marker in markers:
        try:
            filled = _filling(renderer, marker, text, markdown=markdown)
        except ElenchusError as error:
            problems += [
                replace(each, place=each.place or marker.place, span=None) for each in error.problems
            ]
            continue
        parts += [text[at : marker.inner.start], filled]
        at = marker.inner.end
    if problems:
        raise MarkerError(sorted(problems, key=lambda each: each.place.line if each.place else 0))
    parts.append(text[at:])
    encoded = [
        part.encode(encoding, "xmlcharrefreplace" if number % 2 else "strict")
        for number, part in enumerate(parts)
    ]
    return Woven(path, content, b"".join(encoded), len(markers))


def encoding_of(content: bytes) -> str:
    """Return an encoding that gives back the same bytes: as marked, as declared, UTF-8, or byte by byte."""
    marked = {b"\xff\xfe": "utf-16-le", b"\xfe\xff": "utf-16-be"}
    declared = _DECLARED.search(content[:_HEAD])
    names: list[str] = [marked.get(content[:2], ""), "utf-8", declared[1].decode("ascii") if declared else ""]
    if declared and not content.startswith(b"\xef\xbb\xbf"):
        names = [names[0], names[2], names[1]]
    for name in filter(None, names):
        try:
            if content.decode(name).encode(name) == content:
                return name
        except (LookupError, UnicodeError):
            continue
    return "latin-1"


def _filling(renderer: Renderer, marker: Marker, text: str, *, markdown: bool) -> str:
    """Return what is to stand between a pair of markers, with the line ends and the indent of the file."""
    query = renderer.query(marker.ask, marker.given)
    view, listing = renderer.shown(query), query.listing
    if marker.is_number:
        return str(view.total)
    if marker.is_measure:
        if not view.measures:
            hint = "Write measure sum of FIELD into its question; number gives how many rows it has."
            message = f"{quoted(marker.ask)} has no measure"
            raise MarkerError([Problem("no-measure", message, hint)])
        return view.measures[0].__html__()
    if not (view.rows or view.groups) and listing.setting("if_empty") == "fail":
        message = f"the listing {listing.name} has no rows, and says if_empty = fail"
        raise MarkerError([Problem("forbidden-empty", message)])
    if markdown and not marker.layout:
        lines = ["", *_markdown_lines(renderer, view, query), ""]
    else:
        level = (marker.level or _LEVEL) - 1
        drawn = str(replace(view, id="", layout=marker.layout or view.layout, level=level))
        lines = [line for line in drawn.splitlines() if line.strip()]
    return _in_place(lines, text, marker)


def _markdown_lines(renderer: Renderer, view: SectionView, query: Query) -> list[str]:
    """Return a listing as lines of Markdown: what can be chosen, an archive, or its rows."""
    if view.choices:
        return [f"- {linked(escaped(each.text), each.href)}" for each in view.choices]
    if view.is_archive and not view.measures:
        return [f"- {linked(escaped(each.label), each.href)} ({each.count})" for each in view.groups or ()]
    return _as_markdown(renderer, query)


def _as_markdown(renderer: Renderer, query: Query) -> list[str]:
    """Return an answer as lines of Markdown, whose links lead where those of pages lead."""
    answer = query.answer()
    rows = tuple(
        replace(row, values={**row.values, "address": renderer.desk.address(answer.subject, row.id)})
        for row in answer.rows
    )
    return form("markdown").text(replace(answer, rows=rows)).rstrip().splitlines()


def _in_place(lines: Iterable[str], text: str, marker: Marker) -> str:
    """Return lines with the line ends of the file, each as far in as the marker stands."""
    start: int = text.rfind("\n", 0, marker.inner.start) + 1
    before = text[start : marker.inner.start].partition("<!--")[0]
    indent = "" if before.strip() else before
    line_end = "\r\n" if "\r\n" in text else "\n"
    parts = (line_end, *(f"{indent if line else ''}{line}{line_end}" for line in lines), indent)
    return "".join(parts)


def write(found: Woven) -> None:
    """Write a file so that a kill leaves the old one or the new one, its permissions kept.

    Raises FolderError.
    """
    path = found.path.resolve()
    with written_or_told(f"the file {found.path}", "The files before it are written."):
        if read_whole(path) != found.old:
            message = f"the file {found.path} was changed while it was woven, so it is left as it is"
            raise FolderError([Problem("changed-meanwhile", message, "Weave it again.")])
        write_whole(path, found.new)
