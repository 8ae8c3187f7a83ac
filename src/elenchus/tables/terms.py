"""Terms as rows: the terms of a site are in memory, what is counted over entries comes from tables."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import ibis
import numpy as np

from elenchus.engine.columns.column import Column, Dates, Numbers
from elenchus.engine.columns.termtable import TermTable
from elenchus.engine.executor import Engine
from elenchus.tables.columns import Through
from elenchus.tables.scope import Scope
from elenchus.tables.shown import TableView, no_entries
from elenchus.values.kept import cached_property

if TYPE_CHECKING:
    from ibis.expr import types as ir
    from numpy.typing import NDArray

    from elenchus.engine.view import View
    from elenchus.plan.nodes import FieldRef
    from elenchus.schema.subject import Subject
    from elenchus.tables.columns import TermsOf
    from elenchus.tables.expressions import Mask

__all__ = ["OverTerms", "TermsEngine", "term_view"]


class _CountedTerms(TermTable):
    """The terms of a taxonomy, counted over the entries of tables that may be seen."""

    scope: Any = None

    @property
    def of_entries(self) -> ir.Table:
        """The terms of the entries that may be seen."""
        used, scope = self.scope.table("entry_terms"), self.scope
        mine = used.filter(used.taxonomy == scope.values.text(self.taxonomy.name))
        return mine if scope.unpublished else mine.filter(mine.entry.isin(scope.seen.id))

    def numbers_of(self, told: list[tuple[Any, ...]], dtype: Any = np.int64) -> NDArray[np.int64]:
        """Return one number for each term, from pairs of paths and numbers."""
        found = np.zeros(len(self.taxonomy.terms), dtype=dtype)
        for path, number in told:
            found[self.taxonomy.places[tuple(path.split("/"))]] = number
        return found

    @cached_property
    def counts(self) -> NDArray[np.int64]:
        """See :class:`TermTable`."""
        used = self.of_entries
        rows = used.group_by("path").aggregate(k_count=used.count())
        return self.numbers_of(
            self.scope.rows(rows.select("path", "k_count"), "how many entries each term has")
        )

    @property
    def above(self) -> ir.Table:
        """The terms of entries, a row for each term and each one above it, by ``above``."""
        terms, scope = self.scope.table("terms"), self.scope
        own = terms.filter(terms.taxonomy == scope.values.text(self.taxonomy.name))
        over, below = own.view(), own.view().select(k_path="path", k_first="first")
        pairs = over.inner_join(below, [over["first"] <= below.k_first, below.k_first < over["last"]])
        pairs = pairs.select("k_path", above="path")
        used = self.of_entries
        return used.inner_join(pairs, used.path == pairs.k_path).select("entry", "above")

    @cached_property
    def totals(self) -> NDArray[np.int64]:
        """See :class:`TermTable`."""
        rows = self.above
        counted = rows.group_by("above").aggregate(k_count=rows.entry.nunique())
        return self.numbers_of(
            self.scope.rows(counted.select("above", "k_count"), "how many with those below")
        )

    @cached_property
    def latest(self) -> Dates:
        """See :class:`TermTable`."""
        scope, rows = self.scope, self.above
        entries = scope.table("entries")
        dated = entries.filter(entries.date_start.notnull())
        dated = dated.select("date_start", "date_local", "date_end", "date_whole", k_entry="id")
        rows = rows.inner_join(dated, rows.entry == dated.k_entry)
        nth = ibis.row_number().over(
            ibis.window(group_by="above", order_by=[ibis.desc("date_start"), "entry"])
        )
        rows = rows.mutate(k_nth=nth)
        newest = rows.filter(rows.k_nth == 0).select(
            "above", "date_start", "date_local", "date_end", "date_whole"
        )
        size = len(self.taxonomy.terms)
        found, valid = np.zeros((4, size), dtype=np.int64), np.zeros(size, np.bool_)
        for path, *values in scope.rows(newest, "the newest date of each term"):
            at = self.taxonomy.places[tuple(path.split("/"))]
            found[:, at], valid[at] = [int(value) for value in values], True
        return Dates(found[0], valid, found[1], found[2], found[3].astype(np.bool_))


class _TermView(TableView):
    """A view of terms whose entries are in tables."""

    def table(self, taxonomy: str) -> TermTable:
        """See :class:`View`."""
        if taxonomy not in self.tables:
            rules, nothing = self.data.schema.taxonomies[taxonomy], None
            terms = self.data.taxonomies[taxonomy]
            self.tables[taxonomy] = _CountedTerms(terms, rules, nothing, nothing, nothing, self.scope)  # type: ignore[arg-type]
        return self.tables[taxonomy]

    def counted(self, kind: str, field: FieldRef, subject: Subject) -> Column:
        """See :class:`View`."""
        terms = self.table(field.type.taxonomy or subject.taxonomy)
        used, scope = terms.of_entries, self.scope  # type: ignore[attr-defined]
        of_kind = scope.table("entries")
        of_kind = of_kind.filter(of_kind.kind == scope.values.text(kind))
        rows = used.filter(used.entry.isin(of_kind.id))
        counted = rows.group_by("path").aggregate(k_count=rows.count())
        told = scope.rows(counted.select("path", "k_count"), f"how many of the kind {kind} each term has")
        return Numbers(terms.numbers_of(told), np.ones(len(terms.taxonomy.terms), np.bool_))  # type: ignore[attr-defined]


def term_view(scope: Scope) -> View:
    """Return a view of the terms of a site, which knows no entries."""
    return _TermView(no_entries(scope), scope.now, scope.unpublished, scope=scope)


class TermsEngine(Engine):
    """The executor in memory, over terms whose entries are in tables."""

    scope: Any = None

    def view(self, *, unpublished: bool = False) -> View:
        """See :class:`Engine`."""
        if unpublished not in self.views:
            self.views[unpublished] = term_view(Scope(self.scope.data, self.scope.now, unpublished))
        return self.views[unpublished]


class OverTerms(Through):
    """What is said of the terms of entries: ``element`` has it of all terms, in memory."""

    terms: TermsOf

    def among(self, mask: NDArray[np.bool_]) -> Mask:
        """Return which entries have a term of a mask."""
        return self.terms.having(np.flatnonzero(mask).tolist())
