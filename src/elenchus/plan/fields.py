"""Finding fields: the names of a path, one after the other, in kinds, references, terms and dates."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.errors import Problem, Span
from elenchus.frozen import replace
from elenchus.plan.nodes import Counted, FieldRef, Itself, Part, Via
from elenchus.schema.conform import FLAGS
from elenchus.schema.subject import ENTRIES
from elenchus.schema.types import FieldType, Type, describe
from elenchus.values.texts import either, nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence

    from elenchus.language.nodes import Path
    from elenchus.plan.nodes import PartName
    from elenchus.schema.catalog import Catalog
    from elenchus.schema.subject import Subject
    from elenchus.schema.types import Field

__all__ = ["Fields", "NoField"]

_DATE_PARTS: dict[str, tuple[PartName, Type]] = {
    "year": ("year", Type.DATE),
    "month": ("month", Type.DATE),
    "week": ("week", Type.DATE),
    "day": ("day", Type.DATE),
    "weekday": ("weekday", Type.INTEGER),
    "month_of_year": ("month_of_year", Type.INTEGER),
    "hour": ("hour", Type.INTEGER),
}


# What people call taxonomies, whatever these are called on a site.
_FILED = frozenset(
    {"tag", "tags", "category", "categories", "label", "labels", "keyword", "keywords", "term", "terms"}
)
# Fields of terms that were given up, and what they are called now.
# What people call orders by, and how they are written.
_ORDERS = {
    "newest": "date desc for the newest first",
    "latest": "date desc for the newest first",
    "recent": "date desc for the newest first",
    "oldest": "date for the oldest first",
    "alphabetical": "title",
}
_RENAMED = {"count": "own", "total": "with_below"}


_NOWHERE = Span(0, 0)


class NoField(Exception):
    """A path leads nowhere."""

    def __init__(self, code: str, message: str, hint: str, span: Span, *, near: Sequence[str] = ()) -> None:
        super().__init__(message)
        self.problem = Problem(code, message, hint, span=span, near=near)


class Fields:
    """The fields of one question: of the kinds that it asks, or of the terms of a taxonomy."""

    def __init__(self, catalog: Catalog, kinds: Sequence[str], subject: Subject = ENTRIES) -> None:
        self.catalog = catalog
        self.schema = catalog.schema
        self.kinds = tuple(kinds)
        self.subject = subject
        self.notices: list[Problem] = []

    def find(self, path: Path) -> FieldRef:
        """Return the field of a path. Raises NoField."""
        if path.counted:
            return self.counted(path)
        if path.measure:
            message = f"{quoted(f'{path.measure} of')} is something of many rows, and here one is meant"
            hint = "Measures stand after measure, after having, and after by in group by."
            raise NoField("bad-path", message, hint, path.span)
        found = self.first(path.names[0], path.span)
        for name in path.names[1:]:
            found = self.step(found, name, path.span)
        return found

    def first(self, name: str, span: Span) -> FieldRef:
        """Return the field of a single name."""
        if self.subject.is_terms:
            return self.term_field(name, self.subject.taxonomy, span)
        if name == "entry":
            return FieldRef(name, FieldType(Type.ENTRY), Itself())
        return self.entry_field(name, self.kinds, span, notice=True)

    def term_field(self, name: str, taxonomy: str, span: Span) -> FieldRef:
        """Return a field of the terms of a taxonomy."""
        known = self.catalog.term_fields(taxonomy)
        if name == "term":
            kind = FieldType(Type.TERM, taxonomy=taxonomy, tree=self.schema.taxonomies[taxonomy].tree)
            return FieldRef(name, kind, Itself())
        if name not in known:
            near = () if name in _RENAMED else nearest(name, (*known, "term"))
            hint = f"A term has {', '.join(known)}."
            if name in _RENAMED:
                hint = f"It is called {_RENAMED[name]} now."
            raise NoField(
                "unknown-field",
                f"the terms of {taxonomy} have no field {quoted(name)}",
                hint,
                span,
                near=near,
            )
        return FieldRef(name, known[name].type)

    def entry_field(self, name: str, kinds: Sequence[str], span: Span, *, notice: bool = False) -> FieldRef:
        """Return a field that some of these kinds have, all with one type."""
        found = {kind: field for kind in kinds if (field := self.schema.field_of(kind, name))}
        if not found:
            raise self.unknown(name, kinds, span)
        types = dict.fromkeys(field.type for field in found.values())
        if len(types) > 1:
            listed = ", ".join(f"in {kind} {describe(field.type)}" for kind, field in found.items())
            hint = "Ask one of the kinds with from, or give the field one type in the site file."
            raise NoField("two-types", f"{quoted(name)} has two types: {listed}", hint, span)
        others = [kind for kind in kinds if kind not in found]
        if notice and others:
            self.notices.append(_partial(name, found, others))
        return FieldRef(name, next(iter(types)))

    def unknown(self, name: str, kinds: Sequence[str], span: Span) -> NoField:
        """Return the error of a field that none of these kinds has."""
        schema = self.schema
        others = [kind for kind in schema.kinds if kind not in kinds and schema.field_of(kind, name)]
        near: Sequence[str] = ()
        known = dict.fromkeys(field for kind in kinds for field in schema.fields_of(kind))
        orders = () if nearest(name, known, most=1) else nearest(name, _ORDERS, most=1)
        if others:
            hint = f"It is a field of {either(others)}."
        elif name in schema.kinds:
            hint = f"It is a kind: write from {name}."
        elif name.endswith("-"):
            hint = "A path goes with dots: reference.field."
        elif name.lower() in _FILED and schema.taxonomies:
            hint = f"Entries are filed under {either(schema.taxonomies)}."
        elif name in schema.renamed:
            hint = f"It is called {schema.renamed[name]} here."
        elif orders:
            hint = f"Write {_ORDERS[orders[0]]}."
        elif name.lower() in FLAGS:
            hint = f"It is the status: write status {'=' if name.lower() == 'draft' else '!='} draft."
        else:
            hint = f"elenchus describe {kinds[0] if len(kinds) == 1 else 'KIND'} lists the fields."
            near = nearest(name, known)
        where = f" in {either(kinds)}" if len(kinds) < len(schema.kinds) else ""
        return NoField("unknown-field", f"there is no field {quoted(name)}{where}", hint, span, near=near)

    def step(self, before: FieldRef, name: str, span: Span) -> FieldRef:
        """Return what a name after a dot means for the field before it."""
        kind = before.type
        if kind.type.is_date and name in _DATE_PARTS:
            part, result = _DATE_PARTS[name]
            return FieldRef(f"{before.name}.{name}", FieldType(result, many=kind.many), Part(before, part))
        if kind.type is Type.TEXT and name == "initial":
            return FieldRef(f"{before.name}.{name}", kind, Part(before, "initial"))
        if kind.type is Type.TERM and kind.tree and name == "top":
            return FieldRef(f"{before.name}.{name}", kind, Part(before, "top"))
        if kind.type is Type.TERM:
            return self.follow(before, self.term_field(name, kind.taxonomy, span))
        if kind.type is Type.ENTRY:
            kinds = kind.kinds or tuple(self.schema.kinds)
            return self.follow(before, self.entry_field(name, kinds, span))
        raise self.no_step(before, name, span)

    def no_step(self, before: FieldRef, name: str, span: Span) -> NoField:
        """Return the error of a name that cannot follow a field."""
        message = f"{quoted(name)} cannot follow {before.name}, which holds {describe(before.type)}"
        if before.type.type.is_date:
            near = nearest(name, _DATE_PARTS, most=1)
            return NoField("bad-path", message, f"A date has {', '.join(_DATE_PARTS)}.", span, near=near)
        hint = "A text has its initial." if before.type.type is Type.TEXT else ""
        return NoField("bad-path", message, hint, span)

    def follow(self, before: FieldRef, then: FieldRef) -> FieldRef:
        """Return a field of what another refers to; a list of references makes a list of values."""
        many = before.type.many or then.type.many
        return FieldRef(f"{before.name}.{then.name}", replace(then.type, many=many), Via(before, then))

    def names(self) -> dict[str, FieldType]:
        """Return the fields that a single name can mean, those of one type in all kinds, with their types."""
        if self.subject.is_terms:
            return {"term": self.first("term", _NOWHERE).type} | _types(
                self.catalog.term_fields(self.subject.taxonomy)
            )
        return {"entry": FieldType(Type.ENTRY)} | self.of_kinds(self.kinds)

    def names_after(self, before: FieldRef) -> dict[str, FieldType]:
        """Return the names that can follow a field after a dot, with the types of what they lead to."""
        kind = before.type
        if kind.type.is_date:
            return {name: FieldType(result, many=kind.many) for name, (_, result) in _DATE_PARTS.items()}
        if kind.type is Type.TEXT:
            return {"initial": kind}
        if kind.type is Type.TERM:
            top = {"top": kind} if kind.tree else {}
            return top | _types(self.catalog.term_fields(kind.taxonomy))
        if kind.type is Type.ENTRY:
            return self.of_kinds(kind.kinds or tuple(self.schema.kinds))
        return {}

    def of_kinds(self, kinds: Sequence[str]) -> dict[str, FieldType]:
        """Return the fields of some kinds that have one type in all of them."""
        found: dict[str, set[FieldType]] = {}
        for kind in kinds:
            for name, field in self.schema.fields_of(kind).items():
                found.setdefault(name, set()).add(field.type)
        return {name: next(iter(types)) for name, types in found.items() if len(types) == 1}

    def counted(self, path: Path) -> FieldRef:
        """Return how many entries of a kind refer to a row."""
        kind, name = path.names
        label = f"count of {kind}.{name}"
        if kind not in self.schema.kinds:
            near = nearest(kind, self.schema.kinds)
            raise NoField("unknown-kind", f"there is no kind {quoted(kind)}", "", path.span, near=near)
        field = self.entry_field(name, (kind,), path.span)
        wanted = Type.TERM if self.subject.is_terms else Type.ENTRY
        if field.type.type is not wanted or field.type.taxonomy not in ("", self.subject.taxonomy):
            rows = f"terms of {self.subject.taxonomy}" if self.subject.is_terms else "entries"
            held = f"{name} holds {describe(field.type)}, and the rows are {rows}"
            message = f"{quoted(label)} counts nothing here: {held}"
            raise NoField("bad-path", message, "", path.span)
        targets = field.type.kinds
        if targets and self.subject.is_entries and not {*targets} & {*self.kinds}:
            message = f"{quoted(label)} counts per {either(targets)}, and {either(targets)} is not asked"
            raise NoField("bad-path", message, f"Write from {', '.join(targets)}.", path.span)
        return FieldRef(label, FieldType(Type.INTEGER), Counted(kind, field))


def _types(fields: Mapping[str, Field]) -> dict[str, FieldType]:
    """Return the types of fields by their names."""
    return {name: field.type for name, field in fields.items()}


def _partial(name: str, found: Iterable[str], others: list[str]) -> Problem:
    """Return the notice of a field that only some of the kinds asked have."""
    message = f"{name} is a field of {either(found)} only; it is missing in every {either(others)}"
    return Problem("field-in-part", message)
