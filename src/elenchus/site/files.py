"""Files of tables with names: one beside the site file, or any number in a folder."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING, Protocol, TypeVar

from elenchus.errors import Place, Problem, SiteError
from elenchus.files import items_of, unreadable
from elenchus.site.names import can_be_called
from elenchus.site.toml import TomlFile, open_toml
from elenchus.values.texts import quoted, with_article

if TYPE_CHECKING:
    from collections.abc import Callable
    from pathlib import Path


__all__ = ["files_of", "read_named", "take_named"]


class _Named(Protocol):
    """What a table with a name describes."""

    @property
    def name(self) -> str:
        """The name."""

    @property
    def place(self) -> Place:
        """Where it stands."""


_Rule = TypeVar("_Rule", bound=_Named)


def read_named(
    folder: Path, stem: str, what: str, read: Callable[[TomlFile, str], _Rule | None]
) -> tuple[dict[str, _Rule], tuple[Problem, ...]]:
    """Return what the tables of ``stem.toml`` and of the files in the folder ``stem`` describe, by name.

    ``read`` makes a rule of one table, or reports why it cannot. A file that cannot be read is a problem
    beside the others.
    """
    found: dict[str, _Rule] = {}
    problems: list[Problem] = []
    try:
        names = files_of(folder, stem)
    except OSError as error:
        return {}, (unreadable(stem, error, what="folder"),)
    for name in names:
        try:
            file = open_toml(folder / name, name)
        except SiteError as error:
            problems += error.problems
            continue
        take_named(file, what, read, found)
        problems += file.problems
    return found, tuple(problems)


def take_named(
    file: TomlFile, what: str, read: Callable[[TomlFile, str], _Rule | None], found: dict[str, _Rule]
) -> None:
    """Add the rules of the tables of a file to those found before; report names that one of these has."""
    for key in file.data:
        rule = read(file, key) if _is_table(file, key, what) else None
        if rule and key in found:
            message = f"the {what} {key} is already at {found[key].place}"
            file.report("name-clash", (key,), message, "Give one of them another name.")
        elif rule:
            found[key] = rule


def files_of(folder: Path, stem: str) -> list[str]:
    """Return the files, the one beside the site file first."""
    found = [f"{stem}.toml"] if os.path.lexists(folder / f"{stem}.toml") else []
    if (folder / stem).is_dir():
        found += [f"{stem}/{item.name}" for item in items_of(folder / stem) if item.name.endswith(".toml")]
    return found


def _is_table(file: TomlFile, name: str, what: str) -> bool:
    """Say whether a key is a table whose name can be one; report it otherwise."""
    if not isinstance(file.data[name], dict):
        file.report("wrong-type", (name,), f"{name} must be a table: write [NAME] above it")
        return False
    if not can_be_called(name):
        hint = "Use letters, digits, - and _, beginning with a letter."
        file.report("bad-name", (name,), f"{quoted(name)} cannot be the name of {with_article(what)}", hint)
        return False
    return True
