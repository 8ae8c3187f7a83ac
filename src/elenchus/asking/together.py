"""Questions that differ only in the values of their comparisons, as those of the pages of a set do.

Reading, checking and what their conditions have in common are done once for all of them.
"""

from __future__ import annotations

from collections import defaultdict
from typing import TYPE_CHECKING

from elenchus.asking.alone import compared_with, same_values
from elenchus.asking.parameters import absent_choice
from elenchus.frozen import replace
from elenchus.language.nodes import Literal, Related
from elenchus.plan.nodes import AllOf, AnyOf, Negation, RelatednessOrder, SharesTerms, Test
from elenchus.plan.values import ANY_ENTRY, Refused, Resolver
from elenchus.plan.walking import walk

if TYPE_CHECKING:
    from collections.abc import Sequence

    from elenchus.asking.query import Query
    from elenchus.errors import Span
    from elenchus.plan.answer import Answer
    from elenchus.plan.nodes import Condition, Plan

__all__ = ["answered_together"]

_FEWEST = 4  # questions of one shape from which on it is worth the while


def answered_together(queries: Sequence[Query]) -> list[Answer | None]:
    """Return the answers of queries of one listing; None for those that must be asked by themselves."""
    found: list[Answer | None] = [None] * len(queries)
    given = [{name: texts for name, *texts in query.given_to_it} for query in queries]
    every = {name for each in given for name in each}
    names = sorted(name for name in every if any(each.get(name) != given[0].get(name) for each in given))
    spans = _spans_of(queries[0], names)
    if spans is None:
        return found
    shapes: dict[tuple[bool, ...], list[int]] = defaultdict(list)
    for place, each in enumerate(given):
        if all(any(each.get(name, ())) for name in names):
            shapes[tuple(sum(map(bool, each[name])) > 1 for name in names)].append(place)
    for places in shapes.values():
        plans = _plans([queries[place] for place in places], spans) if len(places) >= _FEWEST else []
        askable = [(place, plan) for place, plan in zip(places, plans, strict=False) if plan]
        for place, plan in askable:
            queries[place].__dict__["plan"] = plan
        answers = queries[0].site.executor.together(
            [plan for _, plan in askable],
            queries[0].listing.text,
            without=[queries[place].left_out for place, _ in askable],
        )
        for (place, _), answer in zip(askable, answers, strict=True):
            found[place] = queries[place].finished(answer)
    return found


def _spans_of(query: Query, names: Sequence[str]) -> dict[Span, str] | None:
    """Return where parameters stand, each in comparisons with nothing but itself.

    None if one stands elsewhere, or for more than values.
    """
    listing = query.listing
    rules = [listing.parameters[name][0] for name in names if name in listing.parameters]
    if any(rule.words or rule.orders for rule in rules) or absent_choice(listing, query.given):
        return None
    found = compared_with(listing.question, names)
    if found is None or not set(names) <= listing.parameter_names.keys():
        return None
    if any(isinstance(node, Related) and use.name in listing.parameters for node, use in found):
        return None
    return {node.span: use.name for node, use in found}


def _plans(queries: Sequence[Query], spans: dict[Span, str]) -> list[Plan | None]:
    """Return the plans of queries of one shape, made of that of the first; none where that cannot be."""
    if not queries[0].is_askable:
        return []
    first, parameters = queries[0].plan, queries[0].listing.parameters
    every = [each for each in walk(first.condition) if isinstance(each, Test | SharesTerms)]
    own = [each for each in every if each.span in spans]
    if len(own) != len(spans) or first.empty:
        return []
    tests = [each for each in own if isinstance(each, Test)]
    fields = {each.field for each in tests}
    if sum(isinstance(each, Test) and each.field in fields for each in every) > len(tests):
        return []  # together with another comparison of its field, a value may be one that nothing meets
    for test in tests:
        name = spans[test.span]
        kind = parameters[name][0].type if name in parameters else test.field.type
        if kind is None or not same_values(test.field.type, kind):
            return []
    # What else a plan says of its values would be another's: a second one is made by itself, and compared.
    found = [_with_values(first, query, spans) for query in queries]
    if found[1] is None or not queries[1].is_askable or queries[1].plan != found[1]:
        return []
    return found


def _with_values(plan: Plan, query: Query, spans: dict[Span, str]) -> Plan | None:
    """Return a plan with the values of another query; None where one of them has to be told of."""
    resolver = Resolver(query.site.dataset, query.site.clock, plan.unpublished, watch=query.site.watch)
    likenesses: dict[Span, SharesTerms] = {}

    def changed(condition: Condition) -> Condition:
        match condition:
            case AllOf() | AnyOf():
                return replace(condition, parts=tuple(map(changed, condition.parts)))
            case Negation():
                return Negation(changed(condition.part))
            case Test() if condition.span in spans:
                return replace(condition, values=resolver.values(condition.field, given(condition)))
            case SharesTerms() if condition.span in spans:
                [text] = given(condition)  # a likeness to several entries could not be asked at all
                found = replace(condition, entry=resolver.entry(ANY_ENTRY, Literal(text)))
                likenesses[condition.span] = found
                return found
            case _:
                return condition

    def given(condition: Test | SharesTerms) -> list[str]:
        return list(filter(None, query.given[spans[condition.span]]))

    if plan.condition is None:
        return None
    try:
        condition = changed(plan.condition)
    except Refused:
        return None
    order = tuple(
        RelatednessOrder(likenesses[key.related.span])
        if isinstance(key, RelatednessOrder) and key.related.span in likenesses
        else key
        for key in plan.order
    )
    return None if resolver.notices else replace(plan, condition=condition, order=order)
