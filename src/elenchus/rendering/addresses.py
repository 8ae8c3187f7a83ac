"""Addresses in pages: below the site's root, and whole ones."""

from __future__ import annotations

from elenchus.frozen import Frozen
from elenchus.values.addresses import Href, href_of, split_address

__all__ = ["Root"]


class Root(Frozen):
    """Where the site stands: its whole address, empty where it has none; the path that begins its links."""

    address: str = ""
    path: str = "/"

    @classmethod
    def of(cls, address: str) -> Root:
        """Return the root of a site with an address."""
        parts = split_address(address)
        path = parts.path if parts else ""
        return cls(address if address.endswith("/") or not address else f"{address}/", f"{path.rstrip('/')}/")

    def link(self, address: Href) -> Href:
        """Return an address relative to the root as pages link it; others stay as they are."""
        parts = split_address(address)
        if parts is None or parts.scheme or address.startswith(("/", "#", "?")):
            return address
        return Href(self.path + address)

    def whole(self, address: Href) -> Href:
        """Return an address relative to the root with scheme and host, where the site has an address."""
        parts, own = split_address(address), split_address(self.address)
        if parts is None or parts.scheme or own is None:
            return address
        if address.startswith("/"):
            return Href(f"{own.scheme}://{own.netloc}{address}") if self.address else address
        return Href(self.address + address)

    def file(self, path: str) -> Href:
        """Return the link to a file of the site by its path."""
        return Href(self.path + href_of(path))
