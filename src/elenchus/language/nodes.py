"""The tree of a question. Spans do not count for equality, so trees compare by what they say."""

from __future__ import annotations

from typing import Literal as OneOf
from typing import TypeAlias

from elenchus.errors import Span
from elenchus.frozen import Frozen, member

__all__ = [
    "And",
    "Argument",
    "AtMost",
    "By",
    "Changes",
    "Chosen",
    "Compare",
    "Condition",
    "Flag",
    "From",
    "GroupClause",
    "GroupKey",
    "Having",
    "Lead",
    "Limit",
    "LimitGroups",
    "LimitPerGroup",
    "Listed",
    "Literal",
    "MeasureClause",
    "Measured",
    "Not",
    "Offset",
    "Or",
    "Order",
    "OrderKey",
    "OtherField",
    "Parameter",
    "Path",
    "PerPage",
    "Question",
    "Related",
    "Unpublished",
    "Value",
    "Where",
    "as_literal",
]

_NOWHERE = Span(0, 0)


def _at() -> Span:
    """Return the default of a node's span, which equality leaves out."""
    found: Span = member(default=_NOWHERE, compare=False)
    return found


class Literal(Frozen):
    """A value as it was written, without its quotes: the type of the field decides what it means.

    ``is_given`` says that a parameter stands there, and its caller gave the value.
    """

    text: str
    span: Span = _at()
    is_given: bool = member(default=False, compare=False)


class Parameter(Frozen):
    """A value that the caller gives: ``:name``, or ``:name?`` where it may be left out.

    ``:here`` is the row of the page on which a listing stands, ``:here.FIELD`` what that row has in a field.
    """

    name: str
    optional: bool = False
    span: Span = _at()


class Path(Frozen):
    """A field, a way through references (``station.region``), or how many entries refer to a row.

    ``counted`` paths, ``count of sighting.station``, have two names: a kind and its field. ``measure`` is
    the name of one that is taken of a field in all rows: ``sum of individuals``.
    """

    names: tuple[str, ...]
    counted: bool = False
    measure: str = ""
    span: Span = _at()


class OtherField(Frozen):
    """``field NAME`` on the right of an operator: what the row itself has in another field."""

    path: Path
    span: Span = _at()


Value: TypeAlias = Literal | Parameter | OtherField


class Compare(Frozen):
    """One comparison; ``operator`` is the name of a record, ``op_span`` where it is written."""

    path: Path
    operator: str
    values: tuple[Value, ...] = ()
    negated: bool = False
    op_span: Span = _at()
    span: Span = _at()


class Related(Frozen):
    """``related to X by a, b``: shares a term with an entry, in some taxonomies or in any."""

    anchor: Value
    by: tuple[Literal, ...] = ()
    span: Span = _at()


class Flag(Frozen):
    """A bare name: a yes/no field, or a condition that the site names."""

    path: Path
    span: Span = _at()


class Argument(Frozen):
    """What a question gives to a parameter of a listing that it names."""

    name: str
    values: tuple[Value, ...]
    span: Span = _at()


class Listed(Frozen):
    """``listed in NAME (…)``: stands among the rows of a listing."""

    listing: Literal
    given: tuple[Argument, ...] = ()
    span: Span = _at()


class Chosen(Frozen):
    """A parameter in the place of a condition: the listing that declares it says what its choices mean."""

    parameter: Parameter
    span: Span = _at()


class Not(Frozen):
    """The opposite of a condition."""

    part: Condition
    span: Span = _at()


class And(Frozen):
    """All of two or more conditions."""

    parts: tuple[Condition, ...]
    span: Span = _at()


class Or(Frozen):
    """Any of two or more conditions."""

    parts: tuple[Condition, ...]
    span: Span = _at()


Condition: TypeAlias = Compare | Related | Flag | Listed | Chosen | Not | And | Or


class From(Frozen):
    """The clause ``from``: names of kinds, one taxonomy, or one listing with its parameters."""

    names: tuple[Literal, ...]
    given: tuple[Argument, ...] = ()
    span: Span = _at()


class Where(Frozen):
    """The clause ``where``."""

    condition: Condition
    span: Span = _at()


class Unpublished(Frozen):
    """The clause ``including unpublished``."""

    span: Span = _at()


By: TypeAlias = OneOf[
    "field",
    "newest",
    "oldest",
    "pinned first",
    "relatedness",
    "given",
    "term order",
    "random",
    "random fixed",
    "parameter",
]


class OrderKey(Frozen):
    """One key of an order: a field, one of the orders with a name of their own, or a parameter for either."""

    by: By
    path: Path | None = None
    descending: bool = False
    natural: bool = False
    missing_first: bool = False
    parameter: Parameter | None = None
    span: Span = _at()


class Order(Frozen):
    """The clause ``order by``."""

    keys: tuple[OrderKey, ...]
    span: Span = _at()


class Lead(Frozen):
    """The clause ``lead with``: entries that come first."""

    entries: tuple[Value, ...]
    span: Span = _at()


class AtMost(Frozen):
    """The clause ``at most N per FIELD``."""

    count: int
    path: Path
    span: Span = _at()


class GroupKey(Frozen):
    """One key of the groups: a field, for terms perhaps a subtree, and the order of its values.

    ``descending`` is None where no direction is written: the type's own order. ``measure`` is what the groups
    are put in order by, where that is one. ``steps`` is how wide groups of numbers are, as it is written.
    """

    path: Path
    under: tuple[Value, ...] = ()
    by: OneOf["value", "count", "name", "measure"] = "value"
    descending: bool | None = None
    measure: Path | None = None
    steps: str = ""
    span: Span = _at()


class GroupClause(Frozen):
    """The clause ``group by``."""

    keys: tuple[GroupKey, ...]
    with_empty: bool = False
    span: Span = _at()


class Having(Frozen):
    """The clause ``having``: a condition on groups, by their count and their measures."""

    condition: Condition
    span: Span = _at()


class Measured(Frozen):
    """One measure, ``sum of individuals``, and what it is called where somebody says so."""

    path: Path
    label: str = ""
    span: Span = _at()


class MeasureClause(Frozen):
    """The clause ``measure``."""

    measures: tuple[Measured, ...]
    span: Span = _at()


class Offset(Frozen):
    """The clause ``offset``: how many rows are skipped."""

    count: int
    span: Span = _at()


class Limit(Frozen):
    """The clause ``limit``: how many rows there are at most; None for ``all``."""

    count: int | None
    span: Span = _at()


class LimitGroups(Frozen):
    """The clause ``limit N groups``: how many values of the first key have their groups shown."""

    count: int
    span: Span = _at()


class LimitPerGroup(Frozen):
    """The clause ``limit N per group``: how many rows of each group are shown."""

    count: int
    span: Span = _at()


class PerPage(Frozen):
    """The clause ``per page``: how many rows stand on a page."""

    count: int
    span: Span = _at()


class Question(Frozen):
    """A whole question: each clause at most once."""

    source: From | None = None
    unpublished: Unpublished | None = None
    where: Where | None = None
    order: Order | None = None
    lead: Lead | None = None
    at_most: AtMost | None = None
    group: GroupClause | None = None
    having: Having | None = None
    measure: MeasureClause | None = None
    offset: Offset | None = None
    limit: Limit | None = None
    group_limit: LimitGroups | None = None
    per_group: LimitPerGroup | None = None
    per_page: PerPage | None = None


class Changes(Frozen):
    """What a listing changes in the question that it is based on.

    Clauses of ``question`` replace their namesakes, ``also`` joins its condition to the inherited one,
    ``without`` are fields of Question that are removed.
    """

    question: Question
    also: Where | None = None
    without: tuple[str, ...] = ()


def as_literal(value: Value) -> Literal:
    """Return a value of a bound question, where no field can stand. Raises TypeError for other values."""
    if not isinstance(value, Literal):
        raise TypeError(value)
    return value
