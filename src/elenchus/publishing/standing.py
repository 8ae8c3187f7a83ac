"""What stands in a published folder: which files are still those that were written there."""

from __future__ import annotations

import os
import stat
from typing import TYPE_CHECKING

from elenchus.publishing.last_run import sign_of
from elenchus.publishing.manifest import digest_of

if TYPE_CHECKING:
    from collections.abc import Mapping
    from pathlib import Path

    from elenchus.publishing.last_run import Known

__all__ = ["PublishedFolder"]


class PublishedFolder:
    """A published folder, with what the last run knew of its files: those not touched are not read again."""

    def __init__(self, folder: Path, known: Mapping[str, Known]) -> None:
        self.folder = str(folder)
        self.known = known
        self.folders: dict[str, bool] = {"": True}

    def is_as_known(self, path: str) -> Known | None:
        """Return what is known of a file if it stands as it was written, its sign made sure; else None."""
        known = self.known.get(path)
        if known is None or not self.is_folder(path.rpartition("/")[0]):
            return None
        try:
            told = os.lstat(f"{self.folder}/{path}")
        except OSError:
            return None
        if not stat.S_ISREG(told.st_mode):
            return None
        sign = sign_of(told)
        if any(sign) and sign == known.sign:
            return known
        return known._replace(sign=sign) if self.read(path) == known.digest else None

    def digest(self, path: str) -> str:
        """Return the digest of the file that stands at a path. Raises OSError."""
        known = self.is_as_known(path)
        return known.digest if known else self.read(path)

    def read(self, path: str) -> str:
        """Return the digest of the file that stands at a path, read now. Raises OSError."""
        with open(f"{self.folder}/{path}", "rb") as file:  # noqa: PTH123 - thousands of them
            return digest_of(file.read())

    def is_folder(self, path: str) -> bool:
        """Say whether a path is a folder of its own, and all above it are: none is a link."""
        if path not in self.folders:
            is_inside = self.is_folder(path.rpartition("/")[0])
            try:
                mode = os.lstat(f"{self.folder}/{path}").st_mode
            except OSError:
                mode = 0
            self.folders[path] = is_inside and stat.S_ISDIR(mode)
        return self.folders[path]
