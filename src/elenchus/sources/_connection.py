"""Connections to databases that only read, and whose secrets are told to nobody."""

from __future__ import annotations

import errno
import os
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from elenchus.files import is_file
from elenchus.values.addresses import without_password

if TYPE_CHECKING:
    from collections.abc import Iterator
    from pathlib import Path

    from psycopg import Connection as Server
    from psycopg.abc import Buffer
    from sqlalchemy import Connection, Engine
    from sqlalchemy.engine import URL

    from elenchus.sources import SourceSpec

__all__ = ["connected", "place_of", "refusals"]

# The drivers of each sort of database, and the extra of this package that has one.
_DRIVERS = {
    "postgresql": ("postgresql+psycopg", "postgresql"),
    "mysql": ("mysql+pymysql", "mariadb"),
    "mariadb": ("mysql+pymysql", "mariadb"),
}
_PATIENCE = 10  # seconds until a database that does not answer is given up


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
    password = _variable(table.password_from) if table and table.password_from else url.password
    return url.set(drivername=_DRIVERS[sort][0], password=password)


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
        return sqlalchemy.create_engine(
            "sqlite://",
            creator=lambda: sqlite3.connect(address, uri=True, timeout=_PATIENCE, check_same_thread=False),
            poolclass=NullPool,
        )
    url = _url_of(spec)
    arguments: dict[str, Any] = {"connect_timeout": _PATIENCE}
    if url.get_backend_name() == "mysql":
        arguments["charset"] = "utf8mb4"
    try:
        engine = sqlalchemy.create_engine(url, poolclass=NullPool, connect_args=arguments)
    except ImportError:
        extra = next(extra for name, extra in _DRIVERS.values() if name == url.drivername)
        raise OSError(errno.ENOSYS, f"its driver is missing: pip install 'elenchus[{extra}]'") from None
    if url.get_backend_name() == "postgresql":
        sqlalchemy.event.listen(engine, "connect", _times_as_texts)
    return engine


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


@contextmanager
def connected(spec: SourceSpec, root: Path, *, writing: bool = False) -> Iterator[Connection]:
    """Give a connection in a transaction that reads only, unless said. Raises OSError without secrets."""
    with refusals(spec):
        engine = _engine(spec, root, "rw" if writing else "ro")
        try:
            with engine.connect() as connection:
                if not writing:
                    _read_only(connection)
                elif connection.dialect.name == "postgresql":
                    connection.exec_driver_sql("SET LOCAL datestyle TO ISO")
                yield connection
        finally:
            engine.dispose()


@contextmanager
def refusals(spec: SourceSpec) -> Iterator[None]:
    """Let what a database refuses be an OSError, whose text has no secret."""
    from sqlalchemy.exc import SQLAlchemyError

    try:
        yield
    except SQLAlchemyError as error:
        raise OSError(errno.EIO, _told(spec, error)) from None


def _read_only(connection: Connection) -> None:
    """Begin a transaction in which nothing can be written."""
    match connection.dialect.name:
        case "postgresql":
            connection.exec_driver_sql("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ READ ONLY")
            connection.exec_driver_sql("SET LOCAL datestyle TO ISO")
        case "mysql":
            connection.exec_driver_sql("SET SESSION TRANSACTION READ ONLY")
            connection.rollback()
        case _:  # a file is opened for reading only
            connection.exec_driver_sql("PRAGMA query_only = 1")


def _told(spec: SourceSpec, error: Exception) -> str:
    """Return what a database says of an error, on one line and without secrets."""
    said = str(getattr(error, "orig", None) or error)
    line = " ".join(said.split())[:300]
    table = spec.table
    names = [name for name in (table.password_from, table.url_from) if name] if table else []
    for secret in (os.environ.get(name, "") for name in names):
        line = line.replace(secret, "…") if secret else line
    return without_password(line)
