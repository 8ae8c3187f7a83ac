"""The built-in templates as people copy them into their site: what each draws, and what it is given."""

from __future__ import annotations

from pathlib import Path

from elenchus.errors import FolderError, NoSuchName, Problem
from elenchus.files import write_whole, written_or_told
from elenchus.frozen import Frozen
from elenchus.pages.paths import TEMPLATES
from elenchus.values.texts import nearest, quoted

__all__ = ["BUILT_IN", "BuiltIn", "copied"]

_HERE = Path(__file__).parent
_EVERYWHERE = "Everywhere: site, word(), asset(), ask(), listing(), number()."
_PART = "part (the section), level (of headings)"
_ROWS = f"rows, {_PART}"


class BuiltIn(Frozen):
    """A template: what it draws, what it is given, and the file that has it."""

    name: str
    draws: str
    given: str = ""

    @property
    def path(self) -> Path:
        """The file."""
        return _HERE / self.name if self.name.startswith("assets/") else _HERE / "templates" / self.name

    def text(self) -> str:
        """Return it as it is copied: with a comment that says what it draws, and what it is given."""
        text = self.path.read_text(encoding="utf-8")
        if self.name.startswith("assets/"):
            return text
        given = f" Given: {self.given}." if self.given else ""
        return f"{{# {self.draws}.{given} {_EVERYWHERE} -#}}\n{text}"


BUILT_IN = {
    each.name: each
    for each in (
        BuiltIn("sheet.html", "A whole page, with its head, menu, trail and sections", "sheet"),
        BuiltIn("entry.html", "What stands first on the page of an entry: its facts and its text", "sheet"),
        BuiltIn("rows.html", "The rows of a section, by its layout", _PART),
        BuiltIn("parts.html", "Pieces that others share: trail, pager, forms and the like"),
        BuiltIn("layouts/titles.html", "The layout titles: a list of links", _ROWS),
        BuiltIn("layouts/list.html", "The layout list: rows below one another, with summaries", _ROWS),
        BuiltIn("layouts/cards.html", "The layout cards: rows beside one another, with pictures", _ROWS),
        BuiltIn("layouts/table.html", "The layout table: a column for each shown field", _ROWS),
        BuiltIn("layouts/archive.html", "Groups as links with counts", "part (the section)"),
        BuiltIn("layouts/row.html", "A row in lists and cards", "row, part, level"),
        BuiltIn("layouts/meta.html", "The facts below the title of a row", "row, part"),
        BuiltIn("assets/elenchus.css", "The stylesheet of all pages"),
        BuiltIn("assets/elenchus.js", "The script of forms on published pages"),
    )
}


def copied(folder: Path, names: list[str]) -> list[Path]:
    """Copy built-in templates into the folder of templates of a site, and return where they are.

    Raises NoSuchName, with the nearest one, before anything is written; FolderError where one is there.
    """
    unknown = [_unknown(name) for name in names if name not in BUILT_IN]
    if unknown:
        raise NoSuchName(unknown)
    paths = [folder / TEMPLATES / name for name in names]
    there = [_there(path.relative_to(folder)) for path in paths if path.exists()]
    if there:
        raise FolderError(there)
    for name, path in zip(names, paths, strict=True):
        with written_or_told(f"the file {path}", "Let it be written; those before it are."):
            path.parent.mkdir(parents=True, exist_ok=True)
            write_whole(path, BUILT_IN[name].text().encode())
    return paths


def _unknown(name: str) -> Problem:
    """Return the problem of a name that no built-in template has."""
    message, hint = f"there is no built-in template {quoted(name)}", "elenchus templates lists them."
    return Problem("unknown-template", message, hint, near=nearest(name, BUILT_IN))


def _there(path: Path) -> Problem:
    """Return the problem of a template that the site has already."""
    hint = "Take it away first, if it is to be the built-in one again."
    return Problem("cannot-write", f"{quoted(path.as_posix())} is there already", hint)
