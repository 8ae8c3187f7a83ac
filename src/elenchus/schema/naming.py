"""What is wrong with a name that means no entry or term, or several: the same words wherever one is given."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.errors import About, Problem
from elenchus.values.texts import either, quoted

if TYPE_CHECKING:
    from collections.abc import Sequence

__all__ = ["one_of", "several_entries", "several_terms", "unknown_entry", "unknown_term"]

_OF_ONE = {"species", "series", "news"}
_FEW = 5  # of several meanings that are named


def several_entries(name: str, ids: Sequence[str]) -> Problem:
    """Return the problem of a name that several entries have."""
    message = f"{quoted(name)} is the slug of {len(ids)} entries"
    return Problem("ambiguous-entry", message, f"Write {either(ids[:_FEW])}.", about=About.VALUE)


def unknown_entry(
    name: str, kinds: Sequence[str], near: Sequence[str], advice: str = "Entries go by id, slug or kind/slug."
) -> Problem:
    """Return the problem of a name that no entry has; ``kinds`` are those that are asked for."""
    what = either([one_of(kind, "entry") for kind in kinds]) or "entry"
    message = f"no {what} is called {quoted(name)}"
    return Problem("unknown-entry", message, advice, near=near, about=About.VALUE)


def several_terms(name: str, addresses: Sequence[str], words: str) -> Problem:
    """Return the problem of a name that several terms have; ``words`` say so with ``{}`` for their number."""
    message = f"{quoted(name)} {words.format(len(addresses))}"
    return Problem("ambiguous-term", message, f"Write {either(addresses[:_FEW])}.", about=About.VALUE)


def one_of(name: str, row: str) -> str:
    """Return what one row of a kind or taxonomy is called: ``station``, but ``term of tags``."""
    is_of_several = name.endswith("s") and name not in _OF_ONE and not name.endswith(("ss", "us", "is"))
    return f"{row} of {name}" if is_of_several else name or row


def unknown_term(name: str, what: str, near: Sequence[str], advice: str) -> Problem:
    """Return the problem of a name that no term has; ``what`` is the taxonomy, or “term”."""
    message = f"no {one_of(what, 'term')} is called {quoted(name)}"
    return Problem("unknown-term", message, advice, near=near, about=About.VALUE)
