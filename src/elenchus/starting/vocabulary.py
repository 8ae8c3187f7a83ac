"""The words by which content is understood that nobody described, from a file of them."""

from __future__ import annotations

import tomllib
from functools import cache
from pathlib import Path

__all__ = ["names_of", "word_meanings", "words"]


@cache
def _tables() -> dict[str, dict[str, str]]:
    """Return the tables of the file."""
    text = Path(__file__).with_name("words.toml").read_text(encoding="utf-8")
    return tomllib.loads(text)


@cache
def words(name: str) -> frozenset[str]:
    """Return the words of a list, such as ``keys.people``."""
    table, _, key = name.partition(".")
    return frozenset(_tables()[table][key].split())


@cache
def names_of(field: str) -> tuple[str, ...]:
    """Return the keys that other people give to a field that every entry has, the likeliest first."""
    return tuple(_tables()["names"].get(field, "").split())


@cache
def word_meanings(table: str) -> dict[str, str]:
    """Return the words of all lists of a table, with the names of the lists."""
    return {word: name for name, listed in _tables()[table].items() for word in listed.split()}
