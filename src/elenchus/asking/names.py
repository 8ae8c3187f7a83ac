"""Finding entries and terms by the names that people type."""

from __future__ import annotations

import shlex
from pathlib import PurePath
from typing import TYPE_CHECKING

from elenchus.errors import NoSuchName, Problem
from elenchus.schema.naming import one_of
from elenchus.values.texts import either, fold, quoted

if TYPE_CHECKING:
    from elenchus.engine.columns.dataset import Dataset
    from elenchus.schema.subject import Subject

__all__ = ["row_named"]


def row_named(data: Dataset, subject: Subject, name: str) -> str:
    """Return the id of an entry, or of a term, by any of its names. Raises NoSuchName."""
    terms = data.taxonomies[subject.taxonomy] if subject.is_terms else None
    found = terms.find(name) if terms else data.entries_called(name)
    if len(found) == 1:
        return terms.ids[terms.find(name)[0]] if terms else str(found[0])
    if found:
        labels = [terms.labels[number] for number in terms.find(name)] if terms else found
        message = f"{quoted(name)} may be {len(found)} of them"
        raise NoSuchName([Problem("ambiguous-name", message, f"Write {either(map(str, labels))}.")])
    one = one_of(subject.taxonomy, "term" if subject.is_terms else "entry")
    stem = fold(name.rpartition("/")[2])
    for problem in data.problems:
        if problem.place and fold(PurePath(problem.place.file).stem) == stem:
            called = f"no {one} is called {quoted(name)}"
            message = f"{called}, for its file cannot be used: {problem.message}"
            raise NoSuchName(
                [Problem("unusable-entry", message, problem.advice, place=problem.place, near=problem.near)]
            )
    near = terms.suggest(name) if terms else data.entries_near(name, (), None)
    hint = f"elenchus describe {shlex.quote(name)} looks everywhere."
    raise NoSuchName([Problem("unknown-name", f"no {one} is called {quoted(name)}", hint, near=near)])
