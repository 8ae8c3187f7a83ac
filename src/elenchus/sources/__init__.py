"""Where content comes from: one file a format, found by scanning this folder.

A source consists of units: files, members of archives, parts of a table. A source module tells which there
are, without reading them, and reads one; the module's name is the word that a site file writes after
``read =``. Modules that begin with a line are shared by them.
"""

from __future__ import annotations

import pkgutil
from functools import cache
from importlib import import_module
from typing import TYPE_CHECKING, Any, cast

from elenchus.errors import SourceError
from elenchus.sources._connection import connected, quoted_name, refusals
from elenchus.sources._paths import below
from elenchus.sources._spec import (
    FILE_PARTS,
    LEFT_OUT,
    MOST_KEYS,
    Editor,
    ExtrasSpec,
    Item,
    Reader,
    Scan,
    Source,
    SourceSpec,
    TableSpec,
    TermsSpec,
    UnitContent,
    UnreachableError,
)

if TYPE_CHECKING:
    from collections.abc import Sequence
    from pathlib import Path

    from elenchus.schema.edits import EntryEdit, RowChange, TermWords, UneditableError

__all__ = [
    "FILE_PARTS", "LEFT_OUT", "MOST_KEYS", "Editor", "ExtrasSpec", "Item", "Reader", "Scan", "Source",
    "SourceSpec", "TableSpec", "TermsSpec", "UnitContent", "UnreachableError", "are_rows_written",
    "below", "below_site", "connected", "content_of", "content_of_rows", "edit_beside", "editor", "names",
    "only_read", "pulse_of", "quoted_name", "refusals", "row_changes", "rows_back", "source", "table_lines",
    "text_of", "unit_contents", "write_rows",
]  # fmt: skip


def table_lines(spec: SourceSpec, content: UnitContent, most: int) -> tuple[list[str], bool]:
    """Return the first lines of a table, up to a number of characters, and whether all are in its encoding.

    Raises OSError.
    """
    from elenchus.sources.csv import lines_of

    return lines_of(spec, content, most)  # type: ignore[arg-type]  # it is one of a file


def content_of(data: bytes) -> UnitContent:
    """Return what a file would hold."""
    from elenchus.sources._files import FileContent

    return FileContent.of(data)


def text_of(data: bytes, spec: SourceSpec) -> str:
    """Return the text of a file of a source, as far as it is one."""
    from elenchus.sources._encoding import decoded
    from elenchus.sources._simple import Unreadable

    try:
        return decoded(data, spec)
    except Unreadable:
        return data.decode("utf-8", "replace")


def content_of_rows(
    spec: SourceSpec, root: Path, changes: Sequence[RowChange], units: Sequence[str]
) -> list[UnitContent]:
    """Return what units of a table would hold with some changes, which are made and taken back.

    Raises OSError.
    """
    from elenchus.sources._table_edit import rows_after

    return rows_after(spec, root, changes, units)


def row_changes(
    spec: SourceSpec,
    root: Path,
    edits: Sequence[EntryEdit],
    terms: TermWords | None = None,
    *,
    new_terms: bool = False,
) -> list[RowChange]:
    """Return what is to become of the rows of a table so that entries change.

    ``terms`` are other words for terms, where the database has a table of these; to that, ``new_terms`` are
    added if they may be. Raises UneditableError.
    """
    from elenchus.sources._table_edit import row_changes

    return row_changes(spec, root, edits, terms, new_terms=new_terms)


def rows_back(
    spec: SourceSpec, root: Path, changes: Sequence[RowChange]
) -> tuple[list[RowChange], list[tuple[RowChange, Any]]]:
    """Return what takes changes of rows back, and those that cannot be, with what stands there now.

    Raises OSError.
    """
    from elenchus.sources._table_edit import rows_back

    return rows_back(spec, root, changes)


def unit_contents(spec: SourceSpec, root: Path, units: Sequence[str]) -> list[UnitContent]:
    """Return what units of a source hold now. Raises SourceError."""
    from contextlib import closing

    if not units:
        return []
    with closing(source(spec.read).reader(spec, root, units)) as reader:
        try:
            return [reader.content(unit) for unit in units]
        except UnreachableError as error:
            raise SourceError([error.problem]) from None


def pulse_of(spec: SourceSpec, root: Path) -> str:
    """Return what changes when the tables of a source do; nothing if these cannot be read now."""
    from elenchus.sources.database import pulse

    return pulse(spec, root)


def write_rows(spec: SourceSpec, root: Path, changes: Sequence[RowChange]) -> None:
    """Change rows of a table, all or none. Raises OSError, also where one is not as it was."""
    from elenchus.sources._table_edit import write_rows

    write_rows(spec, root, changes)


def are_rows_written(spec: SourceSpec, root: Path, changes: Sequence[RowChange]) -> bool:
    """Say whether all rows of a table are as changes leave them. Raises OSError."""
    from elenchus.sources._table_edit import are_rows_written

    return are_rows_written(spec, root, changes)


def edit_beside(spec: SourceSpec, unit: str) -> str:
    """Return the file that would hold a pending edit of a unit; nothing where its format has none."""
    if spec.read != "markdown":
        return ""
    stem, dot, ending = unit.rpartition(".")
    return f"{stem}.edit{dot}{ending}" if dot else ""


def editor(spec: SourceSpec, unit: str) -> Editor:
    """Return what changes the bytes of a file, given what entries are to have. Raises UneditableError."""
    from elenchus.schema.edits import UneditableError

    found: Editor | None = getattr(source(spec.read), "edited", None)
    if not below_site(unit):
        raise UneditableError("it lies outside the site", 0, "Change it there.")
    if found is None or spec.url:
        message = f"nothing here writes what {spec.read} reads"
        raise UneditableError(message, 0, "Change it where it comes from.")
    if unit.lower().endswith(".gz"):
        raise UneditableError("it is packed", 0, "Unpack it first.")
    return found


def below_site(path: str) -> bool:
    """Say whether a path leads below the folder of the site, as far as its text tells."""
    steps = path.replace("\\", "/").split("/")
    return ".." not in steps and not path.startswith(("/", "\\")) and path[1:2] != ":"


def only_read(spec: SourceSpec, unit: str) -> UneditableError | None:
    """Return why nothing here changes what a unit of a source holds; None where something does."""
    from elenchus.schema.edits import UneditableError
    from elenchus.sources._table_edit import writable_table

    try:
        _ = writable_table(spec) if spec.table else editor(spec, unit)
    except UneditableError as error:
        return error
    return None


def names() -> list[str]:
    """Return the words that may stand after ``read =``."""
    found = (module.name for module in pkgutil.iter_modules(__path__))
    return sorted(name for name in found if not name.startswith("_"))


@cache
def source(name: str) -> Source:
    """Return the source of a name; KeyError when there is none."""
    if name not in names():
        raise KeyError(name)
    return cast("Source", import_module(f"{__name__}.{name}"))
