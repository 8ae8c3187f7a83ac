"""Entries as they were written, key by key: what a run keeps for the next, and what tables are made of."""

from __future__ import annotations

import json
from itertools import compress
from typing import TYPE_CHECKING, Any

import numpy as np

from elenchus.engine.columns.strings import Strings
from elenchus.errors import Place
from elenchus.frozen import Frozen, replace
from elenchus.schema.record import Raw, Record
from elenchus.values.wording import as_text

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence

    from numpy.typing import NDArray

    from elenchus.schema.record import Habits, RowBatch

__all__ = ["GUESSES", "NULL", "OTHER", "TEXT", "Cells", "Intake", "RecordTable", "guesses"]

TEXT, OTHER, NULL = range(3)  # forms of a written value: a text, a list or table as JSON, nothing
GUESSES = ("", "heading", "file name", "slug")
_BY_SLUG = GUESSES.index("slug")
_PART = 4096  # records that are turned into tables at once
_MOST_SEEN = 4096  # values of a key that are looked for among those before, if most of them are new


def guesses(date: int, title: int) -> dict[str, str]:
    """Return the keys that nobody wrote, with what their values were made of: places in GUESSES."""
    return {name: GUESSES[at] for name, at in (("date", date), ("title", title)) if at}


class Cells(Frozen):
    """What some records have for one key.

    ``owners`` (int32, ascending) are the records, ``codes`` (int32) the places of their values, ``lines``
    (int32) where those stand. Each value is there once, or almost: ``texts`` with a form (uint8) for each.
    """

    owners: NDArray[np.int32]
    codes: NDArray[np.int32]
    lines: NDArray[np.int32]
    texts: Strings
    forms: NDArray[np.uint8]

    def __len__(self) -> int:
        return len(self.owners)

    @classmethod
    def none(cls) -> Cells:
        """Return the cells of a key that no record has."""
        none = np.zeros(0, dtype=np.int32)
        return cls(none, none, none, Strings.of(()), np.zeros(0, dtype=np.uint8))

    def value(self, code: int) -> Any:
        """Return a value as it was written: a text, None, a list or a table."""
        form = self.forms[code]
        return None if form == NULL else self.texts[code] if form == TEXT else json.loads(self.texts[code])

    def values(self, codes: NDArray[Any]) -> list[Any]:
        """Return some values."""
        found: list[Any] = self.texts.at(codes)
        forms = self.forms[codes]
        others = np.flatnonzero(forms == OTHER).tolist()
        for at, value in zip(others, json.loads(f"[{','.join([found[at] for at in others])}]"), strict=True):
            found[at] = value
        for at in np.flatnonzero(forms == NULL).tolist():
            found[at] = None
        return found

    def of(self, record: int) -> Raw | None:
        """Return what a record has, None where it has not the key."""
        at = int(self.owners.searchsorted(np.int32(record)))  # of another type, it would copy all of them
        if at == len(self.owners) or self.owners[at] != record:
            return None
        return Raw(self.value(int(self.codes[at])), int(self.lines[at]))

    def among(self, first: int, last: int) -> tuple[NDArray[np.int32], list[tuple[int, str]]]:
        """Return which of the records from one up to another have the key, counted from there, and what."""
        begin, end = self.owners.searchsorted(np.array((first, last), dtype=np.int32)).tolist()
        codes = self.codes[begin:end]
        told = list(zip(self.forms[codes].tolist(), self.texts.at(codes), strict=True))
        return self.owners[begin:end] - np.int32(first), told

    def without(self, gone: NDArray[np.bool_]) -> Cells:
        """Return what the records have that are not gone, by a mask over records."""
        left = ~gone[self.owners]
        if left.all():
            return self
        return replace(self, owners=self.owners[left], codes=self.codes[left], lines=self.lines[left])

    def with_more(self, others: Cells) -> Cells:
        """Return these and the cells of records behind them."""
        return Cells(
            np.concatenate((self.owners, others.owners)),
            np.concatenate((self.codes, others.codes + np.int32(len(self.texts)))),
            np.concatenate((self.lines, others.lines)),
            self.texts.with_more(others.texts[:]),
            np.concatenate((self.forms, others.forms)),
        )

    def with_values(self, values: Sequence[Any]) -> Cells:
        """Return these with some more values that no record has yet."""
        forms, texts = zip(*map(_stored, values), strict=True) if values else ((), ())
        more = np.array(forms, dtype=np.uint8)
        return replace(self, texts=self.texts.with_more(texts), forms=np.concatenate((self.forms, more)))

    def with_changed(self, values: Mapping[int, Any], of: NDArray[np.bool_]) -> Cells:
        """Return these with other values for some codes, in the cells of a mask."""
        if not values:
            return self
        moved = np.arange(len(self.texts), dtype=np.int32)
        moved[list(values)] = np.arange(len(self.texts), len(self.texts) + len(values))
        codes = np.where(of, moved[self.codes], self.codes).astype(np.int32)
        return replace(self.with_values(list(values.values())), codes=codes)

    def with_cells(self, owners: NDArray[Any], codes: NDArray[Any], lines: NDArray[Any]) -> Cells:
        """Return these with others in the place of those that some records have, or beside them."""
        left = ~np.isin(self.owners, owners)
        parts = [
            np.concatenate((old[left], new)).astype(np.int32)
            for old, new in ((self.owners, owners), (self.codes, codes), (self.lines, lines))
        ]
        order = np.argsort(parts[0], kind="stable")
        return replace(self, owners=parts[0][order], codes=parts[1][order], lines=parts[2][order])


class RecordTable(Frozen):
    """The records of a site, numbered in the order in which they were read.

    Arrays have an item a record: ``files`` (a place in ``paths``) and ``lines`` say where it stands,
    ``sources`` (a place in ``habits``) from where it comes, ``kinds`` (a place in ``kind_names``) what its
    source takes it for; ``title_from`` and ``date_from`` what a value was made of that nobody wrote.
    """

    paths: Strings
    files: NDArray[np.int32]
    lines: NDArray[np.int32]
    sources: NDArray[np.int16]
    habits: tuple[Habits, ...]
    kinds: NDArray[np.int32]
    kind_names: tuple[str, ...]
    slugs: Strings
    title_from: NDArray[np.uint8]
    date_from: NDArray[np.uint8]
    cells: Mapping[str, Cells]

    def __len__(self) -> int:
        return len(self.files)

    def place(self, record: int) -> Place:
        """Return where a record stands."""
        return Place(self.paths[int(self.files[record])], int(self.lines[record]))

    def guessed(self, record: int) -> dict[str, str]:
        """Return the keys of a record that nobody wrote, with what their values were made of."""
        return guesses(int(self.date_from[record]), int(self.title_from[record]))

    def record(self, number: int) -> Record:
        """Return a record as its source gave it."""
        found = ((name, cells.of(number)) for name, cells in self.cells.items())
        return Record(
            self.place(number),
            self.kind_names[int(self.kinds[number])],
            self.slugs[number],
            {name: raw for name, raw in found if raw},
            self.habits[int(self.sources[number])],
            self.guessed(number),
        )

    def differing(self, first: int, last: int, other: RecordTable, begin: int) -> NDArray[np.bool_]:
        """Return which of the records from one up to another are written otherwise in another table.

        ``begin`` is the number of the first of them there. Values that are written in two ways may still mean
        the same.
        """
        found = np.zeros(last - first, dtype=np.bool_)
        for name in self.cells.keys() | other.cells.keys():
            owners, mine = self.cells.get(name, Cells.none()).among(first, last)
            others, its = other.cells.get(name, Cells.none()).among(begin, begin + last - first)
            if not np.array_equal(owners, others):
                found[np.setxor1d(owners, others)] = True
                at, ours, theirs = np.intersect1d(owners, others, return_indices=True)
                owners = at
                mine, its = [mine[each] for each in ours.tolist()], [its[each] for each in theirs.tolist()]
            found[owners] |= np.fromiter((one != it for one, it in zip(mine, its, strict=True)), np.bool_)
        return found

    def with_more(self, others: RecordTable) -> RecordTable:
        """Return these records and some more behind them."""
        habits, sources = _joined(self.habits, others.habits)
        names, kinds = _joined(self.kind_names, others.kind_names)
        count = len(self)
        cells = dict(self.cells)
        for name, more in others.cells.items():
            moved = replace(more, owners=more.owners + np.int32(count))
            cells[name] = cells[name].with_more(moved) if name in cells else moved
        return RecordTable(
            self.paths.with_more(others.paths[:]),
            np.concatenate((self.files, others.files + np.int32(len(self.paths)))),
            np.concatenate((self.lines, others.lines)),
            np.concatenate((self.sources, np.array(sources, dtype=np.int16)[others.sources])),
            habits,
            np.concatenate((self.kinds, np.array(kinds, dtype=np.int32)[others.kinds])),
            names,
            self.slugs.with_more(others.slugs[:]),
            np.concatenate((self.title_from, others.title_from)),
            np.concatenate((self.date_from, others.date_from)),
            cells,
        )


def _joined(first: tuple[Any, ...], second: tuple[Any, ...]) -> tuple[tuple[Any, ...], list[int]]:
    """Return the values of two tuples, each once, and the places of those of the second."""
    found = list(first)
    found += [each for at, each in enumerate(second) if each not in (*first, *second[:at])]
    return tuple(found), [found.index(each) for each in second]


_TYPES: dict[str, Any] = {
    "files": np.int32,
    "lines": np.int32,
    "kinds": np.int32,
    "sources": np.int16,
    "title_from": np.uint8,
    "date_from": np.uint8,
}
_as_json = json.JSONEncoder(ensure_ascii=False, default=as_text).encode


class _Key:
    """The cells of one key in the making: of each part that was taken in, the owners, codes and lines."""

    def __init__(self) -> None:
        self.parts: list[tuple[NDArray[np.int32], ...]] = []
        self.count = 0
        self.seen: dict[Any, int] | None = {}
        self.size = 0  # where values are not looked for any more: how many there are, and all of them
        self.blocks: list[tuple[Strings, NDArray[np.uint8]]] = []
        self.others: dict[tuple[str], Any] = {}  # values that are no texts, by what stands for them

    def add(self, owners: NDArray[np.int32], values: list[Any], lines: NDArray[np.int32]) -> None:
        """Take what some records have."""
        if set(map(type, values)) != {str}:
            values = [value if value.__class__ is str else self.sign(value) for value in values]
        seen = self.seen
        codes: Iterable[int]
        if seen is None:
            codes = range(self.size, self.size + len(values))
            self.keep(values)
        else:
            for value in dict.fromkeys(values):
                seen.setdefault(value, len(seen))
            codes = map(seen.__getitem__, values)
        self.parts.append((owners, np.fromiter(codes, np.int32, len(values)), lines))
        self.count += len(values)
        if seen is not None and len(seen) > max(_MOST_SEEN, self.count * 3 // 4):
            # Titles and bodies are nearly all different: to remember them would only cost memory.
            self.seen = None
            self.keep(list(seen))

    def keep(self, values: list[Any]) -> None:
        """Keep values as bytes, which take much less memory than texts."""
        forms = np.zeros(len(values), dtype=np.uint8)
        if self.others:
            for at, value in enumerate(values):
                if value.__class__ is not str:
                    forms[at], values[at] = _stored(self.others[value])
            self.others = {} if self.seen is None else self.others
        self.blocks.append((Strings.of(map(str.strip, values)), forms))
        self.size += len(values)

    def sign(self, value: Any) -> tuple[str]:
        """Return what stands for a value that is no text."""
        found = (repr(value),)
        self.others[found] = value
        return found

    def done(self) -> Cells:
        """Return the cells."""
        owners, codes, lines = (np.concatenate(each) for each in zip(*self.parts, strict=True))
        if len(owners) > 1 and (owners[1:] < owners[:-1]).any():
            order = np.argsort(owners, kind="stable")
            owners, codes, lines = owners[order], codes[order], lines[order]
        if self.seen is not None:
            self.keep(list(self.seen))
        texts, forms = zip(*self.blocks, strict=True)
        return Cells(owners, codes, lines, Strings.joined(texts), np.concatenate(forms))


def _ints(numbers: Sequence[int]) -> NDArray[np.int32]:
    """Return whole numbers as an array."""
    if isinstance(numbers, range):
        return np.arange(numbers.start, numbers.stop, numbers.step, dtype=np.int32)
    return np.array(numbers, dtype=np.int32)


def _stored(value: Any) -> tuple[int, str]:
    """Return the form of a written value, and its text."""
    if isinstance(value, str):
        return TEXT, value.strip()
    if value is None:
        return NULL, ""
    if isinstance(value, (list, dict)):
        return OTHER, _as_json(value)
    return TEXT, as_text(value)


class Intake:
    """Records that are taken in: one by one, and turned into tables some thousands at a time."""

    def __init__(self) -> None:
        self.waiting: list[Record] = []
        self.count = 0
        self.paths: dict[str, int] = {}
        self.columns: dict[str, list[NDArray[Any]]] = {}
        self.habits: dict[int, tuple[int, Habits]] = {}
        self.kind_names: dict[str, int] = {}
        self.slugs: list[Strings] = [Strings.of(())]
        self.keys: dict[str, _Key] = {}

    @classmethod
    def of(cls, records: Iterable[Record]) -> RecordTable:
        """Return some records as tables."""
        intake = cls()
        for record in records:
            intake.add(record)
        return intake.done()

    def add(self, record: Record) -> None:
        """Take a record."""
        self.waiting.append(record)
        if len(self.waiting) >= _PART:
            self.flush()

    def add_rows(self, rows: RowBatch) -> None:
        """Take rows of a table, column by column."""
        self.flush()
        count, first, whole = len(rows.lines), self.count, _ints(rows.lines)
        self.count += count
        self.slugs.append(Strings.of(rows.slugs))
        for kind in dict.fromkeys(rows.kinds):
            self.kind_names.setdefault(kind, len(self.kind_names))
        columns: dict[str, Any] = {
            "files": [self.paths.setdefault(each, len(self.paths)) for each in rows.files or (rows.file,)],
            "lines": whole,
            "kinds": np.fromiter(map(self.kind_names.__getitem__, rows.kinds), np.int32, count),
            "sources": self.source_of(rows.habits),
            "title_from": np.array(rows.titled, dtype=np.bool_) * _BY_SLUG if any(rows.titled) else 0,
            "date_from": 0,
        }
        for name, numbers in columns.items():
            found = np.empty(count, dtype=_TYPES[name])
            found[:] = numbers
            self.columns.setdefault(name, []).append(found)
        owners = np.arange(first, first + count, dtype=np.int32)
        for name, values in rows.columns.items():
            lines = _ints(rows.at[name]) if name in rows.at else whole
            if None not in values and "" not in values:
                self.key(name).add(owners, list(values), lines)
                continue
            there = np.array([value is not None and value != "" for value in values], dtype=np.bool_)
            if there.any():
                self.key(name).add(owners[there], list(compress(values, there.tolist())), lines[there])

    def key(self, name: str) -> _Key:
        """Return the cells of a key in the making."""
        found = self.keys.get(name)
        if found is None:
            found = self.keys[name] = _Key()
        return found

    def flush(self) -> None:
        """Turn the records that are waiting into tables: those with the same keys together, key by key."""
        records, first = self.waiting, self.count
        if not records:
            return
        self.waiting, self.count = [], first + len(records)
        self.slugs.append(Strings.of([record.slug for record in records]))
        columns = {
            "files": [self.paths.setdefault(each.place.file, len(self.paths)) for each in records],
            "lines": [each.place.line for each in records],
            "kinds": [self.kind_names.setdefault(each.kind, len(self.kind_names)) for each in records],
            "sources": [self.source_of(each.habits) for each in records],
            "title_from": [GUESSES.index(each.guessed.get("title", "")) for each in records],
            "date_from": [GUESSES.index(each.guessed.get("date", "")) for each in records],
        }
        for name, numbers in columns.items():
            self.columns.setdefault(name, []).append(np.array(numbers, dtype=_TYPES[name]))
        alike: dict[tuple[str, ...], list[int]] = {}
        for number, record in enumerate(records):
            alike.setdefault(tuple(record.values), []).append(number)
        for names, numbers in alike.items():
            owners = _ints(numbers) + np.int32(first)
            for name in names:
                raws = [records[number].values[name] for number in numbers]
                self.key(name).add(owners, [value for value, _ in raws], _ints([line for _, line in raws]))

    def source_of(self, habits: Habits) -> int:
        """Return the number of a source's habits."""
        found = self.habits.get(id(habits))
        if found is None:  # kept, so that no others get the number of these in memory
            found = self.habits[id(habits)] = len(self.habits), habits
        return found[0]

    def done(self) -> RecordTable:
        """Return the records as tables."""
        self.flush()
        none = {name: [np.zeros(0, dtype=kind)] for name, kind in _TYPES.items()}
        columns = {name: np.concatenate(parts) for name, parts in {**none, **self.columns}.items()}
        return RecordTable(
            paths=Strings.of(self.paths),
            habits=tuple(habits for _, habits in self.habits.values()),
            kind_names=tuple(self.kind_names),
            slugs=Strings.joined(self.slugs),
            cells={name: key.done() for name, key in self.keys.items()},
            **columns,
        )
