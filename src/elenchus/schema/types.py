"""What a site declares about its content: kinds, their fields, and taxonomies."""

from __future__ import annotations

from enum import StrEnum
from typing import TYPE_CHECKING

from elenchus.frozen import Frozen, member
from elenchus.values.addresses import filled_href

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping

    from elenchus.values.addresses import Href

__all__ = [
    "CORE_FIELDS",
    "FIXED",
    "STATUSES",
    "Field",
    "FieldType",
    "Kind",
    "Schema",
    "TaxonomyRules",
    "Type",
    "describe",
    "term_fields",
]

STATUSES = ("published", "draft", "scheduled", "withdrawn")


class Type(StrEnum):
    """The types of values; each compares and sorts in its own way."""

    TEXT = "text"
    INTEGER = "integer"
    NUMBER = "number"
    YESNO = "yesno"
    DATE = "date"
    DATETIME = "datetime"
    CHOICE = "choice"
    ENTRY = "entry"
    URL = "url"
    IMAGE = "image"
    TERM = "term"  # never declared for a field: the type of a taxonomy's values

    @property
    def label(self) -> str:
        """The type with its article, as it stands in a message."""
        return _LABELS[self]

    @property
    def is_text(self) -> bool:
        """Say whether the values are texts to the operators."""
        return self in (Type.TEXT, Type.URL, Type.IMAGE)

    @property
    def is_number(self) -> bool:
        """Say whether values are numbers."""
        return self in (Type.INTEGER, Type.NUMBER)

    @property
    def is_date(self) -> bool:
        """Say whether the values are days or instants."""
        return self in (Type.DATE, Type.DATETIME)


_LABELS = {
    Type.TEXT: "a text",
    Type.INTEGER: "a whole number",
    Type.NUMBER: "a number",
    Type.YESNO: "yes or no",
    Type.DATE: "a day",
    Type.DATETIME: "a date",
    Type.CHOICE: "one of its choices",
    Type.ENTRY: "an entry",
    Type.URL: "an address",
    Type.IMAGE: "an image",
    Type.TERM: "a term",
}


class FieldType(Frozen):
    """What makes two fields of one name the same column: type, choices, target, unit, one or many."""

    type: Type
    many: bool = False
    choices: tuple[str, ...] = ()
    kinds: tuple[str, ...] = ()  # of a reference: those that it may lead to; none for any
    unit: str = ""
    taxonomy: str = ""
    tree: bool = False

    def __str__(self) -> str:
        detail = self.taxonomy or ", ".join(self.kinds) or self.unit
        return f"{self.type.value}{f' ({detail})' if detail else ''}{', many' if self.many else ''}"


def describe(field: FieldType) -> str:
    """Return a field's type in words."""
    if field.type is Type.TERM:
        terms = "terms" if field.many else "a term"
        return f"{terms} of the {'tree' if field.tree else 'flat taxonomy'} {field.taxonomy}"
    unit = f" in {field.unit}" if field.unit else ""
    return f"a list, each {field.type.label}{unit}" if field.many else f"{field.type.label}{unit}"


class Field(Frozen):
    """One field of a kind: its name, its type, and the bounds that a number must keep."""

    name: str
    type: FieldType
    least: float | None = None
    most: float | None = None
    declared: bool = True


class Kind(Frozen):
    """A kind of entries: its own fields by name, and the pattern of its entries' addresses."""

    name: str
    fields: Mapping[str, Field]
    address: str = ""


class TaxonomyRules(Frozen):
    """What the site file says of a taxonomy: tree or flat, its address, the file of its terms."""

    name: str
    tree: bool = False
    address: str = ""
    terms: str = ""

    def address_of(self, slug: str, path: str, term_id: str) -> Href:
        """Return the address of a term's page."""
        return filled_href(self.address, {"slug": slug, "path": path, "id": term_id or slug})

    @property
    def field_type(self) -> FieldType:
        """The type of the field that holds an entry's terms of this taxonomy."""
        return FieldType(Type.TERM, many=True, taxonomy=self.name, tree=self.tree)


class Schema(Frozen):
    """All declarations of a site.

    ``fields`` are those that every kind has; ``conditions`` the texts of the conditions with a name. Of
    entries with one id that come from several sources, the one counts whose source is first in ``prefer``.
    ``renamed`` are the fields of columns that have other names in the content.
    """

    kinds: Mapping[str, Kind]
    taxonomies: Mapping[str, TaxonomyRules]
    fields: Mapping[str, Field] = member(default_factory=dict)
    conditions: Mapping[str, str] = member(default_factory=dict)
    prefer: tuple[str, ...] = ()
    renamed: Mapping[str, str] = member(default_factory=dict)

    def field_of(self, kind: str, name: str) -> Field | None:
        """Return a kind's field by name: its own, one that all kinds have, or a taxonomy."""
        own = self.kinds[kind].fields.get(name) or self.fields.get(name)
        if own is None and name in self.taxonomies:
            return Field(name, self.taxonomies[name].field_type)
        return own

    def fields_of(self, kind: str) -> dict[str, Field]:
        """Return all fields of a kind by name: taxonomies, those of all kinds, its own."""
        taxonomies = {name: Field(name, rules.field_type) for name, rules in self.taxonomies.items()}
        return {**taxonomies, **self.fields, **self.kinds[kind].fields}


def _core(name: str, kind: Type, **options: object) -> tuple[str, Field]:
    """Return a core field with its name, for the table below."""
    return name, Field(name, FieldType(kind, **options))  # type: ignore[arg-type]


def term_fields(rules: TaxonomyRules, columns: Iterable[str]) -> dict[str, Field]:
    """Return the fields of a taxonomy's terms; ``columns`` are those of its file besides."""
    parent = FieldType(Type.TERM, taxonomy=rules.name, tree=rules.tree)
    fixed = [
        Field("parent", parent),
        *(Field(name, FieldType(Type.INTEGER)) for name in ("depth", "own", "with_below")),
        Field("latest", FieldType(Type.DATETIME)),
        *(Field(name, FieldType(Type.TEXT)) for name in ("id", "slug", "name", "path", "address")),
    ]
    own = {name: Field(name, FieldType(Type.TEXT)) for name in columns}
    return {**own, **{field.name: field for field in fixed}}


# What every entry has, whatever its kind. A kind may declare one of these again with another type,
# except for those in FIXED, which the tool itself fills or relies on.
CORE_FIELDS: dict[str, Field] = dict(
    [
        _core("id", Type.TEXT),
        _core("kind", Type.TEXT),
        _core("slug", Type.TEXT),
        _core("title", Type.TEXT),
        _core("date", Type.DATETIME),
        _core("updated", Type.DATETIME),
        _core("expires", Type.DATETIME),
        _core("status", Type.CHOICE, choices=STATUSES),
        _core("author", Type.ENTRY),
        _core("summary", Type.TEXT),
        _core("body", Type.TEXT),
        _core("image", Type.IMAGE),
        _core("image_alt", Type.TEXT),
        _core("pinned", Type.YESNO),
        _core("parent", Type.ENTRY),
        _core("address", Type.URL),
        _core("source", Type.TEXT),
    ]
)
FIXED = frozenset({"id", "kind", "slug", "title", "date", "expires", "status", "address", "source", "entry"})
