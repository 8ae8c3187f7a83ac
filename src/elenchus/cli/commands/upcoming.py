"""Tell what listings will gain and lose by time alone, and when."""

from __future__ import annotations

import json
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Optional

import typer

from elenchus.cli import words
from elenchus.cli.app import AtOption, NoIndexOption, SiteOption, app, examples, opened
from elenchus.cli.commands._changing import WholeOption

if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence

    from elenchus.comparing.upcoming import Coming
    from elenchus.pieces.piece import Piece
    from elenchus.site.site import Site

__all__ = ["upcoming"]

_FORMS = ("table", "json", "ics")
_A_DAY = 86_400_000_000  # microseconds
_USUAL = 30  # days that are looked ahead


@app.command(
    short_help=__doc__,
    epilog=examples(
        "elenchus upcoming --until 2026-07-31", "elenchus upcoming --listing outings-to-come --format json"
    ),
)
def upcoming(
    site: SiteOption = None,
    at: AtOption = None,
    no_index: NoIndexOption = False,
    until: Annotated[
        str,
        typer.Option(
            "--until", metavar="DATE", help=f"The last day or month to look at; else {_USUAL} days from now."
        ),
    ] = "",
    listings: Annotated[
        Optional[list[str]],  # noqa: UP045 - Typer reads the annotation while the program starts
        typer.Option(
            "--listing",
            metavar="NAME",
            help="Only this listing; again for a second one.",
            autocompletion=words.listings,
        ),
    ] = None,
    form: Annotated[
        str,
        typer.Option(
            "--format", metavar="FORMAT", help="table, json, or ics for calendar programs (RFC 5545)."
        ),
    ] = "table",
    chart: Annotated[
        Optional[Path],  # noqa: UP045
        typer.Option(
            "--chart", metavar="FILE", help="Draw the days with what happens on each, as .png or .svg."
        ),
    ] = None,
    whole: WholeOption = False,
) -> None:
    """Tell at which moments listings change although nobody writes anything, and what changes in them.

    An entry that is scheduled appears, one expires, one enters or leaves a window such as last 30 days.
    """
    from elenchus.asking.query import listing_named
    from elenchus.cli.printing import progress, show
    from elenchus.comparing.upcoming import upcoming as coming

    if form not in _FORMS:
        raise typer.BadParameter(f"--format is one of {', '.join(_FORMS)}, not “{form}”")
    here = opened(site, at, no_index=no_index)
    names = [listing_named(here, name).name for name in listings or ()]
    end = _end(here, until)
    with progress("listings", len(names or here.library.names)) as tick:
        found = coming(here, end, names, tick)
    if chart:
        from elenchus.strip import draw_upcoming

        draw_upcoming(found, here.clock, end, chart)
    show(_shown(found, here, end, form, whole=whole), is_data=form not in ("text", "table"))


def _shown(found: Sequence[Coming], site: Site, until: int, form: str, *, whole: bool) -> Iterable[Piece]:
    """Return what is to come in a form."""
    from elenchus.comparing.calendar import as_calendar
    from elenchus.comparing.upcoming import titles_in
    from elenchus.pieces.piece import Piece
    from elenchus.report.upcoming import upcoming_as_data, upcoming_told

    titles, clock = titles_in(site, found), site.clock
    if form == "ics":
        return [Piece(as_calendar(found, titles, site.definition.title or "site", clock.now))]
    if form == "json":
        data = upcoming_as_data(found, titles, clock.zone)
        return [Piece(json.dumps(data, ensure_ascii=False, indent=2) + "\n")]
    return upcoming_told(found, titles, clock, until, whole=whole)


def _end(site: Site, until: str) -> int:
    """Return the last instant to look at."""
    from elenchus.site.site import interval_of
    from elenchus.values.dates import from_instant, unit_interval

    now, zone = site.clock.now, site.clock.zone
    end = now + _USUAL * _A_DAY
    if until:
        last = interval_of(site.definition, until, "--until").end - 1
        end = unit_interval(from_instant(last, zone).date(), "day", zone).end - 1
    if end <= now:
        raise typer.BadParameter(f"--until {until} lies before the site’s now")
    return end
