"""Slugs: words of addresses and of files, made of any text so that every system takes them."""

from __future__ import annotations

import re
import unicodedata
from typing import TYPE_CHECKING

from elenchus.values.texts import fold, quoted

if TYPE_CHECKING:
    from collections.abc import Sequence

__all__ = ["RESERVED", "safe_slug", "safe_slugs", "safely", "slug_of", "slugify", "unsafe_slug"]

# Names of devices, which Windows gives to no file, whatever its ending.
RESERVED = re.compile(r"(?:con|prn|aux|nul|com\d|lpt\d)(?:\..*)?", re.IGNORECASE)
_DEVICES = frozenset(("con", "prn", "aux", "nul", "com", "lpt"))  # what such names begin with
_SIGNS = re.compile(r"[^a-z0-9._]+")
_SIGNS_OF_LINES = re.compile(r"[^a-z0-9._\n]+")
_LONGEST_NAMES = 100  # characters of the names of signs
_MOST_BYTES = 200  # of a slug: file systems take 255 for a name, and some of these are an ending's
# What is safe at a glance, but for the names of devices.
_PLAIN = re.compile(r"(?:[A-Za-z0-9_][A-Za-z0-9_.-]{0,98})?[A-Za-z0-9_-]")
_CUT = 100  # characters to which a longer one is cut, between words


def slugify(text: str) -> str:
    """Return a slug for a name that nobody gave one: ``Grey seal`` → ``grey-seal``.

    Empty for a text without letters and digits; :func:`slug_of` has one for that, too.
    """
    if text.isascii():
        return _SIGNS.sub("-", text.lower()).strip("-")
    kept = "".join(char if char.isalnum() or char in "._-" else "-" for char in fold(text))
    return "-".join(part for part in kept.split("-") if part)


def safe_slug(text: str) -> str:
    """Return a slug that can be the name of a file anywhere; empty where :func:`slugify` gives nothing.

    Dots at its ends are taken away, a long one ends with a whole word, the name of a device gets a number.
    """
    found = slugify(text).strip(".-")
    if len(found) > _CUT and len(found.encode("utf-8", "surrogatepass")) > _MOST_BYTES:
        found = _cut(found)
    if RESERVED.fullmatch(found):
        stem, dot, rest = found.partition(".")
        found = f"{stem}-1{dot}{rest}"
    return found


def safe_slugs(texts: Sequence[str]) -> list[str]:
    """Return what :func:`safe_slug` makes of some texts; plain ones are all made at once."""
    joined = "\n".join(texts)
    if not joined.isascii() or joined.count("\n") != len(texts) - 1:
        return list(map(safe_slug, texts))
    found = [each.strip(".-") for each in _SIGNS_OF_LINES.sub("-", joined.lower()).split("\n")]
    return [safe_slug(each) if len(each) > _CUT or each[:3] in _DEVICES else each for each in found]


def _cut(slug: str) -> str:
    """Return the beginning of a long slug, up to the end of a word if there is one in its second half."""
    begin = slug[:_CUT]
    while len(begin.encode("utf-8", "surrogatepass")) > _MOST_BYTES:
        begin = begin[:-1]
    words, hyphen, _ = begin.rpartition("-")
    return (words if hyphen and len(words) * 2 > len(begin) else begin).strip(".-")


def slug_of(text: str) -> str:
    """Return a slug for any text but a blank one: signs and emoji by their names in Unicode."""
    if found := safe_slug(text):
        return found
    names = (unicodedata.name(char, f"u{ord(char):04x}") for char in text if not char.isspace())
    return slugify("-".join(names)[:_LONGEST_NAMES]).strip(".-")


def safely(text: str) -> str:
    """Return a text as a slug: as it is if it is safe, else made safe; ``entry`` for a blank one."""
    return slug_of(text) or "entry" if unsafe_slug(text) else text


def unsafe_slug(text: str) -> str:
    """Return why a slug that somebody wrote can name no file; nothing where it can. Slashes part folders."""
    if _PLAIN.fullmatch(text) and not RESERVED.fullmatch(text):
        return ""
    if any(not char.isprintable() for char in text):  # lone surrogates of file names among them
        return "it holds a character that cannot be seen"
    if "\\" in text or text.startswith("/") or re.match(r"[A-Za-z]:", text):
        return "it would lead out of the site"
    for step in text.split("/"):
        if step in ("", ".", ".."):
            return f"it has the step {quoted(step)}, which leads elsewhere"
        if step != step.strip() or step.endswith("."):
            return "it begins or ends with a blank or a dot"
        if len(step.encode()) > _MOST_BYTES:
            return "it is too long for the name of a file"
        if RESERVED.fullmatch(step):
            return f"some systems reserve the name {quoted(step)}"
    return ""
