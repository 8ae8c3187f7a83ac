"""Tell what the site holds, or what a word means there."""

from __future__ import annotations

from typing import Annotated, Optional

import typer

from elenchus.cli import words
from elenchus.cli.app import AtOption, NoIndexOption, SiteOption, app, examples, opened
from elenchus.cli.commands._asking import ProblemsOption, show_problems

__all__ = ["describe"]


@app.command(short_help=__doc__, epilog=examples("elenchus describe", "elenchus describe fresh-from-shore"))
def describe(
    text: Annotated[
        Optional[str],  # noqa: UP045
        typer.Argument(
            help="A listing, kind, taxonomy, term, field or entry; or any part of a name or title.",
            autocompletion=words.names,
        ),
    ] = None,
    site: SiteOption = None,
    at: AtOption = None,
    problems: ProblemsOption = False,
    index: Annotated[
        bool, typer.Option("--index", help="Tell what is kept of the content for the next run, and where.")
    ] = False,
    source: Annotated[
        Optional[str],  # noqa: UP045
        typer.Option("--source", metavar="NAME", help="Tell what a source gives, and in which habits."),
    ] = None,
    no_index: NoIndexOption = False,
) -> None:
    """Tell what the site holds, or what a word means there and how to write it in a question."""
    import elenchus
    from elenchus.cli.printing import output_width, show
    from elenchus.report.descriptions import descriptions

    asked = opened(site, at, no_index=no_index)
    if index:
        from elenchus.asking.describing import describe_index

        show(descriptions(describe_index(asked), output_width()))
        return
    if source is not None:
        from elenchus.asking.provenance import describe_source

        show(descriptions(describe_source(asked, source), output_width()))
        return
    show(descriptions(elenchus.describe(asked, text), output_width()))
    show_problems(asked, everything=problems)
