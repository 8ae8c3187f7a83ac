"""Find what is wrong before it is published."""

from __future__ import annotations

from typing import Annotated, Optional

import typer

from elenchus.cli.app import AtOption, NoIndexOption, SiteOption, app, opened

__all__ = ["check"]

_FAILED = 1  # what check exits with where something must be fixed


def _known_report(name: str) -> str:
    """Return the name of a format that a report has."""
    if name not in ("text", "json"):
        raise typer.BadParameter(f"there is no format “{name}”. Known: text, json.")
    return name


@app.command(short_help=__doc__)
def check(
    site: SiteOption = None,
    at: AtOption = None,
    no_index: NoIndexOption = False,
    output: Annotated[
        str, typer.Option("--format", "-f", metavar="FORMAT", help="text or json.", callback=_known_report)
    ] = "text",
    strict: Annotated[bool, typer.Option("--strict", help="Fail at warnings too.")] = False,
    about: Annotated[
        Optional[str],  # noqa: UP045
        typer.Option("--about", metavar="CODE", help="Tell what a code means, why it hurts, how to fix it."),
    ] = None,
) -> int:
    """Find what is wrong in the content, the listings and the pages, before they are published.

    Exits with 1 where there are errors, or warnings with --strict.
    """
    import json

    from elenchus.checks.records import record
    from elenchus.cli.printing import output_width, progress, show
    from elenchus.pieces.piece import Piece
    from elenchus.report.checks import about_code, as_object, findings

    if about is not None:
        show(about_code(record(about)))
        return 0
    from elenchus.checks.run import check_site

    report = check_site(opened(site, at, no_index=no_index), lambda count: progress("pages", count))
    if output == "json":
        show([Piece(json.dumps(as_object(report), ensure_ascii=False, indent=2) + "\n")])
    else:
        show(findings(report, output_width()))
    return _FAILED if report.fails(strict=strict) else 0
