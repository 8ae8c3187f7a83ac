"""Connections to databases that only read, and whose secrets are told to nobody."""

from __future__ import annotations

import errno
import struct
import time
from contextlib import contextmanager
from functools import partial
from typing import TYPE_CHECKING
from urllib.parse import quote

from elenchus.files import is_file, signature
from elenchus.sources._refusals import said_by_database
from elenchus.sources._server import (
    PATIENCE,
    driver_connection,
    forget_certificates,
    longest,
    only_reading,
    server_of,
)

if TYPE_CHECKING:
    import sqlite3
    from collections.abc import Iterator, Sequence
    from pathlib import Path

    from sqlalchemy import Connection, Engine

    from elenchus.sources._spec import SourceSpec

__all__ = ["connected", "place_of", "quoted_name", "refusals"]

_WAL = 2  # how the header of a file of SQLite says that changes are in a file beside it, at byte 19
_HEADER = 20
_STEPS = 20_000  # instructions of SQLite between two looks at the clock
_PAUSE = 0.05  # seconds between two looks in which SQLite was not at work
_LIBRARIES = ("pymysql", "psycopg", "sqlalchemy")


def place_of(spec: SourceSpec) -> str:
    """Return what people call the table of a source: its file or server, then its name."""
    table = spec.table
    name = (f"{table.prefix}{table.table}" if table and table.table else "") or spec.name
    if spec.paths:
        return f"{spec.paths[0]}/{name}"
    server = server_of(spec)
    return f"{server.host or 'localhost'}/{server.database}/{name}"


def _engine(spec: SourceSpec, root: Path, *, writing: bool) -> Engine:
    """Return what connects to the database of a source. Raises OSError."""
    import sqlalchemy
    from sqlalchemy.pool import NullPool

    if not spec.paths:
        server = server_of(spec)
        opened = partial(driver_connection, spec, server, writing=writing)
        try:
            return sqlalchemy.create_engine(f"{server.dialect}://", creator=opened, poolclass=NullPool)
        except ImportError:
            raise server.missing_driver() from None
    path = root / spec.paths[0]
    if not is_file(path):
        raise OSError(errno.ENOENT, "it is no regular file")
    address = f"file:{quote(str(path.resolve()))}?mode={'rw' if writing else 'ro'}"
    if not writing and _is_at_rest(path):
        address += "&immutable=1"  # else SQLite would leave files beside it
    watch = _Watch(longest(spec))
    opened = partial(_file, address, watch)
    engine = sqlalchemy.create_engine("sqlite://", creator=opened, poolclass=NullPool)
    sqlalchemy.event.listen(engine, "begin", lambda connection: connection.exec_driver_sql("BEGIN"))
    sqlalchemy.event.listen(engine, "before_cursor_execute", lambda *_: watch.begin())
    return engine


def _file(address: str, watch: _Watch) -> sqlite3.Connection:
    """Return a connection to a file of SQLite."""
    import sqlite3

    found = sqlite3.connect(address, uri=True, timeout=PATIENCE, check_same_thread=False)
    found.set_progress_handler(watch.is_too_long, _STEPS)
    found.isolation_level = None  # else what a savepoint holds would be written at its end
    return found


class _Watch:
    """Stops a statement of SQLite that works longer than any may; time between its rows does not count."""

    def __init__(self, seconds: int) -> None:
        self.longest = seconds
        self.begin()

    def begin(self) -> None:
        """Count from now on: another statement begins."""
        self.last = time.monotonic()
        self.spent = 0.0

    def is_too_long(self) -> bool:
        now = time.monotonic()
        self.spent = self.spent + now - self.last if now - self.last < _PAUSE else 0.0
        self.last = now
        return self.spent > self.longest


def _is_at_rest(path: Path) -> bool:
    """Say whether a file of SQLite keeps its changes beside it and has none there, so that it is whole.

    Raises OSError.
    """
    with path.open("rb") as file:
        header = file.read(_HEADER)
    beside = path.with_name(f"{path.name}-wal")
    return header[_HEADER - 1 :] == bytes([_WAL]) and not (beside.exists() and beside.stat().st_size)


def quoted_name(connection: Connection, name: str) -> str:
    """Return a name as the text of a query has it: a colon in it stands for no value."""
    quoted = connection.dialect.identifier_preparer.quote(name)
    if connection.dialect.paramstyle in ("format", "pyformat"):
        quoted = quoted.replace("%%", "%")  # what a driver wants twice is made so in the whole text
    return quoted.replace(":", "\\:")


@contextmanager
def connected(spec: SourceSpec, root: Path, *, writing: bool = False) -> Iterator[Connection]:
    """Give a connection in a transaction that reads only, unless said. Raises OSError without secrets."""
    with refusals(spec):
        engine = _engine(spec, root, writing=writing)
        before = _signs(spec, root)
        try:
            with engine.connect() as connection:
                if not writing:
                    _read_only(connection, longest(spec))
                elif connection.dialect.name == "postgresql":
                    connection.exec_driver_sql("SET LOCAL datestyle TO ISO")
                yield connection
            if not writing and _signs(spec, root) != before:
                raise OSError(errno.EBUSY, "it was changed while it was read")
        finally:
            engine.dispose()


def _signs(spec: SourceSpec, root: Path) -> Sequence[int]:
    """Return what changes when a file of SQLite does that is read without its locks; nothing of others."""
    path = root / spec.paths[0] if spec.paths else None
    return signature(path.stat()) if path and is_file(path) and _is_at_rest(path) else ()


@contextmanager
def refusals(spec: SourceSpec) -> Iterator[None]:
    """Let what a database refuses be an OSError, whose text has no secret."""
    try:
        yield
    except Exception as error:
        if any(each.__module__.partition(".")[0] in _LIBRARIES for each in type(error).__mro__):
            forget_certificates()
            raise OSError(errno.EIO, said_by_database(spec, error)) from None
        odd = (RuntimeError, ValueError, LookupError, TypeError, AttributeError, struct.error)
        if not (isinstance(error, odd) and _is_of_driver(error)):
            raise
        what = f"what the server sent cannot be understood ({type(error).__name__})"
        raise OSError(errno.EPROTO, what) from None


def _is_of_driver(error: BaseException) -> bool:
    """Say whether an error comes out of the driver of a database, which a server can mislead."""
    at, last = error.__traceback__, ""
    while at:
        last = at.tb_frame.f_globals.get("__name__", "")
        at = at.tb_next
    return last.partition(".")[0] in (*_LIBRARIES, "struct")


def _read_only(connection: Connection, seconds: int) -> None:
    """Begin a transaction in which nothing can be written."""
    name = connection.dialect.name
    if name == "sqlite":  # a file is opened for reading only
        connection.exec_driver_sql("PRAGMA query_only = 1")
        return
    is_mariadb = getattr(connection.dialect, "is_mariadb", False)
    for each in only_reading(name, seconds, is_mariadb=is_mariadb):
        connection.exec_driver_sql(each)
