"""Write the demo site Skerry Bay and ask it a few questions."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Optional

import typer

from elenchus.cli.app import app, examples

__all__ = ["demo"]


@app.command(short_help=__doc__, epilog=examples("elenchus demo", "elenchus demo --library"))
def demo(
    folder: Annotated[
        Optional[Path],  # noqa: UP045
        typer.Argument(help="Where to write the site; skerry-bay, or lending-library.", show_default=False),
    ] = None,
    library: Annotated[
        bool, typer.Option("--library", help="Write its lending library, whose content lies in many formats.")
    ] = False,
    force: Annotated[
        bool, typer.Option("--force", help="Overwrite the site's files where they exist.")
    ] = False,
) -> None:
    """Write the demo site Skerry Bay and ask it a few questions."""
    from elenchus.cli.printing import output_width, show
    from elenchus.demo import LENDING_LIBRARY, SKERRY_BAY, tell, write_demo

    name = LENDING_LIBRARY if library else SKERRY_BAY
    target = folder or Path(name)
    write_demo(target, name, force=force)
    show(tell(target, output_width(), name))
