"""Compare the site with another folder, time or revision, or with what was published."""

from __future__ import annotations

import json
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Optional

import typer

from elenchus.cli import words
from elenchus.cli.app import NoIndexOption, SiteOption, app, examples, opened
from elenchus.cli.commands._asking import GivenOption, values_of
from elenchus.cli.commands._changing import FormOption, WholeOption

if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence

    from elenchus.comparing.differences import Difference
    from elenchus.pieces.piece import Piece
    from elenchus.site.site import Site

__all__ = ["compare"]

_DIFFERS = 1  # what is exited with where it was asked for
_SAME = "No differences: listings have the same entries, and pages have the same content."
_SAME_ENTRIES = (
    "Listings and pages have the same entries. Another version of Elenchus published the pages,\n"
    "so their content was not compared."
)
_PUBLISHED = "published"


@app.command(
    short_help=__doc__,
    epilog=examples(
        "elenchus compare --at 2026-07-01",
        'elenchus compare newest-reports "from report where reliability >= 8"',
    ),
)
def compare(
    listings: Annotated[
        Optional[list[str]],  # noqa: UP045 - Typer reads the annotation while the program starts
        typer.Argument(
            metavar="[LISTING LISTING]",
            help="Two listings or questions, to be compared here.",
            autocompletion=words.listings,
        ),
    ] = None,
    site: SiteOption = None,
    no_index: NoIndexOption = False,
    folder: Annotated[
        Optional[Path],  # noqa: UP045
        typer.Option("--from", metavar="FOLDER", help="From the site in this folder to this one."),
    ] = None,
    since: Annotated[
        str,
        typer.Option("--since", metavar="published", help="From what was published last to what would be."),
    ] = "",
    at: Annotated[
        str, typer.Option("--at", metavar="TIME", help="From now to this time: 2026-07-01, 2026-07-01T09:00.")
    ] = "",
    revision: Annotated[
        str,
        typer.Option("--revision", metavar="REVISION", help="From this revision of git to the files here."),
    ] = "",
    to: Annotated[
        Optional[str],  # noqa: UP045
        typer.Option("--to", metavar="FOLDER", help="With --since: the folder that was published to."),
    ] = None,
    given: GivenOption = None,
    form: FormOption = "text",
    strict: Annotated[bool, typer.Option("--strict", help="Exit with 1 where anything differs.")] = False,
    whole: WholeOption = False,
) -> int:
    """Tell what differs: entries that enter listings and sections, leave or move, pages that come and go.

    One side is this site as it is now; the other a folder, a time, a revision, or the last publication.
    """
    from elenchus.cli.printing import show

    _checked(listings, since, (listings, folder, since, at, revision))
    here = opened(site, None, no_index=no_index)
    with ExitStack() as stack:
        if listings:
            found = _of_listings(here, listings, values_of(given))
        else:
            found = _of_states(here, stack, folder, at, revision, to)
        show(_shown(found, listings, form, whole=whole), is_data=form != "text")
    return _DIFFERS if strict and not found.is_empty else 0


def _shown(found: Difference, listings: list[str] | None, form: str, *, whole: bool) -> Iterable[Piece]:
    """Return what differs in a form; ``listings`` are the two that were compared, if it was two."""
    from elenchus.pieces.piece import Piece
    from elenchus.report.changes import difference_as_data, difference_told, two_listings_told

    if form == "json":
        return [Piece(json.dumps(difference_as_data(found), ensure_ascii=False, indent=2) + "\n")]
    if found.is_empty:
        told = _SAME_ENTRIES if found.changed is None else _SAME
        told = "The two have the same entries in the same order." if listings else told
        return [Piece(f"{told}\n")]
    if listings:
        return two_listings_told(found, listings, whole=whole)
    first, *others = difference_told(found, whole=whole)
    return [first._replace(text=first.text.lstrip("\n")), *others]


def _checked(listings: list[str] | None, since: str, sides: Sequence[object]) -> None:
    """Refuse what cannot be compared."""
    if sum(map(bool, sides)) != 1:
        message = "name one thing to compare with: --from, --since, --at, --revision, or two listings"
        raise typer.BadParameter(message)
    if listings and len(listings) != 2:  # noqa: PLR2004 - one is compared with another
        raise typer.BadParameter("listings are compared by twos")
    if since and since != _PUBLISHED:
        raise typer.BadParameter(f"--since knows “{_PUBLISHED}”, not “{since}”; of a time it is --at")


def _of_listings(site: Site, names: list[str], given: dict[str, list[str]]) -> Difference:
    """Return what two listings have that the other has not."""
    from elenchus.asking.query import Query
    from elenchus.comparing.differences import of_two_listings

    first, second = (Query.of(site, name, given) for name in names)
    return of_two_listings(site, first, second)


def _of_states(
    site: Site, stack: ExitStack, folder: Path | None, at: str, revision: str, to: str | None
) -> Difference:
    """Return what is otherwise on one side than on the other."""
    from elenchus.cli.printing import progress
    from elenchus.comparing.differences import difference
    from elenchus.comparing.showing import Showing
    from elenchus.comparing.sides import at_revision, in_folder
    from elenchus.frozen import replace
    from elenchus.pages.book import Book
    from elenchus.publishing.manifest import read_manifest
    from elenchus.publishing.page_changes import between, changed_since
    from elenchus.publishing.publication import target_of
    from elenchus.publishing.published import Published
    from elenchus.site.site import instant_of

    tick = stack.enter_context(progress("pages", 2 * len(Book(site, in_bulk=True).pages)))
    here = Showing(site, tick)
    if at:
        return between(here, here.beside(site.at(instant_of(site.definition, at))))
    if folder or revision:
        other = in_folder(site, folder) if folder else stack.enter_context(at_revision(site, revision))
        before = Showing(other, tick)
        return between(before, before.beside(site))
    target = target_of(site, to)
    found = difference(Published(read_manifest(target)), here)
    return replace(found, changed=changed_since(target, here))
