"""The commands that answer: ask, why, describe."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Optional

import typer

from elenchus import forms
from elenchus.cli.app import AtOption, NoIndexOption, SiteOption, app, opened

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.pieces.piece import Piece
    from elenchus.plan.answer import Answer
    from elenchus.site.site import Site

__all__ = ["ask", "describe", "why"]

_CHARTS = (".svg", ".png")
_RENAMED_FORMATS = {"ids": "lines", "count": "number"}


def _known_format(name: str) -> str:
    """Return the name of a format that there is."""
    if name not in forms.names():
        from elenchus.errors import did_you_mean
        from elenchus.values.texts import nearest

        hint = did_you_mean(nearest(name, forms.names())) or f"Known: {', '.join(forms.names())}."
        if name in _RENAMED_FORMATS:
            hint = f"It is called {_RENAMED_FORMATS[name]} now."
        raise typer.BadParameter(f"there is no format “{name}”. {hint}")
    return name


def _drawable(path: Path | None) -> Path | None:
    """Return the name of a file of a form that charts have."""
    if path and path.suffix.lower() not in _CHARTS:
        raise typer.BadParameter(f"the file {path} ends neither in .svg nor in .png")
    return path


def _values_of(given: list[str] | None) -> dict[str, list[str]]:
    """Return the values of each parameter from texts such as ``habitat=shore``."""
    found: dict[str, list[str]] = {}
    for text in given or []:
        name, equals, value = text.partition("=")
        if not name or not equals:
            raise typer.BadParameter(f"--with takes NAME=VALUE, not “{text}”")
        found.setdefault(name.removeprefix(":").removesuffix("?"), []).append(value)
    return found


def _show_problems(site: Site, *, everything: bool) -> None:
    """Write the problems of the content to standard error."""
    from elenchus.cli.printing import show_error
    from elenchus.pieces.problems import content_problems

    show_error(content_problems(site.dataset.problems, everything=everything))


_QUESTION_HELP = "A question, such as 'from guide where species = limpet', or the name of a listing."

_GivenOption = Annotated[
    Optional[list[str]],  # noqa: UP045
    typer.Option(
        "--with", metavar="NAME=VALUE", help="A value for the parameter :NAME; again for a second one."
    ),
]
_TryOption = Annotated[
    str,
    typer.Option(
        "--try", metavar="CLAUSES", help="Clauses that replace its own: 'limit 3', 'and where …', 'no limit'."
    ),
]
_ProblemsOption = Annotated[
    bool, typer.Option("--problems", help="List all problems in the content, not the first few.")
]


@app.command(short_help="Answer a question, or show a listing by its name.")
def ask(
    question: Annotated[str, typer.Argument(help=_QUESTION_HELP)],
    site: SiteOption = None,
    output: Annotated[
        str,
        typer.Option(
            "--format", "-f", metavar="FORMAT", callback=_known_format, help=", ".join(forms.names())
        ),
    ] = "table",
    page: Annotated[str, typer.Option("--page", metavar="N", help="Which page of the answer.")] = "1",
    at: AtOption = None,
    given: _GivenOption = None,
    changes: _TryOption = "",
    as_if: Annotated[
        int,
        typer.Option(
            "--as-if",
            metavar="N",
            min=0,
            max=1000,
            help="As if N more, newer entries were there that match.",
        ),
    ] = 0,
    overlap: Annotated[
        bool, typer.Option("--overlap", help="List the rows that stand in more than one group.")
    ] = False,
    chart: Annotated[
        Optional[Path],  # noqa: UP045
        typer.Option(
            "--chart",
            metavar="FILE",
            callback=_drawable,
            help="Draw the groups as bars into a file, .svg or .png.",
        ),
    ] = None,
    problems: _ProblemsOption = False,
    no_index: NoIndexOption = False,
) -> None:
    """Answer a question about the site's entries or terms, or show a listing."""
    import elenchus
    from elenchus.cli.printing import show, show_error
    from elenchus.pieces.problems import notice_lines

    asked = opened(site, at, no_index=no_index)
    answer = elenchus.ask(asked, question, page=page, given=_values_of(given), changes=changes, as_if=as_if)
    if chart:
        from elenchus.chart import draw

        draw(answer, chart)
    show(forms.form(output).write(answer, _frame_of(asked, question, output)))
    if overlap:
        from elenchus.report.overlaps import overlaps

        show(overlaps(answer))
    if not forms.form(output).tells:
        show_error(notice_lines(answer.notices))
    _show_problems(asked, everything=problems)


def _frame_of(site: Site, question: str, form: str) -> forms.Frame:
    """Return what surrounds an answer on the command line; what feeds need is made when one is written."""
    from elenchus.cli.printing import output_width
    from elenchus.rendering.addresses import Root

    def feed(answer: Answer) -> forms.Feed:
        from elenchus.publishing.feeds import feed_of_question

        return feed_of_question(site, question, form, answer)

    return forms.Frame(output_width(), feed, Root.of(site.definition.address).link)


@app.command(short_help="Explain an answer, or why one entry is listed or not.")
def why(
    question: Annotated[str, typer.Argument(help=_QUESTION_HELP)],
    entry: Annotated[
        Optional[str],  # noqa: UP045
        typer.Argument(help="An entry by id, slug or kind/slug: what becomes of it, and what would list it."),
    ] = None,
    site: SiteOption = None,
    at: AtOption = None,
    given: _GivenOption = None,
    changes: _TryOption = "",
    page: Annotated[
        str,
        typer.Option(
            "--on",
            metavar="PAGE",
            help="As a section of this page, which leaves out what stands there already.",
        ),
    ] = "",
    problems: _ProblemsOption = False,
    no_index: NoIndexOption = False,
) -> None:
    """Explain an answer: what each condition leaves and removes; or why one entry is listed or not."""
    import elenchus
    from elenchus.cli.printing import show
    from elenchus.report.explanations import explanation, verdict

    asked = opened(site, at, no_index=no_index)
    if page:
        if given or changes:
            raise typer.BadParameter("the page gives the values, so --on goes with neither --with nor --try")
        show(_why_on(asked, page, question, entry))
    elif entry is None:
        show(explanation(elenchus.why(asked, question, given=_values_of(given), changes=changes)))
    else:
        found = elenchus.why_entry(asked, question, entry, given=_values_of(given), changes=changes)
        show(verdict(found))
    _show_problems(asked, everything=problems)


def _why_on(site: Site, page: str, section: str, entry: str | None) -> Iterator[Piece]:
    """Return why a section of a page shows what it shows, or what becomes of an entry in it."""
    from elenchus.pages.book import Book
    from elenchus.pages.overview import pages_named
    from elenchus.pages.reasons import section_named
    from elenchus.pages.sections import placed
    from elenchus.report.explanations import explanation, verdict

    query = section_named(placed(site, pages_named(Book(site), page)[0]), section).asked
    return explanation(query.explanation()) if entry is None else verdict(query.verdict(entry))


@app.command(short_help="Tell what the site holds, or what a word means there.")
def describe(
    text: Annotated[
        Optional[str],  # noqa: UP045
        typer.Argument(
            help="A listing, kind, taxonomy, term, field or entry; or any part of a name or title."
        ),
    ] = None,
    site: SiteOption = None,
    at: AtOption = None,
    problems: _ProblemsOption = False,
    index: Annotated[
        bool, typer.Option("--index", help="Tell what is kept of the content for the next run, and where.")
    ] = False,
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
    show(descriptions(elenchus.describe(asked, text), output_width()))
    _show_problems(asked, everything=problems)
