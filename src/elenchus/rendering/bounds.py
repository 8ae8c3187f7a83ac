"""Templates of a site within bounds: no page of theirs runs for ever, or takes the memory of the machine."""

from __future__ import annotations

import re
import threading
import time
from functools import wraps
from typing import TYPE_CHECKING, Any

import jinja2
from jinja2 import nodes
from jinja2.sandbox import SandboxedEnvironment
from markupsafe import Markup, escape

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable

__all__ = ["BoundedEnvironment", "OutOfBounds"]

_SECONDS = 10  # for a page
_MOST_CHARACTERS = 50_000_000  # of a page, and of any text in it
_MOST_ITEMS = 20_000  # that a repetition makes of a list
_WIDEST = 10_000  # characters to which a text is padded
_MOST_BITS = 4096  # of a whole number
_EVERY = 256  # rounds of loops between two looks at the clock
_TICK = "elenchus_tick"  # the name under which templates have the clock
_WIDTH = re.compile(r"[<>=^%\s.*0-9+#-]*?(\d{5,})")
_PADDING = frozenset({"center", "ljust", "rjust", "zfill", "expandtabs", "format", "format_map"})
_PADDED = (
    "center",
    "indent",
    "wordwrap",
    "format",
    "batch",
    "slice",
    "tojson",
    "urlize",
    "truncate",
    "xmlattr",
)


class OutOfBounds(Exception):
    """A template does more than any page needs."""


class _Clock(threading.local):
    """Until when a page is to be drawn by this thread; 0 while none is."""

    until = 0.0
    rounds = 0


class BoundedEnvironment(SandboxedEnvironment):
    """An environment whose templates have bounds for their time, their texts and their numbers.

    Jinja2's own sandbox bounds ``range`` and keeps templates from the insides of Python.
    """

    intercepted_binops = frozenset({"*", "**", "%", "+"})

    def __init__(self, *args: Any, **options: Any) -> None:
        super().__init__(*args, **options)
        self.clock = _Clock()
        self.globals[_TICK] = self.tick
        self.globals.pop("lipsum", None)  # which makes as much text as it is asked for
        for name in _PADDED:
            self.filters[name] = _within(self.filters[name])
        self.filters["replace"] = _replaced(self.filters["replace"])

    # time

    def begin(self) -> bool:
        """Start the clock of a page, unless the page is being drawn already; say whether it was started."""
        if self.clock.until:
            return False
        self.clock.until = time.monotonic() + _SECONDS
        return True

    def end(self) -> None:
        """Stop the clock of a page."""
        self.clock.until = 0.0

    def tick(self) -> bool:
        """Look at the clock now and then. Raises OutOfBounds."""
        clock = self.clock
        clock.rounds += 1
        if clock.rounds % _EVERY == 0 and clock.until and time.monotonic() > clock.until:
            raise OutOfBounds(f"the page takes longer than {_SECONDS} seconds")
        return True

    def _parse(self, source: str, name: str | None, filename: str | None) -> nodes.Template:
        """Return the tree of a template, in which each round of a loop and each call of a macro ticks."""
        tree = super()._parse(source, name, filename)
        for node in tree.find_all((nodes.For, nodes.Macro, nodes.CallBlock)):
            assert isinstance(node, nodes.For | nodes.Macro | nodes.CallBlock)  # noqa: S101 - as asked for
            node.body.insert(0, nodes.ExprStmt(_call(node.lineno), lineno=node.lineno))
            if isinstance(node, nodes.For) and node.test is not None:
                node.test = nodes.And(_call(node.lineno), node.test, lineno=node.lineno)
        return tree

    # sizes

    def call_binop(self, context: jinja2.runtime.Context, operator: str, left: Any, right: Any) -> Any:
        """Return the value of an operator. Raises OutOfBounds for one that is too large."""
        match operator:
            case "*":
                _check_repetition(left, right)
                _check_repetition(right, left)
            case "+" if isinstance(left, list | tuple) and isinstance(right, list | tuple):
                if len(left) + len(right) > _MOST_ITEMS:
                    raise OutOfBounds(f"a list has more than {_MOST_ITEMS:,} items")
            case "**" if isinstance(left, int) and isinstance(right, int):
                if left.bit_length() * max(right, 0) > _MOST_BITS:
                    raise OutOfBounds("a number is too large")
            case "%" if isinstance(left, str):
                _check_width(left)
        return self._checked(super().call_binop(context, operator, left, right))

    def call(self, context: jinja2.runtime.Context, obj: Any, *args: Any, **named: Any) -> Any:
        """Return what a call gives. Raises OutOfBounds for texts that would be padded without end."""
        own = getattr(obj, "__self__", None)
        if isinstance(own, str):
            name = getattr(obj, "__name__", "")
            if name in _PADDING:
                _check_arguments((own, *args), named)
            elif name == "replace" and len(args) > 1:
                _check_replacement(own, args[0], args[1])
        return self._checked(super().call(context, obj, *args, **named))

    def concat(self, parts: Iterable[str]) -> str:
        """Return texts as one. Raises OutOfBounds for too long a one."""
        found, length = [], 0
        for part in parts:
            length += len(part)
            if length > _MOST_CHARACTERS:
                raise OutOfBounds(f"a text has more than {_MOST_CHARACTERS:,} characters")
            found.append(part)
        return "".join(found)

    def joined(self, parts: Iterable[Any]) -> str:
        """Return values as one text, marked as HTML if one of them is. Raises OutOfBounds."""
        listed = list(parts)
        if any(hasattr(each, "__html__") for each in listed):
            return Markup(self.concat(map(str, map(escape, listed))))  # noqa: S704 - escaped
        return self.concat(map(str, listed))

    def _checked(self, value: Any) -> Any:
        if isinstance(value, str) and len(value) > _MOST_CHARACTERS:
            raise OutOfBounds(f"a text has more than {_MOST_CHARACTERS:,} characters")
        if isinstance(value, int) and value.bit_length() > _MOST_BITS:
            raise OutOfBounds("a number is too large")
        return value


class _Generator(jinja2.compiler.CodeGenerator):
    """Writes templates as Python, in which texts that are joined by ``~`` are looked at."""

    def visit_Concat(self, node: nodes.Concat, frame: jinja2.compiler.Frame) -> None:  # noqa: N802 - as the library calls it
        self.write("environment.joined((")
        for each in node.nodes:
            self.visit(each, frame)
            self.write(", ")
        self.write("))")


BoundedEnvironment.code_generator_class = _Generator


def _call(line: int) -> nodes.Call:
    return nodes.Call(nodes.Name(_TICK, "load", lineno=line), [], [], None, None, lineno=line)


def _check_repetition(value: Any, times: Any) -> None:
    if not isinstance(times, int):
        return
    if isinstance(value, str | bytes) and len(value) * times > _MOST_CHARACTERS:
        raise OutOfBounds(f"a text has more than {_MOST_CHARACTERS:,} characters")
    if isinstance(value, list | tuple) and len(value) * times > _MOST_ITEMS:
        raise OutOfBounds(f"a list has more than {_MOST_ITEMS:,} items")


def _check_width(text: str) -> None:
    """Look for a width in a text of formats, such as ``%99999999d``."""
    if _WIDTH.search(text) and any(int(found) > _WIDEST for found in re.findall(r"\d{5,12}", text)):
        raise OutOfBounds(f"a text is padded to more than {_WIDEST:,} characters")


def _check_arguments(args: Iterable[Any], named: dict[str, Any]) -> None:
    for each in (*args, *named.values()):
        if isinstance(each, int) and not isinstance(each, bool) and abs(each) > _WIDEST:
            raise OutOfBounds(f"a text is padded to more than {_WIDEST:,} characters")
        if isinstance(each, str) and ("{" in each or "%" in each):
            _check_width(each)


def _check_replacement(text: str, old: Any, new: Any) -> None:
    times = text.count(str(old)) if str(old) else len(text) + 1
    if len(text) + times * len(str(new)) > _MOST_CHARACTERS:
        raise OutOfBounds(f"a text has more than {_MOST_CHARACTERS:,} characters")


def _within(filter_: Callable[..., Any]) -> Callable[..., Any]:
    """Return a filter whose widths have bounds."""

    @wraps(filter_)
    def checked(*args: Any, **named: Any) -> Any:
        _check_arguments((each for each in args if isinstance(each, int | str)), named)
        return filter_(*args, **named)

    return checked


def _replaced(filter_: Callable[..., Any]) -> Callable[..., Any]:
    """Return the filter that replaces parts of a text, with a bound for what comes out."""

    @wraps(filter_)
    def checked(context: Any, text: Any, old: str, new: str, *more: Any, **named: Any) -> Any:
        _check_replacement(str(text), old, new)
        return filter_(context, text, old, new, *more, **named)

    return checked
