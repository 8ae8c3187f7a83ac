"""Tables opened for the questions of a site; what that needs is an extra, and loaded only here."""

from __future__ import annotations

from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

from elenchus.errors import OptionError, Problem

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from elenchus.engine.columns.dataset import Dataset
    from elenchus.schema.types import Schema
    from elenchus.tables.backend import Told
    from elenchus.tables.data import TableData
    from elenchus.tables.executor import TableEngine
    from elenchus.tables.layout import TableLayout
    from elenchus.values.dates import Clock

__all__ = ["missing_extra", "opened_tables", "recorded", "tables_of"]


def opened_tables(place: str, schema: Schema, clock: Clock) -> tuple[TableData, TableEngine]:
    """Return the names and the executor of the tables at a place.

    Raises OptionError where what they need is not installed, or for no place of tables, SiteError where there
    are none of these definitions.
    """
    try:
        from elenchus.tables.backend import backend_of
        from elenchus.tables.data import TableData
        from elenchus.tables.executor import TableEngine
    except ModuleNotFoundError as error:
        raise missing_extra(error) from None
    data = TableData(backend_of(place), schema, clock.zone)
    _ = data.schema
    return data, TableEngine(data, clock)


def tables_of(dataset: Dataset, schema: Schema, clock: Clock) -> tuple[TableData, TableEngine]:
    """Return the same for content that is put into tables in the memory of this process.

    Raises OptionError where what that needs is not installed.
    """
    try:
        from elenchus.tables.data import TableData
        from elenchus.tables.executor import TableEngine
        from elenchus.tables.export import in_memory
    except ModuleNotFoundError as error:
        raise missing_extra(error) from None
    data = TableData(in_memory(dataset), schema, clock.zone)
    return data, TableEngine(data, clock)


@contextmanager
def recorded(data: Any) -> Iterator[tuple[list[Told], Sequence[TableLayout]]]:
    """Give the statements that tables are asked from now on, and what the tables are."""
    told: list[Told] = []
    data.backend.told = told
    try:
        yield told, data.backend.layout.tables
    finally:
        data.backend.told = None


def missing_extra(error: ModuleNotFoundError) -> OptionError:
    """Return the error of an extra that is not installed."""
    extra = "spark" if (error.name or "").startswith("pyspark") else "tables"
    hint = f"Install it: pip install 'elenchus[{extra}]'."
    return OptionError([Problem("missing-extra", f"tables need {error.name}, which is not installed", hint)])
