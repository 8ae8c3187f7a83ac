"""What a site's content consists of, by unit: which have changed since they were read, what each gave."""

from __future__ import annotations

import json
import time
from array import array
from hashlib import blake2b
from types import MappingProxyType
from typing import TYPE_CHECKING

import numpy as np

from elenchus import sources
from elenchus.frozen import Working, member
from elenchus.sources import Scan
from elenchus.values.kept import cached_property

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence
    from pathlib import Path

    from numpy.typing import NDArray

    from elenchus.errors import Problem
    from elenchus.sources import SourceSpec

__all__ = ["Seen", "Units", "matched", "scan"]

_SIGNS = 4  # whole numbers in a signature: size, times of change and of change of state, inode
# What is changed twice within a step of the clock looks the same both times. File systems count in steps of
# up to two seconds (FAT), so what is younger than that when it is looked at is read again the next time.
_STEP = 2_000_000_000


class Seen(Working):
    """The units of all sources as they are found now, and what stands among them and cannot be read.

    ``paths`` are below their source; ``sources`` says to which source each belongs. ``signatures``
    (units × 4) change when the units do, but perhaps not of those that are ``unsure``. ``notes`` are what
    each source keeps for the next scan. ``failures`` are those of sources that cannot be read now, by their
    numbers: what is found of these is what was found before.
    """

    paths: Sequence[str]
    sources: NDArray[np.int16]
    signatures: NDArray[np.int64]
    unsure: NDArray[np.bool_]
    problems: Sequence[Problem] = ()
    notes: Sequence[str] = ()
    failures: Mapping[int, Problem] = member(default_factory=dict)

    @cached_property
    def own_slugs(self) -> dict[str, dict[str, str]]:
        """The slugs that databases have for terms, by taxonomy and by the name that content has for them."""
        found: dict[str, dict[str, str]] = {}
        for note in self.notes:
            for taxonomy, names in _terms_in(note).items():
                found[taxonomy] = {**names, **found.get(taxonomy, {})}
        return found

    def of(self, source: int) -> Scan:
        """Return what was found of one source."""
        mine = np.flatnonzero(self.sources == source)
        signs = array("q", self.signatures[mine].astype(np.int64).tobytes())
        note = self.notes[source] if source < len(self.notes) else ""
        return Scan([self.paths[at] for at in mine.tolist()], signs, (), note)


class Units(Working):
    """Units as they were when they were read.

    ``digests`` (uint64) are those of their bytes, 0 of what could not be read. Their records are ``counts``
    many from ``firsts`` on. ``problems`` are by the number of the unit.
    """

    seen: Seen
    digests: NDArray[np.uint64]
    firsts: NDArray[np.int32]
    counts: NDArray[np.int32]
    problems: dict[int, list[Problem]]

    def live(self, size: int) -> NDArray[np.bool_]:
        """Return which of so many records belong to a unit."""
        edges = np.zeros(size + 1, dtype=np.int64)
        np.add.at(edges, self.firsts, 1)
        np.add.at(edges, self.firsts + self.counts, -1)
        found: NDArray[np.bool_] = np.cumsum(edges[:-1]) > 0
        return found

    def unit_of(self, record: int) -> int:
        """Return the number of the unit to which a record belongs, one of those that are live."""
        order, firsts = self._in_order
        return int(order[np.searchsorted(firsts, record, side="right") - 1])

    @cached_property
    def _in_order(self) -> tuple[NDArray[np.intp], NDArray[np.int32]]:
        """The units that have records, in the order of these, and where these begin."""
        some = np.flatnonzero(self.counts)
        order = some[np.argsort(self.firsts[some], kind="stable")]
        return order, self.firsts[order]

    def identity(self) -> str:
        """Return a digest of what the units are and hold: where it is the same, they give the same."""
        found = blake2b(digest_size=16)
        found.update("\n".join(self.seen.paths).encode("utf-8", "surrogatepass"))
        found.update(self.seen.sources.tobytes() + self.digests.tobytes())
        found.update(
            repr(self.seen.own_slugs).encode("utf-8", "surrogatepass") if self.seen.own_slugs else b""
        )
        found.update(repr([each.message for each in self.all_problems()]).encode("utf-8", "surrogatepass"))
        return found.hexdigest()

    def all_problems(self) -> list[Problem]:
        """Return what is wrong with units, in their order, behind what stands among them."""
        return [*self.seen.problems, *(each for at in sorted(self.problems) for each in self.problems[at])]


def _terms_in(note: str) -> dict[str, dict[str, str]]:
    """Return what the note of a source says of terms; a note can be anything."""
    try:
        told = json.loads(note)["terms"] if note else {}
        return {
            taxonomy: {name: str(slug) for name, slug in names.items()} for taxonomy, names in told.items()
        }
    except (ValueError, LookupError, TypeError, AttributeError, RecursionError):
        return {}


def scan(
    specs: Sequence[SourceSpec],
    folder: Path,
    before: Seen | None = None,
    failed: Mapping[int, Problem] = MappingProxyType({}),
) -> Seen:
    """Return the units of some sources, none of which is read; ``before`` are those of the last run.

    Sources that have ``failed`` are not asked again. Raises UnreachableError.
    """
    failures = dict(failed)
    paths: list[str] = []
    problems: list[Problem] = []
    signatures, numbers, notes = [], [], []
    looked_at = time.time_ns()
    for number, spec in enumerate(specs):
        source = sources.source(spec.read)
        looks_back = before is not None and not (source.SUFFIXES and spec.paths)  # of files nothing is kept
        known = before.of(number) if before and looks_back else None
        if number in failures:
            found = known or Scan([], array("q"), [])
        else:
            try:
                found = source.scan(spec, folder, known)
            except sources.UnreachableError as error:
                raise sources.UnreachableError(error.problem, number) from None
        if found.failure:
            failures[number] = found.failure
        notes.append(found.note)
        paths += found.units
        problems += found.problems
        numbers.append(np.full(len(found.units), number, dtype=np.int16))
        signatures.append(np.array(found.signatures, dtype=np.int64).reshape(-1, _SIGNS))
    signs = np.concatenate(signatures) if signatures else np.zeros((0, _SIGNS), dtype=np.int64)
    unsure: NDArray[np.bool_] = np.maximum(signs[:, 1], signs[:, 2]) > looked_at - _STEP
    of_source = np.concatenate(numbers) if numbers else np.zeros(0, np.int16)
    return Seen(paths, of_source, signs, unsure, problems, notes, failures)


def matched(now: Seen, before: Seen) -> NDArray[np.int64]:
    """Return for each unit its number before, -1 for a new one."""
    if now.paths == before.paths and np.array_equal(now.sources, before.sources):
        return np.arange(len(now.paths))
    pairs = zip(before.sources.tolist(), before.paths, strict=True)
    numbers = {pair: number for number, pair in enumerate(pairs)}
    found = (numbers.get(pair, -1) for pair in zip(now.sources.tolist(), now.paths, strict=True))
    return np.fromiter(found, dtype=np.int64, count=len(now.paths))
