"""All of a site's content as tables, ready for questions."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

import numpy as np

from elenchus.engine.columns.column import Dates, Numbers, Terms, Texts, narrowed
from elenchus.engine.columns.recordtable import guesses
from elenchus.engine.columns.strings import ranks_of
from elenchus.frozen import Frozen, Working, member, replace
from elenchus.plan.nodes import EntryValue
from elenchus.schema.types import CORE_FIELDS, term_fields
from elenchus.values.kept import cached_property
from elenchus.values.texts import fold, nearest

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence
    from zoneinfo import ZoneInfo

    from numpy.typing import NDArray

    from elenchus.engine.columns.ancestry import Ancestry
    from elenchus.engine.columns.column import Column, Mask
    from elenchus.engine.columns.naming import EntryNames
    from elenchus.engine.columns.recordnames import RecordNames
    from elenchus.engine.columns.strings import Picked
    from elenchus.errors import Problem
    from elenchus.plan.nodes import FieldRef, RowName
    from elenchus.schema.catalog import TermName
    from elenchus.schema.subject import Subject
    from elenchus.schema.taxonomy import Taxonomy
    from elenchus.schema.types import Field, FieldType, Schema

__all__ = ["Dataset", "Entries", "Flags", "Guessed", "Misfit"]


class Misfit(Frozen):
    """A stored value that does not fit the type of its field, and so counts as missing."""

    row: int
    field: str
    text: str
    problem: Problem


class Entries(Working):
    """The entries, newest first, ties by id, those without a date last.

    A row is public at instants opens <= now < closes, in microseconds since 1970. ``columns`` are found by
    a field's name and type; ``ancestry`` follows the field ``parent``. Where ``in_order`` is false, a row
    stands where another date put it.
    """

    names: EntryNames
    opens: NDArray[np.int64]
    closes: NDArray[np.int64]
    columns: Mapping[tuple[str, FieldType], Column]
    ancestry: Ancestry
    in_order: bool = True

    def __len__(self) -> int:
        return len(self.names.records)

    @cached_property
    def ids(self) -> Picked:
        """The id of each row."""
        return self.names.ids

    @property
    def kinds(self) -> NDArray[np.int16]:
        """The place of each row's kind in the schema."""
        return self.names.kinds

    @cached_property
    def id_rank(self) -> NDArray[np.int32]:
        """The place of each row's id among all, by code point."""
        return ranks_of(list(self.ids))


class Flags(Mapping[int, tuple[str, str]]):
    """The rows that a key such as ``draft`` keeps back: that key, and the status beside it if not published.

    ``which`` (uint8) is for each row the place of its key in ``keys_told``, from 1; 0 for none. ``beside``
    (int32) is that of the status in ``statuses_told``.
    """

    def __init__(
        self,
        keys_told: Sequence[str],
        statuses_told: Sequence[str],
        which: NDArray[np.uint8],
        beside: NDArray[np.int32],
    ) -> None:
        self.keys_told = keys_told
        self.statuses_told = statuses_told
        self.which = which
        self.beside = beside

    @classmethod
    def of(cls, told: Mapping[int, tuple[str, str]], size: int) -> Flags:
        """Return what is told of some of so many rows."""
        keys = {key: at for at, key in enumerate(dict.fromkeys(key for key, _ in told.values()), start=1)}
        words = dict.fromkeys(word for _, word in told.values() if word)
        places = {"": 0} | {word: at for at, word in enumerate(words, start=1)}
        which, beside = np.zeros(size, dtype=np.uint8), np.zeros(size, dtype=np.int32)
        rows = list(told)
        which[rows] = [keys[key] for key, _ in told.values()]
        beside[rows] = [places[word] for _, word in told.values()]
        return cls(list(keys), list(words), which, beside)

    def __getitem__(self, row: int) -> tuple[str, str]:
        if not self.which[row]:
            raise KeyError(row)
        at = int(self.beside[row])
        return self.keys_told[int(self.which[row]) - 1], self.statuses_told[at - 1] if at else ""

    def __iter__(self) -> Iterator[int]:
        rows: list[int] = np.flatnonzero(self.which).tolist()
        return iter(rows)

    def __len__(self) -> int:
        return int(np.count_nonzero(self.which))


class Guessed(Mapping[int, Mapping[str, str]]):
    """The rows with values that nobody wrote, with what those were made of, as :func:`guesses` has it."""

    def __init__(self, titles: NDArray[np.uint8], dates: NDArray[np.uint8]) -> None:
        self.titles = titles
        self.dates = dates

    @cached_property
    def rows(self) -> list[int]:
        """The rows."""
        found: list[int] = np.flatnonzero(self.titles | self.dates).tolist()
        return found

    def __getitem__(self, row: int) -> dict[str, str]:
        found = guesses(int(self.dates[row]), int(self.titles[row]))
        if not found:
            raise KeyError(row)
        return found

    def __iter__(self) -> Iterator[int]:
        return iter(self.rows)

    def __len__(self) -> int:
        return len(self.rows)


class Dataset(Working):
    """Entries and taxonomies under a schema, in one zone, with the problems met while reading.

    ``record_names`` are the names of the records from which it was made.
    """

    schema: Schema
    entries: Entries
    taxonomies: Mapping[str, Taxonomy]
    zone: ZoneInfo
    problems: Sequence[Problem]
    misfits: Sequence[Misfit]
    record_names: RecordNames
    flags: Flags
    guessed: Guessed
    notes: Sequence[Problem] = ()  # what was understood, and may have been meant otherwise
    hidden: dict[tuple[str, int], frozenset[int]] = member(default_factory=dict, compare=False)
    columns: dict[tuple[Subject, FieldRef], Column] = member(default_factory=dict, compare=False)

    def core(self, name: str) -> Column:
        """Return the column of a field that every entry has with the same type."""
        return self.entries.columns[name, CORE_FIELDS[name].type]

    def dates(self, name: str) -> Dates:
        """Return the column of one of the dates that every entry has."""
        return narrowed(self.core(name), Dates)

    def texts(self, name: str) -> Texts:
        """Return the column of one of the texts that every entry has."""
        return narrowed(self.core(name), Texts)

    def terms(self, taxonomy: str) -> Terms:
        """Return the terms of a taxonomy that entries have."""
        return narrowed(self.entries.columns[taxonomy, self.schema.taxonomies[taxonomy].field_type], Terms)

    @property
    def statuses(self) -> Numbers:
        """The status of each entry, by its position among all."""
        return narrowed(self.core("status"), Numbers)

    def term_fields(self, taxonomy: str) -> dict[str, Field]:
        """Return the fields of a taxonomy's terms, the columns of its file among them."""
        columns = dict.fromkeys(name for term in self.taxonomies[taxonomy].terms for name in term.columns)
        return term_fields(self.schema.taxonomies[taxonomy], columns)

    @cached_property
    def misfits_by_row(self) -> dict[tuple[int, str], Misfit]:
        """The values that do not fit, by row and field."""
        return {(each.row, each.field): each for each in reversed(self.misfits)}

    def misfit(self, row: int, field: str) -> str:
        """Return the stored text of a field that does not fit its type; nothing where there is none."""
        found = self.misfits_by_row.get((row, field))
        return found.text if found else ""

    def all_public(self) -> Dataset:
        """Return the same as if anybody might see all entries at any time."""
        size, bounds = len(self.entries), np.iinfo(np.int64)
        opens, closes = (np.full(size, bound, dtype=np.int64) for bound in (bounds.min, bounds.max))
        return replace(self, entries=replace(self.entries, opens=opens, closes=closes), hidden={}, columns={})

    def hidden_terms(self, taxonomy: str, now: int) -> frozenset[int]:
        """Return the terms that only unpublished entries use and no file defines: nobody is shown them."""
        if not self.taxonomies[taxonomy].is_made:
            return frozenset()
        if (taxonomy, now) not in self.hidden:
            column = self.terms(taxonomy)
            visible = (self.entries.opens <= now) & (now < self.entries.closes)
            used = np.bincount(
                column.terms[visible[column.lists.owners]], minlength=len(self.taxonomies[taxonomy].terms)
            )
            running = np.concatenate(([0], np.cumsum(used)))
            below = running[np.array(self.taxonomies[taxonomy].ends, dtype=np.int64)] - running[:-1]
            self.hidden[taxonomy, now] = frozenset(np.flatnonzero(below == 0).tolist())
        return self.hidden[taxonomy, now]

    @cached_property
    def kind_names(self) -> list[str]:
        """The names of the kinds, in the order in which the site declares them."""
        return list(self.schema.kinds)

    def of_kinds(self, kinds: Sequence[str]) -> Mask:
        """Return which rows are of some kinds."""
        wanted = np.array([name in kinds for name in self.kind_names], np.bool_)
        found: Mask = wanted[self.entries.kinds]
        return found

    def kind_of(self, row: int) -> str:
        """Return the name of a row's kind."""
        return self.kind_names[int(self.entries.kinds[row])]

    def row_of_id(self, name: str) -> int:
        """Return the row of an entry's id, -1 where there is none."""
        return self.entries.names.row(name)

    def row_of(self, subject: Subject, name: RowName) -> int:
        """Return the row that a value of a plan names, -1 where there is none of the name."""
        if isinstance(name, EntryValue):
            return self.row_of_id(name.id)
        return self.taxonomies[subject.taxonomy].places.get(name.path, -1)

    # As a catalog

    def terms_called(self, taxonomy: str, name: str) -> list[TermName]:
        """See :class:`Catalog`."""
        terms = self.taxonomies[taxonomy]
        return [terms.named(number) for number in terms.find(name)]

    def terms_beside(self, taxonomy: str, name: str) -> list[TermName]:
        """See :class:`Catalog`."""
        terms = self.taxonomies[taxonomy]
        return [terms.named(number) for number in terms.others_called(name)]

    def terms_near(self, taxonomy: str, name: str, now: int | None) -> tuple[str, ...]:
        """See :class:`Catalog`."""
        hidden = frozenset() if now is None else self.hidden_terms(taxonomy, now)
        return self.taxonomies[taxonomy].suggest(name, hidden)

    def entries_called(self, name: str, kinds: Sequence[str] = ()) -> list[str]:
        """See :class:`Catalog`."""
        return [self.entries.ids[row] for row in self.find_entry(name, kinds)]

    def entries_near(self, name: str, kinds: Sequence[str], now: int | None) -> tuple[str, ...]:
        """See :class:`Catalog`."""
        opens, closes = self.entries.opens, self.entries.closes
        known = (
            each
            for each, row in self.entries.names.items()
            if (not kinds or self.kind_of(row) in kinds) and (now is None or opens[row] <= now < closes[row])
        )
        return nearest(name, known)

    def find_entry(self, name: str, kinds: Sequence[str] = ()) -> list[int]:
        """Return the rows that an id, slug or kind/slug may mean, of some kinds if these are given."""
        return self.entries.names.find(fold(name.strip()), kinds)
