"""Folders of Markdown files with front matter in YAML (between ``---``) or TOML (between ``+++``)."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path, PurePosixPath
from typing import TYPE_CHECKING

from elenchus.errors import Place, Problem
from elenchus.files import DEEPEST_FOLDER, DEEPEST_VALUE, is_text, items_of, read_whole, too_large
from elenchus.schema.record import Raw, Record
from elenchus.sources._names import from_name
from elenchus.sources._yaml import Unreadable, nesting, yaml_values
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.sources import SourceSpec

__all__ = ["read"]

SUFFIXES = (".md", ".markdown")
FENCES = {"---": "yaml", "+++": "toml"}
CLOSING = {fence: re.compile(rf"^{re.escape(fence)}[ \t]*$", re.MULTILINE) for fence in FENCES}
LONGEST_FRONT = 2**20  # characters of front matter
TOML_KEY = re.compile(r"""\s*["']?([^\s"'=.\[#]+)["']?\s*=""")
# A heading that begins the text: marked by #, or underlined (CommonMark 0.31, sections 4.2 and 4.3).
HEADING = re.compile(
    r"\s*?^ {0,3}(?:#{1,6}(?:[ \t]+(?P<marked>[^\n]*?))?(?:[ \t]+#+)?[ \t]*$"
    r"|(?P<lined>[^\s#>`~*+\-|<\d][^\n]*)\n {0,3}(?:=+|-+)[ \t]*$)",
    re.MULTILINE,
)
MARKUP = re.compile(r"!?\[([^\]]*)\](?:\([^)]*\)|\[[^\]]*\])|[*_`~]+|\\(?=[!-/:-@\[-`{-~])")


def read(spec: SourceSpec, root: Path) -> tuple[list[Record], list[Problem]]:
    """Read every Markdown file below the source's folder, in the order of their paths.

    Whatever goes wrong with a file or a folder is a problem of that one, and the others are read.
    """
    records: list[Record] = []
    problems: list[Problem] = []
    base = root / spec.path
    shown_base = PurePosixPath(Path(spec.path).as_posix())
    for below in files_below(base, PurePosixPath(), problems, shown_base):
        place = Place((shown_base / below).as_posix())
        try:
            records.append(read_file(base / below, spec, place, below))
        except Unreadable as error:
            problems.append(Problem(error.code, str(error), error.hint, place=Place(place.file, error.line)))
        except OSError as error:
            problems.append(unread(place, f"the file cannot be read ({error.strerror})"))
        except Exception as error:
            problems.append(unread(place, f"the file cannot be read ({type(error).__name__}: {error})"))
    return records, problems


def unread(place: Place, message: str) -> Problem:
    """Return the problem of a file or folder that cannot be read."""
    return Problem("unreadable-file", message, "Its entries are left out.", place=place)


def files_below(
    base: Path, below: PurePosixPath, problems: list[Problem], shown: PurePosixPath
) -> Iterator[PurePosixPath]:
    """Yield the Markdown files of a folder and its folders, without hidden ones and links."""
    try:
        items = items_of(base / below)
    except OSError as error:
        problems.append(
            unread(Place((shown / below).as_posix()), f"the folder cannot be read ({error.strerror})")
        )
        return
    for item in items:
        path = below / item.name
        if not is_text(item.name):
            name = quoted(item.name.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace"))
            problems.append(unread(Place((shown / below).as_posix()), f"the name {name} is not UTF-8"))
        elif item.is_dir(follow_symlinks=False):
            if len(path.parts) > DEEPEST_FOLDER:
                message = f"folders stand more than {DEEPEST_FOLDER} deep inside one another"
                problems.append(unread(Place((shown / below).as_posix()), message))
            else:
                yield from files_below(base, path, problems, shown)
        elif item.is_file(follow_symlinks=False):
            if item.name.lower().endswith(SUFFIXES):
                yield path
        elif item.name.lower().endswith(SUFFIXES) or Path(item.path).is_dir():
            what = "a link, and links are not followed" if item.is_symlink() else "no regular file"
            place = Place((shown / path).as_posix())
            problems.append(
                Problem("no-regular-file", f"it is {what}", "Put a copy in its place.", place=place)
            )


def read_file(path: Path, spec: SourceSpec, place: Place, below: PurePosixPath) -> Record:
    """Return the entry of one file. Raises Unreadable, OSError."""
    values, body, line = split(decoded(read_whole(path)))
    named = {field: values[column] for field, column in spec.columns.items() if column in values}
    values = {name: raw for name, raw in values.items() if name not in spec.columns.values()} | named
    guessed: dict[str, str] = {}
    name = from_name(below)
    if not written(values, "date") and name.day:
        values["date"], guessed["date"] = Raw(name.day), "file name"
    if not written(values, "title"):
        title, body, line = first_heading(body, line)
        values["title"] = Raw(title or name.words)
        guessed["title"] = "heading" if title else "file name"
    if body.strip():
        values["body"] = Raw(body.strip("\n"), line)
    return Record(place, kind_of(spec, below, values), name.slug, values, spec.habits, guessed)


def written(values: dict[str, Raw], name: str) -> bool:
    """Say whether something was written for a field."""
    return name in values and values[name].value not in (None, "")


def decoded(content: bytes) -> str:
    """Return the text of a file with its line ends as newlines. Raises Unreadable."""
    try:
        text = content.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = error.object[: error.start].count(b"\n") + 1
        raise Unreadable("the file is not UTF-8", line, "Save it with that encoding.") from None
    return text.replace("\r\n", "\n").replace("\r", "\n") if "\r" in text else text


def kind_of(spec: SourceSpec, below: PurePosixPath, values: dict[str, Raw]) -> str:
    """Return the kind that a source gives to an entry. Raises Unreadable where it cannot."""
    if not spec.kind.startswith("{"):
        return spec.kind
    column = spec.kind.strip("{}")
    if column != "folder":
        return str(values[column].value) if column in values else ""
    if len(below.parts) > 1:
        return below.parts[0]
    if spec.kind_at_root or written(values, "kind"):
        return spec.kind_at_root
    message = (
        f'the file stands in no folder of {spec.path}, and kind = "{{folder}}" takes its kind from there'
    )
    hint = f'Move it into the folder of its kind, or write kind_at_root = "…" in [sources.{spec.name}].'
    raise Unreadable(message, 0, hint, "no-kind-at-root")


def first_heading(body: str, line: int) -> tuple[str, str, int]:
    """Return the heading that begins a text, without its markup, then the rest and the line of that."""
    match = HEADING.match(body)
    text = (match["marked"] or match["lined"] or "") if match else ""
    title = " ".join(MARKUP.sub(lambda found: found[1] or "", text).split())
    if match is None or not title:
        return "", body, line
    return title, body[match.end() :], line + body.count("\n", 0, match.end())


def split(text: str) -> tuple[dict[str, Raw], str, int]:
    """Return the front matter's values, the body, and the line where the body starts. Raises Unreadable."""
    start = text.find("\n") + 1
    fence = text[:start].rstrip()
    if fence not in FENCES:
        return {}, text, 1
    match = CLOSING[fence].search(text, start, start + LONGEST_FRONT)
    if match is None:
        long = len(text) > start + LONGEST_FRONT
        more = f" in its first {LONGEST_FRONT // 2**20} MB" if long else ""
        raise Unreadable(f"the front matter is not closed: no second {fence}{more}", 1)
    front = text[start : match.start()]
    values = yaml_values(front) if FENCES[fence] == "yaml" else toml_values(front)
    return values, text[match.end() + 1 :], text.count("\n", 0, match.end()) + 2


def toml_values(front: str) -> dict[str, Raw]:
    """Return the values of TOML front matter, each with the line of its key. Raises Unreadable."""
    if nesting(front) > DEEPEST_VALUE:
        raise Unreadable(f"the front matter nests more than {DEEPEST_VALUE} lists and tables", 2)
    try:
        table = tomllib.loads(front)
        too_large(table)
    except RecursionError:
        raise Unreadable("the front matter nests too many lists and tables", 2) from None
    except ValueError as error:  # TOMLDecodeError is one, and so is a number of too many digits
        line = re.search(r"line (\d+)", str(error))
        at = int(line[1]) + 1 if line else 2
        raise Unreadable(f"the front matter is not valid TOML: {error}", at) from None
    # A key in a text of several lines may be taken for one of the table's: only lines can go wrong by that.
    lines = {match[1]: n for n, text in enumerate(front.splitlines(), 2) if (match := TOML_KEY.match(text))}
    return {name: Raw(value, lines.get(name, 2)) for name, value in table.items()}
