"""Checking a question against a site: kinds, fields, operators and values, all problems at once."""

from __future__ import annotations

from fractions import Fraction
from typing import TYPE_CHECKING

from elenchus.errors import About
from elenchus.frozen import Frozen, member, replace
from elenchus.language import nodes
from elenchus.language.tree import walk as walk_tree
from elenchus.plan.conditions import Conditions
from elenchus.plan.fields import Fields, NoField
from elenchus.plan.groupfields import GroupFields, across
from elenchus.plan.listings import NO_LISTINGS
from elenchus.plan.nodes import (
    Across,
    EntryValue,
    FieldRef,
    Fill,
    GivenOrder,
    GroupBy,
    MeasureOf,
    OrderKey,
    PerValue,
    Plan,
    RandomOrder,
    RelatednessOrder,
    Rows,
    SharesTerms,
    SortKey,
    SourceOrder,
    Stepped,
    TermOrder,
    TermValue,
    Test,
    YesFirst,
)
from elenchus.plan.reading import Reading
from elenchus.plan.values import ANY_ENTRY, Refused, Resolver
from elenchus.plan.walking import parts
from elenchus.schema.subject import ENTRIES, terms_of
from elenchus.schema.types import CORE_FIELDS, FieldType, Type, describe
from elenchus.values.texts import nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence

    from elenchus.errors import Problem
    from elenchus.plan.listings import Asked, Listings
    from elenchus.plan.nodes import Condition, RowName
    from elenchus.schema.catalog import Catalog
    from elenchus.schema.subject import Subject
    from elenchus.values.dates import Clock

__all__ = ["Ground", "check"]

_DATE = FieldRef("date", CORE_FIELDS["date"].type)
_PINNED = FieldRef("pinned", CORE_FIELDS["pinned"].type)
_GROUPABLE = (Type.TERM, Type.CHOICE, Type.YESNO, Type.ENTRY, Type.DATE, Type.INTEGER, Type.TEXT)


class Ground(Frozen):
    """What a question is checked against; ``seed`` is what random orders depend on besides the day.

    ``watch`` is given what the plan depends on beside content: the ``day`` of the clock, or its ``instant``.
    """

    catalog: Catalog
    clock: Clock
    seed: str = ""
    listings: Listings = NO_LISTINGS
    watch: set[str] = member(default_factory=set, compare=False)


def check(asked: Asked, ground: Ground) -> tuple[Plan, list[Problem]]:
    """Return the plan of a question, and all that is wrong with it; with problems it is not to be run.

    Its parameters are bound already.
    """
    checker = _Checker(ground, asked)
    plan = checker.plan(asked.question)
    return plan, [*asked.problems, *checker.problems]


class _Checker(Reading):
    """What the question asks of the ground it stands on, and the problems met so far."""

    def __init__(self, ground: Ground, asked: Asked, opened: tuple[str, ...] = ()) -> None:
        self.ground = ground
        self.catalog = ground.catalog
        self.schema = ground.catalog.schema
        self.clock = ground.clock
        self.asked = asked
        self.opened = (*opened, asked.name) if asked.name else opened
        self.resolver = Resolver(
            ground.catalog,
            ground.clock,
            unpublished=asked.question.unpublished is not None,
            watch=ground.watch,
        )
        super().__init__(Fields(self.catalog, tuple(self.schema.kinds)), [], [])

    def plan(self, question: nodes.Question) -> Plan:
        """Return the plan; where the question is wrong, of what could be understood."""
        source = self.source(question.source)
        subject, kinds = (source.plan.subject, source.plan.kinds) if source else self.rows(question.source)
        self.fields = Fields(self.catalog, kinds, subject)
        conditions = Conditions(self, self.mentioned)
        condition = conditions.read(question.where.condition) if question.where else None
        order = self.order(question.order, condition, source)
        return Plan(
            name=self.asked.name,
            source=source,
            fill=self.fill(subject),
            empty=self.asked.empty,
            show=self.shown(),
            subject=subject,
            kinds=kinds,
            unpublished=question.unpublished is not None,
            condition=condition,
            order=order,
            lead=self.lead(question.lead) if question.lead else (),
            at_most=self.at_most(question.at_most) if question.at_most else None,
            groups=self.groups(question.group, order) if question.group else (),
            with_empty=bool(question.group and question.group.with_empty),
            having=self.having(question),
            measures=self.measures(question.measure) if question.measure else (),
            group_limit=self.of_groups(question, question.group_limit, "limit … groups"),
            per_group=self.of_groups(question, question.per_group, "per group"),
            offset=question.offset.count if question.offset else 0,
            limit=question.limit.count if question.limit else None,
            per_page=question.per_page.count if question.per_page else None,
            fields=tuple(
                dict.fromkeys(field for field in self.mentioned if field.name not in ("entry", "term"))
            ),
            notices=tuple(dict.fromkeys((*self.fields.notices, *self.resolver.notices))),
        )

    # Rows

    def shown(self) -> tuple[FieldRef, ...]:
        """Return the fields that a listing shows; report those that its rows do not have."""
        found = []
        for number, name in enumerate(self.asked.show):
            try:
                found.append(self.fields.find(nodes.Path(tuple(name.split(".")))))
            except NoField as error:
                self.problems.append(replace(error.problem, span=None, setting="show", index=number))
        return tuple(found)

    def source(self, node: nodes.From | None) -> Rows | None:
        """Return the listing whose rows are asked; None where kinds or a taxonomy are."""
        for each in node.names if node else ():
            self.only_one(each)
        if node is None or len(node.names) != 1:
            return None
        name = node.names[0]
        if name.text in self.schema.taxonomies or name.text in self.schema.kinds:
            if node.given:
                message = f"{quoted(name.text)} is no listing, so it takes no parameters"
                self.report("unknown-parameter", message, "", node.span)
            return None
        if name.text not in self.ground.listings.names():
            return None
        return self.listing(name, node.given)

    def only_one(self, name: nodes.Literal) -> None:
        """Report a name that a listing has, too, although it means something else."""
        if place := self.ground.listings.clash(name.text):
            message = f"{quoted(name.text)} is also the name of a listing, at {place}"
            self.report("name-clash", message, "Give the listing another name.", name.span, About.CLASH)

    def listing(self, name: nodes.Literal, given: Iterable[nodes.Argument]) -> Rows | None:
        """Return the rows of a listing; report one that there is not, or that leads back to itself."""
        if self.ground.listings.clash(name.text):
            self.only_one(name)
            return None
        if name.text not in self.ground.listings.names():
            known = self.ground.listings.names()
            hint = f"Listings: {', '.join(known)}." if known else "The site has none."
            message, near = f"there is no listing {quoted(name.text)}", nearest(name.text, known)
            if not near and (entries := self._entries_like(name.text)):
                hint = f"{entries[0]} is an entry: write entry = {entries[0]}."
            self.report("unknown-listing", message, hint, name.span, near=near)
            return None
        if name.text in self.opened:
            chain = " → ".join([*self.opened[self.opened.index(name.text) :], name.text])
            message = f"the listing {name.text} leads back to itself: {chain}"
            self.report("listing-cycle", message, "Cut the chain at one place.", name.span, About.CYCLE)
            return None
        values = {each.name: [nodes.as_literal(value).text for value in each.values] for each in given}
        asked = self.ground.listings.asked(name.text, {**self.asked.here, **values})
        inner = _Checker(self.ground, asked, self.opened)
        plan = inner.plan(asked.question)
        self.problems += [_inside(name, problem) for problem in (*asked.problems, *inner.problems)]
        return Rows(name.text, plan)

    def _entries_like(self, name: str) -> Sequence[str]:
        """Return the names of entries that come near one: of those that the question may show."""
        return self.catalog.entries_near(name, (), self.resolver.now)

    def fill(self, subject: Subject) -> Fill | None:
        """Return the listing that fills this one up."""
        if not self.asked.fill_from:
            return None
        name, before = nodes.Literal(self.asked.fill_from), len(self.problems)
        rows = self.listing(name, ())
        if rows and rows.plan.subject != subject:
            message = f"the listing {name.text} cannot fill this one: its rows are of another sort"
            hint = "Name a listing of the same sort of rows: entries, or terms of the same taxonomy."
            self.report("mixed-rows", message, hint, name.span)
            rows = None
        found = self.problems[before:]  # they stand in the setting, not in the question
        self.problems[before:] = [replace(problem, span=None, setting="fill_from") for problem in found]
        return Fill(self.asked.at_least, rows) if rows else None

    def rows(self, source: nodes.From | None) -> tuple[Subject, tuple[str, ...]]:
        """Return what the rows are, and of which kinds where they are entries."""
        known = tuple(self.schema.kinds)
        if source is None:
            return ENTRIES, known
        names = [name.text for name in source.names]
        listings = self.ground.listings.names()
        if len(names) == 1 and names[0] in listings and names[0] not in known:
            return ENTRIES, known  # what is wrong with that listing is reported already
        if len(names) == 1 and names[0] in self.schema.taxonomies:
            return terms_of(names[0]), ()
        for name in source.names:
            if name.text not in known:
                self.unknown_kind(name)
        asked = tuple(name for name in known if name in names)
        return ENTRIES, asked or known  # the rest of the question is checked all the same

    def unknown_kind(self, name: nodes.Literal) -> None:
        """Report a name after ``from`` that is no kind."""
        known = tuple(self.schema.kinds)
        near = nearest(name.text, (*known, *self.schema.taxonomies, *self.ground.listings.names()))
        hint = f"Kinds: {', '.join(known)}."
        if name.text in self.schema.taxonomies or name.text in self.ground.listings.names():
            what = "taxonomy" if name.text in self.schema.taxonomies else "listing"
            message = f"{quoted(name.text)} is a {what}"
            self.report("mixed-rows", message, "It stands alone after from.", name.span)
        else:
            self.report("unknown-kind", f"there is no kind {quoted(name.text)}", hint, name.span, near=near)

    def lead(self, node: nodes.Lead) -> tuple[RowName, ...]:
        """Return the rows that come first, each once."""
        field = self.itself()
        found = []
        for literal in node.entries:
            try:
                value = self.resolver.value(field, nodes.as_literal(literal))
            except Refused as refused:
                self.problems.append(refused.problem)
            else:
                found.append(_row_name(value))
        return tuple(dict.fromkeys(found))

    def itself(self) -> FieldRef:
        """Return the field that names a row."""
        if self.fields.subject.is_entries:
            return ANY_ENTRY
        rules = self.schema.taxonomies[self.fields.subject.taxonomy]
        return FieldRef("term", FieldType(Type.TERM, taxonomy=rules.name, tree=rules.tree))

    def at_most(self, node: nodes.AtMost) -> PerValue | None:
        """Return how many rows there may be of one value of a field."""
        field = self.field(node.path)
        if field is None:
            return None
        if field.type.many:
            hint = "A row with two values would count for both: name a field with one value."
            self.report("many-values", f"{quoted(field.name)} may have several values", hint, node.path.span)
            return None
        return PerValue(node.count, field)

    # Order

    def order(
        self, node: nodes.Order | None, condition: Condition | None, source: Rows | None
    ) -> tuple[OrderKey, ...]:
        """Return the keys of an order; without any, a listing's own, newest first, or that of the terms."""
        keys = tuple(found for key in node.keys if (found := self.order_key(key, condition))) if node else ()
        if keys:
            return keys
        if source:
            return (SourceOrder(source),)
        return (TermOrder(),) if self.fields.subject.is_terms else (SortKey(_DATE, descending=True),)

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
                day = ""
                if node.by == "random":
                    self.ground.watch.add("day")
                    day = self.clock.today.isoformat()
                return RandomOrder("\n".join((*filter(None, (self.ground.seed, self.asked.name)), day)))
            case "parameter":
                raise AssertionError(node.by)  # parameters are bound by now

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
        if self.fields.subject.is_terms:
            hint = "Order terms by latest, total, name or term order."
            self.report("wrong-order", f"terms have no order {quoted(node.by)}", hint, node.span)
            return None
        if node.by == "pinned first":
            return YesFirst(_PINNED)
        return SortKey(_DATE, descending=node.by == "newest")

    def term_order(self, node: nodes.OrderKey) -> OrderKey | None:
        """Return the order in which a taxonomy lists its terms."""
        if self.fields.subject.is_terms:
            return TermOrder()
        hint = "It is for questions from a taxonomy; to group entries by their terms write group by."
        self.report("wrong-order", "only terms have a term order", hint, node.span)
        return None

    def given(self, node: nodes.OrderKey, condition: Condition | None) -> OrderKey | None:
        """Return the order in which ``entry in (…)`` lists its entries."""
        found = [
            test
            for test in parts(condition)
            if isinstance(test, Test)
            and test.operator == "in"
            and not test.negated
            and test.field.name in ("entry", "term")
        ]
        if len(found) != 1 and (self.problems or self.asked.problems):
            return None  # what it needs may be there and wrong
        if len(found) != 1:
            hint = "Write where entry in (a, b), outside of or and not."
            self.report("wrong-order", "“given” needs exactly one list of entries", hint, node.span)
            return None
        return GivenOrder(tuple(_row_name(value) for value in found[0].values))

    def relatedness(self, node: nodes.OrderKey, condition: Condition | None) -> OrderKey | None:
        """Return the order by the number of shared terms."""
        found = [part for part in parts(condition) if isinstance(part, SharesTerms)]
        if len(found) != 1 and (self.problems or self.asked.problems):
            return None  # what it needs may be there and wrong
        if len(found) != 1:
            hint = "Write where related to ENTRY, outside of or and not."
            self.report("wrong-order", "“relatedness” needs exactly one “related to”", hint, node.span)
            return None
        return RelatednessOrder(found[0])

    # Groups

    def of_groups(
        self, question: nodes.Question, limit: nodes.LimitGroups | nodes.LimitPerGroup | None, words: str
    ) -> int | None:
        """Return how many groups are shown, or how many rows of each."""
        if limit is None:
            return None
        if question.group is None:
            hint = "Write group by, or limit N alone."
            self.report("idle-limit", f"{quoted(words)} means nothing without groups", hint, limit.span)
        return limit.count

    def groups(self, node: nodes.GroupClause, order: tuple[OrderKey, ...]) -> tuple[GroupBy, ...]:
        """Return the keys of groups."""
        return tuple(found for key in node.keys if (found := self.group_key(key, order)))

    def group_key(self, node: nodes.GroupKey, order: tuple[OrderKey, ...]) -> GroupBy | None:
        """Return one key of groups, with the direction that its type has by itself."""
        field = self.field(node.path)
        field = self.stepped(field, node) if field and node.steps else field
        if field is None or not self.can_group(field, node):
            return None
        within = self.within(field, node)
        measure = self.measured(node.measure) if node.measure and node.by == "measure" else None
        if node.by == "measure" and measure is None:
            return None
        latest_first = field.type.type.is_date and not _oldest_first(order)
        down = node.descending
        if down is None:
            down = latest_first and node.by == "value"
        return GroupBy(field, within, node.by, down, latest_first, measure)

    def measured(self, path: nodes.Path) -> FieldRef | None:
        """Return a measure of a field; report one that does not take what the field holds."""
        try:
            found, field = across(path, self.fields)
        except NoField as error:
            self.problems.append(error.problem)
            return None
        self.mentioned.append(field)
        return found

    def measures(self, node: nodes.MeasureClause) -> tuple[MeasureOf, ...]:
        """Return the measures that are shown, each label once."""
        found: dict[str, MeasureOf] = {}
        for each in node.measures:
            if field := self.measured(each.path):
                label = each.label or field.name
                if label in found:
                    hint = "Give one of them another name: as NAME."
                    self.report("measure-twice", f"two measures are called {quoted(label)}", hint, each.span)
                found[label] = MeasureOf(field, label)
        return tuple(found.values())

    def having(self, question: nodes.Question) -> Condition | None:
        """Return the condition on groups."""
        node = question.having
        if node is None:
            return None
        if question.group is None:
            hint = "Write group by before it, or where for a condition on rows."
            self.report("idle-limit", "“having” means nothing without groups", hint, node.span)
            return None
        for each in walk_tree(node.condition):
            if isinstance(each, nodes.Flag | nodes.Related | nodes.Listed):
                message = "a group is compared by its count and its measures"
                self.report("wrong-operator", message, "Write having count >= 3.", each.span)
                return None
        measures = question.measure.measures if question.measure else ()
        reading = Conditions(self, [])
        reading.fields = GroupFields(self.fields, {each.label: each.path for each in measures if each.label})
        found = reading.read(node.condition)
        sources = [each.source for each in reading.mentioned]  # of groups: rows have the fields behind them
        self.mentioned += [each.field for each in sources if isinstance(each, Across) and each.field]
        return found

    def stepped(self, field: FieldRef, node: nodes.GroupKey) -> FieldRef | None:
        """Return in which steps numbers lie; report a field that holds none."""
        if not field.type.type.is_number:
            holds = f"{quoted(field.name)} holds {describe(field.type)}"
            message = f"“in steps of” makes groups of numbers, and {holds}"
            hint = "Dates have parts: date.month." if field.type.type.is_date else "Leave it out."
            self.report("bad-group", message, hint, node.span)
            return None
        kind = replace(field.type, type=Type.INTEGER)
        return FieldRef(field.name, kind, Stepped(field, Fraction(node.steps)))

    def can_group(self, field: FieldRef, node: nodes.GroupKey) -> bool:
        """Say whether the values of a field make groups; report where they do not."""
        if field.type.type is Type.DATETIME:
            hint = f"Group by {field.name}.month, .year, .week or .day."
            self.report(
                "bad-group", f"{quoted(field.name)} has nearly as many values as rows", hint, node.path.span
            )
            return False
        if field.type.type is Type.NUMBER:
            message = f"{quoted(field.name)} has nearly as many values as rows"
            hint = f"Write how wide a group is: group by {field.name} in steps of 10."
            self.report("bad-group", message, hint, node.path.span)
            return False
        if field.type.type not in _GROUPABLE:
            message = f"{field.name} is {field.type.type.label}, which makes no groups"
            self.report(
                "bad-group",
                message,
                "Group by a term, a choice, a reference or a part of a date.",
                node.path.span,
            )
            return False
        return True

    def within(self, field: FieldRef, node: nodes.GroupKey) -> tuple[TermValue, ...]:
        """Return the terms below which a key wants its groups."""
        if node.under and not field.type.tree:
            hint = "Only terms of a taxonomy with tree = true stand below others."
            self.report("wrong-operator", f"{quoted(field.name)} is no tree", hint, node.span)
            return ()
        found = []
        for literal in node.under:
            try:
                found.append(self.resolver.term(field, nodes.as_literal(literal)))
            except Refused as refused:
                self.problems.append(refused.problem)
        return tuple(found)


def _inside(name: nodes.Literal, problem: Problem) -> Problem:
    """Return a problem of a listing as one at the place where the question names it."""
    if problem.about is About.CYCLE:  # its chain tells the way already
        return replace(problem, span=name.span)
    message = f"in the listing {name.text}: {problem.message}"
    return replace(problem, message=message, span=name.span, setting="", index=None, cure=None)


def _row_name(value: object) -> RowName:
    """Return a value that names a row. Raises TypeError for others, which the resolver gives nowhere here."""
    if not isinstance(value, EntryValue | TermValue):
        raise TypeError(value)
    return value


def _oldest_first(order: tuple[OrderKey, ...]) -> bool:
    """Say whether the rows go from the oldest on, so that their groups do too."""
    first = order[0] if order else None
    return isinstance(first, SortKey) and first.field.type.type.is_date and not first.descending
