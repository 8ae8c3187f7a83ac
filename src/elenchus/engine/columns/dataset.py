"""All of a site's content as tables, ready for questions."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from hashlib import blake2b
from typing import TYPE_CHECKING

import numpy as np

from elenchus.engine.columns.column import Dates, Numbers, Terms, Texts, narrowed
from elenchus.frozen import Frozen
from elenchus.plan.nodes import EntryValue
from elenchus.schema.types import CORE_FIELDS, term_fields
from elenchus.values.texts import fold, nearest

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence
    from zoneinfo import ZoneInfo

    from numpy.typing import NDArray

    from elenchus.engine.columns.ancestry import Ancestry
    from elenchus.engine.columns.column import Column
    from elenchus.errors import Problem
    from elenchus.plan.nodes import FieldRef, RowName
    from elenchus.schema.catalog import TermName
    from elenchus.schema.subject import Subject
    from elenchus.schema.taxonomy import Taxonomy
    from elenchus.schema.types import Field, FieldType, Schema

__all__ = ["Dataset", "Entries", "Misfit", "digests"]


class Misfit(Frozen):
    """A stored value that does not fit the type of its field, and so counts as missing."""

    row: int
    field: str
    text: str
    problem: Problem


@dataclass(frozen=True)
class Entries:
    """The entries, newest first, ties by id, those without a date last.

    ``kinds`` holds the position of each row's kind in the schema, ``id_rank`` the place of its id
    among all ids. A row is public at instants opens <= now < closes, in microseconds since 1970.
    ``columns`` are found by a field's name and type; ``ancestry`` follows the field ``parent``. Where
    ``in_order`` is false, a row stands where another date put it.
    """

    ids: Sequence[str]
    kinds: NDArray[np.int16]
    id_rank: NDArray[np.int32]
    opens: NDArray[np.int64]
    closes: NDArray[np.int64]
    columns: Mapping[tuple[str, FieldType], Column]
    ancestry: Ancestry
    in_order: bool = True

    def __len__(self) -> int:
        return len(self.ids)

    @cached_property
    def digests(self) -> NDArray[np.uint64]:
        """64 bits for each row that depend on its id only."""
        return digests(self.ids)


def digests(ids: Sequence[str]) -> NDArray[np.uint64]:
    """Return the first 64 bits of the BLAKE2 digest of each id."""
    found = b"".join(blake2b(name.encode(errors="surrogatepass"), digest_size=8).digest() for name in ids)
    return np.frombuffer(found, dtype="<u8").astype(np.uint64)


@dataclass(frozen=True)
class Dataset:
    """Entries and taxonomies under a schema, in one zone, with the problems met while reading.

    ``flags`` has for each row that a key such as ``draft`` keeps back that key, and whether its status does
    so as well; ``guessed`` the fields that nobody wrote, with what they were made of.
    """

    schema: Schema
    entries: Entries
    taxonomies: Mapping[str, Taxonomy]
    zone: ZoneInfo
    problems: Sequence[Problem]
    names: Mapping[str, list[int]]  # folded id, slug and kind/slug → rows
    misfits: Sequence[Misfit]
    notes: Sequence[Problem] = ()  # what was understood, and may have been meant otherwise
    flags: Mapping[int, tuple[str, bool]] = field(default_factory=dict)
    guessed: Mapping[int, Mapping[str, str]] = field(default_factory=dict)
    hidden: dict[tuple[str, int], frozenset[int]] = field(default_factory=dict, compare=False, repr=False)
    columns: dict[tuple[Subject, FieldRef], Column] = field(default_factory=dict, compare=False, repr=False)

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

    def kind_of(self, row: int) -> str:
        """Return the name of a row's kind."""
        return self.kind_names[int(self.entries.kinds[row])]

    @cached_property
    def rows_of_ids(self) -> dict[str, int]:
        """The row of each id."""
        return {name: row for row, name in enumerate(self.entries.ids)}

    def row_of(self, subject: Subject, name: RowName) -> int:
        """Return the row that a value of a plan names, -1 where there is none of the name."""
        if isinstance(name, EntryValue):
            return self.rows_of_ids.get(name.id, -1)
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

    def entries_called(self, name: str, kind: str = "") -> list[str]:
        """See :class:`Catalog`."""
        return [self.entries.ids[row] for row in self.find_entry(name, kind)]

    def entries_near(self, name: str, kind: str, now: int | None) -> tuple[str, ...]:
        """See :class:`Catalog`."""
        opens, closes = self.entries.opens, self.entries.closes
        known = (
            each
            for each, rows in self.names.items()
            if (not kind or self.kind_of(rows[0]) == kind)
            and (now is None or opens[rows[0]] <= now < closes[rows[0]])
        )
        return nearest(name, known)

    def find_entry(self, name: str, kind: str = "") -> list[int]:
        """Return the rows that an id, slug or kind/slug may mean, of one kind where it is given."""
        rows = self.names.get(fold(name.strip()), [])
        return [row for row in rows if not kind or self.kind_of(row) == kind]
