"""Connections to databases that only read, and whose secrets are told to nobody."""

from __future__ import annotations

import errno
import os
import struct
import time
from contextlib import contextmanager
from functools import partial
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from elenchus.files import is_file, signature
from elenchus.sources._refusals import said_by_database
from elenchus.userdata import CLIENT_PASSWORD, is_allowed, not_allowed
from elenchus.values.addresses import is_of_this_machine

if TYPE_CHECKING:
    import sqlite3
    from collections.abc import Iterator, Sequence
    from pathlib import Path

    from psycopg import Connection as Server
    from psycopg.abc import Buffer
    from sqlalchemy import Connection, Engine
    from sqlalchemy.engine import URL

    from elenchus.sources import SourceSpec

__all__ = ["connected", "place_of", "quoted_name", "refusals"]

# The drivers of each sort of database, and the extra of this package that has one.
_DRIVERS = {
    "postgresql": ("postgresql+psycopg", "postgresql"),
    "mysql": ("mysql+pymysql", "mariadb"),
    "mariadb": ("mysql+pymysql", "mariadb"),
}
_PATIENCE = 10  # seconds for a connection, and for a table that is locked
_A_MILLISECOND = 1000
# What an address may say behind its “?”. Others read files, run statements, or let the server ask for files.
_OPTIONS = {
    "postgresql": {"application_name", "sslmode", "sslrootcert"},
    "mysql": {"charset", "ssl_ca", "ssl_verify_cert", "ssl_verify_identity"},
}
_ENCRYPTED = ("require", "verify-ca", "verify-full")  # values of sslmode that never fall back to plain text
# Certificates as they were loaded for a server, which takes longer than a query; None if it does not encrypt.
_certificates: dict[str, Any] = {}
_WAL = 2  # how the header of a file of SQLite says that changes are in a file beside it, at byte 19
_HEADER = 20
_STEPS = 20_000  # instructions of SQLite between two looks at the clock
_PAUSE = 0.05  # seconds between two looks in which SQLite was not at work


def place_of(spec: SourceSpec) -> str:
    """Return what people call the table of a source: its file or server, then its name."""
    table = spec.table
    name = (f"{table.prefix}{table.table}" if table and table.table else "") or spec.name
    if spec.paths:
        return f"{spec.paths[0]}/{name}"
    url = _url_of(spec)
    return f"{url.host or 'localhost'}/{url.database or ''}/{name}"


def _url_of(spec: SourceSpec) -> URL:
    """Return the URL of a database with its password. Raises OSError."""
    from sqlalchemy.engine import make_url
    from sqlalchemy.exc import ArgumentError

    table = spec.table
    text = _variable(table.url_from) if table and table.url_from else table.url if table else ""
    try:
        url = make_url(text)
    except (ArgumentError, ValueError):
        raise OSError(
            errno.EINVAL, "its address is no URL such as postgresql://reader@localhost/bay"
        ) from None
    sort = url.get_backend_name()
    if sort not in _DRIVERS:
        raise OSError(
            errno.EINVAL, f"nothing here reads {sort}; known are PostgreSQL, MySQL, MariaDB and SQLite"
        )
    driver = _DRIVERS[sort][0]
    sort = "postgresql" if sort == "postgresql" else "mysql"
    for name in url.query:
        if name not in _OPTIONS[sort]:
            allowed = ", ".join(sorted(_OPTIONS[sort]))
            raise OSError(
                errno.EPERM, f"the option {name} of its address is not allowed; allowed are {allowed}"
            )
    password = _variable(table.password_from) if table and table.password_from else url.password
    if not (table and table.url_from):  # else the user wrote the address beside the password
        _check_host(url, table.password_from if table else "", sort)
    if password and not is_of_this_machine(url.host or "") and sort == "postgresql":
        mode = url.query.get("sslmode", "require")
        if mode not in _ENCRYPTED:
            raise OSError(errno.EPERM, f"a password is never sent in plain text, and sslmode is {mode}")
        url = url.update_query_dict({"sslmode": str(mode)})
    return url.set(drivername=driver, password=password)


def _check_host(url: URL, variable: str, sort: str) -> None:
    """Raise OSError if a variable would be sent to a server for which the user has not allowed it.

    The site names both, and the site may come from somebody else.
    """
    if not variable and sort == "postgresql" and os.environ.get(CLIENT_PASSWORD):
        variable = CLIENT_PASSWORD
    if variable and not is_allowed(variable, url.host or ""):
        message, hint = not_allowed(variable, url.host or "")
        raise OSError(errno.EPERM, f"{message}. {hint.rstrip('.')}")


def _variable(name: str) -> str:
    """Return a variable of the environment. Raises OSError where it is not set."""
    found = os.environ.get(name)
    if found is None:
        raise OSError(errno.EACCES, f"the variable {name} of the environment is not set")
    return found


def _engine(spec: SourceSpec, root: Path, mode: str) -> Engine:
    """Return what connects to the database of a source. Raises OSError."""
    import sqlalchemy
    from sqlalchemy.pool import NullPool

    if spec.paths:
        import sqlite3

        path = root / spec.paths[0]
        if not is_file(path):
            raise OSError(errno.ENOENT, "it is no regular file")
        address = f"file:{quote(str(path.resolve()))}?mode={mode}"
        if mode == "ro" and _is_at_rest(path):
            address += "&immutable=1"  # else SQLite would leave files beside it

        def opened() -> sqlite3.Connection:
            found = sqlite3.connect(address, uri=True, timeout=_PATIENCE, check_same_thread=False)
            watch = _Watch(_longest(spec))
            found.set_progress_handler(watch.is_too_long, _STEPS)
            found.isolation_level = None  # else what a savepoint holds would be written at its end
            return found

        engine = sqlalchemy.create_engine("sqlite://", creator=opened, poolclass=NullPool)
        sqlalchemy.event.listen(engine, "begin", lambda connection: connection.exec_driver_sql("BEGIN"))
        return engine
    url = _url_of(spec)
    arguments: dict[str, Any] = {"connect_timeout": _PATIENCE}
    if url.get_backend_name() == "mysql":
        longest = _longest(spec)
        arguments |= {"charset": "utf8mb4", "read_timeout": longest + _PATIENCE, "write_timeout": longest}
        if not any(name.startswith("ssl_") for name in url.query):
            arguments |= _encryption(url)
    else:
        arguments["prepare_threshold"] = 0  # what is prepared is one statement, whatever its text holds
    try:
        engine = sqlalchemy.create_engine(url, poolclass=NullPool, connect_args=arguments)
    except ImportError:
        extra = next(extra for name, extra in _DRIVERS.values() if name == url.drivername)
        raise OSError(errno.ENOSYS, f"its driver is missing: pip install 'elenchus[{extra}]'") from None
    if url.get_backend_name() == "mysql":
        sqlalchemy.event.listen(engine, "connect", partial(_keep_certificates, _server_of(url)))
    else:
        sqlalchemy.event.listen(engine, "connect", _times_as_texts)
        sqlalchemy.event.listen(engine, "connect", partial(_bounded, _longest(spec)))
        if mode == "ro":
            sqlalchemy.event.listen(engine, "connect", _careful)
    return engine


def _server_of(url: URL) -> str:
    """Return which server an address leads to."""
    return f"{url.host}:{url.port}"


def _encryption(url: URL) -> dict[str, Any]:
    """Return how PyMySQL is to encrypt: a password goes to other machines in no other way."""
    server = _server_of(url)
    if url.password and not is_of_this_machine(url.host or ""):
        return {
            "ssl": _certificates.get(server) or {"check_hostname": False}
        }  # else it falls back to plain text
    if server not in _certificates:
        return {}  # it asks the server
    known = _certificates[server]
    return {"ssl": known} if known else {"ssl_disabled": True}


def _keep_certificates(server: str, connection: Any, _record: object) -> None:
    """Keep what was loaded for a connection to a server, or that it does not encrypt, for those to come."""
    from pymysql.constants import CLIENT

    encrypts = connection.server_capabilities & CLIENT.SSL
    _certificates[server] = connection.ctx if encrypts else None


def _longest(spec: SourceSpec) -> int:
    """Return how many seconds a statement may take."""
    return spec.table.timeout if spec.table else _PATIENCE


class _Watch:
    """Stops a statement of SQLite that works longer than any may; time between its rows does not count."""

    def __init__(self, longest: int) -> None:
        self.longest = longest
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


def _bounded(longest: int, server: Server[Any], _record: object) -> None:
    """Let no statement of PostgreSQL take longer than any may, and none wait long for a locked table."""
    server.execute(f"SET statement_timeout = {longest * _A_MILLISECOND}")
    server.execute(f"SET lock_timeout = {min(longest, _PATIENCE) * _A_MILLISECOND}")
    server.commit()


def _careful(server: Server[Any], _record: object) -> None:
    """Let a session of PostgreSQL read only, in whatever transaction."""
    server.execute("SET default_transaction_read_only = on")
    server.commit()


def _times_as_texts(server: Server[Any], _record: object) -> None:
    """Let PostgreSQL's times be the texts that it sends: ``infinity`` and years before 1 are no Python times.

    Those with a zone stay times where they can, since their texts leave out minutes of the offset.
    """
    from psycopg import DataError
    from psycopg.types.datetime import TimestamptzLoader
    from psycopg.types.string import TextLoader

    class _Instants(TimestamptzLoader):
        def load(self, data: Buffer) -> Any:
            try:
                return super().load(data)
            except DataError:
                return bytes(data).decode()

    for name in ("date", "timestamp"):
        server.adapters.register_loader(name, TextLoader)
    server.adapters.register_loader("timestamptz", _Instants)


def quoted_name(connection: Connection, name: str) -> str:
    """Return a name as a query has it: a colon in it stands for no value."""
    return connection.dialect.identifier_preparer.quote(name).replace(":", "\\:")


@contextmanager
def connected(spec: SourceSpec, root: Path, *, writing: bool = False) -> Iterator[Connection]:
    """Give a connection in a transaction that reads only, unless said. Raises OSError without secrets."""
    with refusals(spec):
        engine = _engine(spec, root, "rw" if writing else "ro")
        before = _signs(spec, root)
        try:
            with engine.connect() as connection:
                if not writing:
                    _read_only(connection, _longest(spec))
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
    from sqlalchemy.exc import SQLAlchemyError

    try:
        yield
    except SQLAlchemyError as error:
        _certificates.clear()  # the server may be set up in another way by now
        raise OSError(errno.EIO, said_by_database(spec, error)) from None
    except (RuntimeError, ValueError, LookupError, TypeError, AttributeError, struct.error) as error:
        if not _is_of_driver(error):
            raise
        what = f"what the server sent cannot be understood ({type(error).__name__})"
        raise OSError(errno.EPROTO, what) from None


def _is_of_driver(error: BaseException) -> bool:
    """Say whether an error comes out of the driver of a database, which a server can mislead."""
    at, last = error.__traceback__, ""
    while at:
        last = at.tb_frame.f_globals.get("__name__", "")
        at = at.tb_next
    return last.partition(".")[0] in ("pymysql", "psycopg", "sqlalchemy", "struct")


def _read_only(connection: Connection, longest: int) -> None:
    """Begin a transaction in which nothing can be written."""
    match connection.dialect.name:
        case "postgresql":
            connection.exec_driver_sql("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ READ ONLY")
            connection.exec_driver_sql("SET LOCAL datestyle TO ISO")
        case "mysql":
            connection.exec_driver_sql("SET SESSION TRANSACTION READ ONLY")
            is_mariadb = getattr(connection.dialect, "is_mariadb", False)
            name, most = (
                ("max_statement_time", longest)
                if is_mariadb
                else ("max_execution_time", longest * _A_MILLISECOND)
            )
            connection.exec_driver_sql(f"SET SESSION lock_wait_timeout = {min(longest, _PATIENCE)}")
            connection.exec_driver_sql(f"SET SESSION {name} = {most}")
            connection.rollback()
        case _:  # a file is opened for reading only
            connection.exec_driver_sql("PRAGMA query_only = 1")
