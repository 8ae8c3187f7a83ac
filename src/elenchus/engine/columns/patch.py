"""A dataset as it would be with other values in one row: columns are copied, nothing is read again."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from elenchus.engine.columns.ancestry import ancestry, parents
from elenchus.engine.columns.column import Column, Dates, Lists, Numbers, Terms, Texts
from elenchus.frozen import replace
from elenchus.schema.types import CORE_FIELDS, STATUSES

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from elenchus.engine.columns.dataset import Dataset
    from elenchus.schema.types import FieldType

__all__ = ["patched"]

_NEVER = 2**63 - 1
_ALWAYS = -(2**63)


def patched(data: Dataset, row: int, values: Mapping[tuple[str, FieldType], Sequence[Any]]) -> Dataset:
    """Return a dataset in which a row has other values, as keys of the columns' types; none clears a field.

    Whether the row is public follows. Rows stay where they are, so the order of the table is no longer
    that of the dates.
    """
    columns = dict(data.entries.columns)
    for key, keys in values.items():
        columns[key] = _with_row(columns[key], row, keys)
    names = {name for name, _ in values}
    opens, closes = data.entries.opens.copy(), data.entries.closes.copy()
    misfits = [each for each in data.misfits if each.row != row or each.field not in names]
    left = {each.field for each in misfits if each.row == row}
    opens[row], closes[row] = _lifetime(columns, row, left)
    tree = data.entries.ancestry if "parent" not in names else ancestry(parents(columns, len(data.entries)))
    entries = replace(
        data.entries, columns=columns, opens=opens, closes=closes, ancestry=tree, in_order=False
    )
    return replace(data, entries=entries, misfits=misfits, hidden={}, columns={})


def _lifetime(
    columns: Mapping[tuple[str, FieldType], Column], row: int, misfits: set[str]
) -> tuple[int, int]:
    """Return from which instant until which a row is public."""
    date, status, expires = (columns[name, CORE_FIELDS[name].type] for name in ("date", "status", "expires"))
    word = status.item(row)
    start, end = date.item(row), expires.item(row)
    is_scheduled = word == STATUSES.index("scheduled")
    held = misfits & {"date", "expires", "status"} or word not in (None, 0, STATUSES.index("scheduled"))
    opens = _NEVER if held or (is_scheduled and start is None) else _ALWAYS if start is None else start
    if isinstance(expires, Dates) and end is not None and expires.whole[row]:
        end = int(expires.ends[row])
    return opens, _NEVER if end is None else end


def _with_row(column: Column, row: int, keys: Sequence[Any]) -> Column:
    """Return a column in which one row has other keys."""
    if isinstance(column, Terms):
        starts, flat = _spliced(column.starts, column.terms, row, np.array(sorted(keys), dtype=np.int32))
        return Terms.paired(starts, flat, len(column.posting_starts) - 1)
    if isinstance(column, Lists):
        first, last = int(column.starts[row]), int(column.starts[row + 1])
        elements = _with_elements(column.elements, first, last, keys)
        starts = column.starts.copy()
        starts[row + 1 :] += len(keys) - (last - first)
        return Lists(starts, elements)
    if isinstance(column, Texts):
        return _with_elements(column, row, row + 1, keys or [None])
    if isinstance(column, Numbers):
        return _with_elements(column, row, row + 1, keys or [None])
    raise TypeError(column)


def _spliced(starts: Any, flat: Any, row: int, new: Any) -> tuple[Any, Any]:
    """Return lists with another one in the place of that of a row."""
    first, last = int(starts[row]), int(starts[row + 1])
    moved = starts.copy()
    moved[row + 1 :] += len(new) - (last - first)
    return moved, np.concatenate((flat[:first], new, flat[last:]))


def _with_elements(column: Numbers | Texts, first: int, last: int, keys: Sequence[Any]) -> Numbers | Texts:
    """Return a column of single values with others in the places from ``first`` up to ``last``."""

    def joined(old: Any, new: Sequence[Any]) -> Any:
        return np.concatenate((old[:first], np.array(new, dtype=old.dtype), old[last:]))

    if isinstance(column, Texts):
        texts = [key for key in keys if key and key.strip()]
        numbers = iter(range(len(column.lexicon), len(column.lexicon) + len(texts)))
        new = [next(numbers) if key and key.strip() else -1 for key in keys]
        return Texts(joined(column.places, new), column.lexicon.with_more(texts))
    valid = joined(column.valid, [key is not None for key in keys])
    if isinstance(column, Dates):
        moments = [key or (0, 0, 0, False) for key in keys]
        start, local, end, whole = zip(*moments, strict=True) if moments else ((), (), (), ())
        return Dates(
            joined(column.keys, start),
            valid,
            joined(column.local, local),
            joined(column.ends, end),
            joined(column.whole, whole),
        )
    return Numbers(joined(column.keys, [key or 0 for key in keys]), valid)
