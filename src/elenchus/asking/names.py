"""Finding entries and terms by the names that people type."""

from __future__ import annotations

import shlex
from pathlib import PurePath
from typing import TYPE_CHECKING

from elenchus.errors import NoSuchName, Problem
from elenchus.values.texts import either, fold, nearest, quoted

if TYPE_CHECKING:
    from elenchus.table.dataset import Dataset

__all__ = ["row_of"]


def row_of(data: Dataset, taxonomy: str, name: str) -> int:
    """Return the row of an entry or a term by its name. Raises NoSuchName."""
    rows = data.taxonomies[taxonomy].find(name) if taxonomy else data.find_entry(name)
    if len(rows) == 1:
        return rows[0]
    what = taxonomy or "entry"
    if rows:
        labels = data.taxonomies[taxonomy].labels if taxonomy else data.entries.ids
        hint = f"Write {either(labels[row] for row in rows)}."
        raise NoSuchName([Problem("ambiguous-name", f"{quoted(name)} may be {len(rows)} of them", hint)])
    stem = fold(name.rpartition("/")[2])
    for problem in data.problems:
        if problem.place and fold(PurePath(problem.place.file).stem) == stem:
            message = f"no {what} is called {quoted(name)}, for its file cannot be used: {problem.message}"
            raise NoSuchName([Problem("unusable-entry", message, problem.hint, place=problem.place)])
    near = data.taxonomies[taxonomy].suggest(name) if taxonomy else nearest(name, data.names)
    hint = (
        f"Did you mean {either(near)}?"
        if near
        else f"elenchus describe {shlex.quote(name)} looks everywhere."
    )
    raise NoSuchName([Problem("unknown-name", f"no {what} is called {quoted(name)}", hint)])
