"""Change fields of entries in their files, after showing what changes."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Annotated

import typer

from elenchus.cli import words
from elenchus.cli.app import AtOption, NoIndexOption, SiteOption, app, examples, opened
from elenchus.cli.commands._asking import QUESTION, GivenOption, show_problems, values_of
from elenchus.cli.commands._changing import (
    DryRunOption,
    FormOption,
    WholeOption,
    YesOption,
    effect_of,
    tell_made,
    write_if_agreed,
)

if TYPE_CHECKING:
    from elenchus.comparing.differences import Difference
    from elenchus.editing.changing import ContentChange

__all__ = ["set_fields"]


@app.command(
    "set",
    short_help=__doc__,
    epilog=examples(
        'elenchus set "from sighting where habitat = mudflat" certainty=confirmed --dry-run',
        'elenchus set "from sighting where title contains tern" habitat+=shore --yes',
    ),
)
def set_fields(
    question: Annotated[str, QUESTION],
    assignments: Annotated[
        list[str],
        typer.Argument(
            metavar="FIELD=VALUE...",
            help="What to write: field=value, field+=value (add to a list), field-=value (take from it), "
            "field= (clear). Separate several values by commas.",
            autocompletion=words.assignments,
        ),
    ],
    site: SiteOption = None,
    at: AtOption = None,
    given: GivenOption = None,
    dry_run: DryRunOption = False,
    yes: YesOption = False,
    form: FormOption = "text",
    whole: WholeOption = False,
    no_index: NoIndexOption = False,
    new_terms: Annotated[
        bool, typer.Option("--new-terms", help="Add terms that a database has no row for to its table.")
    ] = False,
) -> int:
    """Change fields of all entries that a question or a listing finds, in the files where they stand.

    Shows the lines that change, and which listings and pages gain and lose which entries; then asks. All
    files are changed or none, and elenchus undo takes it back.
    """
    from elenchus.asking.query import Query, as_lists
    from elenchus.cli.printing import show
    from elenchus.editing.assignments import read_assignments
    from elenchus.editing.changing import content_change
    from elenchus.editing.entries import entries_of, entry_changes, with_fresh_rows
    from elenchus.pieces.piece import Piece
    from elenchus.report.editing import change_as_data

    wanted = read_assignments(assignments)
    here = opened(site, at, no_index=no_index, writes=not dry_run)
    query = Query.of(here, question, as_lists(values_of(given)))
    ids = entries_of(query)
    fresh = with_fresh_rows(here, ids)
    if fresh is not here:  # what is in the database is otherwise than it was when it was read
        here = fresh
        ids = entries_of(Query.of(here, question, as_lists(values_of(given))))
    change = content_change(here, entry_changes(here, ids, wanted), new_terms=new_terms)
    effect = effect_of(change)
    if form == "text":
        publishes = any(each.field == "status" and each.text == "published" for each in wanted)
        _tell(change, effect, len(ids), whole=whole, publishes=publishes)
    words = ["set", question, *assignments]
    made = None if change.is_empty else write_if_agreed(change, words, dry_run=dry_run, yes=yes)
    if form == "json":
        data = change_as_data(change, effect, made.number if made else None)
        show([Piece(json.dumps(data, ensure_ascii=False, indent=2) + "\n")], is_data=True)
    elif not change.is_empty:
        tell_made(made)
    show_problems(here, everything=False)
    return 0


def _tell(change: ContentChange, effect: Difference, count: int, *, whole: bool, publishes: bool) -> None:
    """Show what changes in files, and what that does."""
    from elenchus.cli.printing import show
    from elenchus.pieces.piece import Piece, Role
    from elenchus.report.changes import counted, difference_told
    from elenchus.report.editing import change_told

    if not count:
        show([Piece("The question finds no entry, so nothing changes; elenchus why tells the reason.\n")])
    elif change.is_empty:
        why = "; an entry without a status is published" if publishes else ""
        show([Piece(f"Nothing to do: {counted(count, 'entry says', 'entries say')} that already{why}.\n")])
    else:
        show(change_told(change, whole=whole))
        show(difference_told(effect, whole=whole))
        if effect.changed is None:
            show([Piece("\nListings keep the same entries. Pages that show these values change;\n"
                        "elenchus publish --dry-run lists them.\n", Role.FAINT)])  # fmt: skip
        elif effect.is_empty:
            show([Piece("\nNo listing and no page changes by that.\n", Role.FAINT)])
        show([Piece("\n")])
