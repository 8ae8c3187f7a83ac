"""Tables opened for the questions of a site; what that needs is an extra, and loaded only here."""

from __future__ import annotations

from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

from elenchus.errors import OptionError, Problem, SiteError
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence
    from zoneinfo import ZoneInfo

    from elenchus.engine.columns.dataset import Dataset
    from elenchus.schema.types import Schema
    from elenchus.tables.backend import Told
    from elenchus.tables.data import TableData
    from elenchus.tables.layout import TableLayout

__all__ = ["missing_extra", "opened_tables", "recorded", "same_content", "tables_of"]


def opened_tables(place: str, schema: Schema, zone: ZoneInfo) -> TableData:
    """Return the tables at a place, as the names of a site.

    Raises OptionError where what they need is not installed, or for no place of tables, SiteError where there
    are none of these definitions.
    """
    try:
        from elenchus.tables.data import TableData
        from elenchus.tables.places import backend_of

        found = TableData(backend_of(place), schema, zone)
    except ModuleNotFoundError as error:
        raise missing_extra(error) from None
    _ = found.schema
    return found


def tables_of(dataset: Dataset, schema: Schema, zone: ZoneInfo) -> TableData:
    """Return content as tables in the memory of this process.

    Raises OptionError where what that needs is not installed.
    """
    try:
        from elenchus.tables.data import TableData
        from elenchus.tables.export import in_memory

        return TableData(in_memory(dataset), schema, zone)
    except ModuleNotFoundError as error:
        raise missing_extra(error) from None


def same_content(tables: TableData, dataset: Dataset) -> None:
    """Refuse tables that were made of other content, so that pages would not show what was asked."""
    from elenchus.tables.backend import exporting
    from elenchus.tables.frames import Frames

    about = tables.backend.about
    if about.content != Frames(dataset, about.layout.complete).digest:
        message = f"the tables at {quoted(tables.backend.place)} are of other content than the site's"
        hint = f"Write what changed: {exporting(tables.backend.place)}."
        raise SiteError([Problem("other-tables", message, hint)])


@contextmanager
def recorded(data: Any) -> Iterator[tuple[list[Told], Sequence[TableLayout]]]:
    """Give the statements that tables are asked from now on, and what the tables are."""
    told: list[Told] = []
    before, data.backend.told = data.backend.told, told
    try:
        yield told, data.backend.about.layout.tables
    finally:
        data.backend.told = before


def missing_extra(error: ModuleNotFoundError) -> OptionError:
    """Return the error of an extra that is not installed."""
    extra = "spark" if (error.name or "").startswith("pyspark") else "tables"
    hint = f"Install it: pip install 'elenchus[{extra}]'."
    return OptionError([Problem("missing-extra", f"tables need {error.name}, which is not installed", hint)])
