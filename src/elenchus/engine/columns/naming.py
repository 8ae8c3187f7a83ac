"""What the names of entries mean: ids, slugs and kind/slug, whatever their case."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from elenchus.engine.columns.strings import Picked
from elenchus.values.kept import cached_property
from elenchus.values.texts import fold

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from numpy.typing import NDArray

    from elenchus.engine.columns.lexicon import Lexicon

__all__ = ["EntryNames"]


class EntryNames:
    """The names of entries, by their rows; an id hides equal slugs.

    ``records`` are the places of the rows in ``ids`` and ``slugs``, ``kinds`` their places in ``kind_names``.
    """

    def __init__(
        self,
        ids: Lexicon,
        slugs: Lexicon,
        records: NDArray[np.int32],
        kinds: NDArray[np.int16],
        kind_names: Sequence[str],
    ) -> None:
        self.id_texts, self.slug_texts = ids, slugs
        self.records = records
        self.kinds = kinds
        self.kind_names = kind_names

    @property
    def ids(self) -> Picked:
        """The id of each row."""
        return Picked(self.id_texts.texts, self.records)

    @cached_property
    def row_of_code(self) -> NDArray[np.int32]:
        """The row of each code of an id, -1 where there is none."""
        found = np.full(len(self.id_texts), -1, dtype=np.int32)
        found[self.id_texts.codes[self.records]] = np.arange(len(self.records), dtype=np.int32)
        return found

    @cached_property
    def by_slug(self) -> tuple[NDArray[np.intp], NDArray[np.int32]]:
        """The rows in the order of the codes of their slugs, and those codes."""
        codes = self.slug_texts.codes[self.records]
        order = np.argsort(codes, kind="stable")
        return order, codes[order]

    def row(self, name: str) -> int:
        """Return the row of an id, -1 where there is none."""
        code = self.id_texts.find(fold(name))
        row = int(self.row_of_code[code]) if code >= 0 else -1
        return row if row >= 0 and self.id_texts.texts[int(self.records[row])] == name else -1

    def find(self, folded: str, wanted: Sequence[str] = ()) -> list[int]:
        """Return the rows that a folded name may mean, of some kinds if these are given."""
        numbers = {number for number, kind in enumerate(self.kind_names) if kind in wanted or not wanted}
        code = self.id_texts.find(folded)
        row = int(self.row_of_code[code]) if code >= 0 else -1
        if row >= 0 and int(self.kinds[row]) in numbers:
            return [row]
        found = set(self._with_slug(folded))
        for number, kind in enumerate(self.kind_names):
            start = f"{fold(kind)}/"
            if folded.startswith(start):
                found |= {row for row in self._with_slug(folded[len(start) :]) if self.kinds[row] == number}
        found = {row for row in found if int(self.kinds[row]) in numbers}
        return sorted(found) or self._with_number(folded, numbers)

    def _with_number(self, folded: str, kinds: set[int]) -> list[int]:
        """Return the rows of some kinds that a number tells apart from others of their kind."""
        if not (folded.isascii() and folded.isdigit()):
            return []
        names = [fold(self.kind_names[number]) for number in sorted(kinds)]
        codes = [self.id_texts.find(f"{name}/{folded}") for name in names]
        rows = (int(self.row_of_code[code]) for code in codes if code >= 0)
        return sorted(row for row in rows if row >= 0)

    def _with_slug(self, folded: str) -> list[int]:
        """Return the rows with a slug."""
        code = self.slug_texts.find(folded)
        if code < 0:
            return []
        order, codes = self.by_slug
        low, high = np.searchsorted(codes, [code, code + 1]).tolist()
        found: list[int] = order[low:high].tolist()
        return found

    def __iter__(self) -> Iterator[str]:
        return (name for name, _ in self.items())

    def items(self) -> Iterator[tuple[str, int]]:
        """Yield each folded name with the first row that it may mean."""
        ids = self.id_texts.folded.at(self.records)
        yield from zip(ids, range(len(ids)), strict=True)
        known = set(ids)
        kinds = list(map(fold, self.kind_names))
        for row, slug in enumerate(self.slug_texts.folded.at(self.records)):
            for name in (slug, f"{kinds[int(self.kinds[row])]}/{slug}"):
                if name not in known:
                    known.add(name)
                    yield name, row
