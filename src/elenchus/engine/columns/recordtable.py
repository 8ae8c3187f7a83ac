"""Entries as they were written, key by key: what a run keeps for the next, and what tables are made of."""

from __future__ import annotations

import json
from array import array
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

    from elenchus.schema.record import Habits

__all__ = ["GUESSES", "NULL", "OTHER", "TEXT", "Cells", "Intake", "RecordTable"]

TEXT, OTHER, NULL = range(3)  # forms of a written value: a text, a list or table as JSON, nothing
GUESSES = ("", "heading", "file name")
_MOST_SEEN = 4096  # values of a key that are looked for among those before, if most of them are new


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
        for at in np.flatnonzero(self.forms[codes] != TEXT).tolist():
            found[at] = self.value(int(codes[at]))
        return found

    def of(self, record: int) -> Raw | None:
        """Return what a record has, None where it has not the key."""
        at = int(np.searchsorted(self.owners, record))
        if at == len(self.owners) or self.owners[at] != record:
            return None
        return Raw(self.value(int(self.codes[at])), int(self.lines[at]))

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
        found = {"date": int(self.date_from[record]), "title": int(self.title_from[record])}
        return {name: GUESSES[at] for name, at in found.items() if at}

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


_as_json = json.JSONEncoder(ensure_ascii=False, default=as_text).encode


class _Key:
    """The cells of one key in the making."""

    def __init__(self) -> None:
        self.owners, self.codes, self.lines = array("i"), array("i"), array("i")
        self.forms = bytearray()
        self.texts: list[str] = []
        self.seen: dict[Any, int] | None = {}

    def add(self, owner: int, value: Any, line: int) -> None:
        """Take what a record has."""
        texts = self.texts
        known = code = len(texts)
        if self.seen is not None:
            code = self.seen.setdefault(value if value.__class__ is str else (repr(value),), code)
        if code == known:
            form, text = _stored(value)
            texts.append(text)
            self.forms.append(form)
            # Titles and bodies are nearly all different: to remember them would only cost memory.
            if self.seen is not None and code > _MOST_SEEN and code > len(self.owners) * 3 // 4:
                self.seen = None
        self.owners.append(owner)
        self.codes.append(code)
        self.lines.append(line)

    def done(self) -> Cells:
        """Return the cells."""
        return Cells(
            np.array(self.owners, dtype=np.int32),
            np.array(self.codes, dtype=np.int32),
            np.array(self.lines, dtype=np.int32),
            Strings.of(self.texts),
            np.frombuffer(bytes(self.forms), dtype=np.uint8),
        )


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
    """Records that are taken in one by one."""

    def __init__(self) -> None:
        self.paths: dict[str, int] = {}
        self.files, self.lines, self.kinds = array("i"), array("i"), array("i")
        self.sources = array("h")
        self.habits: dict[int, int] = {}
        self.habits_of: list[Habits] = []
        self.kind_names: dict[str, int] = {}
        self.slugs: list[str] = []
        self.title_from, self.date_from = bytearray(), bytearray()
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
        number = len(self.files)
        self.files.append(self.paths.setdefault(record.place.file, len(self.paths)))
        self.lines.append(record.place.line)
        self.kinds.append(self.kind_names.setdefault(record.kind, len(self.kind_names)))
        source = self.habits.get(id(record.habits))
        if source is None:
            source = self.habits[id(record.habits)] = len(self.habits_of)
            self.habits_of.append(record.habits)  # kept, so that no other one gets its number
        self.sources.append(source)
        self.slugs.append(record.slug)
        guessed = record.guessed
        self.title_from.append(GUESSES.index(guessed["title"]) if "title" in guessed else 0)
        self.date_from.append(GUESSES.index(guessed["date"]) if "date" in guessed else 0)
        for name, raw in record.values.items():
            key = self.keys.get(name)
            if key is None:
                key = self.keys[name] = _Key()
            key.add(number, *raw)

    def done(self) -> RecordTable:
        """Return the records as tables."""
        return RecordTable(
            Strings.of(self.paths),
            np.array(self.files, dtype=np.int32),
            np.array(self.lines, dtype=np.int32),
            np.array(self.sources, dtype=np.int16),
            tuple(self.habits_of),
            np.array(self.kinds, dtype=np.int32),
            tuple(self.kind_names),
            Strings.of(self.slugs),
            np.frombuffer(bytes(self.title_from), dtype=np.uint8),
            np.frombuffer(bytes(self.date_from), dtype=np.uint8),
            {name: key.done() for name, key in self.keys.items()},
        )
