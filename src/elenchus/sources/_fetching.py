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
from elenchus.sources import LEFT_OUT, Scan
from elenchus.sources._files import FileContent
from elenchus.values.addresses import without_password

if TYPE_CHECKING:
    from collections.abc import Mapping
    from pathlib import Path

    from elenchus.sources import SourceSpec

__all__ = ["fetched_content", "scan_address"]

_PATIENCE = 10  # seconds until a server that does not answer is given up
_NOT_MODIFIED = 304  # RFC 9110, section 15.4.5
_CAME: dict[str, bytes] = {}  # what came in this run, where it cannot be written


def scan_address(spec: SourceSpec, root: Path, before: Scan | None) -> Scan:
    """Return what stands at the address of a source; where it cannot be fetched, what came last."""
    told = json.loads(before.note) if before and before.note else {}
    is_there = before is not None and bool(before.units) and _kept(spec, root) is not None
    if before and is_there and time.time() - told.get("at", 0) < spec.every:
        return before
    place = without_password(spec.url)
    try:
        headers, body = _answer(spec.url, told if is_there else {})
    except OSError as error:
        hint = "Its entries are those of the last time." if is_there else LEFT_OUT
        problem = Problem(
            "unfetched", f"it cannot be fetched: {error.strerror or error}", hint, place=Place(place)
        )
        return before._replace(problems=[problem]) if before and is_there else Scan([], array("q"), [problem])
    note = {name: headers.get(name, "") for name in ("ETag", "Last-Modified")}
    if body is None and before:
        note = {name: told.get(name, "") for name in note}
        return before._replace(note=json.dumps({**note, "at": time.time()}))
    body = body or b""
    _keep(spec, root, body)
    sign = array("q", (len(body), 0, 0, FileContent.of(body).digest >> 2))
    return Scan([place], sign, [], json.dumps({**note, "at": time.time()}))


def fetched_content(spec: SourceSpec, root: Path) -> FileContent:
    """Return what came last. Raises OSError."""
    body = _kept(spec, root)
    if body is None:
        raise OSError(errno.ENOENT, "it was not fetched")
    return FileContent.of(body)


def _answer(url: str, told: Mapping[str, Any]) -> tuple[Mapping[str, str], bytes | None]:
    """Return the headers and the body of what stands at an address, nothing for one that has not changed.

    Raises OSError.
    """
    from urllib.error import HTTPError, URLError
    from urllib.parse import urlsplit
    from urllib.request import Request, build_opener

    if urlsplit(url).scheme not in ("http", "https"):
        raise OSError(errno.EINVAL, "its address begins neither with http:// nor with https://")
    request = Request(url, headers={"User-Agent": "elenchus", "Accept-Encoding": "identity"})  # noqa: S310 - as asked above
    for name, asks in (("ETag", "If-None-Match"), ("Last-Modified", "If-Modified-Since")):
        if told.get(name):
            request.add_header(asks, told[name])
    try:
        with build_opener().open(request, timeout=_PATIENCE) as reply:
            body = reply.read(MOST_BYTES + 1)
            if len(body) > MOST_BYTES:
                raise OSError(errno.EFBIG, f"it is larger than {MOST_BYTES // 2**20} MB")
            return dict(reply.headers), body
    except HTTPError as error:
        if error.status == _NOT_MODIFIED:
            return dict(error.headers), None
        raise OSError(errno.EIO, f"the server says {error.status} {error.reason}") from None
    except URLError as error:
        raise OSError(errno.EIO, f"{getattr(error.reason, 'strerror', None) or error.reason}") from None
    except (ValueError, TimeoutError) as error:
        raise OSError(errno.EIO, str(error)) from None


def _path(spec: SourceSpec, root: Path) -> Path:
    """Return where what came is kept."""
    name = blake2b(spec.url.encode("utf-8", "surrogatepass"), digest_size=8).hexdigest()
    return root / ".elenchus" / f"fetched-{name}"


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
