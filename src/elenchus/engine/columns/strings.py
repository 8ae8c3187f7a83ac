"""Many texts as one block of bytes, perhaps of a mapped file: only what is looked at is decoded."""

from __future__ import annotations

import re
from collections.abc import Sequence
from itertools import repeat
from typing import TYPE_CHECKING, Any, overload

import numpy as np

from elenchus.engine.columns.distinct import each_once
from elenchus.values.kept import cached_property

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator
    from mmap import mmap

    from numpy.typing import NDArray

__all__ = ["Picked", "Strings", "ranks_of"]

# The byte behind each text: UTF-8 has it nowhere, so that what is looked for is never found across two texts.
_END = b"\xff"
_LOSSLESS = "surrogatepass"  # a text may have half of a surrogate pair, as JSON can write it
_NARROW = 64  # bytes of texts that are put in order as an array
_ONE_BY_ONE = 64  # texts up to this number are decoded singly


def ranks_of(texts: Sequence[str]) -> NDArray[np.int32]:
    """Return the place of each text in the order of code points, which is that of the bytes of UTF-8."""
    encoded = list(map(str.encode, texts, repeat("utf-8"), repeat(_LOSSLESS)))
    longest = max(map(len, encoded), default=0)
    if longest <= _NARROW:
        order = np.argsort(np.array(encoded, dtype=f"S{longest or 1}"), kind="stable")
    else:
        order = np.array(sorted(range(len(encoded)), key=encoded.__getitem__), dtype=np.intp)
    found = np.empty(len(encoded), dtype=np.int32)
    found[order] = np.arange(len(encoded), dtype=np.int32)
    return found


class _Texts(Sequence[str]):
    """Texts that are decoded when they are looked at. A slice is a list."""

    @overload
    def __getitem__(self, at: int) -> str: ...
    @overload
    def __getitem__(self, at: slice) -> list[str]: ...
    def __getitem__(self, at: int | slice) -> str | list[str]:
        return self.sliced(at) if isinstance(at, slice) else self.one(at)

    def __iter__(self) -> Iterator[str]:
        return iter(self.sliced(slice(None)))

    def one(self, at: int) -> str:
        """Return one text."""
        raise NotImplementedError

    def sliced(self, at: slice) -> list[str]:
        """Return some texts."""
        raise NotImplementedError


class Strings(_Texts):
    """Texts in UTF-8, each with a byte 0xFF behind it.

    ``starts`` (int64, one more than texts) cut ``data`` into them, counted from ``offset``.
    """

    def __init__(self, data: bytes | mmap, starts: NDArray[np.int64], offset: int = 0) -> None:
        self.data = data
        self.starts = starts
        self.offset = offset

    @classmethod
    def of(cls, texts: Iterable[str]) -> Strings:
        """Return some texts as a block."""
        encoded = list(map(str.encode, texts, repeat("utf-8"), repeat(_LOSSLESS)))
        encoded.append(b"")
        lengths = np.fromiter(map(len, encoded), dtype=np.int64, count=len(encoded))
        starts = np.zeros(len(encoded), dtype=np.int64)
        np.cumsum(lengths[:-1] + 1, out=starts[1:])
        return cls(_END.join(encoded), starts)

    @classmethod
    def joined(cls, parts: Sequence[Strings]) -> Strings:
        """Return the texts of several blocks as one."""
        if len(parts) == 1:
            return parts[0]
        starts, size = [np.zeros(1, dtype=np.int64)], 0
        for part in parts:
            starts.append(part.starts[1:] - part.starts[0] + size)
            size += int(part.starts[-1] - part.starts[0])
        return cls(b"".join(part.block for part in parts), np.concatenate(starts))

    def __len__(self) -> int:
        return len(self.starts) - 1

    def one(self, at: int) -> str:
        """Return one text."""
        if at < 0:
            at += len(self)
        first, end = self.starts[at : at + 2].tolist()
        return self.bytes_of(first, end - 1).decode("utf-8", _LOSSLESS)

    def sliced(self, at: slice) -> list[str]:
        """Return some texts."""
        first, last, step = at.indices(len(self))
        return self.between(first, last) if step == 1 else self.at(np.arange(first, last, step))

    def bytes_of(self, first: int, last: int) -> bytes:
        """Return the bytes from a place up to another."""
        return self.data[self.offset + first : self.offset + last]

    @property
    def block(self) -> bytes:
        """All bytes."""
        return self.bytes_of(int(self.starts[0]), int(self.starts[-1]))

    @property
    def encoded(self) -> list[bytes]:
        """All texts in UTF-8."""
        return self.block.split(_END)[:-1]

    def between(self, first: int, last: int) -> list[str]:
        """Return the texts from a place up to another."""
        if last <= first:
            return []
        found = self.bytes_of(int(self.starts[first]), int(self.starts[last]) - 1)
        if found.translate(None, _END).isascii():
            return found.decode("latin-1").split("\xff")
        return list(map(bytes.decode, found.split(_END), repeat("utf-8"), repeat(_LOSSLESS)))

    def at(self, places: NDArray[Any]) -> list[str]:
        """Return the texts at some places."""
        if len(places) <= _ONE_BY_ONE or len(places) * 8 < len(self):
            return [self[place] for place in places.tolist()]
        found = self.between(0, len(self))
        return [found[place] for place in places.tolist()]

    def with_more(self, texts: Sequence[str]) -> Strings:
        """Return these texts and some more behind them."""
        if not texts:
            return self
        more = Strings.of(texts)
        first, last = int(self.starts[0]), int(self.starts[-1])
        starts = np.concatenate((self.starts - first, more.starts[1:] + (last - first)))
        return Strings(self.block + more.data, starts)

    def containing(self, part: str) -> NDArray[np.intp]:
        """Return the places of the texts that have a part in them, ascending: one scan over the bytes."""
        wanted = part.encode("utf-8", _LOSSLESS)
        if not wanted:
            return np.arange(len(self))
        first, last = self.offset + int(self.starts[0]), self.offset + int(self.starts[-1])
        scan = re.compile(re.escape(wanted)).finditer(self.data, first, last)
        hits = np.fromiter((match.start() for match in scan), dtype=np.int64) - self.offset
        places = np.searchsorted(self.starts, hits, side="right") - 1
        return each_once(places)

    def beginning(self, part: str) -> NDArray[np.intp]:
        """Return the places of the texts that begin with a part, ascending."""
        wanted = np.frombuffer(part.encode("utf-8", _LOSSLESS), dtype=np.uint8)
        return self._having(wanted, self.starts[:-1])

    def ending(self, part: str) -> NDArray[np.intp]:
        """Return the places of the texts that end with a part, ascending."""
        wanted = np.frombuffer(part.encode("utf-8", _LOSSLESS), dtype=np.uint8)
        return self._having(wanted, self.starts[1:] - 1 - len(wanted))

    def _having(self, wanted: NDArray[np.uint8], firsts: NDArray[np.int64]) -> NDArray[np.intp]:
        """Return the places of the texts with some bytes from given places on."""
        found = np.flatnonzero(self.lengths >= len(wanted))
        for at, byte in enumerate(wanted.tolist()):
            found = found[self.bytes[firsts[found] + at] == byte]
        return found

    @property
    def lengths(self) -> NDArray[np.int64]:
        """The number of bytes of each text."""
        found: NDArray[np.int64] = np.diff(self.starts) - 1
        return found

    @cached_property
    def bytes(self) -> NDArray[np.uint8]:
        """The block as numbers; ``starts`` are places in it."""
        return np.frombuffer(self.data, dtype=np.uint8)[self.offset :]

    def __reduce__(self) -> tuple[Any, ...]:
        """Travel as bytes, wherever these stand."""
        return Strings, (self.block, self.starts - self.starts[0])


class Picked(_Texts):
    """Some texts out of a block, by their places in it."""

    def __init__(self, texts: Strings, places: NDArray[Any]) -> None:
        self.texts = texts
        self.places = places

    def __len__(self) -> int:
        return len(self.places)

    def one(self, at: int) -> str:
        """Return one text."""
        return self.texts[int(self.places[at])]

    def sliced(self, at: slice) -> list[str]:
        """Return some texts."""
        return self.at(at)

    def at(self, places: NDArray[Any] | slice) -> list[str]:
        """Return the texts at some places."""
        return self.texts.at(self.places[places])
