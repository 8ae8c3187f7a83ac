"""The commands about pages: what stands where, and what is wrong before it is published."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Optional

import typer

from elenchus.cli.app import AtOption, NoIndexOption, SiteOption, app, opened

if TYPE_CHECKING:
    from elenchus.pages.book import Book

__all__ = ["check", "pages"]

_FAILED = 1  # what check exits with where something must be fixed


def _known_report(name: str) -> str:
    """Return the name of a format that a report has."""
    if name not in ("text", "json"):
        raise typer.BadParameter(f"there is no format “{name}”. Known: text, json.")
    return name


@app.command(short_help="List every address, or what stands on one page or set of pages.")
def pages(
    name: Annotated[
        Optional[str],  # noqa: UP045 - Typer reads the annotation while the program starts
        typer.Argument(help="A page by its name or address: its sections. A set of pages: a line for each."),
    ] = None,
    site: SiteOption = None,
    at: AtOption = None,
    no_index: NoIndexOption = False,
    as_if: Annotated[
        int,
        typer.Option(
            "--as-if", metavar="N", min=0, max=1000, help="As if N more entries were in its first section."
        ),
    ] = 0,
) -> None:
    """List every address of the site; or tell what each section of a page shows, or each page of a set."""
    from elenchus.checks.addresses import page_problems
    from elenchus.cli.printing import output_width, progress, show
    from elenchus.pages.book import Book
    from elenchus.pages.overview import addresses, page_report, pages_named, set_lines
    from elenchus.report.pages import address_table, page_sections, set_table

    book = Book(opened(site, at, no_index=no_index))
    if name is None:
        with progress("pages", len(book.pages)) as tick:
            lines, pages_of = addresses(book, tick)
        show(address_table(lines, page_problems(book, pages_of), output_width()))
        return
    found = pages_named(book, name)
    if name in book.rules and book.rules[name].each:
        with progress("pages", len(found)) as tick:
            rows = set_lines(book, name, tick)
        show(set_table(rows, book.of(name).problems, output_width()))
        return
    for page in found:
        show(page_sections(page_report(book, page, as_if=as_if), output_width()))
    _stop_at_problems(book, name)


@app.command(short_help="Find what is wrong before it is published.")
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


def _stop_at_problems(book: Book, name: str) -> None:
    """Raise SiteError where a page cannot be made."""
    from elenchus.errors import SiteError

    if name in book.rules and book.of(name).problems:
        raise SiteError(book.of(name).problems)
