"""The terms of a taxonomy, numbered depth first."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING

from elenchus.values.texts import fold, nearest

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

__all__ = ["Taxonomy", "Term"]


@dataclass(frozen=True, slots=True)
class Term:
    """A term: ``path`` holds the slugs from the root to itself, ``columns`` what its file says besides."""

    slug: str
    name: str
    id: str = ""
    path: tuple[str, ...] = ()
    aliases: tuple[str, ...] = ()
    columns: Mapping[str, str] = field(default_factory=dict)

    @property
    def address(self) -> str:
        """The slugs from the root, joined by slashes: unique even where two branches share a slug."""
        return "/".join(self.path)


@dataclass(frozen=True)
class Taxonomy:
    """A taxonomy's terms in term order, depth first; ``ends[t]`` is the number after t's last descendant."""

    name: str
    tree: bool
    terms: Sequence[Term]
    ends: Sequence[int]

    @cached_property
    def lookup(self) -> dict[str, list[int]]:
        """Every folded spelling of a term, with the numbers of the terms that it may mean.

        A slug or path hides the ids, names and aliases that are spelled alike, in that order.
        """
        found: dict[str, list[int]] = {}
        for spellings in self.spellings():
            level: dict[str, list[int]] = {}
            for number, spelling in spellings:
                numbers = level.setdefault(fold(spelling), [])
                if number not in numbers:
                    numbers.append(number)
            found = {**level, **found}
        found.pop("", None)
        return found

    @cached_property
    def labels(self) -> list[str]:
        """The shortest unique spelling of each term: its slug, or its path where the slug is not enough."""
        return [term.slug if len(self.lookup[fold(term.slug)]) == 1 else term.address for term in self.terms]

    @cached_property
    def parents(self) -> list[int]:
        """The number of each term's parent, -1 for none."""
        found, above = [], [-1]
        for number, term in enumerate(self.terms):
            above[len(term.path) :] = [number]
            found.append(above[len(term.path) - 1])
        return found

    @cached_property
    def tops(self) -> list[int]:
        """The number of the root above each term, its own for a root."""
        found: list[int] = []
        for number, parent in enumerate(self.parents):
            found.append(number if parent < 0 else found[parent])
        return found

    def spellings(self) -> list[list[tuple[int, str]]]:
        """Return the ways to name a term, those that win first."""
        numbered = list(enumerate(self.terms))
        return [
            [pair for n, term in numbered for pair in ((n, term.slug), (n, term.address))],
            [(n, term.id) for n, term in numbered],
            [(n, term.name) for n, term in numbered],
            [(n, alias) for n, term in numbered for alias in term.aliases],
        ]

    def find(self, spelling: str) -> list[int]:
        """Return the numbers of the terms that a spelling may mean: none, one, or several."""
        return self.lookup.get(fold(spelling.strip()), [])

    def suggest(self, spelling: str) -> list[str]:
        """Return the slugs of the terms whose slug or name comes near a spelling, nearest first."""
        pairs = [(text, at) for at, term in enumerate(self.terms) for text in (term.name, term.slug)]
        slugs = {fold(text): self.labels[at] for text, at in pairs}
        return list(dict.fromkeys(slugs[text] for text in nearest(spelling, slugs)))
