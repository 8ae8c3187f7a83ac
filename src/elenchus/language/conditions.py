"""The rules of conditions: comparisons, and how ``and``, ``or``, ``not`` and parentheses join them."""

from __future__ import annotations

from typing import TYPE_CHECKING, NoReturn

from elenchus.errors import Problem
from elenchus.language import nodes
from elenchus.language.habits import CALLS, NULLS, OPERATORS, PREFIXES
from elenchus.language.lexer import Sort
from elenchus.language.printer import print_condition
from elenchus.operators import Operands, operator, spellings
from elenchus.values.texts import either, nearest, quoted

if TYPE_CHECKING:
    from elenchus.language.cursor import Cursor
    from elenchus.language.lexer import Token
    from elenchus.language.nodes import Condition, Value

__all__ = ["arguments", "condition", "value_list"]

_DEEPEST = 40  # parentheses and nots inside one another
_MOST_VALUES = 1_000  # values in one list
_MOST_TAXONOMIES = 50  # that likeness goes by


def condition(cursor: Cursor) -> Condition:
    """Read conditions joined by ``and`` or by ``or``; both at one level is an error with two readings."""
    first = cursor.next
    parts, joints = [_unary(cursor)], []
    while cursor.next.means("and", "or") and not cursor.ends_clause:
        joints.append(cursor.take())
        parts.append(_unary(cursor))
    words = {joint.text.lower() for joint in joints}
    if len(words) > 1:
        cursor.problems.append(_mixed(parts, joints))
        return _reading(parts, joints, "and")
    if not joints:
        return parts[0]
    return (nodes.And if words == {"and"} else nodes.Or)(tuple(parts), cursor.span_from(first))


def _unary(cursor: Cursor) -> Condition:
    """Read ``not …``, a condition in parentheses, or a comparison."""
    first = cursor.next
    cursor.depth += 1
    if cursor.depth > _DEEPEST:
        cursor.fail("too-deep", f"conditions stand more than {_DEEPEST} deep inside one another")
    if cursor.accept("not"):
        found: Condition = nodes.Not(_unary(cursor), cursor.span_from(first))
    elif cursor.accept("("):
        found = condition(cursor)
        if not cursor.accept(")"):
            hint = "Close it with “)”."
            cursor.fail("open-parenthesis", "this parenthesis is never closed", hint, span=first.span)
    elif cursor.accept("related"):
        found = _related(cursor, first)
    elif cursor.accept("listed"):
        found = _listed(cursor, first)
    elif cursor.next.sort is Sort.PARAMETER:
        found = nodes.Chosen(cursor.parameter(), first.span)
    else:
        found = _comparison(cursor)
    cursor.depth -= 1
    return found


def _related(cursor: Cursor, first: Token) -> nodes.Related:
    """Read ``to X by a, b`` after ``related``."""
    cursor.expect("to", "related")
    anchor = cursor.value("related to")
    by = []
    if cursor.accept("by"):
        by.append(cursor.name("a taxonomy"))
        while cursor.accept(","):
            by.append(cursor.name("a taxonomy"))
        if len(by) > _MOST_TAXONOMIES:
            message = f"likeness goes by at most {_MOST_TAXONOMIES} taxonomies"
            cursor.fail("too-many", message, span=cursor.span_from(first))
    return nodes.Related(anchor, tuple(by), cursor.span_from(first))


def _listed(cursor: Cursor, first: Token) -> nodes.Listed:
    """Read ``in NAME (…)`` after ``listed``."""
    cursor.expect("in", "listed")
    name = cursor.row_name("a listing")
    given = arguments(cursor)
    return nodes.Listed(name, given, cursor.span_from(first))


def arguments(cursor: Cursor) -> tuple[nodes.Argument, ...]:
    """Read ``(name = value, name = (a, b))`` after the name of a listing; nothing where there is none."""
    opened = cursor.next
    if not cursor.accept("("):
        return ()
    found = [_argument(cursor)]
    while cursor.accept(","):
        found.append(_argument(cursor))
    if not cursor.accept(")"):
        hint = "Write (name = value, name = value)."
        cursor.fail("open-parenthesis", f"the list of parameters goes on with {cursor.next.shown}", hint)
    if len({each.name for each in found}) < len(found):
        cursor.fail("clause-twice", "one parameter is given twice", span=cursor.span_from(opened))
    return tuple(found)


def _argument(cursor: Cursor) -> nodes.Argument:
    """Read ``name = value`` or ``name = (a, b)``."""
    first = cursor.next
    if first.sort is not Sort.WORD:
        cursor.fail("expected", f"a parameter is missing here; found {first.shown}")
    name = cursor.take().text  # a word of the language, too, may be the name of a parameter
    cursor.expect("=", name)
    values = value_list(cursor, name) if cursor.next.means("(") else (cursor.value(name),)
    return nodes.Argument(name, values, cursor.span_from(first))


def _comparison(cursor: Cursor) -> Condition:
    """Read a comparison, or a bare name."""
    first = cursor.next
    path = cursor.path()
    op_first = cursor.next
    found = cursor.operator()
    if found is None:
        if cursor.ends_clause or cursor.next.means("and", "or", ")"):
            return nodes.Flag(path, path.span)
        _no_operator(cursor, path)
    name, negated = found
    op_span = cursor.span_from(op_first)
    values = _operands(cursor, operator(name).operands, name)
    return nodes.Compare(path, name, values, negated, op_span, cursor.span_from(first))


def _no_operator(cursor: Cursor, path: nodes.Path) -> NoReturn:
    """Give up where an operator should stand."""
    token = cursor.next
    ahead = (path.names[0].lower(), token.text.lower())
    if any(words[: len(ahead)] == ahead for words in spellings()):
        name = " ".join(ahead)
        hint = f"Name the field first, such as FIELD {name} …"
        cursor.fail("no-field", f"before {quoted(name)} a field is missing", hint, path.span)
    if hint := _habit(cursor, path):
        message = f"{token.shown} after {quoted('.'.join(path.names))} compares nothing"
        cursor.fail("no-operator", message, hint)
    near = nearest(token.text, (" ".join(words) for words in spellings()), most=1)
    hint = f"Write {either(dict.fromkeys(words[0] for words in spellings() if words[0] != 'not'))}."
    message = f"{token.shown} after {quoted('.'.join(path.names))} compares nothing"
    cursor.fail("no-operator", message, hint, near=near)


def _habit(cursor: Cursor, path: nodes.Path) -> str:
    """Return what helps where somebody writes as another notation has it; nothing where nobody would."""
    token, name = cursor.next, path.names[-1].lower()
    if token.means("is"):
        rest = [each.text.lower() for each in cursor.tokens[cursor.at + 1 : cursor.at + 3]]
        is_not = rest[:1] == ["not"]
        if set(rest[is_not : is_not + 1]) & NULLS:
            return "Write “is set”." if is_not else "Write “is missing”."
        return "Write “!=” to compare with a value." if is_not else "Write “=” to compare with a value."
    if token.means("("):
        inner = cursor.tokens[min(cursor.at + 1, len(cursor.tokens) - 1)].text
        part = CALLS.get(name, "").replace("date.", f"{inner}.") if inner else ""
        return f"There are no functions: write {part}." if part else "There are no functions here."
    if name in PREFIXES and token.is_name:
        return f"Write {token.text} {PREFIXES[name]}."
    return OPERATORS.get(token.text.lower(), "")


def _operands(cursor: Cursor, wanted: Operands, name: str) -> tuple[Value, ...]:
    """Read what stands to the right of an operator."""
    if wanted is Operands.NONE:
        return ()
    if wanted is Operands.SOME and cursor.next.means("("):
        return value_list(cursor, name)
    first = cursor.value(name)
    if wanted is not Operands.PAIR:
        return (first,)
    cursor.expect("and", f"{name} …", "Write between 1 and 3.")
    return (first, cursor.value(name))


def value_list(cursor: Cursor, name: str) -> tuple[Value, ...]:
    """Read values in parentheses."""
    opened = cursor.take()
    if cursor.accept(")"):
        cursor.fail(
            "empty-list", f"{quoted(name)} has an empty list of values", span=cursor.span_from(opened)
        )
    found = cursor.values(name)
    if len(found) > _MOST_VALUES:
        cursor.fail("too-many", f"a list has at most {_MOST_VALUES} values", span=opened.span)
    if not cursor.accept(")"):
        hint = "Separate values with commas." if cursor.next.is_name else ""
        cursor.fail("open-parenthesis", f"the list of {quoted(name)} goes on with {cursor.next.shown}", hint)
    return found


def _reading(parts: list[Condition], joints: list[Token], tighter: str) -> Condition:
    """Return a mixed chain of conditions as it reads when one of the two words binds more tightly."""
    inner, outer = (nodes.And, nodes.Or) if tighter == "and" else (nodes.Or, nodes.And)
    groups = [[parts[0]]]
    for joint, part in zip(joints, parts[1:], strict=True):
        if joint.means(tighter):
            groups[-1].append(part)
        else:
            groups.append([part])
    joined = [inner(tuple(group)) if len(group) > 1 else group[0] for group in groups]
    return outer(tuple(joined)) if len(joined) > 1 else joined[0]


def _mixed(parts: list[Condition], joints: list[Token]) -> Problem:
    """Return the problem of ``and`` beside ``or``, with both readings."""
    second = next(joint for joint in joints if joint.text.lower() != joints[0].text.lower())
    readings = [print_condition(_reading(parts, joints, word)) for word in ("and", "or")]
    hint = f"Write {readings[0]}\n   or {readings[1]}"
    return Problem("mixed-and-or", "“and” beside “or” needs parentheses", hint, span=second.span)
