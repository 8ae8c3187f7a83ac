"""Build a question with its answer in sight."""

from __future__ import annotations

import sys
from typing import Annotated

import typer

from elenchus.cli import words
from elenchus.cli.app import AtOption, NoIndexOption, SiteOption, app, examples, opened
from elenchus.cli.commands._asking import GivenOption, values_of

__all__ = ["explore"]

_MOST_READ = 20  # rows of an answer that are read one after the other, not looked at


@app.command(
    short_help=__doc__,
    epilog=examples(
        "elenchus explore fresh-from-shore",
        "elenchus explore 'from sighting where habitat under shore' --plain",
    ),
)
def explore(
    question: Annotated[
        str,
        typer.Argument(
            help="A question or the name of a listing to begin with.", autocompletion=words.listings
        ),
    ] = "",
    site: SiteOption = None,
    at: AtOption = None,
    given: GivenOption = None,
    plain: Annotated[
        bool, typer.Option("--plain", help="Line by line: for screen readers, pipes and programs.")
    ] = False,
    no_index: NoIndexOption = False,
) -> None:
    """Build a question with its answer in sight: change a clause, look what comes, keep what is right.

    Nothing is written before keep NAME, which shows the difference first.
    """
    from elenchus.exploring.looking import MOST_ROWS
    from elenchus.exploring.workbench import Workbench

    most = _MOST_READ if plain else MOST_ROWS
    bench = Workbench(opened(site, at, no_index=no_index), question, values_of(given), most)
    if plain:
        from elenchus.cli.exploring.plain import explore_plainly

        explore_plainly(bench)
        return
    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        raise typer.BadParameter("explore needs a terminal; with --plain it reads lines from anywhere")
    from elenchus.cli.exploring.screen import explore_on_screen

    explore_on_screen(bench)
