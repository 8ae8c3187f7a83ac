"""The preview server: routes, limits, caching, and the news that the site has changed."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import socket
import threading
from collections import OrderedDict
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from secrets import compare_digest
from typing import TYPE_CHECKING
from urllib.parse import parse_qsl, unquote

from anyio import fail_after, to_thread
from starlette.applications import Starlette
from starlette.concurrency import run_in_threadpool
from starlette.middleware import Middleware
from starlette.middleware.trustedhost import TrustedHostMiddleware
from starlette.responses import Response, StreamingResponse
from starlette.routing import Route

from elenchus.errors import ElenchusError, NoSuchName, OptionError, Problem
from elenchus.frozen import replace
from elenchus.pages.paths import TEMPLATES
from elenchus.preview import api, changing, tools
from elenchus.preview.failing import failed_page
from elenchus.preview.guard import key_cookie, why_not
from elenchus.preview.pages import missing, page_reply
from elenchus.preview.preview import TOOLS
from elenchus.preview.reply import Reply, redirect
from elenchus.rendering.renderer import ASSETS, asset_file

if TYPE_CHECKING:
    from collections.abc import AsyncIterator, Callable, Sequence
    from types import FrameType

    from starlette.requests import Request

    from elenchus.preview.live import Live, Scene

__all__ = ["application", "serve"]

_METHODS = ("GET", "POST", "PUT", "PATCH", "DELETE")  # all but the first are refused with a reason
_LONGEST_ADDRESS = 4000  # bytes of path and query
_MOST_FIELDS = 100  # of a query
_SECONDS = 20  # that a request may take
_HEARTBEAT = 15  # seconds after which a silent stream says that it is still there
_MOST_KEPT = 256  # replies
_LONGEST_TIME = 40  # characters
_FOLDER = Path(__file__).with_name("assets")
_SCRIPT = "text/javascript; charset=utf-8"
_STYLE = "text/css; charset=utf-8"
_ASSET_TYPES = {"preview.css": _STYLE, "preview.js": _SCRIPT, "change.js": _SCRIPT}
_LONGEST_FORM = 100_000  # bytes
_SAFE = {"X-Content-Type-Options": "nosniff", "Referrer-Policy": "same-origin", "Cache-Control": "no-cache"}


@dataclass
class _Office:
    """What all requests share: the site, the replies that were made, those who wait for news."""

    live: Live
    kept: OrderedDict[tuple[object, ...], Reply] = field(default_factory=OrderedDict)
    lock: threading.Lock = field(default_factory=threading.Lock)
    making: dict[tuple[object, ...], threading.Lock] = field(default_factory=dict)
    waiting: set[asyncio.Event] = field(default_factory=set)
    is_closing: bool = False
    key: str = ""  # of those who may change listings; empty where nobody may

    def answer(self, at: str, path: str, query: str, *, shows_all: bool = False) -> Reply:
        """Return the reply to an address, a kept one where the site and its time are the same.

        ``shows_all`` lets pages have what is not public; data and what the check finds are for everybody.
        """
        try:
            if path == f"{TOOLS}time":
                return tools.time_reply(self.live, query)
            if path == f"{TOOLS}shown":
                return tools.shown_reply(query)
            shows_all = shows_all and not path.startswith((api.API, f"{TOOLS}problems"))
            scene = self.scene(at, shows_all=shows_all)
            key = (scene.version, scene.site.clock.now, shows_all, path, query)
            return self.kept.get(key) or self.made_once(key, partial(self.made, scene, at, path, query))
        except ElenchusError as error:
            if path.startswith(api.API):
                return api.problem_reply(500, error.problems)
            return failed_page(error, shows_all=shows_all)

    def asset(self, path: str) -> Reply | None:
        """Return a stylesheet or a script, which no change of content and no other request delays."""
        name = path.removeprefix(TOOLS)
        if name in _ASSET_TYPES:
            return Reply((_FOLDER / name).read_bytes(), _ASSET_TYPES[name])
        name = path.removeprefix(f"/{ASSETS}/")
        try:
            found = asset_file(self.live.folder / TEMPLATES, name) if name != path else None
        except OSError:
            return None
        return Reply(found, _SCRIPT if name.endswith(".js") else _STYLE) if found is not None else None

    def made(self, scene: Scene, at: str, path: str, query: str) -> Reply:
        """Return the reply of a site; why something is listed is told of what visitors are shown.

        Of a page that only those have who see all, it is told of that.
        """
        if scene.shown and path == f"{TOOLS}why":
            with contextlib.suppress(NoSuchName):
                return tools.why_page(self.scene(at), query)
        return _made(scene, path, query)

    def changed(self, path: str, query: str, body: str, at: str, *, shows_all: bool) -> Reply:
        """Return the reply to what changes a section, or looks what a change would do."""
        try:
            scene = self.scene(at, shows_all=shows_all)
            if path == "offers":
                return changing.offers_data(scene, body)
            return changing.changed_page(scene, body) if body else changing.change_page(scene, query)
        except NoSuchName as error:
            return Reply(f"{error}\n".encode(), "text/plain; charset=utf-8", 404)
        except ElenchusError as error:
            return failed_page(error, shows_all=shows_all)

    def scene(self, at: str, *, shows_all: bool = False) -> Scene:
        """Return the site at a time, at its own where that means nothing. Raises SiteError."""
        try:
            return self.live.scene(at, shows_all=shows_all)
        except OptionError:
            if not at:
                raise
            return self.live.scene(shows_all=shows_all)

    def made_once(self, key: tuple[object, ...], make: Callable[[], Reply]) -> Reply:
        """Return a reply, made by the first of those who ask for it at one time; the others wait for that."""
        with self.lock:
            making = self.making.setdefault(key, threading.Lock())
        with making:
            if found := self.kept.get(key):
                return found
            try:
                return self.keep(key, make())
            finally:
                with self.lock:
                    self.making.pop(key, None)

    def keep(self, key: tuple[object, ...], reply: Reply) -> Reply:
        """Return a reply, and keep it in the place of the oldest."""
        with self.lock:
            self.kept[key] = reply
            while len(self.kept) > _MOST_KEPT:
                self.kept.popitem(last=False)
        return reply

    def close(self) -> None:
        """End all streams of news, so that nothing keeps the server from ending."""
        self.is_closing = True
        self.news()

    def news(self) -> None:
        """Tell all who wait."""
        for event in tuple(self.waiting):
            event.set()


async def _change(office: _Office, request: Request) -> Response:
    """Answer what changes a section: the form, what may be written in it, what is kept."""
    path, query = request.url.path.removeprefix(TOOLS), request.url.query
    if path == "key":
        given = dict(parse_qsl(query)).get("key", "")
        if not office.key or not compare_digest(given.encode(), office.key.encode()):
            return _on_the_wire(request, changing.refused("This is not the key that elenchus serve printed."))
        return _on_the_wire(request, redirect("/", **{"Set-Cookie": key_cookie(office.key)}))
    if why := why_not(request, office.key):
        return _on_the_wire(request, changing.refused(why))
    length = request.headers.get("content-length", "0")
    is_long = not length.isdigit() or int(length) > _LONGEST_FORM or "transfer-encoding" in request.headers
    if is_long or len(query) > _LONGEST_ADDRESS:
        return Response("the form is too long\n", 413, media_type="text/plain")
    body = await request.body()
    at = request.cookies.get(tools.COOKIE, "")[:_LONGEST_TIME]
    shows_all = request.cookies.get(tools.SHOWN) == "all"
    work = partial(office.changed, path, query, body.decode("utf-8", "replace"), at, shows_all=shows_all)
    try:
        reply = await _in_time(work)
    except TimeoutError:
        return Response(f"no answer within {_SECONDS} seconds\n", 503, media_type="text/plain")
    return _on_the_wire(request, reply)


def _made(scene: Scene, path: str, query: str) -> Reply:
    """Return the reply to an address of the site, of its listings as data, or of the preview's own."""
    if path.startswith(api.API):
        return api.api_reply(scene, path, query)
    try:
        match path.removeprefix(TOOLS) if path.startswith(TOOLS) else "":
            case "why":
                return tools.why_page(scene, query)
            case "problems":
                return tools.problems_page(scene)
            case "problems.json":
                return tools.problems_data(scene)
            case _:
                return page_reply(scene, path.removeprefix("/"), query)
    except NoSuchName:
        return missing(scene, path.removeprefix("/"))


# On the wire


async def _in_time(work: Callable[[], Reply]) -> Reply:
    """Return what work in a thread gives. Raises TimeoutError where that takes too long.

    Such work goes on by itself, and its place among the workers is free again.
    """
    with fail_after(_SECONDS):
        return await to_thread.run_sync(work, abandon_on_cancel=True)


async def _respond(office: _Office, request: Request) -> Response:
    """Answer one request within the limits."""
    address = request.scope["raw_path"] + b"?" + request.scope["query_string"]
    if len(address) > _LONGEST_ADDRESS:
        return _refused(request, 414, "the address is too long", f"Take at most {_LONGEST_ADDRESS:,} bytes.")
    if address.count(b"&") >= _MOST_FIELDS:
        return _refused(request, 400, "the query has too many fields", f"Take at most {_MOST_FIELDS}.")
    if request.method not in ("GET", "HEAD"):
        return _refused(request, 405, f"{request.method} changes nothing here", "Use GET or HEAD.")
    at = request.cookies.get(tools.COOKIE, "")[:_LONGEST_TIME]
    shows_all = request.cookies.get(tools.SHOWN) == "all"
    path, query = unquote(request.scope["raw_path"].decode("latin-1")), request.url.query
    if asset := office.asset(path):
        return _on_the_wire(request, asset)
    try:
        reply = await _in_time(partial(office.answer, at, path, query, shows_all=shows_all))
    except TimeoutError:
        return Response(f"no answer within {_SECONDS} seconds\n", 503, media_type="text/plain")
    if path.startswith(api.API) and not _accepts_api(request.headers.get("accept", "")):
        problem = Problem("not-acceptable", f"only {api.MEDIA_TYPE} without parameters is given")
        reply = api.problem_reply(406, [problem])
    return _on_the_wire(request, reply)


def _refused(request: Request, status: int, message: str, hint: str) -> Response:
    """Return why a request is not answered: as JSON:API has it, or as a line of text."""
    allowed = {"Allow": "GET, HEAD"} if status == 405 else {}  # noqa: PLR2004 - a method that is not taken
    if request.scope["raw_path"].startswith(api.API.encode()):
        reply = api.problem_reply(status, [Problem("bad-request", message, hint)])
        return _on_the_wire(request, replace(reply, headers={**reply.headers, **allowed}))
    return Response(f"{message}. {hint}\n", status, media_type="text/plain", headers=allowed)


def _on_the_wire(request: Request, reply: Reply) -> Response:
    """Return a reply as a response: nothing but its validator where the client has it already."""
    headers = {**_SAFE, **reply.headers, "Content-Type": reply.type, "Vary": "Accept, Cookie"}
    if reply.status == 200:  # noqa: PLR2004 - only what is there can be the same again
        headers["ETag"] = reply.etag
        known = [
            each.strip().removeprefix("W/") for each in request.headers.get("if-none-match", "").split(",")
        ]
        if reply.etag in known or "*" in known:
            return Response(status_code=304, headers=headers)
    return Response(reply.body, reply.status, headers)


def _accepts_api(accept: str) -> bool:
    """Say whether a client takes JSON:API: not where it names its media type with other parameters only.

    Profiles that nobody knows are ignored (JSON:API 1.1, “Server Responsibilities”).
    """
    named = [
        each.split(";")
        for each in accept.replace(" ", "").split(",")
        if each.strip().startswith(api.MEDIA_TYPE)
    ]
    return not named or any(all(part.startswith(("q=", "profile=")) for part in parts) for _, *parts in named)


async def _events(office: _Office, _request: Request) -> StreamingResponse:
    """Send the version of the site, and again whenever it changes (server-sent events)."""
    return StreamingResponse(
        _told(office), media_type="text/event-stream", headers={"Cache-Control": "no-store"}
    )


async def _told(office: _Office) -> AsyncIterator[str]:
    """Yield an event for each version."""
    event = asyncio.Event()
    office.waiting.add(event)
    try:
        yield "retry: 1000\n\n"
        while True:
            event.clear()  # before all else, so that no news is missed
            if office.is_closing:
                return
            yield f"event: version\ndata: {office.live.version}\n\n"
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(event.wait(), _HEARTBEAT)
    finally:
        office.waiting.discard(event)


async def _watch(office: _Office, leave_out: Sequence[Path], stop: asyncio.Event) -> None:
    """Tell of every change in the site's folder, but for hidden files and what is published."""
    from watchfiles import awatch

    root = office.live.folder.resolve()

    def matters(_change: object, name: str) -> bool:
        path = Path(name)
        if not path.is_relative_to(root) or any(path.is_relative_to(each) for each in leave_out):
            return False
        return not any(part.startswith(".") for part in path.relative_to(root).parts)

    async for _ in awatch(root, watch_filter=matters, stop_event=stop, debounce=200, step=20):
        await run_in_threadpool(office.live.changed)
        office.news()


async def _poll(office: _Office, stop: asyncio.Event) -> None:
    """Tell of changes in the tables of databases, each of which is asked one question every few seconds."""
    while not stop.is_set():
        seconds = await run_in_threadpool(office.live.poll)
        if not seconds:
            return
        if await run_in_threadpool(office.live.has_other_rows):
            await run_in_threadpool(office.live.changed)
            office.news()
        with contextlib.suppress(TimeoutError):
            await asyncio.wait_for(stop.wait(), seconds)


def application(
    live: Live,
    *,
    hosts: Sequence[str] = ("127.0.0.1", "localhost", "[::1]"),
    watched: bool = True,
    key: str = "",
) -> Starlette:
    """Return the preview of a site as an ASGI application.

    Only requests for one of the hosts are answered, so that no page from elsewhere reads a preview by
    giving its own name to this machine. Who has the ``key`` may change listings; without one nobody may.
    """
    office = _Office(live, key=key)

    @contextlib.asynccontextmanager
    async def lifespan(_app: Starlette) -> AsyncIterator[None]:
        stop = asyncio.Event()
        leave_out = _published_folders(live)
        watching = (_watch(office, leave_out, stop), _poll(office, stop)) if watched else ()
        tasks = [asyncio.create_task(each) for each in watching]
        yield
        office.close()
        stop.set()
        for task in tasks:
            await task

    routes = [
        Route(f"{TOOLS}events", partial(_events, office), methods=["GET"]),
        Route(f"{TOOLS}key", partial(_change, office), methods=["GET"]),
        Route(f"{TOOLS}change", partial(_change, office), methods=["GET", "POST"]),
        Route(f"{TOOLS}offers", partial(_change, office), methods=["POST"]),
        Route("/{path:path}", partial(_respond, office), methods=[*_METHODS]),
    ]
    guard = Middleware(TrustedHostMiddleware, allowed_hosts=list(hosts))
    found = Starlette(routes=routes, middleware=[guard], lifespan=lifespan)
    found.state.office = office
    return found


def _published_folders(live: Live) -> list[Path]:
    """Return the folders that are written to, not read."""
    try:
        definition = live.scene().site.definition
    except ElenchusError:
        return []
    return [(definition.folder / definition.to).resolve()]


def _bound(host: str, ports: Sequence[int]) -> socket.socket:
    """Return a socket at the first of some ports that is free. Raises OSError for none."""
    found = socket.socket(socket.AF_INET6 if ":" in host else socket.AF_INET, socket.SOCK_STREAM)
    found.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    for port in ports:
        try:
            found.bind((host, port))
        except OSError:
            if port == ports[-1]:
                found.close()
                raise
        else:
            break
    return found


def serve(live: Live, host: str, ports: Sequence[int], ready: Callable[[int], None], key: str = "") -> None:
    """Serve a site until it is interrupted, at the first of some ports that is free. Raises OSError for none.

    ``ready`` is called with the port, which is any free one where 0 is asked for; ``key`` is that of those
    who may change listings.
    """
    import uvicorn

    from elenchus.preview.connections import Impatient

    with _bound(host, ports) as listening:
        listening.listen(128)  # from here on nobody is refused
        hosts = ["127.0.0.1", "localhost", "[::1]", f"[{host}]" if ":" in host else host]
        if host in ("0.0.0.0", "::"):  # noqa: S104 - whoever asks for all addresses means all names
            hosts = ["*"]
        preview = application(live, hosts=hosts, key=key)
        config = uvicorn.Config(
            preview,
            http=Impatient,
            log_level=logging.WARNING,
            limit_concurrency=200,
            timeout_graceful_shutdown=2,
            h11_max_incomplete_event_size=16_384,
        )

        class Server(uvicorn.Server):
            """A server that ends its streams before it waits for its connections to end."""

            def handle_exit(self, sig: int, frame: FrameType | None) -> None:
                """Begin to end."""
                preview.state.office.close()
                super().handle_exit(sig, frame)

        ready(listening.getsockname()[1])
        Server(config).run(sockets=[listening])
