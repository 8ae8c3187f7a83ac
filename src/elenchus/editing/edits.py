"""Pending edits: ``name.edit.md`` beside ``name.md`` is what that is to become, and nobody is shown yet."""

from __future__ import annotations

from functools import cached_property
from typing import TYPE_CHECKING

from elenchus.asking.names import row_named
from elenchus.comparing.differences import Difference, difference
from elenchus.comparing.showing import Showing
from elenchus.errors import FolderError, NoSuchName, Problem, SiteError
from elenchus.files import is_file, read_whole
from elenchus.frozen import Working
from elenchus.index.content import reread
from elenchus.journal import FileChange
from elenchus.schema.subject import ENTRIES
from elenchus.site.site import Site, journal_of
from elenchus.sources import content_of, edit_beside
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Callable, Collection, Sequence

    from elenchus.journal import MadeChange

__all__ = ["Approval", "approval", "has_edit", "pending", "with_edits"]


class Approval(Working):
    """Pending edits that become what is published: the ``files`` of both sorts, and the ``site`` before."""

    site: Site
    edits: tuple[tuple[int, str], ...]

    @cached_property
    def files(self) -> tuple[FileChange, ...]:
        """The files as they would be: those of entries changed, those of edits gone. Raises FolderError."""
        root, paths = self.site.definition.folder, self.site.content.found.units.seen.paths
        found: list[FileChange] = []
        for unit, name in self.edits:
            try:
                before, after = read_whole(root / paths[unit]), read_whole(root / name)
            except OSError as error:
                message = f"{name} cannot be read ({error.strerror})"
                raise FolderError([Problem("cannot-write", message, "Let it be read.")]) from None
            found += [FileChange(paths[unit], before, after), FileChange(name, after, None)]
        return tuple(found)

    @cached_property
    def after(self) -> Site:
        """The site with the edits. Raises SiteError where one cannot be read."""
        contents = {
            unit: content_of(file.after or b"")
            for (unit, _), file in zip(self.edits, self.files[::2], strict=True)
        }
        content = self.site.content
        chunk = reread(content.found, content.wanted, contents)
        if chunk.problems:
            raise SiteError([each for problems in chunk.problems.values() for each in problems])
        return Site(content.with_units(list(contents), chunk), self.site.clock)

    @cached_property
    def effect(self) -> Difference:
        """What listings and pages gain and lose."""
        before = Showing(self.site)
        return difference(before, before.beside(self.after))

    def write(self, told: str, tick: Callable[[], None] = lambda: None) -> MadeChange:
        """Write the files, all of them or none. Raises FolderError."""
        return journal_of(self.site.definition.folder).write(told, self.files, tick)


def pending(site: Site) -> list[tuple[int, str]]:
    """Return the units that have a pending edit, in their order, with the files of these."""
    seen, specs = site.content.found.units.seen, site.definition.sources
    pairs = enumerate(zip(seen.paths, seen.sources.tolist(), strict=True))
    beside = ((unit, edit_beside(specs[number], path)) for unit, (path, number) in pairs)
    return [(unit, name) for unit, name in beside if name and is_file(site.definition.folder / name)]


def has_edit(site: Site, name: str) -> bool:
    """Say whether an entry, by its id, has a pending edit."""
    unit = _unit_of(site, name)
    spec = site.definition.sources[int(site.content.found.units.seen.sources[unit])]
    beside = edit_beside(spec, site.content.found.units.seen.paths[unit])
    return bool(beside) and is_file(site.definition.folder / beside)


def _unit_of(site: Site, name: str) -> int:
    """Return the unit in which an entry stands."""
    names = site.dataset.entries.names
    return site.content.found.units.unit_of(int(names.records[names.row(name)]))


def with_edits(site: Site) -> Site:
    """Return the site as it would be with all pending edits. Raises SiteError where one cannot be read."""
    edits = pending(site)
    return Approval(site, tuple(edits)).after if edits else site


def approval(site: Site, names: Sequence[str]) -> Approval:
    """Return what becomes of the site when the edits of some entries are published, of all if none is named.

    Raises NoSuchName for no entry, and for one without an edit.
    """
    edits = dict(pending(site))
    wanted: Collection[int] = edits
    if names:
        units = [_unit_of(site, row_named(site.dataset, ENTRIES, name)) for name in names]
        wanted = sorted(set(units))
        for unit, name in zip(units, names, strict=True):
            if unit not in edits:
                message = f"{quoted(name)} has no pending edit"
                hint = f"Pending: {', '.join(edits.values()) or 'none'}."
                raise NoSuchName([Problem("no-edit", message, hint)])
    return Approval(site, tuple((unit, edits[unit]) for unit in wanted))
