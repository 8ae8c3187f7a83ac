"""Marks: 64 bits for each row that are the same, but for chance, only where its values are.

They tell which rows have changed between two runs without reading a value back. One that two values share
is as likely as one in 2^64; nobody gains by bringing that about.
"""

from __future__ import annotations

from hashlib import blake2b
from typing import TYPE_CHECKING, TypeAlias

import numpy as np

from elenchus.engine.columns.column import Dates, Lists, Numbers, Terms, Texts, narrowed
from elenchus.schema.subject import ENTRIES
from elenchus.schema.types import Type

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable

    from numpy.typing import NDArray

    from elenchus.engine.columns.column import Column
    from elenchus.engine.columns.strings import Strings
    from elenchus.engine.view import View
    from elenchus.schema.types import FieldType

Marks: TypeAlias = "NDArray[np.uint64]"

__all__ = ["Marks", "mixed", "row_marks", "string_marks", "text_marks"]

# The constants of SplitMix64 (Steele, Lea, Flood: “Fast splittable pseudorandom number generators”, 2014).
_STEP = np.uint64(0x9E3779B97F4A7C15)
_FIRST = np.uint64(0xBF58476D1CE4E5B9)
_SECOND = np.uint64(0x94D049BB133111EB)
_SIZE = 8  # bytes of a mark
_WIDTHS = (8, 16, 24, 32, 48, 64, 96)  # bytes to which short texts are filled up, those of one width at once
_AT_ONCE = 2**14  # texts


def mixed(values: Marks) -> Marks:
    """Return numbers in which each bit depends on all bits of those given."""
    found = values + _STEP
    found = (found ^ (found >> np.uint64(30))) * _FIRST
    found = (found ^ (found >> np.uint64(27))) * _SECOND
    return found ^ (found >> np.uint64(31))


def _digest(text: bytes) -> bytes:
    """Return the bytes of the mark of a text."""
    return blake2b(text, digest_size=_SIZE).digest()


def text_marks(texts: Iterable[bytes]) -> Marks:
    """Return the marks of texts in UTF-8."""
    return np.frombuffer(b"".join(map(_digest, texts)), dtype="<u8").astype(np.uint64)


def string_marks(texts: Strings) -> Marks:
    """Return the marks of the texts of a block: of short ones all at once, in words of eight bytes."""
    found, lengths = np.zeros(len(texts), dtype=np.uint64), texts.lengths
    before = -1
    for width in _WIDTHS:
        chosen = np.flatnonzero((lengths > before) & (lengths <= width))
        for first in range(0, len(chosen), _AT_ONCE):
            part = chosen[first : first + _AT_ONCE]
            found[part] = _of_width(texts, part, lengths[part], width)
        before = width
    longer = np.flatnonzero(lengths > before)
    spans = zip(texts.starts[longer].tolist(), texts.starts[longer + 1].tolist(), strict=True)
    found[longer] = text_marks(texts.bytes_of(start, end - 1) for start, end in spans)
    return found


def _of_width(texts: Strings, at: NDArray[np.intp], lengths: NDArray[np.int64], width: int) -> Marks:
    """Return the marks of some texts of up to so many bytes."""
    places = np.arange(width)
    spots = np.minimum(texts.starts[at][:, None] + places, len(texts.bytes) - 1)
    block = np.where(places < lengths[:, None], texts.bytes[spots], np.uint8(0))
    words = np.ascontiguousarray(block).view("<u8").astype(np.uint64)
    found = mixed(lengths.astype(np.uint64))
    for column in words.T:
        found = mixed(found ^ column)
    return found


def row_marks(view: View, of_rows: Marks, of_terms: Callable[[str], Marks]) -> Marks:
    """Return the marks of all entries as a view shows them.

    ``of_rows`` are what a reference to each entry shows, ``of_terms`` what each term of a taxonomy does.
    """
    columns, known = view.data.entries.columns, _Known(of_rows, of_terms)
    found = mixed(of_rows + view.data.entries.kinds.astype(np.uint64))
    for name, kind in sorted(columns, key=repr):
        found = mixed(found ^ known.of_column(view.stored(name, kind, ENTRIES), kind))
    return found


class _Known:
    """The marks of columns, with those of their texts, which columns share."""

    def __init__(self, of_rows: Marks, of_terms: Callable[[str], Marks]) -> None:
        self.of_rows = of_rows
        self.of_terms = of_terms
        self.of_texts: dict[int, tuple[Strings, Marks]] = {}  # by identity, so that none is another's

    def of_column(self, column: Column, kind: FieldType) -> Marks:
        """Return the marks of the rows of a column; those of a list depend on its order."""
        if isinstance(column, Terms):
            column = column.lists
        if not isinstance(column, Lists):
            return self.of_values(column, kind)
        starts, owners = column.starts, column.owners
        places = np.arange(len(owners)) - starts[owners]
        elements = mixed(self.of_values(column.elements, kind) + places.astype(np.uint64) * _STEP)
        running = np.concatenate((np.zeros(1, np.uint64), np.cumsum(elements, dtype=np.uint64)))
        return running[starts[1:]] - running[starts[:-1]]

    def of_values(self, column: Column, kind: FieldType) -> Marks:
        """Return the marks of single values, 0 for what is missing."""
        if isinstance(column, Texts):
            return np.append(self.of_strings(column.lexicon.texts), np.uint64(0))[column.places]
        single = narrowed(column, Numbers)
        match kind.type:
            case Type.ENTRY:
                found = np.append(self.of_rows, np.uint64(0))[np.where(single.valid, single.keys, -1)]
            case Type.TERM:
                found = np.append(self.of_terms(kind.taxonomy), np.uint64(0))[single.keys]
            case _:
                keys = single.keys
                is_real = keys.dtype.kind == "f"
                found = keys.astype(np.float64).view(np.uint64) if is_real else keys.astype(np.uint64)
        if isinstance(single, Dates):
            found = found ^ single.whole.astype(np.uint64)
        return np.where(single.valid, mixed(found), np.uint64(0))

    def of_strings(self, texts: Strings) -> Marks:
        """Return the marks of texts, worked out once."""
        if id(texts) not in self.of_texts:
            self.of_texts[id(texts)] = texts, string_marks(texts)
        return self.of_texts[id(texts)][1]
