"""Reading TOML with an eye on lines: known keys, right types, every problem with its place."""

from __future__ import annotations

import re
import tomllib
from typing import TYPE_CHECKING, Any

from elenchus.errors import About, Near, Place, Problem, Respelling, SiteError, in_file, respelling
from elenchus.files import read_whole, too_large, unreadable
from elenchus.frozen import Working, member, replace
from elenchus.site.keys import NAMES_OF_TYPES, Written
from elenchus.values.kept import cached_property
from elenchus.values.lazily import pattern
from elenchus.values.texts import either, nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping
    from pathlib import Path

    from elenchus.site.keys import Key, Table, Types

__all__ = ["TEXT_OR_COMMENT", "TomlFile", "open_toml"]

_HEADER = pattern(r"\s*\[\[?\s*(.+?)\s*\]\]?\s*(#.*)?$")
_KEY = pattern(r"""\s*((?:[\w-]+|"[^"]*"|'[^']*')(?:\s*\.\s*(?:[\w-]+|"[^"]*"|'[^']*'))*)\s*=""")
# All that can hold what only looks like a key, in the order in which it must be looked for.
TEXT_OR_COMMENT = r'''"""(?:[^\\]|\\.)*?"{3,5}|\'{3}.*?\'{3,5}|"(?:[^"\\\n]|\\.)*"|\'[^\'\n]*\'|\#[^\n]*'''
_LONG = pattern(TEXT_OR_COMMENT, re.DOTALL)
_NOT_LINE_END = pattern(r"[^\n]")
_PART = pattern(r"""[\w-]+|"[^"]*"|'[^']*'""")
# Keys that were given up, and what they are called now.
_RENAMED = {"path": "address", "least": "at_least", "most": "at_most", "columns": "per_row"}


class TomlFile(Working):
    """A parsed file with the lines of its keys, and the problems found in it so far."""

    name: str
    text: str
    data: dict[str, Any]
    problems: list[Problem] = member(default_factory=list)

    @cached_property
    def outline(self) -> list[str]:
        """The lines of the file with nothing but blanks inside texts of several lines and comments.

        What looks like a key in there is none: a question may well say ``title = …``.
        """
        return _LONG.sub(_blanked, self.text).split("\n")

    def report(
        self, code: str, path: tuple[str, ...], message: str, hint: str = "", *, near: Near | None = None
    ) -> None:
        """Add a problem at the line of a key; where one name alone comes near a wrong one, that cures it."""
        names, cure = (near.names, respelling(*near)) if near else ((), None)
        self.problems.append(Problem(code, message, hint, place=self.place(path), near=names, cure=cure))

    def take(self, path: tuple[str, ...], text: str, problem: Problem) -> None:
        """Add a problem of a text of the language that is the value of a key."""
        self.problems.append(replace(in_file(text, problem), span=None, place=self.place(path)))

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
            if (header := _HEADER.match(line))
            and line.lstrip().startswith("[[")
            and _parts(header[1]) == path
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
            if header := _HEADER.match(line):
                table = _parts(header[1])
                found.setdefault(table, number)
            elif key := _KEY.match(line):
                found.setdefault((*table, *_parts(key[1])), number)
        return found

    def known(self, path: tuple[str, ...], table: Table) -> Written:
        """Return the values of a table whose keys and types are as declared; report the others."""
        return self.item(path, self.at(path), table)

    def item(self, path: tuple[str, ...], values: Mapping[str, Any], table: Table) -> Written:
        """Return the values of a table that stands in a list, as :meth:`known` does."""
        declared = table.by_name
        kept = {
            name: value
            for name, value in values.items()
            if self.is_known((*path, name), declared) and self.is_meant((*path, name), value, declared[name])
        }
        return Written(table, kept)

    def texts_of(self, path: tuple[str, ...], names: Iterable[str] | None = None) -> dict[str, str]:
        """Return the texts of a table from names to texts; report others, and names beside those given."""
        known = None if names is None else dict.fromkeys(names, str)
        return {
            name: value
            for name, value in self.at(path).items()
            if (known is None or self.is_known((*path, name), known)) and self.fits((*path, name), value, str)
        }

    def at(self, path: tuple[str, ...]) -> Mapping[str, Any]:
        """Return a table as it is written; report what stands there and is none."""
        found: Any = self.data
        for part in path:
            found = found.get(part, {}) if isinstance(found, dict) else {}
        if not isinstance(found, dict):
            self.report("wrong-type", path, f"{_dotted(path)} is a table, not {quoted(str(found))}")
            return {}
        return found

    def is_known(self, path: tuple[str, ...], known: Mapping[str, Any]) -> bool:
        """Say whether a key is one of those known; report it otherwise."""
        name = path[-1]
        if name in known:
            return True
        message = f"unknown key {quoted(name)}{_inside(path)}"
        if (now := _RENAMED.get(name)) in known:
            hint, cure = f"It is called {now} now.", Respelling(name, str(now))
            self.problems.append(Problem("unknown-key", message, hint, place=self.place(path), cure=cure))
        else:
            near = Near(name, nearest(name, known))
            self.report("unknown-key", path, message, f"Known here: {', '.join(known)}.", near=near)
        return False

    def is_meant(self, path: tuple[str, ...], value: Any, key: Key) -> bool:
        """Say whether a value is one that a key may have; report it otherwise."""
        if not self.fits(path, value, key.types):
            return False
        is_file = key.is_open and "." in str(value)
        if not key.words or not isinstance(value, str) or value in key.words or is_file:
            return True
        near = Near(value, nearest(value, key.words))
        message = f"{key.name} cannot be {quoted(value)}"
        self.report("unknown-word", path, message, f"Write {either(key.words)}.", near=near)
        return False

    def fits(self, path: tuple[str, ...], value: Any, types: Types) -> bool:
        """Say whether a value is of one of some types; report it otherwise."""
        accepted = types if isinstance(types, tuple) else (types,)
        if (isinstance(value, bool) and bool not in accepted) or not isinstance(value, accepted):
            names = either(dict.fromkeys(NAMES_OF_TYPES[kind] for kind in accepted))
            self.report("wrong-type", path, f"{_dotted(path)} must be {names}, not {quoted(str(value))}")
            return False
        return True

    def texts(self, path: tuple[str, ...], values: Iterable[Any]) -> tuple[str, ...]:
        """Return a list's texts; report any other item."""
        listed = list(values)
        for value in listed:
            if not isinstance(value, str):
                self.report(
                    "wrong-type", path, f"{_dotted(path)} is a list of texts, not {quoted(str(value))}"
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


def _blanked(match: re.Match[str]) -> str:
    """Return a text of several lines, or a comment, with blanks inside; shorter texts as they are."""
    whole = match[0]
    if whole.startswith("#"):
        return ""
    return f'"""{_NOT_LINE_END.sub(" ", whole[3:-3])}"""' if whole[:3] in ('"""', "'''") else whole


def _parts(dotted_key: str) -> tuple[str, ...]:
    """Return the parts of a dotted key, without their quotes."""
    return tuple(part.strip("\"'") for part in _PART.findall(dotted_key))


def _dotted(path: tuple[str, ...]) -> str:
    """Return a path as it is written in TOML."""
    return ".".join(path)


def _inside(path: tuple[str, ...]) -> str:
    """Return where a key stands, in words."""
    return f" in [{_dotted(path[:-1])}]" if len(path) > 1 else ""
