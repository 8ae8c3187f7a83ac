"""Tables of databases: SQLite, PostgreSQL, MySQL and MariaDB, read in the order of their keys, never written.

The rows of a table are cut into units of some hundred where the keys themselves say: a row that is added or
taken away changes the bounds of its own unit only. What rows say of their last change, and all that other
tables say of them, is the signature of their unit, so that only units that hold a change are read again.
"""

from __future__ import annotations

import json
import marshal
import time
import zlib
from array import array
from bisect import bisect_right
from contextlib import ExitStack
from datetime import UTC, date, datetime
from hashlib import blake2b
from itertools import chain
from operator import methodcaller
from typing import TYPE_CHECKING, Any, NamedTuple

from elenchus.errors import About, Place, Problem
from elenchus.files import is_file, signature
from elenchus.sources._connection import connected, place_of, refusals
from elenchus.sources._rows import rows_of
from elenchus.sources._spec import LEFT_OUT, Scan, UnreachableError
from elenchus.sources._table_pulse import Watched, pulse_by_driver
from elenchus.sources._tables import Shape

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Mapping, Sequence
    from pathlib import Path

    from elenchus.sources._spec import Item, SourceSpec

__all__ = ["SUFFIXES", "pulse", "reader", "reader_of", "scan"]

SUFFIXES: tuple[str, ...] = ()
_USUAL = 1024  # rows of a unit
_MOST = 8192
_LARGEST = 2**62
_A_DAY = 26 * 3600  # seconds: all zones lie within
_LARGEST_LINE = 2**31 - 1
_BYTES_OF = methodcaller("encode", "utf-8", "surrogatepass")
_BY_VALUE = 0  # the version of marshal's format in which it makes no difference which objects are the same


def scan(spec: SourceSpec, root: Path, before: Scan | None) -> Scan:
    """Return the units of a table; if the database cannot be read, those of the last run.

    Raises UnreachableError if there was none.
    """
    told = _noted(before)
    told = _noted(before)
    file = _sign_of(spec, root)
    if before and file and told.get("file") == file:
        return before._replace(problems=_keyless(spec, told))
    try:
        if before and _is_as_noted(spec, told):
            return before._replace(problems=_keyless(spec, told))
        with connected(spec, root) as connection, refusals(spec):
            return _scanned(Shape(spec, connection), told, file)
    except OSError as error:
        problem = _unreadable(spec, error)
        if before is None:
            raise UnreachableError(problem) from None
        return before._replace(problems=_keyless(spec, told), failure=problem)


def pulse(spec: SourceSpec, root: Path) -> str:
    """Return what changes when the tables of a source do; nothing if these cannot be read now."""
    try:
        if file := _sign_of(spec, root):
            return repr(file)
        with connected(spec, root) as connection, refusals(spec):
            return repr(Shape(spec, connection).pulse())
    except OSError:
        return ""


def _is_as_noted(spec: SourceSpec, told: Mapping[str, Any]) -> bool:
    """Say whether the tables of a server are as they were at the last scan. Raises OSError."""
    watched, pulse = Watched.noted(told.get("watched")), told.get("pulse")
    if spec.paths or not watched or not pulse:
        return False
    return bool(pulse_by_driver(spec, watched) == pulse)


def _noted(before: Scan | None) -> dict[str, Any]:
    """Return what was noted at the last scan; a note can be anything."""
    try:
        told = json.loads(before.note) if before and before.note else {}
    except (ValueError, RecursionError):
        return {}
    return told if isinstance(told, dict) else {}


def reader(spec: SourceSpec, root: Path, _units: Sequence[str]) -> _TableReader:
    """Return what reads units."""
    return _TableReader(spec, root)


def reader_of(spec: SourceSpec, root: Path, shape: Shape) -> _TableReader:
    """Return what reads units in a transaction that is open already."""
    found = _TableReader(spec, root)
    found.shape = shape
    return found


def _unreadable(spec: SourceSpec, error: OSError) -> Problem:
    """Return the problem of a database that cannot be read, which may not even have an address."""
    try:
        place = place_of(spec)
    except OSError:
        place = spec.name
    message = f"the database cannot be read: {error.strerror}"
    hint = "Let it be read, and run the command again."
    return Problem("unreadable-database", message, hint, place=Place(place), about=About.SOURCE)


def _sign_of(spec: SourceSpec, root: Path) -> list[int]:
    """Return what tells that the file of a database, and the one beside it, are as they were."""
    found: list[int] = []
    for path in spec.paths[:1]:
        for each in (root / path, root / f"{path}-wal"):
            found += signature(each.stat()) if is_file(each) else ()
    return found


class _Chunk:
    """A unit in the making: its first and last key, how many rows it has, a digest of what these say."""

    def __init__(self, first: Any) -> None:
        self.first: Any = first
        self.last: Any = first
        self.count = 0
        self.said = blake2b(digest_size=8)
        self.keys: list[Any] = []  # where they are needed to find rows by
        self.others = 0  # a sum over what other tables say of its rows
        self.is_newest = False
        self.is_full = False

    def take(self, keys: Sequence[Any], updated: Sequence[str], *, keeps_keys: bool) -> None:
        """Take rows, by their keys and what they say of their last change."""
        self.last = keys[-1]
        self.count += len(keys)
        for each in (map(str, keys), updated):
            self.said.update("\n".join(each).encode("utf-8", "surrogatepass") + b"\n")
        if keeps_keys:
            self.keys += keys

    @property
    def bounds(self) -> str:
        """The keys between which its rows lie."""
        return json.dumps([self.first, self.last], ensure_ascii=False)


def _scanned(shape: Shape, told: Mapping[str, Any], file: list[int]) -> Scan:
    """Return the units of a table that is there. Raises OSError."""
    place = place_of(shape.spec)
    pulse = shape.pulse()
    newest = shape.newest()
    # Where nothing says when rows were changed, the pulse is made of all that they hold.
    is_fresh = bool(shape.updated) and newest != told.get("newest") and _may_be_recent(newest)
    chunks = list(_chunks(shape, newest))
    _add_others(shape, chunks)
    common = shape.names_digest
    volatile = 0
    if not shape.updated:  # nothing says which rows have changed, so that all are read and compared
        volatile = _number(repr(file)) if file else time.time_ns()
    now = time.time_ns()
    signatures = array("q")
    for chunk in chunks:
        said = _number(f"{common} {chunk.said.hexdigest()}")
        others = (chunk.others + volatile) % _LARGEST
        # Within one step of the clock a row may be changed twice, so what is newest now is read again.
        signatures.extend((said, now if chunk.is_newest and is_fresh else 0, 0, others))
    units = [f"{place}\t{chunk.bounds}" for chunk in chunks]
    keyless = shape.keyless(sum(chunk.count for chunk in chunks))
    note = {
        "file": file,
        "newest": newest,
        "pulse": None if is_fresh else pulse,
        "watched": shape.watched,
        "keyless": keyless,
        "terms": shape.own_slugs,
    }
    return Scan(units, signatures, _keyless(shape.spec, note), json.dumps(note))


def _keyless(spec: SourceSpec, note: Mapping[str, Any]) -> list[Problem]:
    """Return the problem of rows that no key names, as noted."""
    count = note.get("keyless")
    if not count or not isinstance(count, int):
        return []
    rows = "1 row has" if count == 1 else f"{count} rows have"
    message = f"{rows} no key that is a number or a text"
    return [Problem("unreadable-row", message, LEFT_OUT, place=Place(place_of(spec)))]


def _may_be_recent(text: str) -> bool:
    """Say whether a time that a database tells, in whatever zone, may be so young that it will come again."""
    try:
        found = datetime.fromisoformat(text)
    except ValueError:
        return True
    return abs((found.replace(tzinfo=UTC) - datetime.now(UTC)).total_seconds()) < _A_DAY


def _number(text: str) -> int:
    """Return a digest of a text as a number that fits a signature."""
    found = blake2b(text.encode("utf-8", "surrogatepass"), digest_size=8).digest()
    return int.from_bytes(found, "little") >> 2


def _chunks(shape: Shape, newest: str) -> Iterator[_Chunk]:
    """Yield the units of a table in the order of its keys, each key in one of them. Raises OSError."""
    chunk: _Chunk | None = None
    keeps_keys = bool(shape.sides) and not shape.is_whole
    for keys, updated in shape.key_parts():
        sums = map(zlib.crc32, map(_BYTES_OF, map(str, keys)))
        ends = iter([*(at + 1 for at, number in enumerate(sums) if number % _USUAL == 0), len(keys)])
        first, end = 0, next(ends)
        while first < len(keys):
            if chunk and chunk.is_full and keys[first] != chunk.last:
                yield chunk
                chunk = None
            chunk = chunk or _Chunk(keys[first])
            last = first + 1 if chunk.is_full else min(end, first + _MOST - chunk.count)
            chunk.take(keys[first:last], updated[first:last], keeps_keys=keeps_keys)
            chunk.is_newest = chunk.is_newest or (newest != "" and newest in updated[first:last])
            is_bound = last == end and (end < len(keys) or zlib.crc32(_BYTES_OF(str(keys[-1]))) % _USUAL == 0)
            chunk.is_full = chunk.is_full or is_bound or chunk.count >= _MOST
            first = last
            while end <= first < len(keys):
                end = next(ends)
    if chunk:
        yield chunk


def _add_others(shape: Shape, chunks: Sequence[_Chunk]) -> None:
    """Add to each unit what other tables say of its rows, in whatever order. Raises OSError."""
    if not chunks or not shape.sides:
        return
    place_in = _places(chunks)
    for side in shape.sides:
        for row in shape.all_of(side):
            at = place_in(row[0])
            if at >= 0:
                chunks[at].others += zlib.crc32(repr(tuple(row)).encode("utf-8", "surrogatepass"))


def _places(chunks: Sequence[_Chunk]) -> Callable[[Any], int]:
    """Return what gives the place of the unit of a key, -1 where there is none."""
    if all(isinstance(chunk.first, int) for chunk in chunks):
        firsts = [chunk.first for chunk in chunks]
        return lambda key: bisect_right(firsts, key) - 1 if isinstance(key, int) else -1
    known = {str(key): at for at, chunk in enumerate(chunks) for key in chunk.keys}
    return lambda key: known.get(str(key), -1)


class _Rows(NamedTuple):
    """The rows of a unit: their keys, the values of each column, what other tables say, and a digest."""

    keys: list[Any]
    columns: dict[str, list[Any]]
    digest: int


class _TableReader:
    """What reads the rows of units of a table, in one transaction."""

    def __init__(self, spec: SourceSpec, root: Path) -> None:
        self.spec = spec
        self.root = root
        self.stack = ExitStack()
        self.shape: Shape | None = None

    def content(self, unit: str) -> _Rows:
        """Return the rows of a unit. Raises UnreachableError."""
        low, high = json.loads(unit.partition("\t")[2])
        try:
            with refusals(self.spec):
                if self.shape is None:
                    connection = self.stack.enter_context(connected(self.spec, self.root))
                    self.shape = Shape(self.spec, connection)
                rows = self.shape.rows(low, high)
                keys = _keys_of([row[self.shape.key_at] for row in rows])
                return _as_columns(self.shape, keys, rows)
        except OSError as error:
            raise UnreachableError(_unreadable(self.spec, error)) from None

    def items(self, unit: str, content: Any) -> Iterator[Item]:
        """Yield the rows of a unit as entries."""
        if not content.keys:
            return
        place = unit.partition("\t")[0]
        lines = [key if isinstance(key, int) and 0 < key <= _LARGEST_LINE else 0 for key in content.keys]
        files = () if all(lines) else [f"{place}/{key}" for key in content.keys]
        lines = lines if all(lines) else [0] * len(lines)
        yield from rows_of(self.spec, place, content.columns, lines, files=files)

    def close(self) -> None:
        """End the transaction. Raises UnreachableError if what was read of it is not sure."""
        try:
            self.stack.close()
        except OSError as error:
            raise UnreachableError(_unreadable(self.spec, error)) from None


def _keys_of(values: list[Any]) -> list[Any]:
    """Return keys as units have them."""
    if set(map(type, values)) <= {str, int}:
        return values
    return [value if isinstance(value, int) else str(value) for value in values]


def _as_columns(shape: Shape, keys: list[Any], rows: Sequence[Any]) -> _Rows:
    """Return rows as values by column, with what other tables say of them."""
    count = len(shape.names)
    cells = list(chain.from_iterable(rows))
    columns = {name: _plain_values(cells[at::count]) for at, name in enumerate(shape.names)}
    above = shape.spec.columns.get("parent", "parent")
    if above in columns and shape.is_whole:
        wanted = sorted({int(key) for key in columns[above] if str(key or "").isdecimal()})
        names = shape.names_above(wanted)
        columns[above] = [names.get(str(key), key) for key in columns[above]]
    for name, by_key in shape.others(keys).items():
        more = [by_key.get(key) for key in keys]
        if any(value is not None for value in more):
            columns[name] = more
    # Of this form nothing is ever read: it is the fastest in which equal values, and only these, are equal.
    found = blake2b(marshal.dumps([keys, columns], _BY_VALUE), digest_size=8).digest()
    return _Rows(keys, columns, int.from_bytes(found, "little") or 1)


def _plain_values(listed: list[Any]) -> list[Any]:
    """Return the values of a column as content writes them: texts, lists, tables, None."""
    kinds = set(map(type, listed))
    if kinds <= {str, type(None)}:
        return listed
    if kinds in ({int}, {float}):
        return list(map(str, listed))
    if kinds == {datetime}:
        return list(map(datetime.isoformat, listed))
    return [_plain(value) for value in listed]


def _plain(value: Any) -> Any:
    """Return one value as content writes it; bytes that are no text are nothing."""
    if value is None or isinstance(value, (str, list, dict, bool)):
        return value
    if isinstance(value, date):  # or a time
        return value.isoformat()
    if isinstance(value, (bytes, bytearray, memoryview)):
        try:
            return bytes(value).decode()
        except UnicodeDecodeError:
            return None
    return str(value)
