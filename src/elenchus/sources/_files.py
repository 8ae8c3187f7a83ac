"""Sources that are files: found by paths and patterns, also packed ones and members of archives.

What is read is somebody's input. Nothing is unpacked further than its size lets one expect, and no more of
a file stands in memory than its format needs.
"""

from __future__ import annotations

import errno
import io
import os
import zlib
from array import array
from contextlib import contextmanager
from hashlib import blake2b
from itertools import compress
from pathlib import Path, PurePosixPath
from typing import IO, TYPE_CHECKING, Any

import numpy as np

from elenchus.errors import Place, Problem
from elenchus.files import (
    DEEPEST_FOLDER,
    MOST_BYTES,
    ItemKind,
    is_file,
    open_regular,
    read_whole,
    scanned,
    signature,
    unreadable,
)
from elenchus.sources._paths import start_of
from elenchus.sources._spec import LEFT_OUT, Scan
from elenchus.values.filepaths import archive_of, fixed_part, is_archive, is_pattern, matcher, normal
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    import zipfile
    from collections.abc import Callable, Iterator, Sequence

    from elenchus.files import Met
    from elenchus.sources._spec import Item, SourceSpec

__all__ = ["FileContent", "FileReader", "scan_files"]

_PACKED = ".gz"
_SIGNS = 4  # whole numbers in a signature
_MOST_MEMBERS = 100_000
_MOST_TIMES = 200  # so many times its size may something unpack to, once it is
_LARGE = 64 * 2**20  # bytes
_CHUNK = 2**20


def scan_files(spec: SourceSpec, root: Path, suffixes: tuple[str, ...]) -> Scan:
    """Return the files of a source: those named, those below folders with some endings, those of patterns."""
    found = Scan([], array("q"), [])
    for path in spec.paths:
        more = _scan_one(root, normal(path), suffixes)
        found = more if len(spec.paths) == 1 else _joined(found, more)
    return _without(found, spec.exclude) if spec.exclude else found


def _without(scan: Scan, patterns: Sequence[str]) -> Scan:
    """Return a scan without the units that fit a pattern, and without what is wrong with them."""
    tests = list(map(matcher, map(normal, patterns)))
    stays = [not any(test(unit) for test in tests) for unit in scan.units]
    signs = np.frombuffer(scan.signatures, dtype=np.int64).reshape(-1, _SIGNS)[stays]
    problems = [
        each for each in scan.problems if not (each.place and any(test(each.place.file) for test in tests))
    ]
    return Scan(list(compress(scan.units, stays)), array("q", signs.tobytes()), problems, scan.note)


def _joined(first: Scan, second: Scan) -> Scan:
    """Return the units of two scans, those that both have as the first has them."""
    known = set(first.units)
    units, signatures = [*first.units], first.signatures[:]
    for at, unit in enumerate(second.units):
        if unit not in known:
            units.append(unit)
            signatures.extend(second.signatures[4 * at : 4 * at + 4])
    return Scan(units, signatures, [*first.problems, *second.problems])


def _scan_one(root: Path, path: str, suffixes: tuple[str, ...]) -> Scan:
    """Return the files that one path names."""
    archive, inside = archive_of(path)
    if archive and not is_pattern(archive):
        return _members(root, archive, inside or "**", suffixes)
    if is_pattern(path):
        return _matching(root, path, suffixes)
    if is_file(root / path):
        return Scan([path], array("q", signature((root / path).stat())), [])
    found = scanned(root / path, (*suffixes, *(f"{each}{_PACKED}" for each in suffixes)), start_of(path))
    problems: list[Problem] = []
    for met in sorted(found.others, key=lambda met: met.path):
        if met.path.name.lower().endswith(suffixes) or _is_folder(root, met):
            problems += _passed_over(met)
    return Scan(found.paths, found.signatures, problems)


def _matching(root: Path, path: str, suffixes: tuple[str, ...]) -> Scan:
    """Return the files of a pattern, members of archives among them."""
    base = fixed_part(path)
    archive, inside = archive_of(path)
    wanted = matcher(archive or path)
    walked = scanned(root / base, ("",), start_of(base))
    units: list[str] = []
    signatures = array("q")
    problems: list[Problem] = []
    for at, unit in enumerate(walked.paths):
        if not wanted(unit):
            continue
        if is_archive(unit):
            members = _members(root, unit, inside or "**", suffixes)
            units += members.units
            signatures.extend(members.signatures)
            problems += members.problems
        else:
            units.append(unit)
            signatures.extend(walked.signatures[4 * at : 4 * at + 4])
    if not (units or problems):
        message = f"no file fits {quoted(path)}"
        problems.append(
            Problem("no-file", message, "* stands for a name, ** for folders too.", place=Place(path))
        )
    return Scan(units, signatures, problems)


def _members(root: Path, archive: str, inside: str, suffixes: tuple[str, ...]) -> Scan:
    """Return the members of an archive that fit a path or a pattern; their checksums are their signatures."""
    wanted = matcher(inside)
    named = not is_pattern(inside)
    units: list[str] = []
    signatures = array("q")
    try:
        with _zip(root / archive) as opened:
            for member in opened.infolist():
                name = member.filename
                hidden = any(step.startswith((".", "__MACOSX")) for step in name.split("/"))
                if member.is_dir() or hidden or not wanted(name):
                    continue
                if named or name.lower().endswith(suffixes):
                    units.append(f"{archive}/{name}")
                    signatures.extend((member.file_size, member.CRC, 0, 0))
    except OSError as error:
        return Scan([], array("q"), [unreadable(archive, error, LEFT_OUT)])
    if named and not units:
        message = f"the archive has no member {quoted(inside)}"
        return Scan([], array("q"), [Problem("no-file", message, LEFT_OUT, place=Place(archive))])
    return Scan(units, signatures, [])


@contextmanager
def _zip(path: Path) -> Iterator[zipfile.ZipFile]:
    """Give an opened archive. Raises OSError for what is none, a damaged or too large one."""
    import zipfile

    try:
        with open_regular(path) as file, zipfile.ZipFile(file) as opened:
            _count_members(opened)
            yield opened
    except (zipfile.BadZipFile, NotImplementedError, RuntimeError, ValueError) as error:
        raise OSError(errno.EINVAL, f"it is no archive that can be read: {error}", str(path)) from None


def _count_members(archive: zipfile.ZipFile) -> None:
    """Raise ValueError for an archive of too many members."""
    if len(archive.infolist()) > _MOST_MEMBERS:
        raise ValueError(f"it has more than {_MOST_MEMBERS} members")


class FileContent:
    """What a file holds: all of it in memory, where it is small, or a stream that can be opened again."""

    def __init__(self, digest: int, stream: Callable[[], IO[bytes]], data: bytes | None = None) -> None:
        self.digest = digest or 1
        self.stream = stream  # gives it from its beginning, to be read piece by piece
        self.data = data
        self.passed = 0  # bytes that were read of a stream

    @classmethod
    def of(cls, data: bytes) -> FileContent:
        """Return what is in memory."""
        digest = int.from_bytes(blake2b(data, digest_size=8).digest(), "little")
        return cls(digest, lambda: io.BytesIO(data), data)

    def whole(self, most: int = MOST_BYTES) -> bytes:
        """Return all of it. Raises OSError where that is more than ``most`` bytes."""
        if self.data is not None:
            return self.data
        with self.stream() as stream:
            found = stream.read(most + 1)
        if len(found) > most:
            raise OSError(errno.EFBIG, f"it is larger than {most // 2**20} MB")
        return found


class FileReader:
    """What reads the files of a source, each by a function that yields its entries.

    ``most`` is how many bytes a file may have, None where it is read piece by piece.
    """

    def __init__(
        self,
        spec: SourceSpec,
        root: Path,
        parse: Callable[[SourceSpec, str, FileContent], Iterator[Item]],
        most: int | None = MOST_BYTES,
    ) -> None:
        self.spec = spec
        self.root = root
        self.parse = parse
        self.most = most
        self.unpacked: dict[str, int] = {}  # bytes, by archive

    def content(self, unit: str) -> FileContent:
        """Return what a file holds. Raises OSError."""
        path = os.path.join(self.root, unit)  # noqa: PTH118 - as fast as can be, for each file
        archive, inside = archive_of(unit)
        if inside and not os.path.lexists(path):
            found, size = _of_member(self.root / archive, inside)
            self.unpacked[archive] = self.unpacked.get(archive, 0) + size
            most = max((self.root / archive).stat().st_size * _MOST_TIMES, _LARGE)
            if self.unpacked[archive] > most:
                raise OSError(errno.EFBIG, f"its archive unpacks to more than {most // 2**20} MB", unit)
            return found
        packed = unit.lower().endswith(_PACKED)
        if packed or self.most is None or self.most > MOST_BYTES:
            size = os.stat(path).st_size  # noqa: PTH116 - as fast as can be, for each file
            if packed or size > MOST_BYTES:
                return _streamed(path, self.most, is_packed=packed)
        return FileContent.of(read_whole(path))

    def items(self, unit: str, content: Any) -> Iterator[Item]:
        """Yield what a file holds. Whatever goes wrong with it is a problem of that one."""
        return self.parse(self.spec, unit, content)

    def close(self) -> None:
        """Nothing is left open."""


def _streamed(path: str, most: int | None, *, is_packed: bool) -> FileContent:
    """Return what a large or packed file holds. Raises OSError."""
    found = blake2b(digest_size=8)
    with open_regular(path) as file:
        size = os.fstat(file.fileno()).st_size
        if most is not None and size > most:
            raise OSError(errno.EFBIG, f"it is larger than {most // 2**20} MB", path)
        while piece := file.read(_CHUNK):
            found.update(piece)

    def opened() -> IO[bytes]:
        import gzip

        file = open_regular(path)
        return _bounded(gzip.GzipFile(fileobj=file), size, file) if is_packed else file

    return FileContent(int.from_bytes(found.digest(), "little"), opened)


def _of_member(archive: Path, name: str) -> tuple[FileContent, int]:
    """Return what a member of an archive holds, and how many bytes that is. Raises OSError."""
    with _zip(archive) as opened:
        try:
            told = opened.getinfo(name)
        except KeyError:
            raise OSError(errno.ENOENT, "the archive has no such member", f"{archive}/{name}") from None

    def stream() -> IO[bytes]:
        import zipfile

        file = open_regular(archive)
        try:
            found = zipfile.ZipFile(file).open(name)  # noqa: SIM115 - the stream closes it
        except (zipfile.BadZipFile, NotImplementedError, RuntimeError, zlib.error) as error:
            raise OSError(errno.EINVAL, f"the member cannot be unpacked: {error}", name) from None
        return _bounded(found, told.compress_size, file)

    return FileContent(told.CRC << 32 | told.file_size & 0xFFFFFFFF, stream), told.file_size


def _bounded(stream: Any, size: int, *others: IO[bytes]) -> IO[bytes]:
    """Return an unpacked stream that ends with an error where it grows beyond all measure."""
    return io.BufferedReader(_Unpacked(stream, max(size * _MOST_TIMES, _LARGE), others), _CHUNK)


class _Unpacked(io.RawIOBase):
    """A stream of what is being unpacked, up to so many bytes."""

    def __init__(self, stream: IO[bytes], most: int, others: Sequence[IO[bytes]]) -> None:
        super().__init__()
        self.inner = stream
        self.left = most
        self.others = others

    def readable(self) -> bool:
        """Say that it can be read."""
        return True

    def readinto(self, buffer: Any) -> int:
        """Fill a buffer. Raises OSError for what is damaged, or unpacks to too much."""
        try:
            found = self.inner.read(len(buffer))
        except Exception as error:  # each packer has errors of its own
            raise OSError(errno.EINVAL, f"it cannot be unpacked: {error}") from None
        self.left -= len(found)
        if self.left < 0:
            raise OSError(errno.EFBIG, f"it unpacks to more than {_MOST_TIMES} times its size")
        buffer[: len(found)] = found
        return len(found)

    def close(self) -> None:
        """Close what it reads from."""
        if not self.closed:
            self.inner.close()
            for each in self.others:
                each.close()
        super().close()


def _is_folder(root: Path, met: Met) -> bool:
    """Say whether what a walk met may have held content: a folder, or what leads to one, or nobody knows."""
    return met.kind in (ItemKind.UNNAMED, ItemKind.DEEP, ItemKind.UNREADABLE) or (root / met.path).is_dir()


def _passed_over(met: Met) -> Iterator[Problem]:
    """Yield why something among the content is not read."""
    name = met.path.as_posix()
    match met.kind:
        case ItemKind.UNREADABLE if met.error:
            yield unreadable(name, met.error, LEFT_OUT, what="folder")
        case ItemKind.UNNAMED:
            written = met.path.name.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")
            message = f"the name {quoted(written)} is not UTF-8"
            place = Place(PurePosixPath(met.path.parent).as_posix())
            yield Problem("unreadable-file", message, LEFT_OUT, place=place)
        case ItemKind.DEEP:
            message = f"folders stand more than {DEEPEST_FOLDER} deep inside one another"
            yield Problem("unreadable-file", message, LEFT_OUT, place=Place(name))
        case _:
            message = f"it is {met.kind.value}"
            yield Problem("no-regular-file", message, "Put a copy in its place.", place=Place(name))
