"""Which rows meet a condition: one mask for each comparison, joined without a loop over rows."""

from __future__ import annotations

from dataclasses import dataclass
from functools import reduce
from operator import and_, or_
from typing import TYPE_CHECKING, Any, assert_never

import numpy as np

from elenchus.engine.ranges import key_range
from elenchus.operators import operator
from elenchus.plan.nodes import AllOf, AnyOf, Negation, Test
from elenchus.table.columns import Lists, Numbers
from elenchus.table.schema import CORE_FIELDS, Type

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from elenchus.plan.nodes import Condition, FieldRef
    from elenchus.table.columns import Column
    from elenchus.table.dataset import Dataset

__all__ = ["Selection"]

Mask = Any


@dataclass(frozen=True)
class Selection:
    """The rows of a dataset that one question may see."""

    data: Dataset
    visible: NDArray[np.bool_]

    def column(self, field: FieldRef) -> Column:
        """Return the column of a field; references to rows that are not visible are missing."""
        if field.name == "entry":
            rows = np.arange(len(self.data.entries))
            return Numbers(rows, np.ones(len(rows), np.bool_))
        found = self.data.entries.columns[field.name, field.type]
        return self.seen(found) if field.type.type is Type.ENTRY else found

    @property
    def title(self) -> Column:
        """The column of titles, by which references sort."""
        return self.data.entries.columns["title", CORE_FIELDS["title"].type]

    def seen(self, column: Column) -> Column:
        """Return a column of references without those to rows that are not visible."""
        if isinstance(column, Lists):
            elements = self.seen(column.elements)
            assert isinstance(elements, Numbers)  # noqa: S101 - references are numbers
            return Lists(column.starts, elements)
        return Numbers(column.keys, column.valid & self.visible[column.keys])

    def rows(self, condition: Condition) -> Mask:
        """Return the mask of the rows that meet a condition."""
        match condition:
            case Test():
                found = self.positive(condition)
                return ~found if condition.negated else found
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
        column = self.column(test.field)
        ranges = [key_range(column, value) for value in test.values]
        return operator(test.operator).rows(column, ranges)

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
            case Negation():
                true, false = self.certain(condition.part)
                return false, true
            case AllOf() | AnyOf():
                pairs = [self.certain(part) for part in condition.parts]
                joins = (and_, or_) if isinstance(condition, AllOf) else (or_, and_)
                return reduce(joins[0], (true for true, _ in pairs)), reduce(
                    joins[1], (false for _, false in pairs)
                )
            case _:
                assert_never(condition)
