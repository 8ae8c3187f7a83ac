"""All measures, one record each, found by scanning this folder: sum, average, median and so on.

The parser reads their names here, the checker their types, both executors what they are, and the docs their
words. Adding a measure is adding a record to one of the modules.
"""

from __future__ import annotations

import pkgutil
from functools import cache
from importlib import import_module

from elenchus.measures.record import Measure

__all__ = ["Measure", "all_measures", "measure"]


@cache
def all_measures() -> dict[str, Measure]:
    """Return every record by its name, in the order of the modules' names and the records' places in them."""
    modules = sorted(module.name for module in pkgutil.iter_modules(__path__) if module.name != "record")
    records = (record for name in modules for record in import_module(f"{__name__}.{name}").RECORDS)
    return {record.name: record for record in records}


def measure(name: str) -> Measure:
    """Return the record of a measure; KeyError when there is none."""
    return all_measures()[name]
