"""Which records are entries: those of a known kind with a slug that can be an address, one for each id.

A slug that was made of a title or a name is no claim: if another entry has it already, it gets a number.
"""

from __future__ import annotations

from collections import defaultdict
from typing import TYPE_CHECKING, Literal, NamedTuple

import numpy as np

from elenchus.engine.columns.strings import ranks_of
from elenchus.errors import OwnName, Place
from elenchus.schema.identity import id_of, numbered_slugs, taken_name, unknown_kind, unsafe_slug_of
from elenchus.values.slugs import unsafe_slug
from elenchus.values.texts import fold

if TYPE_CHECKING:
    from collections.abc import Mapping

    from numpy.typing import NDArray

    from elenchus.engine.columns.lexicon import Lexicon
    from elenchus.engine.columns.recordnames import RecordNames
    from elenchus.engine.columns.recordtable import RecordTable
    from elenchus.errors import Problem
    from elenchus.schema.types import Schema

__all__ = ["Claims", "settled"]


class Claims(NamedTuple):
    """Which records are entries, the slugs of those that got a number, and what is to be told."""

    kept: NDArray[np.bool_]
    numbered: Mapping[int, str]
    problems: list[Problem]
    notes: list[Problem]


def settled(written: RecordTable, names: RecordNames, schema: Schema, live: NDArray[np.bool_]) -> Claims:
    """Return which of the live records are entries."""
    return _Settling(written, names, schema, live).settle()


class _Settling:
    """The claims of records to their ids, while they are settled."""

    def __init__(
        self, written: RecordTable, names: RecordNames, schema: Schema, live: NDArray[np.bool_]
    ) -> None:
        self.written = written
        self.names = names
        self.schema = schema
        self.live = live
        self.kept = live & (names.kinds >= 0)
        self.numbered: dict[int, str] = {}
        self.problems: list[Problem] = []
        self.notes: list[Problem] = []

    def settle(self) -> Claims:
        """Leave out what is no entry, and number the slugs that were made twice."""
        for record in np.flatnonzero(self.live & ~self.kept).tolist():
            place = self.place_of(record, "kind")
            self.problems.append(unknown_kind(self.names.unknown[record], self.schema, place))
        self.leave_out_unsafe()
        slugs, ids = self.names.slugs.codes[:-1], self.names.ids.codes[:-1]
        if self.are_doubled(slugs):
            of_kinds = self.names.kinds.astype(np.int64) * (len(slugs) + 1)
            self.tell_apart(of_kinds + slugs, "slug")
        if self.are_doubled(ids):
            self.tell_apart(ids.astype(np.int64), "id")
        self.tell_numbers()
        return Claims(self.kept, self.numbered, self.problems, self.notes)

    def are_doubled(self, codes: NDArray[np.int32]) -> bool:
        """Say whether some entries have the same code."""
        return int(np.bincount(codes[self.kept], minlength=1).max(initial=0)) > 1

    def leave_out_unsafe(self) -> None:
        """Leave out the records whose own slug can be no part of an address."""
        cells = self.written.cells.get("slug")
        if cells is None or not len(cells):
            return
        used = np.unique(cells.codes)
        values = zip(used.tolist(), cells.values(used), strict=True)
        wrong = {code: why for code, text in values if text and (why := unsafe_slug(str(text)))}
        for at in np.flatnonzero(np.isin(cells.codes, list(wrong))).tolist():
            record = int(cells.owners[at])
            if self.kept[record]:
                self.kept[record] = False
                slug = str(cells.value(int(cells.codes[at])))
                why = wrong[int(cells.codes[at])]
                self.problems.append(unsafe_slug_of(slug, why, self.place_of(record, "slug")))

    def tell_apart(self, claims: NDArray[np.int64], what: Literal["slug", "id"]) -> None:
        """Give each slug of a kind, or each id, to one of the records that have it.

        It is the one of the source that the site prefers, or else the first by its place. Another one for
        which a slug was made gets another slug, if the first is of the same source.
        """
        mine = self.kept.copy()
        mine[list(self.numbered)] = False
        taken, counts = np.unique(claims[mine], return_counts=True)
        if counts.max(initial=0) <= 1:
            return
        doubtful = np.flatnonzero(mine & np.isin(claims, taken[counts > 1]))
        says_so = np.zeros(len(claims), np.bool_)
        if cells := self.written.cells.get(what):
            says_so[cells.owners] = True
        ranks, paths, sources = self.ranks(), ranks_of(self.written.paths[:]), self.written.sources
        files, lines = paths[self.written.files[doubtful]], self.written.lines[doubtful]
        order = np.lexsort((lines, files, ranks[doubtful]))
        owners: dict[int, int] = {}
        losers: dict[int, list[int]] = defaultdict(list)
        last: dict[int, int] = {}
        for record in doubtful[order].tolist():
            claim = int(claims[record])
            owner = owners.setdefault(claim, record)
            if owner == record:
                continue
            is_made = what == "slug" and not says_so[record] and sources[owner] == sources[record]
            if is_made:
                self.numbered[record], last[claim] = self.free_slug(record, last.get(claim, 1))
                continue
            self.kept[record] = False
            if ranks[owner] == ranks[record]:  # else the site says which one counts
                losers[owner].append(record)
        for owner, records in losers.items():
            places = [self.place_of(record, what) for record in records]
            names = self.names.slugs if what == "slug" else self.names.ids
            cure = OwnName(what, list(self.schema.kinds)[int(self.names.kinds[owner])], tuple(records))
            first = self.written.place(owner)
            self.problems.append(taken_name(names.texts[records[0]], cure, first, places))

    def free_slug(self, record: int, number: int) -> tuple[str, int]:
        """Return the slug of a record with the next number that makes it one of its own, and that number."""
        kind = list(self.schema.kinds)[int(self.names.kinds[record])]
        slug = self.names.slugs.texts[record]
        while True:
            number += 1
            name = f"{slug}-{number}"
            taken = self.known(self.names.slugs, name) or self.known(self.names.ids, id_of(kind, name))
            if not taken:
                return name, number

    def known(self, names: Lexicon, name: str) -> bool:
        """Say whether some record that is an entry has a name."""
        code = names.find(fold(name))
        return code >= 0 and bool(self.kept[names.codes[:-1] == code].any())

    def tell_numbers(self) -> None:
        """Note for each kind how many slugs got a number."""
        by_kind: dict[int, list[int]] = defaultdict(list)
        for record in self.numbered:
            by_kind[int(self.names.kinds[record])].append(record)
        for number, records in by_kind.items():
            kind, first = list(self.schema.kinds)[number], min(records, key=self.written.place)
            titles = self.written.cells.get("title")
            title = titles.of(first) if titles else None
            name = str(title.value) if title and title.value else self.names.slugs.texts[first]
            place = self.written.place(first)
            self.notes.append(numbered_slugs(kind, len(records), name, self.numbered[first], place))

    def ranks(self) -> NDArray[np.int64]:
        """Return how far back the source of each record stands among those that the site prefers."""
        prefer = self.schema.prefer
        ranks = [
            prefer.index(each.source) if each.source in prefer else len(prefer)
            for each in self.written.habits
        ]
        return np.array(ranks or [0], dtype=np.int64)[self.written.sources]

    def place_of(self, record: int, *names: str) -> Place:
        """Return where a record writes the first of some keys that it has, else where it stands."""
        place = self.written.place(record)
        for name in names:
            cells = self.written.cells.get(name)
            if raw := cells.of(record) if cells else None:
                return Place(place.file, raw.line)
        return place
