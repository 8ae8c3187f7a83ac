"""The three files that define a site as JSON Schemas, made of the declarations of their keys.

Editors that know JSON Schema (draft 2020-12) complete and check what is written there.
"""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

from elenchus.schema.types import Type
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


def _each(value: dict[str, Any]) -> dict[str, Any]:
    """Return the schema of a table whose keys are names, with one schema for all values."""
    return {"type": "object", "additionalProperties": value}


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
    field = _table(FIELD, choices=_TEXTS, type=types)
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
    )
    return _table(
        TOP,
        site=_table(SITE),
        sources=_each(source),
        kinds=_each(_table(KIND, fields=_each(field))),
        taxonomies=_each(_table(TAXONOMY)),
        fields=_each(field),
        conditions=texts,
        accepted={"type": "array", "items": {**_table(ACCEPTED), "required": ["code", "why"]}},
        publish=_table(PUBLISH, moved=texts),
        tables=_table(ASKED),
        words=texts,
    )


def _listings() -> dict[str, Any]:
    """Return the schema of a file of listings."""
    choices = {"anyOf": [{"type": "array", "items": _ANYTHING_SINGLE}, _each(_VALUES)]}
    texts = _each({"type": "string"})
    parameter = _table(PARAMETER, choices=choices, conditions=texts, orders=texts, default=_VALUES)
    expect = _table(EXPECT, **{"with": _each(_VALUES)})
    listing = _table(LISTING, expect={"type": "array", "items": expect}, parameters=_each(parameter))
    return _each({**listing, "anyOf": [{"required": ["ask"]}, {"required": ["based_on"]}]})


def _pages() -> dict[str, Any]:
    """Return the schema of a file of pages."""
    section = _table(SECTION, **{"with": _each(_VALUES)})
    sections = {"type": "array", "items": {"anyOf": [{"type": "string"}, section]}}
    return _each(_table(PAGE, sections=sections))


_SCHEMAS = {SITE_FILE.removesuffix(".toml"): _site, "listings": _listings, "pages": _pages}
NAMES = tuple(_SCHEMAS)


def schema_of(name: str) -> dict[str, Any]:
    """Return the schema of a file by its name: ``elenchus``, ``listings`` or ``pages``."""
    return {"$schema": _DRAFT, "title": f"{name}.toml", **_SCHEMAS[name]()}
