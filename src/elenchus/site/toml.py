"""Reading TOML with an eye on lines: known keys, right types, every problem with its place."""

from __future__ import annotations

import re
import tomllib
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any, TypeAlias

from elenchus.errors import About, Place, Problem, SiteError
from elenchus.files import read_whole, too_large, unreadable
from elenchus.frozen import replace
from elenchus.values.texts import either, nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence
    from pathlib import Path

__all__ = ["Shape", "TomlFile", "open_toml"]

Shape: TypeAlias = dict[str, type | tuple[type, ...]]

HEADER = re.compile(r"\s*\[\[?\s*(.+?)\s*\]\]?\s*(#.*)?$")
KEY = re.compile(r"""\s*((?:[\w-]+|"[^"]*"|'[^']*')(?:\s*\.\s*(?:[\w-]+|"[^"]*"|'[^']*'))*)\s*=""")
# All that can hold what only looks like a key, in the order in which it must be looked for.
LONG = re.compile(
    r'''"""(?:[^\\]|\\.)*?"{3,5}|\'{3}.*?\'{3,5}|"(?:[^"\\\n]|\\.)*"|\'[^\'\n]*\'|\#[^\n]*''', re.DOTALL
)
NOT_LINE_END = re.compile(r"[^\n]")
PART = re.compile(r"""[\w-]+|"[^"]*"|'[^']*'""")
# Keys that were given up, and what they are called now.
RENAMED = {"path": "address", "least": "at_least", "most": "at_most", "columns": "per_row"}
TYPE_NAMES = {
    str: "a text",
    bool: "true or false",
    dict: "a table",
    list: "a list",
    int: "a number",
    float: "a number",
}


@dataclass
class TomlFile:
    """A parsed file with the lines of its keys, and the problems found in it so far."""

    name: str
    text: str
    data: dict[str, Any]
    problems: list[Problem] = field(default_factory=list)

    @cached_property
    def outline(self) -> list[str]:
        """The lines of the file with nothing but blanks inside texts of several lines and comments.

        What looks like a key in there is none: a question may well say ``title = …``.
        """
        return LONG.sub(blanked, self.text).split("\n")

    def report(
        self, code: str, path: tuple[str, ...], message: str, hint: str = "", *, near: Sequence[str] = ()
    ) -> None:
        """Add a problem at the line of a key."""
        self.problems.append(Problem(code, message, hint, place=self.place(path), near=near))

    def place(self, path: tuple[str, ...]) -> Place:
        """Return the place of a key, or of the nearest table around it."""
        return Place(self.name, self.line_of(path))

    def text_place(self, path: tuple[str, ...]) -> Place:
        """Return the place at which the text of a key begins: below its line where three quotes end that."""
        line = self.line_of(path)
        written = self.text.split("\n")[line - 1 : line]
        below = bool(written) and written[0].rstrip().endswith(('"""', "'''"))
        return Place(self.name, line + below)

    def line_of(self, path: tuple[str, ...]) -> int:
        """Return the line of a key, or of the nearest table around it; 1 when there is none."""
        lines = self.lines
        while path and path not in lines:
            path = path[:-1]
        return lines.get(path, 1)

    def item_place(self, path: tuple[str, ...], number: int, word: str) -> Place:
        """Return the place of an item of a list: its own header, or the first line with a word."""
        headers = [
            at
            for at, line in enumerate(self.outline, start=1)
            if (header := HEADER.match(line)) and line.lstrip().startswith("[[") and parts(header[1]) == path
        ]
        if number < len(headers):
            return Place(self.name, headers[number])
        first = self.line_of(path)
        rest = self.text.split("\n")[first - 1 :]
        found = (
            at for at, line in enumerate(rest, start=first) if f'"{word}"' in line or f"'{word}'" in line
        )
        return Place(self.name, next(found, first))

    @cached_property
    def lines(self) -> dict[tuple[str, ...], int]:
        """The line of each table header and of each key that begins a line."""
        found: dict[tuple[str, ...], int] = {}
        table: tuple[str, ...] = ()
        for number, line in enumerate(self.outline, start=1):
            if header := HEADER.match(line):
                table = parts(header[1])
                found.setdefault(table, number)
            elif key := KEY.match(line):
                found.setdefault((*table, *parts(key[1])), number)
        return found

    def known(self, path: tuple[str, ...], shape: Mapping[str, type | tuple[type, ...]]) -> dict[str, Any]:
        """Return the values of a table whose keys and types are as the shape says; report the others."""
        table: Any = self.data
        for part in path:
            table = table.get(part, {})
        if not isinstance(table, dict):
            self.report("wrong-type", path, f"{dotted(path)} is a table, not {quoted(str(table))}")
            return {}
        return {key: value for key, value in table.items() if self.fits((*path, key), value, shape)}

    def fits(self, path: tuple[str, ...], value: Any, shape: Mapping[str, type | tuple[type, ...]]) -> bool:
        """Say whether a key is known and its value of the right type; report it otherwise."""
        if path[-1] not in shape:
            near = nearest(path[-1], shape)
            hint = f"Known here: {', '.join(shape)}."
            if RENAMED.get(path[-1]) in shape:
                hint, near = f"It is called {RENAMED[path[-1]]} now.", ()
            self.report("unknown-key", path, f"unknown key {quoted(path[-1])}{inside(path)}", hint, near=near)
            return False
        wanted = shape[path[-1]]
        accepted = wanted if isinstance(wanted, tuple) else (wanted,)
        if (isinstance(value, bool) and bool not in accepted) or not isinstance(value, accepted):
            names = either(dict.fromkeys(TYPE_NAMES.get(kind, "a date") for kind in accepted))
            self.report("wrong-type", path, f"{dotted(path)} must be {names}, not {quoted(str(value))}")
            return False
        return True

    def texts(self, path: tuple[str, ...], values: Iterable[Any]) -> tuple[str, ...]:
        """Return a list's texts; report any other item."""
        listed = list(values)
        for value in listed:
            if not isinstance(value, str):
                self.report(
                    "wrong-type", path, f"{dotted(path)} is a list of texts, not {quoted(str(value))}"
                )
        return tuple(value for value in listed if isinstance(value, str))


def open_toml(path: Path, name: str) -> TomlFile:
    """Read and parse a file. Raises SiteError with the line of a syntax error."""
    try:
        text = read_whole(path).decode("utf-8-sig").replace("\r\n", "\n")
        data = tomllib.loads(text)
        too_large(data)
        return TomlFile(name, text, data)
    except RecursionError:
        problem = Problem("bad-toml", "this nests too many lists and tables", place=Place(name))
    except OSError as error:
        problem = unreadable(name, error)
    except UnicodeDecodeError:
        problem = Problem("unreadable-file", "the file is not UTF-8", place=Place(name))
    except tomllib.TOMLDecodeError as error:
        at = re.search(r"\(at line (\d+), column \d+\)", str(error))
        text = re.sub(r" \(at .*\)", "", str(error))
        place = Place(name, int(at[1]) if at else 0)
        problem = Problem("bad-toml", f"this is not valid TOML: {text[:1].lower()}{text[1:]}", place=place)
    except ValueError as error:  # beyond the bounds
        problem = Problem("bad-toml", f"this cannot be used: {error}", place=Place(name))
    raise SiteError([replace(problem, about=About.FILE)])


def blanked(match: re.Match[str]) -> str:
    """Return a text of several lines, or a comment, with blanks inside; shorter texts as they are."""
    whole = match[0]
    if whole.startswith("#"):
        return ""
    return f'"""{NOT_LINE_END.sub(" ", whole[3:-3])}"""' if whole[:3] in ('"""', "'''") else whole


def parts(dotted_key: str) -> tuple[str, ...]:
    """Return the parts of a dotted key, without their quotes."""
    return tuple(part.strip("\"'") for part in PART.findall(dotted_key))


def dotted(path: tuple[str, ...]) -> str:
    """Return a path as it is written in TOML."""
    return ".".join(path)


def inside(path: tuple[str, ...]) -> str:
    """Return where a key stands, in words."""
    return f" in [{dotted(path[:-1])}]" if len(path) > 1 else ""
