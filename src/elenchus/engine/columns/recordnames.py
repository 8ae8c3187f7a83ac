"""What records are called: their kinds, slugs and ids, as they write them or as their places suggest."""

from __future__ import annotations

from hashlib import blake2b
from typing import TYPE_CHECKING

import numpy as np

from elenchus.engine.columns.lexicon import Lexicon
from elenchus.engine.columns.strings import Strings
from elenchus.frozen import Frozen
from elenchus.schema.identity import id_of
from elenchus.values.wording import as_text

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping

    from numpy.typing import NDArray

    from elenchus.engine.columns.recordtable import RecordTable
    from elenchus.schema.types import Schema

__all__ = ["RecordNames", "digests"]


class RecordNames(Frozen):
    """What the records of a site are called, each by its number.

    ``kinds`` are places in the schema's kinds, -1 for a kind that it has not; ``unknown`` the words for
    those. ``digests`` are 64 bits of each id. ``has_numbers`` says whether some slugs got a number since
    other records have them.
    """

    kinds: NDArray[np.int16]
    slugs: Lexicon
    ids: Lexicon
    unknown: Mapping[int, str]
    digests: NDArray[np.uint64]
    has_numbers: bool = False

    @classmethod
    def read(cls, written: RecordTable, schema: Schema, base: RecordNames | None = None) -> RecordNames:
        """Return the names of records; what is known of the first ones is taken from ``base``."""
        first = len(base.kinds) if base else 0
        numbers = {name: number for number, name in enumerate(schema.kinds)}
        own = {name: _own(written, name, first) for name in ("kind", "slug", "id")}
        words = [written.kind_names[at] for at in written.kinds[first:].tolist()]
        slugs = written.slugs[first:]
        has_slugs = len(own["slug"][0]) > 0
        words, slugs = _replaced(words, own["kind"]), _replaced(slugs, own["slug"])
        is_known = len(own["id"][0]) == len(slugs)  # all say what they are called
        ids = _replaced(own["id"][1] if is_known else list(map(id_of, words, slugs)), own["id"])
        kinds = np.array([numbers.get(word, -1) for word in words], dtype=np.int16)
        unknown = {at + first: words[at] for at in np.flatnonzero(kinds < 0).tolist()}
        if base is None:
            of_slugs = Lexicon(Strings.of(slugs) if has_slugs else written.slugs)
            return cls(kinds, of_slugs, Lexicon.of(ids), unknown, digests(ids))
        return cls(
            np.concatenate((base.kinds, kinds)),
            base.slugs.with_more(slugs),
            base.ids.with_more(ids),
            {**base.unknown, **unknown},
            np.concatenate((base.digests, digests(ids))),
        )

    def with_slugs(self, numbered: Mapping[int, str], schema: Schema) -> RecordNames:
        """Return the names with other slugs for some records, and with the ids that are made of these."""
        kinds = list(schema.kinds)
        slugs, ids = self.slugs.texts[:], self.ids.texts[:]
        known = self.digests.copy()
        for record, slug in numbered.items():
            made = id_of(kinds[int(self.kinds[record])], slugs[record])
            if ids[record] == made:  # else it says what it is called
                ids[record] = id_of(kinds[int(self.kinds[record])], slug)
            slugs[record] = slug
        records = list(numbered)
        known[records] = digests([ids[record] for record in records])
        names = (self.kinds, Lexicon.of(slugs), Lexicon.of(ids))
        return RecordNames(*names, self.unknown, known, has_numbers=True)


def _own(written: RecordTable, name: str, first: int) -> tuple[NDArray[np.int64], list[str]]:
    """Return which records from one on, counted from it, write a text for a key, and those texts."""
    cells = written.cells.get(name)
    if cells is None:
        return np.zeros(0, dtype=np.int64), []
    at = int(np.searchsorted(cells.owners, first))
    texts = cells.values(cells.codes[at:])
    if cells.forms.any():
        texts = ["" if value is None else as_text(value) for value in texts]
    owners = cells.owners[at:].astype(np.int64) - first
    if "" in texts:
        there = np.flatnonzero([text != "" for text in texts])
        return owners[there], [texts[place] for place in there.tolist()]
    return owners, texts


def _replaced(names: list[str], own: tuple[NDArray[np.int64], list[str]]) -> list[str]:
    """Return names with those in the place of some that records write themselves."""
    owners, texts = own
    if len(owners) == len(names):
        return texts
    for at, text in zip(owners.tolist(), texts, strict=True):
        names[at] = text
    return names


def digests(ids: Iterable[str]) -> NDArray[np.uint64]:
    """Return the first 64 bits of the BLAKE2 digest of each id."""
    found = b"".join(blake2b(name.encode(errors="surrogatepass"), digest_size=8).digest() for name in ids)
    return np.frombuffer(found, dtype="<u8").astype(np.uint64)
