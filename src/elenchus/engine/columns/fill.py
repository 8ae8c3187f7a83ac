"""Filling one column: each written value converted, looked up, or reported as not fitting."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from elenchus.engine.columns.column import Dates, Lists, Numbers, Terms, Texts
from elenchus.engine.columns.dataset import Misfit
from elenchus.errors import Edit, Problem
from elenchus.frozen import Frozen, member
from elenchus.schema.convert import Unfit, convert
from elenchus.schema.naming import several_entries, several_terms, unknown_entry, unknown_term
from elenchus.schema.types import Field, FieldType, Type
from elenchus.values.addresses import filled_href, given_href
from elenchus.values.texts import fold, nearest, quoted
from elenchus.values.wording import as_text

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping, Sequence
    from zoneinfo import ZoneInfo

    from elenchus.engine.columns.column import Column
    from elenchus.schema.identity import Identity
    from elenchus.schema.taxonomy import Taxonomy
    from elenchus.schema.types import Schema

__all__ = ["Draft", "fill", "scalars"]


class Draft(Frozen):
    """A dataset in the making: entries in their final order, what names mean, problems so far."""

    schema: Schema
    zone: ZoneInfo
    rows: Sequence[Identity]
    names: Mapping[str, list[int]]
    taxonomies: dict[str, Taxonomy]
    problems: list[Problem]
    misfits: list[Misfit] = member(default_factory=list)
    notes: list[Problem] = member(default_factory=list)
    near: dict[tuple[str, str], tuple[str, ...]] = member(default_factory=dict)


def scalars(value: Any) -> list[Any]:
    """Return the written values of a field as a list without blanks."""
    values = value if isinstance(value, list) else [value]
    return [item for item in values if item is not None and item != ""]


def fill(draft: Draft, name: str, kind: FieldType, fields: Mapping[str, Field]) -> Column:
    """Return the column of a field as some kinds have it; rows of other kinds have no value in it."""
    if name in _FILLED:
        return Texts.of([_FILLED[name](draft, row) for row in draft.rows])
    if name == "kind":
        return _single([kind.choices.index(row.kind) for row in draft.rows], kind)
    found = [
        read(draft, number, fields[row.kind]) if row.kind in fields and name in row.values else []
        for number, row in enumerate(draft.rows)
    ]
    if kind.type is Type.TERM:
        return Terms.of(found, len(draft.taxonomies[kind.taxonomy].terms))
    if kind.many:
        starts = np.cumsum([0, *map(len, found)], dtype=np.int64)
        return Lists(starts, _single([value for values in found for value in values], kind))
    return _single([values[0] if values else None for values in found], kind)


def _single(values: Sequence[Any], kind: FieldType) -> Numbers | Texts:
    """Return the column of one value, or None, for each row or element."""
    if kind.type.is_text:
        return Texts.of(values)
    valid = np.array([value is not None for value in values], dtype=np.bool_)
    if kind.type.is_date:
        moments = np.array([value or (0, 0, 0, False) for value in values], dtype=np.int64).reshape(-1, 4)
        return Dates(moments[:, 0], valid, moments[:, 1], moments[:, 2], moments[:, 3].astype(np.bool_))
    dtype = np.float64 if kind.type is Type.NUMBER else np.int64
    return Numbers(np.array([value or 0 for value in values], dtype=dtype), valid)


def read(draft: Draft, row: int, wanted: Field) -> list[Any]:
    """Return the keys of what was written for a field of one entry; what does not fit is reported."""
    values = scalars(draft.rows[row].value(wanted.name))
    if len(values) > 1 and not wanted.type.many:
        listed = ", ".join(as_text(value) for value in values)
        _report(draft, row, wanted, listed, Unfit(f"{quoted(listed)} is a list where one value is meant"))
        return []
    found = []
    for value in values:
        try:
            key = _read_one(draft, value, wanted)
        except Unfit as unfit:
            _report(draft, row, wanted, as_text(value), unfit)
        else:
            if key is not None and key not in found:
                found.append(key)
    return found


def _report(draft: Draft, row: int, wanted: Field, text: str, unfit: Unfit) -> None:
    """Add the problem of a value that does not fit its field."""
    code = _CODES.get(wanted.type.type, "unfit-value")
    message = f"{wanted.name}: {unfit}"
    if wanted.name in _UNREADABLE:
        code, message = "unreadable-date", f"{message}, so the entry is held back"
    elif wanted.name == "status":
        message = f"{message}, so the entry is held back"
    place = draft.rows[row].place_of(wanted.name)
    cure = _cure(draft.rows[row], wanted, text, unfit.near)
    problem = Problem(code, message, unfit.hint, place=place, near=unfit.near, cure=cure)
    draft.problems.append(problem)
    draft.misfits.append(Misfit(row, wanted.name, text, problem))


def _cure(row: Identity, wanted: Field, text: str, near: Sequence[str]) -> Edit | None:
    """Return the field with the one name that comes near a wrong value in its place; None where unclear.

    An edit parts values by commas, so that it cannot write one that has a comma in it.
    """
    values = [as_text(value) for value in scalars(row.value(wanted.name))]
    parted = len(values) > 1 and any("," in value for value in (*values, *near))
    if len(near) != 1 or text not in values or parted:
        return None
    better = dict.fromkeys(near[0] if value == text else value for value in values)
    return Edit(row.id, wanted.name, "=", ", ".join(better))


_UNREADABLE = ("date", "expires")  # fields that decide who may see an entry
_CODES = {Type.TERM: "unknown-term", Type.ENTRY: "unknown-entry"}


def _read_one(draft: Draft, value: Any, wanted: Field) -> Any:
    """Return the key of one written value: converted by its type, or looked up by its name."""
    if wanted.type.type is Type.TERM:
        return _find_term(draft, as_text(value), wanted.type.taxonomy)
    if wanted.type.type is Type.ENTRY:
        return _find_entry(draft, as_text(value), wanted.type.kind)
    return convert(value, wanted, draft.zone)


def _find_term(draft: Draft, name: str, taxonomy: str) -> int:
    """Return the number of the one term that a name means."""
    terms = draft.taxonomies[taxonomy]
    found = terms.find(name)
    if len(found) == 1:
        return found[0]
    if found:
        addresses = [terms.terms[number].address for number in found]
        raise Unfit.of(several_terms(name, addresses, "is the name of {} terms"))
    near = _nearest_known(draft, taxonomy, name, lambda: terms.suggest(name))
    raise Unfit.of(unknown_term(name, "term", near, f"Define it in the terms of {taxonomy}."))


def _find_entry(draft: Draft, name: str, kind: str) -> int:
    """Return the row of the one entry that a name means."""
    rows = [row for row in draft.names.get(fold(name), []) if kind in ("", draft.rows[row].kind)]
    if len(rows) == 1:
        return rows[0]
    if rows:
        raise Unfit.of(several_entries(name, [draft.rows[row].id for row in rows]))
    slugs = (row.slug for row in draft.rows if kind in ("", row.kind))
    near = _nearest_known(draft, kind, name, lambda: nearest(name, slugs))
    raise Unfit.of(unknown_entry(name, kind, near, ""))


def _nearest_known(draft: Draft, where: str, name: str, find: Callable[[], Sequence[str]]) -> Sequence[str]:
    """Return the names that come near a wrong one: looked for once a name, and for so many names only.

    A wrong reference in each of ten thousand entries would otherwise be compared with all of them.
    """
    if (where, name) not in draft.near:
        if len(draft.near) >= _MOST_NEAR:
            return ()
        draft.near[where, name] = tuple(find())
    return draft.near[where, name]


_MOST_NEAR = 200  # wrong names of a site that are compared with all others


def _address_of(draft: Draft, row: Identity) -> str:
    """Return an entry's address: its own, or its kind's pattern with the entry's words filled in."""
    own = as_text(row.value("address") or "")
    if own and (found := given_href(own)):
        return found
    if own:
        message = f"address: {quoted(own)} cannot be a link, so it is left out"
        hint = "Write https://…, or a path below the site."
        draft.problems.append(Problem("unsafe-address", message, hint, place=row.place_of("address")))
    words = {"slug": row.slug, "kind": row.kind, "id": row.id}
    return filled_href(draft.schema.kinds[row.kind].address, words)


# Fields that the tool fills by itself, whatever stands in the content.
_FILLED: dict[str, Callable[[Draft, Identity], str]] = {
    "id": lambda _draft, row: row.id,
    "slug": lambda _draft, row: row.slug,
    "source": lambda _draft, row: row.place.file,
    "address": _address_of,
}
