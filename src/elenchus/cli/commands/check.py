"""Find what is wrong before it is published."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Optional

import typer

from elenchus.cli.app import (
    AnswersOption,
    AtOption,
    NoIndexOption,
    SiteOption,
    answering,
    app,
    examples,
    known_word,
    opened,
)

__all__ = ["check"]

_FORMATS = ("text", "json", "sarif")
_FAILED = 1  # what check exits with where something must be fixed


def _known_report(name: str) -> str:
    """Return the name of a format that a report has."""
    return known_word(name, _FORMATS, "format")


@app.command(short_help=__doc__, epilog=examples("elenchus check", "elenchus check --about only-the-term"))
def check(
    site: SiteOption = None,
    at: AtOption = None,
    no_index: NoIndexOption = False,
    output: Annotated[
        str,
        typer.Option("--format", "-f", metavar="FORMAT", help=", ".join(_FORMATS), callback=_known_report),
    ] = "text",
    strict: Annotated[bool, typer.Option("--strict", help="Fail at warnings too.")] = False,
    about: Annotated[
        Optional[str],  # noqa: UP045
        typer.Option("--about", metavar="CODE", help="Tell what a code means, why it hurts, how to fix it."),
    ] = None,
    codes: Annotated[bool, typer.Option("--codes", help="List all codes, with what each means.")] = False,
    on: AnswersOption = "",
) -> int:
    """Find what is wrong in the content, the listings and the pages, before they are published.

    Exits with 1 where there are errors, or warnings with --strict.
    """
    import json

    from elenchus.checks.records import record, records
    from elenchus.cli.printing import output_width, progress, show
    from elenchus.pieces.piece import Piece
    from elenchus.report.checks import about_code, all_codes, as_object, findings

    if about is not None:
        show(about_code(record(about)))
        return 0
    if codes:
        show(all_codes(records().values(), output_width()))
        return 0
    from elenchus.checks.run import check_site

    here = opened(site, at, no_index=no_index)
    report = check_site(answering(here, on), lambda count: progress("pages", count))
    if output != "text":
        from elenchus.report.sarif import as_sarif

        folder = here.definition.folder.resolve()
        below = folder.relative_to(Path.cwd()) if folder.is_relative_to(Path.cwd()) else Path()
        written = as_object(report) if output == "json" else as_sarif(report, below)
        show([Piece(json.dumps(written, ensure_ascii=False, indent=2) + "\n")])
    else:
        show(findings(report, output_width()))
    return _FAILED if report.fails(strict=strict) else 0
