"""Replies before they go on the wire: a status, a media type, a body."""

from __future__ import annotations

from hashlib import sha256
from typing import TYPE_CHECKING

from elenchus.frozen import Frozen, member

if TYPE_CHECKING:
    from collections.abc import Mapping

__all__ = ["HTML", "Reply", "redirect"]

HTML = "text/html; charset=utf-8"


class Reply(Frozen):
    """What is answered to a request."""

    body: bytes
    type: str = HTML
    status: int = 200
    headers: Mapping[str, str] = member(default_factory=dict)

    @property
    def etag(self) -> str:
        """The strong validator of the body (RFC 9110, section 8.8.3)."""
        return f'"{sha256(self.body).hexdigest()[:24]}"'


def redirect(address: str, **headers: str) -> Reply:
    """Return the reply that sends a visitor to another address."""
    return Reply(b"", status=302, headers={"Location": address, **headers})
