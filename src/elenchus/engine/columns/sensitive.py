"""Which fields look like secrets, or like what people do not tell everybody, by their names and values."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from elenchus.engine.columns.column import Lists, Texts
from elenchus.values.private import private_name, private_values

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from elenchus.engine.columns.column import Column

__all__ = ["private_column", "texts_of"]

_MOST_LOOKED_AT = 500  # entries by which a field is judged


def private_column(name: str, column: Column, rows: NDArray[np.intp]) -> str:
    """Return what a field holds in some entries, such as ``passwords``; nothing where it may be public."""
    some = rows[np.flatnonzero(column.valid[rows])[:_MOST_LOOKED_AT]].tolist()
    values = [text for row in some for text in texts_of(column, row)]
    return (private_name(name, values) or private_values(values)) if some else ""


def texts_of(column: Column, row: int) -> list[str]:
    """Return the texts that an entry has in a column; none where they are something else."""
    if isinstance(column, Texts):
        return [column.item(row) or ""]
    if isinstance(column, Lists) and isinstance(column.elements, Texts):
        return [column.elements.item(at) or "" for at in range(column.starts[row], column.starts[row + 1])]
    return []
