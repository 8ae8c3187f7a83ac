"""Find what is wrong before it is published."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Optional

import typer

from elenchus.cli import words
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
from elenchus.cli.commands._changing import DryRunOption, YesOption, write_if_agreed

if TYPE_CHECKING:
    from elenchus.checks.fixing import Fixing
    from elenchus.checks.run import Report
    from elenchus.site.site import Site

__all__ = ["check"]

_FORMATS = ("text", "json", "sarif")
_UNREAD = 9  # and where a database cannot be read
_FAILED = 1  # what check exits with where something must be fixed


def _known_report(name: str) -> str:
    """Return the name of a format that a report has."""
    return known_word(name, _FORMATS, "format")


def _fix_site_file(site: Path | None, at: str | None, *, dry_run: bool, yes: bool) -> None:
    """Put right what is certain in a site file that keeps the site from being opened."""
    from elenchus.checks.fixing import fixing_of_definitions
    from elenchus.errors import SiteError
    from elenchus.site.site import find_site

    folder = site or find_site(Path.cwd())
    try:
        opened(folder, at, writes=not dry_run)
    except SiteError as error:
        change = fixing_of_definitions(folder, error.problems)
        if change.files:
            _write(change, dry_run=dry_run, yes=yes)


def _fix(site: Site, report: Report, *, dry_run: bool, yes: bool) -> bool:
    """Put right what is certain, where somebody agrees; say whether something was written."""
    from elenchus.checks.fixing import fixing

    return _write(fixing(site, report), dry_run=dry_run, yes=yes)


def _write(change: Fixing, *, dry_run: bool, yes: bool) -> bool:
    """Show what would put things right, and write it where somebody agrees; say whether it was written."""
    from elenchus.cli.printing import show_error
    from elenchus.pieces.piece import Piece, Role
    from elenchus.report.checks import fixing_told

    show_error(fixing_told(change))
    made = write_if_agreed(change, ["check", "--fix"], dry_run=dry_run, yes=yes) if change.files else None
    if change.files:
        said = "Written; elenchus undo takes it back." if made else "Nothing was written."
        show_error([Piece(f"{said}\n\n", Role.HINT if made else Role.FAINT)])
    return made is not None


_FormatOption = Annotated[
    str,
    typer.Option(
        "--format",
        "-f",
        metavar="FORMAT",
        help=", ".join(_FORMATS),
        callback=_known_report,
        autocompletion=words.fixed(*_FORMATS),
    ),
]
_AboutOption = Annotated[
    Optional[str],  # noqa: UP045
    typer.Option(
        "--about",
        metavar="CODE",
        help="Tell what a code means, why it hurts, how to fix it.",
        autocompletion=words.codes,
    ),
]
_FixOption = Annotated[
    bool,
    typer.Option("--fix", help="Write what is certain: a name with one near spelling, a key renamed."),
]


def _show_report(report: Report, output: str, folder: Path, *, whole: bool = False) -> None:
    """Write what was found, as text or for programs."""
    import json

    from elenchus.cli.printing import output_width, show
    from elenchus.pieces.piece import Piece
    from elenchus.report.checks import as_object, findings
    from elenchus.report.sarif import as_sarif

    if output == "text":
        show(findings(report, output_width(), whole=whole))
        return
    below = folder.relative_to(Path.cwd()) if folder.is_relative_to(Path.cwd()) else Path()
    written = as_object(report) if output == "json" else as_sarif(report, below)
    show([Piece(json.dumps(written, ensure_ascii=False, indent=2) + "\n")], is_data=True)


@app.command(short_help=__doc__, epilog=examples("elenchus check", "elenchus check --about only-the-term"))
def check(
    site: SiteOption = None,
    at: AtOption = None,
    no_index: NoIndexOption = False,
    output: _FormatOption = "text",
    strict: Annotated[bool, typer.Option("--strict", help="Fail at warnings too.")] = False,
    about: _AboutOption = None,
    codes: Annotated[bool, typer.Option("--codes", help="List all codes, with what each means.")] = False,
    on: AnswersOption = "",
    fix: _FixOption = False,
    whole: Annotated[bool, typer.Option("--in-full", help="Name all findings of each code.")] = False,
    dry_run: DryRunOption = False,
    yes: YesOption = False,
) -> int:
    """Find what is wrong in the content, the listings and the pages, before they are published.

    Exits with 1 where there are errors, or warnings with --strict; with 9 if a database cannot be read.
    """
    from elenchus.checks.records import record, records
    from elenchus.cli.printing import output_width, progress, show
    from elenchus.report.checks import about_code, all_codes

    if about is not None:
        show(about_code(record(about)))
        return 0
    if codes:
        show(all_codes(records().values(), output_width()))
        return 0
    from elenchus.checks.run import check_site
    from elenchus.errors import About

    if (dry_run or yes) and not fix:
        raise typer.BadParameter("--dry-run and --yes go with --fix")
    if fix:
        _fix_site_file(site, at, dry_run=dry_run, yes=yes)
    here = opened(site, at, no_index=no_index, lenient=True)
    report = check_site(answering(here, on), lambda count: progress("pages", count))
    if fix and _fix(here, report, dry_run=dry_run, yes=yes):
        report = check_site(
            opened(site, at, no_index=no_index, lenient=True), lambda count: progress("pages", count)
        )
    _show_report(report, output, here.definition.folder.resolve(), whole=whole)
    if any(each.problem.about is About.SOURCE for each in report.findings):
        return _UNREAD
    return _FAILED if report.fails(strict=strict) else 0
