"""The texts of a column: which are the same, their order, and what can be searched in them at once."""

from __future__ import annotations

import unicodedata
from itertools import pairwise, repeat
from typing import TYPE_CHECKING, Any, Literal
from zlib import crc32

import numpy as np

from elenchus.engine.columns.distinct import each_value
from elenchus.engine.columns.strings import Strings
from elenchus.values.collation import base_letter, first_keys, sort_key
from elenchus.values.kept import cached_property
from elenchus.values.lazily import pattern
from elenchus.values.texts import fold

if TYPE_CHECKING:
    import re
    from collections.abc import Callable, Sequence

    from numpy.typing import NDArray

__all__ = ["Lexicon", "initial", "padded_numbers"]

_DIGITS = pattern(r"\d+")
_FEWEST = 1024  # texts from which on they are ruled out by their signs
_LONGEST = 64  # bytes of a text, on the average, up to which its signs say something
_SHARE = 8  # of the texts that are not ruled out: with more, one scan over all costs less
_BLOCK = 2**16  # texts whose signs are looked at together, so that they stay near the processor
_SIDES: tuple[Literal["left", "right"], ...] = ("left", "right")
_LENGTH = 6  # digits that say how many a number has


class Lexicon:
    """Texts as they are written, by their place, perhaps more than a column has at present.

    Two texts are the same when they are equal but for case and Unicode form; their *code* is the place of the
    first of them. Arrays have one item a text and a last one that stands for no text. All is worked out when
    it is first asked for; what a shorter lexicon knows already is taken over from ``base``, whose texts are
    the first ones of these. One that ``grows`` may be the base of its column's lexicon when more is written.
    """

    def __init__(self, texts: Strings, base: Lexicon | None = None, *, grows: bool = True) -> None:
        self.texts = texts
        self.base = base
        self.grows = grows

    @classmethod
    def of(cls, texts: Sequence[str]) -> Lexicon:
        """Return the lexicon of some texts."""
        return cls(Strings.of(texts))

    def __len__(self) -> int:
        return len(self.texts)

    def with_more(self, texts: Sequence[str]) -> Lexicon:
        """Return the lexicon with some more texts behind its own."""
        return Lexicon(self.texts.with_more(texts), self)

    @property
    def new(self) -> list[str]:
        """The folded texts behind those of the base."""
        return self.folded[len(self.base) if self.base else 0 :]

    @cached_property
    def folded(self) -> Strings:
        """The texts without regard to case and Unicode form."""
        if self.base:
            return self.base.folded.with_more(list(map(fold, self.texts[len(self.base) :])))
        block = self.texts.block
        if block.translate(None, b"\xff").isascii():
            lowered = block.lower()  # of ASCII letters only, which is what folding them is
            return self.texts if lowered == block else Strings(lowered, self.texts.starts)
        return Strings.of(list(map(fold, self.texts)))

    @cached_property
    def hashes(self) -> NDArray[np.uint32]:
        """32 bits for each text, the same for the same texts."""
        encoded = map(str.encode, self.new, repeat("utf-8"), repeat("surrogatepass"))
        count = len(self) - (len(self.base) if self.base else 0)
        found = np.fromiter(map(crc32, encoded), dtype=np.uint32, count=count)
        return np.concatenate((self.base.hashes, found)) if self.base else found

    @cached_property
    def by_hash(self) -> NDArray[np.int32]:
        """The places of the texts in the order of their hashes, then of their places."""
        return np.argsort(self.hashes, kind="stable").astype(np.int32)

    @cached_property
    def codes(self) -> NDArray[np.int32]:
        """The place of the first text that is the same, for each text; -1 for none."""
        found = np.arange(len(self) + 1, dtype=np.int32)
        found[-1] = -1
        hashes = self.hashes[self.by_hash]
        doubled = np.flatnonzero(hashes[1:] == hashes[:-1])
        first: dict[str, int] = {}
        # Texts of one hash stand side by side, the earliest first; they are the same but for chance.
        places = self.by_hash[each_value(np.concatenate((doubled, doubled + 1)))]
        same = zip(self.folded.at(places), places.tolist(), strict=True)
        found[places] = [first.setdefault(text, place) for text, place in same]
        return found

    def find(self, folded: str) -> int:
        """Return the code of a folded text, -1 where there is none."""
        # Of the array's own type: for any other one, all of it would be converted first.
        wanted = np.uint32(crc32(folded.encode("utf-8", "surrogatepass")))
        low, high = (int(self.sorted_hashes.searchsorted(wanted, side)) for side in _SIDES)
        places: list[int] = self.by_hash[low:high].tolist()
        for place in places:
            if self.folded[place] == folded:
                return place
        return -1

    @cached_property
    def sorted_hashes(self) -> NDArray[np.uint32]:
        """The hashes in their order."""
        return self.hashes[self.by_hash]

    @cached_property
    def ranks(self) -> NDArray[np.int32]:
        """The place of each text in the order A to Z; the same for the same texts."""
        return self._ranked(sort_key, self.base.ranks if self.base else None)

    @cached_property
    def natural_ranks(self) -> NDArray[np.int32]:
        """The same with numbers inside the texts read as numbers: 2 before 10."""
        return self._ranked(_natural_key, self.base.natural_ranks if self.base else None)

    def _ranked(self, key: Callable[[str], str], known: NDArray[np.int32] | None) -> NDArray[np.int32]:
        """Return the place of each text in the order of a key, and one spare for no text."""
        if known is None and key is sort_key:
            return self._quickly_ranked()
        if known is None:
            keys = list(map(key, self.folded))
            place = {each: rank for rank, each in enumerate(sorted(set(keys)))}
            return np.array([*(place[each] for each in keys), 0], dtype=np.int32)
        # The order of those known is kept; each new one has its rank between theirs, which move up.
        old, order = known[:-1], np.argsort(known[:-1], kind="stable")
        keys = list(map(key, self.new))
        found = {each: self._place(order, key, each) for each in keys}
        absent = sorted(each for each, (_, is_there) in found.items() if not is_there)
        lows = np.array([found[each][0] for each in absent], dtype=np.int64)
        moved = old.copy()
        moved[order] += np.searchsorted(lows, np.arange(len(order)), side="right").astype(np.int32)
        end = int(old[order[-1]]) + 1 if len(order) else 0
        rank = {each: number for number, each in enumerate(absent)}
        for each, (low, is_there) in found.items():
            if is_there:
                rank[each] = int(moved[order[low]])
            else:
                rank[each] += int(old[order[low]]) if low < len(order) else end
        return np.concatenate((moved, np.array([*(rank[each] for each in keys), 0], dtype=np.int32)))

    def _quickly_ranked(self) -> NDArray[np.int32]:
        """Return the place of each text in the order A to Z: first by a quick key, the same ones by all."""
        texts = self.folded[:]
        keys = first_keys(texts)
        if None in keys:  # of another script: the quick key knows Latin letters only
            keys = list(map(sort_key, texts))
        order = sorted(range(len(texts)), key=keys.__getitem__)  # type: ignore[arg-type]  # there is no None
        ordered = [keys[place] for place in order]
        fresh = np.ones(len(order), np.bool_)
        for first, end in _runs(ordered):  # what the quick key holds for equal
            run = sorted(order[first:end], key=lambda place: sort_key(texts[place]))
            order[first:end] = run
            fresh[first + 1 : end] = [texts[one] != texts[other] for one, other in pairwise(run)]
        found = np.zeros(len(texts) + 1, dtype=np.int32)
        found[np.array(order, dtype=np.intp)] = np.cumsum(fresh) - 1
        return found

    @cached_property
    def signs(self) -> NDArray[np.uint64]:
        """For each folded text one bit of 64 for each three bytes that follow one another in it.

        A text has another in it only if it has all of its bits, so that most are ruled out unread.
        """
        if self.base:
            return np.concatenate((self.base.signs, _signs_of(Strings.of(self.new))))
        return _signs_of(self.folded)

    def containing(self, part: str) -> NDArray[np.intp]:
        """Return the places of the texts that have a folded part in them, ascending."""
        texts = self.folded
        size = int(texts.starts[-1] - texts.starts[0])
        wanted = part.encode("utf-8", "surrogatepass")
        if len(self) < _FEWEST or size > _LONGEST * len(self) or len(wanted) < 3:  # noqa: PLR2004
            return texts.containing(part)
        sign = np.bitwise_or.reduce(_bits_of(np.frombuffer(wanted, dtype=np.uint8)))
        near = [
            np.flatnonzero((self.signs[first : first + _BLOCK] & sign) == sign) + first
            for first in range(0, len(self), _BLOCK)
        ]
        places = np.concatenate(near)
        if len(places) * _SHARE > len(self):
            return texts.containing(part)
        firsts, ends = texts.starts[places] + texts.offset, texts.starts[places + 1] + texts.offset
        bounds, data = zip(firsts.tolist(), ends.tolist(), strict=True), texts.data
        has_it = np.array([wanted in data[first:end] for first, end in bounds], dtype=np.bool_)
        return places[has_it]

    def _place(self, order: NDArray[np.intp], key: Callable[[str], str], wanted: str) -> tuple[int, bool]:
        """Return where a key stands or would stand in an order of texts, and whether it is there."""
        low, high = 0, len(order)
        while low < high:
            middle = (low + high) // 2
            if key(self.folded[int(order[middle])]) < wanted:
                low = middle + 1
            else:
                high = middle
        return low, low < len(order) and key(self.folded[int(order[low])]) == wanted

    @cached_property
    def order(self) -> NDArray[np.intp]:
        """The places of the texts A to Z."""
        return np.argsort(self.ranks[:-1], kind="stable")

    def rank(self, folded: str) -> tuple[int, int]:
        """Return the ranks [low, high) of a text; empty, at the place it would have, where no row has it."""
        low, is_there = self._place(self.order, sort_key, sort_key(folded))
        if low == len(self.order):
            end = int(self.ranks[self.order[-1]]) + 1 if low else 0
            return end, end
        rank = int(self.ranks[self.order[low]])
        return rank, rank + is_there


def _bits_of(block: NDArray[np.uint8]) -> NDArray[np.uint64]:
    """Return the bit of each three bytes that follow one another: the highest bits of a product."""
    wide = block.astype(np.uint32)
    mixed = (wide[:-2] << np.uint32(16) | wide[1:-1] << np.uint32(8) | wide[2:]) * np.uint32(0x9E3779B1)
    return np.uint64(1) << (mixed >> np.uint32(26)).astype(np.uint64)


def _signs_of(texts: Strings) -> NDArray[np.uint64]:
    """Return the bits of all threes in each text; those that reach into the next one only add to them."""
    found = np.zeros(len(texts), dtype=np.uint64)
    for first in range(0, len(texts), _BLOCK):
        last = min(first + _BLOCK, len(texts))
        starts = texts.starts[first : last + 1]
        block = texts.bytes_of(int(starts[0]), int(starts[-1])) + b"\xff\xff"
        bits = _bits_of(np.frombuffer(block, dtype=np.uint8))
        found[first:last] = np.bitwise_or.reduceat(bits, starts[:-1] - starts[0])
    return found


def _runs(ordered: Sequence[Any]) -> list[list[int]]:
    """Return from where to where neighbours in a sequence are equal, where there are several."""
    found: list[list[int]] = []
    for at in (at for at in range(1, len(ordered)) if ordered[at] == ordered[at - 1]):
        if found and found[-1][1] == at:
            found[-1][1] = at + 1
        else:
            found.append([at - 1, at + 1])
    return found


def _natural_key(text: str) -> str:
    """Return the sort key of a folded text with numbers of one width in it, then its own."""
    return sort_key(padded_numbers(text)) + sort_key(text)


def padded_numbers(text: str) -> str:
    """Return a text whose numbers begin with how long they are, so that they sort as numbers do."""
    return _DIGITS.sub(_with_length, text)


def _with_length(match: re.Match[str]) -> str:
    digits = match[0] if match[0].isascii() else "".join(str(unicodedata.decimal(char)) for char in match[0])
    digits = digits.lstrip("0")
    return f"{len(digits):0{_LENGTH}}{digits}"


def initial(text: str) -> str:
    """Return the letter or digit under which a text stands in an index; # for others.

    It is the one with the same first primary weight: Étang is under E, Østers under O, ４ under 4.
    """
    if text[:1].isascii() and text[:1].isalnum() and text[1:2] < "\u0300":  # no accent follows
        return text[0].upper()
    text = unicodedata.normalize("NFD", text)
    start = next((at for at, char in enumerate(text) if char.isalnum()), -1)
    if start < 0:
        return "#"
    end = start + 1
    while end < len(text) and unicodedata.combining(text[end]):
        end += 1
    return base_letter(text[start:end])
