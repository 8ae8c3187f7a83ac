"""Where content comes from: one file a format, found by scanning this folder.

A source module has a function ``read(spec, root)`` that returns records and problems; the module's
name is the word that a site file writes after ``read =``. Modules that begin with a line are shared by them.
"""

from __future__ import annotations

import pkgutil
from importlib import import_module
from typing import TYPE_CHECKING, Protocol, cast

from elenchus.frozen import Frozen, member
from elenchus.schema.record import Habits

if TYPE_CHECKING:
    from collections.abc import Mapping
    from pathlib import Path

    from elenchus.errors import Problem
    from elenchus.schema.record import Record

__all__ = ["Source", "SourceSpec", "names", "source"]


class SourceSpec(Frozen):
    """A source as the site file describes it.

    ``kind`` is a kind, or ``{folder}`` for the folder below the path, or ``{column}`` for a value;
    ``kind_at_root`` is that of files in no folder. ``columns`` maps a field's name to the name it has in
    the content; ``habits`` tell what else it writes in its own way.
    """

    name: str
    read: str
    path: str
    kind: str = "{folder}"
    kind_at_root: str = ""
    columns: Mapping[str, str] = member(default_factory=dict)
    habits: Habits = member(default_factory=Habits)


class Source(Protocol):
    """What a source module offers; ``SUFFIXES`` are the endings of the files that it reads."""

    SUFFIXES: tuple[str, ...]

    def read(self, spec: SourceSpec, root: Path) -> tuple[list[Record], list[Problem]]:
        """Return the entries below ``root``, with the problems that kept some from being read."""


def names() -> list[str]:
    """Return the words that may stand after ``read =``."""
    found = (module.name for module in pkgutil.iter_modules(__path__))
    return sorted(name for name in found if not name.startswith("_"))


def source(name: str) -> Source:
    """Return the source of a name; KeyError when there is none."""
    if name not in names():
        raise KeyError(name)
    return cast("Source", import_module(f"{__name__}.{name}"))
