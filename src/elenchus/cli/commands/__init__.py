"""The commands: for each a file of this folder with its name, which begins with what it is for.

Files that begin with a line are shared by them.
"""

from __future__ import annotations

import ast
import pkgutil
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING

from elenchus.cli.app import app

if TYPE_CHECKING:
    from collections.abc import Sequence

    import typer

__all__ = ["load"]


def load(arguments: Sequence[str] | None = None) -> typer.Typer:
    """Return the program with all its commands.

    With ``arguments``, those that they do not begin with have names and nothing else: that is all that is
    to be seen of them, and to load them takes longer than to answer.
    """
    for name in sorted(each.name for each in pkgutil.iter_modules(__path__) if not each.name.startswith("_")):
        word = name.replace("_", "-")
        if arguments is None or list(arguments[:1]) == [word]:
            import_module(f"{__name__}.{name}")
        else:
            app.command(word, short_help=_purpose(name))(lambda: None)
    return app


def _purpose(name: str) -> str:
    """Return what a command is for, as its file begins."""
    text = (Path(__path__[0]) / f"{name}.py").read_text(encoding="utf-8")
    return str(ast.literal_eval(text.partition("\n")[0]))
