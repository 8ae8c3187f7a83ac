"""What tells entries apart: the keys of which titles are made where none is written, and those of slugs."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.schema.conform import FLAGS
from elenchus.schema.types import CORE_FIELDS
from elenchus.site.names import can_be_named
from elenchus.starting.dates import dates_of
from elenchus.starting.guessing import is_code_name
from elenchus.values.slugs import slugify
from elenchus.values.wording import as_text

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from elenchus.starting.guessing import Typed
    from elenchus.starting.looking import Entry
    from elenchus.starting.values import KeyValues

__all__ = ["are_keys", "parts_of_titles", "slug_pattern"]

_MOSTLY = 0.8  # of the entries must have what is a part of their titles
_LONGEST = 40  # characters of a part
_MOST_PARTS = 3
_FEW = 3
_ORDER = {"": 0, "text": 1, "choice": 1, "date": 3, "datetime": 3}  # of the types of parts; terms come first


def are_keys(values: KeyValues) -> bool:
    """Say whether values are different for each of several entries."""
    return values.are_distinct and values.total > _FEW


def parts_of_titles(
    entries: Sequence[Entry], values: Mapping[str, KeyValues], fields: Mapping[str, Typed]
) -> list[str]:
    """Return up to three keys whose values together tell most entries apart."""
    types = {key: told.type for key, told in fields.items()} | {"date": "date", "id": "text"}
    left_out = {*CORE_FIELDS, *FLAGS} - {"date", "id", "author"}
    able = [
        each
        for key, each in values.items()
        if key not in left_out and can_be_named(key) and not each.many and not each.whole
        and each.having >= _MOSTLY * each.total and max(map(len, each.texts), default=0) <= _LONGEST
    ]  # fmt: skip
    able.sort(key=lambda each: _ORDER.get(types.get(each.key, ""), 2))
    parts: list[str] = []
    best = 1 if len(entries) > 1 else 0
    for each in able:
        trial = [*parts, each.key]
        told = {tuple(as_text(entry.values.get(key) or "") for key in trial) for entry in entries}
        if len(told) > best:
            parts, best = trial, len(told)
        if best == len(entries) or len(parts) == _MOST_PARTS:
            break
    return parts


def slug_pattern(values: Mapping[str, KeyValues]) -> str:
    """Return a pattern for slugs if titles do not tell entries apart, and something else does."""
    slugs, titles, own = (values.get(name) for name in ("slug", "title", "id"))
    if slugs and slugs.is_everywhere:
        return ""
    if titles and titles.is_everywhere and len(set(map(slugify, titles.texts))) == titles.total:
        return ""
    if own and own.is_everywhere and own.are_distinct:
        return "{title}-{id}" if titles and all(map(str.isdecimal, own.texts)) else ""
    for key, each in values.items():
        is_key = each.is_everywhere and each.are_distinct and can_be_named(key) and key not in FLAGS
        if not is_key or each.whole or max(map(len, each.texts), default=0) > _LONGEST:
            continue
        are_numbers = all(map(str.isdecimal, each.texts))
        if (are_numbers and not is_code_name(key)) or not dates_of(each.texts).left:
            continue
        if len(set(map(slugify, each.texts))) == each.total:
            return f"{{title}}-{{{key}}}" if titles and are_numbers else f"{{{key}}}"
    return ""
