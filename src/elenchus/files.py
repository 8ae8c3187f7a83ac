"""Writing files so that a kill at any moment leaves the old one or the new one, never a part."""

from __future__ import annotations

import os
import shutil
from contextlib import contextmanager
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Iterator
    from pathlib import Path

__all__ = ["replacing", "write_whole"]


@contextmanager
def replacing(path: Path) -> Iterator[Path]:
    """Give a file to be written beside another, which it replaces as a whole, with the same permissions."""
    part = path.with_name(f".{path.name}.{os.getpid()}.part")
    try:
        yield part
        if path.exists():
            shutil.copymode(path, part)
        part.replace(path)
    finally:
        part.unlink(missing_ok=True)


def write_whole(path: Path, content: bytes) -> None:
    """Write a file, and the folders above it that are not there yet. Raises OSError."""
    path.parent.mkdir(parents=True, exist_ok=True)
    with replacing(path) as part:
        part.write_bytes(content)
