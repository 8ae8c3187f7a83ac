"""Tables written as files of Parquet: those of a snapshot, which one file describes and switches."""

from __future__ import annotations

import errno
import json
from hashlib import blake2b
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow.parquet as pq

from elenchus.files import is_file, read_whole, replacing, write_whole
from elenchus.tables.backend import exported_files
from elenchus.tables.frames import arrow_schema
from elenchus.tables.layout import VERSION, Exported
from elenchus.tables.places import ABOUT

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
    from pathlib import Path

    from numpy.typing import NDArray

    from elenchus.tables.frames import Frames
    from elenchus.tables.layout import Layout, TableLayout

__all__ = ["to_folder"]

_BY_YEAR = 2_000_000  # entries up to which a file has those of a year, beyond of a month
_NEVER = np.iinfo(np.int64).min  # the year or month of entries without a date


def to_folder(frames: Frames, folder: Path, told: Callable[..., str]) -> Exported:
    """Write content as files, each with the entries of a year or a month; ``told`` describes all of it.

    A file is called by a digest of what it holds, so that one which is there already is not written again.
    Those of the snapshot before stay for whoever reads them yet; older ones go, if an export listed them:
    a folder may hold other files, and links. Raises OSError where a link stands in place of a folder.
    """
    folder.mkdir(parents=True, exist_ok=True)
    for table in frames.layout.tables:
        if (folder / table.name).is_symlink():
            raise OSError(errno.ELOOP, f"{table.name} is a link", str(folder / table.name))
    before = _described(folder, frames.layout)
    layout = json.dumps(frames.layout.as_data(), sort_keys=True).encode()
    files: dict[str, list[str]] = {table.name: [] for table in frames.layout.tables}
    written = 0
    for name, rows in _chunks(frames):
        digest = _digest(layout, name.encode(), frames.marks[rows].tobytes())
        wanted = {table.name: f"{table.name}/{name}-{digest}.parquet" for table in frames.layout.tables}
        del wanted["terms"]  # which belong to no entry
        written += len(rows) if not all(is_file(folder / path) for path in wanted.values()) else 0
        for table in frames.layout.tables:
            if table.name in wanted:
                files[table.name].append(wanted[table.name])
                _write(folder / wanted[table.name], table, frames.batches(table, rows))
    terms = frames.layout.table("terms")
    batches = list(frames.batches(terms, np.zeros(0, dtype=np.intp)))
    digest = _digest(layout, json.dumps([batch.to_pylist() for batch in batches]).encode())
    files["terms"].append(f"terms/all-{digest}.parquet")
    _write(folder / files["terms"][0], terms, batches)
    known: Mapping[str, Sequence[str]] = before.get("files", {})
    write_whole(folder / ABOUT, told(files=files, files_before=known).encode())
    _sweep(folder, before.get("files_before", {}), files, known)
    if before.get("complete") and not frames.complete:  # what is no longer to be told does not stay
        _sweep(folder, known, files)
    count = len(frames.data.entries)
    return Exported(written, max(0, int(before.get("entries", 0)) - count), count - written)


def _digest(*parts: bytes) -> str:
    """Return a short digest."""
    found = blake2b(digest_size=10)
    for each in parts:
        found.update(each)
    return found.hexdigest()


def _described(folder: Path, layout: Layout) -> dict[str, Any]:
    """Return the description of a folder; nothing where there is none that can be read."""
    try:
        found = json.loads(read_whole(folder / ABOUT)) if is_file(folder / ABOUT) else {}
        if found["version"] > VERSION:
            return {}
        lists = {name: exported_files(found.get(name, {}), layout) for name in ("files", "files_before")}
        return {"entries": int(found["entries"]), "complete": found.get("complete", True), **lists}
    except (OSError, ValueError, AttributeError, TypeError, KeyError, RecursionError):
        return {}


def _chunks(frames: Frames) -> Iterator[tuple[str, NDArray[np.intp]]]:
    """Yield the entries that share a file, with their year or month; ``undated`` for those without a date."""
    dates = frames.data.dates("date")
    unit = "Y" if len(dates.keys) <= _BY_YEAR else "M"
    times = dates.local.astype("datetime64[us]").astype(f"datetime64[{unit}]")
    numbers = np.where(dates.valid, times.astype(np.int64), _NEVER)
    for number in np.unique(numbers)[::-1].tolist() or [_NEVER]:
        rows = np.flatnonzero(numbers == number)
        yield (str(times[rows[0]]) if number != _NEVER else "undated"), rows


def _write(path: Path, table: TableLayout, batches: Iterable[Any]) -> None:
    """Write a file as a whole or not at all, unless it is there."""
    if is_file(path):
        return
    path.parent.mkdir(parents=True, exist_ok=True)
    schema = arrow_schema(table)
    with replacing(path) as beside, pq.ParquetWriter(beside, schema, compression="zstd") as writer:
        for batch in batches:
            writer.write_batch(batch)


def _sweep(folder: Path, old: Mapping[str, Sequence[str]], *kept: Mapping[str, Sequence[str]]) -> None:
    """Remove the files of an old snapshot that neither this one nor the one before has."""
    wanted = {name for files in kept for names in files.values() for name in names}
    for name in (each for names in old.values() for each in names if each not in wanted):
        path = folder / name
        if not (path.parent.is_symlink() or path.is_symlink()):
            path.unlink(missing_ok=True)
