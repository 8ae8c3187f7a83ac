"""What assignments mean for entries: checked against the fields, turned into what each file is to say."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, NamedTuple

from elenchus.editing.spellings import Spellings, texts_of, whole_names
from elenchus.editing.states import status_written, yes_or_no_written
from elenchus.errors import OptionError, Problem
from elenchus.index.content import reread
from elenchus.schema.conform import flags_of
from elenchus.schema.convert import Unfit
from elenchus.schema.edits import EntryEdit, NewValue, Sort
from elenchus.schema.types import STATUSES, Field, FieldType, Type
from elenchus.site.site import Site
from elenchus.sources import unit_contents
from elenchus.values.numberpatterns import written_like
from elenchus.values.texts import nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence

    from elenchus.asking.query import Query
    from elenchus.editing.assignments import Assignment
    from elenchus.schema.record import Record
    from elenchus.sources import SourceSpec, UnitContent

__all__ = [
    "SORTS",
    "EntryChange",
    "FieldChange",
    "entries_of",
    "entry_change",
    "entry_changes",
    "record_change",
    "with_fresh_rows",
]

_GIVEN = {
    "id": "others refer to it by that",
    "kind": "the source says it, or the folder",
    "source": "it is where the entry stands",
    "body": "it is the text itself",
}
SORTS: dict[Type, Sort] = {
    Type.INTEGER: "number",
    Type.NUMBER: "number",
    Type.YESNO: "yesno",
    Type.DATE: "date",
    Type.DATETIME: "date",
}


class FieldChange(NamedTuple):
    """What becomes of a field: the texts that are written for it, before and after."""

    field: str
    before: tuple[str, ...]
    after: tuple[str, ...]


class EntryChange(NamedTuple):
    """What becomes of an entry, which is a record of a unit of a source."""

    id: str
    record: int
    unit: int
    source: SourceSpec
    fields: tuple[FieldChange, ...]
    edit: EntryEdit


class _Wanted(NamedTuple):
    """An assignment for the entries of a kind: its field, and the texts and keys that it names."""

    assignment: Assignment
    field: Field
    values: tuple[tuple[str, Any], ...]
    is_flag: bool


def entries_of(query: Query) -> list[str]:
    """Return the ids of the entries that a question finds. Raises OptionError where it finds terms."""
    if not query.plan.subject.is_entries:
        message = "the question finds terms, and these have no files of their own"
        hint = "Name a kind: from sighting where …. elenchus rename-term changes a term."
        raise OptionError([Problem("no-entries", message, hint)])
    return list(dict.fromkeys(query.ids()))


def with_fresh_rows(site: Site, ids: Sequence[str]) -> Site:
    """Return a site with the rows of databases near some entries read again, if they are otherwise by now.

    A row that did not say that it was changed would else look as if this change had changed it.
    Raises SourceError.
    """
    found, names = site.content.found, site.dataset.entries.names
    units = found.units
    wanted = {units.unit_of(int(names.records[names.row(name)])) for name in ids}
    fresh: dict[int, UnitContent] = {}
    for number, spec in enumerate(site.definition.sources):
        mine = (
            sorted(unit for unit in wanted if int(units.seen.sources[unit]) == number) if spec.table else []
        )
        contents = unit_contents(spec, site.definition.folder, [units.seen.paths[unit] for unit in mine])
        fresh |= {
            unit: content
            for unit, content in zip(mine, contents, strict=True)
            if content.digest != int(units.digests[unit])
        }
    if not fresh:
        return site
    ordered = dict(sorted(fresh.items()))
    chunk = reread(found, site.content.wanted, ordered)
    return Site(site.content.with_units(list(ordered), chunk), site.clock)


def entry_changes(site: Site, ids: Sequence[str], assignments: Sequence[Assignment]) -> list[EntryChange]:
    """Return what assignments mean for some entries; those for which nothing changes are left out.

    Raises OptionError with all that is wrong: unknown fields, values that do not fit.
    """
    setter = _Setter(site, assignments)
    rows = [site.dataset.entries.names.row(name) for name in ids]
    kinds = dict.fromkeys(site.dataset.kind_of(row) for row in rows)
    wanted = {kind: list(setter.wanted(kind)) for kind in kinds}
    if setter.problems:
        raise OptionError(list(dict.fromkeys(setter.problems)))
    found = [setter.change(row, wanted[site.dataset.kind_of(row)]) for row in rows]
    return [change for change in found if change]


def entry_change(
    site: Site, row: int, fields: Mapping[str, FieldChange], values: Mapping[str, NewValue]
) -> EntryChange | None:
    """Return an entry with what becomes of its fields, and is to be written for them; None for nothing."""
    changed = {name: each for name, each in fields.items() if each.before != each.after}
    if not changed:
        return None
    names = site.dataset.entries.names
    return record_change(site, int(names.records[row]), names.ids[row], tuple(changed.values()), values)


def record_change(
    site: Site, number: int, name: str, changed: tuple[FieldChange, ...], values: Mapping[str, NewValue]
) -> EntryChange:
    """Return what becomes of a record, which need not be an entry; ``name`` is what it is called."""
    found, records = site.content.found, site.content.records
    spec = site.definition.source(records.habits[int(records.sources[number])].source)
    unit = found.units.unit_of(number)
    place = records.place(number)
    columns = {spec.columns.get(each.field, each.field): values[each.field] for each in changed}
    nth = number - int(found.units.firsts[unit])
    edit = EntryEdit(place.line, nth, columns, place.file)
    return EntryChange(name, number, unit, spec, changed, edit)


class _Setter:
    """Assignments to entries of a site, with what is wrong with them."""

    def __init__(self, site: Site, assignments: Sequence[Assignment]) -> None:
        self.site = site
        self.data = site.dataset
        self.records = site.content.records
        self.assignments = assignments
        self.problems: list[Problem] = []
        self.spellings: dict[Field, Spellings] = {}

    # what is wanted

    def wanted(self, kind: str) -> Iterator[_Wanted]:
        """Yield the assignments with their values for the entries of a kind, as far as they are right."""
        fields = self.data.schema.fields_of(kind)
        flags = {key for habits in self.records.habits for key in flags_of(habits)}
        for each in self.assignments:
            is_flag = each.field in flags and each.field not in fields
            field = Field(each.field, FieldType(Type.YESNO)) if is_flag else fields.get(each.field)
            if field is None:
                message, hint = (
                    f"{kind} has no field {quoted(each.field)}",
                    f"Its fields: {', '.join(fields)}.",
                )
                near = nearest(each.field, fields)
                self.problems.append(Problem("unknown-field", message, "" if near else hint, near=near))
            elif each.field in _GIVEN:
                message = f"{each.field} cannot be set: {_GIVEN[each.field]}"
                self.problems.append(Problem("fixed-value", message, "Change it where it stands."))
            elif each.operator != "=" and not field.type.many:
                message = f"{each.field} of {kind} has one value, so nothing is added to it or taken away"
                hint = f"Write {each.field}={each.text}, or {each.field}= to clear it."
                self.problems.append(Problem("single-value", message, hint))
            else:
                yield _Wanted(each, field, tuple(self.values(each, field)), is_flag)

    def values(self, assignment: Assignment, field: Field) -> Iterator[tuple[str, Any]]:
        """Yield the texts that an assignment names, as content writes them, with their keys."""
        spellings = self.spelling(field)
        for text in assignment.values(field):
            try:
                yield spellings.of(text), spellings.key(text)
            except Unfit as unfit:
                if self.is_new_term(field, text) and assignment.operator != "-=":
                    yield text, text
                    continue
                message = f"{assignment.field}: {unfit}"
                self.problems.append(Problem("unfit-value", message, unfit.hint, near=unfit.near))

    def is_new_term(self, field: Field, text: str) -> bool:
        """Say whether a text may be a term that no entry has yet."""
        if field.type.type is not Type.TERM:
            return False
        taxonomy = self.data.taxonomies[field.type.taxonomy]
        return taxonomy.is_made and not taxonomy.find(text)

    def spelling(self, field: Field) -> Spellings:
        """Return how a field is written."""
        if field not in self.spellings:
            self.spellings[field] = Spellings(self.data, self.records, field)
        return self.spellings[field]

    # what becomes of an entry

    def change(self, row: int, wanted: Sequence[_Wanted]) -> EntryChange | None:
        """Return what becomes of an entry, None where nothing does."""
        number = int(self.data.entries.names.records[row])
        record = self.records.record(number)
        fields: dict[str, FieldChange] = {}
        values: dict[str, NewValue] = {}
        for each in wanted:
            name = each.assignment.field
            if name == "status" or each.is_flag:
                texts = self.state(record, each)
            else:
                texts = {name: self.plain(record, each, fields.get(name))}
            for key, wished in texts.items():
                before = texts_of(record, key, each.field, whole_names(self.data, each.field))
                after = self.as_written(record, key, each.field, before, wished)
                fields[key] = FieldChange(key, tuple(before), tuple(after))
                is_flag = each.is_flag or key != name
                sort = "yesno" if is_flag else SORTS.get(each.field.type.type, "text")
                values[key] = NewValue(after, each.field.type.many, sort)
        return entry_change(self.site, row, fields, values)

    def as_written(
        self, record: Record, key: str, field: Field, before: Sequence[str], after: list[str]
    ) -> list[str]:
        """Return the texts of a field as the content writes numbers there, with their unit."""
        form = record.habits.number_form(key) if field.type.type.is_number else None
        if form is None:
            return after
        like = before[0] if before else self.spelling(field).example
        return [text if text in before else written_like(text, like, form) for text in after]

    def state(self, record: Record, wanted: _Wanted) -> dict[str, list[str]]:
        """Return the texts of the keys that decide whether an entry is public."""
        name, text = wanted.assignment.field, wanted.assignment.text
        if wanted.is_flag:
            return {name: [yes_or_no_written(record, name, text)] if text else []}
        status = STATUSES[wanted.values[0][1]] if wanted.values else ""
        return {key: [new] if new else [] for key, new in status_written(record, status).items()}

    def plain(self, record: Record, wanted: _Wanted, before: FieldChange | None) -> list[str]:
        """Return the texts that an assignment makes of a field; ``before`` is what others made of it."""
        field = wanted.field
        old = texts_of(record, field.name, field, whole_names(self.data, field))
        now = list(before.after) if before else old
        keys = [self.key(field, text) for text in now]
        named = {key: text for text, key in wanted.values}
        match wanted.assignment.operator:
            case "=":
                kept: dict[Any, str] = dict(zip(keys, now, strict=True))
                return [kept.get(key, text) for key, text in named.items()]
            case "+=":
                return [*now, *(text for key, text in named.items() if key not in keys)]
            case _:
                return [text for key, text in zip(keys, now, strict=True) if key not in named]

    def key(self, field: Field, text: str) -> Any:
        """Return what a written text means; of one that means nothing, a key of its own."""
        try:
            return self.spelling(field).key(text)
        except Unfit:
            return "", text
