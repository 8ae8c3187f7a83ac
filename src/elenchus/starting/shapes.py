"""Files as sources: documents of one shape together, and tables with one header."""

from __future__ import annotations

import gzip
import json
import re
import zlib
from collections import Counter, defaultdict
from itertools import islice
from pathlib import PurePosixPath
from typing import TYPE_CHECKING, Any, NamedTuple

from elenchus.files import open_regular, read_whole
from elenchus.frozen import replace
from elenchus.sources import SourceSpec
from elenchus.starting.tabletext import table_habits
from elenchus.starting.unsure import Unsure
from elenchus.starting.vocabulary import words
from elenchus.values.slugs import slugify

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Mapping, Sequence
    from collections.abc import Set as AbstractSet
    from pathlib import Path

__all__ = ["Shaped", "are_alike", "json_sources", "name_of_source", "row_sources"]

_DEEPEST = 4  # objects around the records of a document
_ALIKE = 0.5  # of the keys that documents of one shape share
_INSIDE = 0.8  # of the keys of a document that a larger one has, too
_FEW = 200  # records by which the shape of a list is found
_MOST_BYTES = 128 * 2**20  # of a document that is packed
_ITEMS = "[*]"


class Shaped(NamedTuple):
    """A source, and what about it could be otherwise."""

    spec: SourceSpec
    unsure: tuple[Unsure, ...] = ()


class _Document(NamedTuple):
    """A JSON document: its path, where its records are (empty for all of it), and the keys that these have.

    ``size`` is how many records it has, ``is_one`` says that it is one record itself, ``inner`` the longest
    list of objects in it with its length.
    """

    path: str
    records: str
    keys: frozenset[str]
    size: int
    is_one: bool
    inner: tuple[str, int] = ("", 0)


def name_of_source(text: str, otherwise: str, folder: str = "") -> str:
    """Return what a source is called that stands at a place: by its name, or else by the folder around it."""
    for name in (text, folder):
        parts = re.split(r"[\s._-]+", slugify(name.rpartition("/")[2]))
        kept = [word for word in parts if word and word not in words("texts.files") and not word.isdecimal()]
        found = "-".join(kept)
        if found and found[0].isalpha():
            return found
    return otherwise


# JSON


def json_sources(root: Path, paths: Sequence[str], top: str) -> Iterator[Shaped]:
    """Yield a source for all documents of one shape in a folder: each is an entry, or has a list of them.

    ``top`` is what the folder is called in which all of them are.
    """
    by_folder: dict[str, list[_Document]] = defaultdict(list)
    for path in paths:
        if document := _document(root / path, path):
            by_folder[path.rpartition("/")[0]].append(document)
    for folder, documents in by_folder.items():
        groups = list(_groups(documents))
        for group in groups:
            places = _paths(folder, group, len(documents), paths)
            inside = re.findall(r"[\w-]+", group[0].records)
            name = _stem(group[0].path) if len(group) == 1 else folder or top
            name = name_of_source(name, "") or name_of_source(
                inside[-1] if inside else "", "records", folder or top
            )
            spec = SourceSpec(name, "json", places, kind="entry")
            yield _shaped(spec, group)


def _stem(path: str) -> str:
    """Return the name of a file without its endings."""
    return PurePosixPath(path).name.partition(".")[0]


def _shaped(spec: SourceSpec, group: Sequence[_Document]) -> Shaped:
    """Return the source of documents of one shape."""
    first = group[0]
    if not first.is_one:
        return Shaped(replace(spec, records=first.records))
    total = sum(document.inner[1] for document in group)
    spec = replace(spec, slug="{stem}") if len(group) > 1 else spec
    if not total or len(group) == 1:
        return Shaped(spec)
    where = next(document.inner[0] for document in group if document.inner[0])
    what = f"each of the {len(group)} files is one entry, and the {total:,} objects in their lists are values"
    return Shaped(spec, (Unsure(what, f'records = "{where}" in the source'),))


def _paths(folder: str, group: Sequence[_Document], count: int, paths: Sequence[str]) -> tuple[str, ...]:
    """Return the paths of documents: a pattern where they are all that a folder has."""
    others = sum(1 for path in paths if path.rpartition("/")[0] == folder)
    if len(group) > 1 and len(group) == count == others:
        ends = {PurePosixPath(document.path).suffix for document in group}
        if len(ends) == 1:
            return (f"{folder}/*{min(ends)}" if folder else f"*{min(ends)}",)
    return tuple(document.path for document in group)


def _groups(documents: Sequence[_Document]) -> Iterator[list[_Document]]:
    """Yield documents that belong together: records of one shape, found in the same place."""
    found: list[list[_Document]] = []
    keys: list[Counter[str]] = []
    for document in documents:
        for group, met in zip(found, keys, strict=True):
            usual = {key for key, count in met.items() if count * 2 >= len(group)}
            is_same = (group[0].is_one, group[0].records) == (document.is_one, document.records)
            if is_same and are_alike(usual, document.keys):
                group.append(document)
                met.update(document.keys)
                break
        else:
            found.append([document])
            keys.append(Counter(document.keys))
    lone = [group for group in found if len(group) == 1 and group[0].is_one]
    yield from (group for group in found if group not in lone)
    for group in lone:  # an object that stands alone: its longest list is the content, if it has one
        [document] = group
        records, count = document.inner
        yield [document._replace(records=records, is_one=False, size=count)] if count else group


def are_alike(one: AbstractSet[str], other: AbstractSet[str]) -> bool:
    """Say whether documents are of one shape: half of their keys are shared, or nearly all of the fewer."""
    shared = len(one & other)
    return shared >= _ALIKE * len(one | other) or (
        shared > 1 and shared >= _INSIDE * min(len(one), len(other))
    )


def _document(file: Path, path: str) -> _Document | None:
    """Return what a document is; None for what has no records and is none."""
    try:
        value = json.loads(_unpacked(file))
    except (OSError, ValueError, EOFError, RecursionError, zlib.error):
        return _Document(path, "", frozenset(), 0, is_one=False)  # it will be told that it cannot be read
    if isinstance(value, list):
        records = [each for each in value if isinstance(each, dict)]
        return _Document(path, "", _keys(records), len(records), is_one=False) if records else None
    if not isinstance(value, dict) or not value:
        return None
    if _are_by_key(value):
        return _Document(path, "", _keys(value.values()), len(value), is_one=False)
    lists = list(_lists_in(value, "$", 0))
    inner = max(((where, count) for count, where in lists), key=lambda each: each[1], default=("", 0))
    return _Document(path, "", frozenset(map(str, value)), 1, is_one=True, inner=inner)


def _unpacked(file: Path) -> bytes:
    """Return what a file holds, also one that is packed. Raises OSError, EOFError, zlib.error."""
    if file.suffix.lower() != ".gz":
        return read_whole(file)
    with open_regular(file) as packed, gzip.open(packed) as opened:
        return opened.read(_MOST_BYTES)


def _are_by_key(value: Mapping[str, Any]) -> bool:
    """Say whether the values of an object are records of one shape, whose keys are its names."""
    inner = list(value.values())
    if len(inner) < 2 or not all(isinstance(each, dict) and each for each in inner):  # noqa: PLR2004
        return False
    keys = [set(each) for each in islice(inner, _FEW)]
    counts = Counter(key for each in keys for key in each)
    usual = {key for key, count in counts.items() if count * 2 >= len(keys)}
    return bool(usual) and sum(len(each & usual) >= _ALIKE * len(each | usual) for each in keys) * 2 > len(
        keys
    )


def _keys(records: Iterable[Mapping[str, Any]]) -> frozenset[str]:
    """Return the keys that most of some records have."""
    few = list(islice(records, _FEW))
    counts = Counter(str(key) for each in few for key in each)
    return frozenset(key for key, count in counts.items() if count * 2 >= len(few))


def _lists_in(value: Any, path: str, depth: int) -> Iterator[tuple[int, str]]:
    """Yield the lists of objects in a value, and the objects of objects, with how long they are."""
    if isinstance(value, list) and value and all(isinstance(each, dict) for each in value):
        yield len(value), path + _ITEMS
    elif isinstance(value, dict) and depth and _are_by_key(value):
        yield len(value), path
    elif isinstance(value, dict) and depth < _DEEPEST:
        for name, inner in value.items():
            step = f".{name}" if name.isidentifier() and name.isascii() else f"[{json.dumps(name)}]"
            yield from _lists_in(inner, path + step, depth + 1)


# tables and lines


def row_sources(root: Path, read: str, paths: Sequence[str], top: str) -> Iterator[Shaped]:
    """Yield a source for each table, and one for all tables of a folder that have the same header."""
    groups: dict[tuple[str, str], list[str]] = defaultdict(list)
    for path in paths:
        folder, _, name = path.rpartition("/")
        begin = _begin(root / path)
        part = "".join("0" if char.isdigit() else char for char in _stem(name)).strip("0-_. ")
        alike = f"{begin!r} {part}" if begin else path
        groups[folder, alike].append(path)
    for (folder, _), places in groups.items():
        name = name_of_source(_stem(places[0]), read, folder or top)
        spec = SourceSpec(name, read, tuple(places), kind="entry")
        if read == "csv":
            spec, unsure = table_habits(root, spec)
            yield Shaped(spec, unsure)
        else:
            yield Shaped(spec)


def _begin(file: Path) -> bytes:
    """Return the first line of a file, empty for one that is packed or cannot be read."""
    if file.suffix.lower() in (".gz", ".zip"):
        return b""
    try:
        with open_regular(file) as opened:
            return opened.readline(2**16).strip()
    except OSError:
        return b""
