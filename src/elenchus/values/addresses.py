"""Addresses: every one that may be written as a link is made here, and has a type of its own.

An address made from parts has its scheme from the pattern and never from a value; an address that content
gives is a link only if its scheme runs nothing.
"""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, NewType
from urllib.parse import SplitResult, quote, urlsplit

from elenchus.values.lazily import pattern
from elenchus.values.placeholders import filled_by, names_in

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping

__all__ = [
    "NOWHERE",
    "Href",
    "filled_href",
    "given_href",
    "has_password",
    "href_maker",
    "href_of",
    "is_harmless",
    "is_of_this_machine",
    "origin_of",
    "rooted",
    "shown_address",
    "split_address",
    "without_password",
]

Href = NewType("Href", str)
NOWHERE = Href("")

_SCHEMES = ("http", "https", "mailto", "tel")
_SAFE = "/-._~"
_PLAIN = pattern(r"[A-Za-z0-9][\w.~-]*(?:/[\w.~-]+)*", re.ASCII)
_INVISIBLE = pattern(r"[\x00-\x20\x7f-\x9f]")
# What no address has: RFC 3986 knows these characters only encoded.
_UNSAFE = pattern(r"[\x00-\x20\x7f-\x9f\"<>\\^`{|}]")


_USER = pattern(r"://[^/@\s]*@")
_PASSWORD = pattern(r"(://[^/@:\s]*):[^@\s]*@")


def has_password(address: str) -> bool:
    """Say whether an address tells a password."""
    return _PASSWORD.search(address) is not None


def without_password(text: str) -> str:
    """Return a text whose addresses tell no password."""
    return _PASSWORD.sub(r"\1@", text)


def is_of_this_machine(host: str) -> bool:
    """Say whether a server is one of this machine: by its loopback address or name, or the path of a socket.

    A name such as ``127.example.org`` is no address, and can mean any machine.
    """
    from ipaddress import ip_address  # which a start need not load

    if host in ("", "localhost") or host.startswith("/"):
        return True
    try:
        return ip_address(host).is_loopback
    except ValueError:
        return False


def origin_of(address: str, own: str = "") -> str:
    """Return the origin that a browser loads an address from, as ``https://pictures.example``.

    Nothing for one of the page's own origin, whose whole address is ``own``, and for one that loads nothing.
    Browsers take a backslash for a slash and drop blanks (the URL Standard, “basic URL parser”).
    """
    bare = _INVISIBLE.sub("", address).replace("\\", "/")
    parts, site = split_address(bare), split_address(own)
    if parts is None or not parts.netloc or parts.scheme.lower() not in ("", "http", "https"):
        return ""
    scheme = parts.scheme.lower() or (site.scheme if site and site.scheme else "https")
    host = parts.netloc.rpartition("@")[2].lower()
    is_own = site is not None and host == site.netloc.lower() and scheme == (site.scheme or scheme)
    return "" if is_own else f"{scheme}://{host}"


def shown_address(address: str) -> str:
    """Return an address as people may see it: without its query and its user, which may be keys."""
    bare, mark, _ = _USER.sub("://…@", address).partition("?")
    return f"{bare}?…" if mark else bare


def href_of(path: str) -> Href:
    """Return a path below the site's root as an address relative to it, encoded as RFC 3986 has it.

    A colon is encoded, too, so that nothing in it can be taken for a scheme.
    """
    return Href(quote(path.lstrip("/"), safe=_SAFE))


def filled_href(pattern: str, values: Mapping[str, str]) -> Href:
    """Return the address that a pattern of the site file makes of some values.

    Each value is encoded; a slash in it stays one. A pattern may be a whole address, for pages that stand
    elsewhere.
    """
    parts = split_address(pattern)
    start, rest = "", pattern
    if parts and parts.scheme:
        start, colon, rest = pattern.partition(":")
        start += colon
    text = filled_by(rest, lambda name: quote(values.get(name, f"{{{name}}}"), safe=_SAFE), _encoded)
    if not start:
        # Whatever the first value is, the address stays below the root; only the pattern may have a colon.
        text = text.lstrip("/") if not pattern.startswith("/") else f"/{text.lstrip('/')}"
    return given_href(start + text)


def href_maker(pattern: str) -> Callable[[Mapping[str, str]], Href]:
    """Return the function that fills a pattern with values: :func:`filled_href` for many of them.

    A value of nothing but letters, digits and signs that stand as they are is put in its place without being
    looked at any further: what is around it makes the address harmless, or not, whatever the word is.
    """
    names = names_in(pattern)
    marks = {name: f"zz{number}zz" for number, name in enumerate(dict.fromkeys(names))}
    filled = filled_href(pattern, marks)
    parts = re.split("|".join(map(re.escape, marks.values())), filled) if marks else [filled]
    if len(parts) != len(names) + 1:
        return lambda values: filled_href(pattern, values)

    def made(values: Mapping[str, str]) -> Href:
        words = [values.get(name, "") for name in names]
        if not all(map(_PLAIN.fullmatch, words)):
            return filled_href(pattern, values)
        return Href("".join((*(part + word for part, word in zip(parts, words, strict=False)), parts[-1])))

    return made


def given_href(address: str) -> Href:
    """Return an address that somebody wrote as a link; nothing for one that could run something."""
    return Href(_encoded(address.strip())) if is_harmless(address) else NOWHERE


def _encoded(text: str) -> str:
    """Return a text with the characters encoded that no address has; what is encoded already stays so."""
    return _UNSAFE.sub(lambda match: quote(match[0]), text)


def is_harmless(address: str) -> bool:
    """Say whether an address may be a link: of a scheme that runs nothing, or without one.

    Browsers drop control characters and blanks before they look for the scheme (the URL Standard,
    “basic URL parser”), so they are dropped here too.
    """
    if split_address(address) is None:
        return False
    bare = _INVISIBLE.sub("", address)
    scheme, colon, _ = bare.partition(":")
    if not colon or any(char in scheme for char in "/?#"):
        return not bare.startswith(("//", "\\", "/\\"))
    return scheme.lower() in _SCHEMES


def split_address(address: str) -> SplitResult | None:
    """Return the parts of an address; None for what is none, such as one with half a bracket in its host."""
    try:
        return urlsplit(address)
    except ValueError:
        return None


def rooted(address: Href) -> Href:
    """Return an address that leads to the same place from every page: relative ones begin at the root."""
    parts = split_address(address)
    if not address or parts is None or parts.scheme or address.startswith(("/", "#", "?")):
        return address
    return Href(f"/{address}")
