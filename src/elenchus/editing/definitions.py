"""The words for a term in definition files: in questions and conditions, and as values of parameters."""

from __future__ import annotations

import json
import re
import tomllib
from typing import TYPE_CHECKING, NamedTuple

from elenchus.errors import QuestionError
from elenchus.language.nodes import Compare, GroupKey, Literal
from elenchus.language.parser import parse_condition, read, read_changes
from elenchus.language.tree import walk

if TYPE_CHECKING:
    from collections.abc import Callable, Collection, Iterator

__all__ = ["Mention", "mentions_changed"]

_TOKEN = re.compile(
    r'#[^\r\n]*|"""(?:[^\\]|\\.)*?"""(?!")|\'\'\'.*?\'\'\'(?!\')|"(?:[^"\\\r\n]|\\.)*"|\'[^\'\r\n]*\'',
    re.DOTALL,
)
_HEADER = re.compile(r"^[ \t]*\[+([^\[\]#]+)\]", re.MULTILINE)
_FIRST_KEY = re.compile(r"[ \t]*([\w.\"'-]+)[ \t]*=")
_LAST_KEY = re.compile(r"([\w\"'-]+)[ \t]*=[ \t\r\n]*(?:\[[^\[\]={}]*)?$")
_NO_VALUES = frozenset({"type", "label", "title", "about", "show", "layout"})
_PLAIN = re.compile(r"[\w/.-]+")


class Mention(NamedTuple):
    """A place of a definition file that names a term: its line, and the words before and after."""

    line: int
    before: str
    after: str


def mentions_changed(
    text: str, fields: Collection[str], parameters: Collection[str], renamed: Callable[[str], str | None]
) -> tuple[str, list[Mention]]:
    """Return the text of a TOML file in which a term has other words, and where.

    ``fields`` are those that hold terms of its taxonomy, ``parameters`` those that take one; ``renamed``
    gives the new words for a spelling of the term, None for what means something else.
    """
    parts: list[str] = []
    found: list[Mention] = []
    at = 0
    for token in _TOKEN.finditer(text):
        if token[0].startswith("#"):
            continue
        new = _changed(text, token, fields, parameters, renamed)
        if new is not None:
            parts += [text[at : token.start()], new]
            at = token.end()
            found.append(Mention(text.count("\n", 0, token.start()) + 1, token[0], new))
    return "".join([*parts, text[at:]]), found


def _changed(
    text: str,
    token: re.Match[str],
    fields: Collection[str],
    parameters: Collection[str],
    renamed: Callable[[str], str | None],
) -> str | None:
    """Return a text in quotes with the term's other words, None where it does not name the term."""
    value = tomllib.loads(f"a = {token[0]}")["a"]
    if (new := renamed(value)) is not None:
        keys = _keys_around(text, token.start())
        is_value = not keys.isdisjoint(parameters) and keys.isdisjoint(_NO_VALUES)
        return _in_quotes(token[0], new) if is_value else None
    places = [(each.span.start, each.span.end, each.text) for each in _literals(value, fields)]
    named = [(first, end, word) for first, end, old in places if (word := renamed(old)) is not None]
    if not named:
        return None
    for first, end, word in sorted(named, reverse=True):
        value = value[:first] + (word if _PLAIN.fullmatch(word) else f'"{word}"') + value[end:]
    return _in_quotes(token[0], value)


def _literals(text: str, fields: Collection[str]) -> Iterator[Literal]:
    """Yield the words that a question, a change or a condition compares with some fields."""
    for each in walk(_tree(text)):
        if isinstance(each, Compare | GroupKey):
            values = each.values if isinstance(each, Compare) else each.under
            if not fields or each.path.names[-1] in fields or each.path.names[-1:] == ("top",):
                yield from (value for value in values if isinstance(value, Literal))


def _tree(text: str) -> object:
    """Return what a text is in the language, an empty tuple where it is nothing."""
    for question, problems in (read(text, comments=True), read_changes(text)):
        if not problems:
            return question
    try:
        return parse_condition(text)
    except QuestionError:
        return ()


def _keys_around(text: str, at: int) -> set[str]:
    """Return the keys and tables in which the value at a place stands, as far as its own line tells."""
    headers = list(_HEADER.finditer(text, 0, at))
    names = headers[-1][1].split(".") if headers else []
    line = text.rfind("\n", 0, at) + 1
    for match in (_FIRST_KEY.match(text, line), _LAST_KEY.search(text, max(line, at - 400), at)):
        names += match[1].split(".") if match else []
    last = _LAST_KEY.search(text, max(0, at - 400), at)
    names += [last[1]] if last else []
    return {name.strip().strip("\"'") for name in names}


def _in_quotes(before: str, value: str) -> str:
    """Return a text in quotes of the sort that it had, where it can stand in them."""
    for quotes in ('"""', "'''", '"', "'"):
        if before.startswith(quotes):
            lead = re.match(r"\r?\n", before[len(quotes) :]) if len(quotes) > 1 else None
            new = f"{quotes}{lead[0] if lead else ''}{value}{quotes}"
            try:
                if tomllib.loads(f"a = {new}")["a"] == value:
                    return new
            except ValueError:
                break
    return json.dumps(value, ensure_ascii=False)
