"""From text to tree: a function for each clause, every error kept, reading on at the next clause."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, NoReturn

from elenchus.errors import Problem, QuestionError, Span
from elenchus.language import habits, nodes
from elenchus.language.conditions import arguments, condition, value_list
from elenchus.language.cursor import Cursor, Stop
from elenchus.language.habits import DIRECTIONS, SORTING
from elenchus.language.lexer import Sort, tokens
from elenchus.language.words import CLAUSES
from elenchus.measures import all_measures
from elenchus.values.texts import either, nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from elenchus.language.lexer import Token
    from elenchus.language.nodes import Changes, Condition, Question

__all__ = ["NAMED_ORDERS", "parse", "parse_condition", "parse_order", "read", "read_changes", "read_on"]

_LONGEST = 20_000  # characters in a question
_MOST_ORDER_KEYS = 16
_THOUSANDS = 3  # digits after a comma that parts thousands
_MOST_MEASURES = 12
_MOST_GROUP_KEYS = 3  # a row stands in as many groups as its values multiply to
_NO_WHERE = "Write “where” before a condition."


def parse(text: str, *, comments: bool = False) -> Question:
    """Return the tree of a question. Raises QuestionError with all problems of its form."""
    question, problems = read(text, comments=comments)
    if problems:
        raise QuestionError(text, problems)
    return question


def read(text: str, *, comments: bool = False) -> tuple[Question, list[Problem]]:
    """Return the tree of what could be read, and the problems of the rest."""
    cursor = _start(text, comments=comments)
    if cursor is None:
        return nodes.Question(), [_too_long(text)]
    return nodes.Question(**read_on(cursor)), cursor.problems


def read_changes(text: str) -> tuple[Changes, list[Problem]]:
    """Return what a text changes in a question that is inherited, and the problems of its form."""
    cursor = _start(text, comments=True, changes=True)
    found = read_on(cursor) if cursor else {}
    also, without = found.pop("also", None), tuple(found.pop("without", ()))
    problems = cursor.problems if cursor else [_too_long(text)]
    return nodes.Changes(nodes.Question(**found), also, without), problems


def read_on(cursor: Cursor) -> dict[str, Any]:
    """Return the clauses from a cursor on, and what changes others where those may stand there.

    Where one cannot be read, that becomes a problem of the cursor, and the next one is read.
    """
    found: dict[str, Any] = {}
    rule = _change if cursor.changes else _clause
    while cursor.next.sort is not Sort.END:
        try:
            rule(cursor, found)
        except Stop as stop:
            cursor.problems.append(stop.problem)
            cursor.skip_clause()
    return found


def _change(cursor: Cursor, found: dict[str, Any]) -> None:
    """Read a clause, ``and where …`` or ``no CLAUSE``."""
    first = cursor.next
    if cursor.accept_phrase("and", "where"):
        if "also" in found or "where" in found:
            cursor.fail("clause-twice", "a condition is changed twice", "Keep one of them.", first.span)
        found["also"] = _where(cursor, first)
        if not cursor.ends_clause:
            _trailing(cursor, "where")
    elif cursor.accept("no"):
        name = cursor.choose(_REMOVABLE)
        if not name:
            names = {name: f"no {words}" for words, name in reversed(_REMOVABLE.items())}
            hint = f"Write {either(reversed(names.values()))}."
            cursor.fail("expected", f"“no” must be followed by a clause, not {cursor.next.shown}", hint)
        found.setdefault("without", []).append(name)
        if not cursor.ends_clause:
            _trailing(cursor, name)
    else:
        _clause(cursor, found)
        if "where" in found and "also" in found:
            cursor.fail("clause-twice", "a condition is changed twice", "Keep one of them.", first.span)


# What “no …” removes: longer words first, for “limit” begins “limit per group”.
_REMOVABLE = {
    "limit per group": "per_group",
    "limit groups": "group_limit",
    "limit": "limit",
    "where": "where",
    "order by": "order",
    "order": "order",
    "group by": "group",
    "group": "group",
    "having": "having",
    "measure": "measure",
    "offset": "offset",
    "per page": "per_page",
    "lead with": "lead",
    "lead": "lead",
    "at most": "at_most",
    "from": "source",
    "including unpublished": "unpublished",
}


def parse_order(text: str) -> tuple[nodes.OrderKey, ...]:
    """Return the keys of an order alone, as a choice of a listing names them. Raises QuestionError."""
    question, problems = read(f"order by {text}")
    if not problems and (question.order is None or question != nodes.Question(order=question.order)):
        problems = [
            Problem("unexpected-text", f"{quoted(text)} is more than an order", span=Span(0, len(text)))
        ]
    if problems or question.order is None:
        raise QuestionError(text, problems)
    return question.order.keys


def parse_condition(text: str) -> Condition:
    """Return the tree of a condition alone, as a site names them. Raises QuestionError."""
    cursor = _start(text, comments=True)
    if cursor is None:
        raise QuestionError(text, [_too_long(text)])
    try:
        found = condition(cursor)
        if cursor.next.sort is not Sort.END:
            _trailing(cursor, "where")
    except Stop as stop:
        raise QuestionError(text, [*cursor.problems, stop.problem]) from None
    if cursor.problems:
        raise QuestionError(text, cursor.problems)
    return found


def _start(text: str, *, comments: bool, changes: bool = False) -> Cursor | None:
    """Return a cursor at the first token; None for a text that is too long to be a question."""
    if len(text) > _LONGEST:
        return None
    problems: list[Problem] = []
    return Cursor(list(tokens(text, problems, comments=comments)), problems, changes=changes)


def _too_long(text: str) -> Problem:
    """Return the problem of a text beyond the bound."""
    return Problem(
        "too-long", f"the question is longer than {_LONGEST} characters", span=Span(_LONGEST, len(text))
    )


def _clause(cursor: Cursor, found: dict[str, Any]) -> None:
    """Read one clause into the dictionary of those found."""
    first = cursor.take()
    rule = _RULES.get(first.text.lower()) if first.sort is Sort.WORD else None
    if rule is None:
        _no_clause(cursor, first)
    node = rule(cursor, first)
    name = _FIELD_OF[type(node)]
    if name in found:
        hint = "Join the conditions with “and”." if name == "where" else "Keep one of them."
        cursor.fail("clause-twice", f"{quoted(first.text.lower())} stands twice", hint, first.span)
    found[name] = node
    if not cursor.ends_clause:
        _trailing(cursor, name)


def _no_clause(cursor: Cursor, token: Token) -> NoReturn:
    """Give up at a word that begins no clause."""
    near = nearest(token.text, CLAUSES, most=1)
    hint = habits.CLAUSES.get(token.text.lower(), "")
    if not hint and _compares(cursor, cursor.at - 1):
        hint = _NO_WHERE
    near = () if hint else near
    hint = hint or f"A question is made of clauses: {', '.join(CLAUSES)}."
    cursor.fail("no-clause", f"no clause begins with {token.shown}", hint, token.span, near=near)


def _compares(cursor: Cursor, start: int) -> bool:
    """Say whether the token with some number begins a comparison, of more than one token."""
    before, problems = cursor.at, len(cursor.problems)
    cursor.at = start
    try:
        condition(cursor)
        return cursor.at > start + 1
    except Stop:
        return False
    finally:
        cursor.at = before
        del cursor.problems[problems:]


def _trailing(cursor: Cursor, clause_name: str) -> NoReturn:
    """Give up at what follows a complete clause."""
    near: Sequence[str] = ()
    token, hint = cursor.next, ""
    word = token.text.lower() if token.sort is Sort.WORD else ""
    if clause_name == "where" and token.means(","):
        hint = _decimal_comma(cursor) or "Join conditions with “and” or “or”; several values stand in (a, b)."
    elif clause_name == "limit" and token.means(","):
        hint = "Write “offset 5 limit 10”."
    elif token.means(")"):
        hint = "No parenthesis is open here."
    elif token.means("("):
        hint = "There are no functions here; a span of time is “in last 30 days”."
    elif clause_name == "order" and word in DIRECTIONS:
        hint = DIRECTIONS[word]
    elif word in habits.CLAUSES:
        hint = habits.CLAUSES[word]
    elif clause_name == "source" and _compares(cursor, cursor.at):
        hint = _NO_WHERE
    elif token.is_name and cursor.before.is_name and clause_name in ("where", "source"):
        hint = f'Put a text of several words in quotes: "{cursor.before.text} {token.text}".'
    elif token.sort is Sort.WORD:
        near = nearest(token.text, CLAUSES, most=1)
        hint = f"A clause begins with {either(CLAUSES)}."
    cursor.fail("unexpected-text", f"{token.shown} cannot stand here", hint, near=near)


def _decimal_comma(cursor: Cursor) -> str:
    """Return what helps where a comma stands inside a number."""
    after = cursor.tokens[min(cursor.at + 1, len(cursor.tokens) - 1)]
    if cursor.before.text.isdigit() and after.text.isdigit():
        if len(after.text) == _THOUSANDS:
            return f"Write the number without a comma: {cursor.before.text}{after.text}."
        return f"Write a decimal point: {cursor.before.text}.{after.text}."
    return ""


# Clauses: each function reads what follows the first word.


def _source(cursor: Cursor, first: Token) -> nodes.From:
    """Read ``from a, b``, or ``from NAME (…)``."""
    names = [cursor.row_name("a kind")]
    given = arguments(cursor)
    while not given and cursor.accept(","):
        names.append(cursor.row_name("a kind"))
    return nodes.From(tuple(names), given, cursor.span_from(first))


def _including(cursor: Cursor, first: Token) -> nodes.Unpublished:
    """Read ``including unpublished``."""
    cursor.expect("unpublished", "including")
    return nodes.Unpublished(cursor.span_from(first))


def _where(cursor: Cursor, first: Token) -> nodes.Where:
    """Read ``where condition``."""
    return nodes.Where(condition(cursor), cursor.span_from(first))


def _order(cursor: Cursor, first: Token) -> nodes.Order:
    """Read ``order by key, key``."""
    cursor.expect("by", "order", "Write “order by” and a field.")
    keys = [_order_key(cursor)]
    while cursor.accept(","):
        keys.append(_order_key(cursor))
    if len(keys) > _MOST_ORDER_KEYS:
        message = f"an order has at most {_MOST_ORDER_KEYS} keys, and here are {len(keys)}"
        cursor.fail("too-many", message, span=cursor.span_from(first))
    return nodes.Order(tuple(keys), cursor.span_from(first))


NAMED_ORDERS: tuple[nodes.By, ...] = (
    "newest",
    "oldest",
    "pinned first",
    "relatedness",
    "given",
    "term order",
    "random fixed",
    "random",
)


def _order_key(cursor: Cursor) -> nodes.OrderKey:
    """Read one key of an order with its direction."""
    first = cursor.next
    if first.sort is Sort.PARAMETER:
        return nodes.OrderKey("parameter", parameter=cursor.parameter(), span=first.span)
    for name in NAMED_ORDERS:
        if cursor.accept_phrase(*name.split()):
            if cursor.next.means("asc", "desc"):
                usual = f"Leave {cursor.next.text} out."
                hint = "newest has the latest date first, oldest the earliest." if "est" in name else usual
                cursor.fail("idle-direction", f"{quoted(name)} has its direction already", hint)
            return nodes.OrderKey(name, span=cursor.span_from(first))
    if first.means("asc", "desc"):
        field = cursor.tokens[min(cursor.at + 1, len(cursor.tokens) - 1)].text or "FIELD"
        hint = f"Write the field first: order by {field} {first.text.lower()}."
        cursor.fail("expected", f"{first.shown} stands before its field", hint)
    if first.text.lower() in SORTING and cursor.tokens[cursor.at + 1].means("("):
        hint = f"Write order by {SORTING[first.text.lower()]}."
        cursor.fail("expected", "an order is no function", hint)
    path = cursor.path()
    natural = cursor.accept("natural")
    descending = cursor.next.means("desc")
    cursor.accept("asc", "desc")
    natural = cursor.accept("natural") or natural
    missing_first = cursor.accept_phrase("missing", "first")
    span = cursor.span_from(first)
    return nodes.OrderKey("field", path, descending, natural, missing_first, span=span)


def _lead(cursor: Cursor, first: Token) -> nodes.Lead:
    """Read ``lead with a, b``."""
    cursor.expect("with", "lead")
    entries = value_list(cursor, "lead with") if cursor.next.means("(") else cursor.values("lead with")
    return nodes.Lead(entries, cursor.span_from(first))


def _at_most(cursor: Cursor, first: Token) -> nodes.AtMost:
    """Read ``at most N per FIELD``."""
    cursor.expect("most", "at")
    number = cursor.next
    count = cursor.number("at most")
    cursor.expect("per", f"at most {count}")
    path = cursor.path()
    _at_least_one(cursor, count, number, "at most")
    return nodes.AtMost(count, path, cursor.span_from(first))


def _group(cursor: Cursor, first: Token) -> nodes.GroupClause:
    """Read ``group by key, key with empty``."""
    cursor.expect("by", "group", "Write “group by” and a field.")
    keys = [_group_key(cursor)]
    while cursor.accept(","):
        keys.append(_group_key(cursor))
    if len(keys) > _MOST_GROUP_KEYS:
        message = f"groups have at most {_MOST_GROUP_KEYS} keys, and here are {len(keys)}"
        cursor.fail("too-many", message, span=cursor.span_from(first))
    with_empty = cursor.accept("with")
    if with_empty:
        cursor.expect("empty", "with", "Write “with empty” for groups without rows.")
    return nodes.GroupClause(tuple(keys), with_empty, cursor.span_from(first))


def _group_key(cursor: Cursor) -> nodes.GroupKey:
    """Read one key of groups: a field, perhaps a subtree, and the order of the groups."""
    first, path = cursor.next, cursor.path()
    under: tuple[nodes.Value, ...] = ()
    if cursor.accept("under"):
        under = value_list(cursor, "under") if cursor.next.means("(") else (cursor.value("under"),)
    by: Any = "value"
    steps = cursor.steps() if cursor.accept_phrase("in", "steps", "of") else ""
    measure: nodes.Path | None = None
    if cursor.accept("by"):
        measure = _measure(cursor)
        if not measure and not cursor.next.means("count", "name"):
            hint = "Groups stand in the order of their values, by count, by name, or by sum of FIELD."
            cursor.fail("expected", f"groups have no order by {cursor.next.shown}", hint)
        by = "measure" if measure else cursor.take().text.lower()
    descending = cursor.next.means("desc") if cursor.next.means("asc", "desc") else None
    cursor.accept("asc", "desc")
    return nodes.GroupKey(path, under, by, descending, measure, steps, cursor.span_from(first))


def _measure(cursor: Cursor) -> nodes.Path | None:
    """Read a measure, ``sum of FIELD``; None where none stands."""
    stands = any(cursor.is_phrase(name, "of") for name in all_measures())
    return cursor.path() if stands else None


def _having(cursor: Cursor, first: Token) -> nodes.Having:
    """Read ``having condition``."""
    cursor.of_groups = True
    try:
        return nodes.Having(condition(cursor), cursor.span_from(first))
    finally:
        cursor.of_groups = False


def _measures(cursor: Cursor, first: Token) -> nodes.MeasureClause:
    """Read ``measure sum of FIELD, average of FIELD as LABEL``."""
    found = [_measured(cursor)]
    while cursor.accept(","):
        found.append(_measured(cursor))
    if len(found) > _MOST_MEASURES:
        message = f"there are at most {_MOST_MEASURES} measures, and here are {len(found)}"
        cursor.fail("too-many", message, span=cursor.span_from(first))
    return nodes.MeasureClause(tuple(found), cursor.span_from(first))


def _measured(cursor: Cursor) -> nodes.Measured:
    """Read one measure, and what it is called."""
    first, path = cursor.next, _measure(cursor)
    if path is None:
        near = nearest(first.text, all_measures(), most=1)
        near = () if first.text.lower() in near else near
        hint = f"Write {either(all_measures())}, then “of” and a field."
        cursor.fail("expected", f"{first.shown} is not a measure of a field", hint, near=near)
    label = cursor.name("what it is called").text if cursor.accept("as") else ""
    return nodes.Measured(path, label, cursor.span_from(first))


def _offset(cursor: Cursor, first: Token) -> nodes.Offset:
    """Read ``offset N``."""
    return nodes.Offset(cursor.number("offset"), cursor.span_from(first))


def _limit(cursor: Cursor, first: Token) -> nodes.Limit | nodes.LimitGroups | nodes.LimitPerGroup:
    """Read ``limit N``, ``limit all``, ``limit N groups`` or ``limit N per group``."""
    if cursor.accept("all"):
        return nodes.Limit(None, cursor.span_from(first))
    number = cursor.next
    count = cursor.number("limit")
    if cursor.accept("groups") or (not cursor.is_phrase("group", "by") and cursor.accept("group")):
        _at_least_one(cursor, count, number, "limit … groups")
        return nodes.LimitGroups(count, cursor.span_from(first))
    if cursor.accept_phrase("per", "group"):
        return nodes.LimitPerGroup(count, cursor.span_from(first))
    return nodes.Limit(count, cursor.span_from(first))


def _per_page(cursor: Cursor, first: Token) -> nodes.PerPage:
    """Read ``per page N``."""
    if cursor.accept("group"):
        hint = "Write limit 3 per group."
        cursor.fail("expected", "“per group” follows “limit N”", hint, cursor.span_from(first))
    cursor.expect("page", "per")
    number = cursor.next
    count = cursor.number("per page")
    _at_least_one(cursor, count, number, "per page")
    return nodes.PerPage(count, cursor.span_from(first))


def _at_least_one(cursor: Cursor, count: int, token: Token, clause_name: str) -> None:
    """Give up a clause whose number is zero."""
    if count == 0:
        hint = "Write 1 or more, or leave it out."
        cursor.fail("bad-number", f"{quoted(clause_name)} takes at least 1", hint, span=token.span)


_RULES: dict[str, Callable[[Cursor, Token], Any]] = {
    "from": _source,
    "including": _including,
    "where": _where,
    "order": _order,
    "lead": _lead,
    "at": _at_most,
    "group": _group,
    "having": _having,
    "measure": _measures,
    "offset": _offset,
    "limit": _limit,
    "per": _per_page,
}
_FIELD_OF: dict[type, str] = {
    nodes.From: "source",
    nodes.Unpublished: "unpublished",
    nodes.Where: "where",
    nodes.Order: "order",
    nodes.Lead: "lead",
    nodes.AtMost: "at_most",
    nodes.GroupClause: "group",
    nodes.Having: "having",
    nodes.MeasureClause: "measure",
    nodes.Offset: "offset",
    nodes.Limit: "limit",
    nodes.LimitGroups: "group_limit",
    nodes.LimitPerGroup: "per_group",
    nodes.PerPage: "per_page",
}
