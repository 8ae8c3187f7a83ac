"""The terms of a taxonomy as rows: their places in the tree, and counts over the visible entries."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from elenchus.engine.columns.column import Column, Dates, Mask, Numbers, Terms, Texts
from elenchus.frozen import Working
from elenchus.values.kept import cached_property

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from elenchus.schema.taxonomy import Taxonomy
    from elenchus.schema.types import TaxonomyRules

__all__ = ["TermTable"]


class TermTable(Working):
    """A taxonomy with the column of its terms in the entries, their dates, and which of them are visible.

    Counts are int64 arrays of one item a term.
    """

    taxonomy: Taxonomy
    rules: TaxonomyRules
    used: Terms
    dates: Dates
    visible: Mask

    def column(self, name: str) -> Column:
        """Return the column of a field of the terms."""
        every = np.ones(len(self.taxonomy.terms), np.bool_)
        match name:
            case "parent":
                return Numbers(np.maximum(self.parents, 0), self.parents >= 0)
            case "depth":
                return Numbers(self.depths, every)
            case "own":
                return Numbers(self.counts, every)
            case "with_below":
                return Numbers(self.totals, every)
            case "latest":
                return self.latest
            case _:
                return Texts.of(self.texts(name))

    def texts(self, name: str) -> list[str]:
        """Return the texts of a field, nothing where a term has none."""
        terms = self.taxonomy.terms
        match name:
            case "id":
                return self.taxonomy.ids
            case "slug":
                return [term.slug for term in terms]
            case "name":
                return [term.name for term in terms]
            case "path":
                return [term.address for term in terms]
            case "address":
                return [self.rules.address_of(term.slug, term.address, term.id) for term in terms]
            case _:
                return [term.columns.get(name, "") for term in terms]

    @cached_property
    def depths(self) -> NDArray[np.int64]:
        """How many terms stand above each."""
        return np.array([len(term.path) - 1 for term in self.taxonomy.terms], dtype=np.int64)

    @cached_property
    def parents(self) -> NDArray[np.int64]:
        """The number of each term's parent, -1 for none."""
        return np.array(self.taxonomy.parents, dtype=np.int64)

    @cached_property
    def pairs(self) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
        """The terms of visible entries, and the entry of each, ascending."""
        owners = self.used.lists.owners
        chosen = np.flatnonzero(self.visible[owners])
        return self.used.terms[chosen], owners[chosen].astype(np.int32)

    @cached_property
    def counts(self) -> NDArray[np.int64]:
        """How many visible entries have the term itself."""
        return np.bincount(self.pairs[0], minlength=len(self.taxonomy.terms)).astype(np.int64)

    @cached_property
    def totals(self) -> NDArray[np.int64]:
        """How many distinct visible entries have the term or one below it.

        An entry's terms ascend in depth-first order. Each one counts once for itself and all above it;
        what two neighbours count twice is what lies above both, so their lowest common term takes one
        away. Sums over subtrees are then differences of one running sum.
        """
        terms, owners = self.pairs
        gains = self.counts.copy()
        beside = np.flatnonzero(owners[1:] == owners[:-1])
        common = self.common(terms[beside], terms[beside + 1])
        np.subtract.at(gains, common[common >= 0], 1)
        running = np.concatenate(([0], np.cumsum(gains)))
        ends = np.array(self.taxonomy.ends, dtype=np.int64)
        found: NDArray[np.int64] = running[ends] - running[:-1]
        return found

    def common(self, left: NDArray[np.int32], right: NDArray[np.int32]) -> NDArray[np.int64]:
        """Return the lowest term at or above both of each pair with left < right; -1 where there is none."""
        ends = np.array(self.taxonomy.ends, dtype=np.int64)
        found = left.astype(np.int64)
        while True:
            apart = np.flatnonzero((found >= 0) & (ends[found] <= right))
            if not len(apart):
                return found
            found[apart] = self.parents[found[apart]]

    @cached_property
    def latest(self) -> Dates:
        """The newest date of the visible entries that have the term or one below it."""
        dates = self.dates
        size = len(self.taxonomy.terms)
        best = np.full(size, -1, dtype=np.int64)
        terms, owners = self.pairs
        dated = np.flatnonzero(dates.valid[owners])
        # Entries are stored newest first: the smallest row is the newest.
        order = dated[::-1]
        best[terms[order]] = owners[order]
        rows = np.where(best < 0, len(dates.valid), best)
        for depth in range(int(self.depths.max(initial=0)), 0, -1):
            level = np.flatnonzero(self.depths == depth)
            np.minimum.at(rows, self.parents[level], rows[level])
        known = rows < len(dates.valid)
        if not len(dates.valid):  # there is no row to be taken
            return Dates(rows, known, rows, rows, known)
        return dates.take(np.where(known, rows, 0), known)
