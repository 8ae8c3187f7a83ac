"""Pending edits, which nobody is shown yet: ``name.edit.md`` beside ``name.md``, or a column of a row."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.asking.names import row_named
from elenchus.editing.changing import ContentChange, TableChange, content_change, write_change
from elenchus.editing.columns import has_row_edit, pending_rows, row_edits, with_row_edits
from elenchus.errors import FolderError, NoSuchName, Problem, SiteError
from elenchus.files import is_file, read_whole
from elenchus.frozen import Working
from elenchus.index.content import reread
from elenchus.journal import FileChange
from elenchus.schema.subject import ENTRIES
from elenchus.site.site import Site
from elenchus.sources import content_of, edit_beside
from elenchus.values.kept import cached_property
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from elenchus.journal import MadeChange

__all__ = ["Approval", "approval", "has_edit", "pending", "with_edits"]


class Approval(Working):
    """Pending edits that become what is published, and the ``site`` before.

    ``edits`` are the units that have one in a file beside them, with that; ``rows`` is what becomes of rows.
    """

    site: Site
    edits: tuple[tuple[int, str], ...]
    rows: ContentChange

    @property
    def count(self) -> int:
        """How many edits there are."""
        return len(self.edits) + len(self.rows.entries)

    @cached_property
    def files(self) -> tuple[FileChange, ...]:
        """The files as they would be: those of entries changed, those of edits gone. Raises FolderError."""
        return tuple(_files_of(self.site, self.edits))

    @cached_property
    def after(self) -> Site:
        """The site with the edits. Raises SiteError where one cannot be read."""
        return _with_files(self.rows.after if self.rows.entries else self.site, self.edits, self.files)

    @property
    def is_empty(self) -> bool:
        """Say whether nothing changes."""
        return not self.count

    @property
    def tables(self) -> tuple[TableChange, ...]:
        """The rows of databases that change."""
        return self.rows.tables

    @property
    def reaches(self) -> bool:
        """Say whether listings or pages can have other entries."""
        return not self.is_empty

    def write(self, told: str, tick: Callable[[], None] = lambda: None) -> MadeChange:
        """Write the files and rows, all of them or none. Raises FolderError, SiteError."""
        if self.rows.entries:
            _ = self.rows.reread
        return write_change(self.site, told, (*self.files, *self.rows.files), self.rows.tables, tick)


def _files_of(site: Site, edits: Sequence[tuple[int, str]]) -> list[FileChange]:
    """Return the files of entries, changed as those of their edits have it, and these gone."""
    root, paths = site.definition.folder, site.content.found.units.seen.paths
    found: list[FileChange] = []
    for unit, name in edits:
        try:
            before, after = read_whole(root / paths[unit]), read_whole(root / name)
        except OSError as error:
            message = f"{name} cannot be read ({error.strerror})"
            raise FolderError([Problem("cannot-write", message, "Let it be read.")]) from None
        found += [FileChange(paths[unit], before, after), FileChange(name, after, None)]
    return found


def _with_files(site: Site, edits: Sequence[tuple[int, str]], files: Sequence[FileChange]) -> Site:
    """Return the site with edits in files. Raises SiteError where one cannot be read."""
    if not edits:
        return site
    contents = {
        unit: content_of(file.after or b"") for (unit, _), file in zip(edits, files[::2], strict=True)
    }
    content = site.content
    chunk = reread(content.found, content.wanted, contents)
    if chunk.problems:
        raise SiteError([each for problems in chunk.problems.values() for each in problems])
    return Site(content.with_units(list(contents), chunk), site.clock)


def _in_files(site: Site) -> list[tuple[int, str]]:
    """Return the units that have a pending edit beside them, in their order, with the files of these."""
    seen, specs = site.content.found.units.seen, site.definition.sources
    pairs = enumerate(zip(seen.paths, seen.sources.tolist(), strict=True))
    beside = ((unit, edit_beside(specs[number], path)) for unit, (path, number) in pairs)
    return [(unit, name) for unit, name in beside if name and is_file(site.definition.folder / name)]


def pending(site: Site) -> list[str]:
    """Return the ids of the entries that have a pending edit."""
    names, units = site.dataset.entries.names, {unit for unit, _ in _in_files(site)}
    rows = set(pending_rows(site))
    if units:
        rows |= {row for row in range(len(names.ids)) if _unit_of(site, row) in units}
    return [names.ids[row] for row in sorted(rows)]


def has_edit(site: Site, name: str) -> bool:
    """Say whether an entry, by its id, has a pending edit."""
    row = site.dataset.row_of_id(name)
    unit = _unit_of(site, row)
    seen = site.content.found.units.seen
    beside = edit_beside(site.definition.sources[int(seen.sources[unit])], seen.paths[unit])
    return (bool(beside) and is_file(site.definition.folder / beside)) or has_row_edit(site, row)


def _unit_of(site: Site, row: int) -> int:
    """Return the unit in which an entry stands."""
    return site.content.found.units.unit_of(int(site.dataset.entries.names.records[row]))


def with_edits(site: Site) -> Site:
    """Return the site as it would be with all pending edits. Raises SiteError where one cannot be read.

    Rows of databases that are never written can have edits as well, so nothing is changed to look at them.
    """
    edits = _in_files(site)
    return _with_files(with_row_edits(site), edits, _files_of(site, edits))


def approval(site: Site, names: Sequence[str]) -> Approval:
    """Return what becomes of the site when the edits of some entries are published, of all if none is named.

    Raises NoSuchName for no entry, and for one without an edit, SiteError where one cannot be read.
    """
    data, beside = site.dataset, dict(_in_files(site))
    units, rows = list(beside), pending_rows(site)
    if names:
        chosen = {name: data.row_of_id(row_named(data, ENTRIES, name)) for name in names}
        with_column = set(rows)
        for name, row in chosen.items():
            if _unit_of(site, row) not in beside and row not in with_column:
                message = f"{quoted(name)} has no pending edit"
                hint = f"Pending: {', '.join(pending(site)) or 'none'}."
                raise NoSuchName([Problem("no-edit", message, hint)])
        units = sorted({_unit_of(site, row) for row in chosen.values()} & set(beside))
        rows = sorted(set(chosen.values()) & with_column)
    edits = tuple((unit, beside[unit]) for unit in units)
    return Approval(site, edits, content_change(site, row_edits(site, rows)))
