"""From text to tree: one method for each rule, every error kept, reading on at the next clause."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, Any, NoReturn

from elenchus.errors import Problem, QuestionError, Span
from elenchus.language import nodes
from elenchus.language.lexer import Sort, Token, tokens
from elenchus.language.printer import print_condition
from elenchus.language.words import CLAUSES
from elenchus.operators import Operands, operator, spellings
from elenchus.values.dates import is_relative
from elenchus.values.texts import either, nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Callable

    from elenchus.language.nodes import Condition, Literal, Question

__all__ = ["parse", "read"]

LONGEST = 20_000  # characters in a question
DEEPEST = 40  # parentheses and nots inside one another
MOST_VALUES = 1_000  # values in one list
LARGEST = 999_999_999  # of offset, limit and per page

# What people who know other notations write, and what it is here.
HABITS = {
    "is": "Write “=” to compare with a value.",
    "equals": "Write “=”.",
    "like": "Write “contains”.",
    "includes": "Write “contains” for a text, “=” for a term.",
    "has": "Write “=” for a term or an element of a list.",
    "before": "Write “<”.",
    "after": "Write “>”.",
    "since": "Write “>=”.",
    "until": "Write “<=”.",
}
INSTEAD = {
    "select": "A question needs no select: begin with from or where.",
    "sort": "Write “order by”.",
    "skip": "Write “offset”.",
    "page": "Write “per page”; the page itself is chosen outside the question.",
    "top": "Write “limit”.",
    "and": "The first condition follows “where”.",
}


class Stop(Exception):
    """The clause cannot be read any further."""

    def __init__(self, problem: Problem) -> None:
        super().__init__(problem.message)
        self.problem = problem


def parse(text: str, *, comments: bool = False) -> Question:
    """Return the tree of a question. Raises QuestionError with all problems of its form."""
    question, problems = read(text, comments=comments)
    if problems:
        raise QuestionError(text, problems)
    return question


def read(text: str, *, comments: bool = False) -> tuple[Question, list[Problem]]:
    """Return the tree of what could be read, and the problems of the rest."""
    if len(text) > LONGEST:
        message = f"the question is longer than {LONGEST} characters"
        return nodes.Question(), [Problem("too-long", message, span=Span(LONGEST, len(text)))]
    problems: list[Problem] = []
    parser = Parser(list(tokens(text, problems, comments=comments)), problems)
    return parser.question(), problems


class Parser:
    """The place reached in the tokens, and the problems met on the way."""

    def __init__(self, found: list[Token], problems: list[Problem]) -> None:
        self.tokens = found
        self.at = 0
        self.depth = 0
        self.problems = problems

    # Moving on

    @property
    def next(self) -> Token:
        """The token to be read."""
        return self.tokens[self.at]

    @property
    def ends_clause(self) -> bool:
        """Say whether a clause, or the question, ends here."""
        return self.next.sort is Sort.END or self.next.means(*CLAUSES)

    def take(self) -> Token:
        """Return the token and move on; the end stays."""
        token = self.next
        self.at = min(self.at + 1, len(self.tokens) - 1)
        return token

    def accept(self, *words: str) -> bool:
        """Move on over one of some keywords or signs, and say whether it was there."""
        found = self.next.means(*words)
        if found:
            self.take()
        return found

    def span_from(self, first: Token) -> Span:
        """Return the span from a token to the one read last."""
        return first.span.to(self.tokens[max(self.at - 1, 0)].span)

    def fail(self, code: str, message: str, hint: str = "", span: Span | None = None) -> NoReturn:
        """Give up the clause with a problem, at the next token unless a span is given."""
        raise Stop(Problem(code, message, hint, span=span or self.next.span))

    def expect(self, word: str, after: str) -> None:
        """Move on over a keyword or sign that must stand here."""
        if not self.accept(word):
            self.fail("expected", f"{after} must be followed by {quoted(word)}, not {self.next.shown}")

    # Clauses

    def question(self) -> Question:
        """Read all clauses; where one cannot be read, go on at the next."""
        found: dict[str, Any] = {}
        while self.next.sort is not Sort.END:
            try:
                self.clause(found)
            except Stop as stop:
                self.problems.append(stop.problem)
                self.skip_clause()
        return nodes.Question(**found)

    def skip_clause(self) -> None:
        """Move on to the next word that begins a clause."""
        self.depth = 0
        while not self.ends_clause:
            self.take()

    def clause(self, found: dict[str, Any]) -> None:
        """Read one clause into the dictionary of those found."""
        first = self.take()
        rules: dict[str, tuple[str, Callable[[Token], Any]]] = {
            "from": ("source", self.source),
            "where": ("where", self.where),
            "order": ("order", self.order),
            "offset": ("offset", self.offset),
            "limit": ("limit", self.limit),
            "per": ("per_page", self.per_page),
        }
        if not first.means(*rules):
            self.no_clause(first)
        name, rule = rules[first.text.lower()]
        node = rule(first)
        if name in found:
            hint = "Join the conditions with “and”." if name == "where" else "Keep one of them."
            self.fail("clause-twice", f"{quoted(first.text.lower())} stands twice", hint, first.span)
        found[name] = node
        if not self.ends_clause:
            self.trailing(name)

    def no_clause(self, token: Token) -> NoReturn:
        """Give up at a word that begins no clause."""
        near = nearest(token.text, CLAUSES, most=1)
        hint = INSTEAD.get(token.text.lower()) or (f"Did you mean {near[0]}?" if near else "")
        hint = hint or f"A question is made of clauses: {', '.join(CLAUSES)}."
        self.fail("no-clause", f"no clause begins with {token.shown}", hint, token.span)

    def trailing(self, clause: str) -> NoReturn:
        """Give up at what follows a complete clause."""
        token, before = self.next, self.tokens[self.at - 1]
        hint = ""
        if clause == "where" and token.means(","):
            hint = "Join conditions with “and” or “or”."
        elif token.means(")"):
            hint = "No parenthesis is open here."
        elif token.is_name and before.is_name and clause in ("where", "source"):
            hint = f'Put a text of several words in quotes: "{before.text} {token.text}".'
        elif token.sort is Sort.WORD:
            near = nearest(token.text, CLAUSES, most=1)
            hint = f"Did you mean {near[0]}?" if near else INSTEAD.get(token.text.lower(), "")
        self.fail("left-over", f"{token.shown} cannot stand here", hint)

    def source(self, first: Token) -> nodes.From:
        """Read ``from a, b``."""
        names = [self.name("a kind")]
        while self.accept(","):
            names.append(self.name("a kind"))
        return nodes.From(tuple(names), self.span_from(first))

    def name(self, what: str) -> Literal:
        """Read a name."""
        if not self.next.is_name:
            self.fail("expected", f"{what} is missing here; found {self.next.shown}", self.quote_hint())
        token = self.take()
        return nodes.Literal(token.text, token.span)

    def quote_hint(self) -> str:
        """Return what helps where a keyword stands for a name."""
        if self.next.sort is Sort.WORD:
            return (
                f'{self.next.text} is a word of the language; as a name it needs quotes: "{self.next.text}".'
            )
        return ""

    def order(self, first: Token) -> nodes.Order:
        """Read ``order by key, key``."""
        self.expect("by", "order")
        keys = [self.order_key()]
        while self.accept(","):
            keys.append(self.order_key())
        return nodes.Order(tuple(keys), self.span_from(first))

    def order_key(self) -> nodes.OrderKey:
        """Read one key of an order with its direction."""
        first = self.next
        if self.accept("newest") or self.accept("oldest"):
            if self.next.means("asc", "desc"):
                hint = "newest has the latest date first, oldest the earliest."
                self.fail("idle-direction", f"{first.text} has its direction already", hint)
            return nodes.OrderKey("newest" if first.means("newest") else "oldest", span=first.span)
        path = self.path()
        descending = self.next.means("desc")
        self.accept("asc", "desc")
        return nodes.OrderKey("field", path, descending, self.span_from(first))

    def offset(self, first: Token) -> nodes.Offset:
        """Read ``offset N``."""
        return nodes.Offset(self.number("offset"), self.span_from(first))

    def limit(self, first: Token) -> nodes.Limit:
        """Read ``limit N`` or ``limit all``."""
        count = None if self.accept("all") else self.number("limit")
        return nodes.Limit(count, self.span_from(first))

    def per_page(self, first: Token) -> nodes.PerPage:
        """Read ``per page N``."""
        self.expect("page", "per")
        count = self.number("per page")
        if count == 0:
            self.fail("bad-number", "a page holds at least one row", span=self.span_from(first))
        return nodes.PerPage(count, self.span_from(first))

    def number(self, clause: str) -> int:
        """Read a whole number that is not negative."""
        if not re.fullmatch(r"[0-9]+", self.next.text):
            self.fail("bad-number", f"{clause} takes a whole number such as 10, not {self.next.shown}")
        if len(self.next.text) > len(str(LARGEST)):
            self.fail("bad-number", f"{clause} takes at most {LARGEST}")
        return int(self.take().text)

    # Conditions

    def where(self, first: Token) -> nodes.Where:
        """Read ``where condition``."""
        return nodes.Where(self.condition(), self.span_from(first))

    def condition(self) -> Condition:
        """Read conditions joined by ``and`` or by ``or``; both at one level is an error with two readings."""
        first = self.next
        parts, joints = [self.unary()], []
        while self.next.means("and", "or"):
            joints.append(self.take())
            parts.append(self.unary())
        span = self.span_from(first)
        words = {joint.text.lower() for joint in joints}
        if len(words) > 1:
            self.problems.append(mixed(parts, joints))
            return reading(parts, joints, "and")
        if not joints:
            return parts[0]
        return nodes.And(tuple(parts), span) if words == {"and"} else nodes.Or(tuple(parts), span)

    def unary(self) -> Condition:
        """Read ``not …``, a condition in parentheses, or a comparison."""
        first = self.next
        self.depth += 1
        if self.depth > DEEPEST:
            self.fail("too-deep", f"conditions stand more than {DEEPEST} deep inside one another")
        if self.accept("not"):
            found: Condition = nodes.Not(self.unary(), self.span_from(first))
        elif self.accept("("):
            found = self.condition()
            if not self.accept(")"):
                self.fail("open-parenthesis", "this parenthesis is never closed", span=first.span)
        else:
            found = self.comparison()
        self.depth -= 1
        return found

    def path(self) -> nodes.Path:
        """Read a field, or a way through references with dots."""
        name = self.name("a field")
        quotes = self.tokens[self.at - 1].sort is Sort.TEXT
        names = (name.text,) if quotes else tuple(name.text.split("."))
        if not all(names):
            self.fail(
                "bad-path", f"{quoted(name.text)} is no field: a dot stands between two names", span=name.span
            )
        return nodes.Path(names, name.span)

    def comparison(self) -> Condition:
        """Read a comparison, or a bare name."""
        first = self.next
        path = self.path()
        op_first = self.next
        found = self.operator()
        if found is None:
            if self.ends_clause or self.next.means("and", "or", ")"):
                return nodes.Flag(path, path.span)
            self.no_operator(path)
        name, negated = found
        op_span = self.span_from(op_first)
        values = self.values(operator(name).operands, name)
        return nodes.Compare(path, name, values, negated, op_span, self.span_from(first))

    def operator(self) -> tuple[str, bool] | None:
        """Read the longest spelling of an operator that stands here."""
        for length in range(4, 0, -1):
            ahead = self.tokens[self.at : self.at + length]
            words = tuple(token.text.lower() for token in ahead if token.sort in (Sort.WORD, Sort.SIGN))
            if len(words) == length and words in spellings():
                self.at += length
                return spellings()[words]
        return None

    def no_operator(self, path: nodes.Path) -> NoReturn:
        """Give up where an operator should stand."""
        token = self.next
        near = nearest(token.text, (" ".join(words) for words in spellings()), most=1)
        hint = HABITS.get(token.text.lower()) or (f"Did you mean {near[0]}?" if near else "")
        if not hint:
            hint = (
                "Write " + either(dict.fromkeys(words[0] for words in spellings() if words[0] != "not")) + "."
            )
        self.fail(
            "no-operator",
            f"after {quoted('.'.join(path.names))} stands {token.shown}, which compares nothing",
            hint,
        )

    def values(self, operands: Operands, name: str) -> tuple[Literal, ...]:
        """Read what stands to the right of an operator."""
        if operands is Operands.NONE:
            return ()
        if operands is Operands.SOME and self.next.means("("):
            return self.value_list(name)
        first = self.value(name)
        if operands is not Operands.PAIR:
            return (first,)
        self.expect("and", f"the first value of {name}")
        return (first, self.value(name))

    def value_list(self, name: str) -> tuple[Literal, ...]:
        """Read values in parentheses."""
        opened = self.take()
        if self.next.means(")"):
            self.take()
            self.fail("empty-list", f"{name} has an empty list of values", span=self.span_from(opened))
        found = [self.value(name)]
        while self.accept(","):
            found.append(self.value(name))
        if len(found) > MOST_VALUES:
            self.fail("too-many", f"a list has at most {MOST_VALUES} values", span=opened.span)
        if not self.accept(")"):
            hint = "Separate values with commas." if self.next.is_name else ""
            self.fail("open-parenthesis", f"the list of {name} goes on with {self.next.shown}", hint)
        return tuple(found)

    def value(self, name: str) -> Literal:
        """Read one value: a word, a text in quotes, or a relative date of several words."""
        for length in (3, 2):
            ahead = self.tokens[self.at : self.at + length]
            phrase = " ".join(token.text for token in ahead)
            if all(token.sort is Sort.WORD for token in ahead) and is_relative(phrase):
                span = ahead[0].span.to(ahead[-1].span)
                self.at += length
                return nodes.Literal(phrase, span)
        if not self.next.is_name:
            self.no_value(name)
        token = self.take()
        return nodes.Literal(token.text, token.span)

    def no_value(self, name: str) -> NoReturn:
        """Give up where a value should stand."""
        hint = self.quote_hint()
        if self.next.means("("):
            hint = f"{name} takes one value; several go with in (…)."
        elif self.next.means("=", "<", ">", "<=", ">=", "!="):
            hint = "Write != for “is not”." if self.next.means(">") else "Write “=” once."
        self.fail("no-value", f"{name} needs a value, but here is {self.next.shown}", hint)


def reading(parts: list[Condition], joints: list[Token], tighter: str) -> Condition:
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


def mixed(parts: list[Condition], joints: list[Token]) -> Problem:
    """Return the problem of ``and`` beside ``or``, with both readings."""
    second = next(joint for joint in joints if joint.text.lower() != joints[0].text.lower())
    readings = [print_condition(reading(parts, joints, word)) for word in ("and", "or")]
    hint = f"Write {readings[0]}\n   or {readings[1]}"
    return Problem("mixed-and-or", "“and” beside “or” needs parentheses", hint, span=second.span)
