"""Files of arrays: a header in JSON, then the arrays as they stand in memory, to be mapped and not read.

The layout, which docs/index.md describes for other programs: a line that names the format and its version;
the length of the header and its checksum (CRC-32), 4 bytes each; the header; the sections, each at a multiple
of 64 bytes from the end of the header, rounded up likewise. All numbers are little-endian. The header holds
``meta``, what the writer says besides, and for each section its type (a NumPy type, or ``bytes``), where it
begins, how many bytes it has, and their checksum.
"""

from __future__ import annotations

import json
import mmap
import sys
from typing import TYPE_CHECKING, Any
from zlib import crc32

import numpy as np

from elenchus.engine.columns.strings import Strings
from elenchus.files import open_regular, replacing

if TYPE_CHECKING:
    from collections.abc import Mapping
    from pathlib import Path
    from typing import BinaryIO

    from numpy.typing import NDArray

__all__ = ["DamagedError", "Pack", "write_pack"]

_VERSION = 2
_MAGIC = b"elenchus index %d\n" % _VERSION
_ALIGNED = 64
_PREFIX = len(_MAGIC) + 8


class DamagedError(ValueError):
    """A file of arrays is not what was written: of another version, cut off, or changed."""


class Pack:
    """A file of arrays, mapped. Arrays that it gives cannot be written to."""

    def __init__(self, path: Path) -> None:
        """Open a file. Raises DamagedError when its header is not sound, OSError when it cannot be read."""
        with open_regular(path) as file:
            if len(start := file.read(_PREFIX)) < _PREFIX or not start.startswith(_MAGIC):
                raise DamagedError(f"{path.name} is of another version, or no index")
            length, checksum = np.frombuffer(start, dtype="<u4", offset=len(_MAGIC)).tolist()
            header = file.read(length)
            if crc32(header) != checksum:
                raise DamagedError(f"the header of {path.name} is damaged")
            self.data = mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ)
        found = json.loads(header)
        self.meta: dict[str, Any] = found["meta"]
        self.sections: dict[str, list[Any]] = found["sections"]
        self.first = _rounded(_PREFIX + length)
        end = max((offset + size for _, offset, size, _ in self.sections.values()), default=0)
        if len(self.data) < self.first + end:
            raise DamagedError(f"{path.name} is cut off")
        self.name = path.name

    def __contains__(self, name: str) -> bool:
        return name in self.sections

    def array(self, name: str) -> NDArray[Any]:
        """Return a section as an array."""
        kind, offset, size, _ = self.sections[name]
        dtype = np.dtype(kind)
        return np.frombuffer(self.data, dtype, count=size // dtype.itemsize, offset=self.first + offset)

    def bytes_of(self, name: str) -> bytes:
        """Return a section as bytes."""
        _, offset, size, _ = self.sections[name]
        return self.data[self.first + offset : self.first + offset + size]

    def value(self, name: str) -> Any:
        """Return a section that is JSON."""
        return json.loads(self.bytes_of(name))

    def strings(self, name: str) -> Strings:
        """Return two sections as texts."""
        _, offset, _, _ = self.sections[f"{name}/data"]
        return Strings(self.data, self.array(f"{name}/starts"), self.first + offset)

    def verify(self) -> None:
        """Compare all sections with their checksums. Raises DamagedError."""
        view = memoryview(self.data)
        for name, (_, offset, size, checksum) in self.sections.items():
            if crc32(view[self.first + offset : self.first + offset + size]) != checksum:
                raise DamagedError(f"{name} of {self.name} is damaged")


def _rounded(place: int) -> int:
    """Return the next multiple at which a section may begin."""
    return -(-place // _ALIGNED) * _ALIGNED


def write_pack(path: Path, meta: Mapping[str, Any], sections: Mapping[str, Any]) -> None:
    """Write a file of arrays: a section is an array, bytes, or texts, which make two. Raises OSError."""
    blocks: dict[str, tuple[str, Any]] = {}
    for name, section in sections.items():
        if isinstance(section, Strings):
            first = section.starts[0]
            starts = section.starts if first == 0 else section.starts - first
            blocks[f"{name}/starts"] = "<i8", starts
            blocks[f"{name}/data"] = "bytes", section.block
        elif isinstance(section, bytes):
            blocks[name] = "bytes", section
        else:
            blocks[name] = section.dtype.newbyteorder("<").str, section
    told, offset, parts = {}, 0, []
    for name, (kind, block) in blocks.items():
        if kind != "bytes":
            ordered = np.ascontiguousarray(block) if sys.byteorder == "little" else block.astype(kind)
            block = ordered.view(np.uint8).data  # noqa: PLW2901 - the same as bytes, without a copy
        told[name] = [kind, offset, len(block), crc32(block)]
        parts.append((offset, block))
        offset = _rounded(offset + len(block))
    header = json.dumps({"meta": meta, "sections": told}, ensure_ascii=False).encode()
    with replacing(path) as part, part.open("wb") as file:
        file.write(_MAGIC + np.array([len(header), crc32(header)], dtype="<u4").tobytes() + header)
        _write_parts(file, _rounded(_PREFIX + len(header)), parts)


def _write_parts(file: BinaryIO, first: int, parts: list[tuple[int, Any]]) -> None:
    """Write blocks, each at its place behind the first."""
    for offset, block in parts:
        file.write(b"\0" * (first + offset - file.tell()))
        file.write(block)
