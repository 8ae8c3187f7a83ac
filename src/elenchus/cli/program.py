"""The program ``elenchus``: the one place where errors become exit codes."""

from __future__ import annotations

import gc
import os
import sys
from io import StringIO
from typing import TYPE_CHECKING

import click

from elenchus.cli.commands import load
from elenchus.errors import (
    ElenchusError,
    FolderError,
    MarkerError,
    NoSuchName,
    NoSuchPage,
    OptionError,
    QuestionError,
    SiteError,
    SourceError,
)

if TYPE_CHECKING:
    from collections.abc import Callable

__all__ = ["main"]

_COMPLETE = "_ELENCHUS_COMPLETE"  # the variable by which a shell asks what can follow a line

# What the program exits with; 0 is success and 2 a wrong option, as everywhere.
_EXIT_CODES: dict[type[ElenchusError], int] = {
    QuestionError: 3,
    OptionError: 2,
    SiteError: 4,
    NoSuchPage: 5,
    FolderError: 6,
    NoSuchName: 7,
    MarkerError: 8,
    SourceError: 9,
}
_RENAMED_OPTIONS = {
    "--pretend": "--as-if",
    "--all": "--in-full",
    "--on": "--tables",
}  # and what they are called now
# New objects between two looks for circles: a run is short and makes hardly any, and each look costs time.
_OBJECTS = 100_000
_INTERNAL = 70  # EX_SOFTWARE of sysexits.h
_INTERRUPTED = 130  # 128 + SIGINT, as shells have it


def main() -> None:
    """Run the program; every error leaves as text on standard error and an exit code."""
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # no matrices here: threads would only cost the start
    gc.set_threshold(_OBJECTS)
    if asked := os.environ.get(_COMPLETE):
        from elenchus.cli.completing import complete

        sys.exit(complete(asked))
    app = load(sys.argv[1:])
    sys.exit(_run(lambda: app(standalone_mode=False)))


def _run(command: Callable[[], object], *, again: bool = False) -> int:
    """Return the exit code of a command; run it again without what an index held if that made it fail."""
    try:
        found = command()
        if sys.stdout:
            sys.stdout.flush()
    except ElenchusError as error:
        return _report(error)
    except click.exceptions.Exit as stop:
        return stop.exit_code
    except click.NoSuchOption as error:
        _show_wrong_call(_renamed(error))
        return error.exit_code
    except click.ClickException as error:
        _show_wrong_call(error)
        return error.exit_code
    except (KeyboardInterrupt, click.Abort):
        return _INTERRUPTED
    except BrokenPipeError:
        return 0
    except Exception as error:
        return _internal(error) if again or not _forgets_index() else _run(command, again=True)
    return found if isinstance(found, int) else 0


def _forgets_index() -> bool:
    """Say whether this run has read an index, which is not used again: it can hold anything."""
    if "elenchus.index.store" not in sys.modules:
        return False
    from elenchus.cli.printing import show_error
    from elenchus.index.store import forget_used, rebuilt
    from elenchus.pieces.problems import notice_lines

    folders = forget_used()
    show_error(notice_lines([rebuilt(folder) for folder in folders]))
    return bool(folders)


def _show_wrong_call(error: click.ClickException) -> None:
    """Write how the command is called, and what is wrong with this call; what was typed can be anything."""
    from elenchus.cli.printing import show_error
    from elenchus.pieces.piece import Piece

    told = StringIO()
    error.show(told)
    show_error([Piece(told.getvalue())])


def _renamed(error: click.NoSuchOption) -> click.UsageError:
    """Return the error of an unknown option; of one that was given up, what it is called now."""
    name = _RENAMED_OPTIONS.get(error.option_name)
    known = {option for rule in error.ctx.command.params for option in rule.opts} if error.ctx else set()
    name = name if name in known else None
    return click.UsageError(f"{error.option_name} is called {name} now.", error.ctx) if name else error


def _report(error: ElenchusError) -> int:
    """Write an error's problems and return its exit code."""
    from elenchus.cli.printing import show_error
    from elenchus.pieces.problems import plain_problems, question_problems

    if isinstance(error, QuestionError):
        show_error(question_problems(error.text, error.problems))
    else:
        show_error(plain_problems(error.problems))
    return next(code for kind, code in _EXIT_CODES.items() if isinstance(error, kind))


def _internal(error: Exception) -> int:
    """Write that the program itself is at fault, without a traceback unless one is asked for."""
    if os.environ.get("ELENCHUS_TRACEBACK"):
        import traceback

        traceback.print_exception(error)
    from elenchus.cli.printing import show_error
    from elenchus.pieces.piece import Piece

    told = f"Elenchus itself is at fault: {type(error).__name__}: {error}\n"
    show_error(
        [Piece(told), Piece("ELENCHUS_TRACEBACK=1 shows where; please report it with your question.\n")]
    )
    return _INTERNAL
