"""A change of content: the files as they would be, and the site as it would be with them, made sure first."""

from __future__ import annotations

from collections import defaultdict
from contextlib import suppress
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from elenchus.comparing.reach import may_reach
from elenchus.editing.spellings import meanings_of, texts_of, whole_names
from elenchus.errors import FolderError, Place, Problem, SiteError
from elenchus.files import read_whole
from elenchus.frozen import Working
from elenchus.index.content import reread
from elenchus.journal import FileChange
from elenchus.schema.convert import Moment, Unfit
from elenchus.schema.edits import UneditableError
from elenchus.site.site import Site, journal_of
from elenchus.sources import content_of, content_of_rows, editor, row_changes, text_of
from elenchus.values.datepatterns import usual_date
from elenchus.values.kept import cached_property
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Mapping, Sequence

    from elenchus.editing.entries import EntryChange
    from elenchus.engine.columns.dataset import Dataset
    from elenchus.index.reading import Chunk
    from elenchus.journal import MadeChange
    from elenchus.schema.edits import RowChange, TermWords
    from elenchus.schema.record import Habits, Record
    from elenchus.schema.types import Field
    from elenchus.sources import SourceSpec, UnitContent

__all__ = ["ContentChange", "TableChange", "content_change", "write_change"]

_LARGEST = 2**30  # bytes of a file that is changed as a whole
_MOST_COMPARED = 5_000  # entries of a file that are all compared with what they were


class TableChange(NamedTuple):
    """Rows of a table of a database that change, and the units in which they stand."""

    source: SourceSpec
    rows: tuple[RowChange, ...]
    units: tuple[int, ...]


class ContentChange(Working):
    """Entries that change, the files and tables in which they stand, and the ``site`` before.

    ``units`` are those of the files.
    """

    site: Site
    entries: tuple[EntryChange, ...]
    files: tuple[FileChange, ...]
    units: tuple[int, ...]
    tables: tuple[TableChange, ...] = ()

    @property
    def is_empty(self) -> bool:
        """Say whether nothing changes."""
        return not (self.files or self.tables)

    @property
    def all_units(self) -> list[int]:
        """The units that change, in their order."""
        return sorted((*self.units, *(unit for table in self.tables for unit in table.units)))

    @cached_property
    def reread(self) -> Chunk:
        """What files and tables would be read as. Raises SiteError where something else would change, too."""
        pairs = zip(self.units, self.files, strict=True)
        contents: dict[int, UnitContent] = {unit: content_of(file.after or b"") for unit, file in pairs}
        contents |= self.rows_then
        ordered = {unit: contents[unit] for unit in self.all_units}
        chunk = reread(self.site.content.found, self.site.content.wanted, ordered)
        wrong = list(_differences(self, chunk))
        if wrong:
            raise SiteError(wrong)
        return chunk

    @cached_property
    def rows_then(self) -> dict[int, UnitContent]:
        """What the units of tables would hold. Raises SiteError."""
        contents: dict[int, UnitContent] = {}
        for table in self.tables:
            names = [self.paths[unit] for unit in table.units]
            try:
                found = content_of_rows(table.source, self.site.definition.folder, table.rows, names)
            except OSError as error:
                raise SiteError([_unclear(Place(table.source.name), str(error.strerror))]) from None
            contents |= dict(zip(table.units, found, strict=True))
        return contents

    @cached_property
    def reaches(self) -> bool:
        """Say whether listings or pages can be otherwise."""
        return not self.is_empty and may_reach(self.site, self.fields)

    @property
    def fields(self) -> set[str]:
        """The fields that change."""
        return {each.field for entry in self.entries for each in entry.fields}

    @cached_property
    def after(self) -> Site:
        """The site as it would be. Raises SiteError where something else would change as well."""
        return Site(self.site.content.with_units(self.all_units, self.reread), self.site.clock)

    @property
    def paths(self) -> Sequence[str]:
        """The names of all units."""
        return self.site.content.found.units.seen.paths

    def path_of(self, entry: EntryChange) -> str:
        """Return the file in which an entry stands."""
        return self.paths[entry.unit].partition("\t")[0]

    @cached_property
    def sources(self) -> dict[str, SourceSpec]:
        """The source of each file."""
        return {self.path_of(entry): entry.source for entry in self.entries}

    def texts(self, file: FileChange) -> tuple[str, str]:
        """Return what a file says before and after."""
        spec = self.sources[file.path]
        return text_of(file.before or b"", spec), text_of(file.after or b"", spec)

    def write(self, told: str, tick: Callable[[], None] = lambda: None) -> MadeChange:
        """Write the files, all of them or none. Raises FolderError, SiteError as :attr:`reread` does."""
        _ = self.reread
        return write_change(self.site, told, self.files, self.tables, tick)


def write_change(
    site: Site,
    told: str,
    files: Sequence[FileChange],
    tables: Sequence[TableChange],
    tick: Callable[[], None],
) -> MadeChange:
    """Write files and rows, all of them or none. Raises FolderError."""
    rows = list(_each_once(tables))
    return journal_of(site.definition.folder).write(told, files, tick, rows)


def _each_once(tables: Sequence[TableChange]) -> Iterator[list[Any]]:
    """Yield all rows as the journal keeps them; two sources of one database can share a table of terms."""
    seen = set()
    for table in tables:
        spec = table.source
        database = (spec.paths, spec.table.url, spec.table.url_from) if spec.table else spec.paths
        for row in table.rows:
            key = repr((database, row.table, row.where, row.column, row.before, row.after))
            if not (row.column and key in seen):
                yield list(row)
            seen.add(key)


def content_change(
    site: Site, entries: Sequence[EntryChange], terms: TermWords | None = None, *, new_terms: bool = False
) -> ContentChange:
    """Return what becomes of files and rows so that entries change; ``terms`` are other words for terms.

    Terms that a table of terms does not have are added to it if ``new_terms`` may be.
    Raises SiteError, FolderError.
    """
    by_unit: dict[int, list[EntryChange]] = defaultdict(list)
    for entry in sorted(entries, key=lambda each: each.unit):
        by_unit[entry.unit].append(entry)
    problems: list[Problem] = []
    files, units = [], []
    paths = site.content.found.units.seen.paths
    tables = list(_tables(site, entries, problems, terms, new_terms=new_terms))
    for unit, mine in by_unit.items():
        if mine[0].source.table:
            continue
        try:
            files.append(_file_changed(site, paths[unit], mine))
            units.append(unit)
        except UneditableError as error:
            message = f"it cannot be changed here: {error}"
            place = Place(paths[unit], error.line)
            problems.append(Problem("not-changed", message, error.hint, place=place))
    if problems:
        raise SiteError(problems)
    return ContentChange(site, tuple(entries), tuple(files), tuple(units), tuple(tables))


def _tables(
    site: Site,
    entries: Sequence[EntryChange],
    problems: list[Problem],
    terms: TermWords | None,
    *,
    new_terms: bool,
) -> Iterator[TableChange]:
    """Yield the tables of databases in which entries change; add what keeps them from that."""
    for spec in site.definition.sources:
        mine = [entry for entry in entries if entry.source.name == spec.name and spec.table]
        if mine:
            try:
                edits = [entry.edit for entry in mine]
                rows = row_changes(spec, site.definition.folder, edits, terms, new_terms=new_terms)
            except UneditableError as error:
                message = f"it cannot be changed here: {error}"
                problems.append(Problem("not-changed", message, error.hint, place=Place(spec.name)))
                continue
            yield TableChange(spec, tuple(rows), tuple(sorted({entry.unit for entry in mine})))


def _file_changed(site: Site, path: str, entries: Sequence[EntryChange]) -> FileChange:
    """Return a file as it would be. Raises UneditableError, FolderError."""
    spec = entries[0].source
    edited = editor(spec, path)
    target = site.definition.folder / path
    try:
        before = read_whole(target, _LARGEST)
    except OSError as error:
        message = f"{path} cannot be read ({error.strerror})"
        raise FolderError([Problem("cannot-write", message, "Let it be read.")]) from None
    return FileChange(path, before, edited(spec, path, before, [entry.edit for entry in entries]))


def _differences(change: ContentChange, new: Chunk) -> Iterator[Problem]:
    """Yield what would not be as it is meant: values that came out otherwise, and others that changed.

    Files are changed in their text and read again as any other: where both disagree, nothing is written.
    """
    old = change.site.content.found
    entries = {entry.record: entry for entry in change.entries}
    before, now = old.records(), new.records
    begins = (np.cumsum(new.counts) - new.counts).tolist()
    for at, unit in enumerate(change.all_units):
        count, first = int(old.units.counts[unit]), int(old.units.firsts[unit])
        if int(new.counts[at]) != count or (at in new.problems and unit not in old.units.problems):
            yield _unclear(Place(change.paths[unit]), "the file could not be read any more")
            continue
        moved = begins[at] - first
        looked = entries.keys() & range(first, first + count)
        if count <= _MOST_COMPARED:
            differing = before.differing(first, first + count, now, begins[at])
            looked |= set((np.flatnonzero(differing) + first).tolist())
        for record in sorted(looked):
            fields = change.site.dataset.schema.fields_of(before.kind_names[int(before.kinds[record])])
            pair = before.record(record), now.record(record + moved)
            yield from _compared(*pair, entries.get(record), fields, change.site.dataset)


def _compared(
    one: Record, other: Record, entry: EntryChange | None, fields: Mapping[str, Field], data: Dataset
) -> Iterator[Problem]:
    """Yield what is not as it is meant in an entry as it was and as it would be."""
    wanted = {each.field: each.after for each in entry.fields} if entry else {}
    for name, texts in wanted.items():
        found = texts_of(other, name, fields.get(name), whole_names(data, fields.get(name)))
        is_row = entry is not None and entry.source.table is not None
        if found != list(texts) and not (
            is_row and _mean_the_same(data, fields.get(name), other.habits, found, texts)
        ):
            said = ", ".join(found) or "nothing"
            yield _unclear(one.place, f"{name} would say {quoted(said)}, not {quoted(', '.join(texts))}")
    for name in (one.values.keys() | other.values.keys()) - wanted.keys() - _moving(entry):
        if texts_of(one, name, None) != texts_of(other, name, None):
            yield _unclear(one.place, f"{name} would change as well")


def _mean_the_same(
    data: Dataset, field: Field | None, habits: Habits, one: Sequence[str], other: Sequence[str]
) -> bool:
    """Say whether a table writes the same in another way: a column has its own form, rows no order."""
    if field is None:
        return False
    if field.type.many and sorted(one) == sorted(other):
        return True
    meanings, usual = meanings_of(data), usual_date(habits)
    with suppress(Unfit):
        keys = []
        for texts in (one, other):
            told = [usual(text) if field.type.type.is_date else text for text in texts]
            keys.append(sorted(_comparable(meanings.key(text, field)) for text in told))
        return keys[0] == keys[1]
    return False


def _comparable(key: Any) -> Any:
    """Return a key as it is compared: of a date, the instant at which it begins."""
    return key.start if isinstance(key, Moment) else key


def _moving(entry: EntryChange | None) -> set[str]:
    """Return the fields that may change along: the text below a title, the time of a row's change."""
    found = {"body"}
    if entry and entry.source.table:
        updated = entry.source.table.updated
        found |= {updated, *(name for name, column in entry.source.columns.items() if column == updated)}
    return found


def _unclear(place: Place, what: str) -> Problem:
    """Return the problem of a file that cannot be changed as it is meant."""
    hint = "Nothing was written; change it by hand."
    return Problem("not-changed", f"it cannot be changed here: {what}", hint, place=place)
