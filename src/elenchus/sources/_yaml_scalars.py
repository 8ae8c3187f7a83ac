"""Texts as YAML writes them: plain where that means the same to all readers, else in quotes."""

from __future__ import annotations

import json
import re
from typing import TYPE_CHECKING

import yaml

if TYPE_CHECKING:
    from collections.abc import Sequence

    from elenchus.schema.edits import Sort

__all__ = ["as_block_text", "as_flow", "as_key", "as_scalar"]

# Plain texts that mean themselves wherever they stand: words that begin with a letter, one blank between.
_PLAIN = re.compile(r"[^\W\d_][\w./()+–-]*(?: [\w./()+–&-]+)*")
_BARE = re.compile(r"-?\w[\w.:+/-]*(?<!:)")  # numbers, dates, yes and no
_RESOLVER = yaml.resolver.Resolver()
_TEXT = "tag:yaml.org,2002:str"
# Words that YAML 1.2 reads otherwise than 1.1, or readers of their own do.
_WORDS = frozenset({"y", "n", "yes", "no", "on", "off", "true", "false", "null", "none", "nan", "inf"})
# What no plain text and no text in quotes has: signs that are not printable, and line ends of all sorts.
_NOT_PLAIN = re.compile("[\x00-\x1f\x7f-\x9f\u2028\u2029\ufeff\ufffe\uffff\ud800-\udfff]")


def as_scalar(text: str, sort: Sort, style: str = "", *, in_flow: bool = False) -> str:
    """Return a text as YAML has it, in the quotes of ``style`` where that is one.

    ``in_flow`` says that it stands in brackets or braces, where commas mean something.
    """
    if style == '"' or _NOT_PLAIN.search(text):
        return _quoted_twice(text)
    if style == "'":
        return _quoted_once(text)
    if sort != "text" and _BARE.fullmatch(text):
        return text
    words = text if in_flow else text.replace(",", "")
    is_word = bool(_PLAIN.fullmatch(words)) and text.lower() not in _WORDS
    resolved = _RESOLVER.resolve(yaml.ScalarNode, text, (True, False))  # type: ignore[no-untyped-call]
    if is_word and resolved == _TEXT:
        return text
    return _quoted_once(text) if '"' in text or "\\" in text else _quoted_twice(text)


def as_flow(values: Sequence[str], sort: Sort) -> str:
    """Return a list in brackets."""
    return f"[{', '.join(as_scalar(each, sort, in_flow=True) for each in values)}]"


def as_key(name: str) -> str:
    """Return a name as a key."""
    return as_scalar(name, "text", in_flow=True)


def as_block_text(text: str, margin: str, end: str) -> str:
    """Return a text of several lines in lines of its own, where they can stand there as they are."""
    lines = text.removesuffix("\n").split("\n")
    if any(line != line.strip() or _NOT_PLAIN.search(line) for line in lines) or not lines[-1]:
        return _quoted_twice(text)
    sign = "|" if text.endswith("\n") else "|-"
    return end.join([sign, *(f"{margin}{line}" if line else "" for line in lines)])


def _quoted_once(text: str) -> str:
    """Return a text in single quotes, in which nothing but these means anything."""
    return "'" + text.replace("'", "''") + "'"


def _quoted_twice(text: str) -> str:
    """Return a text in double quotes, with escapes for what is no plain letter."""
    found = json.dumps(text, ensure_ascii=False)
    return _NOT_PLAIN.sub(lambda match: f"\\u{ord(match[0]):04x}", found)
