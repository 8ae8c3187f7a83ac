"""How content writes what a field holds: the same term is written as most entries write it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from elenchus.engine.columns.meanings import Meanings, scalars
from elenchus.schema.conform import can_be_parted, parted
from elenchus.schema.convert import Unfit
from elenchus.schema.types import Type
from elenchus.values.kept import cached_property
from elenchus.values.wording import as_text

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator

    from elenchus.engine.columns.dataset import Dataset
    from elenchus.engine.columns.recordtable import RecordTable
    from elenchus.schema.record import Habits, Record
    from elenchus.schema.types import Field

__all__ = ["Spellings", "meanings_of", "texts_in_any", "texts_of", "whole_names"]


def meanings_of(data: Dataset) -> Meanings:
    """Return what written values mean in some content."""
    return Meanings(data.zone, data.taxonomies, data.entries.names, {})


def whole_names(data: Dataset, field: Field | None) -> frozenset[str]:
    """Return the folded names of defined terms of a field that a separator could cut in two."""
    taxonomy = data.taxonomies.get(field.type.taxonomy) if field else None
    return taxonomy.unparted if taxonomy else frozenset()


def texts_of(
    record: Record, name: str, field: Field | None, whole: frozenset[str] = frozenset()
) -> list[str]:
    """Return the texts that a record has for a key: items of a list, parts of a text that stands for several.

    What nobody wrote, but was guessed, is none. ``whole`` are texts that are never parted.
    """
    raw = None if name in record.guessed else record.values.get(name)
    return _texts_in(raw.value, field, record.habits, whole) if raw else []


def texts_in_any(value: Any, field: Field, habits: Iterable[Habits], whole: frozenset[str]) -> list[str]:
    """Return the texts that a written value stands for in any of several sources, each once."""
    return list(dict.fromkeys(text for each in habits for text in _texts_in(value, field, each, whole)))


def _texts_in(value: Any, field: Field | None, habits: Habits, whole: frozenset[str]) -> list[str]:
    """Return the texts of a written value, see :func:`texts_of`."""
    texts = [as_text(each) for each in scalars(value)]
    if isinstance(value, str) and texts and habits.separator and can_be_parted(field):
        return parted(texts[0], habits.separator, whole) or texts
    return texts


class Spellings:
    """How one field is written: for each key the text that most entries have for it."""

    def __init__(self, data: Dataset, records: RecordTable, field: Field) -> None:
        self.data = data
        self.records = records
        self.field = field
        self.meanings = meanings_of(data)

    def key(self, text: str) -> Any:
        """Return what a text means. Raises Unfit."""
        return self.meanings.key(text, self.field)

    def of(self, text: str) -> str:
        """Return how what a text means is to be written. Raises Unfit."""
        key = self.key(text)
        if self.field.type.type not in (Type.TERM, Type.ENTRY, Type.CHOICE, Type.YESNO):
            return text
        known = self.known.get(key)
        if known is not None:
            return known
        if self.field.type.type is Type.TERM and self.are_slugs:
            return self.address(key)
        return self.field.type.choices[key] if self.field.type.type is Type.CHOICE else text

    @property
    def example(self) -> str:
        """A text that most entries have, empty if none has any."""
        return next(self._texts(), "")

    @cached_property
    def known(self) -> dict[Any, str]:
        """The text that most entries have, for each key."""
        found: dict[Any, str] = {}
        for text in self._texts():
            try:
                found.setdefault(self.key(text), text)
            except Unfit:
                continue
        return found

    @cached_property
    def are_slugs(self) -> bool:
        """Say whether most terms are written as their slugs."""
        as_slug = [text == self.address(key) for key, text in self.known.items()]
        return 2 * sum(as_slug) > len(as_slug)

    def address(self, key: int) -> str:
        """Return the slug of a term, with those above it in a tree."""
        return str(self.data.taxonomies[self.field.type.taxonomy].terms[key].address)

    def _texts(self) -> Iterator[str]:
        """Yield the texts that entries have, those of most entries first."""
        cells = self.records.cells.get(self.field.name)
        if cells is None or not len(cells.codes):
            return
        counts = np.bincount(cells.codes)
        order = np.argsort(-counts, kind="stable")
        whole = whole_names(self.data, self.field)
        for value in cells.values(order[counts[order] > 0]):
            yield from texts_in_any(value, self.field, self.records.habits, whole)
