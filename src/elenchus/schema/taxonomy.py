"""The terms of a taxonomy, numbered depth first."""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol

from elenchus.frozen import Frozen, Working, member
from elenchus.schema.catalog import TermName
from elenchus.values.kept import cached_property
from elenchus.values.texts import fold, nearest

if TYPE_CHECKING:
    from collections.abc import Container, Iterable, Mapping, Sequence

__all__ = ["Taxonomy", "Term", "unparted_names"]


class _Spelled(Protocol):
    """What a term is called, as it is defined or as it is numbered."""

    @property
    def slug(self) -> str: ...
    @property
    def name(self) -> str: ...
    @property
    def id(self) -> str: ...
    @property
    def aliases(self) -> tuple[str, ...]: ...


def unparted_names(terms: Iterable[_Spelled]) -> frozenset[str]:
    """Return the folded names of defined terms that could be taken for several values in one text."""
    names = (name for term in terms for name in (term.name, term.slug, term.id, *term.aliases))
    return frozenset(fold(name) for name in names if not name.replace("-", "").replace(" ", "").isalnum())


class Term(Frozen):
    """A term: ``path`` holds the slugs from the root to itself, ``columns`` what its file says besides."""

    slug: str
    name: str
    id: str = ""
    path: tuple[str, ...] = ()
    aliases: tuple[str, ...] = ()
    columns: Mapping[str, str] = member(default_factory=dict)

    @property
    def address(self) -> str:
        """The slugs from the root, joined by slashes: unique even where two branches share a slug."""
        return "/".join(self.path)


class Taxonomy(Working):
    """A taxonomy's terms in term order, depth first; ``ends[t]`` is the number after t's last descendant.

    ``is_made`` says that its terms are those that content uses, for no file defines any.
    """

    name: str
    tree: bool
    terms: Sequence[Term]
    ends: Sequence[int]
    is_made: bool = False

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
                if not numbers or numbers[-1] != number:  # the spellings of one term stand side by side
                    numbers.append(number)
            for spelling, numbers in level.items():
                found.setdefault(spelling, numbers)
        found.pop("", None)
        return found

    @cached_property
    def unparted(self) -> frozenset[str]:
        """The folded names of terms that are never parted; of those that content uses, there are none."""
        return frozenset() if self.is_made else unparted_names(self.terms)

    @cached_property
    def by_path(self) -> dict[str, int]:
        """The number of each term by its folded path."""
        return {fold(term.address): number for number, term in enumerate(self.terms)}

    @cached_property
    def places(self) -> dict[tuple[str, ...], int]:
        """The number of each term by its path, as it is written."""
        return {term.path: number for number, term in enumerate(self.terms)}

    def has_below(self, path: tuple[str, ...]) -> bool:
        """Say whether there is a term of a path with others below it."""
        number = self.places.get(path)
        return number is not None and self.ends[number] > number + 1

    def named(self, number: int) -> TermName:
        """Return a term by the names that plans and messages use."""
        return TermName(self.terms[number].path, self.labels[number])

    @cached_property
    def labels(self) -> list[str]:
        """The shortest sure spelling of each term: its slug, or its path where its slug means another one."""
        return [
            term.slug if self.find(term.slug) == [number] else term.address
            for number, term in enumerate(self.terms)
        ]

    @cached_property
    def ids(self) -> list[str]:
        """The id of each term: its own, or else its label."""
        return [term.id or label for term, label in zip(self.terms, self.labels, strict=True)]

    @cached_property
    def name_paths(self) -> list[str]:
        """The names from the root to each term, joined by slashes, as content without a file writes them."""
        found: list[str] = []
        for number, parent in enumerate(self.parents):
            name = self.terms[number].name
            found.append(f"{found[parent]}/{name}" if parent >= 0 else name)
        return found

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
            list(enumerate(self.name_paths)) if self.tree else [],
        ]

    def find(self, spelling: str) -> list[int]:
        """Return the numbers of the terms that a spelling may mean: none, one, or several.

        A path that begins with a slash, ``/news``, is one from the root and nothing else. A slug that
        several terms have means the root where one of them is one.
        """
        text = fold(spelling.strip())
        if text.startswith("/"):
            number = self.by_path.get(text[1:])
            return [] if number is None else [number]
        found = self.lookup.get(text, [])
        root = self.by_path.get(text) if len(found) > 1 else None
        return found if root is None else [root]

    def others_called(self, spelling: str) -> list[int]:
        """Return the terms that a spelling could mean besides the root that it means."""
        found = self.lookup.get(fold(spelling.strip()), [])
        return [number for number in found if len(found) > 1 and len(self.terms[number].path) > 1]

    def suggest(self, spelling: str, hidden: Container[int] = ()) -> tuple[str, ...]:
        """Return the slugs of the terms whose slug or name comes near a spelling, nearest first."""
        pairs = [
            (text, at)
            for at, term in enumerate(self.terms)
            if at not in hidden
            for text in (term.name, term.slug)
        ]
        slugs = {fold(text): self.labels[at] for text, at in pairs}
        return tuple(dict.fromkeys(slugs[text] for text in nearest(spelling.rpartition("/")[2], slugs)))
