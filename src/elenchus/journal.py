"""Changing several files as one: all of them or none, whatever stops the program, and back again.

A change is written down before the first file is touched: what each was, and what it is to be. Where a
run ends in the middle, the next one finishes what it began. What files were before is kept, so that a change
can be undone as long as nobody changed them since.
"""

from __future__ import annotations

import errno
import json
import os
import shutil
import time
from contextlib import contextmanager, suppress
from hashlib import sha256
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from elenchus.errors import FolderError, Problem
from elenchus.files import read_whole, take_lock, write_whole
from elenchus.frozen import Frozen

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Sequence

__all__ = ["FileChange", "Journal", "MadeChange", "Undone"]

_FOLDER = "changes"
_PENDING = "pending"  # names the change that a run is in the middle of
_LOCK = "lock"
_TOLD = "change.json"
_MOST_KEPT = 50  # changes that can be undone
_LARGEST = 2**31
_BUSY = "another run is changing this site"


class _BusyError(FolderError):
    """Another run is changing the site."""


class FileChange(NamedTuple):
    """What becomes of a file, by its path below the site; None where there is none, or will be none."""

    path: str
    before: bytes | None
    after: bytes | None


class MadeChange(Frozen):
    """A change that was made: its number, when (microseconds since 1970), in what words, and of which files.

    ``files`` have a path and the digests of what was there before and after, ``rows`` what was changed in a
    database.
    """

    number: int
    made: int
    told: str
    files: tuple[tuple[str, str, str], ...]
    rows: tuple[Any, ...] = ()
    undoes: int = 0


class Undone(NamedTuple):
    """A change that was taken back, and the files that stay as they are, since somebody changed them."""

    change: MadeChange
    left: tuple[str, ...]


class Journal:
    """The changes of a site, in a folder beside its index. Methods raise FolderError where writing fails."""

    def __init__(self, site: Path, folder: Path) -> None:
        self.site = site
        self.folder = folder / _FOLDER

    @property
    def is_pending(self) -> bool:
        """Say whether a run ended in the middle of a change."""
        return os.path.lexists(self.folder / _PENDING)

    def changes(self) -> list[MadeChange]:
        """Return the changes that can be undone, the last one first."""
        found = map(self._read, sorted(self._numbers(), reverse=True))
        return [change for change in found if change and not change.undoes]

    def _numbers(self) -> list[int]:
        """Return the numbers of all changes of which something is kept."""
        with suppress(FileNotFoundError):
            return [int(each.name) for each in self.folder.iterdir() if each.name.isdigit()]
        return []

    def _read(self, number: int) -> MadeChange | None:
        """Return a change; None where its folder holds none."""
        try:
            found = json.loads(read_whole(self._folder_of(number) / _TOLD, _LARGEST))
            files = tuple((str(path), str(old), str(new)) for path, old, new in found["files"])
            return MadeChange(
                number,
                int(found["made"]),
                str(found["told"]),
                files,
                tuple(found["rows"]),
                int(found["undoes"]),
            )
        except (OSError, ValueError, KeyError, TypeError):
            return None

    def _folder_of(self, number: int) -> Path:
        """Return the folder of a change."""
        return self.folder / f"{number:06}"

    # Writing

    @contextmanager
    def alone(self) -> Iterator[None]:
        """Keep the site to one run that changes it, and finish first what another began."""
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            handle = os.open(
                self.folder / _LOCK, os.O_RDWR | os.O_CREAT | getattr(os, "O_NOFOLLOW", 0), 0o644
            )
        except OSError as error:
            raise _unwritten(self.folder, error) from None
        try:
            take_lock(handle)
            if self.is_pending:
                self._finish()
            yield
        except BlockingIOError:
            raise _BusyError([Problem("changing-already", _BUSY, "Wait until it ends.")]) from None
        finally:
            os.close(handle)

    def finish(self) -> None:
        """Finish the change in whose middle a run ended; one that goes on is left alone."""
        with suppress(_BusyError), self.alone():
            pass

    def write_rows(self, told: str, rows: Sequence[Any], act: Callable[[], None]) -> MadeChange:
        """Note what becomes of rows of a database, then let a function change them.

        Where that raises OSError nothing was changed, and nothing stays noted.
        """
        with self.alone():
            number = max(self._numbers(), default=0) + 1
            change = MadeChange(number, time.time_ns() // 1000, told, (), tuple(rows))
            try:
                self._prepare(self._folder_of(number), change, ())
                act()
            except OSError as error:
                self.forget(change)
                raise _unwritten(self._folder_of(number), error) from None
            return change

    def forget(self, change: MadeChange) -> None:
        """Let go of what is kept of a change."""
        shutil.rmtree(self._folder_of(change.number), ignore_errors=True)

    def write(self, told: str, files: Sequence[FileChange], tick: Callable[[], None]) -> MadeChange:
        """Write files, all of them or none. ``tick`` is called for each."""
        with self.alone():
            return self._write(told, files, tick)

    def _write(
        self, told: str, files: Sequence[FileChange], tick: Callable[[], None], undoes: int = 0
    ) -> MadeChange:
        """Write files, within :meth:`alone`; ``undoes`` is the number of the change that is taken back."""
        number = max(self._numbers(), default=0) + 1
        folder = self._folder_of(number)
        now, digests = time.time_ns() // 1000, tuple(map(_with_digests, files))
        change = MadeChange(number, now, told, digests, undoes=undoes)
        try:
            self._prepare(folder, change, files)
            write_whole(self.folder / _PENDING, folder.name.encode())
        except OSError as error:
            shutil.rmtree(folder, ignore_errors=True)
            raise _unwritten(Path(error.filename or folder), error) from None
        done: list[int] = []
        try:
            for at in range(len(files)):
                self._put(folder, change, at)
                done.append(at)
                tick()
        except OSError as error:
            for at in reversed(done):
                self._take_back(folder, change, at)
            (self.folder / _PENDING).unlink()
            shutil.rmtree(folder, ignore_errors=True)
            raise _unwritten(Path(error.filename2 or error.filename or self.site), error) from None
        self._end(change)
        for old in self.changes()[_MOST_KEPT:]:  # too old to be undone
            shutil.rmtree(self._folder_of(old.number), ignore_errors=True)
        return change

    def _prepare(self, folder: Path, change: MadeChange, files: Sequence[FileChange]) -> None:
        """Write what files are to be beside what they are, which is kept where it lies. Raises OSError."""
        shutil.rmtree(folder, ignore_errors=True)
        for name in ("before", "after"):
            (folder / name).mkdir(parents=True)
        for at, (path, before, after) in enumerate(files):
            target = self.site / path
            if not os.access(target if before is not None else target.parent, os.W_OK):
                raise PermissionError(errno.EACCES, "it may not be written", str(target))
            if after is not None:
                (folder / "after" / str(at)).write_bytes(after)
            if before is not None:
                _keep(target, folder / "before" / str(at), before)
                if after is not None:
                    shutil.copymode(target, folder / "after" / str(at))
        document = {name: getattr(change, name) for name in ("made", "told", "files", "rows", "undoes")}
        write_whole(folder / _TOLD, json.dumps(document, ensure_ascii=False).encode("utf-8", "surrogatepass"))

    def _put(self, folder: Path, change: MadeChange, at: int) -> None:
        """Let one file be what it is to be. Raises OSError."""
        path, _, new = change.files[at]
        target = self.site / path
        if not new:
            target.unlink(missing_ok=True)
            return
        _move(folder / "after" / str(at), target)

    def _take_back(self, folder: Path, change: MadeChange, at: int) -> None:
        """Let one file be what it was. Raises OSError."""
        path, old, _ = change.files[at]
        if old:
            _move(folder / "before" / str(at), self.site / path)
        else:
            (self.site / path).unlink(missing_ok=True)

    def _finish(self) -> None:
        """Let each file of a change be what it was to be, but for those that somebody changed meanwhile."""
        try:
            name = read_whole(self.folder / _PENDING).decode()
            change = self._read(int(name)) if name.isdigit() else None
            if change:
                folder = self._folder_of(change.number)
                for at, (path, old, _) in enumerate(change.files):
                    if _digest(self.site / path) == old:
                        self._put(folder, change, at)
                self._end(change)
            (self.folder / _PENDING).unlink(missing_ok=True)
        except OSError as error:
            raise _unwritten(self.folder, error) from None

    def _end(self, change: MadeChange) -> None:
        """End a change whose files are written; what takes another back is forgotten together with that."""
        shutil.rmtree(self._folder_of(change.number) / "after", ignore_errors=True)
        for number in (change.undoes, change.number) if change.undoes else ():
            shutil.rmtree(self._folder_of(number), ignore_errors=True)
        (self.folder / _PENDING).unlink()

    # Undoing

    def undo(self, change: MadeChange) -> Undone:
        """Let the files of a change be what they were, within :meth:`alone`, but for those changed since."""
        folder = self._folder_of(change.number)
        files, left = [], []
        for at, (path, old, new) in enumerate(change.files):
            if _digest(self.site / path) != new:
                left.append(path)
                continue
            try:
                before = read_whole(folder / "before" / str(at), _LARGEST) if old else None
                now = read_whole(self.site / path, _LARGEST) if new else None
            except OSError as error:
                raise _unwritten(self.site / path, error) from None
            files.append(FileChange(path, now, before))
        if files:
            self._write(f"undo: {change.told}", files, lambda: None, undoes=change.number)
        return Undone(change, tuple(left))


def _with_digests(file: FileChange) -> tuple[str, str, str]:
    """Return a file with the digests of what it was and is to be, nothing for none."""
    old, new = (sha256(each).hexdigest() if each is not None else "" for each in (file.before, file.after))
    return file.path, old, new


def _digest(path: Path) -> str:
    """Return the digest of a file, nothing where there is none."""
    try:
        return sha256(read_whole(path, _LARGEST)).hexdigest()
    except OSError:
        return ""


def _keep(path: Path, kept: Path, content: bytes) -> None:
    """Keep a file as it is: by a second name where the system has such, else by a copy. Raises OSError."""
    try:
        os.link(path, kept, follow_symlinks=False)
    except OSError:
        shutil.copy2(path, kept)
    if read_whole(kept, _LARGEST) != content:
        raise OSError(errno.EBUSY, "it was changed meanwhile", str(path))


def _move(source: Path, target: Path) -> None:
    """Put a file in the place of another as a whole, also on another disk. Raises OSError."""
    target.parent.mkdir(parents=True, exist_ok=True)
    try:
        source.replace(target)
    except OSError as error:
        if error.errno != errno.EXDEV:
            raise
        write_whole(target, source.read_bytes())


def _unwritten(path: Path, error: OSError) -> FolderError:
    """Return the error of what could not be written."""
    message = f"{path} cannot be written ({error.strerror or error}), so nothing was changed"
    return FolderError([Problem("cannot-write", message, "Make room for it, or let it be written.")])
