"""Checking a question against a site: kinds, fields, operators and values, all problems at once."""

from __future__ import annotations

from typing import TYPE_CHECKING, assert_never

from elenchus.errors import Problem
from elenchus.language import nodes
from elenchus.operators import operator
from elenchus.plan.nodes import (
    AllOf,
    AnyOf,
    Condition,
    FieldRef,
    Negation,
    Plan,
    PositionValue,
    SortKey,
    Test,
)
from elenchus.plan.values import Refused, Resolver
from elenchus.table.schema import CORE_FIELDS, FieldType, Type
from elenchus.values.texts import either, nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Iterable

    from elenchus.errors import Span
    from elenchus.table.dataset import Dataset
    from elenchus.table.schema import Field
    from elenchus.values.dates import Clock

__all__ = ["check"]

DATE = FieldRef("date", CORE_FIELDS["date"].type)
SELF = FieldRef("entry", FieldType(Type.ENTRY))


def check(question: nodes.Question, data: Dataset, clock: Clock) -> tuple[Plan, list[Problem]]:
    """Return the plan of a question, and all that is wrong with it; with problems it is not to be run."""
    checker = Checker(data, clock)
    kinds = checker.kinds(question.source)
    condition = checker.condition(question.where.condition) if question.where else None
    order = tuple(checker.sort_key(key) for key in question.order.keys) if question.order else ()
    plan = Plan(
        kinds=kinds,
        condition=condition,
        order=tuple(key for key in order if key) or (SortKey(DATE, descending=True),),
        offset=question.offset.count if question.offset else 0,
        limit=question.limit.count if question.limit else None,
        per_page=question.per_page.count if question.per_page else None,
        fields=tuple(dict.fromkeys(checker.mentioned)),
        notices=tuple(dict.fromkeys(checker.notices)),
    )
    return plan, checker.problems


class Checker:
    """The names of one dataset, the kinds that the question asks, and the problems met so far."""

    def __init__(self, data: Dataset, clock: Clock) -> None:
        self.data = data
        self.resolver = Resolver(data, clock)
        self.asked: tuple[str, ...] = tuple(data.kind_names)
        self.mentioned: list[FieldRef] = []
        self.notices: list[Problem] = []
        self.problems: list[Problem] = []

    def report(self, code: str, message: str, hint: str, span: Span) -> None:
        """Add a problem at a place in the question."""
        self.problems.append(Problem(code, message, hint, span=span))

    def kinds(self, source: nodes.From | None) -> tuple[int, ...]:
        """Return the positions of the kinds asked; all of them without ``from``."""
        known = self.data.kind_names
        if source is None:
            return tuple(range(len(known)))
        for name in source.names:
            if name.text not in known:
                self.unknown_kind(name)
        self.asked = tuple(name for name in known if name in {literal.text for literal in source.names})
        self.asked = self.asked or tuple(known)  # the others of the question's words are checked all the same
        return tuple(known.index(name) for name in self.asked)

    def unknown_kind(self, name: nodes.Literal) -> None:
        """Report a name after ``from`` that is no kind."""
        known = self.data.kind_names
        near = nearest(name.text, known)
        if name.text in self.data.taxonomies:
            hint = f"It is a taxonomy: write where {name.text} = …"
        else:
            hint = f"Did you mean {either(near)}?" if near else f"Kinds: {', '.join(known)}."
        self.report("unknown-kind", f"there is no kind {quoted(name.text)}", hint, name.span)

    # Conditions

    def condition(self, condition: nodes.Condition) -> Condition | None:
        """Return a checked condition; None where nothing of it could be understood."""
        match condition:
            case nodes.Compare():
                return self.comparison(condition)
            case nodes.Flag():
                return self.flag(condition)
            case nodes.Not():
                part = self.condition(condition.part)
                return Negation(part) if part else None
            case nodes.And():
                return AllOf(self.parts(condition.parts))
            case nodes.Or():
                return AnyOf(self.parts(condition.parts))
            case _:
                assert_never(condition)

    def parts(self, parts: Iterable[nodes.Condition]) -> tuple[Condition, ...]:
        """Return the parts that could be understood."""
        return tuple(found for part in parts if (found := self.condition(part)))

    def comparison(self, node: nodes.Compare) -> Test | None:
        """Return a comparison with its values typed."""
        field = self.field(node.path)
        if field is None:
            return None
        record = operator(node.operator)
        if not record.fits(field.type):
            found = f"{field.name} is {describe(field.type)}"
            message = f"{quoted(record.name)} takes {record.types}, and {found}"
            self.report("wrong-operator", message, record.instead, node.op_span)
            return None
        values = []
        for literal in node.values:
            try:
                values.append(self.resolver.value(field, literal))
            except Refused as refused:
                self.problems.append(refused.problem)
        return Test(field, record.name, tuple(values), node.negated, node.span)

    def flag(self, node: nodes.Flag) -> Test | None:
        """Return a bare name as a comparison with yes."""
        field = self.field(node.path)
        if field is None:
            return None
        if field.type.type is not Type.YESNO or field.type.many:
            name = ".".join(node.path.names)
            hint = f"Compare it, such as {name} = …, or ask whether {name} is set."
            self.report(
                "not-yes-or-no", f"{name} alone says nothing: it is {describe(field.type)}", hint, node.span
            )
            return None
        return Test(field, "=", (PositionValue(1, "yes"),), span=node.span)

    # Fields

    def field(self, path: nodes.Path) -> FieldRef | None:
        """Return the field of a path in the kinds asked; report one that none has, or that has two types."""
        name = ".".join(path.names)
        if name == "entry":
            return SELF
        found = {kind: field for kind in self.asked if (field := self.data.schema.field_of(kind, name))}
        if not found:
            self.unknown_field(name, path.span)
            return None
        types = dict.fromkeys(field.type for field in found.values())
        if len(types) > 1:
            self.two_types(name, found, path.span)
            return None
        if len(found) < len(self.asked):
            self.notices.append(partial(name, found, [kind for kind in self.asked if kind not in found]))
        reference = FieldRef(name, next(iter(types)))
        self.mentioned.append(reference)
        return reference

    def unknown_field(self, name: str, span: Span) -> None:
        """Report a field that no kind asked has."""
        schema = self.data.schema
        others = [kind for kind in schema.kinds if kind not in self.asked and schema.field_of(kind, name)]
        near = nearest(name, dict.fromkeys(field for kind in self.asked for field in schema.fields_of(kind)))
        if others:
            hint = f"It is a field of {either(others)}."
        elif name in schema.kinds:
            hint = f"It is a kind: write from {name}."
        else:
            hint = f"Did you mean {either(near)}?" if near else ""
        where = f" in {either(self.asked)}" if len(self.asked) < len(schema.kinds) else ""
        self.report("unknown-field", f"there is no field {quoted(name)}{where}", hint, span)

    def two_types(self, name: str, found: dict[str, Field], span: Span) -> None:
        """Report a field whose type differs between the kinds asked."""
        listed = ", ".join(f"in {kind} {describe(field.type)}" for kind, field in found.items())
        hint = "Ask one of the kinds with from, or give the field one type in the site file."
        self.report("two-types", f"{name} has two types: {listed}", hint, span)

    # Order

    def sort_key(self, node: nodes.OrderKey) -> SortKey | None:
        """Return one key of an order."""
        if node.path is None:
            return SortKey(DATE, descending=node.by == "newest")
        field = self.field(node.path)
        if field is None:
            return None
        if field.type.many:
            hint = "Order by a field with one value."
            self.report(
                "many-values", f"{field.name} may have several values, so it is no order", hint, node.span
            )
            return None
        return SortKey(field, node.descending)


def describe(field: FieldType) -> str:
    """Return a field's type in words."""
    if field.type is Type.TERM:
        return f"terms of the {'tree' if field.tree else 'flat taxonomy'} {field.taxonomy}"
    listed = f" in {field.unit}" if field.unit else ""
    return f"a list, each {field.type.label}{listed}" if field.many else f"{field.type.label}{listed}"


def partial(name: str, found: Iterable[str], others: list[str]) -> Problem:
    """Return the notice of a field that only some of the kinds asked have."""
    message = f"{name} is a field of {either(found)} only; it is missing in every {either(others)}"
    return Problem("field-in-part", message)
