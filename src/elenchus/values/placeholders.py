"""Texts with names in braces, such as ``/guides/{slug}/``: which names, and what stands for them."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.values.lazily import pattern

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping

__all__ = ["filled", "filled_by", "filler", "names_in"]

_PLACEHOLDER = pattern(r"\{([^{}]*)\}")


def names_in(pattern: str) -> list[str]:
    """Return the names in braces, in their order."""
    return _PLACEHOLDER.findall(pattern)


def filled(pattern: str, values: Mapping[str, str]) -> str:
    """Return a pattern with the values of its names; KeyError for one that has none."""
    return filled_by(pattern, values.__getitem__, lambda text: text)


def filler(pattern: str) -> Callable[[Mapping[str, str]], str]:
    """Return the function that fills a pattern with values: :func:`filled` for many of them."""
    parts = _PLACEHOLDER.split(pattern)
    between, names = parts[::2], parts[1::2]
    if not names:
        return lambda _: pattern

    def fill(values: Mapping[str, str]) -> str:
        found = [between[0]]
        for name, text in zip(names, between[1:], strict=True):
            found += (values[name], text)
        return "".join(found)

    return fill


def filled_by(pattern: str, value: Callable[[str], str], between: Callable[[str], str]) -> str:
    """Return a pattern with a value for each name, what stands between them passed through a function."""
    parts = _PLACEHOLDER.split(pattern)  # texts and names by turns
    return "".join(value(part) if number % 2 else between(part) for number, part in enumerate(parts))
