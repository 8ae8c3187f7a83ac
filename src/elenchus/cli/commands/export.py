"""Write the content as tables, for databases and for questions beyond one machine."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from elenchus.cli.app import NoIndexOption, SiteOption, app, examples, opened

if TYPE_CHECKING:
    from elenchus.pieces.piece import Piece
    from elenchus.tables.layout import Exported

__all__ = ["export"]


@app.command(
    short_help=__doc__, epilog=examples("elenchus export tables", "elenchus export duckdb:///bay.duckdb")
)
def export(
    place: Annotated[
        str,
        typer.Argument(
            metavar="[PLACE]",
            help="A folder, duckdb:///FILE, or postgresql://USER@HOST/DATABASE; that of [tables] by default.",
        ),
    ] = "",
    complete: Annotated[
        bool,
        typer.Option(
            "--complete", help="Write bodies of what is held back, and fields that look private, as well."
        ),
    ] = False,
    site: SiteOption = None,
    no_index: NoIndexOption = False,
) -> None:
    """Write entries, terms and references as tables: as Parquet in a folder, or into DuckDB or PostgreSQL.

    Bodies of entries that are held back, fields that look private (passwords, addresses of mail …) and those
    whose names begin with _ are left out.

    The second time only what changed is written. Whoever reads meanwhile sees the tables as they were, and a
    run that is killed leaves them so. elenchus ask … --tables URL asks them.
    """
    from elenchus.cli.printing import show
    from elenchus.pieces.piece import Piece
    from elenchus.report.changes import counted
    from elenchus.tables.opening import missing_extra

    found = opened(site, None, no_index=no_index)
    is_usual = not place and bool(found.definition.tables)
    place = place or found.tables_place
    if not place:
        raise typer.BadParameter("say where, or write [tables] with at = into elenchus.toml")
    try:
        from elenchus.tables.export import export as written
    except ModuleNotFoundError as error:
        raise missing_extra(error) from None
    done = written(found.dataset, place, complete=complete)
    parts = [f"{counted(done.written, 'entry', 'entries')} written"]
    parts += [f"{done.removed} removed"] if done.removed else []
    parts += [f"{done.kept} as before"] if done.kept else []
    there = "elenchus ask asks there." if is_usual else f"Ask there: elenchus ask … --tables {place}"
    show([Piece(f"{', '.join(parts)}. {there}\n"), *_left_out(done)])


def _left_out(done: Exported) -> list[Piece]:
    """Return the line of what was not written."""
    from elenchus.pieces.piece import Piece
    from elenchus.report.changes import counted

    names = list(done.left_out)
    parts = [f"the {'field' if len(names) == 1 else 'fields'} {', '.join(names)}"] if names else []
    texts = counted(done.texts, "entry that is held back", "entries that are held back")
    parts += [f"the body of {texts}"] if done.texts else []
    told = f"Left out: {' and '.join(parts)}. elenchus export --complete writes all of it.\n"
    return [Piece(told)] if parts else []
