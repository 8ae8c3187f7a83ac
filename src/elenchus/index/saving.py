"""Writing the index of a site: its parts first, and last the file that names them."""

from __future__ import annotations

import os
import shutil
from contextlib import suppress
from typing import TYPE_CHECKING, Any

from elenchus.engine.columns.strings import Strings
from elenchus.files import SUFFIX_OF_PARTS, is_running, signature
from elenchus.index.pack import Pack, write_pack
from elenchus.index.problems import packed_problems
from elenchus.index.records import packed_records
from elenchus.index.store import PARTS, ROOT, digest_of_sources, folders_for, program
from elenchus.index.tables import packed_tables

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence
    from pathlib import Path

    from elenchus.engine.columns.dataset import Dataset
    from elenchus.engine.columns.recordtable import RecordTable
    from elenchus.index.store import KeptIndex, Wanted
    from elenchus.index.units import Units

__all__ = ["copy_index", "save", "save_units"]


def save(wanted: Wanted, units: Units, records: RecordTable, dataset: Dataset) -> None:
    """Write an index where it can be written; where it cannot, the next run reads all content again."""
    for folder in folders_for(wanted.folder):
        try:
            folder.mkdir(parents=True, exist_ok=True)
            ignored = folder / ".gitignore"
            if not os.path.lexists(ignored):  # a link is not written through
                ignored.write_text("# Made by elenchus, and safe to delete.\n*\n", encoding="utf-8")
            _write(folder, wanted, units, records, dataset)
        except OSError:
            continue
        return


def _write(folder: Path, wanted: Wanted, units: Units, records: RecordTable, dataset: Dataset) -> None:
    """Write the files of an index, the root last: until then the one before holds. Raises OSError."""
    token = f"{os.getpid()}-{os.urandom(4).hex()}"
    told, sections, shared = packed_records(records)
    parts = {"records": (told, sections), "tables": packed_tables(dataset, shared)}
    files: dict[str, dict[str, Any]] = {}
    for name, (meta, part) in parts.items():
        path = folder / f"{name}-{token}"
        write_pack(path, meta, part)
        files[name] = {"file": path.name, "signature": signature(path.stat())}
    meta = {
        "program": program(),
        "sources": digest_of_sources(wanted.specs),
        "definition": wanted.digest,
        "parts": files,
    }
    before = _parts_before(folder)
    _write_root(folder, meta, units)
    _clean(folder, [each["file"] for each in files.values()], before)


def save_units(kept: KeptIndex, units: Units) -> None:
    """Write that units look otherwise than when an index was written, and are still the same."""
    with suppress(OSError):
        _write_root(kept.folder, kept.meta, units)


def copy_index(kept: KeptIndex, folder: Path) -> None:
    """Write the files of an index to a folder, in place of what that has; a kill leaves none.

    Raises OSError.
    """
    coming = folder.with_name(f"{folder.name}-coming")
    shutil.rmtree(coming, ignore_errors=True)
    coming.mkdir()
    for path in kept.paths:
        shutil.copyfile(path, coming / path.name)
    shutil.rmtree(folder, ignore_errors=True)
    coming.rename(folder)


def _write_root(folder: Path, meta: Mapping[str, Any], units: Units) -> None:
    """Write the root of an index. Raises OSError."""
    seen = units.seen
    told = {
        **meta,
        "parts": {
            name: {**part, "signature": signature((folder / part["file"]).stat())}
            for name, part in meta["parts"].items()
        },
        "problems": packed_problems(seen.problems),
        "notes": list(seen.notes),
        "unit_problems": {at: packed_problems(each) for at, each in units.problems.items()},
    }
    sections = {
        "paths": Strings.of(seen.paths),
        "sources": seen.sources,
        "signatures": seen.signatures.reshape(-1),
        "unsure": seen.unsure,
        "digests": units.digests,
        "firsts": units.firsts,
        "counts": units.counts,
    }
    write_pack(folder / ROOT, told, sections)


def _parts_before(folder: Path) -> list[str]:
    """Return the files that the present root of an index names."""
    try:
        return [part["file"] for part in Pack(folder / ROOT).meta["parts"].values()]
    except (OSError, ValueError, KeyError, TypeError, AttributeError):  # there is none, or none that holds
        return []


def _clean(folder: Path, used: Sequence[str], before: Sequence[str]) -> None:
    """Take away files of an index that nobody needs: those before, and what killed runs have left.

    Files of a run that is still there stay: it may be about to write the root that names them.
    """
    for each in folder.iterdir():
        name = each.name.lstrip(".").removesuffix(SUFFIX_OF_PARTS)
        stem, _, rest = name.partition("-")
        is_old = each.name in before or not is_running(rest.partition("-")[0])
        if stem in PARTS and each.name not in used and is_old:
            each.unlink(missing_ok=True)
