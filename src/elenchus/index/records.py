"""A table of records as sections of a file of arrays, and back."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from elenchus.engine.columns.recordtable import Cells, RecordTable
from elenchus.schema.record import Habits

if TYPE_CHECKING:
    from collections.abc import Sequence

    from elenchus.engine.columns.strings import Strings
    from elenchus.index.pack import Pack

__all__ = ["only_live", "packed_records", "unpacked_records"]

_ARRAYS = ("files", "lines", "sources", "kinds", "title_from", "date_from")
_CELLS = ("owners", "codes", "lines", "forms")


def packed_records(records: RecordTable) -> tuple[dict[str, Any], dict[str, Any], dict[int, str]]:
    """Return what is to be known of records, as JSON, their sections, and the names of texts by identity."""
    names = list(records.cells)
    meta = {
        "habits": [each.source for each in records.habits],
        "kind_names": list(records.kind_names),
        "keys": names,
    }
    sections: dict[str, Any] = {name: getattr(records, name) for name in _ARRAYS}
    texts: dict[str, Strings] = {"paths": records.paths, "slugs": records.slugs}
    for number, name in enumerate(names):
        cells = records.cells[name]
        sections |= {f"key-{number}/{each}": getattr(cells, each) for each in _CELLS}
        texts[f"key-{number}/texts"] = cells.texts
    return meta, {**sections, **texts}, {id(block): name for name, block in texts.items()}


def unpacked_records(pack: Pack, habits: Sequence[Habits]) -> RecordTable:
    """Return the records of a file; ``habits`` are those of the site's sources."""
    by_source = {each.source: each for each in habits}
    cells = {
        name: Cells(
            texts=pack.strings(f"key-{number}/texts"),
            **{each: pack.array(f"key-{number}/{each}") for each in _CELLS},
        )
        for number, name in enumerate(pack.meta["keys"])
    }
    arrays = {name: pack.array(name) for name in _ARRAYS}
    return RecordTable(
        paths=pack.strings("paths"),
        slugs=pack.strings("slugs"),
        habits=tuple(by_source.get(name, Habits()) for name in pack.meta["habits"]),
        kind_names=tuple(pack.meta["kind_names"]),
        cells=cells,
        **arrays,
    )


def only_live(records: RecordTable, live: np.ndarray[Any, np.dtype[np.bool_]]) -> RecordTable:
    """Return the records of a mask, with the texts that these have."""
    number = (np.cumsum(live) - 1).astype(np.int32)
    cells = {}
    for name, each in records.cells.items():
        left = each.without(~live)
        used, codes = np.unique(left.codes, return_inverse=True)
        if len(left):
            cells[name] = Cells(
                number[left.owners],
                codes.astype(np.int32),
                left.lines,
                type(left.texts).of(left.texts.at(used)),
                left.forms[used],
            )
    files, places = np.unique(records.files[live], return_inverse=True)
    return RecordTable(
        paths=type(records.paths).of(records.paths.at(files)),
        files=places.astype(np.int32),
        lines=records.lines[live],
        sources=records.sources[live],
        habits=records.habits,
        kinds=records.kinds[live],
        kind_names=records.kind_names,
        slugs=type(records.slugs).of(records.slugs.at(np.flatnonzero(live))),
        title_from=records.title_from[live],
        date_from=records.date_from[live],
        cells=cells,
    )
