"""Checking conditions: each comparison gets its field, its operator and typed values."""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol, assert_never

from elenchus.errors import About, Problem, QuestionError
from elenchus.frozen import replace
from elenchus.language import nodes
from elenchus.language.habits import NULLS
from elenchus.language.parser import parse_condition
from elenchus.language.tree import walk
from elenchus.operators import Operands, operator
from elenchus.plan.conflicts import conflict, reversed_bounds
from elenchus.plan.fields import NoField
from elenchus.plan.nodes import (
    AllOf,
    AnyOf,
    Condition,
    FieldRef,
    FieldTest,
    ListedIn,
    Negation,
    Part,
    PositionValue,
    SharesTerms,
    Test,
)
from elenchus.plan.reading import Reading
from elenchus.plan.values import ANY_ENTRY, Refused
from elenchus.schema.types import Type, describe
from elenchus.values.texts import nearest, quoted, with_article

if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence

    from elenchus.errors import Span
    from elenchus.operators import Operator
    from elenchus.plan.fields import Fields
    from elenchus.plan.nodes import Rows, Value
    from elenchus.plan.values import Resolver
    from elenchus.schema.catalog import Catalog

__all__ = ["Conditions"]

_BY_SIZE = ("<", "<=", ">", ">=", "between")
_BESIDE_FIELDS = ("=", *_BY_SIZE)  # operators with another field on the right


class _Context(Protocol):
    """What conditions need of the check of a whole question."""

    catalog: Catalog
    resolver: Resolver
    fields: Fields
    problems: list[Problem]

    def listing(self, name: nodes.Literal, given: Iterable[nodes.Argument]) -> Rows | None:
        """Return the rows of a listing."""


class Conditions(Reading):
    """Reads conditions against the fields of one question; problems and fields go to the lists given."""

    def __init__(self, checker: _Context, mentioned: list[FieldRef]) -> None:
        self.checker = checker
        self.schema = checker.catalog.schema
        self.resolver = checker.resolver
        super().__init__(checker.fields, checker.problems, mentioned)
        self.open_names: list[str] = []

    def read(self, node: nodes.Condition) -> Condition | None:
        """Return a checked condition; None where nothing of it could be understood."""
        match node:
            case nodes.Compare():
                return self.comparison(node)
            case nodes.Related():
                return self.related(node)
            case nodes.Flag():
                return self.flag(node)
            case nodes.Listed():
                return self.listed(node)
            case nodes.Chosen():
                raise AssertionError(node)  # parameters are bound by now
            case nodes.Not():
                part = self.read(node.part)
                return Negation(part) if part else None
            case nodes.And():
                read = [(each, part) for each in node.parts if (part := self.read(each))]
                # What a caller chooses may leave no row; only what is written down is a mistake.
                written = tuple(part for each, part in read if not _has_given(each))
                if problem := conflict(AllOf(written)):
                    self.problems.append(problem)
                return AllOf(tuple(part for _, part in read))
            case nodes.Or():
                return AnyOf(self.parts(node.parts))
            case _:
                assert_never(node)

    def parts(self, parts: Iterable[nodes.Condition]) -> tuple[Condition, ...]:
        """Return the parts that could be understood."""
        return tuple(found for part in parts if (found := self.read(part)))

    def comparison(self, node: nodes.Compare) -> Condition | None:
        """Return a comparison with its values typed."""
        field = self.field(node.path)
        if field is None:
            return None
        record = operator(node.operator)
        if not record.fits(field.type):
            message = (
                f"{quoted(record.name)} takes {record.types}, and {field.name} holds {describe(field.type)}"
            )
            self.report("wrong-operator", message, record.instead.format(field=field.name), node.op_span)
            return None
        others = [self.other(field, record, value) for value in node.values]
        if any(others):
            return self.beside(node, record, field, others)
        values = self.values(node, record, field)
        if len(values) == len(node.values) and record.operands is Operands.PAIR and reversed_bounds(*values):
            message = f"nothing lies between {values[0].shown} and {values[1].shown}"
            self.report("reversed-bounds", message, "Turn them round.", node.span)
        if field.type.type is Type.TEXT and record.name in _BY_SIZE:
            self.resolver.note_text_order(field, node.values)
        return Test(field, record.name, values, node.negated, node.span)

    def other(self, field: FieldRef, record: Operator, value: nodes.Value) -> nodes.OtherField | None:
        """Return the field that stands on the right, None for a value.

        Beside a number or a date the word ``field`` may be left out: a bare word is neither.
        """
        if isinstance(value, nodes.OtherField):
            return value
        literal = nodes.as_literal(value)
        kind = field.type.type
        if literal.is_given or record.name not in _BESIDE_FIELDS or not (kind.is_number or kind.is_date):
            return None
        try:
            self.resolver.value(field, literal)
        except Refused:
            path = nodes.Path(tuple(literal.text.split(".")), span=literal.span)
            try:
                self.fields.find(path)
            except NoField:
                return None
            return nodes.OtherField(path, literal.span)
        return None

    def beside(
        self,
        node: nodes.Compare,
        record: Operator,
        field: FieldRef,
        others: Sequence[nodes.OtherField | None],
    ) -> Condition | None:
        """Return a comparison with other fields: ``between`` as two of them, one for each bound."""
        signs = (record.name,) if len(others) == 1 else (">=", "<=")
        found: list[Condition] = []
        for sign, other, value in zip(signs, others, node.values, strict=True):
            one = replace(node, operator=sign, values=(value,), negated=False)
            if other is None:
                if values := self.values(one, operator(sign), field):
                    found.append(Test(field, sign, values, span=node.span))
            elif ref := self.comparable(field, other, node):
                found.append(FieldTest(field, sign, ref, span=node.span))
        if len(found) < len(others):
            return None
        whole = found[0] if len(found) == 1 else AllOf(tuple(found))
        if node.negated:
            return replace(whole, negated=True) if isinstance(whole, FieldTest) else Negation(whole)
        return whole

    def comparable(self, field: FieldRef, other: nodes.OtherField, node: nodes.Compare) -> FieldRef | None:
        """Return a field that compares with another one; report where they do not go together."""
        ref = self.field(other.path)
        if ref is None:
            return None
        if not _go_together(field, ref):
            message = f"{quoted(field.name)} holds {_held(field)}, and {quoted(ref.name)} {_held(ref)}"
            hint = (
                "Compare numbers of one unit, dates, texts, the same choices, terms of one taxonomy, entries."
            )
            self.report("not-comparable", message, hint, other.span)
            return None
        if ref.type.many and not (ref.type.type is Type.TERM and node.operator == "="):
            message = f"{quoted(ref.name)} may have several values, so it cannot stand on the right"
            hint = f"Turn it round: {ref.name} = field {field.name}."
            self.report("many-values", message, hint, other.span)
            return None
        return ref

    def values(self, node: nodes.Compare, record: Operator, field: FieldRef) -> tuple[Value, ...]:
        """Return the typed values of a comparison; report those that mean nothing for the field."""
        found: list[Value] = []
        for literal in map(nodes.as_literal, node.values):
            try:
                one = (
                    self.resolver.pattern(literal)
                    if record.takes_pattern
                    else self.resolver.value(field, literal)
                )
            except Refused as refused:
                problem = refused.problem
                if literal.text.lower() in NULLS and record.name in ("=", "in"):
                    verb = "is set" if node.negated else "is missing"
                    problem = replace(problem, advice=f"Write {field.name} {verb}.", near=(), cure=None)
                elif record.name in _BESIDE_FIELDS and (near := self.fields_like(field, literal.text)):
                    problem = Refused(literal, replace(problem, near=near)).problem
                self.problems.append(problem)
            else:
                found.append(one)
        return tuple(found)

    def fields_like(self, field: FieldRef, text: str) -> Sequence[str]:
        """Return the names of fields that come near a word and could stand beside a number or a date."""
        if not (field.type.type.is_number or field.type.type.is_date):
            return ()
        known = self.fields.names().items()
        fitting = [name for name, kind in known if _go_together(field, FieldRef(name, kind))]
        return nearest(text, fitting, most=1)

    def flag(self, node: nodes.Flag) -> Condition | None:
        """Return a bare name: a condition that the site names, or a yes/no field."""
        name = ".".join(node.path.names)
        if name in self.schema.conditions and not node.path.counted:
            return self.named(name, node.span)
        try:
            field = self.fields.find(node.path)
        except NoField as error:
            self.problems.append(self.no_flag(node, error))
            return None
        self.mentioned.append(field)
        if field.type.type is Type.YESNO and not field.type.many:
            return Test(field, "=", (PositionValue(1, "yes"),), span=node.span)
        message = f"{quoted(name)} alone says nothing: it holds {describe(field.type)}"
        hint = f"Compare it, such as {name} = …, or ask whether {name} is set."
        self.report("not-yes-or-no", message, hint, node.span)
        return None

    def no_flag(self, node: nodes.Flag, error: NoField) -> Problem:
        """Return the problem of a bare name that is no field: it may have been meant as a condition."""
        name = ".".join(node.path.names)
        near = nearest(name, self.schema.conditions)
        if not near:
            return error.problem
        message = f"{quoted(name)} is neither a field nor a condition of the site"
        return Problem("unknown-name", message, span=node.span, near=near)

    def named(self, name: str, span: Span) -> Condition | None:
        """Return the condition that the site gives a name; what is wrong with it is reported at the name."""
        if name in self.open_names:
            chain = " → ".join([*self.open_names[self.open_names.index(name) :], name])
            message = f"the condition {name} leads back to itself: {chain}"
            self.report("condition-cycle", message, "", span, About.CYCLE)
            return None
        try:
            node = parse_condition(self.schema.conditions[name])
        except QuestionError as error:
            self.problems += [_inside(name, problem, span) for problem in error.problems]
            return None
        inner = Conditions(self.checker, self.mentioned)
        inner.problems = []
        inner.open_names = [*self.open_names, name]
        found = inner.read(node)
        self.problems += [_inside(name, problem, span) for problem in inner.problems]
        return found

    def related(self, node: nodes.Related) -> SharesTerms | None:
        """Return a likeness to an entry by its terms."""
        if self.fields.subject.is_terms:
            self.report("wrong-operator", "only entries are related to entries", "", node.span)
            return None
        fields = [found for name in node.by if (found := self.taxonomy(name))]
        if not node.by:
            fields = [FieldRef(name, rules.field_type) for name, rules in self.schema.taxonomies.items()]
        try:
            entry = self.resolver.entry(ANY_ENTRY, nodes.as_literal(node.anchor))
        except Refused as refused:
            self.problems.append(refused.problem)
            return None
        return SharesTerms(entry, tuple(fields), node.span)

    def listed(self, node: nodes.Listed) -> ListedIn | None:
        """Return a condition on the rows of a listing."""
        rows = self.checker.listing(node.listing, node.given)
        if rows and rows.plan.subject != self.fields.subject:
            message = f"the rows of {rows.name} are of another sort, so none of these is among them"
            self.report("wrong-operator", message, "", node.span)
            return None
        return ListedIn(rows, node.span) if rows else None

    def taxonomy(self, name: nodes.Literal) -> FieldRef | None:
        """Return the field of a taxonomy."""
        rules = self.schema.taxonomies.get(name.text)
        if rules is None:
            near = nearest(name.text, self.schema.taxonomies)
            hint = f"Taxonomies: {', '.join(self.schema.taxonomies)}."
            self.report(
                "unknown-taxonomy", f"there is no taxonomy {quoted(name.text)}", hint, name.span, near=near
            )
            return None
        return FieldRef(name.text, rules.field_type)


def _go_together(one: FieldRef, other: FieldRef) -> bool:
    """Say whether the values of two fields can be compared with one another."""
    first, second = one.type, other.type
    if first.type.is_date and second.type.is_date:
        return _unit(one) == _unit(other)
    if first.type.is_number and second.type.is_number:
        return first.unit == second.unit
    if first.type.is_text and second.type.is_text:
        return True
    same = first.type is second.type and first.choices == second.choices
    return same and first.taxonomy == second.taxonomy


def _unit(field: FieldRef) -> str:
    """Return the part of dates that a field is; nothing for whole dates."""
    return field.source.part if isinstance(field.source, Part) else ""


def _held(field: FieldRef) -> str:
    """Return what a field holds, in words."""
    unit = _unit(field) if field.type.type.is_date else ""
    return with_article(unit) if unit else describe(field.type)


def _inside(name: str, problem: Problem, span: Span) -> Problem:
    """Return a problem of a named condition as one at the place where the question names it."""
    if problem.about is About.CYCLE:  # its chain tells the way already
        return replace(problem, span=span)
    return replace(problem, message=f"in the condition {name}: {problem.message}", span=span, cure=None)


def _has_given(condition: nodes.Condition) -> bool:
    """Say whether a value of a condition was given by a caller."""
    return any(isinstance(each, nodes.Literal) and each.is_given for each in walk(condition))
