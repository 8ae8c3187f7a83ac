"""Who may change listings in the preview: who has its key, on this machine, from one of its own pages."""

from __future__ import annotations

from secrets import compare_digest
from typing import TYPE_CHECKING

from elenchus.values.addresses import is_of_this_machine

if TYPE_CHECKING:
    from starlette.requests import Request

__all__ = ["KEY", "key_cookie", "why_not"]

KEY = "elenchus-key"  # the cookie of who may change listings


def why_not(request: Request, key: str) -> str:
    """Return why a request may change nothing; an empty text where it may.

    ``key`` is that of the preview, empty where it is served to other machines as well. What only looks (GET)
    needs no origin; browsers send one with what writes.
    """
    if not key:
        return "Listings are changed only where the preview is served to this machine alone, without --host."
    if request.client and not is_of_this_machine(request.client.host):  # a socket has no address
        return "Listings are changed only from this machine."
    given = request.cookies.get(KEY, "")
    if not compare_digest(given.encode(), key.encode()):
        return "Open the address with the key that elenchus serve printed; then this can be changed."
    if request.headers.get("sec-fetch-site", "same-origin") not in ("same-origin", "none"):
        return "Listings are changed only from a page of the preview itself."
    own = f"{request.url.scheme}://{request.headers.get('host', '')}"
    if request.method != "GET" and request.headers.get("origin", "") != own:
        return "Listings are changed only from a page of the preview itself."
    return ""


def key_cookie(key: str) -> str:
    """Return the header that keeps the key in a browser, for the tools of the preview, until it is closed."""
    return f"{KEY}={key}; Path=/-elenchus/; SameSite=Strict; HttpOnly"
