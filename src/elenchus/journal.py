"""Changing several files as one: all of them or none, whatever stops the program, and back again.

A change is written down before the first file is touched: what each was, and what it is to be. If a run
ends in the middle, the next one that writes finishes the change. Rows of databases come last, in one
transaction: a change whose rows were not written is taken back. Copies of the old files are kept, so that
a change can be undone as long as nobody changed the files since.

The journal lies in the site, and a site can come from anybody. So each change is signed with a key that lies
outside of it, paths lead to plain files below the site only, and copies are compared with their digests.
"""

from __future__ import annotations

import errno
import json
import os
import re
import shutil
import time
from contextlib import contextmanager, suppress
from hashlib import sha256
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple, Protocol

from elenchus.errors import ElenchusError, FolderError, Problem
from elenchus.files import keep_attributes, read_whole, take_lock, write_whole
from elenchus.frozen import Frozen, replace
from elenchus.userdata import signed

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Sequence

__all__ = ["FileChange", "Journal", "MadeChange", "RowKeeper", "Undone"]

_PENDING = "pending"  # names the change that a run is in the middle of
_LOCK = "lock"
_TOLD = "change.json"
_MOST_KEPT = 50  # changes that can be undone
_LARGEST = 2**31
_LATEST = 250_000_000_000_000_000  # microseconds since 1970 that a date can have
_NUMBER = re.compile(r"[0-9]{6,9}")
_NEVER_CONTENT = frozenset({".elenchus", ".elenchus-changes", ".git"})
_SAVED = ("made", "told", "files", "rows", "undoes")
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
    database. ``is_ours`` is false if another user made it, or if it was made in another folder. ``linked``
    are files that had other names, hard links, which keep the old content.
    """

    number: int
    made: int
    told: str
    files: tuple[tuple[str, str, str], ...]
    rows: tuple[Any, ...] = ()
    undoes: int = 0
    is_ours: bool = True
    linked: tuple[str, ...] = ()


class RowKeeper(Protocol):
    """What writes rows of the databases of a site. Methods raise FolderError and SiteError."""

    def write(self, rows: Sequence[Any]) -> None:
        """Change rows, all of them or none."""

    def reverse(self, rows: Sequence[Any]) -> tuple[Sequence[Any], Sequence[str]]:
        """Return what takes a change of rows back, and what cannot be since it was changed again."""

    def are_written(self, rows: Sequence[Any]) -> bool:
        """Say whether all rows are as a change left them; what it did only in part is taken back."""


class Undone(NamedTuple):
    """A change that was taken back, in how many files, and the files that somebody changed since."""

    change: MadeChange
    restored: int
    left: tuple[str, ...]


class Journal:
    """The changes of a site, in a folder of their own. Methods raise FolderError if writing fails."""

    def __init__(self, site: Path, folder: Path, rows: RowKeeper) -> None:
        self.site = site
        self.rows = rows
        self.folder = folder

    @property
    def unfinished(self) -> MadeChange | None:
        """The change in whose middle a run ended."""
        with suppress(OSError):
            name = read_whole(self.folder / _PENDING).decode("ascii", "replace")
            return self._read(int(name)) if _NUMBER.fullmatch(name) else None
        return None

    def changes(self) -> list[MadeChange]:
        """Return the changes that can be undone, the last one first."""
        found = map(self._read, sorted(self._numbers(), reverse=True))
        return [change for change in found if change and not change.undoes]

    def _numbers(self) -> list[int]:
        """Return the numbers of all changes of which something is kept."""
        with suppress(FileNotFoundError, NotADirectoryError):
            return [int(each.name) for each in self.folder.iterdir() if _NUMBER.fullmatch(each.name)]
        return []

    def _read(self, number: int) -> MadeChange | None:
        """Return a change; None where its folder holds none."""
        try:
            found = json.loads(read_whole(self._folder_of(number) / _TOLD, _LARGEST))
            files = tuple((str(path), str(old), str(new)) for path, old, new in found["files"])
            made = int(found["made"])
            if not 0 <= made < _LATEST:
                return None
            change = MadeChange(
                number, made, str(found["told"]), files, tuple(found["rows"]), int(found["undoes"])
            )
            signature = str(found.get("signature", ""))
        except (OSError, ValueError, KeyError, TypeError, RecursionError):
            return None
        return replace(change, is_ours=bool(signature) and signature == self._signature(change))

    def _signature(self, change: MadeChange, *, make_key: bool = False) -> str:
        """Return what only this user can write for a change of this folder; empty without a key."""
        document = {name: getattr(change, name) for name in _SAVED}
        text = json.dumps([document, str(self.site.resolve()), change.number], sort_keys=True)
        return signed(text.encode(), make_key=make_key)

    def _folder_of(self, number: int) -> Path:
        """Return the folder of a change."""
        return self.folder / f"{number:06}"

    def _target(self, path: str) -> Path:
        """Return the file of a path in a change. Raises FolderError if it is no plain file below the site."""
        steps = path.split("/")
        is_wrong = "\0" in path or (os.sep != "/" and os.sep in path) or Path(path).is_absolute()
        if is_wrong or any(step in ("", ".", "..") or step.casefold() in _NEVER_CONTENT for step in steps):
            raise _refused(f"{path} is not content of this site")
        target = self.site
        for step in steps:
            target = target / step
            if target.is_symlink():
                raise _refused(f"{target.relative_to(self.site)}, on the way to {path}, is a link")
        return target

    # Writing

    @contextmanager
    def alone(self, *, finishes: bool = True) -> Iterator[None]:
        """Keep the site to one run that changes it; finish first what another began, unless told not to."""
        if self.folder.is_symlink():
            raise _unwritten(self.folder, OSError(errno.ELOOP, "it is a link"))
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            if not os.path.lexists(self.folder / ".gitignore"):  # a link is not written through
                (self.folder / ".gitignore").write_text("*\n", encoding="utf-8")
            handle = os.open(
                self.folder / _LOCK, os.O_RDWR | os.O_CREAT | getattr(os, "O_NOFOLLOW", 0), 0o644
            )
        except OSError as error:
            raise _unwritten(self.folder, error) from None
        try:
            take_lock(handle)
            if finishes:
                self._finish()
            yield
        except BlockingIOError:
            raise _BusyError([Problem("changing-already", _BUSY, "Wait until it ends.")]) from None
        finally:
            os.close(handle)

    def finish(self) -> MadeChange | None:
        """Finish the change in whose middle a run ended, and return it; leave one alone that goes on.

        Raises FolderError, also for one that was not made here by this user.
        """
        change = self.unfinished
        if change is None:
            return None
        try:
            with self.alone():
                return change
        except _BusyError:
            return None

    def forget(self, change: MadeChange) -> None:
        """Let go of what is kept of a change."""
        shutil.rmtree(self._folder_of(change.number), ignore_errors=True)

    def write(
        self, told: str, files: Sequence[FileChange], tick: Callable[[], None], rows: Sequence[Any] = ()
    ) -> MadeChange:
        """Write files and then rows of databases, all of them or none. ``tick`` is called for each file."""
        with self.alone():
            return self._write(told, files, tick, rows)

    def _write(
        self,
        told: str,
        files: Sequence[FileChange],
        tick: Callable[[], None],
        rows: Sequence[Any],
        undoes: int = 0,
    ) -> MadeChange:
        """Write files and rows, within :meth:`alone`; ``undoes`` is the number of what is taken back."""
        number = max(self._numbers(), default=0) + 1
        folder = self._folder_of(number)
        targets = [self._target(file.path) for file in files]
        linked = tuple(
            file.path for file, target in zip(files, targets, strict=True) if _has_other_names(target)
        )
        now, digests = time.time_ns() // 1000, tuple(map(_with_digests, files))
        change = MadeChange(number, now, told, digests, tuple(rows), undoes, linked=linked)
        try:
            self._prepare(folder, change, files, targets)
            write_whole(self.folder / _PENDING, folder.name.encode())
        except OSError as error:
            with suppress(OSError):
                (self.folder / _PENDING).unlink(missing_ok=True)
            shutil.rmtree(folder, ignore_errors=True)
            raise _unwritten(Path(error.filename or folder), error) from None
        done: list[int] = []
        try:
            for at in range(len(files)):
                self._put(folder, change, at)
                done.append(at)
                tick()
            if rows:
                self.rows.write(rows)
        except (OSError, ElenchusError) as error:
            for at in reversed(done):
                self._take_back(folder, change, at)
            (self.folder / _PENDING).unlink(missing_ok=True)
            shutil.rmtree(folder, ignore_errors=True)
            if isinstance(error, ElenchusError):
                raise
            raise _unwritten(Path(error.filename2 or error.filename or self.site), error) from None
        self._end(change)
        for old in self.changes()[_MOST_KEPT:]:  # too old to be undone
            shutil.rmtree(self._folder_of(old.number), ignore_errors=True)
        return change

    def _prepare(
        self, folder: Path, change: MadeChange, files: Sequence[FileChange], targets: Sequence[Path]
    ) -> None:
        """Write the new content of files beside copies of the old one. Raises OSError."""
        shutil.rmtree(folder, ignore_errors=True)
        for name in ("before", "after"):
            (folder / name).mkdir(parents=True)
        for at, ((_, before, after), target) in enumerate(zip(files, targets, strict=True)):
            if not os.access(target if before is not None else target.parent, os.W_OK):
                raise PermissionError(errno.EACCES, "it may not be written", str(target))
            if after is not None:
                (folder / "after" / str(at)).write_bytes(after)
            if before is not None:
                _keep(target, folder / "before" / str(at), before)
        document = {name: getattr(change, name) for name in _SAVED}
        document["signature"] = self._signature(change, make_key=True)
        write_whole(folder / _TOLD, json.dumps(document, ensure_ascii=False).encode("utf-8", "surrogatepass"))

    def _put(self, folder: Path, change: MadeChange, at: int) -> None:
        """Give one file its new content. Raises OSError, FolderError."""
        path, _, new = change.files[at]
        self._move(folder / "after" / str(at), path, new)

    def _take_back(self, folder: Path, change: MadeChange, at: int) -> None:
        """Give one file its old content. Raises OSError, FolderError."""
        path, old, _ = change.files[at]
        self._move(folder / "before" / str(at), path, old)

    def _move(self, source: Path, path: str, digest: str) -> None:
        """Put a kept file in the place of one of the site, or delete that if there is no digest.

        The way to the file is looked at again: a folder may have become a link since.
        Raises OSError, FolderError.
        """
        target = self._target(path)
        if not digest:
            target.unlink(missing_ok=True)
            return
        target.parent.mkdir(parents=True, exist_ok=True)
        keep_attributes(target, source)
        try:
            source.replace(target)
        except OSError as error:
            if error.errno != errno.EXDEV:
                raise
            write_whole(target, source.read_bytes())

    def _checked(self, change: MadeChange, part: str, at: int, digest: str) -> bytes:
        """Return a kept file of a change. Raises FolderError if it is damaged, OSError."""
        content = read_whole(self._folder_of(change.number) / part / str(at), _LARGEST)
        if sha256(content).hexdigest() != digest:
            raise _refused(
                f"the copy of {change.files[at][0]} in {self._folder_of(change.number)} is damaged"
            )
        return content

    def _finish(self) -> None:
        """Give each file of an unfinished change its new content, unless somebody changed it meanwhile.

        One whose rows were not written any more is taken back.
        """
        change = self.unfinished
        try:
            if change:
                if not change.is_ours:
                    raise _foreign(change)
                if change.rows and not self.rows.are_written(change.rows):
                    self.undo(change)
                    return
                waiting = [
                    at for at, (path, old, _) in enumerate(change.files) if _digest(self._target(path)) == old
                ]
                for at in waiting:
                    if new := change.files[at][2]:
                        self._checked(change, "after", at, new)
                for at in waiting:
                    self._put(self._folder_of(change.number), change, at)
                self._end(change)
            (self.folder / _PENDING).unlink(missing_ok=True)
        except OSError as error:
            raise _unwritten(self.folder, error) from None

    def _end(self, change: MadeChange) -> None:
        """End a change whose files are written; what takes another back is forgotten together with that."""
        shutil.rmtree(self._folder_of(change.number) / "after", ignore_errors=True)
        for number in (change.undoes, change.number) if change.undoes else ():
            shutil.rmtree(self._folder_of(number), ignore_errors=True)
        with suppress(OSError):  # all is written; what is noted still is found to be so by the next run
            (self.folder / _PENDING).unlink(missing_ok=True)

    # Undoing

    def undo(self, change: MadeChange) -> Undone:
        """Give the files of a change their old content, within :meth:`alone`, but for those changed since.

        Of a change that is unfinished, files and rows that still are what they were stay so. What was changed
        since stays as it is, and is named.
        """
        unfinished, rows = self.unfinished, change.rows
        if unfinished and unfinished.number == change.number and not self.rows.are_written(rows):
            rows = ()
        back, changed = self.rows.reverse(rows) if rows else ((), ())
        files: list[FileChange] = []
        left: list[str] = [*changed]
        for at, (path, old, new) in enumerate(change.files):
            now = _digest(self._target(path))
            if now == old:
                continue
            if now != new:
                left.append(path)
                continue
            try:
                before = self._checked(change, "before", at, old) if old else None
                content = read_whole(self.site / path, _LARGEST) if new else None
            except OSError as error:
                raise _unwritten(self.site / path, error) from None
            files.append(FileChange(path, content, before))
        if files or back:
            self._write(f"undo: {change.told}", files, lambda: None, back, undoes=change.number)
        else:
            (self.folder / _PENDING).unlink(missing_ok=True)
            if not left or changed:  # rows that are not as they were left will not be so again
                self.forget(change)
        return Undone(replace(change, rows=tuple(back)), len(files), tuple(left))


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


def _has_other_names(path: Path) -> bool:
    """Say whether a file has several hard links."""
    try:
        return path.lstat().st_nlink > 1
    except OSError:
        return False


def _keep(path: Path, kept: Path, content: bytes) -> None:
    """Keep a copy of a file: a second name for it would change along with it. Raises OSError."""
    shutil.copy2(path, kept, follow_symlinks=False)
    if read_whole(kept, _LARGEST) != content:
        raise OSError(errno.EBUSY, "it was changed meanwhile", str(path))


def _refused(what: str) -> FolderError:
    """Return the error of a journal that asks for something that is never done."""
    hint = "Delete that folder of .elenchus-changes if you did not expect it."
    return FolderError([Problem("journal-refused", f"{what}, so nothing was changed", hint)])


def _foreign(change: MadeChange) -> FolderError:
    """Return the error of an unfinished change that somebody else began."""
    message = f"the unfinished change {change.told} was not made by you in this folder"
    return FolderError([Problem("journal-refused", message, "elenchus undo takes it back, after asking.")])


def _unwritten(path: Path, error: OSError) -> FolderError:
    """Return the error of what could not be written."""
    message = f"{path} cannot be written ({error.strerror or error}), so nothing was changed"
    return FolderError([Problem("cannot-write", message, "Make room for it, or let it be written.")])
