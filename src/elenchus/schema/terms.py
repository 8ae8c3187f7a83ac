"""Arranging terms: from rows with parents, or from what content uses, to a numbered taxonomy."""

from __future__ import annotations

from collections import defaultdict
from types import MappingProxyType
from typing import TYPE_CHECKING

from elenchus.errors import Problem
from elenchus.frozen import Frozen, member, replace
from elenchus.schema.taxonomy import Taxonomy, Term
from elenchus.values.collation import sort_key
from elenchus.values.slugs import slug_of
from elenchus.values.texts import fold, nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from elenchus.errors import Place
    from elenchus.schema.types import TaxonomyRules

__all__ = ["TermRow", "arrange", "gather"]

_DEEPEST = 50  # terms below one another
_MOST_COMPARED = 100  # wrong parents that are compared with all terms, to offer the nearest


class TermRow(Frozen):
    """One term as a file defines it; ``parent`` is a slug, or a path where a slug is not unique."""

    slug: str
    name: str
    place: Place
    parent: str = ""
    id: str = ""
    aliases: tuple[str, ...] = ()
    columns: Mapping[str, str] = member(default_factory=dict)


def gather(
    rules: TaxonomyRules, used: Mapping[str, Place], own: Mapping[str, str] = MappingProxyType({})
) -> tuple[Taxonomy, list[Problem]]:
    """Return the taxonomy made of the terms that content uses, A to Z, in a tree by their slashes; and notes.

    ``used`` has the names as content writes them with a place of each. Names that are equal but for case
    and Unicode form are one term. Different names that make the same slug are terms of their own: the one
    that is written as its slug keeps it, the others get a number. ``own`` has the slugs that a
    database has for terms, by their names as content writes them.
    """
    called = {
        tuple(map(fold, spelling.split("/") if rules.tree else [spelling])): own[spelling] for spelling in own
    }
    shown: dict[tuple[str, ...], tuple[str, Place]] = {}
    for spelling in sorted(used):
        parts = [" ".join(part.split()) for part in (spelling.split("/") if rules.tree else [spelling])]
        names = [part for part in parts if part]
        if len(names) <= _DEEPEST:
            for depth in range(1, len(names) + 1):
                path = tuple(map(fold, names[:depth]))
                shown.setdefault(path, (names[depth - 1], used[spelling]))
    slugs, notes = _distinct_slugs(rules, shown, called)
    keys = {slug: sort_key(slug) for path in slugs.values() for slug in path}
    paths = sorted(slugs, key=lambda path: [keys[slug] for slug in slugs[path]])
    terms = [Term(slugs[path][-1], shown[path][0], path=slugs[path]) for path in paths]
    return _numbered(rules, terms, is_made=True), notes


def _distinct_slugs(
    rules: TaxonomyRules,
    shown: Mapping[tuple[str, ...], tuple[str, Place]],
    called: Mapping[tuple[str, ...], str],
) -> tuple[dict[tuple[str, ...], tuple[str, ...]], list[Problem]]:
    """Return for each path of folded names one of slugs that no sibling has, and what is worth a note."""
    by_slug: dict[tuple[tuple[str, ...], str], list[tuple[str, ...]]] = defaultdict(list)
    for path in shown:
        given = slug_of(called.get(path, ""))
        by_slug[path[:-1], given or slug_of(path[-1])].append(path)
    own: dict[tuple[str, ...], str] = {}
    notes: list[Problem] = []
    for (above, slug), paths in by_slug.items():
        first, *others = sorted(paths, key=lambda path: (path not in called, path[-1] != slug, path))
        own[first] = slug
        number = 2
        for path in others:
            while (above, f"{slug}-{number}") in by_slug:
                number += 1
            own[path] = f"{slug}-{number}"
            number += 1
            name, place = shown[path]
            both = f"{quoted(name)} and {quoted(shown[first][0])}"
            message = f"{rules.name}: {both} would share the slug {quoted(slug)}"
            hint = (
                f"{quoted(name)} has the slug {quoted(own[path])}; a file of terms can give it a better one."
            )
            notes.append(Problem("shared-slug", message, hint, place=place))
    found: dict[tuple[str, ...], tuple[str, ...]] = {}
    for path in sorted(own, key=len):
        found[path] = (*found.get(path[:-1], ()), own[path])
    return found, notes


def arrange(rules: TaxonomyRules, rows: Sequence[TermRow]) -> tuple[Taxonomy, list[Problem]]:
    """Return the taxonomy that a file defines, children under parents in the file's order.

    A row with an unknown parent, below itself or too deep stands at the top and is reported; the second of
    two rows with one path is left out and reported.
    """
    tree = _Parents(rules, rows)
    children: dict[int, list[int]] = defaultdict(list)
    for number, parent in enumerate(tree.parents):
        children[parent].append(number)
    problems = tree.problems
    terms: list[Term] = []
    seen: dict[tuple[str, ...], Place] = {}
    stack: list[tuple[int, tuple[str, ...]]] = [(number, ()) for number in reversed(children[-1])]
    while stack:
        number, above = stack.pop()
        path = (*above, rows[number].slug)
        if path in seen:
            problems.append(_twice(rules, rows[number], seen[path]))
            continue
        seen[path] = rows[number].place
        terms.append(_term_of(rows[number], path))
        stack += [(child, path) for child in reversed(children[number])]
    return _with_sure_ids(rules, terms, seen, problems), problems


def _with_sure_ids(
    rules: TaxonomyRules,
    terms: list[Term],
    places: Mapping[tuple[str, ...], Place],
    problems: list[Problem],
) -> Taxonomy:
    """Return the taxonomy of terms; an id by which another term goes as well is left out and reported."""
    found = _numbered(rules, terms)
    doubtful = [number for number, term in enumerate(terms) if term.id and found.find(term.id) != [number]]
    for number in doubtful:
        term = terms[number]
        message = f"{rules.name} {quoted(term.slug)} has the id {quoted(term.id)}, by which another term goes"
        hint = "The id is left out; give it another one."
        problems.append(Problem("duplicate-term", message, hint, place=places[term.path]))
        terms[number] = replace(term, id="")
    return _numbered(rules, terms) if doubtful else found


def _term_of(row: TermRow, path: tuple[str, ...]) -> Term:
    """Return the term of a row."""
    return Term(row.slug, row.name, row.id, path, row.aliases, row.columns)


def _twice(rules: TaxonomyRules, row: TermRow, first: Place) -> Problem:
    """Return the problem of a term defined twice."""
    message = f"{rules.name} {quoted(row.slug)} is already defined at {first}"
    return Problem("duplicate-term", message, "This line is left out.", place=row.place)


def _numbered(rules: TaxonomyRules, terms: list[Term], *, is_made: bool = False) -> Taxonomy:
    """Return the taxonomy of terms that stand depth first, with the end of each subtree."""
    ends = [len(terms)] * len(terms)
    open_terms: list[int] = []
    for number, term in enumerate(terms):
        while open_terms and len(terms[open_terms[-1]].path) >= len(term.path):
            ends[open_terms.pop()] = number
        open_terms.append(number)
    return Taxonomy(rules.name, rules.tree, terms, ends, is_made)


class _Parents:
    """The number of each row's parent row, -1 for none; what was wrong stands in ``problems``.

    Rows are settled from the roots down, each once. Plain slugs come first: the path of a row, by which
    others may name it, is known when all above it are settled.
    """

    def __init__(self, rules: TaxonomyRules, rows: Sequence[TermRow]) -> None:
        self.rules = rules
        self.rows = rows
        self.problems: list[Problem] = []
        self.compared = 0
        self.parents = [-1] * len(rows)
        self.paths: dict[int, tuple[str, ...]] = {}
        self.by_path: dict[tuple[str, ...], int] = {}
        self.children: dict[int, list[int]] = defaultdict(list)
        self.by_slug: dict[str, list[int]] = defaultdict(list)
        for number, row in enumerate(rows):
            self.by_slug[fold(row.slug)].append(number)
        self.resolve()

    def resolve(self) -> None:
        """Find the parent of each row."""
        by_path = []
        for number, row in enumerate(self.rows):
            if row.parent and not self.rules.tree:
                self.problems.append(self.problem(number, []))
            elif "/" in row.parent:
                by_path.append(number)
            elif row.parent:
                self.place(number, self.named(row.parent))
        waiting = set(by_path)
        for number in range(len(self.rows)):
            if self.parents[number] < 0 and number not in waiting and number not in self.paths:
                self.settle(number)
        for number in sorted(by_path, key=lambda number: self.rows[number].parent.strip("/").count("/")):
            parts = tuple(fold(part) for part in self.rows[number].parent.strip("/").split("/"))
            found = self.by_path.get(parts)
            self.place(number, [] if found is None else [found])
            if self.parents[number] < 0 or self.parents[number] in self.paths:
                self.settle(number)
        self.cut_cycles()

    def named(self, slug: str) -> list[int]:
        """Return the rows that a plain slug may mean: the root where one of several is one."""
        found = self.by_slug.get(fold(slug), [])
        roots = [number for number in found if not self.rows[number].parent] if len(found) > 1 else []
        return roots if len(roots) == 1 else found

    def place(self, number: int, found: Sequence[int]) -> None:
        """Give a row the one parent that was found; report it otherwise."""
        if len(found) == 1 and found[0] != number:
            self.parents[number] = found[0]
            self.children[found[0]].append(number)
        else:
            self.problems.append(self.problem(number, found))

    def settle(self, number: int) -> None:
        """Give a row and all below it their paths; what would stand too deep stands at the top."""
        waiting = [number]
        while waiting:
            each = waiting.pop()
            parent = self.parents[each]
            above = self.paths[parent] if parent >= 0 else ()
            if len(above) >= _DEEPEST:
                self.parents[each] = -1
                above = ()
                text = f"{self.rules.name} {quoted(self.rows[each].slug)} stands more than {_DEEPEST} deep"
                hint = "It stands at the top of the tree."
                self.problems.append(Problem("bad-parent", text, hint, place=self.rows[each].place))
            self.paths[each] = (*above, fold(self.rows[each].slug))
            self.by_path.setdefault(self.paths[each], each)
            waiting += self.children[each]

    def cut_cycles(self) -> None:
        """Let one row of each cycle stand at the top: the one that comes last in the file."""
        for start in range(len(self.rows)):
            if start in self.paths:
                continue
            chain: dict[int, None] = {}
            number = start
            while number not in chain:
                chain[number] = None
                number = self.parents[number]
            members = list(chain)[list(chain).index(number) :]
            last = max(members)
            self.problems.append(self.problem(last, [self.parents[last]]))
            self.children[self.parents[last]].remove(last)
            self.parents[last] = -1
            self.settle(last)

    def problem(self, number: int, found: Sequence[int]) -> Problem:
        """Return why a row's parent cannot be used."""
        row, rules = self.rows[number], self.rules
        near: Sequence[str] = ()
        start = f"{rules.name} {quoted(row.slug)}"
        if not rules.tree:
            text = f"{start} has a parent, but {rules.name} is not a tree"
            hint = "Write tree = true in the site file."
        elif not found:
            self.compared += 1
            near = nearest(row.parent, self.by_slug) if self.compared <= _MOST_COMPARED else ()
            text = f"{start} has the parent {quoted(row.parent)}, which is not defined"
            hint = "It stands at the top of the tree."
        elif len(found) > 1:
            text = f"{start} has the parent {quoted(row.parent)}, which is the slug of {len(found)} terms"
            hint = "Write the parent's path, such as north/bay."
        else:
            text, hint = f"{start} would stand below itself", "It stands at the top of the tree."
        return Problem("bad-parent", text, hint, place=row.place, near=near)
