"""Answer a question, or show a listing by its name."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Optional

import typer

from elenchus import forms
from elenchus.cli import words
from elenchus.cli.app import (
    AtOption,
    EditsOption,
    NoIndexOption,
    OnOption,
    SiteOption,
    app,
    examples,
    known_word,
    opened,
    refuse_old_content,
)
from elenchus.cli.commands._asking import (
    QUESTION,
    GivenOption,
    ProblemsOption,
    TryOption,
    show_problems,
    values_of,
)

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator

    from elenchus.asking.query import Query
    from elenchus.pieces.piece import Piece
    from elenchus.plan.answer import Answer
    from elenchus.site.site import Site

__all__ = ["ask"]

_CHARTS = (".svg", ".png")
_RENAMED_FORMATS = {"ids": "lines", "count": "number"}


def _known_format(name: str) -> str:
    """Return the name of a format that there is."""
    if name in _RENAMED_FORMATS:
        raise typer.BadParameter(f"there is no format “{name}”. It is called {_RENAMED_FORMATS[name]} now.")
    return known_word(name, forms.names(), "format")


def _drawable(path: Path | None) -> Path | None:
    """Return the name of a file of a form that charts have."""
    if path and path.suffix.lower() not in _CHARTS:
        raise typer.BadParameter(f"the file {path} ends neither in .svg nor in .png")
    return path


_AsIfOption = Annotated[
    int,
    typer.Option(
        "--as-if", metavar="N", min=0, max=1000, help="As if N more, newer entries were there that match."
    ),
]
_FormatOption = Annotated[
    str,
    typer.Option(
        "--format",
        "-f",
        metavar="FORMAT",
        callback=_known_format,
        help=", ".join(forms.names()),
        autocompletion=words.formats,
    ),
]


_PageOption = Annotated[str, typer.Option("--page", metavar="N", help="Which page of the answer.")]
_OverlapOption = Annotated[
    bool, typer.Option("--overlap", help="Tell how the counts of groups or terms add up: what is in several.")
]
_ChartOption = Annotated[
    Optional[Path],  # noqa: UP045
    typer.Option(
        "--chart",
        metavar="FILE",
        callback=_drawable,
        help="Draw the groups as bars into a file, .svg or .png.",
    ),
]
_ShowOption = Annotated[
    str,
    typer.Option("--show", metavar="FIELDS", help="Show these fields of each row, such as source,address."),
]
_SpreadsheetOption = Annotated[
    bool,
    typer.Option("--for-spreadsheet", help="In CSV, mark texts that a spreadsheet would take for formulas."),
]
_SqlOption = Annotated[
    bool, typer.Option("--sql", help="Print the SQL by which tables are asked, instead of the answer.")
]


_StrictOption = Annotated[
    bool, typer.Option("--strict", help="Give no answer if a source cannot be read now.")
]


@app.command(
    short_help=__doc__,
    epilog=examples(
        'elenchus ask "from sighting where habitat under shore order by newest limit 3"',
        "elenchus ask fresh-from-shore --as-if 2",
    ),
)
def ask(
    question: Annotated[str, QUESTION],
    site: SiteOption = None,
    output: _FormatOption = "table",
    page: _PageOption = "1",
    at: AtOption = None,
    given: GivenOption = None,
    changes: TryOption = "",
    as_if: _AsIfOption = 0,
    overlap: _OverlapOption = False,
    chart: _ChartOption = None,
    problems: ProblemsOption = False,
    no_index: NoIndexOption = False,
    edits: EditsOption = False,
    on: OnOption = "",
    sql: _SqlOption = False,
    show_fields: _ShowOption = "",
    for_spreadsheet: _SpreadsheetOption = False,
    strict: _StrictOption = False,
) -> None:
    """Answer a question about the site's entries or terms, or show a listing."""
    import elenchus
    from elenchus.cli.printing import show, show_error
    from elenchus.frozen import replace
    from elenchus.pieces.problems import notice_lines

    if for_spreadsheet and output != "csv":
        raise typer.BadParameter("--for-spreadsheet is for tables: it goes with --format csv")
    if sql and (chart or overlap or output != "table"):
        raise typer.BadParameter("--sql shows no answer: it goes without --format, --chart and --overlap")
    asked = opened(site, at, no_index=no_index, edits=edits, on=on)
    if strict:
        refuse_old_content(asked, "there is no answer")
    shown = [name.strip() for name in show_fields.split(",") if name.strip()]

    def answered(site: Site) -> Answer:
        return elenchus.ask(
            site, question, page=page, given=values_of(given), changes=changes, as_if=as_if, show=shown
        )

    if sql:
        show(_statements(asked if asked.is_of_tables else asked.in_tables(), answered))
        return
    answer = answered(asked)
    if chart:
        from elenchus.chart import draw

        draw(answer, chart)
    answer = replace(answer, formulas=not for_spreadsheet)
    pieces = forms.form(output).write(answer, _frame_of(asked, question, output))
    show(pieces, is_data=output != "table")
    if overlap or output == "table":
        from elenchus.asking.query import Query

        show(_added_up(Query.of(asked, question, values_of(given), changes), answer, whole=overlap))
    if not forms.form(output).tells:
        show_error(notice_lines(answer.notices))
    show_problems(asked, everything=problems)


def _added_up(query: Query, answer: Answer, *, whole: bool) -> Iterable[Piece]:
    """Return how the counts of terms or groups add up; without ``whole`` those of terms, if they are few."""
    from elenchus.asking.tallying import MOST_TALLIED, term_tally
    from elenchus.report.overlaps import overlaps, tally_told

    is_wanted = answer.groups is None and answer.total and (whole or answer.total <= MOST_TALLIED)
    if is_wanted and (tally := term_tally(query)):
        return tally_told(tally, whole=whole)
    return overlaps(answer) if whole else ()


def _statements(site: Site, ask: Callable[[Site], Answer]) -> Iterator[Piece]:
    """Return the statements by which the tables of a site are asked, as people read them."""
    from elenchus.report.statements import statements_told
    from elenchus.tables.opening import recorded

    with recorded(site.dataset) as (statements, tables):
        ask(site)
    return statements_told(statements, tables)


def _frame_of(site: Site, question: str, form: str) -> forms.Frame:
    """Return what surrounds an answer on the command line; what feeds need is made when one is written."""
    from elenchus.cli.printing import output_width
    from elenchus.rendering.addresses import Root

    def feed(answer: Answer) -> forms.Feed:
        from elenchus.publishing.feeds import feed_of_question

        return feed_of_question(site, question, form, answer)

    place = site.tables.backend.place if site.tables and site.is_of_tables else ""
    return forms.Frame(output_width(), feed, Root.of(site.definition.address).link, place=place)
