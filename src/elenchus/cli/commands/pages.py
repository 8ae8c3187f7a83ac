"""List every address, or what stands on one page or set of pages."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Optional

import typer

from elenchus.cli import words
from elenchus.cli.app import (
    AnswersOption,
    AtOption,
    EditsOption,
    NoIndexOption,
    SiteOption,
    answering,
    app,
    examples,
    opened,
)

if TYPE_CHECKING:
    from elenchus.pages.book import Book

__all__ = ["pages"]


@app.command(short_help=__doc__, epilog=examples("elenchus pages", "elenchus pages home"))
def pages(
    name: Annotated[
        Optional[str],  # noqa: UP045 - Typer reads the annotation while the program starts
        typer.Argument(
            help="A page by its name or address: its sections. A set of pages: a line for each.",
            autocompletion=words.pages,
        ),
    ] = None,
    site: SiteOption = None,
    at: AtOption = None,
    no_index: NoIndexOption = False,
    edits: EditsOption = False,
    on: AnswersOption = "",
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

    here = opened(site, at, no_index=no_index, edits=edits)
    book = Book(answering(here, on), in_bulk=name is None)
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


def _stop_at_problems(book: Book, name: str) -> None:
    """Raise SiteError where a page cannot be made."""
    from elenchus.errors import SiteError

    if name in book.rules and book.of(name).problems:
        raise SiteError(book.of(name).problems)
