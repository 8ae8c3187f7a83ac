"""All comparison operators, one record each, found by scanning this folder.

The parser reads their spellings here, the checker their types, the engine their meaning, and the
docs their words. Adding an operator is adding a record to one of the modules.
"""

from __future__ import annotations

import pkgutil
from functools import cache
from importlib import import_module
from typing import TYPE_CHECKING

from elenchus.operators.record import Example, Operands, Operator

if TYPE_CHECKING:
    from collections.abc import Mapping

__all__ = ["Example", "Operands", "Operator", "all_operators", "operator", "spellings"]


_SHARED = ("column", "record")  # modules without operators


@cache
def all_operators() -> tuple[Operator, ...]:
    """Return every record, in the order of the modules' names and the records' places in them."""
    modules = sorted(module.name for module in pkgutil.iter_modules(__path__) if module.name not in _SHARED)
    return tuple(record for name in modules for record in import_module(f"{__name__}.{name}").RECORDS)


@cache
def _by_name() -> dict[str, Operator]:
    """Return the records by their names."""
    return {record.name: record for record in all_operators()}


def operator(name: str) -> Operator:
    """Return the record of an operator; KeyError when there is none."""
    return _by_name()[name]


@cache
def spellings() -> Mapping[tuple[str, ...], tuple[str, bool]]:
    """Return each way to write an operator, as words, with its name and whether it is negated."""
    found: dict[tuple[str, ...], tuple[str, bool]] = {}
    for record in all_operators():
        found[tuple(record.name.split())] = (record.name, False)
        found[("not", *record.name.split())] = (record.name, True)
        if record.name.startswith("is "):
            found[("is", "not", *record.name.split()[1:])] = (record.name, True)
        if record.opposite:
            found[tuple(record.opposite.split())] = (record.name, True)
    return found
