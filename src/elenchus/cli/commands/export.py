"""Write the content as tables, for databases and for questions beyond one machine."""

from __future__ import annotations

from typing import Annotated

import typer

from elenchus.cli.app import NoIndexOption, SiteOption, app, examples, opened

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
    site: SiteOption = None,
    no_index: NoIndexOption = False,
) -> None:
    """Write entries, terms and references as tables: as Parquet in a folder, or into DuckDB or PostgreSQL.

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
    done = written(found.dataset, place)
    parts = [f"{counted(done.written, 'entry', 'entries')} written"]
    parts += [f"{done.removed} removed"] if done.removed else []
    parts += [f"{done.kept} as before"] if done.kept else []
    there = "elenchus ask asks there." if is_usual else f"Ask there: elenchus ask … --tables {place}"
    show([Piece(f"{', '.join(parts)}. {there}\n")])
