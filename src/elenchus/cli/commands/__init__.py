"""The commands, a function each; every module of this folder is found, in the order of their names."""

from __future__ import annotations

import pkgutil
from importlib import import_module
from typing import TYPE_CHECKING

from elenchus.cli.app import app

if TYPE_CHECKING:
    import typer

__all__ = ["load"]


def load() -> typer.Typer:
    """Return the program with the commands of all modules of this folder."""
    for module in sorted(module.name for module in pkgutil.iter_modules(__path__)):
        import_module(f"{__name__}.{module}")
    return app
