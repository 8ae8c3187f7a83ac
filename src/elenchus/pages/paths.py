"""Paths and addresses: a page's file below the site, what browsers are given, and what is unsafe."""

from __future__ import annotations

import re
from functools import lru_cache
from typing import TYPE_CHECKING

from elenchus.forms import form
from elenchus.values.addresses import href_of
from elenchus.values.slugs import RESERVED
from elenchus.values.texts import fold, quoted

if TYPE_CHECKING:
    from elenchus.values.addresses import Href

__all__ = [
    "INDEX", "OWN_FOLDER", "TEMPLATES", "address_of", "file_beside", "file_of", "folder_of",
    "later_page", "likeness", "unsafe",
]  # fmt: skip

INDEX = "index.html"
_MOST_ADDRESSES = 2**15
TEMPLATES = "templates"  # the folder of a site with its own
OWN_FOLDER = ".elenchus"  # of the published folder; servers leave hidden folders out
_LONGEST_SEGMENT = 240  # bytes of a file's name, less than the 255 that file systems take
# Paths of letters, digits and single signs between them that nothing below has anything against.
_PLAIN = re.compile(
    r"(?!(?:.*/)?(?:con|prn|aux|nul|com\d|lpt\d)(?:[./]|$))"
    r"(?:[a-z0-9][a-z0-9_-]{0,99}/)*(?:[a-z0-9][a-z0-9_-]{0,99}(?:\.[a-z0-9]{1,9})?)?",
    re.IGNORECASE | re.ASCII,
)


def file_of(path: str) -> str:
    """Return the file of a page: a path that ends with a slash is a folder with an index."""
    return path + INDEX if path.endswith("/") or not path else path


@lru_cache(maxsize=_MOST_ADDRESSES)  # each is asked for by the page, the checks and the sitemap
def address_of(path: str) -> Href:
    """Return the address of a page relative to the site's root, encoded as RFC 3986 has it."""
    file = file_of(path)
    if file == INDEX or file.endswith(f"/{INDEX}"):
        file = file[: -len(INDEX)]
    return href_of(file)


def later_page(path: str, number: int, below: str = "") -> str:
    """Return the path of a later page: ``page/2/`` beneath the page's own, in a folder where one is given."""
    if number == 1:
        return path
    return f"{folder_of(path)}{below.strip('/')}{'/' if below.strip('/') else ''}page/{number}/"


def file_beside(path: str, name: str, form_name: str, number: int = 1) -> str:
    """Return the path of a file that holds the rows of a section of a page, in a form such as ``atom``."""
    return f"{folder_of(later_page(path, number))}{name}{form(form_name).ending}"


def folder_of(path: str) -> str:
    """Return the folder in which what belongs to a page stands, with a slash at its end."""
    file = file_of(path)
    return file[: -len(INDEX)] if file.endswith(INDEX) else f"{file.removesuffix('.html')}/"


def unsafe(path: str) -> str:
    """Return why a path must not be written; nothing where it may."""
    if path and _PLAIN.fullmatch(path):
        return ""
    if any(not char.isprintable() for char in path):  # lone surrogates of file names among them
        return f"{quoted(path)} holds a character that cannot be seen"
    if path.startswith("/") or re.match(r"[A-Za-z]:", path):
        return f"{quoted(path)} is absolute: paths begin at the root of the site"
    if "\\" in path:
        return f"{quoted(path)} holds a backslash"
    if fold(path).partition("/")[0] == OWN_FOLDER:
        return f"{quoted(path)} is where this program notes what it wrote"
    for segment in file_of(path).split("/"):
        if segment in ("", ".", ".."):
            return f"{quoted(path)} has the step {quoted(segment)}, which leads elsewhere"
        if segment != segment.strip() or segment.endswith("."):
            return f"{quoted(path)} has a step that begins or ends with a blank or a dot"
        if len(segment.encode()) > _LONGEST_SEGMENT:
            return f"{quoted(path)} has a step that is too long for a file"
        if RESERVED.fullmatch(segment):
            return f"{quoted(path)} has the step {quoted(segment)}, which some systems reserve"
    return ""


def likeness(path: str) -> str:
    """Return what two paths share that differ only by case or by zeros before a number."""
    return re.sub(r"(?<!\d)0+(?=\d)", "", fold(file_of(path)))
