"""The program ``elenchus``: its commands, and the one place where errors become exit codes."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import click
import typer

from elenchus import __version__, formats
from elenchus.errors import ElenchusError, FolderError, NoSuchPage, QuestionError, SiteError

if TYPE_CHECKING:
    from collections.abc import Callable

__all__ = ["main"]

# What the program exits with; 0 is success and 2 a wrong option, as everywhere.
EXIT_CODES: dict[type[ElenchusError], int] = {
    QuestionError: 3,
    SiteError: 4,
    NoSuchPage: 5,
    FolderError: 6,
}
INTERNAL = 70  # EX_SOFTWARE of sysexits.h
INTERRUPTED = 130  # 128 + SIGINT, as shells have it

app = typer.Typer(
    name="elenchus",
    help="Ask which entries a place on a website shows, in what order, and why.",
    epilog="Exit codes: 0 done · 2 wrong option · 3 bad question · 4 bad site · 5 no such page · "
    "6 folder not written · 70 a fault of the program itself.",
    no_args_is_help=True,
    add_completion=False,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
)


def main() -> None:
    """Run the program; every error leaves as text on standard error and an exit code."""
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # no matrices here: threads would only cost the start
    sys.exit(run(lambda: app(standalone_mode=False)))


def run(command: Callable[[], object]) -> int:
    """Return the exit code of a command."""
    try:
        found = command()
        sys.stdout.flush()
    except ElenchusError as error:
        return report(error)
    except click.exceptions.Exit as stop:
        return stop.exit_code
    except click.ClickException as error:
        error.show()
        return error.exit_code
    except (KeyboardInterrupt, click.Abort):
        return INTERRUPTED
    except Exception as error:
        return internal(error)
    return found if isinstance(found, int) else 0


def report(error: ElenchusError) -> int:
    """Write an error's problems and return its exit code."""
    from elenchus.cli.printing import show_error
    from elenchus.layout.problems import plain_problems, question_problems

    if isinstance(error, QuestionError):
        show_error(question_problems(error.text, error.problems))
    else:
        show_error(plain_problems(error.problems))
    return next(code for kind, code in EXIT_CODES.items() if isinstance(error, kind))


def internal(error: Exception) -> int:
    """Write that the program itself is at fault, without a traceback unless one is asked for."""
    if os.environ.get("ELENCHUS_TRACEBACK"):
        import traceback

        traceback.print_exception(error)
    sys.stderr.write(
        f"Elenchus itself is at fault: {type(error).__name__}: {error}\n"
        "Nothing was changed. ELENCHUS_TRACEBACK=1 shows where; please report it with your question.\n"
    )
    return INTERNAL


def print_version(wanted: bool) -> None:
    """Print the version and stop."""
    if wanted:
        sys.stdout.write(f"elenchus {__version__}\n")
        raise typer.Exit


@app.callback()
def program(
    version: Annotated[
        bool, typer.Option("--version", callback=print_version, is_eager=True, help="Print the version.")
    ] = False,
) -> None:
    """Ask which entries a place on a website shows, in what order, and why."""


def known_format(name: str) -> str:
    """Return the name of a format that there is."""
    if name not in formats.names():
        from elenchus.values.texts import either, nearest

        near = nearest(name, formats.names())
        hint = f" Did you mean {either(near)}?" if near else f" Known: {', '.join(formats.names())}."
        raise typer.BadParameter(f"there is no format “{name}”.{hint}")
    return name


SITE = typer.Option(
    "--site", metavar="FOLDER", help="The site; else the nearest folder upward with an elenchus.toml."
)
AT = typer.Option(
    "--at", metavar="TIME", help="Answer as of this time, such as 2026-06-01 or 2026-06-01T09:00."
)


@app.command()
def ask(
    question: Annotated[
        str, typer.Argument(help="The question, such as “from guide where species = limpet”.")
    ],
    site: Annotated[Path | None, SITE] = None,
    output: Annotated[
        str,
        typer.Option(
            "--format", "-f", metavar="FORMAT", callback=known_format, help=", ".join(formats.names()) + "."
        ),
    ] = "table",
    page: Annotated[str, typer.Option("--page", metavar="N", help="Which page of the answer.")] = "1",
    at: Annotated[str | None, AT] = None,
    problems: Annotated[
        bool, typer.Option("--problems", help="List all problems in the content, not a few.")
    ] = False,
) -> None:
    """Answer one question about the site's entries."""
    import elenchus
    from elenchus.cli.printing import output_width, show, show_error
    from elenchus.layout.problems import content_problems

    opened = elenchus.open_site(site or elenchus.find_site(Path.cwd()), at=at)
    answer = elenchus.ask(opened, question, page=page)
    show(formats.answer_format(output).write(answer, output_width()))
    show_error(content_problems(opened.dataset.problems, everything=problems))


@app.command()
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
