"""What the commands that change content share: their options, and the question before anything is written."""

from __future__ import annotations

import sys
from typing import Annotated

import typer

__all__ = ["DryRunOption", "FormOption", "WholeOption", "YesOption", "is_agreed"]


def _known_form(form: str) -> str:
    """Return the form of what is told."""
    if form not in ("text", "json"):
        raise typer.BadParameter(f"it is text or json, not “{form}”")
    return form


FormOption = Annotated[
    str, typer.Option("--format", metavar="FORMAT", callback=_known_form, help="text, or json for programs.")
]

DryRunOption = Annotated[bool, typer.Option("--dry-run", help="Tell what would change, and write nothing.")]
YesOption = Annotated[bool, typer.Option("--yes", help="Write without asking.")]
WholeOption = Annotated[bool, typer.Option("--in-full", help="Name every file and entry that changes.")]


def is_agreed(count: int, *, yes: bool) -> bool:
    """Say whether files may be written: asked on a terminal, refused elsewhere unless it was said before."""
    if yes:
        return True
    if not sys.stdin.isatty():
        raise typer.BadParameter("nobody can be asked here: add --yes to write, or --dry-run to look")
    files = "this file" if count == 1 else f"these {count} files"
    return typer.confirm(f"Write {files}?", default=False, err=True)
