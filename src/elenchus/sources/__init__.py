"""Where content comes from: one file a format, found by scanning this folder.

A source consists of units, such as files. A source module tells which there are, without opening them, and
reads one; the module's name is the word that a site file writes after ``read =``. Modules that begin with a
line are shared by them.
"""

from __future__ import annotations

import os
import pkgutil
import posixpath
from functools import cache
from importlib import import_module
from typing import TYPE_CHECKING, NamedTuple, Protocol, cast

from elenchus.frozen import Frozen, member
from elenchus.schema.record import Habits

if TYPE_CHECKING:
    from array import array
    from collections.abc import Mapping, Sequence
    from pathlib import Path

    from elenchus.errors import Problem
    from elenchus.schema.record import Record

__all__ = ["LEFT_OUT", "Scan", "Source", "SourceSpec", "names", "place_of", "source"]

LEFT_OUT = "Its entries are left out."


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


class Scan(NamedTuple):
    """The units of a source, in their order, and what stands among them and cannot be read.

    ``signatures`` has four whole numbers a unit, which change when it does.
    """

    units: Sequence[str]
    signatures: array[int]
    problems: Sequence[Problem]


class Source(Protocol):
    """What a source module offers; ``SUFFIXES`` are the endings of the files that it reads."""

    SUFFIXES: tuple[str, ...]

    def scan(self, spec: SourceSpec, root: Path) -> Scan:
        """Return the units of a source of the site in a folder."""

    def load(self, spec: SourceSpec, root: Path, unit: str) -> bytes:
        """Return the content of a unit. Raises OSError."""

    def parse(self, spec: SourceSpec, unit: str, content: bytes) -> tuple[list[Record], list[Problem]]:
        """Return the entries of a unit, and the problems that kept some from being read."""


def place_of(spec: SourceSpec, unit: str) -> str:
    """Return how the user calls a unit: its path in the site."""
    start = _start_of(spec.path)
    return unit if start == "." else f"{start}/{unit}"


@cache
def _start_of(path: str) -> str:
    """Return the path of a source with slashes, and without what means nothing in it."""
    return posixpath.normpath(path.replace(os.sep, "/"))


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
