"""Opening a site: found from any folder inside it, read whole, with one clock for the run."""

from __future__ import annotations

import os
import time
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING

from elenchus import sources
from elenchus.engine.executor import Engine
from elenchus.errors import OptionError, Problem, SiteError
from elenchus.frozen import Working, replace
from elenchus.index.content import content, with_units
from elenchus.index.store import Wanted, digest_of, folders_for
from elenchus.index.work import Work
from elenchus.journal import Journal
from elenchus.site.definition import Definition, read_definition
from elenchus.site.inheritance import Library
from elenchus.site.keys import SITE_FILE
from elenchus.site.listings import read_listings
from elenchus.site.pages import read_pages
from elenchus.sources import only_read
from elenchus.values.dates import Clock, literal_interval
from elenchus.values.kept import Kept, cached_property
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence

    from elenchus.engine.columns.dataset import Dataset
    from elenchus.engine.columns.recordtable import RecordTable
    from elenchus.errors import Edit
    from elenchus.index.content import Found
    from elenchus.index.reading import Chunk
    from elenchus.plan.executor import Executor
    from elenchus.plan.nodes import Plan
    from elenchus.schema.edits import UneditableError
    from elenchus.schema.record import Record
    from elenchus.schema.terms import TermRow
    from elenchus.site.inheritance import Listing
    from elenchus.site.pages import PageRules
    from elenchus.tables.data import TableData
    from elenchus.values.dates import Interval

__all__ = ["Content", "Site", "find_site", "instant_of", "interval_of", "journal_of", "now", "open_site"]

_MOST_PLANS = 512
_ALONE = Work()


class Content(Working):
    """What the files of a site say, each read once, when it is first asked for: it knows no now.

    ``besides`` are entries that stand in no file, to see the site as it would be with them.
    """

    definition: Definition
    besides: tuple[Record, ...] = ()
    work: Work = _ALONE
    is_supposed: bool = False  # whether some of it stands nowhere

    @cached_property
    def found(self) -> Found:
        """What the sources say, from the index as far as that holds. Raises SiteError."""
        return content(self.wanted, self.work)

    @cached_property
    def records(self) -> RecordTable:
        """The entries as their sources have them, and perhaps others that no source has any more."""
        return self.found.records()

    @property
    def failures(self) -> Sequence[Problem]:
        """Why databases cannot be read now; of these the content is what was read of them before."""
        return self.found.failures

    @property
    def is_indexed(self) -> bool:
        """Say whether other processes find this content in its index."""
        return self.work.index and not (self.besides or self.is_supposed)

    @property
    def wanted(self) -> Wanted:
        """What is to be read."""
        folder, schema = self.definition.folder, self.definition.schema
        files = {name: rules.terms for name, rules in schema.taxonomies.items() if rules.terms}
        return Wanted(
            folder=folder,
            specs=self.definition.sources,
            schema=schema,
            zone=self.definition.zone,
            terms=lambda: _terms_of(folder, files),
            digest=digest_of(folder, [SITE_FILE, *files.values()], self.definition.zone),
        )

    @cached_property
    def dataset(self) -> Dataset:
        """All entries and terms. Raises SiteError when a file of terms cannot be read."""
        if not self.besides:
            return self.found.dataset
        import numpy as np

        from elenchus.engine.columns.build import Since, assemble
        from elenchus.engine.columns.recordtable import Intake

        records = self.records.with_more(Intake.of(self.besides))
        live = np.append(self.found.live(), np.ones(len(self.besides), np.bool_))
        wanted, before = self.wanted, self.found.dataset
        since = Since(live, before, self.found.units.seen.own_slugs)
        return assemble(wanted.schema, records, wanted.terms(), wanted.zone, self.found.problems(), since)

    @cached_property
    def library(self) -> Library:
        """The listings."""
        return Library(read_listings(self.definition.folder, self.definition.schema))

    @cached_property
    def pages(self) -> PageRules:
        """The pages as their files have them."""
        return read_pages(self.definition.folder, self.library.names)

    def record(self, name: str) -> Record:
        """Return an entry as its source has it, by its id."""
        names = self.dataset.entries.names
        return self.records.record(int(names.records[names.row(name)]))

    def offered(self, edit: Edit) -> Edit:
        """Return an edit to be offered; by hand, where nothing here writes what holds its entry."""
        names = self.dataset.entries.names
        refusal = self.refusal(int(names.records[names.row(edit.entry)]))
        return replace(edit, by_hand=f"{refusal}. {refusal.hint}") if refusal else edit

    def refusal(self, number: int) -> UneditableError | None:
        """Return why nothing here writes what holds a record; None where something does."""
        source = self.records.habits[int(self.records.sources[number])].source
        if not source:  # an entry that stands nowhere
            return None
        units = self.found.units
        return only_read(self.definition.source(source), units.seen.paths[units.unit_of(number)])

    def is_in_a_file(self, number: int) -> bool:
        """Say whether a record stands in a file that can be written here, and not in a database."""
        source = self.records.habits[int(self.records.sources[number])].source
        return bool(source) and not self.definition.source(source).table and not self.refusal(number)

    def with_entries(self, records: Iterable[Record]) -> Content:
        """Return the content with some more entries; what is read already is not read again."""
        return self.kept(Content(self.definition, (*self.besides, *records), self.work), "found")

    def all_public(self) -> Content:
        """Return the content as it would be if anybody might see all of it. Raises SiteError."""
        found = self.kept(Content(self.definition, self.besides, self.work, is_supposed=True), "found")
        found.__dict__["dataset"] = self.dataset.all_public()
        return found

    def with_units(self, chosen: Sequence[int], chunk: Chunk) -> Content:
        """Return the content as it would be if some of its units gave something else. Raises SiteError."""
        return self.with_found(with_units(self.found, self.wanted, chosen, chunk))

    def with_found(self, found: Found) -> Content:
        """Return the content as it is if sources say something else: what they would say, or once said."""
        other = self.kept(Content(self.definition, work=self.work, is_supposed=True))
        other.__dict__["found"] = found
        return other

    def kept(self, other: Content, *more: str) -> Content:
        """Return another content of the same files with what is read of them already."""
        for key in ("library", "pages", *more):
            if key in self.__dict__:
                other.__dict__[key] = self.__dict__[key]
        return other


def _terms_of(folder: Path, files: Mapping[str, str]) -> dict[str, list[TermRow]]:
    """Return the terms that files define, by taxonomy. Raises SiteError."""
    from elenchus.site.terms import read_terms

    return {name: read_terms(folder, file) for name, file in files.items()}


_MOST_LOOKED_AT = 50  # items of a folder


class Site(Working):
    """A site at a now: its content, a clock, and what answers questions there.

    Where there are ``tables``, these are asked; the content is what pages are then drawn of.
    """

    content: Content
    clock: Clock
    tables: TableData | None = None

    @property
    def definition(self) -> Definition:
        """The site file."""
        return self.content.definition

    @property
    def dataset(self) -> Dataset:
        """All entries and terms. Raises SiteError when a file of terms cannot be read."""
        return self.content.dataset

    @property
    def library(self) -> Library:
        """The listings."""
        return self.content.library

    @property
    def pages(self) -> PageRules:
        """The pages as their files have them."""
        return self.content.pages

    @cached_property
    def engine(self) -> Engine:
        """The content at this now, in memory. Raises SiteError."""
        return Engine(self.dataset, self.clock)

    @cached_property
    def executor(self) -> Executor:
        """What answers the questions of this now, plans in and answers out. Raises SiteError."""
        if self.tables is None:
            return self.engine
        from elenchus.tables.executor import TableEngine

        return TableEngine(self.tables, self.clock)

    @cached_property
    def plans(self) -> Kept[tuple[Listing, Plan]]:
        """The plans of the queries that were asked last, each with its listing: pages ask the same again."""
        return Kept(_MOST_PLANS)

    @cached_property
    def watch(self) -> set[str]:
        """What the questions that were asked depend on: the ``day`` of the clock, or its ``instant``."""
        return set()

    @cached_property
    def questions(self) -> Kept[Listing]:
        """The questions that were read last, by their texts, their changes and where they stand."""
        return Kept(_MOST_PLANS)

    @cached_property
    def names_of_here(self) -> Kept[tuple[Listing, frozenset[str]]]:
        """What the questions that were asked last ask of the rows of pages, each with its listing."""
        return Kept(_MOST_PLANS)

    def working(self, work: Work) -> Site:
        """Return the site with its content read in another way."""
        return Site(replace(self.content, work=work), self.clock, self.tables)

    def on(self, place: str = "") -> Site:
        """Return the site with its questions asked of the tables at a place; its content is not read.

        That of the site file is meant where none is given. Raises OptionError for no place of tables,
        SiteError where there are none of these definitions.
        """
        from elenchus.tables.opening import opened_tables
        from elenchus.tables.places import refuse_unknown_host

        named = self.tables_place
        place = place or named
        if place == named != "":
            refuse_unknown_host(place)
        if not place:
            hint = "Name their place, or write [tables] with at = into elenchus.toml."
            raise OptionError(
                [Problem("unknown-engine", "the site names no tables that could be asked", hint)]
            )
        return self.asked_of(opened_tables(place, self.definition.schema, self.clock.zone))

    @property
    def tables_place(self) -> str:
        """The place of tables that the site file names; nothing where it names none."""
        from elenchus.tables.places import from_folder

        written = self.definition.tables
        return from_folder(written, self.definition.folder) if written else ""

    def in_tables(self) -> Site:
        """Return the site with its content as tables in memory. Raises OptionError without their extra."""
        from elenchus.tables.opening import tables_of

        return self.asked_of(tables_of(self.dataset, self.definition.schema, self.clock.zone))

    @property
    def is_of_tables(self) -> bool:
        """Say whether tables are all that is read of the content; see :meth:`on`."""
        return self.tables is not None and self.content.__dict__.get("dataset") is self.tables

    def asked_of(self, tables: TableData) -> Site:
        """Return the site with its questions checked against tables and asked of them."""
        content = self.content.kept(Content(self.definition, work=self.content.work))
        content.__dict__["dataset"] = tables
        return Site(content, self.clock, tables)

    def answered_on(self, place: str) -> Site:
        """Return the site with its content, whose questions the tables at a place answer.

        Raises OptionError and SiteError as :meth:`on` does, and SiteError for tables of other content.
        """
        from elenchus.tables.opening import opened_tables, same_content

        tables = opened_tables(place, self.definition.schema, self.clock.zone)
        same_content(tables, self.dataset)
        return Site(self.content, self.clock, tables)

    def at(self, instant: int) -> Site:
        """Return the site at another now, in microseconds since 1970; what is read already stays read."""
        return Site(self.content, Clock(instant, self.clock.zone), self.tables)

    def with_entries(self, records: Iterable[Record]) -> Site:
        """Return the site with some more entries; what is read already is not read again."""
        return Site(self.content.with_entries(records), self.clock)


def find_site(start: Path) -> Path:
    """Return the nearest folder, from ``start`` upward, that holds a site file. Raises SiteError."""
    for folder in (start.resolve(), *start.resolve().parents):
        if (folder / SITE_FILE).is_file():
            return folder
    message = f"no {SITE_FILE} in {start.resolve()} or any folder above it"
    hint = "Name the site with --site FOLDER, or write one to look around in: elenchus demo."
    if _has_content(start):
        hint = "Create a site from the content in this folder: elenchus start ."
    raise SiteError([Problem("no-site", message, hint)])


def _has_content(folder: Path) -> bool:
    """Say whether files of content stand in a folder, or in one of those right below it."""
    try:
        found = [*islice(folder.iterdir(), _MOST_LOOKED_AT)]
        for each in [*found]:
            if each.is_dir() and not each.name.startswith("."):
                found += islice(each.iterdir(), _MOST_LOOKED_AT)
    except OSError:
        return False
    endings = tuple(ending for name in sources.names() for ending in sources.source(name).SUFFIXES)
    return any(each.name.lower().endswith(endings) for each in found)


def open_site(folder: str | Path, *, at: str | None = None, index: bool = True) -> Site:
    """Open the site of a folder.

    ``at`` is a date such as ``2026-06-01T09:00`` in the site's zone and sets the clock; else the
    site's own clock counts, then SOURCE_DATE_EPOCH (seconds since 1970), then the time it is. Where ``index``
    is false, all content is read, and nothing is kept for the next time.
    Raises SiteError when the site file is missing or wrong, OptionError when ``at`` is no date.
    """
    path = Path(folder)
    if not os.path.lexists(path / SITE_FILE):
        raise SiteError([Problem("no-site", f"there is no {SITE_FILE} in {path}")])
    definition = read_definition(path)
    return Site(Content(definition, work=Work(index=index)), Clock(now(definition, at), definition.zone))


def journal_of(folder: Path) -> Journal:
    """Return the journal of the changes of a site, which stands beside its index and not in it.

    Who deletes the index, which may be done at any time, can still undo changes.
    """
    from elenchus.site.rows import SiteRows

    index = folders_for(folder)[0]
    return Journal(folder, index.with_name(f"{index.name}-changes"), SiteRows(folder))


def now(definition: Definition, at: str | None) -> int:
    """Return the one instant that a run takes for now, in microseconds since 1970."""
    if at is not None:
        return instant_of(definition, at)
    if definition.clock is not None:
        return definition.clock
    epoch = os.environ.get("SOURCE_DATE_EPOCH", "")
    if epoch.isascii() and epoch.isdigit():
        return int(epoch) * 1_000_000
    return time.time_ns() // 1000


def instant_of(definition: Definition, at: str) -> int:
    """Return the first instant of a date given by the user as ``--at``. Raises OptionError."""
    return interval_of(definition, at, "--at").start


def interval_of(definition: Definition, text: str, option: str) -> Interval:
    """Return what a date stands for that the user gave to an option. Raises OptionError."""
    found = literal_interval(text, definition.zone)
    if found is None:
        message = f"{option} {quoted(text)} is not a date"
        raise OptionError([Problem("bad-time", message, "Write 2026-06-01 or 2026-06-01T09:00.")])
    return found
