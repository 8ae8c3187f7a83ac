"""Which columns a dataset has: one for each field and type, those that nobody declared among them."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.frozen import replace
from elenchus.schema.types import FIXED, Field, FieldType, Type

if TYPE_CHECKING:
    from collections.abc import Mapping

    from elenchus.schema.types import Schema

__all__ = ["column_keys", "with_undeclared"]


def with_undeclared(schema: Schema, keys: Mapping[str, Mapping[str, bool]]) -> Schema:
    """Return the schema with a field more for some keys of each kind.

    A field that another kind declares has its type here too, so that one stray key does not give it two;
    all others are texts, which may hold several values.
    """
    kinds = dict(schema.kinds)
    declared: dict[str, set[FieldType]] = {}
    for each in schema.kinds.values():
        for name, field in each.fields.items():
            declared.setdefault(name, set()).add(field.type)

    def type_of(name: str, *, many: bool) -> FieldType:
        found = declared.get(name, set())
        return next(iter(found)) if len(found) == 1 else FieldType(Type.TEXT, many=many)

    for kind, names in keys.items():
        fields = {name: Field(name, type_of(name, many=many), declared=False) for name, many in names.items()}
        kinds[kind] = replace(kinds[kind], fields={**kinds[kind].fields, **fields})
    return replace(schema, kinds=kinds)


def column_keys(schema: Schema) -> dict[tuple[str, FieldType], dict[str, Field]]:
    """Return the columns to make, by name and type, each with its field in the kinds that have it."""
    found: dict[tuple[str, FieldType], dict[str, Field]] = {
        (name, field.type): {} for name, field in schema.fields.items() if name in FIXED
    }
    for kind in schema.kinds:
        for name, field in schema.fields_of(kind).items():
            found.setdefault((name, field.type), {})[kind] = field
    return found
