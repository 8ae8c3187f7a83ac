"""What a written value means for a field: its type decides."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, assert_never

from elenchus.errors import About, Problem, Replacement
from elenchus.frozen import Frozen, member, replace
from elenchus.language.nodes import Literal
from elenchus.language.printer import print_value
from elenchus.plan.nodes import (
    EntryValue,
    FieldRef,
    NumberValue,
    Part,
    PatternValue,
    PositionValue,
    TermValue,
    TextValue,
    TimeValue,
    Value,
)
from elenchus.schema.convert import NO, YES
from elenchus.schema.naming import several_entries, several_terms, unknown_entry, unknown_term
from elenchus.schema.types import FieldType, Type
from elenchus.values.dates import Interval, literal_interval, relative_interval, widened
from elenchus.values.lazily import pattern
from elenchus.values.patterns import PatternError, searcher
from elenchus.values.texts import either, fold, nearest, quoted, with_article

if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence

    from elenchus.language import nodes
    from elenchus.schema.catalog import Catalog, TermName
    from elenchus.values.dates import Clock

_FEW = 5  # of several meanings that are named
DATE_WORDS = (
    "now", "today", "yesterday", "tomorrow", "last 30 days", "next 30 days",
    "this week", "last week", "next week", "this month", "last month", "this year", "last year",
)  # fmt: skip

__all__ = ["ANY_ENTRY", "DATE_WORDS", "Refused", "Resolver"]

ANY_ENTRY = FieldRef("entry", FieldType(Type.ENTRY))

_NUMBER = pattern(r"[+-]?(\d{1,40}(_\d{1,40}){0,20}(\.\d{0,40})?|\.\d{1,40})(e[+-]?\d{1,3})?", re.IGNORECASE)
_LARGEST = 10**300


class Refused(Exception):
    """A value does not go with its field."""

    def __init__(self, literal: Literal, problem: Problem) -> None:
        super().__init__(problem.message)
        near, cure = problem.near, None
        if len(near) == 1:
            cure = Replacement(literal.span, print_value(replace(literal, text=near[0])))
        self.problem = replace(problem, span=literal.span, about=About.VALUE, cure=cure)


class Resolver(Frozen):
    """Turns written values into typed ones for one catalog and clock. Every method raises Refused.

    Unless ``unpublished`` says that the question includes them, no suggestion names what is not public.
    ``watch`` is given what values depend on: the ``day`` of the clock, or its ``instant``.
    """

    catalog: Catalog
    clock: Clock
    unpublished: bool = False
    notices: list[Problem] = member(default_factory=list)
    watch: set[str] = member(default_factory=set, compare=False)

    def values(self, field: FieldRef, texts: Iterable[str]) -> tuple[Value, ...]:
        """Return what texts mean for a field."""
        return tuple(self.value(field, Literal(text)) for text in texts)

    def value(self, field: FieldRef, literal: Literal) -> Value:
        """Return what a literal means for a field."""
        match field.type.type:
            case Type.TEXT | Type.URL | Type.IMAGE:
                return TextValue(fold(literal.text), literal.text)
            case Type.INTEGER | Type.NUMBER:
                return self.number(field, literal)
            case Type.DATE | Type.DATETIME:
                return self.time(field, literal)
            case Type.YESNO:
                return self.yesno(field, literal)
            case Type.CHOICE:
                return self.choice(field, literal)
            case Type.TERM:
                return self.term(field, literal)
            case Type.ENTRY:
                return self.entry(field, literal)
            case _:
                assert_never(field.type.type)

    def number(self, field: FieldRef, literal: Literal) -> NumberValue:
        """Return a number, exact; of parts of dates, also note one that no date has."""
        part = field.source.part if isinstance(field.source, Part) else ""
        if not _NUMBER.fullmatch(literal.text):
            hint = "Write a decimal point." if "," in literal.text else "Write digits, such as 12 or 0.5."
            if part in _NUMBERS_OF_PARTS:
                hint = _NUMBERS_OF_PARTS[part][2]
            raise Refused(literal, Problem("not-a-number", _takes(field, literal), hint))
        from fractions import Fraction

        number = Fraction(literal.text)
        if abs(number) > _LARGEST:
            message = f"{quoted(literal.text)} is too large a number"
            raise Refused(literal, Problem("not-a-number", message, "Numbers have at most 300 digits."))
        if part in _NUMBERS_OF_PARTS:
            first, last, hint = _NUMBERS_OF_PARTS[part]
            if not (first <= number <= last and number.denominator == 1):
                message = f"no date has the {part} {literal.text}"
                self.notices.append(Problem("no-such-part", message, hint, span=literal.span))
        return NumberValue(number, literal.text)

    def note_text_order(self, field: FieldRef, literals: Sequence[nodes.Value]) -> None:
        """Note a text field that is compared by size with what reads as a number: 9 comes after 1500 then."""
        texts = [getattr(each, "text", "") for each in literals]
        if number := next(filter(_NUMBER.fullmatch, texts), ""):
            message = f"{field.name} is text, so {number} compares with it as text, and not as a number"
            hint = f'Declare it: {field.name} = {{ type = "number" }}.'
            span = literals[texts.index(number)].span
            self.notices.append(Problem("compared-as-text", message, hint, span=span))

    def time(self, field: FieldRef, literal: Literal) -> TimeValue:
        """Return a date as an interval; ``now`` is an instant, or today for a field of days."""
        text = literal.text
        try:
            if text.lower() == "now":
                is_day = field.type.type is Type.DATE
                self.watch.add("day" if is_day else "instant")
                found: Interval | None = Interval(self.clock.now, self.clock.now + 1)
                if is_day:
                    found = relative_interval("today", self.clock)
            elif (found := relative_interval(text, self.clock)) is not None:
                self.watch.add("day")
            else:
                found = literal_interval(text, self.clock.zone)
        except OverflowError:
            raise Refused(
                literal, Problem("bad-date", f"{quoted(text)} leaves the years 1 to 9999", "")
            ) from None
        if found is None:
            near = nearest(text, DATE_WORDS, most=1)
            hint = "Write 2026, 2026-05-18, today or last 30 days."
            raise Refused(literal, Problem("bad-date", _takes(field, literal), hint, near=near))
        if isinstance(field.source, Part):
            found = widened(found, field.source.part, self.clock.zone)
        return TimeValue(found, text)

    def pattern(self, literal: Literal) -> PatternValue:
        """Return a regular expression that compiles."""
        try:
            searcher(literal.text)
        except PatternError as error:
            message = f"{quoted(literal.text)} is no pattern: {error}"
            raise Refused(
                literal, Problem("bad-pattern", message, "Patterns are written as RE2 reads them.")
            ) from None
        return PatternValue(literal.text)

    def yesno(self, field: FieldRef, literal: Literal) -> PositionValue:
        """Return yes or no."""
        folded = fold(literal.text)
        if folded not in YES | NO:
            raise Refused(literal, Problem("not-yes-or-no", _takes(field, literal), "Write yes or no."))
        return PositionValue(int(folded in YES), "yes" if folded in YES else "no")

    def choice(self, field: FieldRef, literal: Literal) -> PositionValue:
        """Return one of the declared choices."""
        names = [fold(choice) for choice in field.type.choices]
        if fold(literal.text) in names:
            position = names.index(fold(literal.text))
            return PositionValue(position, field.type.choices[position])
        near = nearest(literal.text, field.type.choices)
        hint = f"It can be {either(field.type.choices)}."
        raise Refused(literal, Problem("unknown-choice", _takes(field, literal), hint, near=near))

    @property
    def now(self) -> int | None:
        """The instant at which suggestions must be public; None where the question includes the others."""
        return None if self.unpublished else self.clock.now

    def term(self, field: FieldRef, literal: Literal) -> TermValue:
        """Return a term by slug, path, id, name or alias; say where else the word is known."""
        taxonomy = field.type.taxonomy
        found = self.catalog.terms_called(taxonomy, literal.text)
        if len(found) == 1:
            self.note_others(taxonomy, literal, found[0])
            return TermValue(*found[0])
        if found:
            words = f"may be any of {{}} terms of {taxonomy}"
            raise Refused(literal, several_terms(literal.text, [term.address for term in found], words))
        elsewhere = [
            f"It is {with_article(name)}: write {name} = {print_value(literal)}."
            for name in self.catalog.schema.taxonomies
            if name != taxonomy and self.catalog.terms_called(name, literal.text)
        ]
        advice = next(iter(elsewhere), f"elenchus describe {taxonomy} lists them.")
        near = () if elsewhere else self.catalog.terms_near(taxonomy, literal.text, self.now)
        raise Refused(literal, unknown_term(literal.text, taxonomy, near, advice))

    def note_others(self, taxonomy: str, literal: Literal, found: TermName) -> None:
        """Note the terms that a slug could mean besides the root that it means."""
        others = self.catalog.terms_beside(taxonomy, literal.text)
        if others:
            besides = either(term.address for term in others[:_FEW])
            message = f"{quoted(literal.text)} means the root; {besides} has the same slug"
            hint = f"Write /{found.address} to say that the root is meant."
            self.notices.append(Problem("root-meant", message, hint, span=literal.span))

    def entry(self, field: FieldRef, literal: Literal) -> EntryValue:
        """Return an entry by id, slug or kind/slug."""
        kinds = field.type.kinds
        ids = self.catalog.entries_called(literal.text, kinds)
        if len(ids) == 1:
            return EntryValue(ids[0])
        if ids:
            raise Refused(literal, several_entries(literal.text, ids))
        near = self.catalog.entries_near(literal.text, kinds, self.now)
        raise Refused(literal, unknown_entry(literal.text, kinds, near))


# The parts of dates that are numbers: the first and the last there is, and how to write them.
_NUMBERS_OF_PARTS = {
    "weekday": (1, 7, "Write 1 for Monday to 7 for Sunday."),
    "month_of_year": (1, 12, "Write 1 for January to 12 for December."),
    "hour": (0, 23, "Write a number from 0 to 23."),
}


def _takes(field: FieldRef, literal: Literal) -> str:
    """Return what a field takes, against what it was given."""
    label = field.type.type.label
    if isinstance(field.source, Part) and field.type.type.is_date:
        label = with_article(field.source.part)
    return f"{quoted(field.name)} takes {label}, not {quoted(literal.text)}"
