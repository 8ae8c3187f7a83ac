"""The commands: for each a file of this folder with its name. Files that begin with a line are shared."""

from __future__ import annotations

import pkgutil
from importlib import import_module
from typing import TYPE_CHECKING

from elenchus.cli.app import app

if TYPE_CHECKING:
    from collections.abc import Sequence

    import typer

__all__ = ["load"]


def load(arguments: Sequence[str] = ()) -> typer.Typer:
    """Return the program with the command that some arguments begin with, or else with all commands."""
    names = sorted(each.name for each in pkgutil.iter_modules(__path__) if not each.name.startswith("_"))
    wanted = [name for name in names if [name] == list(arguments[:1])]
    for name in wanted or names:
        import_module(f"{__name__}.{name}")
    return app
