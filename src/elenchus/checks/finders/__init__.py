"""What is looked at before publishing: a file a subject, found by scanning this folder.

Each has a function ``find(survey)`` that yields the problems that it finds; every code has its record in
``checks/records.toml``.
"""

from __future__ import annotations

import pkgutil
from functools import lru_cache
from importlib import import_module
from typing import TYPE_CHECKING, TypeAlias

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable

    from elenchus.errors import Problem
    from elenchus.pages.survey import Survey

__all__ = ["Finder", "finders"]

Finder: TypeAlias = "Callable[[Survey], Iterable[Problem]]"


@lru_cache(maxsize=1)
def finders() -> tuple[Finder, ...]:
    """Return the functions that find problems, in the order of their files' names."""
    names = sorted(module.name for module in pkgutil.iter_modules(__path__))
    return tuple(import_module(f"{__name__}.{name}").find for name in names)
