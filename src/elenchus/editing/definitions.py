"""The words for a term in definition files: in questions and conditions, and as values of parameters."""

from __future__ import annotations

import json
import re
import tomllib
from typing import TYPE_CHECKING

from elenchus.errors import QuestionError
from elenchus.frozen import replace
from elenchus.language.nodes import Compare, GroupKey, Literal
from elenchus.language.parser import parse_condition, read, read_changes
from elenchus.language.printer import print_value
from elenchus.language.tree import walk
from elenchus.site.toml import TEXT_OR_COMMENT

if TYPE_CHECKING:
    from collections.abc import Callable, Collection, Iterator

__all__ = ["in_quotes", "texts_in", "with_other_words"]

# What says where in a file a text stands: texts, headers of tables, parts of keys, and what is behind these.
_MARK = re.compile(
    rf"^[ \t]*\[+(?P<table>[^\[\]=,{{}}\r\n]+)\]|(?P<text>{TEXT_OR_COMMENT})"
    r"|(?P<part>[\w-]+)(?=[ \t]*[.=])|[={}]",
    re.DOTALL | re.MULTILINE,
)
_IS_PART = re.compile(r"[ \t]*[.=]")
_NO_VALUES = frozenset({"type", "label", "title", "about", "show", "layout"})


def with_other_words(
    text: str, taxonomy: str, parameters: Collection[str], renamed: Callable[[str], str | None]
) -> str:
    """Return the text of a TOML file in which a term has other words; what cannot be read stays as it is.

    ``parameters`` are those that take a term of the taxonomy; ``renamed`` gives the new words for a spelling
    of the term, None for what means something else.
    """
    parts: list[str] = []
    at = 0
    for match, keys in texts_in(text):
        try:
            value = tomllib.loads(f"a = {match['text']}")["a"]
        except ValueError:  # the file is not valid, as check tells
            continue
        new = renamed(value)
        if new is None:
            new = _question_with(value, taxonomy, renamed)
        elif keys.isdisjoint(parameters) or not keys.isdisjoint(_NO_VALUES):
            new = None
        if new is not None:
            parts += [text[at : match.start()], in_quotes(match["text"], new)]
            at = match.end()
    return "".join([*parts, text[at:]])


def texts_in(text: str) -> Iterator[tuple[re.Match[str], set[str]]]:
    """Yield the texts of a file that are values, with the names of the keys and tables around each."""
    table: set[str] = set()
    around: list[list[str]] = [[]]  # of the key, and of each inline table that is open
    is_value = False
    for match in _MARK.finditer(text):
        if match["table"]:
            table = {part.strip(" \t\"'") for part in match["table"].split(".")}
            around, is_value = [[]], False
        elif match["part"] or (match["text"] and _IS_PART.match(text, match.end())):
            around[-1] = [] if is_value else around[-1]
            around[-1].append(match[0].strip("\"'"))
            is_value = False
        elif match["text"]:
            if not match["text"].startswith("#"):
                yield match, table.union(*around)
        elif match[0] == "{":
            around.append([])
            is_value = False
        else:
            if match[0] == "}" and len(around) > 1:
                around.pop()
            is_value = True


def _question_with(text: str, taxonomy: str, renamed: Callable[[str], str | None]) -> str | None:
    """Return a question, a change or a condition with the term's other words, None where it has none."""
    found = [
        (each.span.start, each.span.end, print_value(replace(each, text=new)))
        for each in _literals(text, taxonomy)
        if (new := renamed(each.text)) is not None
    ]
    new_text = text
    for start, end, word in sorted(found, reverse=True):
        new_text = new_text[:start] + word + new_text[end:]
    return new_text if found else None


def _literals(text: str, taxonomy: str) -> Iterator[Literal]:
    """Yield the words that a question, a change or a condition compares with terms of a taxonomy."""
    for each in walk(_tree(text)):
        if isinstance(each, Compare | GroupKey):
            names = each.path.names[:-1] if each.path.names[-1] == "top" else each.path.names
            values = each.values if isinstance(each, Compare) else each.under
            if names[-1:] == (taxonomy,):
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


def in_quotes(before: str, value: str) -> str:
    """Return a text in quotes of the sort that it had, where it can stand in them."""
    quotes = next(each for each in ('"""', "'''", '"', "'") if before.startswith(each))
    lead = "\n" if len(quotes) > 1 and before[len(quotes) :].startswith(("\n", "\r\n")) else ""
    new = f"{quotes}{lead}{value}{quotes}"
    try:
        if tomllib.loads(f"a = {new}")["a"] == value:
            return new.replace("\n", "\r\n") if "\r\n" in before else new
    except ValueError:
        pass
    return json.dumps(value, ensure_ascii=False)
