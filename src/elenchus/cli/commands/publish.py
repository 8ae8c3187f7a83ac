"""Write the pages, feeds and data of the site, telling what changes."""

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
    opened,
    refuse_old_content,
)
from elenchus.frozen import replace

if TYPE_CHECKING:
    from elenchus.pages.survey import Survey
    from elenchus.publishing.publication import Publication, Wishes
    from elenchus.site.site import Site

__all__ = ["publish"]

_FAILED = 1  # what is exited with where something must be fixed first


@app.command(
    short_help=__doc__,
    epilog=examples("elenchus publish --dry-run", "elenchus publish --to bay --only home"),
)
def publish(
    to: Annotated[
        Optional[str],  # noqa: UP045 - Typer reads the annotation while the program starts
        typer.Option(
            "--to",
            metavar="FOLDER",
            help="The folder to write to; else the site's own choice, or “published”.",
        ),
    ] = None,
    only: Annotated[
        str,
        typer.Option(
            "--only",
            metavar="PAGE",
            help="Only this page or page set, by its name.",
            autocompletion=words.pages,
        ),
    ] = "",
    dry_run: Annotated[
        bool, typer.Option("--dry-run", help="Tell what would change, and write nothing.")
    ] = False,
    force: Annotated[
        bool, typer.Option("--force", help="Overwrite files that were changed by hand or that others wrote.")
    ] = False,
    strict: Annotated[
        bool, typer.Option("--strict", help="Stop at warnings and at entries that would be left out, too.")
    ] = False,
    whole: Annotated[bool, typer.Option("--in-full", help="Name every file and entry that changes.")] = False,
    site: SiteOption = None,
    at: AtOption = None,
    no_index: NoIndexOption = False,
    on: AnswersOption = "",
) -> int:
    """Write all pages and page sets with their feeds and data, after telling what changes.

    Files that are as before are not touched. Files are removed only if this program wrote them, and
    never overwritten when they were changed by hand. An entry that cannot be read is left out; any other
    error that check finds stops the run before it writes, with exit code 1.
    """
    from elenchus.publishing.publication import Wishes, target_of
    from elenchus.publishing.unchanged import texts_digest
    from elenchus.site.site import find_site

    home = site or find_site(Path.cwd())
    texts = texts_digest(home)  # before anything is read, so that the next run sees what changes meanwhile
    here = opened(home, at, no_index=no_index, writes=not dry_run)
    here = answering(here, on)
    if any(spec.table for spec in here.definition.sources):
        refuse_old_content(here, "nothing is published")
    wishes = Wishes(only, force, dry_run, here.content.work.processes, texts)
    folder = target_of(here, to)
    code = None if strict else _nothing_changed(here, folder, wishes, whole=whole)
    return _published(here, folder, wishes, whole=whole, strict=strict) if code is None else code


def _nothing_changed(site: Site, folder: Path, wishes: Wishes, *, whole: bool) -> int | None:
    """Tell that nothing changes, where that is known at once; return what is to be exited with, or None."""
    from elenchus.pages.paths import OWN_FOLDER
    from elenchus.publishing.publication import writing
    from elenchus.publishing.unchanged import unchanged

    if not (folder / OWN_FOLDER).is_dir():  # nothing was published there, and nothing is made there yet
        return None
    with writing(folder, dry_run=wishes.dry_run):
        found = unchanged(site, folder, wishes)
        return _told(site, found, wishes, whole=whole) if found else None


def _published(site: Site, folder: Path, wishes: Wishes, *, whole: bool, strict: bool) -> int:
    """Check the site and publish what changed; return what is to be exited with."""
    from elenchus.cli.printing import progress
    from elenchus.pages.paths import OWN_FOLDER
    from elenchus.pages.survey import Survey
    from elenchus.publishing.carried import carried
    from elenchus.publishing.drawing import published_to
    from elenchus.publishing.publication import writing
    from elenchus.rendering.renderer import Renderer

    survey = Survey(site)
    _some_pages(survey)
    _known_page(survey, wishes.only)
    is_there = (folder / OWN_FOLDER).is_dir()
    if not is_there and _fails(survey, strict=strict):
        return _FAILED  # and nothing is made there
    with writing(folder, dry_run=wishes.dry_run):
        # Pages that a change cannot reach had no errors when they were published.
        standing = carried(survey, folder, wishes) if is_there and not strict else None
        survey = standing.survey if standing else survey
        if is_there and _fails(survey, strict=strict):
            return _FAILED
        found = published_to(
            Renderer(site, survey.book), survey.placed, folder, wishes, standing=standing, progress=progress
        )
        return _told(site, found, wishes, whole=whole)


def _told(site: Site, found: Publication, wishes: Wishes, *, whole: bool) -> int:
    """Tell what changes, and change it; return what is to be exited with."""
    from elenchus.cli.printing import progress, show, show_error
    from elenchus.pieces.piece import Piece, Role
    from elenchus.pieces.problems import plain_problems
    from elenchus.report.publishing import changes_told, done_told, entries_told

    show(changes_told(found, lambda name: _title_of(site, name), _shown(found.folder), whole=whole))
    if not wishes.dry_run:
        with progress("files", len(found.staged) + len(found.removed)) as tick:
            found.apply(tick)
    private = [name for name, rule in site.pages.pages.items() if rule.private]
    show(done_told(found, private, dry_run=wishes.dry_run))
    show(entries_told(site, dry_run=wishes.dry_run))
    if wishes.dry_run and found.in_the_way:
        show_error([Piece("\nA run would stop at this, and write nothing:\n", Role.NOTICE)])
        show_error(plain_problems(found.in_the_way))
        return _FAILED
    return 0


def _fails(survey: Survey, *, strict: bool) -> bool:
    """Say whether the check finds what must be fixed first, and tell it."""
    from elenchus.checks.run import check_site
    from elenchus.cli.printing import output_width, progress, show_error
    from elenchus.report.checks import findings

    report = check_site(survey.site, lambda count: progress("checks", count), survey)
    stops = report.stops(strict=strict)
    if stops:
        show_error(findings(replace(report, findings=tuple(stops)), output_width()))
    return bool(stops)


def _some_pages(survey: Survey) -> None:
    """Raise SiteError for a site without pages."""
    from elenchus.errors import SiteError
    from elenchus.pages.book import no_pages_at_all

    if not survey.book.rules and not survey.site.pages.problems:
        raise SiteError([no_pages_at_all()])


def _known_page(survey: Survey, name: str) -> None:
    """Raise NoSuchName for a page that there is not."""
    from elenchus.errors import NoSuchName, Problem
    from elenchus.values.texts import nearest, quoted

    if name and name not in survey.book.rules:
        near = nearest(name, survey.book.rules)
        hint = f"Pages: {', '.join(survey.book.rules)}."
        raise NoSuchName([Problem("unknown-page", f"there is no page {quoted(name)}", hint, near=near)])


def _shown(folder: Path) -> str:
    """Return a folder as people call it: from where they are, if it is below."""
    here = Path.cwd()
    return str(folder.relative_to(here)) if folder.is_relative_to(here) else str(folder)


def _title_of(site: Site, name: str) -> str:
    """Return the title of an entry by its id, the id where it is no more."""
    from elenchus.engine.view import View

    rows = site.dataset.find_entry(name)
    return (View(site.dataset, site.clock.now).titles.item(rows[0]) if rows else None) or name
