"""The three files that define a site as JSON Schemas, made of the declarations of their keys.

Editors that know JSON Schema (draft 2020-12) complete and check what is written there.
"""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

from elenchus.schema.types import FIXED, Type
from elenchus.site.keys import (
    ACCEPTED,
    ASKED,
    EXPECT,
    EXTRAS_OF_SOURCE,
    FIELD,
    KIND,
    LISTING,
    PAGE,
    PARAMETER,
    PUBLISH,
    SECTION,
    SITE,
    SITE_FILE,
    SOURCE,
    TAXONOMY,
    TERMS_OF_SOURCE,
    TOP,
    Key,
    Table,
)
from elenchus.sources import names as formats

__all__ = ["NAMES", "schema_of"]

_DRAFT = "https://json-schema.org/draft/2020-12/schema"
_NAMES_OF_TYPES: dict[type, str] = {
    str: "string",
    bool: "boolean",
    int: "integer",
    float: "number",
    dict: "object",
    list: "array",
    date: "string",  # JSON has no dates: those of TOML come as texts
    datetime: "string",
}
_TEXTS: dict[str, Any] = {"type": "array", "items": {"type": "string"}}
_ANYTHING_SINGLE: dict[str, Any] = {"type": ["string", "integer", "number", "boolean"]}
_VALUES: dict[str, Any] = {"anyOf": [_ANYTHING_SINGLE, {"type": "array", "items": _ANYTHING_SINGLE}]}


# What follows tells in patterns and rules what the program refuses besides, as far as one file tells it.
_NAME = r"^[^\W\d][\w-]*$"
_NUMBERS = ("integer", "number")
_AGE = r"^\s*\d+\s+(minute|hour|day|week)s?\s*$"
_PATTERNS = {
    "address": r"^https?://[^/?#\s]+",
    "timezone": r"^[A-Za-z]+([/_+-]?[A-Za-z0-9]+)*$",
}


def _each(value: dict[str, Any], names: dict[str, Any] | None = None) -> dict[str, Any]:
    """Return the schema of a table whose keys are names, with one schema for all values."""
    found = {"type": "object", "additionalProperties": value}
    return found | ({"propertyNames": names} if names else {})


def _needs(schema: dict[str, Any], *names: str) -> dict[str, Any]:
    """Return the schema of a table in which some keys must be written."""
    return {**schema, "required": list(names)}


def _filled(*names: str) -> dict[str, Any]:
    """Return the schema of a pattern in which braces hold one of some names."""
    braces = "|".join(rf"\{{{name}\}}" for name in names)
    return {"type": "string", "pattern": rf"^([^{{}}]|{braces})*$"}


def _field_rules() -> list[dict[str, Any]]:
    """Return which keys a field can have by its type."""

    def only(types: tuple[str, ...], *keys: str) -> dict[str, Any]:
        known = {"required": ["type"], "properties": {"type": {"enum": list(types)}}}
        return {"if": {"not": known}, "then": {"properties": dict.fromkeys(keys, False)}}

    choice = {"required": ["type"], "properties": {"type": {"const": "choice"}}}
    return [
        only(("choice",), "choices"),
        only(("entry",), "kind"),
        only(_NUMBERS, "at_least", "at_most", "unit"),
        {"if": choice, "then": {"required": ["choices"], "properties": {"choices": {"minItems": 1}}}},
    ]


def _table(table: Table, **inner: dict[str, Any]) -> dict[str, Any]:
    """Return the schema of a table; ``inner`` has those of keys whose values have parts."""
    return {
        "type": "object",
        "description": table.doc,
        "properties": {key.name: _key(key, inner.get(key.name)) for key in table.keys},
        "additionalProperties": False,
    }


def _key(key: Key, inner: dict[str, Any] | None) -> dict[str, Any]:
    """Return the schema of a key: of its types, or of what its value is made of."""
    found: dict[str, Any] = {"description": key.doc}
    if key.default not in (None, "", (), [], {}):
        found["default"] = key.default
    if inner is not None:
        return found | inner
    if key.words:
        known: dict[str, Any] = {"enum": [word for word in key.words if word]}
        return found | ({"anyOf": [known, {"type": "string"}]} if key.is_open else known)
    kinds = key.types if isinstance(key.types, tuple) else (key.types,)
    names = list(dict.fromkeys(_NAMES_OF_TYPES[kind] for kind in kinds))
    found["type"] = names[0] if len(names) == 1 else names
    return found | ({"items": {"type": "string"}} if "array" in names else {})


def _site() -> dict[str, Any]:
    """Return the schema of the site file."""
    types = {"enum": [kind.value for kind in Type if kind is not Type.TERM], "default": "text"}
    field = {**_table(FIELD, choices=_TEXTS, type=types), "allOf": _field_rules()}
    names = {"pattern": _NAME}
    own = {"allOf": [{"pattern": _NAME}, {"not": {"enum": sorted(FIXED)}}]}
    texts = _each({"type": "string"})
    source = _table(
        SOURCE,
        read={"enum": formats()},
        kinds=texts,
        columns=texts,
        statuses=texts,
        flags=texts,
        terms=_each(_table(TERMS_OF_SOURCE)),
        extras=_table(EXTRAS_OF_SOURCE),
        fetch_every={"type": "string", "pattern": _AGE},
    )
    kind = _table(KIND, fields=_each(field, own), address=_filled("slug", "kind", "id"))
    taxonomy = _table(TAXONOMY, address=_filled("slug", "path", "id"))
    site = _table(SITE, **{key: {"type": "string", "pattern": form} for key, form in _PATTERNS.items()})
    found = _table(
        TOP,
        site=site,
        sources={**_each(_needs(source, "read")), "minProperties": 1},
        kinds={**_each(kind, names), "minProperties": 1},
        taxonomies=_each(taxonomy, names),
        fields=_each(field, own),
        conditions=_each({"type": "string"}, names),
        accepted={"type": "array", "items": _needs(_table(ACCEPTED), "code", "why")},
        publish=_table(PUBLISH, moved=texts),
        tables=_table(ASKED),
        words=texts,
    )
    return _needs(found, "sources", "kinds")


def _listings() -> dict[str, Any]:
    """Return the schema of a file of listings."""
    choices = {"anyOf": [{"type": "array", "items": _ANYTHING_SINGLE}, _each(_VALUES)]}
    texts = _each({"type": "string"})
    parameter = _table(PARAMETER, choices=choices, conditions=texts, orders=texts, default=_VALUES)
    at_least_one = {"type": "integer", "minimum": 1}
    parameter["allOf"] = [
        {"not": {"required": [one, other]}}
        for one, other in (("choices", "conditions"), ("choices", "orders"), ("conditions", "orders"))
    ]
    numbers = [{"required": [name]} for name in ("count", "at_least", "at_most", "includes", "excludes")]
    expect = {**_table(EXPECT, **{"with": _each(_VALUES)}), "anyOf": numbers}
    listing = _table(
        LISTING,
        expect={"type": "array", "items": expect},
        parameters=_each(parameter, {"pattern": _NAME}),
        per_row=at_least_one,
        summary_words=at_least_one,
        at_least=at_least_one,
    )
    asks = {**listing, "anyOf": [{"required": ["ask"]}, {"required": ["based_on"]}]}
    return _each(asks, {"pattern": _NAME})


def _pages() -> dict[str, Any]:
    """Return the schema of a file of pages."""
    section = _table(SECTION, **{"with": _each(_VALUES)})
    sections = {"type": "array", "items": {"anyOf": [{"type": "string"}, section]}}
    page = _table(PAGE, sections=sections)
    page["anyOf"] = [{"required": ["address"]}, {"required": ["each"]}]
    page["allOf"] = [
        {"if": {"required": ["each"]}, "then": {"not": {"required": ["menu"]}}},
        {"if": {"required": ["within"]}, "then": {"required": ["each"]}},
        {
            "if": {"required": ["no_repeats"], "properties": {"no_repeats": {"const": True}}},
            "then": {"required": ["sections"], "properties": {"sections": {"minItems": 2}}},
        },
    ]
    return _each(page, {"pattern": _NAME})


_SCHEMAS = {SITE_FILE.removesuffix(".toml"): _site, "listings": _listings, "pages": _pages}
NAMES = tuple(_SCHEMAS)


def schema_of(name: str) -> dict[str, Any]:
    """Return the schema of a file by its name: ``elenchus``, ``listings`` or ``pages``."""
    return {"$schema": _DRAFT, "title": f"{name}.toml", **_SCHEMAS[name]()}
