"""Parts of values: years and weekdays of dates, initials of texts, roots of terms."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from elenchus.engine.columns.column import (
    Column,
    Dates,
    Lists,
    Numbers,
    Terms,
    Texts,
    narrowed,
    single_of,
)
from elenchus.engine.columns.distinct import distinct
from elenchus.engine.columns.lexicon import Lexicon, initial
from elenchus.values.dates import start_of

if TYPE_CHECKING:
    from datetime import date
    from fractions import Fraction

    from numpy.typing import NDArray

    from elenchus.engine.columns.dataset import Dataset
    from elenchus.plan.nodes import PartName
    from elenchus.schema.taxonomy import Taxonomy

__all__ = ["FARTHEST", "NEARLY", "part_of", "stepped"]

_DAY_US = 86_400_000_000
NEARLY = 1e-9  # of a step, within which a number counts as its beginning
FARTHEST = 2.0**61  # step: what lies beyond counts with it
_HOUR_US = 3_600_000_000
_THURSDAY = 3  # 1970-01-01, counted from Monday as 0
_UNITS = {"year": "datetime64[Y]", "month": "datetime64[M]", "day": "datetime64[D]"}


def part_of(column: Column, part: PartName, data: Dataset, taxonomy: str) -> Column:
    """Return the column of a part of another's values; of lists, part by part."""
    if part == "top":
        return _roots(column, data.taxonomies[taxonomy])
    if isinstance(column, Lists):
        return Lists(column.starts, single_of(part_of(column.elements, part, data, taxonomy)))
    if part == "initial":
        return _initials(narrowed(column, Texts))
    return _date_part(narrowed(column, Dates), part, data)


def stepped(column: Column, step: Fraction) -> Column:
    """Return in which step each number lies: whole numbers exactly, others as their decimals say.

    0.3 lies at the fourth of the steps of 0.1 that begin at 0, though its float64 is less than three of them.
    """
    if isinstance(column, Lists):
        return Lists(column.starts, single_of(stepped(column.elements, step)))
    single = narrowed(column, Numbers)
    if single.keys.dtype.kind == "f" or step.denominator > 1:
        steps = np.floor(single.keys / float(step) + NEARLY)
        return Numbers(np.clip(steps, -FARTHEST, FARTHEST).astype(np.int64), single.valid)
    return Numbers(single.keys // int(step), single.valid)


def _date_part(column: Dates, part: PartName, data: Dataset) -> Column:
    """Return a part of a date: a number, or the start of its day, week, month or year."""
    days = column.local // _DAY_US
    if part == "hour":
        return Numbers((column.local % _DAY_US) // _HOUR_US, column.valid & ~column.whole)
    if part == "weekday":
        return Numbers((days + _THURSDAY) % 7 + 1, column.valid)
    if part == "month_of_year":
        return Numbers(
            days.astype("datetime64[D]").astype("datetime64[M]").astype(np.int64) % 12 + 1, column.valid
        )
    if part == "week":
        first = (days - (days + _THURSDAY) % 7).astype("datetime64[D]")
    else:
        first = days.astype("datetime64[D]").astype(_UNITS[part]).astype("datetime64[D]")
    return _unit_starts(column, first, data)


def _unit_starts(column: Dates, first: NDArray[Any], data: Dataset) -> Dates:
    """Return the instants at which some days begin, worked out once for each distinct day."""
    numbers, places = distinct(first.astype(np.int64))
    days: list[date] = numbers.astype("datetime64[D]").tolist()
    starts = np.array([start_of(day, data.zone) for day in days], dtype=np.int64)
    local = first.astype("datetime64[us]").astype(np.int64)
    keys = starts[places]
    return Dates(keys, column.valid, local, keys, np.ones(len(keys), np.bool_))


def _initials(column: Texts) -> Texts:
    """Return the initials of texts."""
    letters: dict[str, int] = {}
    places = [letters.setdefault(initial(text), len(letters)) for text in column.lexicon.folded]
    return Texts(np.array([*places, -1], dtype=np.int32)[column.places], Lexicon.of(list(letters)))


def _roots(column: Column, taxonomy: Taxonomy) -> Column:
    """Return the roots of terms, each once in a row."""
    top = np.array(taxonomy.tops, dtype=np.int32)
    if isinstance(column, Numbers):
        return Numbers(top[column.keys] if len(top) else column.keys, column.valid)
    lists = column.lists if isinstance(column, Terms) else narrowed(column, Lists)
    if not len(top):
        return lists
    found = top[narrowed(lists.elements, Numbers).keys]
    # Terms ascend within a row and roots with them, so that equal ones stand side by side.
    fresh = np.ones(len(found), np.bool_)
    fresh[1:] = (found[1:] != found[:-1]) | (lists.owners[1:] != lists.owners[:-1])
    counts = np.bincount(lists.owners[fresh], minlength=len(lists.starts) - 1)
    return Terms.paired(np.concatenate(([0], np.cumsum(counts))), found[fresh], len(taxonomy.terms))
