"""A checked question: what the executors run. It knows neither NumPy nor SQL."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal, TypeAlias

from elenchus.errors import Span
from elenchus.frozen import Frozen, member

if TYPE_CHECKING:
    from fractions import Fraction

    from elenchus.errors import Problem
    from elenchus.schema.subject import Subject
    from elenchus.schema.types import FieldType
    from elenchus.values.dates import Interval

__all__ = [
    "Across",
    "AllOf",
    "AnyOf",
    "Condition",
    "Counted",
    "EntryValue",
    "FieldRef",
    "FieldSource",
    "FieldTest",
    "Fill",
    "GivenOrder",
    "GroupBy",
    "Itself",
    "ListedIn",
    "MeasureOf",
    "Negation",
    "NumberValue",
    "OrderKey",
    "Part",
    "PartName",
    "PatternValue",
    "PerValue",
    "Plan",
    "PositionValue",
    "RandomOrder",
    "RelatednessOrder",
    "RowName",
    "Rows",
    "SharesTerms",
    "SortKey",
    "SourceOrder",
    "Stepped",
    "Stored",
    "TermOrder",
    "TermValue",
    "Test",
    "TextValue",
    "TimeValue",
    "Value",
    "Via",
    "YesFirst",
]

# Fields


class Stored(Frozen):
    """A column of the table itself."""


class Itself(Frozen):
    """The row itself, as a reference."""


class Via(Frozen):
    """A field of what another field refers to."""

    first: FieldRef
    then: FieldRef


PartName: TypeAlias = Literal[
    "year", "month", "week", "day", "weekday", "month_of_year", "hour", "initial", "top"
]


class Part(Frozen):
    """A part of a date, the initial of a text, or the root of a term."""

    of: FieldRef
    part: PartName


class Counted(Frozen):
    """How many visible entries of a kind refer to the row by a field."""

    kind: str
    field: FieldRef


class Across(Frozen):
    """What all rows of a group have together: a measure of a field, or with ``count`` how many they are."""

    measure: str
    field: FieldRef | None = None


class Stepped(Frozen):
    """In which step, counted from 0, a number lies: 12 in the second of those of 10, which is 1."""

    of: FieldRef
    step: Fraction


FieldSource: TypeAlias = Stored | Itself | Via | Part | Counted | Across | Stepped


class FieldRef(Frozen):
    """A field as a question names it, with its type and where its values come from."""

    name: str
    type: FieldType
    source: FieldSource = Stored()


# Values


class NumberValue(Frozen):
    """A number, exact as it was written."""

    number: Fraction
    shown: str


class TextValue(Frozen):
    """A text in its folded form, and as it was written."""

    folded: str
    shown: str


class PatternValue(Frozen):
    """A regular expression."""

    pattern: str

    @property
    def shown(self) -> str:
        """The pattern as it was written."""
        return self.pattern


class TimeValue(Frozen):
    """A date: an interval of instants."""

    interval: Interval
    shown: str


class PositionValue(Frozen):
    """A choice by its position among the declared ones; no is 0 and yes is 1."""

    position: int
    shown: str


class TermValue(Frozen):
    """A term by the slugs from its root to itself, which no other term of its taxonomy has."""

    path: tuple[str, ...]
    shown: str


class EntryValue(Frozen):
    """An entry by its id."""

    id: str

    @property
    def shown(self) -> str:
        """What messages call it: its id."""
        return self.id


RowName: TypeAlias = TermValue | EntryValue  # what names a row, whatever the rows are
Value: TypeAlias = NumberValue | TextValue | PatternValue | TimeValue | PositionValue | TermValue | EntryValue

# Conditions


class Test(Frozen):
    """A comparison of a field with typed values; ``negated`` rows are those where it is false."""

    field: FieldRef
    operator: str
    values: tuple[Value, ...] = ()
    negated: bool = False
    span: Span = member(default=Span(0, 0), compare=False)


class FieldTest(Frozen):
    """A comparison of a field with another one of the same row; see :class:`Test` for ``negated``.

    The operator is one of ``= < <= > >=``. A row that lacks one of the two does not meet it.
    """

    field: FieldRef
    operator: str
    other: FieldRef
    negated: bool = False
    span: Span = member(default=Span(0, 0), compare=False)


class SharesTerms(Frozen):
    """Shares at least one term with an entry, in some taxonomies, and is not that entry."""

    entry: EntryValue
    fields: tuple[FieldRef, ...]
    span: Span = member(default=Span(0, 0), compare=False)


class Rows(Frozen):
    """The rows of a listing, after its own order, offset and limit."""

    name: str
    plan: Plan


class ListedIn(Frozen):
    """Stands among the rows of a listing."""

    rows: Rows
    span: Span = member(default=Span(0, 0), compare=False)


class Negation(Frozen):
    """True exactly where the part is false."""

    part: Condition


class AllOf(Frozen):
    """True where all parts are."""

    parts: tuple[Condition, ...]


class AnyOf(Frozen):
    """True where one of the parts is."""

    parts: tuple[Condition, ...]


Condition: TypeAlias = Test | FieldTest | SharesTerms | ListedIn | Negation | AllOf | AnyOf

# Orders


class SortKey(Frozen):
    """Order by a field; rows without a value come last in either direction, unless told otherwise."""

    field: FieldRef
    descending: bool = False
    natural: bool = False
    missing_first: bool = False


class YesFirst(Frozen):
    """Rows whose field says yes before all others."""

    field: FieldRef


class GivenOrder(Frozen):
    """Rows in the order of a list; rows that are not in it follow."""

    rows: tuple[RowName, ...]


class RelatednessOrder(Frozen):
    """Rows that share more terms with an entry first."""

    related: SharesTerms


class RandomOrder(Frozen):
    """Rows by a digest of their ids with a salt: the same salt gives the same order on every machine."""

    salt: str


class TermOrder(Frozen):
    """Terms as their taxonomy lists them, depth first."""


class SourceOrder(Frozen):
    """Rows as the listing that they come from has them."""

    rows: Rows


OrderKey: TypeAlias = (
    SortKey | TermOrder | YesFirst | GivenOrder | RelatednessOrder | RandomOrder | SourceOrder
)

# The whole


class GroupBy(Frozen):
    """One key of groups. ``within`` are the terms below which groups are wanted; empty for all.

    ``latest_first`` says that values which tie by count or by name go from the last to the first: dates do,
    unless the rows go from the oldest on. ``measure`` is what puts the groups in order where ``by`` says so.
    """

    field: FieldRef
    within: tuple[TermValue, ...] = ()
    by: Literal["value", "count", "name", "measure"] = "value"
    descending: bool = False
    latest_first: bool = False
    measure: FieldRef | None = None


class MeasureOf(Frozen):
    """A measure over the rows of an answer and of each of its groups: a field whose source is ``Across``."""

    field: FieldRef
    label: str


class PerValue(Frozen):
    """Rows beyond so many with one value of a field are passed over."""

    count: int
    field: FieldRef


class Fill(Frozen):
    """Where fewer rows than so many are left, those of a listing follow up to that number."""

    at_least: int
    rows: Rows


class Plan(Frozen):
    """A question ready to run, by names and ids only: it means the same on any content that has them.

    ``subject`` is what the rows are; where they are entries, of ``kinds``. ``order`` is never empty; the id
    always breaks the last tie. ``lead`` are rows that come first. ``fields`` are those that the question
    mentions, in its order. ``source`` is the listing whose rows are asked, ``fill`` the one that fills up.
    ``empty`` says why there are no rows whatever the condition, ``name`` which listing this is, ``show`` are
    the fields that it shows.
    """

    subject: Subject
    kinds: tuple[str, ...]
    unpublished: bool
    condition: Condition | None
    order: tuple[OrderKey, ...]
    lead: tuple[RowName, ...] = ()
    at_most: PerValue | None = None
    groups: tuple[GroupBy, ...] = ()
    with_empty: bool = False
    having: Condition | None = None
    measures: tuple[MeasureOf, ...] = ()
    group_limit: int | None = None
    per_group: int | None = None
    offset: int = 0
    limit: int | None = None
    per_page: int | None = None
    fields: tuple[FieldRef, ...] = ()
    notices: tuple[Problem, ...] = ()
    source: Rows | None = None
    fill: Fill | None = None
    empty: str = ""
    name: str = ""
    show: tuple[FieldRef, ...] = ()

    @property
    def is_plain(self) -> bool:
        """Say whether the order alone says which rows there are."""
        return not (self.lead or self.at_most or self.fill)

    @property
    def takes_part(self) -> bool:
        """Say whether its rows are such as stand on a page once, where that wants no repeats.

        Terms are none, nor are those of groups of which only counts are shown.
        """
        return self.subject.is_entries and not (self.groups and self.per_group == 0)
