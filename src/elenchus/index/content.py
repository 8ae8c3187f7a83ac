"""The content of a site, read as far as it has changed since it was last read."""

from __future__ import annotations

from collections import defaultdict
from datetime import datetime
from functools import partial
from threading import Thread
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from elenchus.errors import ElenchusError, Problem, SourceError
from elenchus.frozen import replace
from elenchus.index.collecting import without_collecting
from elenchus.index.store import ROOT, digest_of_sources, opened, rebuilt
from elenchus.index.units import Units, matched, scan
from elenchus.sources import UnreachableError
from elenchus.values.kept import cached_property

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping, Sequence
    from pathlib import Path

    from numpy.typing import NDArray

    from elenchus.engine.columns.dataset import Dataset
    from elenchus.engine.columns.recordtable import RecordTable
    from elenchus.index.reading import Chunk
    from elenchus.index.store import KeptIndex, Wanted
    from elenchus.index.work import Work
    from elenchus.sources import UnitContent

__all__ = ["Facts", "Found", "content", "facts_of", "kept_content", "reread", "with_units"]

_MOST_DEAD = 0.25  # share of records of units that are gone or changed, from which on all is written anew


class Found(NamedTuple):
    """The content of a site: its tables, the records that they are made of, and which of these are in use.

    ``problems`` are those of ``units`` that cannot be read. ``identity`` is the same where all of it is.
    ``failures`` are those of databases that cannot be read now: of these it is what was read before.
    """

    dataset: Dataset
    records: Callable[[], RecordTable]
    live: Callable[[], NDArray[np.bool_]]
    problems: Callable[[], list[Problem]]
    identity: Callable[[], str]
    units: Units
    failures: Sequence[Problem] = ()


class _State:
    """The content of a site in the making: its units now, and how they differ from those kept."""

    def __init__(self, wanted: Wanted, kept: KeptIndex | None, failed: Mapping[int, Problem]) -> None:
        self.wanted = wanted
        self.kept = kept
        before = self.kept.units.seen if self.kept else None
        self.seen = scan(wanted.specs, wanted.folder, before, failed)
        self.number = (
            matched(self.seen, self.kept.units.seen) if self.kept else np.full(len(self.seen.paths), -1)
        )

    @cached_property
    def changed(self) -> NDArray[np.bool_]:
        """Which units are new, or look otherwise than before."""
        if self.kept is None or not len(self.kept.units.seen.paths):
            return np.ones(len(self.seen.paths), np.bool_)
        signatures = self.kept.units.seen.signatures[np.maximum(self.number, 0)]
        same: NDArray[np.bool_] = (self.number >= 0) & (self.seen.signatures == signatures).all(axis=1)
        return ~same

    @cached_property
    def to_read(self) -> NDArray[np.intp]:
        """The units that must be looked into: those that have changed, or may have without looking so."""
        wanted = self.changed.copy()
        if self.kept:
            known = self.number >= 0
            wanted[known] |= self.kept.units.seen.unsure[self.number[known]]
        wanted &= ~np.isin(self.seen.sources, list(self.seen.failures))
        return np.flatnonzero(wanted)

    @property
    def is_whole(self) -> bool:
        """Say whether there are the same units as before, and the same besides that cannot be read."""
        if self.kept is None:
            return False
        before = self.kept.units.seen
        is_as_many = len(self.seen.paths) == len(before.paths) and bool((self.number >= 0).all())
        return is_as_many and list(self.seen.problems) == list(before.problems)

    @property
    def is_same_site(self) -> bool:
        """Say whether what content means is as it was."""
        return self.kept is not None and self.kept.meta["definition"] == self.wanted.digest

    @property
    def has_same_terms(self) -> bool:
        """Say whether databases have the terms that they had before."""
        if self.kept is None:
            return False
        before = self.kept.units.seen
        return list(self.seen.notes) == list(before.notes) or self.seen.own_slugs == before.own_slugs

    def chunk(self, work: Work) -> Chunk:
        """Read the units that must be."""
        from elenchus.index.reading import read_all

        sources = self.seen.sources[self.to_read].tolist()
        units = [
            (number, self.seen.paths[at]) for number, at in zip(sources, self.to_read.tolist(), strict=True)
        ]
        are_files = [bool(spec.paths) and spec.table is None for spec in self.wanted.specs]
        sizes = self.seen.signatures[self.to_read, 0].tolist()
        sizes = [size if are_files[number] else 0 for size, number in zip(sizes, sources, strict=True)]
        known = [0] * len(units)
        if self.kept:
            digests = self.kept.units.digests
            numbers = self.number[self.to_read].tolist()
            known = [int(digests[at]) if at >= 0 else 0 for at in numbers]
        return read_all(work, self.wanted.specs, self.wanted.folder, units, known, sizes)

    def units(self, chunk: Chunk) -> Units:
        """Return the units with what they gave, now or before."""
        count = len(self.seen.paths)
        digests = np.zeros(count, dtype=np.uint64)
        firsts, counts = np.zeros((2, count), dtype=np.int32)
        problems: dict[int, list[Problem]] = {}
        fresh = np.zeros(count, np.bool_)
        fresh[self.to_read[~chunk.is_same]] = True
        first = 0
        if self.kept:
            before, old = self.kept.units, np.flatnonzero(~fresh)
            number = self.number[old]
            digests[old], firsts[old] = before.digests[number], before.firsts[number]
            counts[old] = before.counts[number]
            if before.problems:
                where = dict(zip(number.tolist(), old.tolist(), strict=True))
                problems = {where[at]: each for at, each in before.problems.items() if at in where}
            first = self.kept.size
        new = self.to_read[~chunk.is_same]
        digests[new], counts[new] = chunk.digests[~chunk.is_same], chunk.counts[~chunk.is_same]
        firsts[new] = first + np.cumsum(counts[new]) - counts[new]
        problems |= {int(self.to_read[at]): each for at, each in chunk.problems.items()}
        return Units(self.seen, digests, firsts, counts, problems)


def content(wanted: Wanted, work: Work) -> Found:
    """Return the content of a site: from its index, as far as that still holds, else from its sources.

    Raises SiteError when a file of terms cannot be read.
    """
    kept, notice = opened(wanted.folder) if work.index else (None, None)
    if notice and work.tell:
        work.tell(notice)
    if kept is None:
        return _content(wanted, work, None)
    try:
        return _content(wanted, work, kept)
    except ElenchusError:
        raise
    except Exception:  # an index comes with its site: whatever is wrong in it, the content is read instead
        if work.tell:
            work.tell(rebuilt(kept.folder))
        return _content(wanted, work, None)


def _content(wanted: Wanted, work: Work, kept: KeptIndex | None) -> Found:
    """Return the content of a site, see :func:`content`.

    A database is read whole or not at all: of one that fails in the middle it has what was read before.
    """
    failed: dict[int, Problem] = {}
    kept = kept if kept and kept.meta["sources"] == digest_of_sources(wanted.specs) else None
    while True:
        try:
            state = _State(wanted, kept, failed)
            return _with_failures(_read(state, work), state, work)
        except UnreachableError as error:
            if (kept is None or error.source in failed) and not work.lenient:
                hint = f"Nothing of it was read before, so there is no answer. {error.problem.advice}"
                raise SourceError([replace(error.problem, advice=hint)]) from None
            failed[error.source] = error.problem


def _with_failures(found: Found, state: _State, work: Work) -> Found:
    """Return content with the failures of sources, which are told."""
    if not state.seen.failures:
        return found
    if state.kept is None:
        return found._replace(failures=list(state.seen.failures.values()))
    read = datetime.fromtimestamp((state.kept.folder / ROOT).stat().st_mtime, state.wanted.zone)
    hint = f"Its entries are those of the last whole read, {read:%Y-%m-%d %H:%M}."
    failures = [replace(each, advice=hint) for each in state.seen.failures.values()]
    by_message: dict[str, list[Problem]] = defaultdict(list)
    for each in failures:
        by_message[each.message].append(each)
    for message, group in by_message.items():
        names = ", ".join(str(each.place) for each in group)
        if work.tell:
            work.tell(Problem(failures[0].code, f"{names}: {message}", hint))
    return found._replace(failures=failures)


def _read(state: _State, work: Work) -> Found:
    """Return the content of a site, from its index as far as that holds. Raises UnreachableError."""
    wanted = state.wanted
    kept = state.kept if state.is_whole and state.is_same_site and state.has_same_terms else None
    is_noted = kept is not None and list(state.seen.notes) == list(kept.units.seen.notes)
    if kept and kept.is_sure and is_noted and not len(state.to_read):
        return kept_content(kept, wanted)
    chunk = state.chunk(work)
    units = state.units(chunk)
    if kept and chunk.is_same.all():
        from elenchus.index.saving import save_units

        save_units(kept, units)
        return kept_content(kept, wanted)
    return _made(state, units, chunk, work)


@without_collecting()
def _made(state: _State, units: Units, chunk: Chunk, work: Work) -> Found:
    """Return the content whose units have changed, and leave it to the next run."""
    from elenchus.engine.columns.build import Since, assemble
    from elenchus.index.records import only_live
    from elenchus.index.saving import save

    wanted, records, known = state.wanted, chunk.records, None
    if state.kept:
        records = state.kept.records(wanted)
        records = records.with_more(chunk.records) if len(chunk.records) else records
        known = state.kept.dataset(wanted) if state.is_same_site and state.has_same_terms else None
    live = units.live(len(records))
    if len(live) and 1 - live.mean() > _MOST_DEAD:
        moved = np.append(np.cumsum(live) - 1, 0).astype(np.int32)
        units = Units(units.seen, units.digests, moved[units.firsts], units.counts, units.problems)
        records, known = only_live(records, live), None
        live = np.ones(len(records), np.bool_)
    problems, since = units.all_problems(), Since(live, known, units.seen.own_slugs)
    dataset = assemble(wanted.schema, records, wanted.terms(), wanted.zone, problems, since)
    if state.seen.failures:  # what is kept is whole
        pass
    elif work.aside and work.index:
        Thread(target=save, args=(wanted, units, records, dataset)).start()
    elif work.index:
        save(wanted, units, records, dataset)
    identity = partial(_identity, units, wanted)
    return Found(dataset, lambda: records, lambda: live, units.all_problems, identity, units)


def kept_content(kept: KeptIndex, wanted: Wanted) -> Found:
    """Return the content that an index has."""
    dataset, records = kept.dataset(wanted), partial(kept.records, wanted)
    identity = partial(_identity, kept.units, wanted)
    return Found(dataset, records, kept.live, kept.units.all_problems, identity, kept.units)


def _identity(units: Units, wanted: Wanted) -> str:
    """Return a digest of units, of how they are read, and of what says what they mean."""
    return f"{units.identity()} {digest_of_sources(wanted.specs)} {wanted.digest}"


def reread(found: Found, wanted: Wanted, contents: Mapping[int, UnitContent]) -> Chunk:
    """Return what some units, by their numbers in ascending order, would give if they held something else."""
    from elenchus.index.reading import read_contents

    seen = found.units.seen
    named = [(int(seen.sources[at]), seen.paths[at], each) for at, each in contents.items()]
    return read_contents(wanted.specs, wanted.folder, named)


def with_units(found: Found, wanted: Wanted, chosen: Sequence[int], chunk: Chunk) -> Found:
    """Return the content as it would be if some units gave something else: see :func:`reread`.

    Nothing is kept of it. Raises SiteError.
    """
    from elenchus.engine.columns.build import Since, assemble

    units, seen = found.units, found.units.seen
    size = len(found.records())
    firsts, counts = units.firsts.copy(), units.counts.copy()
    places = list(chosen)
    firsts[places], counts[places] = size + np.cumsum(chunk.counts) - chunk.counts, chunk.counts
    problems = {at: each for at, each in units.problems.items() if at not in chosen}
    problems |= {chosen[at]: each for at, each in chunk.problems.items()}
    changed = Units(seen, units.digests, firsts, counts, problems)
    records = found.records().with_more(chunk.records)
    live = changed.live(len(records))
    since = Since(live, found.dataset, units.seen.own_slugs)
    told = changed.all_problems()
    dataset = assemble(wanted.schema, records, wanted.terms(), wanted.zone, told, since)
    return Found(dataset, lambda: records, lambda: live, lambda: told, lambda: "", changed)


class Facts(NamedTuple):
    """What an index is: where it stands, when it was made (microseconds since 1970), its sizes in bytes.

    ``sections`` are its largest parts, by name. Where it does not hold, ``why`` tells what is otherwise now.
    """

    folder: Path
    made: int
    entries: int
    units: int
    size: int
    sections: Sequence[tuple[str, int]]
    holds: bool
    why: str


def facts_of(wanted: Wanted) -> Facts | None:
    """Return what is to be told of a site's index, None where there is none that can be used.

    Raises SourceError.
    """
    kept, _ = opened(wanted.folder)
    if kept is None:
        return None
    is_same = kept.meta["sources"] == digest_of_sources(wanted.specs)
    try:
        state = _State(wanted, kept if is_same else None, {})
    except UnreachableError as error:
        raise SourceError([error.problem]) from None
    gone = len(kept.units.seen.paths) - int(np.count_nonzero(state.number >= 0))
    changed = int(np.count_nonzero(state.changed)) + gone
    files = f"{changed} files have changed" if changed != 1 else "1 file has changed"
    why = files if changed else "" if state.is_same_site else "the site file or a file of terms has changed"
    return Facts(
        folder=kept.folder,
        made=kept.paths[-1].stat().st_mtime_ns // 1000,
        entries=len(kept.parts["tables"].array("records")),
        units=len(kept.units.seen.paths),
        size=sum(path.stat().st_size for path in kept.paths),
        sections=kept.sizes(wanted),
        holds=not why and state.is_whole,
        why=why or "what stands among the files has changed",
    )
