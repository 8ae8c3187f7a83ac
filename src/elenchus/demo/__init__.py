"""The demo sites, Skerry Bay and its lending library: written to a folder, asked what a tour asks."""

from __future__ import annotations

import shlex
import tomllib
from pathlib import Path
from typing import TYPE_CHECKING

from elenchus.errors import FolderError, Place, Problem, QuestionError
from elenchus.files import write_whole, written_or_told

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.pieces.piece import Piece
    from elenchus.site.site import Site

__all__ = ["LENDING_LIBRARY", "SKERRY_BAY", "demo_folder", "tell", "write_demo"]

SKERRY_BAY, LENDING_LIBRARY = "skerry-bay", "lending-library"
_HERE = Path(__file__).parent


def demo_folder(name: str = SKERRY_BAY) -> Path:
    """Return the folder of a demo site that ships with the package."""
    return _HERE / name


def write_demo(folder: Path, name: str = SKERRY_BAY, *, force: bool = False) -> int:
    """Write a demo site into a folder and return the number of files that it has.

    Files of the same content stay as they are. Raises FolderError, with nothing written, when a file
    of another content is in the way and ``force`` is not set, or when the folder cannot be written.
    """
    sources = sorted(path for path in demo_folder(name).rglob("*") if path.is_file())
    targets = {path: folder / path.relative_to(demo_folder(name)) for path in sources}
    changed = [path for path in sources if not _same(path, targets[path])]
    in_the_way = [targets[path] for path in changed if targets[path].exists()]
    if in_the_way and not force:
        files = "1 file" if len(in_the_way) == 1 else f"{len(in_the_way)} files"
        message = f"{files} in {folder} would be overwritten, so nothing was written"
        hint = "Name another folder, or add --force to overwrite them."
        raise FolderError([Problem("files-in-the-way", message, hint, place=Place(str(in_the_way[0])))])
    for path in changed:
        with written_or_told(f"the file {targets[path]}", "Name another folder."):
            write_whole(targets[path], path.read_bytes())
    return len(sources)


def _same(source: Path, target: Path) -> bool:
    """Say whether a file is there with the same content."""
    return target.is_file() and target.read_bytes() == source.read_bytes()


def tell(folder: Path, width: int | None, name: str = SKERRY_BAY) -> Iterator[Piece]:
    """Yield the tour of a demo site: a few questions, each with its answer and what to try next."""
    from elenchus.pieces.piece import Piece, Role
    from elenchus.site.site import open_site

    site = open_site(folder)
    steps = tomllib.loads((_HERE / "tours" / f"{name}.toml").read_text(encoding="utf-8"))
    opening = steps["opening"].replace("ROWS", str(len(site.dataset.entries)))
    first, _, others = opening.replace("FOLDER", str(folder)).partition("\n")
    yield Piece(f"{first}\n", Role.STRONG)
    yield Piece(f"{others}\n")
    for number, step in enumerate(steps["step"], start=1):
        yield Piece(f"\n{number}. {step['title']}\n", Role.HEADING)
        yield Piece(f"{step['says']}\n")
        yield from _asked(site, step["question"], width)
        yield Piece("try next: ", Role.FAINT)
        yield Piece(f"{step['next'].replace('FOLDER', shlex.quote(str(folder)))}\n", Role.HINT)
    yield Piece(f"\n{steps['closing'].replace('FOLDER', shlex.quote(str(folder)))}\n")


def _asked(site: Site, question: str, width: int | None) -> Iterator[Piece]:
    """Yield a question as it is typed, and its answer or its error."""
    from elenchus.asking.questions import ask
    from elenchus.forms import Frame, form
    from elenchus.pieces.piece import Piece, Role
    from elenchus.pieces.problems import question_problems

    yield Piece("\n$ ", Role.FAINT)
    yield Piece(f"elenchus ask {shlex.quote(question)}\n\n", Role.STRONG)
    try:
        answer = ask(site, question)
    except QuestionError as error:
        yield from question_problems(error.text, error.problems)
    else:
        yield from form("table").write(answer, Frame(width))
    yield Piece("\n")
