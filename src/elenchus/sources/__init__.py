"""Where content comes from: one file a format, found by scanning this folder.

A source consists of units: files, members of archives, parts of a table. A source module tells which there
are, without reading them, and reads one; the module's name is the word that a site file writes after
``read =``. Modules that begin with a line are shared by them.
"""

from __future__ import annotations

import pkgutil
from functools import cache
from importlib import import_module
from typing import TYPE_CHECKING, NamedTuple, Protocol, TypeAlias, cast

from elenchus.errors import Problem
from elenchus.frozen import Frozen, member
from elenchus.schema.record import Habits, Record, RowBatch

if TYPE_CHECKING:
    from array import array
    from collections.abc import Iterator, Mapping, Sequence
    from pathlib import Path

__all__ = ["LEFT_OUT", "Item", "Reader", "Scan", "Source", "SourceSpec", "UnitContent", "names", "source"]

LEFT_OUT = "Its entries are left out."


class SourceSpec(Frozen):
    """A source as the site file describes it.

    ``paths`` are files, folders and patterns below the site. ``kind`` is a kind, or ``{folder}`` for the
    folder below the path, or ``{column}`` for a value; ``kind_at_root`` is that of files in no folder, and
    ``kinds`` maps foreign words for kinds onto ours. ``columns`` maps a field's name to the name it has in
    the content; ``slug`` and ``date`` are patterns for what nobody wrote. ``records`` is where the records of
    a JSON document are, ``delimiter`` what parts the cells of a table. ``habits`` tell what else it writes in
    its own way.
    """

    name: str
    read: str
    paths: tuple[str, ...]
    kind: str = "{folder}"
    kind_at_root: str = ""
    kinds: Mapping[str, str] = member(default_factory=dict)
    columns: Mapping[str, str] = member(default_factory=dict)
    slug: str = ""
    date: str = ""
    encoding: str = ""
    delimiter: str = ""
    records: str = ""
    habits: Habits = member(default_factory=Habits)


class Scan(NamedTuple):
    """The units of a source, in their order, and what stands among them and cannot be read.

    Units are called by their paths below the site. ``signatures`` has four whole numbers a unit, which change
    when it does.
    """

    units: Sequence[str]
    signatures: array[int]
    problems: Sequence[Problem]


class UnitContent(Protocol):
    """What a unit holds; where ``digest`` (64 bits, not 0) is as it was, so is that."""

    @property
    def digest(self) -> int:
        """What tells whether it is as it was."""


Item: TypeAlias = Record | RowBatch | Problem


class Reader(Protocol):
    """What reads the units of one source."""

    def content(self, unit: str) -> UnitContent:
        """Return what a unit holds. Raises OSError."""

    def items(self, unit: str, content: UnitContent) -> Iterator[Item]:
        """Yield the entries of a unit, and the problems that kept some from being read. Raises OSError."""

    def close(self) -> None:
        """Let go of whatever was opened."""


class Source(Protocol):
    """What a source module offers; ``SUFFIXES`` are the endings of the files that it reads."""

    SUFFIXES: tuple[str, ...]

    def scan(self, spec: SourceSpec, root: Path) -> Scan:
        """Return the units of a source of the site in a folder."""

    def reader(self, spec: SourceSpec, root: Path) -> Reader:
        """Return what reads them."""


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
