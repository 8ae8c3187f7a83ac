"""Parameters that choose rows by themselves: the rows of each of their values are a part of all rows."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from elenchus.language.nodes import And, Chosen, Compare, Parameter, Related
from elenchus.language.tree import walk

if TYPE_CHECKING:
    from collections.abc import Collection, Sequence

    from elenchus.language.nodes import Question
    from elenchus.schema.types import FieldType
    from elenchus.site.inheritance import Listing

__all__ = ["compared_alone", "compared_with", "independent", "is_uncut", "same_values"]

_FOR_ANY = ("in", "under", "below")  # operators that hold where any of several values does
_COMPARED = ("=", *_FOR_ANY)


def compared_with(
    question: Question, names: Collection[str]
) -> list[tuple[Compare | Related, Parameter]] | None:
    """Return the conditions that compare with a parameter of some names and nothing else, each with that.

    None if such a parameter stands elsewhere.
    """
    uses = [node for node in walk(question) if isinstance(node, Parameter) and node.name in names]
    found = []
    for node in walk(question.where):
        if not isinstance(node, Compare | Related):
            continue
        own = node.values if isinstance(node, Compare) else (node.anchor,)
        if len(own) == 1 and isinstance(own[0], Parameter) and own[0].name in names:
            found.append((node, own[0]))
    return found if len(found) == len(uses) else None


def independent(listing: Listing, names: Sequence[str]) -> bool:
    """Say whether each parameter chooses rows by itself, so that sets of rows can stand for its choices.

    Each must stand in one place: in a condition of its own that all rows must meet, positively and for
    any of its values, and without a default; or in the order. Nothing may be cut, grouped or filled up.
    """
    question = listing.question
    return is_uncut(listing) and all(_is_alone(listing, question, name) for name in names)


def is_uncut(listing: Listing) -> bool:
    """Say whether the rows of a listing are all that meet its conditions, in one list."""
    question = listing.question
    cut = (
        question.at_most,
        question.group,
        question.offset,
        question.limit,
        question.lead,
        listing.setting("fill_from"),
    )
    return not any(cut)


def compared_alone(listing: Listing, name: str) -> Compare | None:
    """Return the condition of its own in which a parameter is compared, and which all rows must meet.

    None where it stands otherwise: twice, inside of or and not, negated, for a condition or an order, or
    where its rows would be cut.
    """
    question = listing.question
    uses = [node for node in walk(question) if isinstance(node, Parameter) and node.name == name]
    if len(uses) != 1 or question.where is None or not is_uncut(listing):
        return None
    condition = question.where.condition
    for part in condition.parts if isinstance(condition, And) else (condition,):
        if isinstance(part, Compare) and part.values == (uses[0],) and not part.negated:
            return part if part.operator in _COMPARED else None
    return None


def _is_alone(listing: Listing, question: Question, name: str) -> bool:
    """Say whether a parameter stands in one condition of its own, or in the order."""
    uses = [node for node in walk(question) if isinstance(node, Parameter) and node.name == name]
    rule = listing.parameters[name][0]
    if len(uses) != 1:
        return False
    if rule.orders:
        return bool(rule.default or uses[0].optional)
    if rule.default or not uses[0].optional or question.where is None:
        return False
    condition = question.where.condition
    parts = condition.parts if isinstance(condition, And) else (condition,)
    return any(_chooses(part, uses[0], many=rule.many) for part in parts)


def _chooses(part: Any, use: Parameter, *, many: bool) -> bool:
    """Say whether a condition holds for the rows that any of a parameter's values lets in."""
    if isinstance(part, Chosen):
        return part.parameter is use
    return (
        isinstance(part, Compare)
        and part.values == (use,)
        and not part.negated
        and (part.operator in _FOR_ANY or not many)
    )


def same_values(asked: FieldType, declared: FieldType) -> bool:
    """Say whether all values that a parameter can have are values of the field that it is compared with."""
    same = asked.type is declared.type and asked.taxonomy == declared.taxonomy
    return same and (not asked.kinds or set() < {*declared.kinds} <= {*asked.kinds})
