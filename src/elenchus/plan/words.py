"""A plan read back in plain words."""

from __future__ import annotations

from typing import TYPE_CHECKING, assert_never

from elenchus.frozen import replace
from elenchus.operators import Operands, operator
from elenchus.plan.nodes import (
    AllOf,
    AnyOf,
    FieldTest,
    GivenOrder,
    ListedIn,
    Negation,
    PatternValue,
    RandomOrder,
    RelatednessOrder,
    SharesTerms,
    SortKey,
    SourceOrder,
    Stepped,
    TermOrder,
    Test,
    TextValue,
    YesFirst,
)
from elenchus.schema.types import Type
from elenchus.values.texts import either, quoted, with_article

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable

    from elenchus.plan.nodes import Condition, GroupBy, MeasureOf, OrderKey, Plan, Value

__all__ = ["arrangement", "condition_words", "fix_words", "order_words"]


def condition_words(condition: Condition) -> str:
    """Return a condition in plain words."""
    match condition:
        case Test():
            return _test_words(condition)
        case FieldTest():
            return _field_words(condition)
        case SharesTerms():
            fields = either(field.name for field in condition.fields)
            return f"shares {with_article(fields)} with {condition.entry.shown}"
        case ListedIn():
            return f"listed in {condition.rows.name}"
        case Negation(ListedIn() as listed):
            return f"not listed in {listed.rows.name}"
        case Negation(Test() as test):
            return _test_words(replace(test, negated=not test.negated))
        case Negation(FieldTest() as test):
            return _field_words(replace(test, negated=not test.negated))
        case Negation():
            return f"it is not so that {_inner_words(condition.part)}"
        case AllOf():
            return " and ".join(_inner_words(part) for part in condition.parts)
        case AnyOf():
            return " or ".join(_inner_words(part) for part in condition.parts)
        case _:
            assert_never(condition)


def _inner_words(condition: Condition) -> str:
    """Return a condition inside another, in parentheses where it joins several."""
    text = condition_words(condition)
    return f"({text})" if isinstance(condition, AllOf | AnyOf) else text


def _test_words(test: Test) -> str:
    """Return a comparison in plain words."""
    says, denies, _, _ = _templates(test)
    return f"{test.field.name} {(denies if test.negated else says).format(*_value_words(test))}"


def _field_words(test: FieldTest) -> str:
    """Return a comparison with another field in plain words."""
    says, denies, _, _ = _templates(test)
    if test.operator == "=":
        says, denies = "is the same as {0}", "is not the same as {0}"
    return f"{test.field.name} {(denies if test.negated else says).format(test.other.name)}"


def _templates(test: Test | FieldTest) -> tuple[str, str, str, str]:
    """Return the templates of a comparison's operator for the type of its field."""
    return operator(test.operator).words(dates=test.field.type.type.is_date)


def fix_words(condition: Condition, holds: Callable[[Condition], bool], *, wanted: bool = True) -> str:
    """Return what to change in an entry so that a condition holds, or does not, as ``wanted`` says.

    ``holds`` tells of each condition whether it holds now: what is as it should be needs no change.
    """
    if isinstance(condition, Negation):
        return fix_words(condition.part, holds, wanted=not wanted)
    if isinstance(condition, Test):
        _, _, fix, unfix = _templates(condition)
        template = fix if wanted != condition.negated else unfix
        if condition.field.type.many and condition.operator in ("=", "in"):
            template = "give it {field} {0}" if wanted != condition.negated else "take {field} {0} away"
        return template.format(
            *_value_words(condition), field=condition.field.name, a_field=with_article(condition.field.name)
        )
    if isinstance(condition, FieldTest):
        _, _, fix, unfix = _templates(condition)
        template = fix if wanted != condition.negated else unfix
        return template.format(condition.other.name, field=condition.field.name)
    if isinstance(condition, SharesTerms):
        fields = either(field.name for field in condition.fields)
        entry = condition.entry.shown
        shared = f"{with_article(fields)} that {entry} has"
        return f"give it {shared}" if wanted else f"take what it shares with {entry} away"
    if isinstance(condition, ListedIn):
        return f"let {condition.rows.name} {'list it' if wanted else 'leave it out'}"
    joined = " or " if isinstance(condition, AnyOf) == wanted else " and "
    wrong = [part for part in condition.parts if holds(part) != wanted]
    return joined.join(fix_words(part, holds, wanted=wanted) for part in wrong)


def _value_words(test: Test) -> list[str]:
    """Return the values of a comparison, as its record's templates take them."""
    if operator(test.operator).operands is not Operands.SOME:
        return [_one_value(value) for value in test.values]
    words = [_one_value(value) for value in test.values]
    if test.operator == "has all":
        return [" and ".join(words)]
    return [either(words)]


def _one_value(value: Value) -> str:
    """Return a value, a text in quotes."""
    return quoted(value.shown) if isinstance(value, TextValue | PatternValue) else value.shown


def order_words(keys: Iterable[OrderKey]) -> str:
    """Return an order in plain words."""
    return ", then ".join(_key_words(key) for key in keys)


def _key_words(key: OrderKey) -> str:
    """Return one key of an order in plain words."""
    match key:
        case SortKey():
            return _sort_words(key)
        case SourceOrder():
            return f"as {key.rows.name} has them"
        case TermOrder():
            return "as the taxonomy lists them"
        case YesFirst():
            return f"{key.field.name} first"
        case GivenOrder():
            return "as the list gives them"
        case RelatednessOrder():
            return f"sharing most with {key.related.entry.shown} first"
        case RandomOrder():
            return "drawn by lot"
        case _:
            assert_never(key)


def _sort_words(key: SortKey) -> str:
    """Return an order by a field in plain words."""
    kind, name = key.field.type.type, key.field.name
    if kind.is_date:
        words = "newest first" if key.descending else "oldest first"
        words = words if name == "date" else f"by {name}, {'latest' if key.descending else 'earliest'} first"
    elif kind in (Type.INTEGER, Type.NUMBER):
        words = f"by {name}, {'largest' if key.descending else 'smallest'} first"
    elif kind.is_text or kind is Type.ENTRY:
        words = f"by {name}, {'Z to A' if key.descending else 'A to Z'}"
    else:
        words = f"by {name}, {'last' if key.descending else 'first'} choices first"
    return words + (", those without one before all" if key.missing_first else "")


def arrangement(plan: Plan) -> list[str]:
    """Return how the rows of a plan are put in order, cut and grouped, a sentence each."""
    found = [f"In order: {order_words(plan.order)}; ties by id."]
    if plan.at_most:
        found.append(f"At most {plan.at_most.count} with the same {plan.at_most.field.name}.")
    if plan.offset:
        found.append(f"The first {plan.offset} are skipped.")
    if plan.limit is not None:
        found.append(f"At most {plan.limit} are shown.")
    if plan.groups:
        found.append(f"In groups by {', then '.join(_group_words(key) for key in plan.groups)}.")
    if plan.having:
        found.append(f"Only groups where {condition_words(plan.having)}.")
    if plan.measures:
        of = "all rows, and of each group" if plan.groups else "all rows"
        found.append(f"Of {of}: {', '.join(map(_measure_words, plan.measures))}.")
    if plan.group_limit is not None:
        of = f" by their {plan.groups[0].field.name}" if len(plan.groups) > 1 else ""
        found.append(f"The first {plan.group_limit} groups{of} are shown.")
    if plan.per_group is not None:
        found.append(f"At most {plan.per_group} are shown of each group.")
    if plan.fill:
        found.append(f"Where fewer than {plan.fill.at_least} remain, {plan.fill.rows.name} fills up.")
    if plan.per_page:
        found.append(f"{plan.per_page} on a page.")
    return found


def _measure_words(measure: MeasureOf) -> str:
    """Return a measure in plain words, with what it is called where that is something else."""
    name = measure.field.name
    return name if measure.label == name else f"{measure.label} ({name})"


def _group_words(key: GroupBy) -> str:
    """Return one key of groups in plain words."""
    steps = f" in steps of {float(key.field.source.step):g}" if isinstance(key.field.source, Stepped) else ""
    by = key.measure.name if key.measure else f"{key.by}s"
    order = "" if key.by == "value" else f" in the order of their {by}"
    return f"{key.field.name}{steps}{order}{', backwards' if key.descending and key.by == 'value' else ''}"
