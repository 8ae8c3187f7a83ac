"""Content written as tables: to a folder, or to a database."""

from __future__ import annotations

import json
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import ibis

from elenchus.errors import OptionError, Problem
from elenchus.files import written_or_told
from elenchus.tables.backend import DuckBackend
from elenchus.tables.databases import DuckTarget, duckdb_file, postgresql_server, to_database
from elenchus.tables.folders import to_folder
from elenchus.tables.frames import Frames
from elenchus.tables.places import is_folder, is_server, scheme_of
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from elenchus.engine.columns.dataset import Dataset
    from elenchus.tables.layout import Exported

__all__ = ["export", "in_memory"]


def export(data: Dataset, place: str, *, complete: bool = False) -> Exported:
    """Write content as tables to a place; where they are there already, only what changed.

    Bodies of entries that are held back, fields that look private and those whose names begin with ``_``
    are written only where they are to be ``complete``.

    Whoever reads meanwhile sees what was there, and a kill leaves it. Raises OptionError for a place of
    another sort.
    """
    frames = Frames(data, complete)
    done = _written(frames, place)
    return done._replace(left_out=frames.left_out, texts=frames.texts_left_out)


def _written(frames: Frames, place: str) -> Exported:
    """Write tables to a place of any sort. Raises OptionError for one that is none."""
    if scheme_of(place) == "duckdb":
        with duckdb_file(place) as file:
            return to_database(frames, file, _told(frames))
    if is_server(place):
        with postgresql_server(place) as server:
            return to_database(frames, server, _told(frames))
    if is_folder(place):
        with written_or_told(f"the folder {place}", "Name another folder."):
            return to_folder(frames, Path(place), partial(_told, frames))
    message = f"{quoted(place)} is no place to export to"
    hint = "Write a folder, duckdb:///FILE, or postgresql://USER@HOST/DATABASE."
    raise OptionError([Problem("unknown-engine", message, hint)])


def _told(frames: Frames, **more: Any) -> str:
    """Return the description of the tables, as JSON."""
    entries = len(frames.data.entries)
    about = {"zone": frames.data.zone.key, "entries": entries, "content": frames.digest}
    data = {**frames.layout.as_data(), **about, **more}
    return json.dumps(data, ensure_ascii=False, indent=1) + "\n"


def in_memory(data: Dataset) -> DuckBackend:
    """Return content as tables in the memory of this process."""
    frames, connection = Frames(data, complete=True), ibis.duckdb.connect()
    to_database(frames, DuckTarget(connection.con), _told(frames))
    return DuckBackend("memory", connection)
