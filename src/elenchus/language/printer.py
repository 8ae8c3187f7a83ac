"""From tree to text: the one canonical way to write a question, on one line."""

from __future__ import annotations

from typing import TYPE_CHECKING, assert_never

from elenchus.language.lexer import is_plain_word
from elenchus.language.nodes import (
    And,
    Chosen,
    Compare,
    Flag,
    Listed,
    Literal,
    Not,
    Or,
    OtherField,
    Parameter,
    Related,
)
from elenchus.operators import Operands, operator
from elenchus.values.dates import is_relative

if TYPE_CHECKING:
    from collections.abc import Sequence

    from elenchus.language.nodes import (
        Argument,
        Condition,
        GroupClause,
        GroupKey,
        Measured,
        OrderKey,
        Path,
        Question,
        Value,
    )

__all__ = ["print_arguments", "print_condition", "print_path", "print_question", "print_value"]

# A field of one of these names stands in quotes where a named order could stand.
_ORDER_WORDS = frozenset({"newest", "oldest", "relatedness", "given", "random"})


def print_question(question: Question) -> str:
    """Return a text that parses to an equal tree."""
    clauses = []
    if question.source:
        names = ", ".join(_print_name(name) for name in question.source.names)
        clauses.append(f"from {names}{print_arguments(question.source.given)}")
    if question.unpublished:
        clauses.append("including unpublished")
    if question.where:
        clauses.append("where " + print_condition(question.where.condition))
    return " ".join([*clauses, *_arrangement(question), *_cuts(question)])


def _arrangement(question: Question) -> list[str]:
    """Return the clauses that put rows in order and in groups."""
    clauses = []
    if question.order:
        clauses.append("order by " + ", ".join(_print_key(key) for key in question.order.keys))
    if question.lead:
        clauses.append("lead with " + ", ".join(print_value(value) for value in question.lead.entries))
    if question.at_most:
        clauses.append(f"at most {question.at_most.count} per {print_path(question.at_most.path)}")
    if question.group:
        clauses.append(_print_group(question.group))
    if question.having:
        clauses.append("having " + print_condition(question.having.condition))
    if question.measure:
        clauses.append("measure " + ", ".join(_print_measured(each) for each in question.measure.measures))
    return clauses


def _cuts(question: Question) -> list[str]:
    """Return the clauses that cut."""
    clauses = []
    if question.offset:
        clauses.append(f"offset {question.offset.count}")
    if question.limit:
        clauses.append(f"limit {'all' if question.limit.count is None else question.limit.count}")
    if question.group_limit:
        clauses.append(f"limit {question.group_limit.count} groups")
    if question.per_group:
        clauses.append(f"limit {question.per_group.count} per group")
    if question.per_page:
        clauses.append(f"per page {question.per_page.count}")
    return clauses


def print_condition(condition: Condition) -> str:
    """Return the text of a condition."""
    match condition:
        case Compare():
            return _print_comparison(condition)
        case Related():
            by = ", ".join(_print_name(name) for name in condition.by)
            return f"related to {print_value(condition.anchor)}{f' by {by}' if by else ''}"
        case Flag():
            return print_path(condition.path)
        case Listed():
            return f"listed in {_print_name(condition.listing)}{print_arguments(condition.given)}"
        case Chosen():
            return print_value(condition.parameter)
        case Not():
            return f"not {_print_part(condition.part)}"
        case And():
            return " and ".join(_print_part(part) for part in condition.parts)
        case Or():
            return " or ".join(_print_part(part) for part in condition.parts)
        case _:
            assert_never(condition)


def _print_part(condition: Condition) -> str:
    """Return the text of a condition inside another, in parentheses where it joins several."""
    text = print_condition(condition)
    return f"({text})" if isinstance(condition, And | Or) else text


def _print_comparison(condition: Compare) -> str:
    """Return the text of a comparison."""
    record = operator(condition.operator)
    name = (record.opposite or f"not {record.name}") if condition.negated else record.name
    words = [print_path(condition.path), name]
    match record.operands:
        case Operands.NONE:
            pass
        case Operands.PAIR:
            words.append(" and ".join(print_value(value) for value in condition.values))
        case Operands.ONE | Operands.SOME:
            words.append(_print_values(condition.values))
        case _:
            assert_never(record.operands)
    return " ".join(words)


def _print_values(values: Sequence[Value]) -> str:
    """Return one value as it is, several in parentheses."""
    texts = [print_value(value) for value in values]
    return texts[0] if len(texts) == 1 else f"({', '.join(texts)})"


def print_arguments(given: Sequence[Argument]) -> str:
    """Return what a listing is given, in parentheses; nothing where it is given nothing."""
    texts = [f"{each.name} = {_print_values(each.values)}" for each in given]
    return f" ({', '.join(texts)})" if texts else ""


def _print_name(name: Literal) -> str:
    """Return a name as a word, or a text in quotes."""
    return name.text if is_plain_word(name.text) else _in_quotes(name.text)


def print_value(value: Value) -> str:
    """Return a value as a word, a relative date, a parameter, another field, or a text in quotes."""
    if isinstance(value, Parameter):
        return f":{value.name}{'?' if value.optional else ''}"
    if isinstance(value, OtherField):
        return f"field {print_path(value.path)}"
    if is_relative(value.text) and value.text == " ".join(value.text.split()):
        return value.text
    return _print_name(value)


def print_path(path: Path) -> str:
    """Return a path; a name that is no plain word, or holds a dot, stands in quotes."""
    dotted = ".".join(path.names)
    plain = all(name and "." not in name for name in path.names) and is_plain_word(dotted)
    text = dotted if plain else _in_quotes(dotted)
    of = "count" if path.counted else path.measure
    return f"{of} of {text}" if of else text


def _print_measured(measured: Measured) -> str:
    """Return one measure, with what it is called."""
    text = print_path(measured.path)
    return f"{text} as {_print_name(Literal(measured.label))}" if measured.label else text


def _print_key(key: OrderKey) -> str:
    """Return one key of an order."""
    if key.parameter:
        return print_value(key.parameter)
    if key.path is None:
        return key.by
    text = print_path(key.path)
    text = _in_quotes(text) if text.lower() in _ORDER_WORDS else text
    words = [text, "natural" * key.natural, "desc" * key.descending, "missing first" * key.missing_first]
    return " ".join(filter(None, words))


def _print_group(group: GroupClause) -> str:
    """Return the clause ``group by``."""
    keys = ", ".join(_print_group_key(key) for key in group.keys)
    return f"group by {keys}{' with empty' if group.with_empty else ''}"


def _print_group_key(key: GroupKey) -> str:
    """Return one key of groups."""
    words = [print_path(key.path)]
    if key.under:
        words.append(f"under {_print_values(key.under)}")
    if key.steps:
        words.append(f"in steps of {key.steps}")
    if key.by != "value":
        words.append(f"by {print_path(key.measure) if key.measure else key.by}")
    if key.descending is not None:
        words.append("desc" if key.descending else "asc")
    return " ".join(words)


def _in_quotes(text: str) -> str:
    """Return a text in double quotes with escapes."""
    escaped = text.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n").replace("\t", "\\t")
    return f'"{escaped}"'
