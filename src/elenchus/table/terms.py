"""Arranging terms: from rows with parents, or from what content uses, to a numbered taxonomy."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from elenchus.errors import Place, Problem
from elenchus.table.taxonomy import Taxonomy, Term
from elenchus.values.collation import sort_key
from elenchus.values.texts import either, fold, nearest, quoted, slugify

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence

    from elenchus.table.schema import TaxonomyRules

__all__ = ["TermRow", "arrange", "gather"]


@dataclass(frozen=True, slots=True)
class TermRow:
    """One term as a file defines it; ``parent`` is a slug, or a path where a slug is not unique."""

    slug: str
    name: str
    place: Place
    parent: str = ""
    id: str = ""
    aliases: tuple[str, ...] = ()
    columns: Mapping[str, str] = field(default_factory=dict)


def gather(rules: TaxonomyRules, used: Iterable[str]) -> Taxonomy:
    """Return the taxonomy made of the terms that content uses, A to Z, in a tree by their slashes."""
    names: dict[tuple[str, ...], str] = {}
    for spelling in sorted(set(used)):
        parts = spelling.split("/") if rules.tree else [spelling]
        shown = [part.strip() for part in parts if slugify(part)]
        for depth in range(len(shown)):
            path = tuple(slugify(part) for part in shown[: depth + 1])
            names.setdefault(path, shown[depth])
    paths = sorted(names, key=lambda path: [sort_key(fold(slug)) for slug in path])
    return numbered(rules, [Term(path[-1], names[path], path=path) for path in paths])


def arrange(rules: TaxonomyRules, rows: Sequence[TermRow]) -> tuple[Taxonomy, list[Problem]]:
    """Return the taxonomy that a file defines, children under parents in the file's order.

    A row with an unknown parent, or below itself, stands at the top and is reported; the second of
    two rows with one path is left out and reported.
    """
    parents, problems = resolve_parents(rules, rows)
    children: dict[int, list[int]] = defaultdict(list)
    for number, parent in enumerate(parents):
        children[parent].append(number)
    terms: list[Term] = []
    seen: dict[tuple[str, ...], Place] = {}
    stack: list[tuple[int, tuple[str, ...]]] = [(number, ()) for number in reversed(children[-1])]
    while stack:
        number, above = stack.pop()
        path = (*above, rows[number].slug)
        if path in seen:
            problems.append(twice(rules, rows[number], seen[path]))
            continue
        seen[path] = rows[number].place
        terms.append(term_of(rows[number], path))
        stack += [(child, path) for child in reversed(children[number])]
    return numbered(rules, terms), problems


def term_of(row: TermRow, path: tuple[str, ...]) -> Term:
    """Return the term of a row."""
    return Term(row.slug, row.name, row.id, path, row.aliases, row.columns)


def twice(rules: TaxonomyRules, row: TermRow, first: Place) -> Problem:
    """Return the problem of a term defined twice."""
    message = f"{rules.name} {quoted(row.slug)} is already defined at {first}"
    return Problem("duplicate-term", message, "This line is left out.", place=row.place)


def numbered(rules: TaxonomyRules, terms: list[Term]) -> Taxonomy:
    """Return the taxonomy of terms that stand depth first, with the end of each subtree."""
    ends = [len(terms)] * len(terms)
    open_terms: list[int] = []
    for number, term in enumerate(terms):
        while open_terms and len(terms[open_terms[-1]].path) >= len(term.path):
            ends[open_terms.pop()] = number
        open_terms.append(number)
    return Taxonomy(rules.name, rules.tree, terms, ends)


def resolve_parents(rules: TaxonomyRules, rows: Sequence[TermRow]) -> tuple[list[int], list[Problem]]:
    """Return the number of each row's parent row, -1 for none, with cycles cut."""
    by_slug: dict[str, list[int]] = defaultdict(list)
    for number, row in enumerate(rows):
        by_slug[fold(row.slug)].append(number)
    problems: list[Problem] = []
    parents = [-1] * len(rows)
    # Unique parents first: the path of an ambiguous one can then be followed upward.
    for number in sorted(range(len(rows)), key=lambda number: "/" in rows[number].parent):
        if rows[number].parent:
            found = parent_candidates(rows, parents, by_slug, rows[number].parent)
            if rules.tree and len(found) == 1 and not leads_to(parents, found[0], number):
                parents[number] = found[0]
            else:
                problems.append(parent_problem(rules, rows, number, found))
    return parents, problems


def parent_candidates(
    rows: Sequence[TermRow], parents: Sequence[int], by_slug: Mapping[str, list[int]], name: str
) -> list[int]:
    """Return the rows that a parent's slug or path may mean."""
    wanted = tuple(fold(part) for part in name.split("/"))
    found = by_slug.get(wanted[-1], [])
    return [number for number in found if len(wanted) == 1 or path_of(rows, parents, number) == wanted]


def path_of(rows: Sequence[TermRow], parents: Sequence[int], number: int) -> tuple[str, ...]:
    """Return the folded slugs from the root to a row."""
    path: list[str] = []
    while number != -1:
        path.append(fold(rows[number].slug))
        number = parents[number]
    return tuple(reversed(path))


def leads_to(parents: Sequence[int], start: int, wanted: int) -> bool:
    """Say whether the chain of parents upward from a row meets another."""
    while start not in (-1, wanted):
        start = parents[start]
    return start == wanted


def parent_problem(
    rules: TaxonomyRules, rows: Sequence[TermRow], number: int, found: Sequence[int]
) -> Problem:
    """Return why a row's parent cannot be used."""
    row = rows[number]
    start = f"{rules.name} {quoted(row.slug)}"
    if not rules.tree:
        text, hint = (
            f"{start} has a parent, but {rules.name} is not a tree",
            "Write tree = true in the site file.",
        )
    elif not found:
        near = nearest(row.parent, [other.slug for other in rows])
        text = f"{start} has the parent {quoted(row.parent)}, which is not defined"
        hint = f"Did you mean {either(near)}?" if near else "It stands at the top of the tree."
    elif len(found) > 1:
        text = f"{start} has the parent {quoted(row.parent)}, which is the slug of {len(found)} terms"
        hint = "Write the parent's path, such as north/bay."
    else:
        text, hint = f"{start} would stand below itself", "It stands at the top of the tree."
    return Problem("bad-parent", text, hint, place=row.place)
