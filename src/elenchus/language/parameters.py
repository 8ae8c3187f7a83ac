"""Putting given values into a question's tree, as data: nothing in a value can change the question."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, assert_never

from elenchus.errors import Problem
from elenchus.language.nodes import And, Compare, Flag, Literal, Not, Or, Parameter, Related
from elenchus.operators import Operands, operator
from elenchus.values.texts import either, nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence

    from elenchus.language.nodes import Condition, Group, Question, Value, Where

__all__ = ["bind"]


def bind(question: Question, given: Mapping[str, Sequence[str]]) -> tuple[Question, list[Problem]]:
    """Return the question with literals for its parameters, and what is wrong with those given.

    A parameter without a value, or with an empty one, is not given: an optional one is taken out
    together with the comparison that holds it, a required one is a problem.
    """
    binder = Binder({name: [text for text in texts if text] for name, texts in given.items()})
    bound = replace(
        question,
        where=bind_where(binder, question.where) if question.where else None,
        lead=question.lead and replace(question.lead, entries=binder.many(question.lead.entries)),
        group=question.group and bind_group(binder, question.group),
    )
    bound = replace(bound, lead=bound.lead if bound.lead and bound.lead.entries else None)
    return bound, [*binder.problems, *binder.unused()]


def bind_where(binder: Binder, where: Where) -> Where | None:
    """Return the clause ``where`` with its values bound; None when nothing of it is left."""
    condition = binder.condition(where.condition)
    return replace(where, condition=condition) if condition else None


def bind_group(binder: Binder, group: Group) -> Group:
    """Return the clause ``group by`` with its values bound."""
    return replace(group, keys=tuple(replace(key, under=binder.many(key.under)) for key in group.keys))


@dataclass
class Binder:
    """The values given, the names that the question has asked for, and the problems met."""

    given: Mapping[str, Sequence[str]]
    asked: dict[str, None] = field(default_factory=dict)
    problems: list[Problem] = field(default_factory=list)

    def many(self, values: Iterable[Value]) -> tuple[Literal, ...]:
        """Return the literals of values; a parameter may stand for several, or for none."""
        return tuple(literal for value in values for literal in self.literals(value))

    def literals(self, value: Value) -> list[Literal]:
        """Return what one value stands for."""
        if isinstance(value, Literal):
            return [value]
        self.asked[value.name] = None
        texts = self.given.get(value.name, [])
        if not texts and not value.optional:
            self.problems.append(not_given(value))
        return [Literal(text, value.span) for text in texts]

    def condition(self, node: Condition) -> Condition | None:
        """Return a condition with its values bound; None when nothing of it is left."""
        match node:
            case Compare():
                return self.comparison(node)
            case Related():
                anchor = self.one(node.anchor, "related to")
                return replace(node, anchor=anchor) if anchor else None
            case Flag():
                return node
            case Not():
                part = self.condition(node.part)
                return replace(node, part=part) if part else None
            case And() | Or():
                parts = tuple(part for each in node.parts if (part := self.condition(each)))
                return replace(node, parts=parts) if len(parts) > 1 else next(iter(parts), None)
            case _:
                assert_never(node)

    def one(self, value: Value, after: str) -> Literal | None:
        """Return the one literal of a value; several are a problem."""
        found = self.literals(value)
        if len(found) > 1:
            message = f"{quoted(after)} takes one value, and {len(found)} are given for :{given_name(value)}"
            self.problems.append(
                Problem("many-given", message, "Write in :NAME for several.", span=value.span)
            )
        return found[0] if found else None

    def comparison(self, node: Compare) -> Compare | None:
        """Return a comparison with its values bound; ``between`` with one bound left is a half-open one."""
        record = operator(node.operator)
        if record.takes_pattern and any(isinstance(value, Parameter) for value in node.values):
            message = f"{quoted(record.name)} takes no parameter: a pattern is part of the question"
            self.problems.append(Problem("fixed-pattern", message, "Use contains.", span=node.values[0].span))
            return None
        if record.operands is Operands.PAIR:
            low, high = (self.one(value, record.name) for value in node.values)
            if low and high:
                return replace(node, values=(low, high))
            bound = low or high
            return replace(node, operator=">=" if low else "<=", values=(bound,)) if bound else None
        if record.operands is Operands.ONE:
            value = self.one(node.values[0], record.name)
            return replace(node, values=(value,)) if value else None
        values = self.many(node.values)
        return replace(node, values=values) if values or record.operands is Operands.NONE else None

    def unused(self) -> list[Problem]:
        """Return a problem for each value given that the question does not ask for."""
        found = []
        for name in self.given.keys() - self.asked.keys():
            near = nearest(name, self.asked)
            known = f"It has {either(':' + asked for asked in self.asked)}." if self.asked else "It has none."
            hint = f"Did you mean {either(near)}?" if near else known
            found.append(Problem("unknown-parameter", f"the question has no parameter :{name}", hint))
        return found


def given_name(value: Value) -> str:
    """Return the name of a parameter."""
    return value.name if isinstance(value, Parameter) else value.text


def not_given(value: Parameter) -> Problem:
    """Return the problem of a parameter without a value."""
    if value.name == "here":
        message = ":here is the row of a page, and there is no page here"
        return Problem("no-page-row", message, "Try one with --with here=ID.", span=value.span)
    message = f":{value.name} has no value"
    hint = f"Give one with --with {value.name}=…, or write :{value.name}? where it may be left out."
    return Problem("not-given", message, hint, span=value.span)
