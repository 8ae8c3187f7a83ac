"""Records made comparable: who each is, what its status says, several values in a text parted."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from elenchus.engine.columns.claims import settled
from elenchus.engine.columns.distinct import each_value, numbered
from elenchus.engine.columns.moments import moments
from elenchus.engine.columns.recordnames import RecordNames
from elenchus.engine.columns.recordtable import NULL, TEXT, Cells
from elenchus.engine.columns.strings import ranks_of
from elenchus.errors import Place
from elenchus.frozen import replace
from elenchus.schema.conform import can_be_parted, conformed, flags_of, parted, split_note
from elenchus.schema.record import Raw
from elenchus.values.datepatterns import usual_date
from elenchus.values.kept import cached_property
from elenchus.values.numberpatterns import number_reader
from elenchus.values.texts import fold
from elenchus.values.wording import as_text

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Mapping, Sequence
    from zoneinfo import ZoneInfo

    from numpy.typing import NDArray

    from elenchus.engine.columns.recordtable import RecordTable
    from elenchus.errors import Problem
    from elenchus.schema.conform import Conformed
    from elenchus.schema.types import Schema

__all__ = ["Sheet", "WrittenDates"]


class WrittenDates(NamedTuple):
    """The dates of a column as they are written: each distinct one once, ``which`` of them each cell has.

    ``moments`` are as :func:`elenchus.engine.columns.moments.moments` has them, ``known`` those it knows.
    """

    which: NDArray[np.intp]
    values: Sequence[Any]
    moments: NDArray[np.int64]
    known: NDArray[np.bool_]

    @classmethod
    def read(cls, cells: Cells, codes: NDArray[np.int32], zone: ZoneInfo) -> WrittenDates:
        """Return those of some codes of cells."""
        used, which = np.unique(codes, return_inverse=True)
        values = cells.values(used)
        return cls(which, values, *moments(values, zone))


class Sheet:
    """The records of a site that are entries of it, and what they say.

    ``kept`` is a mask over records: those of a known kind with an id of their own; ``cells`` what these have
    for each key. ``flags`` tells of records that are kept back by a key such as ``draft`` which one, and
    whether their status does so as well.
    """

    def __init__(
        self,
        written: RecordTable,
        schema: Schema,
        whole: Mapping[str, frozenset[str]],
        live: NDArray[np.bool_],
        base: RecordNames | None = None,
    ) -> None:
        self.written = written
        self.schema = schema
        self.problems: list[Problem] = []
        self.notes: list[Problem] = []
        self.flags: dict[int, tuple[str, str]] = {}
        names = RecordNames.read(written, schema, None if base and base.has_numbers else base)
        claims = settled(written, names, schema, live)
        self.kept = claims.kept
        self.problems += claims.problems
        self.notes += claims.notes
        self.names = names.with_slugs(claims.numbered, schema) if claims.numbered else names
        self.cells = {
            name: left for name, cells in written.cells.items() if len(left := cells.without(~self.kept))
        }
        self._leave_out_blanks()
        self._conform_states()
        self._read_dates()
        self._read_numbers()
        self._part(whole)
        self.dates: dict[str, WrittenDates] = {}  # read before their column is made

    @cached_property
    def in_place(self) -> NDArray[np.intp]:
        """The records by the places at which they stand."""
        paths = self.written.paths[:]
        return np.lexsort((self.written.lines, ranks_of(paths)[self.written.files]))

    def place_of(self, record: int, name: str) -> Place:
        """Return where the value of a record stands; the record's own place where nothing was written."""
        place = self.written.place(record)
        raw = self.cells[name].of(record) if name in self.cells else None
        return Place(place.file, raw.line) if raw else place

    def value(self, record: int, name: str) -> Any:
        """Return what was written for a field, None where nothing was."""
        raw = self.cells[name].of(record) if name in self.cells else None
        return raw.value if raw else None

    def _leave_out_blanks(self) -> None:
        """Leave out the cells that say in a word of their source that there is no value."""
        for source, habits in enumerate(self.written.habits):
            if not habits.blanks:
                continue
            of_source = self.written.sources == source
            for name, cells in self.cells.items():
                used = each_value(cells.codes[of_source[cells.owners]])
                texts = zip(used.tolist(), cells.values(used), strict=True)
                blank = [
                    code
                    for code, text in texts
                    if isinstance(text, str) and fold(text.strip()) in habits.blanks
                ]
                if blank:
                    gone = of_source[cells.owners] & np.isin(cells.codes, blank)
                    mask = np.zeros(len(self.kept), np.bool_)
                    mask[cells.owners[gone]] = True
                    self.cells[name] = cells.without(mask)
        self.cells = {name: cells for name, cells in self.cells.items() if len(cells)}

    def _conform_states(self) -> None:
        """Understand foreign words for a status, and flags; records that say the same are looked at once."""
        habits = self.written.habits
        keys = ["status", *dict.fromkeys(key for each in habits for key in flags_of(each))]
        keys = [key for key in keys if key in self.cells]
        concerned = {key for key in keys if key != "status" or any(each.statuses for each in habits)}
        if not concerned:
            return
        owners = each_value(np.concatenate([self.cells[key].owners for key in concerned]))
        codes, lines = np.full((2, len(keys), len(owners)), -1, dtype=np.int64)
        for at, key in enumerate(keys):
            cells = self.cells[key]
            places = np.searchsorted(owners, cells.owners)
            here = np.flatnonzero((places < len(owners)) & np.isin(cells.owners, owners))
            codes[at, places[here]] = cells.codes[here]
            lines[at, places[here]] = cells.lines[here]
        same = numbered([self.written.sources[owners], self.names.kinds[owners], *codes], len(owners))
        _, firsts, case_of = np.unique(same, return_index=True, return_inverse=True)
        order = np.argsort(case_of, kind="stable")
        ends = np.cumsum(np.bincount(case_of, minlength=len(firsts)))
        changes = _Changes()
        for first, members in zip(firsts.tolist(), np.split(order, ends[:-1]), strict=True):
            said = {
                key: Raw(self.cells[key].value(int(codes[at, first])), at)  # for a line, the place of the key
                for at, key in enumerate(keys)
                if codes[at, first] >= 0
            }
            owner = int(owners[first])
            fields = self.schema.fields_of(self._kind_of(owner))
            found = conformed(said, Place(""), habits[int(self.written.sources[owner])], fields)
            self._understood(said, found, owners[members], lines[:, members], changes)
        self.cells = changes.made(self.cells)

    def _understood(
        self,
        said: Mapping[str, Raw],
        found: Conformed,
        owners: NDArray[Any],
        lines: NDArray[np.int64],
        changes: _Changes,
    ) -> None:
        """Take what records that say the same mean by it; ``lines`` are those of each key they may have."""
        for key, raw in said.items():
            if key not in found.values:
                changes.gone.setdefault(key, []).append(owners)
            elif found.values[key] != raw:
                changes.set(key, found.values[key].value, owners, lines[found.values[key].line])
        if "status" in found.values and "status" not in said:
            status = found.values["status"]
            changes.set("status", status.value, owners, lines[status.line])
        if found.flag:
            self.flags |= dict.fromkeys(owners.tolist(), (found.flag, found.standing))
        for problem in found.problems:
            at = problem.place.line if problem.place else 0
            for owner, line in zip(owners.tolist(), lines[at].tolist(), strict=True):
                place = Place(self.written.place(owner).file, line)
                self.problems.append(replace(problem, place=place))

    def _kind_of(self, record: int) -> str:
        """Return the name of a record's kind."""
        return list(self.schema.kinds)[int(self.names.kinds[record])]

    def _part(self, whole: Mapping[str, frozenset[str]]) -> None:
        """Part the texts that stand for several values."""
        kinds = list(self.schema.kinds)
        for source, habits in enumerate(self.written.habits):
            if not habits.separator:
                continue
            of_source = self.written.sources == source
            for name, cells in self.cells.items():
                parting = [
                    at
                    for at, kind in enumerate(kinds)
                    if can_be_parted(self.schema.fields_of(kind).get(name))
                ]
                mine = of_source[cells.owners] & np.isin(self.names.kinds[cells.owners], parting)
                if parting and mine.any():
                    found, places = _parted(cells, mine, habits.separator, whole.get(name, frozenset()))
                    self.cells[name] = found
                    if len(places) and not habits.is_declared:
                        self.notes.append(self._split_note(habits.source, name, cells, places))

    def _read_dates(self) -> None:
        """Understand dates that are written as a source declares, before they are read as all others are."""
        kinds = list(self.schema.kinds)
        for source, habits in enumerate(self.written.habits):
            if not (habits.dates or habits.zone):
                continue
            read, of_source = usual_date(habits), self.written.sources == source
            for name, cells in self.cells.items():
                fields = [self.schema.fields_of(kind).get(name) for kind in kinds]
                dated = [at for at, field in enumerate(fields) if field and field.type.type.is_date]
                mine = of_source[cells.owners] & np.isin(self.names.kinds[cells.owners], dated)
                if dated and mine.any():
                    self.cells[name] = _usual(cells, mine, read)

    def _read_numbers(self) -> None:
        """Understand numbers that are written as a source declares."""
        kinds = list(self.schema.kinds)
        for source, habits in enumerate(self.written.habits):
            if not (habits.numbers or habits.units or habits.scales):
                continue
            of_source = self.written.sources == source
            for name, cells in self.cells.items():
                form = habits.number_form(name)
                fields = [self.schema.fields_of(kind).get(name) for kind in kinds]
                numeric = [at for at, field in enumerate(fields) if field and field.type.type.is_number]
                mine = of_source[cells.owners] & np.isin(self.names.kinds[cells.owners], numeric)
                if form and numeric and mine.any():
                    self.cells[name] = _usual(cells, mine, number_reader(form))

    def _split_note(self, source: str, name: str, cells: Cells, places: NDArray[np.intp]) -> Problem:
        """Return the note of the texts of a source that were parted, by the places of their cells."""
        owners = cells.owners[places]
        rank = np.empty(len(self.in_place), dtype=np.int64)
        rank[self.in_place] = np.arange(len(self.in_place))
        first = int(places[np.argmin(rank[owners])])
        place = self.place_of(int(cells.owners[first]), name)
        return split_note(source, name, len(places), cells.texts[int(cells.codes[first])], place)

    def used(self, name: str, kind: int) -> Iterator[Any]:
        """Yield the distinct values that records of a kind have for a key."""
        cells = self.cells[name]
        of_kind = cells.codes[self.names.kinds[cells.owners] == kind]
        yield from cells.values(each_value(of_kind))


class _Changes:
    """What becomes of cells: records that have a key no longer, or another value for it."""

    def __init__(self) -> None:
        self.gone: dict[str, list[NDArray[Any]]] = {}
        self.values: dict[str, list[Any]] = {}
        self.cells: dict[str, list[tuple[NDArray[Any], int, NDArray[Any]]]] = {}

    def set(self, key: str, value: Any, owners: NDArray[Any], lines: NDArray[Any]) -> None:
        """Let some records have a value, each at a line."""
        values = self.values.setdefault(key, [])
        values.append(value)
        self.cells.setdefault(key, []).append((owners, len(values) - 1, lines))

    def made(self, cells: dict[str, Cells]) -> dict[str, Cells]:
        """Return the cells with the changes."""
        found = dict(cells)
        for key, gone in self.gone.items():
            here = found[key]
            mask = np.zeros(int(here.owners.max(initial=-1)) + 1, np.bool_)
            mask[np.concatenate(gone)] = True
            found[key] = here.without(mask)
        for key, changed in self.cells.items():
            here = found.get(key, Cells.none()).with_values(self.values[key])
            first = len(here.texts) - len(self.values[key])
            owners = np.concatenate([each for each, _, _ in changed])
            codes = np.concatenate([np.full(len(each), first + at) for each, at, _ in changed])
            lines = np.concatenate([each for _, _, each in changed])
            found[key] = here.with_cells(owners, codes, lines)
        return {key: left for key, left in found.items() if len(left)}


def _usual(cells: Cells, mine: NDArray[np.bool_], read: Callable[[str], str]) -> Cells:
    """Return cells with those of their texts that a function understands, as it gives them."""

    def usual(value: Any) -> Any:
        return [usual(each) for each in value] if isinstance(value, list) else read(as_text(value)) or value

    used = each_value(cells.codes[mine])
    used = used[cells.forms[used] != NULL]
    found = {code: usual(value) for code, value in zip(used.tolist(), cells.values(used), strict=True)}
    return cells.with_changed(found, mine)


def _parted(
    cells: Cells, mine: NDArray[np.bool_], separator: str, whole: frozenset[str]
) -> tuple[Cells, NDArray[np.intp]]:
    """Return cells with some of their texts parted, and the places of those."""
    has_it = np.zeros(len(cells.texts), np.bool_)
    used = each_value(cells.codes[mine])
    used = used[cells.forms[used] == TEXT]
    parts = {}
    for code, text in zip(used.tolist(), cells.texts.at(used), strict=True):
        values = parted(text, separator, whole)
        if values is not None:
            parts[code] = values
            has_it[code] = True
    if not parts:
        return cells, np.zeros(0, dtype=np.intp)
    return cells.with_changed(parts, mine), np.flatnonzero(mine & has_it[cells.codes])
