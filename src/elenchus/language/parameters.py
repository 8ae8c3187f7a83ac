"""Putting given values into a question's tree, as data: nothing in a value can change the question."""

from __future__ import annotations

from typing import TYPE_CHECKING, assert_never

from elenchus.errors import About, Problem
from elenchus.frozen import Frozen, Working, member, replace
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
from elenchus.language.tree import placed
from elenchus.operators import Operands, operator
from elenchus.values.texts import either, nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence

    from elenchus.language.nodes import (
        Argument,
        Condition,
        From,
        GroupClause,
        Having,
        Order,
        OrderKey,
        Question,
        Value,
        Where,
    )

__all__ = ["Given", "bind"]


class Given(Frozen):
    """What stands for the parameters of a question.

    ``conditions`` and ``orders`` are the chosen ones of parameters that stand for such; a condition may
    be None, for none at all. ``may_lack`` are parameters that may be left out though the question does
    not say so.
    """

    values: Mapping[str, Sequence[str]] = member(default_factory=dict)
    conditions: Mapping[str, Condition | None] = member(default_factory=dict)
    orders: Mapping[str, tuple[OrderKey, ...]] = member(default_factory=dict)
    may_lack: frozenset[str] = frozenset()


def bind(question: Question, given: Given) -> tuple[Question, list[Problem]]:
    """Return the question with literals for its parameters, and what is wrong with those given.

    A parameter without a value, or with an empty one, is not given: an optional one is taken out
    together with the comparison that holds it, a required one is a problem.
    """
    values = {name: [text for text in texts if text] for name, texts in given.values.items()}
    binder = _Binder(replace(given, values=values))
    bound = replace(
        question,
        source=question.source and _bind_source(binder, question.source),
        where=_bind_where(binder, question.where) if question.where else None,
        order=question.order and _bind_order(binder, question.order),
        lead=question.lead and replace(question.lead, entries=binder.many(question.lead.entries)),
        group=question.group and _bind_group(binder, question.group),
        having=_bind_having(binder, question.having) if question.having else None,
    )
    bound = replace(bound, lead=bound.lead if bound.lead and bound.lead.entries else None)
    return bound, [*binder.problems, *binder.unused()]


def _bind_source(binder: _Binder, source: From) -> From:
    """Return the clause ``from`` with the values of what it gives to a listing."""
    return replace(source, given=binder.arguments(source.given))


def _bind_order(binder: _Binder, order: Order) -> Order | None:
    """Return the clause ``order by`` with the keys of chosen orders; None when nothing of it is left."""
    keys = tuple(key for each in order.keys for key in binder.order_keys(each))
    return replace(order, keys=keys) if keys else None


def _bind_where(binder: _Binder, where: Where) -> Where | None:
    """Return the clause ``where`` with its values bound; None when nothing of it is left."""
    condition = binder.condition(where.condition)
    return replace(where, condition=condition) if condition else None


def _bind_having(binder: _Binder, having: Having) -> Having | None:
    """Return the clause ``having`` with its values bound; None when nothing of it is left."""
    condition = binder.condition(having.condition)
    return replace(having, condition=condition) if condition else None


def _bind_group(binder: _Binder, group: GroupClause) -> GroupClause:
    """Return the clause ``group by`` with its values bound."""
    return replace(group, keys=tuple(replace(key, under=binder.many(key.under)) for key in group.keys))


class _Binder(Working):
    """The values given, the names that the question has asked for, and the problems met."""

    given: Given
    asked: dict[str, None] = member(default_factory=dict)
    problems: list[Problem] = member(default_factory=list)

    def many(self, values: Iterable[Value]) -> tuple[Literal, ...]:
        """Return the literals of values; a parameter may stand for several, or for none."""
        return tuple(literal for value in values for literal in self.literals(value))

    def literals(self, value: Value) -> list[Literal]:
        """Return what one value stands for."""
        if isinstance(value, Literal):
            return [value]
        if isinstance(value, OtherField):  # which the parser reads where it may stand only
            raise TypeError(value)
        self.asked[value.name] = None
        texts = self.given.values.get(value.name, [])
        if value.name in self.given.conditions or value.name in self.given.orders:
            hint = "Write it where a condition, or a key of the order, would stand."
            self.problems.append(
                Problem("no-single-value", f":{value.name} stands for no value", hint, span=value.span)
            )
        elif not texts:
            self.lacks(value)
        return [Literal(text, value.span, is_given=True) for text in texts]

    def lacks(self, parameter: Parameter) -> None:
        """Report a parameter that is not given, unless it may be left out."""
        if not parameter.optional and parameter.name not in self.given.may_lack:
            self.problems.append(_not_given(parameter))

    def arguments(self, given: Iterable[Argument]) -> tuple[Argument, ...]:
        """Return what is given to a listing, without what is left out."""
        found = (replace(each, values=self.many(each.values)) for each in given)
        return tuple(each for each in found if each.values)

    def order_keys(self, key: OrderKey) -> tuple[OrderKey, ...]:
        """Return a key of an order, or those that a parameter stands for."""
        if key.parameter is None:
            return (key,)
        name = key.parameter.name
        self.asked[name] = None
        if name in self.given.orders:
            return placed(self.given.orders[name], key.span)
        if name in self.given.values:
            self.problems.append(_undeclared(key.parameter, "an order", "orders"))
        else:
            self.lacks(key.parameter)
        return ()

    def chosen(self, node: Chosen) -> Condition | None:
        """Return the condition that a parameter stands for; None for none."""
        name = node.parameter.name
        self.asked[name] = None
        if name in self.given.conditions:
            found = self.given.conditions[name]
            return placed(found, node.span) if found else None
        if name in self.given.values:
            self.problems.append(_undeclared(node.parameter, "a condition", "conditions"))
        else:
            self.lacks(node.parameter)
        return None

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
            case Listed():
                return replace(node, given=self.arguments(node.given))
            case Chosen():
                return self.chosen(node)
            case Not():
                part = self.condition(node.part)
                return replace(node, part=part) if part else None
            case And() | Or():
                parts = tuple(part for each in node.parts if (part := self.condition(each)))
                return replace(node, parts=parts) if len(parts) > 1 else next(iter(parts), None)
            case _:
                assert_never(node)

    def one(self, value: Value, after: str) -> Literal | OtherField | None:
        """Return the one literal of a value, or the field that stands there; several are a problem."""
        if isinstance(value, OtherField):
            return value
        found = self.literals(value)
        if len(found) > 1:
            name = value.name if isinstance(value, Parameter) else value.text
            message = f"{quoted(after)} takes one value, and {len(found)} are given for :{name}"
            hint = "Write in :NAME for several."
            self.problems.append(Problem("many-given", message, hint, span=value.span, parameter=name))
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
        given = {**self.given.values, **self.given.conditions, **self.given.orders}
        for name in [name for name in given if name not in self.asked]:
            near = nearest(name, self.asked)
            known = f"It has {either(':' + asked for asked in self.asked)}." if self.asked else "It has none."
            hint = known
            message = f"the question has no parameter :{name}"
            found.append(
                Problem("unknown-parameter", message, hint, parameter=name, near=near, about=About.PARAMETER)
            )
        return found


def _undeclared(parameter: Parameter, what: str, key: str) -> Problem:
    """Return the problem of a value where only a listing's declared choices can stand."""
    message = f":{parameter.name} stands for {what}, so no value can be given for it here"
    hint = f"A listing declares it: parameters.{parameter.name} = {{ {key} = {{ … }} }}."
    name = parameter.name
    return Problem("undeclared-choice", message, hint, parameter.span, parameter=name, about=About.CHOICE)


def _not_given(value: Parameter) -> Problem:
    """Return the problem of a parameter without a value."""
    if value.name.split(".")[0] == "here":
        what = "the row of a page" if value.name == "here" else "a field of a page's row"
        message = f":{value.name} is {what}, and there is no page here"
        hint = f"Try one with --with {value.name}={'ID' if value.name == 'here' else '…'}."
        return _absent("no-page-row", message, hint, value)
    message = f":{value.name} has no value"
    hint = f"Give one with --with {value.name}=…, or write :{value.name}? where it may be left out."
    return _absent("not-given", message, hint, value)


def _absent(code: str, message: str, hint: str, value: Parameter) -> Problem:
    """Return the problem of a parameter without a value."""
    return Problem(code, message, hint, value.span, parameter=value.name, about=About.ABSENCE)
