"""From tree to text: the one canonical way to write a question, on one line."""

from __future__ import annotations

from typing import TYPE_CHECKING, assert_never

from elenchus.language.lexer import is_plain_word
from elenchus.language.nodes import And, Compare, Flag, Literal, Not, Or
from elenchus.operators import Operands, operator
from elenchus.values.dates import is_relative

if TYPE_CHECKING:
    from elenchus.language.nodes import Condition, OrderKey, Path, Question

__all__ = ["print_condition", "print_question"]

ORDER_WORDS = ("newest", "oldest")


def print_question(question: Question) -> str:
    """Return a text that parses to an equal tree."""
    clauses = []
    if question.source:
        clauses.append("from " + ", ".join(print_name(name) for name in question.source.names))
    if question.where:
        clauses.append("where " + print_condition(question.where.condition))
    if question.order:
        clauses.append("order by " + ", ".join(print_key(key) for key in question.order.keys))
    if question.offset:
        clauses.append(f"offset {question.offset.count}")
    if question.limit:
        clauses.append(f"limit {'all' if question.limit.count is None else question.limit.count}")
    if question.per_page:
        clauses.append(f"per page {question.per_page.count}")
    return " ".join(clauses)


def print_condition(condition: Condition) -> str:
    """Return the text of a condition."""
    match condition:
        case Compare():
            return print_comparison(condition)
        case Flag():
            return print_path(condition.path)
        case Not():
            return f"not {print_part(condition.part)}"
        case And():
            return " and ".join(print_part(part) for part in condition.parts)
        case Or():
            return " or ".join(print_part(part) for part in condition.parts)
        case _:
            assert_never(condition)


def print_part(condition: Condition) -> str:
    """Return the text of a condition inside another, in parentheses where it joins several."""
    text = print_condition(condition)
    return f"({text})" if isinstance(condition, And | Or) else text


def print_comparison(condition: Compare) -> str:
    """Return the text of a comparison."""
    record = operator(condition.operator)
    name = (record.opposite or f"not {record.name}") if condition.negated else record.name
    words = [print_path(condition.path), name]
    values = [print_value(value) for value in condition.values]
    match record.operands:
        case Operands.NONE:
            pass
        case Operands.PAIR:
            words.append(" and ".join(values))
        case Operands.ONE | Operands.SOME:
            words.append(values[0] if len(values) == 1 else f"({', '.join(values)})")
        case _:
            assert_never(record.operands)
    return " ".join(words)


def print_name(name: Literal) -> str:
    """Return a name as a word, or a text in quotes."""
    return name.text if is_plain_word(name.text) else in_quotes(name.text)


def print_value(value: Literal) -> str:
    """Return a value as a word, a relative date, or a text in quotes."""
    if is_relative(value.text) and value.text == " ".join(value.text.split()):
        return value.text
    return print_name(value)


def print_path(path: Path) -> str:
    """Return a path; a name that is no plain word, or holds a dot, stands in quotes."""
    dotted = ".".join(path.names)
    if all(name and "." not in name for name in path.names) and is_plain_word(dotted):
        return dotted
    return in_quotes(dotted)


def print_key(key: OrderKey) -> str:
    """Return one key of an order."""
    if key.path is None:
        return key.by
    text = print_path(key.path)
    text = in_quotes(text) if text.lower() in ORDER_WORDS else text
    return f"{text} desc" if key.descending else text


def in_quotes(text: str) -> str:
    """Return a text in double quotes with escapes."""
    escaped = text.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n").replace("\t", "\\t")
    return f'"{escaped}"'
