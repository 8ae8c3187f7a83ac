"""Folders of Markdown files with front matter in YAML (between ``---``) or TOML (between ``+++``)."""

from __future__ import annotations

import os
import re
import tomllib
from pathlib import Path
from typing import TYPE_CHECKING, Any

import yaml

from elenchus.errors import Place, Problem
from elenchus.table.record import Raw, Record

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.sources import SourceSpec

__all__ = ["read"]

SUFFIXES = (".md", ".markdown")
FENCES = {"---": "yaml", "+++": "toml"}
LOADER = getattr(yaml, "CSafeLoader", yaml.SafeLoader)
NULLS = frozenset({"", "~", "null", "Null", "NULL"})
TOML_KEY = re.compile(r"""\s*["']?([^\s"'=.\[#]+)["']?\s*=""")


class Unreadable(ValueError):
    """A file's front matter cannot be parsed; ``line`` counts from 1 in the file."""

    def __init__(self, message: str, line: int, hint: str = "") -> None:
        super().__init__(message)
        self.line = line
        self.hint = hint


def read(spec: SourceSpec, root: Path) -> tuple[list[Record], list[Problem]]:
    """Read every Markdown file below the source's folder, in the order of their paths."""
    records, problems = [], []
    base = root / spec.path
    for path in sorted(files_below(base)):
        shown = Path(os.path.relpath(path, root)).as_posix()
        try:
            records.append(read_file(path, spec, shown, path.relative_to(base)))
        except Unreadable as error:
            place = Place(shown, error.line)
            problems.append(Problem("unreadable-file", str(error), error.hint, place=place))
    return records, problems


def files_below(folder: Path) -> Iterator[Path]:
    """Yield the Markdown files of a folder and its folders, without hidden ones or links out of it."""
    with os.scandir(folder) as items:
        for item in items:
            if item.name.startswith("."):
                continue
            if item.is_dir(follow_symlinks=False):
                yield from files_below(Path(item.path))
            elif item.name.lower().endswith(SUFFIXES) and item.is_file(follow_symlinks=False):
                yield Path(item.path)


def read_file(path: Path, spec: SourceSpec, shown: str, below: Path) -> Record:
    """Return the entry of one file. Raises Unreadable."""
    try:
        text = path.read_bytes().decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = error.object[: error.start].count(b"\n") + 1
        raise Unreadable("the file is not UTF-8", line, "Save it with that encoding.") from None
    except OSError as error:
        raise Unreadable(f"the file cannot be read ({error.strerror})", 0) from None
    values, body, line = split(text)
    if body.strip():
        values["body"] = Raw(body.strip("\n"), line)
    named = {field: values[column] for field, column in spec.columns.items() if column in values}
    values = {name: raw for name, raw in values.items() if name not in spec.columns.values()} | named
    folder = below.parts[0] if len(below.parts) > 1 else spec.name
    return Record(Place(shown), kind_of(spec, folder, values), path.stem, mapped(spec, values))


def mapped(spec: SourceSpec, values: dict[str, Raw]) -> dict[str, Raw]:
    """Return the values with a foreign status turned into ours."""
    status = values.get("status")
    if status and str(status.value) in spec.statuses:
        values["status"] = status._replace(value=spec.statuses[str(status.value)])
    return values


def kind_of(spec: SourceSpec, folder: str, values: dict[str, Raw]) -> str:
    """Return the kind that a source gives to an entry."""
    if not spec.kind.startswith("{"):
        return spec.kind
    column = spec.kind.strip("{}")
    if column == "folder":
        return folder
    return str(values[column].value) if column in values else ""


def split(text: str) -> tuple[dict[str, Raw], str, int]:
    """Return the front matter's values, the body, and the line on which the body starts."""
    lines = text.splitlines(keepends=True)
    fence = lines[0].rstrip() if lines else ""
    if fence not in FENCES:
        return {}, text, 1
    for number, line in enumerate(lines[1:], start=1):
        if line.rstrip() == fence:
            front = "".join(lines[1:number])
            values = yaml_values(front) if FENCES[fence] == "yaml" else toml_values(front)
            return values, "".join(lines[number + 1 :]), number + 2
    raise Unreadable(f"the front matter is not closed: no second {fence}", 1)


def yaml_values(front: str) -> dict[str, Raw]:
    """Return the values of YAML front matter as they were written, each with its line.

    Plain scalars stay texts, because the declared type of a field decides what they mean: neither
    ``no`` nor ``09:30`` nor ``010`` changes on the way.
    """
    try:
        node = yaml.compose(front, Loader=LOADER)
    except yaml.MarkedYAMLError as error:
        line = (error.problem_mark.line if error.problem_mark else 0) + 2
        raise Unreadable(f"the front matter is not valid YAML: {error.problem}", line) from None
    except (yaml.YAMLError, RecursionError) as error:
        raise Unreadable(f"the front matter is not valid YAML: {str(error).splitlines()[0]}", 2) from None
    if node is None:
        return {}
    if not isinstance(node, yaml.MappingNode):
        raise Unreadable("the front matter is not a list of “name: value”", 2)
    found: dict[str, Raw] = {}
    for key, value in node.value:
        line = key.start_mark.line + 2
        if not isinstance(key, yaml.ScalarNode):
            raise Unreadable("a name in the front matter is not a plain word", line)
        if key.value in found:
            raise Unreadable(f"“{key.value}” stands twice in the front matter", line)
        found[key.value] = Raw(written(value), line)
    return found


def written(node: yaml.Node) -> Any:
    """Return a YAML node as text, a list of texts, or a nested mapping; None for a plain null."""
    if isinstance(node, yaml.ScalarNode):
        return None if node.style is None and node.value in NULLS else node.value
    if isinstance(node, yaml.SequenceNode):
        return [written(item) for item in node.value]
    return {str(key.value): written(value) for key, value in node.value}


def toml_values(front: str) -> dict[str, Raw]:
    """Return the values of TOML front matter, each with the line of its key."""
    try:
        table = tomllib.loads(front)
    except tomllib.TOMLDecodeError as error:
        line = re.search(r"line (\d+)", str(error))
        at = int(line[1]) + 1 if line else 2
        raise Unreadable(f"the front matter is not valid TOML: {error}", at) from None
    lines = {match[1]: n for n, text in enumerate(front.splitlines(), 2) if (match := TOML_KEY.match(text))}
    return {name: Raw(value, lines.get(name, 2)) for name, value in table.items()}
