"""Walking and changing trees of any node: what stands in them, where, and what is based on what."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, TypeVar

from elenchus.errors import Span
from elenchus.frozen import Frozen, names_of_members, replace, values_of
from elenchus.language.nodes import And, From, Listed, Parameter, Question, Where

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.language.nodes import Changes, Condition

__all__ = ["CLAUSES_OF", "changed", "parameters_in", "parts_of", "placed", "rows_named_in", "walk"]

_Node = TypeVar("_Node")

# The clauses of a question by the fields of its tree, as people write them.
CLAUSES_OF = {
    "source": "from",
    "unpublished": "including unpublished",
    "where": "where",
    "order": "order by",
    "lead": "lead with",
    "at_most": "at most",
    "group": "group by",
    "having": "having",
    "measure": "measure",
    "offset": "offset",
    "limit": "limit",
    "group_limit": "limit groups",
    "per_group": "limit per group",
    "per_page": "per page",
}


_LEAVES = frozenset({Span, str, int, bool, type(None)})  # members that have no nodes in them


def walk(node: Any) -> Iterator[Any]:
    """Yield a node and all nodes below it but for spans, in the order in which they are written."""
    waiting = [node]
    while waiting:
        each = waiting.pop()
        if each.__class__ is tuple:
            waiting += reversed(each)
        elif isinstance(each, Frozen):
            yield each
            waiting += [item for item in values_of(each)[::-1] if item.__class__ not in _LEAVES]


def parameters_in(node: Any) -> dict[str, bool]:
    """Return the parameters of a tree by name, each with whether it may be left out wherever it stands."""
    found: dict[str, bool] = {}
    for inner in walk(node):
        if isinstance(inner, Parameter):
            found[inner.name] = inner.optional and found.get(inner.name, True)
    return found


def rows_named_in(node: Any) -> Iterator[str]:
    """Yield what stands after ``from`` and ``listed in``: kinds, a taxonomy, listings."""
    for inner in walk(node):
        if isinstance(inner, Listed):
            yield inner.listing.text
        elif isinstance(inner, From):
            yield from (name.text for name in inner.names)


def placed(node: _Node, span: Span) -> _Node:
    """Return the tree with all its spans at one place: it came from another text."""
    if isinstance(node, tuple):
        return tuple(placed(item, span) for item in node)  # type: ignore[return-value]
    if isinstance(node, Span):
        return span  # type: ignore[return-value]
    if not isinstance(node, Frozen):
        return node
    names = names_of_members(type(node))
    return replace(node, **{name: placed(getattr(node, name), span) for name in names})


def changed(base: Question, changes: Changes) -> Question:
    """Return a question with changes: clauses replaced, a condition joined, clauses removed."""
    written = {name: getattr(changes.question, name) for name in names_of_members(Question)}
    found = replace(base, **{name: node for name, node in written.items() if node is not None})
    found = replace(found, **dict.fromkeys(changes.without))
    if changes.also is None:
        return found
    if found.where is None:
        return replace(found, where=changes.also)
    both = (*parts_of(found.where.condition), *parts_of(changes.also.condition))
    return replace(found, where=Where(And(both), found.where.span))


def parts_of(condition: Condition) -> tuple[Condition, ...]:
    """Return the parts of a condition that all must hold."""
    return condition.parts if isinstance(condition, And) else (condition,)
