"""Filling one column: each distinct value converted or looked up once, reported where it does not fit."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

import numpy as np

from elenchus.engine.columns.column import Dates, Lists, Numbers, Terms, Texts, gather
from elenchus.engine.columns.dataset import Misfit
from elenchus.engine.columns.lexicon import Lexicon
from elenchus.engine.columns.meanings import Meanings, scalars
from elenchus.engine.columns.recordtable import TEXT, Cells
from elenchus.engine.columns.sheet import WrittenDates
from elenchus.errors import About, Edit, Problem
from elenchus.frozen import Frozen, member
from elenchus.schema.convert import RENAMED, Unfit, plain_numbers
from elenchus.schema.identity import name_in_kind
from elenchus.schema.types import Field, FieldType, Type
from elenchus.values.addresses import given_href, href_maker
from elenchus.values.kept import cached_property
from elenchus.values.texts import fold, quoted
from elenchus.values.wording import as_text

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping, Sequence
    from zoneinfo import ZoneInfo

    from numpy.typing import NDArray

    from elenchus.engine.columns.column import Column
    from elenchus.engine.columns.naming import EntryNames
    from elenchus.engine.columns.sheet import Sheet
    from elenchus.schema.taxonomy import Taxonomy
    from elenchus.schema.types import Schema

__all__ = ["Draft", "fill"]


class Draft(Frozen):
    """A dataset in the making: entries in their final order, what names mean, problems so far.

    ``row_of`` (int32) is the row of each record, -1 for those that are no entries; ``names`` knows the
    records of rows.
    """

    sheet: Sheet
    schema: Schema
    zone: ZoneInfo
    names: EntryNames
    row_of: NDArray[np.int32]
    taxonomies: dict[str, Taxonomy]
    problems: list[Problem]
    known: Mapping[tuple[str, FieldType], Column]
    misfits: list[Misfit] = member(default_factory=list)
    notes: list[Problem] = member(default_factory=list)
    near: dict[tuple[str, str], tuple[str, ...]] = member(default_factory=dict)

    @property
    def meanings(self) -> Meanings:
        """What values mean, as far as that is known by now."""
        return Meanings(self.zone, self.taxonomies, self.names, self.near)

    @property
    def size(self) -> int:
        """The number of rows."""
        return len(self.names.records)

    def record(self, row: int) -> int:
        """Return the record of a row."""
        return int(self.names.records[row])

    def lexicon(self, name: str, kind: FieldType) -> Lexicon | None:
        """Return the lexicon that a column had before, if it is one of single texts."""
        column = self.known.get((name, kind))
        return column.lexicon if isinstance(column, Texts) and column.lexicon.grows else None


def fill(draft: Draft, name: str, kind: FieldType, fields: Mapping[str, Field]) -> Column:
    """Return the column of a field as some kinds have it; rows of other kinds have no value in it."""
    if name in _FILLED:
        return _FILLED[name](draft, kind)
    found = _FieldValues(draft, name, kind)
    is_single_date = kind.type.is_date and not kind.many
    for field, kinds in _by_field(draft, fields):
        read = found.read_dates if is_single_date else found.read
        read(field, kinds)
    if is_single_date:
        return found.dates()
    if kind.type is Type.TERM:
        starts, elements = found.lists(np.int32)
        return Terms.paired(starts, elements, len(draft.taxonomies[kind.taxonomy].terms))
    if kind.many and kind.type.is_text:
        starts, codes = found.lists(np.int32)
        return Lists(starts, Texts(codes, Lexicon.of(list(found.texts))))
    if kind.many:
        starts, elements = gather(found.starts, *found.present)
        return Lists(starts, _keys([found.flat[at] for at in elements.tolist()], kind))
    if kind.type.is_text:
        return found.single_texts()
    return found.single_keys()


def _by_field(draft: Draft, fields: Mapping[str, Field]) -> list[tuple[Field, list[int]]]:
    """Return the fields of some kinds, each once, with the places of the kinds that have it so."""
    found: list[tuple[Field, list[int]]] = []
    for number, kind in enumerate(draft.schema.kinds):
        if kind not in fields:
            continue
        same = next((kinds for field, kinds in found if field == fields[kind]), None)
        if same is None:
            found.append((fields[kind], [number]))
        else:
            same.append(number)
    return found


class _FieldValues:
    """The values of a field: for each row its place in a list of lists of keys, each distinct value once.

    The lists stand one after another in ``flat``, cut by ``starts``.
    """

    def __init__(self, draft: Draft, name: str, kind: FieldType) -> None:
        self.draft = draft
        self.name = name
        self.kind = kind
        self.cells = draft.sheet.cells.get(name, Cells.none())
        self.places = np.full(draft.size, -1, dtype=np.int32)
        self.flat: list[Any] = []
        self.ends = [0, 0]  # the first list is that of rows which have nothing
        self.texts: dict[str, int] = {}
        self.moments: list[tuple[NDArray[np.int64], NDArray[np.bool_]]] = []

    @cached_property
    def starts(self) -> NDArray[np.int64]:
        """Where each list begins, and where the last one ends."""
        return np.array(self.ends, dtype=np.int64)

    @property
    def present(self) -> tuple[NDArray[Any], NDArray[np.bool_]]:
        """The place of the list of each row, and which rows have one."""
        return np.maximum(self.places, 0), self.places >= 0

    def having(self, kinds: Sequence[int]) -> tuple[NDArray[Any], NDArray[Any]]:
        """Return the rows of some kinds that have the field, and the codes of their values."""
        cells, draft = self.cells, self.draft
        every = len(kinds) == len(draft.schema.kinds)
        chosen = slice(None) if every else np.isin(draft.sheet.names.kinds[cells.owners], kinds)
        return draft.row_of[cells.owners[chosen]], cells.codes[chosen]

    def read(self, field: Field, kinds: Sequence[int]) -> None:
        """Take what the entries of some kinds have for a field."""
        cells, draft = self.cells, self.draft
        rows, codes = self.having(kinds)
        if field.type.type.is_text and not field.type.many:
            is_plain = cells.forms[codes] == TEXT
            there = is_plain & (cells.texts.lengths[codes] > 0)
            self.places[rows[there]] = codes[there]  # the text is the value, and stays where it is
            rows, codes = rows[~is_plain], codes[~is_plain]
        used, which = np.unique(codes, return_inverse=True)
        unfit: dict[int, list[tuple[str, Unfit]]] = {}
        first = len(self.ends) - 1
        values = cells.values(used)
        if numbers := plain_numbers(values, field):
            self.ends += range(len(self.flat) + 1, len(self.flat) + len(numbers) + 1)
            self.flat += numbers
            values = []
        for at, value in enumerate(values):
            keys, refused = _read(draft, value, field)
            if refused:
                unfit[at] = refused
            if self.kind.type.is_text:
                keys = [self.texts.setdefault(key, len(self.texts)) for key in keys]
            self.flat += keys
            self.ends.append(len(self.flat))
        if field.type.type.is_text and not field.type.many:
            first += len(cells.texts)  # texts that stand in lists come behind those that stand alone
        self.places[rows] = which + first
        self.report(field, rows, which, unfit)

    def read_dates(self, field: Field, kinds: Sequence[int]) -> None:
        """Take what the entries of some kinds have for a field that holds one date."""
        draft = self.draft
        rows, codes = self.having(kinds)
        is_whole = len(kinds) == len(draft.schema.kinds)
        dates = draft.sheet.dates.pop(self.name, None) if is_whole else None
        dates = dates or WrittenDates.read(self.cells, codes, draft.zone)
        which, values, found, known = dates.which, dates.values, dates.moments.copy(), dates.known.copy()
        if field.type.type is Type.DATE:
            known &= found[:, 3] == 1
        unfit: dict[int, list[tuple[str, Unfit]]] = {}
        for at in np.flatnonzero(~known).tolist():
            keys, refused = _read(draft, values[at], field)
            if keys:
                found[at], known[at] = keys[0], True
            if refused:
                unfit[at] = refused
        self.places[rows] = which + sum(len(each) for each, _ in self.moments)
        self.moments.append((found, known))
        self.report(field, rows, which, unfit)

    def dates(self) -> Dates:
        """Return the column of one date a row."""
        empty = np.zeros((1, 4), dtype=np.int64), np.zeros(1, np.bool_)  # the last one is for no date
        parts = [*self.moments, empty]
        found, known = (np.concatenate(each) for each in zip(*parts, strict=True))
        start, local, end, whole = (np.ascontiguousarray(found[:, at]) for at in range(4))
        table = Dates(start, known, local, end, whole.astype(np.bool_))
        return table.take(self.places, known[self.places])

    def report(
        self,
        field: Field,
        rows: NDArray[Any],
        which: NDArray[Any],
        unfit: Mapping[int, list[tuple[str, Unfit]]],
    ) -> None:
        """Report the values that do not fit, in the order of the rows that have them."""
        if unfit:
            bad = np.isin(which, list(unfit))
            for row, at in sorted(zip(rows[bad].tolist(), which[bad].tolist(), strict=True)):
                for text, refusal in unfit[at]:
                    _report(self.draft, row, field, text, refusal)

    def lists(self, dtype: Any) -> tuple[NDArray[np.int64], NDArray[Any]]:
        """Return where the list of each row begins, and the elements of all."""
        starts, elements = gather(self.starts, *self.present)
        return starts, np.array(self.flat, dtype=dtype)[elements]

    def single_texts(self) -> Texts:
        """Return the column of one text a row."""
        texts = self.cells.texts
        written = self.draft.sheet.written.cells.get(self.name)
        # Texts that were conformed stand behind those written, where others will stand when more is written.
        grows = written is not None and texts is written.texts
        base = self.draft.lexicon(self.name, self.kind) if grows else None
        alone = len(texts)
        in_lists = self.places >= alone
        if in_lists.any():
            lengths = np.diff(self.starts)
            firsts = np.append(np.array(self.flat, dtype=np.int32), 0)[self.starts[:-1]] + alone
            at = self.places[in_lists] - alone
            self.places[in_lists] = np.where(lengths[at] > 0, firsts[at], -1)
            return Texts(self.places, Lexicon(texts.with_more(list(self.texts)), grows=False))
        return Texts(self.places, Lexicon(texts, base, grows=grows))

    def single_keys(self) -> Numbers:
        """Return the column of one key a row."""
        lengths = np.diff(self.starts)
        keys = _keys([self.flat[start] for start in self.starts[:-1][lengths > 0].tolist()], self.kind)
        place = np.append(np.cumsum(lengths > 0) - 1, 0)  # of the first key of each list, among those
        has_key = np.append(lengths > 0, False)
        if not len(keys.keys):
            keys = _keys([None], self.kind)
        return keys.take(place[self.places], has_key[self.places])


def _keys(values: Sequence[Any], kind: FieldType) -> Numbers:
    """Return the column of some keys that are no texts, None for a missing one."""
    valid = np.array([value is not None for value in values], dtype=np.bool_)
    if kind.type.is_date:
        moments = np.array([value or (0, 0, 0, False) for value in values], dtype=np.int64).reshape(-1, 4)
        parts = (np.ascontiguousarray(moments[:, at]) for at in range(3))
        start, local, end = parts
        return Dates(start, valid, local, end, moments[:, 3].astype(np.bool_))
    dtype = np.float64 if kind.type is Type.NUMBER else np.int64
    return Numbers(np.array([value or 0 for value in values], dtype=dtype), valid)


def _read(draft: Draft, value: Any, wanted: Field) -> tuple[list[Any], list[tuple[str, Unfit]]]:
    """Return the keys of a written value, and what of it does not fit."""
    values = scalars(value)
    if len(values) > 1 and not wanted.type.many:
        listed = ", ".join(as_text(value) for value in values)
        return [], [(listed, Unfit(f"{quoted(listed)} is a list where one value is meant"))]
    found: list[Any] = []
    refused = []
    for each in values:
        try:
            key = draft.meanings.key(each, wanted)
        except Unfit as unfit:
            refused.append((as_text(each), unfit))
        else:
            if key is not None and key not in found:
                found.append(key)
    return sorted(found) if wanted.type.type is Type.TERM else found, refused


def _report(draft: Draft, row: int, wanted: Field, text: str, unfit: Unfit) -> None:
    """Add the problem of a value that does not fit its field."""
    code = _CODES.get(wanted.type.type, "unfit-value")
    message = f"{wanted.name}: {unfit}"
    if wanted.name in _UNREADABLE:
        code, message = "unreadable-date", f"{message}, so the entry is held back"
    elif wanted.name == "status":
        message = f"{message}, so the entry is held back"
    place = draft.sheet.place_of(draft.record(row), wanted.name)
    cure = _cure(draft, row, wanted, text, unfit.near)
    hint = _status_hint(text, unfit) if wanted.name == "status" else unfit.hint
    near, about = unfit.near, About.CONTENT
    problem = Problem(code, message, hint, place=place, near=near, about=about, cure=cure)
    draft.problems.append(problem)
    draft.misfits.append(Misfit(row, wanted.name, text, problem))


def _status_hint(text: str, unfit: Unfit) -> str:
    """Return how a word for a status that nobody knows is given a meaning."""
    if unfit.near or fold(text) in RENAMED:
        return unfit.hint
    word = text if text.isidentifier() and text.isascii() else json.dumps(text, ensure_ascii=False)
    return f'If it means published, write statuses = {{ {word} = "published" }} in the source.'


def _cure(draft: Draft, row: int, wanted: Field, text: str, near: Sequence[str]) -> Edit | None:
    """Return the field with the one name that comes near a wrong value in its place; None where unclear.

    An edit parts values by commas, so that it cannot write one that has a comma in it.
    """
    values = [as_text(value) for value in scalars(draft.sheet.value(draft.record(row), wanted.name))]
    parted = len(values) > 1 and any("," in value for value in (*values, *near))
    if len(near) != 1 or text not in values or parted:
        return None
    better = dict.fromkeys(near[0] if value == text else value for value in values)
    return Edit(draft.names.ids[row], wanted.name, "=", ", ".join(better))


_UNREADABLE = ("date", "expires")  # fields that decide who may see an entry
_CODES = {Type.TERM: "unknown-term", Type.ENTRY: "unknown-entry"}


def _addresses(draft: Draft, kind: FieldType) -> Texts:
    """Return the address of each entry: its own, or its kind's pattern with the entry's words filled in."""
    sheet, names = draft.sheet, draft.sheet.names
    before = draft.lexicon("address", kind)
    first = len(before) if before else 0
    makers = [href_maker(rules.address) for rules in draft.schema.kinds.values()]
    ids, slugs = names.ids.texts[first:], names.slugs.texts[first:]
    kinds, words = draft.names.kind_names, names.kinds[first:].tolist()
    made: list[str] = [""] * len(words)
    if any(rules.address for rules in draft.schema.kinds.values()):
        made = [
            makers[at]({"slug": slug, "kind": kinds[at], "id": name_in_kind(name, kinds[at])})
            if at >= 0
            else ""
            for at, slug, name in zip(words, slugs, ids, strict=True)
        ]
    # Of all records, since one that is left out now may be an entry the next time.
    cells = sheet.written.cells.get("address", Cells.none())
    for owner, value in zip(cells.owners.tolist(), cells.values(cells.codes), strict=True):
        own = as_text(value or "")
        found = given_href(own) if own else ""
        if found and owner >= first:
            made[owner - first] = found
        if own and not found and sheet.kept[owner]:
            message = f"address: {quoted(own)} cannot be a link, so it is left out"
            hint = "Write https://…, or a path below the site."
            place = sheet.place_of(owner, "address")
            draft.problems.append(Problem("unsafe-address", message, hint, place=place))
    lexicon = before.with_more(made) if before else Lexicon.of(made)
    places = np.where(lexicon.texts.lengths[draft.names.records] > 0, draft.names.records, -1)
    return Texts(places.astype(np.int32), lexicon)


def _sources(draft: Draft, kind: FieldType) -> Texts:
    """Return the file of each entry."""
    written = draft.sheet.written
    return Texts(written.files[draft.names.records], Lexicon(written.paths, draft.lexicon("source", kind)))


def _kinds(draft: Draft, kind: FieldType) -> Numbers:
    """Return the kind of each entry, as the place among the choices of the field."""
    places = np.array([kind.choices.index(name) for name in draft.names.kind_names], dtype=np.int64)
    return Numbers(places[draft.names.kinds], np.ones(draft.size, np.bool_))


# Fields that the tool fills by itself, whatever stands in the content.
_FILLED: dict[str, Callable[[Draft, FieldType], Column]] = {
    "id": lambda draft, _: Texts(draft.names.records, draft.names.id_texts),
    "slug": lambda draft, _: Texts(draft.names.records, draft.names.slug_texts),
    "source": _sources,
    "address": _addresses,
    "kind": _kinds,
}
