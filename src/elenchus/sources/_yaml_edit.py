"""Changing YAML front matter in its text: values replaced, keys added or taken away, all else stays."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

import yaml

from elenchus.schema.edits import NewValue, UneditableError
from elenchus.sources._keys import as_written
from elenchus.sources._splice import (
    Splice,
    as_lines,
    cut,
    joined,
    kept_and_new,
    line_end,
    line_start,
    spliced,
)
from elenchus.sources._yaml_scalars import as_block_text, as_flow, as_key, as_scalar

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping

__all__ = ["changed_yaml"]

_FIRST = 2  # the line of the file on which front matter begins
_BLANK_END = re.compile(r"[ \t]*(\r\n|\n|\r)[ \t\r\n]*\Z")
_ALIAS = re.compile(r"\s*:\s*(\*[^\s,\[\]{}]+)")
_NAMED = re.compile(r"&([^\s,\[\]{}]+)")
_MARGIN = re.compile(r"(?:\r\n|\n|\r)( +)")


def changed_yaml(front: str, values: Mapping[str, NewValue], separator: str, end: str) -> str:
    """Return front matter in which some keys have other values; ``end`` is how its lines end.

    Raises UneditableError where that cannot be done without changing something else.
    """
    try:
        node = yaml.compose(front, Loader=getattr(yaml, "CSafeLoader", yaml.SafeLoader))
    except (yaml.YAMLError, RecursionError) as error:
        message = f"the front matter is not valid YAML: {str(error).splitlines()[0]}"
        raise UneditableError(message, _FIRST) from None
    if node is not None and not isinstance(node, yaml.MappingNode):
        raise UneditableError("the front matter is not a list of “name: value”", _FIRST)
    if node is not None and not all(isinstance(key, yaml.ScalarNode) for key, _ in node.value):
        raise UneditableError("a name in the front matter is not a plain word", _FIRST)
    return spliced(front, _Front(front, node, separator, end).splices(values))


class _Pair:
    """A key with its value, and where that is written: an alias stands elsewhere than what it repeats."""

    def __init__(self, text: str, key: yaml.ScalarNode, value: yaml.Node) -> None:
        self.name = str(key.value)
        self.key = key
        self.value = value
        self.begins = int(key.start_mark.index)
        self.key_end = int(key.end_mark.index)
        self.start, self.end = _span(text, value)
        self.is_alias = self.start < self.key_end
        if self.is_alias:
            match = _ALIAS.match(text, self.key_end)
            if match is None:
                raise UneditableError("what stands behind a name cannot be found", self.line)
            self.start, self.end = match.span(1)
        elif self.start == self.end:  # nothing is written behind the colon
            self.start = self.end = text.index(":", self.key_end) + 1
        self.written = text[self.start : self.end]

    @property
    def line(self) -> int:
        """The line of the key in its file."""
        return int(self.key.start_mark.line) + _FIRST


def _span(text: str, node: yaml.Node) -> tuple[int, int]:
    """Return where a value begins and ends, without blank lines and comments behind it."""
    start, end = int(node.start_mark.index), int(node.end_mark.index)
    if isinstance(node, yaml.ScalarNode) and node.style in ("|", ">"):
        keeps_all = "+" in text[start:end].splitlines()[0]  # of |+ and >+ blank lines are a part
        blank = None if keeps_all else _BLANK_END.search(text, start, end)
        end = blank.end(1) if blank else end
    elif isinstance(node, yaml.MappingNode) and not node.flow_style and node.value:
        end = max(_Pair(text, key, value).end for key, value in node.value)
    elif isinstance(node, yaml.SequenceNode) and not node.flow_style and node.value:
        last = node.value[-1]
        if int(last.start_mark.index) >= start:  # else it repeats what stands above
            end = _span(text, last)[1]
        else:
            end = len(text[start:end].rstrip()) + start
    return start, end


class _Front:
    """Front matter with its nodes: where each key stands, and how it is written."""

    def __init__(self, text: str, node: yaml.MappingNode | None, separator: str, end: str) -> None:
        self.text = text
        self.node = node
        self.separator = separator
        self.end = end
        self.is_flow = bool(node and node.flow_style)
        self.pairs = [_Pair(text, key, value) for key, value in node.value] if node else []

    def splices(self, values: Mapping[str, NewValue]) -> Iterator[Splice]:
        """Yield what is to be replaced."""
        names = [pair.name for pair in self.pairs]
        values = as_written(values, names)
        gone = [bool(name in values and not values[name].values) for name in names]
        for at, pair in enumerate(self.pairs):
            if pair.name in values:
                self.unnamed(pair)
                if not gone[at]:
                    yield from self.replaced(pair, values[pair.name])
                elif not self.is_flow:
                    yield self.removed(pair, self.pairs[at - 1] if at else None)
        if self.is_flow:
            yield from cut([(pair.begins, max(pair.end, pair.key_end)) for pair in self.pairs], gone)
        added = [
            f"{as_key(name)}: {self.written(new)}"
            for name, new in values.items()
            if name not in names and new.values
        ]
        if added:
            yield self.added(added, has_others=not all(gone))

    def unnamed(self, pair: _Pair) -> None:
        """Raise UneditableError where something else in the front matter repeats a value by its name."""
        for anchor in _NAMED.findall(pair.written) if not pair.is_alias else ():
            if re.search(rf"\*{re.escape(anchor)}(?![^\s,\[\]{{}}])", self.text):
                message = f"{pair.name} has the name &{anchor}, by which something else repeats it"
                raise UneditableError(message, pair.line, "Write the value out where it is repeated.")

    # other values

    def replaced(self, pair: _Pair, new: NewValue) -> Iterator[Splice]:
        """Yield what gives a key another value."""
        value = pair.value
        if isinstance(value, yaml.SequenceNode) and not pair.is_alias:
            yield from self.list_replaced(pair, value, new)
            return
        if isinstance(value, yaml.ScalarNode) and not pair.is_alias:
            text = self.scalar(pair, value, new)
        else:
            text = self.written(new)
        lead = "" if pair.written or self.text[pair.start - 1 : pair.start].isspace() else " "
        tail = self.end if pair.written.endswith(("\n", "\r")) else ""
        yield Splice(pair.start, pair.end, f"{lead}{text}{tail}")

    def scalar(self, pair: _Pair, value: yaml.ScalarNode, new: NewValue) -> str:
        """Return a text in the place of another, in quotes of the same sort."""
        one = new.values[0]
        if len(new.values) > 1:
            if new.may_be_list and not (self.separator and self.separator in value.value):
                return self.written(new)
            one = joined(new.values, value.value, self.separator)
        if value.style == "|" and "\n" in one:
            margin = _MARGIN.search(pair.written)
            return as_block_text(one, margin[1] if margin else "  ", self.end)
        return as_scalar(one, new.sort, value.style or "", in_flow=self.is_flow)

    def written(self, new: NewValue) -> str:
        """Return a value that was not there before."""
        if new.may_be_list:
            return as_flow(new.values, new.sort)
        return as_scalar(joined(new.values, "", self.separator), new.sort, in_flow=self.is_flow)

    # lists

    def list_replaced(self, pair: _Pair, value: yaml.SequenceNode, new: NewValue) -> Iterator[Splice]:
        """Yield what gives a key another list: items that stay are left as they stand."""
        nodes = value.value
        plain = all(isinstance(each, yaml.ScalarNode) for each in nodes) and "*" not in pair.written
        if plain and len(nodes) == len(new.values):
            yield from self.items_replaced(nodes, new, in_flow=bool(value.flow_style))
            return
        change = kept_and_new([each.value for each in nodes], new.values) if plain else None
        if change is None or not any(change[0]):
            yield Splice(pair.start, pair.end, self.as_list(pair, value, new))
            return
        stay, more = change
        if value.flow_style:
            yield from self.flow_changed(
                nodes, stay, [as_scalar(each, new.sort, in_flow=True) for each in more]
            )
        else:
            yield from self.block_changed(nodes, stay, [as_scalar(each, new.sort) for each in more])

    def items_replaced(self, nodes: list[yaml.Node], new: NewValue, *, in_flow: bool) -> Iterator[Splice]:
        """Yield what gives the items of a list other texts, as many as there were."""
        for node, text in zip(nodes, new.values, strict=True):
            if node.value != text:
                style = getattr(node, "style", None) or ""
                start, end = _span(self.text, node)
                tail = self.end if self.text[end - 1 : end] in ("\n", "\r") else ""
                yield Splice(start, end, as_scalar(text, new.sort, style, in_flow=in_flow) + tail)

    def flow_changed(self, nodes: list[yaml.Node], stay: list[bool], more: list[str]) -> Iterator[Splice]:
        """Yield what takes items from a list in brackets, with a comma each, and adds some."""
        spans = [(int(node.start_mark.index), int(node.end_mark.index)) for node in nodes]
        yield from cut(spans, [not stays for stays in stay])
        if more:
            at = spans[max(at for at, stays in enumerate(stay) if stays)][1]
            yield Splice(at, at, "".join(f", {each}" for each in more))

    def block_changed(self, nodes: list[yaml.Node], stay: list[bool], more: list[str]) -> Iterator[Splice]:
        """Yield what takes items from a list in lines, and adds some behind the last that stays."""
        for node, stays in zip(nodes, stay, strict=True):
            if not stays:
                start = line_start(self.text, self.dash_of(node))
                yield Splice(start, line_end(self.text, _span(self.text, node)[1]), "")
        if more:
            dash = self.dash_of(nodes[0])
            lead = self.text[line_start(self.text, dash) : int(nodes[0].start_mark.index)]
            lead = lead if lead.strip() == "-" else f"{lead[: lead.index('-')]}- "
            last = max(at for at, stays in enumerate(stay) if stays)
            at = line_end(self.text, _span(self.text, nodes[last])[1])
            yield as_lines(self.text, at, [f"{lead}{each}" for each in more], self.end)

    def dash_of(self, node: yaml.Node) -> int:
        """Return where the dash in front of an item of a list stands."""
        return self.text.rindex("-", 0, int(node.start_mark.index))

    def as_list(self, pair: _Pair, value: yaml.SequenceNode, new: NewValue) -> str:
        """Return another list in the place of one, in the same form."""
        dash = self.dash_of(value.value[0]) if value.value and not value.flow_style else -1
        if pair.start != dash:
            return as_flow(new.values, new.sort)
        margin = self.text[line_start(self.text, dash) : dash]
        return f"{self.end}{margin}".join(f"- {as_scalar(each, new.sort)}" for each in new.values)

    # keys that come and go

    def removed(self, pair: _Pair, above: _Pair | None) -> Splice:
        """Return what takes a key in lines away; below a text that keeps blank lines, only its value."""
        if above and above.written[:1] in ("|", ">") and "+" in above.written.splitlines()[0]:
            return Splice(pair.start, pair.end, self.end if pair.written.endswith(("\n", "\r")) else "")
        end = max(pair.end, pair.key_end)
        return Splice(line_start(self.text, pair.begins), line_end(self.text, end), "")

    def added(self, written: list[str], *, has_others: bool) -> Splice:
        """Return what adds keys behind the last one."""
        if self.is_flow:
            last = self.pairs[-1] if self.pairs else None
            at = max(last.end, last.key_end) if last else int(self.node.start_mark.index) + 1  # type: ignore[union-attr]
            return Splice(at, at, (", " if has_others and last else "") + ", ".join(written))
        if not self.pairs:
            return as_lines(self.text, len(self.text), written, self.end)
        first, last = self.pairs[0], self.pairs[-1]
        margin = self.text[line_start(self.text, first.begins) : first.begins]
        at = line_end(self.text, max(last.end, last.key_end))
        return as_lines(self.text, at, [f"{margin}{each}" for each in written], self.end)
