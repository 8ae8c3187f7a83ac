"""Reading files within bounds, and writing them so that a kill leaves the old one or the new one.

What a site holds is somebody's input: a file may be a pipe that never ends, larger than memory, or called
by bytes that are no text. All of that is decided here, once, with bounds that docs/sites.md names.
"""

from __future__ import annotations

import errno
import os
import stat
from array import array
from contextlib import contextmanager, suppress
from enum import Enum
from operator import attrgetter
from pathlib import Path, PurePosixPath
from typing import IO, TYPE_CHECKING, Any, NamedTuple

from elenchus.errors import About, FolderError, Place, Problem

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator

__all__ = [
    "DEEPEST_FOLDER",
    "DEEPEST_VALUE",
    "MOST_BYTES",
    "MOST_VALUES",
    "SUFFIX_OF_PARTS",
    "ItemKind",
    "Met",
    "Scanned",
    "TooManyFiles",
    "is_file",
    "is_running",
    "is_text",
    "items_of",
    "keep_attributes",
    "open_regular",
    "read_whole",
    "replacing",
    "scanned",
    "signature",
    "take_lock",
    "temporary_folder",
    "too_large",
    "unreadable",
    "write_whole",
    "written_or_told",
]  # fmt: skip

MOST_BYTES = 16 * 2**20  # of one file
MOST_VALUES = 100_000  # in the front matter of one file, with all that aliases repeat
DEEPEST_VALUE = 40  # lists and tables inside one another
DEEPEST_FOLDER = 60  # folders inside one another
SUFFIX_OF_PARTS = ".part"  # of files that are being written


_READING = os.O_RDONLY | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_BINARY", 0)
_LARGEST_INODE = 2**63 - 1


def _opened(path: str | Path) -> tuple[int, int]:
    """Return the handle of a regular file and its size. Raises OSError for anything else.

    It is opened without waiting, so that neither a pipe nor a device holds the program up.
    """
    handle = os.open(path, _READING)
    found = os.fstat(handle)
    if not stat.S_ISREG(found.st_mode):
        os.close(handle)
        what = "it is a folder" if stat.S_ISDIR(found.st_mode) else "it is no regular file"
        raise OSError(errno.EINVAL, what, str(path))
    return handle, found.st_size


def open_regular(path: str | Path) -> IO[bytes]:
    """Return an opened regular file, to be read piece by piece. Raises OSError for anything else."""
    return os.fdopen(_opened(path)[0], "rb")


def read_whole(path: str | Path, most: int = MOST_BYTES) -> bytes:
    """Return the content of a regular file. Raises OSError for anything else, and for too large a one."""
    handle, size = _opened(path)
    try:
        content = os.read(handle, min(size, most) + 1)
        while len(content) <= most and (more := os.read(handle, most + 1 - len(content))):
            content += more
    finally:
        os.close(handle)
    if len(content) > most:
        raise OSError(errno.EFBIG, f"it is larger than {most // 2**20} MB", str(path))
    return content


def is_file(path: Path) -> bool:
    """Say whether a path is a regular file; a name that no file can have is none."""
    try:
        return path.is_file()
    except (OSError, ValueError):  # too long, a loop of links, a NUL
        return False


def is_text(name: str) -> bool:
    """Say whether a file's name is text: bytes that are not UTF-8 come as lone surrogates."""
    try:
        name.encode()
    except UnicodeEncodeError:
        return False
    return True


def items_of(folder: str | Path) -> list[os.DirEntry[str]]:
    """Return what stands in a folder, by name, without hidden ones. Raises OSError."""
    with os.scandir(folder) as found:
        return sorted((item for item in found if item.name[0] != "."), key=attrgetter("name"))


def too_large(value: Any) -> None:
    """Raise ValueError for values nested too deeply, too many of them, or a number beyond 64 bits.

    TOML knows no larger numbers, but its reader makes them, and Python refuses to write them as text.
    """
    waiting, met = [(value, 0)], 0
    while waiting:
        each, depth = waiting.pop()
        met += 1
        if depth > DEEPEST_VALUE or met > MOST_VALUES:
            most = f"{DEEPEST_VALUE} deep" if depth > DEEPEST_VALUE else f"{MOST_VALUES} in number"
            raise ValueError(f"its values are more than {most}")
        if isinstance(each, int) and not -(2**63) <= each < 2**63:
            raise ValueError("it has a whole number of more than 64 bits")
        inner = each.values() if isinstance(each, dict) else each if isinstance(each, list) else ()
        waiting += [(item, depth + 1) for item in inner]


class ItemKind(Enum):
    """What can stand in a folder."""

    FILE = "a regular file"
    LINK = "a link, and links are not followed"
    OTHER = "no regular file"
    UNNAMED = "something whose name is not UTF-8"
    DEEP = "a folder too deep inside others"
    UNREADABLE = "a folder that cannot be read"


class Met(NamedTuple):
    """What a walk meets, by its path below where it began; ``error`` is why it goes no further."""

    path: PurePosixPath
    kind: ItemKind
    error: OSError | None = None


def signature(told: os.stat_result) -> tuple[int, int, int, int]:
    """Return what tells that a file is as it was.

    Its size in bytes, the times at which it and its state were changed in nanoseconds since 1970, its inode.
    """
    return told.st_size, told.st_mtime_ns, told.st_ctime_ns, told.st_ino & _LARGEST_INODE


class Scanned(NamedTuple):
    """The files in a folder with some endings, and the other things in it.

    ``signatures`` has the four numbers of :func:`signature` for each.
    """

    paths: list[str]
    signatures: array[int]
    others: list[Met]


class TooManyFiles(Exception):
    """A folder has more files than are wanted."""


def scanned(
    folder: Path, suffixes: tuple[str, ...] = ("",), start: str = "", most: int | None = None
) -> Scanned:
    """Return the files in a folder and in the folders in it, none of them opened.

    Paths are those below the folder behind ``start``, which ends with a slash. Hidden files and folders are
    left out, links are met and not followed. They come as the system has them, in an order that is the same
    as long as nothing is added or taken away; to sort them would take as long.
    Raises TooManyFiles where there are more than ``most``.
    """
    found = Scanned([], array("q"), [])
    _scan(str(folder), start, suffixes, found, 0, most)
    return found


def _scan(
    folder: str, below: str, suffixes: tuple[str, ...], found: Scanned, depth: int, most: int | None
) -> None:
    """Add what stands in a folder, whose path ``below`` that of the whole ends with a slash."""
    try:
        with os.scandir(folder) as items:
            for item in items:
                name = item.name
                if name[0] == ".":
                    continue
                path = f"{below}{name}"
                if not (name.isascii() or is_text(name)):
                    found.others.append(Met(PurePosixPath(path), ItemKind.UNNAMED))
                elif not item.is_file(follow_symlinks=False):
                    _scan_other(item, path, suffixes, found, depth, most)
                elif name.endswith(suffixes) or name.lower().endswith(suffixes):
                    try:
                        told = item.stat(follow_symlinks=False)
                    except FileNotFoundError:  # it was taken away since it was met
                        continue
                    found.paths.append(path)
                    found.signatures.extend(signature(told))
                    if most is not None and len(found.paths) > most:
                        raise TooManyFiles
    except OSError as error:
        found.others.append(Met(PurePosixPath(below), ItemKind.UNREADABLE, error))


def _scan_other(
    item: os.DirEntry[str],
    path: str,
    suffixes: tuple[str, ...],
    found: Scanned,
    depth: int,
    most: int | None,
) -> None:
    """Add what is no file: all that stands in a folder, or the thing itself."""
    if not item.is_dir(follow_symlinks=False):
        kind = ItemKind.LINK if item.is_symlink() else ItemKind.OTHER
        found.others.append(Met(PurePosixPath(path), kind))
    elif depth >= DEEPEST_FOLDER:
        found.others.append(Met(PurePosixPath(path).parent, ItemKind.DEEP))
    else:
        _scan(item.path, f"{path}/", suffixes, found, depth + 1, most)


def unreadable(name: str, error: OSError, hint: str = "", *, what: str = "file") -> Problem:
    """Return the problem of a file or folder that cannot be read."""
    message = f"the {what} cannot be read ({error.strerror})"
    return Problem("unreadable-file", message, hint, place=Place(name), about=About.FILE)


@contextmanager
def written_or_told(what: str, hint: str) -> Iterator[None]:
    """Let a file or folder that cannot be written be told with its reason. Raises FolderError."""
    try:
        yield
    except OSError as error:
        message = f"{what} cannot be written ({error.strerror or error})"
        raise FolderError([Problem("cannot-write", message, hint)]) from None


@contextmanager
def replacing(path: Path) -> Iterator[Path]:
    """Give a file to be written beside another, which it replaces as a whole, with the same permissions.

    A part that a killed run left for the same file is taken away.
    """
    for old in path.parent.glob(f".{_glob_safe(path.name)}.*{SUFFIX_OF_PARTS}"):
        if not is_running(old.name.removesuffix(SUFFIX_OF_PARTS).rpartition(".")[2]):
            old.unlink(missing_ok=True)
    # Nobody can guess the name, so nobody can have put a link there that would be written through.
    part = path.with_name(f".{path.name}.{os.urandom(4).hex()}.{os.getpid()}{SUFFIX_OF_PARTS}")
    try:
        yield part
        keep_attributes(path, part)
        part.replace(path)
    finally:
        part.unlink(missing_ok=True)


def keep_attributes(old: Path, new: Path) -> None:
    """Give a file that replaces another its permissions, its owner and its extended attributes.

    Whatever the system does not allow is left as it is; a link or a missing file has none to give.
    """
    try:
        told = old.lstat()
    except OSError:
        return
    if not stat.S_ISREG(told.st_mode):
        return
    with suppress(OSError, AttributeError):  # there are no owners on some systems
        mine = new.stat()
        if (mine.st_uid, mine.st_gid) != (told.st_uid, told.st_gid):
            os.chown(new, told.st_uid, told.st_gid)
    with suppress(OSError):
        new.chmod(stat.S_IMODE(told.st_mode))
    with suppress(OSError, AttributeError):  # and no extended attributes on others
        for name in os.listxattr(old):
            with suppress(OSError):
                os.setxattr(new, name, os.getxattr(old, name))


def _glob_safe(name: str) -> str:
    """Return a name as a pattern that matches nothing else."""
    return "".join(f"[{char}]" if char in "*?[" else char for char in name)


def is_running(process: str) -> bool:
    """Say whether a process, told by its number, is still there; for what is no number, yes."""
    if not process.isdigit() or os.name == "nt":  # there a signal 0 would end it
        return True
    try:
        os.kill(int(process), 0)
    except ProcessLookupError:
        return False
    except (OSError, OverflowError):
        return True
    return True


def take_lock(handle: int) -> None:
    """Take a lock on an opened file that ends with this process, where the system has such locks.

    Raises BlockingIOError where another process has it.
    """
    try:
        import fcntl
    except ImportError:
        return
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        raise
    except OSError:  # a file system that knows no locks
        return


def write_whole(path: Path, content: bytes) -> None:
    """Write a file, and the folders above it that are not there yet. Raises OSError."""
    path.parent.mkdir(parents=True, exist_ok=True)
    with replacing(path) as part:
        part.write_bytes(content)


@contextmanager
def temporary_folder(fill: Callable[[Path], object]) -> Iterator[Path]:
    """Give a folder that goes away again, filled by a function. Raises FolderError where that has no room."""
    import shutil
    import tempfile

    name = ""
    try:
        try:
            name = tempfile.mkdtemp(prefix="elenchus-")
            fill(Path(name))
        except OSError as error:
            told = error.args[0][0][2] if isinstance(error, shutil.Error) else error.strerror or error
            message = f"no copy of the site can be made in {tempfile.gettempdir()} ({told})"
            hint = "Make room there, or name another folder with TMPDIR."
            raise FolderError([Problem("cannot-write", message, hint)]) from None
        yield Path(name)
    finally:
        if name:
            shutil.rmtree(name, ignore_errors=True)
