"""Small expressions over tables that many questions need: parts of dates, orders, masks.

A mask is an expression that is true or false of each row of a table, and never neither.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, TypeAlias

import ibis
import ibis.expr.operations as ops

from elenchus.errors import NotSupported
from elenchus.plan.nodes import Part
from elenchus.schema.types import Type
from elenchus.tables.layout import part

if TYPE_CHECKING:
    from ibis.expr import types as ir

    from elenchus.plan.nodes import FieldRef, PartName

Mask: TypeAlias = "ir.BooleanValue"

__all__ = [
    "ALL_ROWS",
    "EPOCH_DAY",
    "NO_ROWS",
    "UNITS",
    "Mask",
    "as_number",
    "date_part",
    "joined",
    "met",
    "newest_first",
    "no",
    "sort_value",
    "sure",
    "text_part",
]

ALL_ROWS: Mask = ibis.literal(value=True)
NO_ROWS: Mask = ibis.literal(value=False)
UNITS = ("year", "month", "week", "day")  # parts of dates that are their first days
EPOCH_DAY = 719_163  # the ordinal of 1970-01-01
_DAY = 86_400_000_000  # microseconds
_HOUR = 3_600_000_000
_PAIR = 2


def sure(mask: Mask) -> Mask:
    """Return a mask that is false where a value is lacking."""
    return mask.coalesce(NO_ROWS)


def met(table: ir.Table, mask: Mask) -> ir.Table:
    """Return the rows of a table for which a mask holds.

    What lacks a value is passed over by a filter anyway, so that need not be said there: PostgreSQL joins
    what is a membership and nothing else, and compares each row with each where more stands around it.
    """
    return table.filter(_unsure(mask))


def _unsure(mask: Mask) -> Mask:
    """Return a mask that is true where another is, and false or without a value elsewhere."""
    found = mask.op()
    if isinstance(found, ops.Coalesce) and len(found.arg) == _PAIR and found.arg[1].to_expr().equals(NO_ROWS):
        return _unsure(found.arg[0].to_expr())
    if isinstance(found, ops.And | ops.Or):
        inner = (_unsure(each.to_expr()) for each in (found.left, found.right))
        return type(found)(*inner).to_expr()
    return mask


def no(mask: Mask) -> Mask:
    """Return where a mask does not hold: everywhere else, as there is no third way.

    It says so of the mask as a whole. An engine that took the negation inside, to memberships of subqueries,
    would have to think of values that are lacking, and compare each row with each (Spark does).
    """
    return ~sure(mask)


def as_number(truth: ir.BooleanValue) -> ir.IntegerValue:
    """Return 1 for yes, 0 for no, nothing for nothing."""
    found: ir.IntegerValue = ibis.cases((truth, 1), (~truth, 0))
    return found


def newest_first(entries: ir.Table, id: str = "id") -> list[Any]:  # noqa: A002 - the name of the column
    """Return the order of the table of entries in memory: the newest first, then by ids."""
    start = entries["date_start"]
    return [start.desc(nulls_first=False), entries[id]]


def date_part(table: ir.Table, base: str, name: PartName) -> ir.IntegerValue:
    """Return a part of dates: a number, or the first day of a unit, in days since 1970."""
    found: ir.IntegerValue
    match name:
        case "hour":
            within = table[part(base, "local")] - table[part(base, "day")] * _DAY
            found = ibis.ifelse(
                table[part(base, "whole")], ibis.null("int64"), (within // _HOUR).cast("int64")
            )
        case "weekday":
            found = table[part(base, "day")] - table[part(base, "week")] + 1
        case _:
            found = table[part(base, name)]
    return found


def text_part(table: ir.Table, base: str, name: str) -> ir.StringValue:
    """Return a part of texts, such as their weights. Raises NotSupported for long ones, which have none."""
    if part(base, name) not in table.columns:
        raise NotSupported("the order of texts as long as body")
    return table[part(base, name)]


def sort_value(table: ir.Table, base: str, field: FieldRef, *, of_texts: str = "sorted") -> Any:
    """Return what single values in the columns that begin with ``base`` sort by, or a part of them.

    ``of_texts`` is the column of texts by which they do. Raises NotSupported for texts as long as body.
    """
    if isinstance(field.source, Part):
        if field.source.part == "initial":
            return text_part(table, base, "initial_sorted")
        return date_part(table, base, field.source.part)
    match field.type.type:
        case Type.DATE | Type.DATETIME:
            return table[part(base, "start")]
        case Type.CHOICE:
            return table[part(base, "place")]
        case Type.YESNO:
            return as_number(table[base])
        case Type.INTEGER | Type.NUMBER:
            return table[base]
        case _:
            return text_part(table, base, of_texts)


def joined(rows: ir.Table, other: ir.Table, key: str, other_key: str, wanted: dict[str, str]) -> ir.Table:
    """Return rows with some columns of another table beside them, nothing where that has no row."""
    beside = other.select(k_join=other[other_key], **{new: other[old] for new, old in wanted.items()})
    return rows.left_join(beside, rows[key] == beside.k_join).drop("k_join")
