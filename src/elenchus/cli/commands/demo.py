"""Write the demo site Skerry Bay and ask it a few questions."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from elenchus.cli.app import app

__all__ = ["demo"]


@app.command(short_help=__doc__)
def demo(
    folder: Annotated[Path, typer.Argument(help="Where to write the site.")] = Path("skerry-bay"),
    force: Annotated[
        bool, typer.Option("--force", help="Overwrite the site's files where they exist.")
    ] = False,
) -> None:
    """Write the demo site Skerry Bay and ask it a few questions."""
    from elenchus.cli.printing import output_width, show
    from elenchus.demo import tell, write_demo

    write_demo(folder, force=force)
    show(tell(folder, output_width()))
