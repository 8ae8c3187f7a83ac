"""Addresses in pages: below the site's root, whole ones, and those that must not be linked."""

from __future__ import annotations

import re
from dataclasses import dataclass
from urllib.parse import quote, urlsplit

__all__ = ["Root", "is_harmless"]

SCHEMES = ("http", "https", "mailto", "tel")
INVISIBLE = re.compile(r"[\x00-\x20\x7f-\x9f]")


def is_harmless(address: str) -> bool:
    """Say whether an address may be a link: of a scheme that runs nothing, or without one.

    Browsers drop control characters and blanks before they look for the scheme (the URL Standard,
    “basic URL parser”), so they are dropped here too.
    """
    bare = INVISIBLE.sub("", address)
    scheme, colon, _ = bare.partition(":")
    if not colon or any(char in scheme for char in "/?#"):
        return not bare.startswith(("//", "\\", "/\\"))
    return scheme.lower() in SCHEMES


@dataclass(frozen=True, slots=True)
class Root:
    """Where the site stands: its whole address, empty where it has none; the path that begins its links."""

    address: str = ""
    path: str = "/"

    @classmethod
    def of(cls, address: str) -> Root:
        """Return the root of a site with an address."""
        path = urlsplit(address).path
        return cls(address if address.endswith("/") or not address else f"{address}/", f"{path.rstrip('/')}/")

    def link(self, address: str) -> str:
        """Return an address relative to the root as pages link it; others stay as they are."""
        if urlsplit(address).scheme or address.startswith(("/", "#", "?")):
            return address
        return self.path + address

    def whole(self, address: str) -> str:
        """Return an address relative to the root with scheme and host, where the site has an address."""
        if urlsplit(address).scheme:
            return address
        parts = urlsplit(self.address)
        if address.startswith("/"):
            return f"{parts.scheme}://{parts.netloc}{address}" if self.address else address
        return self.address + address

    def file(self, path: str) -> str:
        """Return the link to a file of the site by its path."""
        return self.path + quote(path, safe="/-._~")
