"""Front matter in YAML as values with lines: nothing is constructed, and nothing grows beyond its bounds."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import yaml

from elenchus.files import DEEPEST_VALUE, MOST_VALUES
from elenchus.schema.record import Raw
from elenchus.sources._simple import FIRST, NULLS, Unreadable, nesting
from elenchus.values.texts import quoted

__all__ = ["yaml_values"]

_TAGS = "tag:yaml.org,2002:"
_NULL, _MERGE, _TEXT, _SEQUENCE, _TABLE = (
    f"{_TAGS}{each}" for each in ("null", "merge", "str", "seq", "map")
)


class _Loader(getattr(yaml, "CSafeLoader", yaml.SafeLoader)):  # type: ignore[misc]  # whichever is there
    """A loader that takes each plain scalar for a text, but for nothing and the sign of a merge.

    To ask of every scalar whether it could be a number or a date takes a quarter of the parser's time.
    """

    def resolve(self, kind: type[yaml.Node], value: Any, implicit: Any) -> str:
        """Return the tag of a node that has none."""
        if kind is not yaml.ScalarNode:
            return _SEQUENCE if kind is yaml.SequenceNode else _TABLE
        if implicit[0] and value in NULLS:
            return _NULL
        return _MERGE if implicit[0] and value == "<<" else _TEXT


def yaml_values(front: str) -> dict[str, Raw]:
    """Return the values of YAML front matter as they were written, each with its line. Raises Unreadable.

    Plain scalars stay texts, because the declared type of a field decides what they mean: neither
    ``no`` nor ``09:30`` nor ``010`` changes on the way.
    """
    # Asked before the parser, whose own stack is the machine's; few brackets cannot nest deeply.
    if front.count("[") + front.count("{") > DEEPEST_VALUE and nesting(front) > DEEPEST_VALUE:
        raise Unreadable(f"the front matter nests more than {DEEPEST_VALUE} lists and tables", FIRST)
    try:
        node = yaml.compose(front, Loader=_Loader)
    except yaml.MarkedYAMLError as error:
        line = (error.problem_mark.line if error.problem_mark else 0) + FIRST
        hint = "Indent with blanks, not with tabs." if "\\t" in str(error.problem) else ""
        raise Unreadable(f"the front matter is not valid YAML: {error.problem}", line, hint) from None
    except (yaml.YAMLError, RecursionError) as error:
        raise Unreadable(f"the front matter is not valid YAML: {str(error).splitlines()[0]}", FIRST) from None
    if node is None:
        return {}
    if not isinstance(node, yaml.MappingNode):
        raise Unreadable("the front matter is not a list of “name: value”", FIRST)
    walk = _Walk()
    found = {}
    for key, (value, line) in walk.pairs(node, 1).items():
        walk.line = line
        found[key] = Raw(walk.value(value, 1), line)
    return found


@dataclass
class _Walk:
    """One way through the nodes of a document: those open above the present one, and how many were met.

    ``line`` is that of the key whose value is read: an alias has the line of what it repeats.
    """

    above: list[int] = field(default_factory=list)
    met: int = 0
    line: int = FIRST

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
    return int(node.start_mark.line) + FIRST
