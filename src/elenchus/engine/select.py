"""Which rows meet a condition: one mask for each comparison, joined without a loop over rows."""

from __future__ import annotations

from functools import reduce
from operator import and_, or_
from typing import TYPE_CHECKING, Any, assert_never

import numpy as np

from elenchus.engine.columns.column import Lists, Mask, Numbers, Terms, narrowed
from elenchus.engine.columns.pairs import compared
from elenchus.engine.ranges import key_range, tree_range
from elenchus.frozen import Frozen, member
from elenchus.operators import operator
from elenchus.plan.nodes import AllOf, AnyOf, FieldTest, ListedIn, Negation, SharesTerms, Test
from elenchus.schema.subject import ENTRIES, Subject
from elenchus.schema.types import Type

if TYPE_CHECKING:
    from collections.abc import Mapping

    from numpy.typing import NDArray

    from elenchus.engine.columns.column import Column
    from elenchus.engine.view import View
    from elenchus.plan.nodes import Condition, FieldRef, Rows

__all__ = ["Selection"]


class Selection(Frozen):
    """Conditions over the entries of a view, or over the terms of a taxonomy.

    ``listed`` holds the rows of each listing that a condition or the order asks about, in their order.
    ``domain`` are the rows that are looked at, where it is not all of them.
    """

    view: View
    subject: Subject = ENTRIES
    listed: Mapping[Rows, NDArray[np.intp]] = member(default_factory=dict)
    domain: NDArray[np.intp] | None = None

    def __len__(self) -> int:
        return len(self.view.ids(self.subject))

    def at(self, rows: NDArray[np.intp]) -> Selection:
        """Return the same over some rows only: masks then have an item for each of these."""
        return Selection(self.view, self.subject, self.listed, rows)

    @property
    def is_newest_first(self) -> bool:
        """Say whether the rows stand in the order of their dates."""
        return self.subject.is_entries and self.view.data.entries.in_order

    def column(self, field: FieldRef) -> Column:
        """Return the column of a field."""
        found = self.view.column(field, self.subject)
        return found if self.domain is None else found.at(self.domain)

    def whole(self, field: FieldRef) -> Column:
        """Return the column of a field over all rows, with what only reading back needs."""
        return self.view.column(field, self.subject)

    def here(self, found: NDArray[Any]) -> NDArray[Any]:
        """Return what there is for all rows of those that are looked at."""
        return found if self.domain is None else found[self.domain]

    def rows(self, condition: Condition) -> Mask:
        """Return the mask of the rows that meet a condition."""
        match condition:
            case Test():
                found = self.positive(condition)
                return ~found if condition.negated else found
            case FieldTest():
                found = self.beside(condition)
                return ~found if condition.negated else found
            case SharesTerms():
                return self.sharers(condition)
            case ListedIn():
                return self.among(condition.rows)
            case Negation():
                return ~self.rows(condition.part)
            case AllOf():
                return reduce(and_, map(self.rows, condition.parts))
            case AnyOf():
                return reduce(or_, map(self.rows, condition.parts))
            case _:
                assert_never(condition)

    def positive(self, test: Test) -> Mask:
        """Return the mask of the rows for which the positive comparison holds."""
        record = operator(test.operator)
        column = self.column(test.field)
        if record.along_tree and test.field.type.type is Type.ENTRY:
            numbers = self.view.data.entries.ancestry.numbers
            ranges = [tree_range(self.view.data, value) for value in test.values]
            found: Mask = record.rows(_numbered(column, numbers), ranges)
        else:
            data, kind = self.view.data, test.field.type
            found = record.rows(column, [key_range(data, column, kind, value) for value in test.values])
        return found

    def beside(self, test: FieldTest) -> Mask:
        """Return the mask of the rows for which a comparison of two fields holds, be it negated or not."""
        found: Mask = self.here(compared(self.whole(test.field), self.whole(test.other), test.operator))
        return found

    def among(self, rows: Rows) -> Mask:
        """Return the mask of the rows of a listing."""
        found = np.zeros(len(self), np.bool_)
        found[self.listed[rows]] = True
        return self.here(found)

    def places(self, rows: Rows) -> NDArray[np.int64]:
        """Return the place of each row in a listing; rows that are not in it follow."""
        listed = self.listed[rows]
        found = np.full(len(self), len(listed))
        found[listed] = np.arange(len(listed))
        return found

    def sharers(self, likeness: SharesTerms) -> Mask:
        """Return the mask of the rows that share a term with an entry."""
        found = np.zeros(len(self), np.bool_)
        for rows in self.lists_of(likeness):
            found[rows] = True
        entry = self.view.data.row_of(ENTRIES, likeness.entry)
        if entry >= 0:
            found[entry] = False
        return self.here(found)

    def sharing(self, likeness: SharesTerms) -> tuple[NDArray[np.intp], NDArray[np.intp]]:
        """Return the other rows that share terms with an entry, ascending, and how many they share."""
        lists = self.lists_of(likeness)
        joined = np.concatenate(lists) if lists else np.zeros(0, dtype=np.intp)
        rows, counts = np.unique(joined, return_counts=True)
        others = np.flatnonzero(rows != self.view.data.row_of(ENTRIES, likeness.entry))
        return rows[others], counts[others]

    def sharing_size(self, likeness: SharesTerms) -> int:
        """Return how many rows share terms with an entry at the most."""
        return sum(map(len, self.lists_of(likeness)))

    def lists_of(self, likeness: SharesTerms) -> list[NDArray[Any]]:
        """Return for each term of an entry the rows that have it."""
        entry = self.view.data.row_of(ENTRIES, likeness.entry)
        found = []
        for field in likeness.fields if entry >= 0 else ():
            column = narrowed(self.view.column(field), Terms)
            starts = column.posting_starts
            found += [column.postings[starts[term] : starts[term + 1]] for term in column.item(entry)]
        return found

    def certain(self, condition: Condition) -> tuple[Mask, Mask]:
        """Return where a condition is surely true and where surely false, were missing values unknown.

        Kleene's three-valued logic: a comparison with a missing value is neither. Rows that meet the
        condition without being surely true match only because a value is missing.
        """
        match condition:
            case Test():
                found = self.positive(condition)
                known = self.column(condition.field).valid
                if operator(condition.operator).decides_missing:
                    known = np.ones_like(known)
                return (~found & known, found) if condition.negated else (found, ~found & known)
            case FieldTest():
                found = self.beside(condition)
                known = self.column(condition.field).valid & self.column(condition.other).valid
                return (~found & known, found) if condition.negated else (found, ~found & known)
            case SharesTerms() | ListedIn():
                found = self.rows(condition)
                return found, ~found
            case Negation():
                true, false = self.certain(condition.part)
                return false, true
            case AllOf() | AnyOf():
                pairs = [self.certain(part) for part in condition.parts]
                first, second = (and_, or_) if isinstance(condition, AllOf) else (or_, and_)
                return reduce(first, (pair[0] for pair in pairs)), reduce(second, (pair[1] for pair in pairs))
            case _:
                assert_never(condition)


def _numbered(column: Column, numbers: NDArray[np.int64]) -> Column:
    """Return a column of references with the numbers of entries in their tree for keys."""
    if isinstance(column, Lists):
        return Lists(column.starts, narrowed(_numbered(column.elements, numbers), Numbers))
    single = narrowed(column, Numbers)
    return Numbers(numbers[single.keys], single.valid)
