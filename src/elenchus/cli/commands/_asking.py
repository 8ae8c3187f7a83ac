"""What the commands that answer share: their options, and how problems of the content are told."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Optional

import typer

from elenchus.cli import words

if TYPE_CHECKING:
    from elenchus.site.site import Site

__all__ = ["QUESTION", "GivenOption", "ProblemsOption", "TryOption", "show_problems", "values_of"]

QUESTION = typer.Argument(
    help="A question, such as 'from guide where species = limpet', or the name of a listing.",
    autocompletion=words.listings,
)

GivenOption = Annotated[
    Optional[list[str]],  # noqa: UP045
    typer.Option(
        "--with",
        metavar="NAME=VALUE",
        help="A value for the parameter :NAME; again for a second one.",
        autocompletion=words.parameters,
    ),
]
TryOption = Annotated[
    str,
    typer.Option(
        "--try", metavar="CLAUSES", help="Clauses that replace its own: 'limit 3', 'and where …', 'no limit'."
    ),
]
ProblemsOption = Annotated[
    bool, typer.Option("--problems", help="List all problems in the content, not the first few.")
]


def values_of(given: list[str] | None) -> dict[str, list[str]]:
    """Return the values of each parameter from texts such as ``habitat=shore``."""
    found: dict[str, list[str]] = {}
    for text in given or []:
        name, equals, value = text.partition("=")
        if not name or not equals:
            raise typer.BadParameter(f"--with takes NAME=VALUE, not “{text}”")
        found.setdefault(name.removeprefix(":").removesuffix("?"), []).append(value)
    return found


def show_problems(site: Site, *, everything: bool) -> None:
    """Write the problems of the content to standard error."""
    from elenchus.cli.printing import show_error
    from elenchus.pieces.problems import content_problems

    show_error(content_problems(site.dataset.problems, everything=everything))
