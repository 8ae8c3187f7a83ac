"""What is fetched from addresses: asked for again only when it is old, and then only whether it has changed.

What came last is kept beside the index, so that a site can be read where there is no network.
"""

from __future__ import annotations

import errno
import json
import time
from array import array
from hashlib import blake2b
from typing import TYPE_CHECKING, Any

from elenchus.errors import Place, Problem
from elenchus.files import MOST_BYTES, read_whole, write_whole
from elenchus.sources._files import FileContent
from elenchus.sources._spec import LEFT_OUT, Scan
from elenchus.values.addresses import shown_address, split_address

if TYPE_CHECKING:
    from collections.abc import Mapping
    from pathlib import Path

    from elenchus.sources._spec import SourceSpec

__all__ = ["fetched_content", "scan_address"]

_CONNECTING = 10  # seconds for a connection
_PATIENCE = 30  # seconds for all of it, however little comes at a time
_TAGS = {"ETag": "If-None-Match", "Last-Modified": "If-Modified-Since"}
_NOT_MODIFIED = 304  # RFC 9110, section 15.4.5
_CAME: dict[str, bytes] = {}  # what came in this run, where it cannot be written


def scan_address(spec: SourceSpec, root: Path, before: Scan | None) -> Scan:
    """Return what stands at the address of a source; where it cannot be fetched, what came last."""
    told = _noted(before)
    is_there = before is not None and bool(before.units) and _kept(spec, root) is not None
    if before and is_there and time.time() - told["at"] < spec.every:
        return before
    place = shown_address(spec.url)
    try:
        headers, body = _answer(spec.url, told if is_there else {})
    except OSError as error:
        hint = "Its entries are those of the last time." if is_there else LEFT_OUT
        problem = Problem(
            "unfetched", f"it cannot be fetched: {error.strerror or error}", hint, place=Place(place)
        )
        return before._replace(problems=[problem]) if before and is_there else Scan([], array("q"), [problem])
    if body is None and before:
        return before._replace(note=json.dumps({**told, "at": time.time()}))
    note = {name: headers.get(name, "") for name in _TAGS}
    body = body or b""
    _keep(spec, root, body)
    sign = array("q", (len(body), 0, 0, FileContent.of(body).digest >> 2))
    return Scan([place], sign, [], json.dumps({**note, "at": time.time()}))


def _noted(before: Scan | None) -> dict[str, Any]:
    """Return what the last answer said of its version, and when it came; a note can be anything."""
    try:
        told = json.loads(before.note) if before and before.note else {}
        return {**{name: str(told.get(name, "")) for name in _TAGS}, "at": float(told.get("at", 0))}
    except (ValueError, TypeError, AttributeError, RecursionError):
        return {"at": 0.0}


def fetched_content(spec: SourceSpec, root: Path) -> FileContent:
    """Return what came last. Raises OSError."""
    body = _kept(spec, root)
    if body is None:
        raise OSError(errno.ENOENT, "it was not fetched")
    return FileContent.of(body)


def _answer(url: str, told: Mapping[str, Any]) -> tuple[Mapping[str, str], bytes | None]:
    """Return the headers and the body of an address, None as the body of one that has not changed.

    Raises OSError, whatever a server does, and after a bounded time: the request runs beside this thread,
    which stops waiting for it. A server that sends a byte a second never trips the timeout of one read.
    """
    import threading

    found: list[tuple[Mapping[str, str], bytes | None]] = []
    failed: list[OSError] = []

    def fetch() -> None:
        try:
            found.append(_asked(url, told))
        except OSError as error:
            failed.append(error)
        except Exception as error:
            name = type(error).__name__
            failed.append(OSError(errno.EPROTO, f"its answer cannot be understood ({name})"))

    asking = threading.Thread(target=fetch, daemon=True)
    asking.start()
    asking.join(_PATIENCE)
    if failed:
        raise failed[0]
    if not found:
        raise OSError(errno.ETIMEDOUT, f"the server took more than {_PATIENCE} seconds")
    return found[0]


def _asked(url: str, told: Mapping[str, Any]) -> tuple[Mapping[str, str], bytes | None]:
    """Return the headers and the body of an address. Raises OSError, or whatever an odd answer causes."""
    from urllib.error import HTTPError, URLError
    from urllib.request import Request

    from elenchus.sources._guarded import guarded_opener

    parts = split_address(url)
    if parts is None or parts.scheme not in ("http", "https"):
        raise OSError(errno.EINVAL, "its address begins neither with http:// nor with https://")
    request = Request(url, headers={"User-Agent": "elenchus", "Accept-Encoding": "identity"})  # noqa: S310 - as asked above
    for name, asks in _TAGS.items():
        if told.get(name):
            request.add_header(asks, told[name])
    try:
        with guarded_opener().open(request, timeout=_CONNECTING) as reply:
            body = reply.read(MOST_BYTES + 1)
            if len(body) > MOST_BYTES:
                raise OSError(errno.EFBIG, f"it is larger than {MOST_BYTES // 2**20} MB")
            return dict(reply.headers), body
    except HTTPError as error:
        error.close()
        if error.status == _NOT_MODIFIED:
            return dict(error.headers), None
        raise OSError(errno.EIO, f"the server says {error.status} {error.reason}") from None
    except URLError as error:
        raise OSError(errno.EIO, f"{getattr(error.reason, 'strerror', None) or error.reason}") from None
    except TimeoutError as error:
        raise OSError(errno.ETIMEDOUT, str(error)) from None


def _path(spec: SourceSpec, root: Path) -> Path:
    """Return where what came is kept. Raises OSError if that is a link to anywhere."""
    folder = root / ".elenchus"
    if folder.is_symlink():
        raise OSError(errno.ELOOP, "it is a link", str(folder))
    name = blake2b(spec.url.encode("utf-8", "surrogatepass"), digest_size=8).hexdigest()
    return folder / f"fetched-{name}"


def _kept(spec: SourceSpec, root: Path) -> bytes | None:
    """Return what came last, None where nothing did."""
    if spec.url in _CAME:
        return _CAME[spec.url]
    try:
        return read_whole(_path(spec, root))
    except OSError:
        return None


def _keep(spec: SourceSpec, root: Path, body: bytes) -> None:
    """Keep what came."""
    try:
        write_whole(_path(spec, root), body)
        _CAME.pop(spec.url, None)
    except OSError:
        _CAME[spec.url] = body
