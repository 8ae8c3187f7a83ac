"""Opening addresses so that a server cannot lead into the network that this machine is in."""

from __future__ import annotations

import errno
from http.client import HTTPConnection, HTTPSConnection
from ipaddress import ip_address
from typing import TYPE_CHECKING, Any
from urllib.request import (
    HTTPDefaultErrorHandler,
    HTTPErrorProcessor,
    HTTPHandler,
    HTTPRedirectHandler,
    HTTPSHandler,
    OpenerDirector,
    ProxyHandler,
    Request,
)

from elenchus.values.addresses import split_address

if TYPE_CHECKING:
    from http.client import HTTPMessage
    from http.client import HTTPResponse as Response
    from typing import IO

__all__ = ["Guard", "guarded_opener"]

_MOST_REDIRECTS = 5


class Guard:
    """What the first server's address permits: only one inside the network may lead to others inside."""

    def __init__(self) -> None:
        self.starts_inside: bool | None = None

    def check(self, connection: HTTPConnection) -> None:
        """Look at the address that a connection really has: a name can mean another one each time.

        Raises OSError.
        """
        address = ip_address(connection.sock.getpeername()[0].partition("%")[0])
        mapped = getattr(address, "ipv4_mapped", None)
        is_inside = not (mapped or address).is_global
        if self.starts_inside is None:
            self.starts_inside = is_inside
        if is_inside and not self.starts_inside:
            connection.close()
            raise OSError(errno.EPERM, "the server leads to an address inside this network")


class _Redirects(HTTPRedirectHandler):
    """Redirects to http and https only, and few of them."""

    max_redirections = _MOST_REDIRECTS

    def redirect_request(
        self, req: Request, fp: IO[bytes], code: int, msg: str, headers: HTTPMessage, newurl: str
    ) -> Request | None:
        """Return the request that follows a redirect. Raises OSError."""
        parts = split_address(newurl)
        if parts is None or parts.scheme not in ("http", "https"):
            fp.close()
            raise OSError(errno.EPERM, "the server leads to something other than http or https")
        return super().redirect_request(req, fp, code, msg, headers, newurl)


def guarded_opener() -> OpenerDirector:
    """Return what opens one address of http or https, and follows the redirects of its server."""
    guard = Guard()

    class Plain(HTTPConnection):
        def connect(self) -> None:
            super().connect()
            guard.check(self)

    class Secure(HTTPSConnection):
        def connect(self) -> None:
            super().connect()
            guard.check(self)

    class PlainHandler(HTTPHandler):
        def http_open(self, req: Request) -> Response:
            return self.do_open(Plain, req)

    class SecureHandler(HTTPSHandler):
        def https_open(self, req: Request) -> Response:
            return self.do_open(Secure, req)

    opener = OpenerDirector()
    handlers: list[Any] = [
        ProxyHandler(),
        PlainHandler(),
        SecureHandler(),
        HTTPDefaultErrorHandler(),
        _Redirects(),
        HTTPErrorProcessor(),
    ]
    for handler in handlers:
        opener.add_handler(handler)
    return opener
