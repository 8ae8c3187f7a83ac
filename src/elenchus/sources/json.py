"""JSON documents: a list of objects, an object of objects, or the objects at a path (RFC 9535)."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from elenchus.frozen import replace
from elenchus.schema.record import Raw
from elenchus.sources._encoding import decoded
from elenchus.sources._files import FileReader, scan_files
from elenchus.sources._json import Lines, json_object, offsets_of, whole_value, without_halves
from elenchus.sources._rows import FewProblems, columns_of, rows_of
from elenchus.sources._simple import Unreadable
from elenchus.values.slugs import safely
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence
    from pathlib import Path

    from elenchus.schema.edits import EntryEdit
    from elenchus.sources._files import FileContent
    from elenchus.sources._json import Steps
    from elenchus.sources._spec import Item, Scan, SourceSpec
    from elenchus.sources._splice import Splice

__all__ = ["SUFFIXES", "edited", "reader", "scan", "wrong_path"]

SUFFIXES = (".json",)
_MOST_BYTES = 128 * 2**20  # of a document, which is read as a whole


def scan(spec: SourceSpec, root: Path, _before: Scan | None) -> Scan:
    """Return the documents of a source."""
    return scan_files(spec, root, SUFFIXES)


def reader(spec: SourceSpec, root: Path, _units: Sequence[str]) -> FileReader:
    """Return what reads them."""
    return FileReader(spec, root, _parse, most=_MOST_BYTES)


def wrong_path(path: str) -> str:
    """Return what is wrong with a path of RFC 9535; nothing where it can be followed."""
    import jsonpath_rfc9535

    try:
        jsonpath_rfc9535.compile(_whole(path))
    except jsonpath_rfc9535.JSONPathError as error:
        return str(error).splitlines()[0]
    return ""


def _whole(path: str) -> str:
    """Return a path from the root: ``data.items`` is short for ``$.data.items``."""
    return path if path.startswith("$") else f"$.{path}"


def edited(spec: SourceSpec, _unit: str, content: bytes, edits: Sequence[EntryEdit]) -> bytes:
    """Return a document in which objects have other values. Raises UneditableError."""
    from elenchus.schema.edits import UneditableError
    from elenchus.sources._json_edit import object_changed
    from elenchus.sources._splice import changed_text, spliced

    wanted = {edit.nth: edit for edit in edits}

    def change(text: str) -> str:
        splices: list[Splice] = []
        try:
            places = _records(spec, whole_value(text))
            sound = (at for _, at in offsets_of(text, places) if _is_record(text, at))
            for nth, at in enumerate(sound):
                if nth in wanted:
                    splices += object_changed(text, at, wanted[nth].values, spec.habits.separator)
        except Unreadable as error:
            raise UneditableError(str(error), error.line) from None
        return spliced(text, splices)

    return changed_text(content, spec, change)


def _is_record(text: str, at: int) -> bool:
    """Say whether the value at a place is one that is read as an entry."""
    try:
        return text[at : at + 1] == "{" and json_object(text, at)[1] > at
    except Unreadable:
        return False


def _parse(spec: SourceSpec, unit: str, content: FileContent) -> Iterator[Item]:
    """Yield the objects of a document as entries. Raises OSError."""
    problems = FewProblems(unit)
    try:
        text = without_halves(decoded(content.whole(_MOST_BYTES), spec))
        document = whole_value(text)
        places = _records(spec, document)
    except Unreadable as error:
        yield error.problem(unit)
        return
    found = list(_objects(text, places, problems))
    if places == [()] and found and not spec.slug and not found[0][1].keys() & {"id", "slug"}:
        spec = replace(spec, slug="{stem}")  # a file with one entry gives it its name
    lines = [line for line, _ in found]
    columns = columns_of([{name: raw.value for name, raw in values.items()} for _, values in found], problems)
    at = {name: [values[name].line if name in values else 0 for _, values in found] for name in columns}
    if found:
        yield from rows_of(spec, unit, columns, lines, at)
    yield from problems.told(at_end=True)


def _objects(
    text: str, places: Sequence[Steps], problems: FewProblems
) -> Iterator[tuple[int, dict[str, Raw]]]:
    """Yield the records at some places of a document with their lines; its key is the slug of one without."""
    lines = Lines(text)
    for place, at in offsets_of(text, places):
        line = lines.of(at)
        if text[at : at + 1] != "{":
            problems.add(line, "the record is no object", "It is left out.")
            continue
        try:
            values, _ = json_object(text, at, lines)
        except Unreadable as error:
            problems.add(error.line or line, str(error), "The record is left out.")
            continue
        key = place[-1] if place else None
        if isinstance(key, str) and not values.keys() & {"id", "slug"}:
            values = {"slug": Raw(safely(key), line), **values}
        yield line, values


def _records(spec: SourceSpec, document: Any) -> Sequence[Steps]:
    """Return the steps that lead to each record of a document. Raises Unreadable."""
    if spec.records:
        import jsonpath_rfc9535

        nodes = jsonpath_rfc9535.compile(_whole(spec.records)).find(document)
        found = [(node.location, node.value) for node in nodes]
        if not found:
            raise Unreadable(f"nothing stands at {quoted(spec.records)}", 1)
        if len(found) == 1 and isinstance(found[0][1], (list, dict)):
            return _inside(*found[0])
        return [location for location, _ in found]
    return _inside((), document)


def _inside(place: Steps, value: Any) -> Sequence[Steps]:
    """Return the steps to the records in a list, in an object of objects, or to the one record."""
    if isinstance(value, list):
        return [(*place, at) for at in range(len(value))]
    if isinstance(value, dict) and value and all(isinstance(each, dict) for each in value.values()):
        return [(*place, name) for name in value]
    if isinstance(value, dict):
        return [place]
    raise Unreadable("the document is neither a list of objects nor an object", 1)
