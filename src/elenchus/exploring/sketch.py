"""A question in the making: a line for each clause and each condition, which can be switched off."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from elenchus.frozen import Frozen, names_of_members, replace
from elenchus.language.nodes import And, Or, Question, Where
from elenchus.language.parser import parse
from elenchus.language.printer import print_condition, print_question
from elenchus.language.tree import CLAUSES_OF, parts_of

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Sequence

    from elenchus.errors import Span
    from elenchus.language.nodes import Changes

__all__ = ["Line", "Sketch", "WrittenSketch"]

_WHERE = "where"


class Line(Frozen):
    """A clause, or a condition of ``where``.

    ``name`` is its clause as a field of Question, ``node`` its tree: of a condition, that alone.
    """

    name: str
    node: Any
    is_on: bool = True

    @property
    def is_condition(self) -> bool:
        """Say whether this is one of the conditions."""
        return self.name == _WHERE

    @property
    def text(self) -> str:
        """The line as people write it, a condition without the word before it."""
        if not self.is_condition:
            return print_question(Question(**{self.name: self.node}))
        printed = print_condition(self.node)
        return f"({printed})" if isinstance(self.node, Or) else printed


class WrittenSketch(Frozen):
    """The question of a sketch as a text; ``spans`` are where its lines stand there, None for those off."""

    text: str
    spans: tuple[tuple[int, int] | None, ...]

    def line_of(self, span: Span) -> int | None:
        """Return the line, from 0, in which a place of the text lies."""
        for number, found in enumerate(self.spans):
            if found and found[0] <= span.start <= found[1]:
                return number
        return None


class Sketch(Frozen):
    """The lines of a question, in the order in which it is written."""

    lines: tuple[Line, ...] = ()

    @classmethod
    def of(cls, question: Question) -> Sketch:
        """Return the sketch of a question."""
        return cls(tuple(_lines_of(question)))

    @property
    def question(self) -> Question:
        """The question of the lines that are on, its places those of :attr:`written`."""
        return parse(self.written.text)

    @property
    def written(self) -> WrittenSketch:
        """The question as a text."""
        words: list[str] = []
        spans: list[tuple[int, int] | None] = []
        at, is_first = 0, True
        for line in self.lines:
            if not line.is_on:
                spans.append(None)
                continue
            lead = "" if not line.is_condition else "where " if is_first else "and "
            is_first = is_first and not line.is_condition
            start = at + len(lead)
            spans.append((start, start + len(line.text)))
            words.append(lead + line.text)
            at = start + len(line.text) + 1
        return WrittenSketch(" ".join(words), tuple(spans))

    def shown(self, number: int) -> str:
        """Return a line with the word before it: ``where`` for the first condition, ``and`` for others."""
        line = self.lines[number]
        if not line.is_condition:
            return line.text
        is_first = not any(each.is_condition for each in self.lines[:number])
        return f"{'where' if is_first else 'and'} {line.text}"

    def upto(self, number: int) -> Sketch:
        """Return the sketch of the lines up to one, which is among them."""
        return Sketch(self.lines[: number + 1])

    # Changes; each returns another sketch

    def changed(self, changes: Changes) -> Sketch:
        """Return the sketch with clauses replaced, removed, or conditions joined to those that there are."""
        new = {name: node for name in names_of_members(Question) if (node := getattr(changes.question, name))}
        gone = {*new, *changes.without}
        kept = [line for line in self.lines if line.name not in gone]
        added = list(_lines_of(Question(**new)))
        if changes.also:
            added += [Line(_WHERE, part) for part in parts_of(changes.also.condition)]
        return Sketch(tuple(_in_order([*kept, *added])))

    def switched(self, number: int, *, on: bool | None = None) -> Sketch:
        """Return the sketch with a line switched off, or on; to the other of the two where none is said."""
        line = self.lines[number]
        return self.put(number, [replace(line, is_on=not line.is_on if on is None else on)])

    def put(self, number: int, lines: Iterable[Line]) -> Sketch:
        """Return the sketch with other lines in the place of one."""
        found = [*self.lines[:number], *lines, *self.lines[number + 1 :]]
        return Sketch(tuple(_in_order(found)))

    def moved(self, number: int, to: int) -> Sketch:
        """Return the sketch with a condition before or behind others; other lines have their place."""
        places = [at for at, line in enumerate(self.lines) if line.is_condition]
        if number not in places:
            return self
        to = min(max(to, places[0]), places[-1])
        lines = list(self.lines)
        lines.insert(to, lines.pop(number))
        return Sketch(tuple(lines))


def _lines_of(question: Question) -> Iterator[Line]:
    """Yield the lines of a question."""
    for name in CLAUSES_OF:
        node = getattr(question, name)
        if isinstance(node, Where):
            yield from (Line(_WHERE, part) for part in parts_of(_flat(node.condition)))
        elif node is not None:
            yield Line(name, node)


def _flat(condition: Any) -> Any:
    """Return a condition without parentheses around what must hold together anyway."""
    if not isinstance(condition, And):
        return condition
    return And(tuple(inner for part in condition.parts for inner in parts_of(_flat(part))))


def _in_order(lines: Sequence[Line]) -> list[Line]:
    """Return lines as they stand in a question; conditions keep their order."""
    places = {name: at for at, name in enumerate(CLAUSES_OF)}
    return sorted(lines, key=lambda line: places[line.name])
