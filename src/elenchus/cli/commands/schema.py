"""Write JSON Schemas of the files that define a site, by which editors complete and check them."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Optional

import typer

from elenchus.cli import words
from elenchus.cli.app import app, examples, known_word

__all__ = ["schema"]


@app.command(short_help=__doc__, epilog=examples("elenchus schema pages", "elenchus schema --to schemas"))
def schema(
    name: Annotated[
        Optional[str],  # noqa: UP045
        typer.Argument(
            metavar="[elenchus|listings|pages]",
            help="The file whose schema is printed.",
            autocompletion=words.definitions,
        ),
    ] = None,
    to: Annotated[
        Optional[Path],  # noqa: UP045
        typer.Option("--to", metavar="FOLDER", help="Write all three into this folder instead."),
    ] = None,
) -> None:
    """Write JSON Schemas (draft 2020-12) of elenchus.toml, listings.toml and pages.toml.

    Editors that know JSON Schema complete keys by them, tell what each means, and mark what is wrong.
    """
    import json

    from elenchus.cli.printing import show
    from elenchus.files import write_whole, written_or_told
    from elenchus.pieces.piece import Piece
    from elenchus.site.schemas import NAMES, schema_of

    def text(of: str) -> str:
        return json.dumps(schema_of(of), ensure_ascii=False, indent=2) + "\n"

    if (name is None) == (to is None):
        raise typer.BadParameter(f"name one of {', '.join(NAMES)}, or a folder for all: --to FOLDER")
    if to is None:
        show([Piece(text(known_word(name or "", NAMES, "schema")))], is_data=True)
        return
    with written_or_told(f"the folder {to}", "Name another folder with --to."):
        to.mkdir(parents=True, exist_ok=True)
        for each in NAMES:
            write_whole(to / f"{each}.schema.json", text(each).encode())
    show([Piece(f"Wrote {', '.join(f'{each}.schema.json' for each in NAMES)} into {to}.\n")])
