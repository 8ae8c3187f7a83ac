"""Explain an answer, or why one entry is listed or not."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Optional

import typer

from elenchus.cli import words
from elenchus.cli.app import AtOption, EditsOption, NoIndexOption, SiteOption, app, examples, opened
from elenchus.cli.commands._asking import (
    QUESTION,
    GivenOption,
    ProblemsOption,
    TryOption,
    show_problems,
    values_of,
)

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.pieces.piece import Piece
    from elenchus.site.site import Site

__all__ = ["why"]


_EntryArgument = Annotated[
    Optional[str],  # noqa: UP045
    typer.Argument(
        help="An entry by id, slug or kind/slug: what happens to it, and what would list it.",
        autocompletion=words.entries,
    ),
]
_PageOption = Annotated[
    str,
    typer.Option(
        "--on",
        metavar="PAGE",
        help="As a section of this page, which leaves out what stands there already.",
        autocompletion=words.pages,
    ),
]
_TimingOption = Annotated[
    bool, typer.Option("--timing", help="Tell the way to the answer: each step with its rows and its time.")
]
_TablesOption = Annotated[
    str, typer.Option("--tables", metavar="URL", help="Ask the tables there, as ask does.")
]


@app.command(
    short_help=__doc__,
    epilog=examples("elenchus why fresh-from-shore", "elenchus why fresh-from-shore grey-seal-count-may"),
)
def why(
    question: Annotated[str, QUESTION],
    entry: _EntryArgument = None,
    site: SiteOption = None,
    at: AtOption = None,
    given: GivenOption = None,
    changes: TryOption = "",
    page: _PageOption = "",
    times: _TimingOption = False,
    problems: ProblemsOption = False,
    no_index: NoIndexOption = False,
    edits: EditsOption = False,
    tables: _TablesOption = "",
) -> None:
    """Explain an answer: what each condition leaves and removes; or why one entry is listed or not."""
    import elenchus
    from elenchus.asking.questions import timed
    from elenchus.cli.printing import output_width, show
    from elenchus.pieces.piece import Piece, Role
    from elenchus.report.explanations import explanation, timing, verdict

    asked = opened(site, at, no_index=no_index, edits=edits, on=tables)
    if page:
        if given or changes:
            raise typer.BadParameter("the page gives the values, so --on goes with neither --with nor --try")
        show(_why_on(asked, page, question, entry))
    elif times:
        steps = timed(asked, question, given=values_of(given), changes=changes)
        show(timing(steps, output_width()))
    elif entry is None:
        show(explanation(elenchus.why(asked, question, given=values_of(given), changes=changes)))
    else:
        found = elenchus.why_entry(asked, question, entry, given=values_of(given), changes=changes)
        show(verdict(found))
        if not (found.listed or edits or asked.is_of_tables):
            show(_edit_told(asked, question, found.id, values_of(given), changes))
        elif found.needs and found.state and asked.is_of_tables:
            show([Piece("Which edit would list it is tried only with --tables content.\n", Role.FAINT)])
    show_problems(asked, everything=problems)


def _edit_told(
    site: Site, question: str, entry: str, given: dict[str, list[str]], changes: str
) -> Iterator[Piece]:
    """Yield that a pending edit of an entry would list it, where one would."""
    import elenchus
    from elenchus.editing.edits import has_edit, with_edits
    from elenchus.pieces.piece import Piece, Role

    if site.dataset.row_of_id(entry) >= 0 and has_edit(site, entry):
        then = elenchus.why_entry(with_edits(site), question, entry, given=given, changes=changes)
        if then.listed:
            yield Piece("A pending edit would list it:\n")
            yield Piece(f"  elenchus approve {entry}\n", Role.STRONG)


def _why_on(site: Site, page: str, section: str, entry: str | None) -> Iterator[Piece]:
    """Return why a section of a page shows what it shows, or what becomes of an entry in it."""
    from elenchus.pages.book import Book
    from elenchus.pages.overview import pages_named
    from elenchus.pages.reasons import section_named
    from elenchus.pages.sections import placed
    from elenchus.report.explanations import explanation, verdict

    book = Book(site)
    query = section_named(placed(book, pages_named(book, page)[0]), section).asked
    return explanation(query.explanation()) if entry is None else verdict(query.verdict(entry))
