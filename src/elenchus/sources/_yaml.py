"""Front matter in YAML as values with lines: nothing is constructed, and nothing grows beyond its bounds."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import Any

import yaml

from elenchus.files import DEEPEST_VALUE, MOST_VALUES
from elenchus.schema.record import Raw
from elenchus.values.texts import quoted

__all__ = ["Unreadable", "nesting", "yaml_values"]

_TAGS = "tag:yaml.org,2002:"
_NULL, _MERGE, _TEXT, _SEQUENCE, _TABLE = (
    f"{_TAGS}{each}" for each in ("null", "merge", "str", "seq", "map")
)
_NULLS = frozenset({"", "~", "null", "Null", "NULL"})  # YAML 1.1, the type null; 1.2 has the same
_FIRST = 2  # the line of the file on which front matter begins


class _Loader(getattr(yaml, "CSafeLoader", yaml.SafeLoader)):  # type: ignore[misc]  # whichever is there
    """A loader that takes each plain scalar for a text, but for nothing and the sign of a merge.

    To ask of every scalar whether it could be a number or a date takes a quarter of the parser's time.
    """

    def resolve(self, kind: type[yaml.Node], value: Any, implicit: Any) -> str:
        """Return the tag of a node that has none."""
        if kind is not yaml.ScalarNode:
            return _SEQUENCE if kind is yaml.SequenceNode else _TABLE
        if implicit[0] and value in _NULLS:
            return _NULL
        return _MERGE if implicit[0] and value == "<<" else _TEXT


class Unreadable(ValueError):
    """A file's front matter cannot be parsed; ``line`` counts from 1 in the file."""

    def __init__(self, message: str, line: int = 0, hint: str = "", code: str = "unreadable-file") -> None:
        super().__init__(message)
        self.line = line
        self.hint = hint
        self.code = code


def yaml_values(front: str) -> dict[str, Raw]:
    """Return the values of YAML front matter as they were written, each with its line. Raises Unreadable.

    Plain scalars stay texts, because the declared type of a field decides what they mean: neither
    ``no`` nor ``09:30`` nor ``010`` changes on the way.
    """
    if (found := _simple_values(front)) is not None:
        return found
    # Asked before the parser, whose own stack is the machine's; few brackets cannot nest deeply.
    if front.count("[") + front.count("{") > DEEPEST_VALUE and nesting(front) > DEEPEST_VALUE:
        raise Unreadable(f"the front matter nests more than {DEEPEST_VALUE} lists and tables", _FIRST)
    try:
        node = yaml.compose(front, Loader=_Loader)
    except yaml.MarkedYAMLError as error:
        line = (error.problem_mark.line if error.problem_mark else 0) + _FIRST
        hint = "Indent with blanks, not with tabs." if "\\t" in str(error.problem) else ""
        raise Unreadable(f"the front matter is not valid YAML: {error.problem}", line, hint) from None
    except (yaml.YAMLError, RecursionError) as error:
        raise Unreadable(
            f"the front matter is not valid YAML: {str(error).splitlines()[0]}", _FIRST
        ) from None
    if node is None:
        return {}
    if not isinstance(node, yaml.MappingNode):
        raise Unreadable("the front matter is not a list of “name: value”", _FIRST)
    walk = _Walk()
    found = {}
    for key, (value, line) in walk.pairs(node, 1).items():
        walk.line = line
        found[key] = Raw(walk.value(value, 1), line)
    return found


def _simple_values(front: str) -> dict[str, Raw] | None:
    """Return the values of front matter that can be read in one way only; None for any other.

    Each line is a name with a text, plain or in quotes without escapes, or with a list of such texts in
    brackets; or a name alone, above lines of such texts after dashes. What these are is the same in all
    versions of YAML. The parser reads the rest, and takes twice as long.
    """
    if len(front) > _LONGEST_SIMPLE or not front.replace("\n", "").isprintable():
        return None
    found: dict[str, Raw] = {}
    listed: list[str | None] | None = None  # of the name that stands alone, while its lines are read
    at, indent = 0, ""
    for number, line in enumerate(front.split("\n"), _FIRST):
        match = _NAMED.fullmatch(line)
        if match:
            name, plain, quoted_once, quoted_twice, several = match.groups()
            if name in found:
                return None
            listed = None
            if plain is not None:
                found[name] = Raw(None if plain in _NULLS else plain, number)
            elif several is not None:
                found[name] = Raw([_text_of(*each) for each in _ITEM.findall(several)], number)
            elif quoted_once is None and quoted_twice is None:
                found[name] = Raw(None, number)
                listed, at = [], number
            else:
                found[name] = Raw(quoted_twice if quoted_once is None else quoted_once, number)
        elif line and not (line.startswith("#") and listed is None):
            item = _DASHED.fullmatch(line)
            if item is None or listed is None or (listed and item[1] != indent):
                return None
            indent = item[1]
            listed.append(_text_of(*item.groups()[1:]))
            found[name] = Raw(listed, at)
    return found


def _text_of(plain: str | None, quoted_once: str | None, quoted_twice: str | None) -> str | None:
    """Return the text of an item, None where it says that there is none."""
    if plain:
        return None if plain in _NULLS else plain
    return quoted_once or quoted_twice or ""


# A plain text begins with a letter or a digit and has neither “: ” nor “ #” in it. In brackets it has no sign
# at all that could mean anything there. Nothing is tried twice: each part keeps what it has matched.
_LONGEST_SIMPLE = 2**16
_WORD = r"(?:[^:# ]|:(?=[^ ]))(?:[^:# ]|#|:(?=[^ ]))*+"
_SURE = rf"(?:\w|-\d)(?:[^:# ]|#|:(?=[^ ]))*+(?: ++{_WORD})*+"
_SURE_INSIDE = r"\w[\w./+-]*+(?: ++[\w./+-]++)*+"
_ONCE, _TWICE = r"'([^']*+)'", r'"([^"\\]*+)"'
_INSIDE = rf"(?:{_SURE_INSIDE}|'[^']*+'|\"[^\"\\]*+\") *+"
_SEVERAL = rf"\[ *+((?:{_INSIDE}(?:, *+{_INSIDE})*+)?)\]"
_NAMED = re.compile(rf"([A-Za-z_][\w-]{{0,99}}+):(?: ++(?:({_SURE})|{_ONCE}|{_TWICE}|{_SEVERAL}))?+ *+")
_ITEM = re.compile(rf"({_SURE_INSIDE})|{_ONCE}|{_TWICE}")
_DASHED = re.compile(rf"( *+)- ++(?:({_SURE})|{_ONCE}|{_TWICE}) *+")


def nesting(front: str) -> int:
    """Return how deep brackets open at the most, those in texts counted along: a bound, no parser."""
    depth = most = 0
    for char in front:
        if char in "[{":
            depth += 1
            most = max(most, depth)
        elif char in "]}":
            depth = max(depth - 1, 0)
    return most


@dataclass
class _Walk:
    """One way through the nodes of a document: those open above the present one, and how many were met.

    ``line`` is that of the key whose value is read: an alias has the line of what it repeats.
    """

    above: list[int] = field(default_factory=list)
    met: int = 0
    line: int = _FIRST

    def value(self, node: yaml.Node, depth: int) -> Any:
        """Return a node as text, a list of texts, or a nested mapping; None for a plain null."""
        self.enter(node, depth)
        if isinstance(node, yaml.ScalarNode):
            return None if node.tag == _NULL else node.value
        self.above.append(id(node))
        found: Any = None
        if isinstance(node, yaml.SequenceNode):
            found = [self.value(item, depth + 1) for item in node.value]
        elif isinstance(node, yaml.MappingNode):
            found = {key: self.value(value, depth + 1) for key, (value, _) in self.pairs(node, depth).items()}
        self.above.pop()
        return found

    def enter(self, node: yaml.Node, depth: int) -> None:
        """Count a node. Raises Unreadable for a cycle, and beyond the bounds."""
        line = _line_of(node)
        if id(node) in self.above:
            raise Unreadable(
                "the front matter holds an alias of what it stands in", line, "Write the value out."
            )
        self.met += 1
        if depth > DEEPEST_VALUE or self.met > MOST_VALUES:
            most = f"{DEEPEST_VALUE} deep" if depth > DEEPEST_VALUE else f"{MOST_VALUES} in number"
            raise Unreadable(f"the values of the front matter are more than {most}", self.line)
        if not node.tag.startswith(_TAGS):
            raise Unreadable(
                f"the front matter has the unknown tag {quoted(node.tag)}", line, "Leave it out."
            )

    def pairs(self, node: yaml.MappingNode, depth: int) -> dict[str, tuple[yaml.Node, int]]:
        """Return the values of a mapping by key with their lines, merged ones (``<<``) behind its own."""
        own: dict[str, tuple[yaml.Node, int]] = {}
        merged: dict[str, tuple[yaml.Node, int]] = {}
        for key, value in node.value:
            line = _line_of(key)
            if not isinstance(key, yaml.ScalarNode):
                raise Unreadable("a name in the front matter is not a plain word", line)
            if key.tag == _MERGE:
                for name, found in self.merged(value, depth + 1, line).items():
                    merged.setdefault(name, found)
            elif key.value in own:
                raise Unreadable(f"{quoted(key.value)} stands twice in the front matter", line)
            else:
                own[key.value] = value, line
        return {**merged, **own}

    def merged(self, node: yaml.Node, depth: int, line: int) -> dict[str, tuple[yaml.Node, int]]:
        """Return the pairs of what ``<<`` names: a mapping, or a list of them, the first one first."""
        self.enter(node, depth)
        self.met += len(node.value)  # all of it is copied, each time that it is named
        self.above.append(id(node))
        found: dict[str, tuple[yaml.Node, int]] = {}
        if isinstance(node, yaml.MappingNode):
            found = {name: (value, line) for name, (value, _) in self.pairs(node, depth).items()}
        elif isinstance(node, yaml.SequenceNode) and node.value:
            for each in node.value:
                found = {**self.merged(each, depth + 1, line), **found}
        else:
            raise Unreadable("“<<” merges tables, and here is none", line)
        self.above.pop()
        return found


def _line_of(node: yaml.Node) -> int:
    """Return the line of a node in its file."""
    return int(node.start_mark.line) + _FIRST
