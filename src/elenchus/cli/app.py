"""What all commands share: the program that they join, and the options that most of them take."""

from __future__ import annotations

import os
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Optional

import typer
from typer.core import TyperGroup

from elenchus import __version__
from elenchus.errors import did_you_mean
from elenchus.values.texts import nearest

if TYPE_CHECKING:
    from collections.abc import Sequence

    import click

    from elenchus.site.site import Site

__all__ = [
    "GROUPS",
    "AnswersOption",
    "AtOption",
    "EditsOption",
    "NoIndexOption",
    "OnOption",
    "SiteOption",
    "answering",
    "app",
    "examples",
    "known_word",
    "opened",
    "refuse_old_content",
    "tell_unfinished",
]


_CONTENT = "content"  # a place that is none: what the site's own content answers

# The commands as --help lists them: in groups, in the order of the work.
GROUPS = {
    "Start": ("demo", "start"),
    "Know and ask": ("describe", "ask", "why", "explore", "pages"),
    "Change": ("set", "rename-term", "approve", "undo"),
    "Check and publish": ("check", "compare", "upcoming", "serve", "publish", "weave"),
    "Everything else": ("templates", "schema", "export", "completion", "allow"),
}


def known_word(name: str, known: Sequence[str], what: str) -> str:
    """Return a word that an option or a command may have. Raises BadParameter, with the nearest ones."""
    if name not in known:
        hint = did_you_mean(nearest(name, known)) or f"Known: {', '.join(known)}."
        raise typer.BadParameter(f"there is no {what} “{name}”. {hint}")
    return name


def examples(*lines: str) -> str:
    """Return examples of a command as the end of its help, each on a line of its own."""
    return "\b\nFor example, in the demo:\n" + "\n".join(f"  {line}" for line in lines)


class _Commands(TyperGroup):
    """The commands; of an unknown one the nearest are named once, whatever versions of libraries add."""

    def format_commands(
        self,
        ctx: click.Context,  # noqa: ARG002 - as the library calls it
        formatter: click.HelpFormatter,
    ) -> None:
        """Write the commands in groups, in the order of the work."""
        widest = max(map(len, self.commands))
        for title, names in GROUPS.items():
            known = [(f"{name:<{widest}}", self.commands[name].short_help or "") for name in names]
            with formatter.section(title):
                formatter.write_dl(known)

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """Return the command that arguments begin with."""
        if args and args[0] not in self.commands and not args[0].startswith("-"):
            near = did_you_mean(nearest(args[0], self.commands))
            ctx.fail(f"There is no command “{args[0]}”. {near}".rstrip())
        return super().resolve_command(ctx, args)


app = typer.Typer(
    name="elenchus",
    cls=_Commands,
    help="Ask which entries a place on a website shows, in what order, and why.",
    epilog="Exit codes: 0 done · 1 something must be fixed · 2 wrong option · 3 bad question · 4 bad site · "
    "5 no such page · 6 file or folder not written · 7 no such name · 8 wrong markers · "
    "70 a fault of the program itself.",
    no_args_is_help=True,
    add_completion=False,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
)


def _print_version(wanted: bool) -> None:
    """Print the version and stop."""
    if wanted:
        from elenchus.cli.printing import show
        from elenchus.pieces.piece import Piece

        show([Piece(f"elenchus {__version__}\n")])
        raise typer.Exit


@app.callback()
def _program(
    version: Annotated[
        bool, typer.Option("--version", callback=_print_version, is_eager=True, help="Print the version.")
    ] = False,
) -> None:
    """Ask which entries a place on a website shows, in what order, and why."""


SiteOption = Annotated[
    Optional[Path],  # noqa: UP045 - Typer reads the annotation while the program starts
    typer.Option("--site", metavar="FOLDER", help="The site; else the nearest folder upward that holds one."),
]
AtOption = Annotated[
    Optional[str],  # noqa: UP045
    typer.Option("--at", metavar="TIME", help="Answer as of this time: 2026-06-01, or 2026-06-01T09:00."),
]


NoIndexOption = Annotated[
    bool, typer.Option("--no-index", help="Read all content, and keep nothing of it for the next run.")
]


OnOption = Annotated[
    str,
    typer.Option(
        "--tables",
        metavar="URL",
        help="Ask the tables there (elenchus export): a folder, duckdb:///FILE, postgresql://… or spark://…; "
        "“content” asks the content, whatever [tables] says.",
    ),
]


def answering(site: Site, on: str) -> Site:
    """Return a site with its content whose questions the tables at a place answer, where one is given."""
    return site.answered_on(on) if on else site


def _elsewhere(on: str) -> str:
    """Return the place of tables that is given; nothing for the content itself."""
    return "" if on == _CONTENT else on


AnswersOption = Annotated[
    str,
    typer.Option(
        "--tables",
        metavar="URL",
        callback=_elsewhere,
        help="Let the tables there answer, which elenchus export wrote.",
    ),
]
EditsOption = Annotated[
    bool, typer.Option("--edits", help="As if all pending edits (name.edit.md) were published.")
]


def opened(
    folder: Path | None,
    at: str | None,
    *,
    no_index: bool = False,
    edits: bool = False,
    on: str | None = None,
    writes: bool = False,
    lenient: bool = False,
) -> Site:
    """Return the site of a folder, or the one around the working directory.

    With pending edits, if wanted, or asked ``on`` tables: those of its file where that is an empty text. A
    ``lenient`` command reads what can be read of the databases. One that ``writes`` first finishes a change
    in whose middle a run ended; others say that it is there.
    """
    import elenchus
    from elenchus.cli.printing import progress, show_error
    from elenchus.index.work import Work
    from elenchus.pieces.problems import notice_lines

    work = Work(
        index=not no_index,
        processes=len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1,
        tell=lambda problem: show_error(notice_lines([problem])),
        progress=lambda count: progress("reading", count),
        lenient=lenient,
    )
    folder = folder or elenchus.find_site(Path.cwd())
    tell_unfinished(folder, writes=writes)
    found = elenchus.open_site(folder, at=at).working(work)
    on = None if on == _CONTENT else on
    if on and edits:
        raise typer.BadParameter("tables have no pending edits, so --tables goes without --edits")
    place = found.tables_place if on == "" and not edits else on
    if place:
        return found.on(place)
    if not edits:
        return found
    from elenchus.editing.edits import with_edits

    return with_edits(found)


def refuse_old_content(site: Site, consequence: str) -> None:
    """Raise SourceError if some of the content is of an earlier run, since a database cannot be read now."""
    from elenchus.errors import Problem, SourceError

    if not site.is_of_tables and site.content.failures:  # which were told when it was read
        message = f"not all content could be read, so {consequence}"
        hint = "Let the database be read, and run the command again."
        raise SourceError([Problem("unreadable-database", message, hint)])


def tell_unfinished(folder: Path, *, writes: bool) -> None:
    """Say that a run ended in the middle of a change of content; finish the change if this command writes."""
    from elenchus.cli.printing import show_error
    from elenchus.report.editing import unfinished_told
    from elenchus.site.site import journal_of

    journal = journal_of(folder)
    change = journal.unfinished
    if change:
        is_finished = writes and change.is_ours and journal.finish() is not None
        show_error(unfinished_told(change, is_finished=is_finished))
