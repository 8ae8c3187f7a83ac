"""Checking a question against a site: kinds, fields, operators and values, all problems at once."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.plan.conditions import Conditions
from elenchus.plan.fields import Fields
from elenchus.plan.nodes import (
    AllOf,
    AtMost,
    EntryValue,
    FieldRef,
    GivenOrder,
    GroupKey,
    OrderKey,
    Plan,
    RandomOrder,
    RelatednessOrder,
    SharesTerms,
    SortKey,
    TermOrder,
    TermValue,
    Test,
    YesFirst,
)
from elenchus.plan.reading import Reading
from elenchus.plan.values import Refused, Resolver
from elenchus.table.schema import CORE_FIELDS, FieldType, Type
from elenchus.values.texts import either, nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Iterable

    from elenchus.errors import Problem
    from elenchus.language import nodes
    from elenchus.plan.nodes import Condition
    from elenchus.table.dataset import Dataset
    from elenchus.values.dates import Clock

__all__ = ["check"]

DATE = FieldRef("date", CORE_FIELDS["date"].type)
PINNED = FieldRef("pinned", CORE_FIELDS["pinned"].type)
ENTRY = FieldRef("entry", FieldType(Type.ENTRY))
GROUPABLE = (Type.TERM, Type.CHOICE, Type.YESNO, Type.ENTRY, Type.DATE, Type.INTEGER, Type.TEXT)


def check(
    question: nodes.Question, data: Dataset, clock: Clock, *, salt: str = ""
) -> tuple[Plan, list[Problem]]:
    """Return the plan of a question, and all that is wrong with it; with problems it is not to be run.

    Parameters must be bound already. ``salt`` is what random orders depend on besides the day.
    """
    checker = Checker(data, clock, salt)
    plan = checker.plan(question)
    return plan, checker.problems


class Checker(Reading):
    """One dataset and clock, what the question asks of it, and the problems met so far."""

    def __init__(self, data: Dataset, clock: Clock, salt: str) -> None:
        self.data = data
        self.clock = clock
        self.salt = salt
        self.resolver = Resolver(data, clock)
        super().__init__(Fields(data, data.kind_names), [], [])

    def plan(self, question: nodes.Question) -> Plan:
        """Return the plan; where the question is wrong, of what could be understood."""
        taxonomy, kinds = self.rows(question.source)
        self.fields = Fields(self.data, kinds, taxonomy)
        conditions = Conditions(self.data, self.resolver, self.fields, self.problems, self.mentioned)
        condition = conditions.read(question.where.condition) if question.where else None
        order = self.order(question.order, condition)
        return Plan(
            taxonomy=taxonomy,
            kinds=tuple(self.data.kind_names.index(kind) for kind in kinds),
            unpublished=question.unpublished is not None,
            condition=condition,
            order=order,
            lead=self.lead(question.lead) if question.lead else (),
            at_most=self.at_most(question.at_most) if question.at_most else None,
            groups=self.groups(question.group, order) if question.group else (),
            with_empty=bool(question.group and question.group.with_empty),
            per_group=self.per_group(question),
            offset=question.offset.count if question.offset else 0,
            limit=question.limit.count if question.limit else None,
            per_page=question.per_page.count if question.per_page else None,
            fields=tuple(
                dict.fromkeys(field for field in self.mentioned if field.name not in ("entry", "term"))
            ),
            notices=tuple(dict.fromkeys(self.fields.notices)),
        )

    # Rows

    def rows(self, source: nodes.From | None) -> tuple[str, tuple[str, ...]]:
        """Return the taxonomy whose terms are the rows, or nothing and the kinds that are asked."""
        known = self.data.kind_names
        if source is None:
            return "", tuple(known)
        names = [name.text for name in source.names]
        if len(names) == 1 and names[0] in self.data.taxonomies:
            return names[0], ()
        for name in source.names:
            if name.text not in known:
                self.unknown_kind(name)
        asked = tuple(name for name in known if name in names)
        return "", asked or tuple(known)  # the rest of the question is checked all the same

    def unknown_kind(self, name: nodes.Literal) -> None:
        """Report a name after ``from`` that is no kind."""
        known = self.data.kind_names
        near = nearest(name.text, (*known, *self.data.taxonomies))
        hint = f"Did you mean {either(near)}?" if near else f"Kinds: {', '.join(known)}."
        if name.text in self.data.taxonomies:
            self.report(
                "mixed-rows", f"{quoted(name.text)} is a taxonomy", "It stands alone after from.", name.span
            )
        else:
            self.report("unknown-kind", f"there is no kind {quoted(name.text)}", hint, name.span)

    def lead(self, node: nodes.Lead) -> tuple[int, ...]:
        """Return the rows that come first, each once."""
        field = self.itself()
        found = []
        for literal in node.entries:
            try:
                value = self.resolver.value(field, literal)  # type: ignore[arg-type]
            except Refused as refused:
                self.problems.append(refused.problem)
            else:
                found.append(number_of(value))
        return tuple(dict.fromkeys(found))

    def itself(self) -> FieldRef:
        """Return the field that names a row."""
        if not self.fields.taxonomy:
            return ENTRY
        tree = self.data.taxonomies[self.fields.taxonomy].tree
        return FieldRef("term", FieldType(Type.TERM, taxonomy=self.fields.taxonomy, tree=tree))

    def at_most(self, node: nodes.AtMost) -> AtMost | None:
        """Return how many rows there may be of one value of a field."""
        field = self.field(node.path)
        if field is None:
            return None
        if field.type.many:
            hint = "A row with two values would count for both: name a field with one value."
            self.report("many-values", f"{quoted(field.name)} may have several values", hint, node.path.span)
            return None
        return AtMost(node.count, field)

    # Order

    def order(self, node: nodes.Order | None, condition: Condition | None) -> tuple[OrderKey, ...]:
        """Return the keys of an order; without any, newest first for entries, their own order for terms."""
        keys = tuple(found for key in node.keys if (found := self.order_key(key, condition))) if node else ()
        if keys:
            return keys
        return (TermOrder(),) if self.fields.taxonomy else (SortKey(DATE, descending=True),)

    def order_key(self, node: nodes.OrderKey, condition: Condition | None) -> OrderKey | None:
        """Return one key of an order."""
        match node.by:
            case "field":
                return self.sort_key(node)
            case "newest" | "oldest" | "pinned first":
                return self.entry_order(node)
            case "term order":
                return self.term_order(node)
            case "given":
                return self.given(node, condition)
            case "relatedness":
                return self.relatedness(node, condition)
            case "random" | "random fixed":
                day = "" if node.by == "random fixed" else self.clock.today.isoformat()
                return RandomOrder(f"{self.salt}\n{day}")

    def sort_key(self, node: nodes.OrderKey) -> SortKey | None:
        """Return an order by a field with one value."""
        field = self.field(node.path) if node.path else None
        if field is None:
            return None
        if field.type.many:
            hint = f"Order by a field with one value, or write group by {field.name}."
            self.report(
                "many-values",
                f"{quoted(field.name)} may have several values, so it is no order",
                hint,
                node.span,
            )
            return None
        if node.natural and not field.type.type.is_text:
            hint = "Leave it out: numbers and dates are in their order already."
            self.report(
                "idle-natural",
                f"“natural” reads numbers inside text, and {field.name} is no text",
                hint,
                node.span,
            )
            return None
        return SortKey(field, node.descending, node.natural, node.missing_first)

    def entry_order(self, node: nodes.OrderKey) -> OrderKey | None:
        """Return an order that only entries have."""
        if self.fields.taxonomy:
            hint = "Order terms by latest, total, name or term order."
            self.report("wrong-order", f"terms have no order {quoted(node.by)}", hint, node.span)
            return None
        if node.by == "pinned first":
            return YesFirst(PINNED)
        return SortKey(DATE, descending=node.by == "newest")

    def term_order(self, node: nodes.OrderKey) -> OrderKey | None:
        """Return the order in which a taxonomy lists its terms."""
        if self.fields.taxonomy:
            return TermOrder()
        hint = "It is for questions such as from habitat; to group entries by their terms write group by."
        self.report("wrong-order", "only terms have a term order", hint, node.span)
        return None

    def given(self, node: nodes.OrderKey, condition: Condition | None) -> OrderKey | None:
        """Return the order in which ``entry in (…)`` lists its entries."""
        found = [
            test
            for test in joined(condition)
            if isinstance(test, Test)
            and test.operator == "in"
            and not test.negated
            and test.field.name in ("entry", "term")
        ]
        if len(found) != 1 and self.problems:
            return None  # what it needs may be there and wrong
        if len(found) != 1:
            hint = "Write where entry in (a, b), outside of or and not."
            self.report("wrong-order", "“given” needs exactly one list of entries", hint, node.span)
            return None
        return GivenOrder(tuple(number_of(value) for value in found[0].values))

    def relatedness(self, node: nodes.OrderKey, condition: Condition | None) -> OrderKey | None:
        """Return the order by the number of shared terms."""
        found = [part for part in joined(condition) if isinstance(part, SharesTerms)]
        if len(found) != 1 and self.problems:
            return None  # what it needs may be there and wrong
        if len(found) != 1:
            hint = "Write where related to ENTRY, outside of or and not."
            self.report("wrong-order", "“relatedness” needs exactly one “related to”", hint, node.span)
            return None
        return RelatednessOrder(found[0])

    # Groups

    def per_group(self, question: nodes.Question) -> int | None:
        """Return how many rows of each group are shown."""
        if question.per_group is None:
            return None
        if question.group is None:
            hint = "Write group by, or limit N alone."
            self.report(
                "idle-limit", "“per group” means nothing without groups", hint, question.per_group.span
            )
        return question.per_group.count

    def groups(self, node: nodes.Group, order: tuple[OrderKey, ...]) -> tuple[GroupKey, ...]:
        """Return the keys of groups."""
        return tuple(found for key in node.keys if (found := self.group_key(key, order)))

    def group_key(self, node: nodes.GroupKey, order: tuple[OrderKey, ...]) -> GroupKey | None:
        """Return one key of groups, with the direction that its type has by itself."""
        field = self.field(node.path)
        if field is None or not self.can_group(field, node):
            return None
        within = self.within(field, node)
        down = node.descending
        if down is None:
            down = field.type.type.is_date and node.by == "value" and not oldest_first(order)
        return GroupKey(field, within, node.by, down)

    def can_group(self, field: FieldRef, node: nodes.GroupKey) -> bool:
        """Say whether the values of a field make groups; report where they do not."""
        if field.type.type is Type.DATETIME:
            hint = f"Group by {field.name}.month, .year, .week or .day."
            self.report(
                "bad-group", f"{quoted(field.name)} has nearly as many values as rows", hint, node.path.span
            )
            return False
        if field.type.type not in GROUPABLE:
            message = f"{field.name} is {field.type.type.label}, which makes no groups"
            self.report(
                "bad-group",
                message,
                "Group by a term, a choice, a reference or a part of a date.",
                node.path.span,
            )
            return False
        return True

    def within(self, field: FieldRef, node: nodes.GroupKey) -> tuple[tuple[int, int], ...]:
        """Return the ranges of term numbers below the terms that a key names."""
        if node.under and not field.type.tree:
            hint = "Only terms of a taxonomy with tree = true stand below others."
            self.report("wrong-operator", f"{quoted(field.name)} is no tree", hint, node.span)
            return ()
        found = []
        for literal in node.under:
            try:
                value = self.resolver.value(field, literal)  # type: ignore[arg-type]
            except Refused as refused:
                self.problems.append(refused.problem)
            else:
                assert isinstance(value, TermValue)  # noqa: S101 - the field is one of terms
                found.append((value.number, value.end))
        return tuple(found)


def joined(condition: Condition | None) -> Iterable[Condition]:
    """Yield the parts of a condition that all must hold."""
    if isinstance(condition, AllOf):
        for part in condition.parts:
            yield from joined(part)
    elif condition is not None:
        yield condition


def number_of(value: object) -> int:
    """Return the row of an entry, or the number of a term."""
    assert isinstance(value, EntryValue | TermValue)  # noqa: S101 - the resolver gives no others here
    return value.row if isinstance(value, EntryValue) else value.number


def oldest_first(order: tuple[OrderKey, ...]) -> bool:
    """Say whether the rows go from the oldest on, so that their groups do too."""
    first = order[0] if order else None
    return isinstance(first, SortKey) and first.field.type.type.is_date and not first.descending
