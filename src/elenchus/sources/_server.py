"""The server of a database: where it is, how it is reached, and what a session that reads may do there.

Connections are those of the drivers. What only asks whether anything has changed needs no more than these;
all else asks through SQLAlchemy, on the same connections.
"""

from __future__ import annotations

import errno
import os
import re
from typing import TYPE_CHECKING, Any
from urllib.parse import parse_qsl, unquote

from elenchus.frozen import Frozen, member, replace
from elenchus.userdata import CLIENT_PASSWORD, is_allowed, not_allowed
from elenchus.values.addresses import is_of_this_machine
from elenchus.values.lazily import pattern

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping

    from psycopg import Connection as Session
    from psycopg.abc import Buffer

    from elenchus.sources._spec import SourceSpec

__all__ = [
    "PATIENCE",
    "DatabaseServer",
    "driver_connection",
    "forget_certificates",
    "longest",
    "only_reading",
    "server_of",
]

# What SQLAlchemy calls each sort of database with its driver, and the extra of this package that has that.
_DRIVERS = {
    "postgresql": ("postgresql+psycopg", "postgresql"),
    "mysql": ("mysql+pymysql", "mariadb"),
    "mariadb": ("mysql+pymysql", "mariadb"),
}
PATIENCE = 10  # seconds for a connection, and for a table that is locked
_A_MILLISECOND = 1000
# What an address may say behind its “?”. Others read files, run statements, or let the server ask for files.
_OPTIONS = {
    "postgresql": {"application_name", "sslmode", "sslrootcert"},
    "mysql": {"charset", "ssl_ca", "ssl_verify_cert", "ssl_verify_identity"},
}
_ENCRYPTED = ("require", "verify-ca", "verify-full")  # values of sslmode that never fall back to plain text
_YES = ("1", "true", "yes")
# Certificates as they were loaded for a server, which takes longer than a query; None if it does not encrypt.
_certificates: dict[str, Any] = {}
# RFC 3986, but that a password may hold any sign except “@”, as people write them.
_ADDRESS = pattern(
    r"(?P<sort>\w+)(?:\+\w+)?://"
    r"(?:(?P<user>[^:/@]*)(?::(?P<password>[^@]*))?@)?"
    r"(?:\[(?P<literal>[^\]/?]+)\]|(?P<host>[^:/?]*))(?::(?P<port>\d{1,5}))?"
    r"(?:/(?P<database>[^?]*))?(?:\?(?P<options>.*))?",
    re.DOTALL,
)


class DatabaseServer(Frozen):
    """A database on a server; ``sort`` is ``postgresql`` or ``mysql``, ``called`` the word in its address."""

    sort: str
    called: str
    host: str = ""
    port: int | None = None
    user: str = ""
    password: str = ""
    database: str = ""
    options: Mapping[str, str] = member(default_factory=dict)

    def __repr__(self) -> str:
        """Return what can be shown to anybody: not the password."""
        return f"{self.called}://{self.machine}/{self.database}"

    @property
    def dialect(self) -> str:
        """What SQLAlchemy calls it with its driver."""
        return _DRIVERS[self.called][0]

    @property
    def machine(self) -> str:
        """Which server it is on."""
        return f"{self.host}:{self.port}"

    @property
    def arguments(self) -> dict[str, Any]:
        """What both drivers need to reach it."""
        told = {"host": self.host, "port": self.port, "user": self.user, "password": self.password}
        return {name: value for name, value in told.items() if value}

    def missing_driver(self) -> OSError:
        """Return the error of a driver that is not installed."""
        return OSError(
            errno.ENOSYS, f"its driver is missing: pip install 'elenchus[{_DRIVERS[self.called][1]}]'"
        )


def server_of(spec: SourceSpec) -> DatabaseServer:
    """Return the server of a source, with its password. Raises OSError."""
    table = spec.table
    found = _server(_variable(table.url_from) if table and table.url_from else table.url if table else "")
    for name in found.options:
        if name not in _OPTIONS[found.sort]:
            allowed = ", ".join(sorted(_OPTIONS[found.sort]))
            raise OSError(
                errno.EPERM, f"the option {name} of its address is not allowed; allowed are {allowed}"
            )
    if table and table.password_from:
        found = replace(found, password=_variable(table.password_from))
    if not (table and table.url_from):  # else the user wrote the address beside the password
        _check_host(found, table.password_from if table else "")
    if found.password and not is_of_this_machine(found.host) and found.sort == "postgresql":
        mode = found.options.get("sslmode", "require")
        if mode not in _ENCRYPTED:
            raise OSError(errno.EPERM, f"a password is never sent in plain text, and sslmode is {mode}")
        found = replace(found, options={**found.options, "sslmode": mode})
    return found


def _server(address: str) -> DatabaseServer:
    """Return the server that an address names. Raises OSError."""
    match = _ADDRESS.fullmatch(address)
    if match is None:
        raise OSError(errno.EINVAL, "its address is no URL such as postgresql://reader@localhost/bay")
    called = match["sort"]
    if called not in _DRIVERS:
        raise OSError(
            errno.EINVAL, f"nothing here reads {called}; known are PostgreSQL, MySQL, MariaDB and SQLite"
        )
    return DatabaseServer(
        sort="postgresql" if called == "postgresql" else "mysql",
        called=called,
        host=match["literal"] or match["host"] or "",
        port=int(match["port"]) if match["port"] else None,
        user=unquote(match["user"] or ""),
        password=unquote(match["password"] or ""),
        database=match["database"] or "",
        options=dict(parse_qsl(match["options"] or "", keep_blank_values=True)),
    )


def _check_host(server: DatabaseServer, variable: str) -> None:
    """Raise OSError if a variable would be sent to a server for which the user has not allowed it.

    The site names both, and the site may come from somebody else.
    """
    if not variable and server.sort == "postgresql" and os.environ.get(CLIENT_PASSWORD):
        variable = CLIENT_PASSWORD
    if variable and not is_allowed(variable, server.host):
        message, hint = not_allowed(variable, server.host)
        raise OSError(errno.EPERM, f"{message}. {hint.rstrip('.')}")


def _variable(name: str) -> str:
    """Return a variable of the environment. Raises OSError where it is not set."""
    found = os.environ.get(name)
    if found is None:
        raise OSError(errno.EACCES, f"the variable {name} of the environment is not set")
    return found


def longest(spec: SourceSpec) -> int:
    """Return how many seconds a statement may take."""
    return spec.table.timeout if spec.table else PATIENCE


def driver_connection(spec: SourceSpec, server: DatabaseServer, *, writing: bool = False) -> Any:
    """Return a connection of a driver (DB-API 2.0). Raises OSError, or what the driver raises."""
    try:
        if server.sort == "postgresql":
            return _postgresql(server, longest(spec), writing=writing)
        return _mysql(server, longest(spec))
    except ImportError:
        raise server.missing_driver() from None


def _postgresql(server: DatabaseServer, seconds: int, *, writing: bool) -> Session[Any]:
    """Return a session of PostgreSQL, in which no statement takes long or waits long for a locked table."""
    import psycopg

    wanted: dict[str, Any] = {**server.arguments, **server.options, "dbname": server.database or None}
    # What is prepared is one statement, whatever its text holds.
    found = psycopg.connect(**wanted, connect_timeout=PATIENCE, prepare_threshold=0)
    _take_times_as_texts(found)
    found.execute(f"SET statement_timeout = {seconds * _A_MILLISECOND}")
    found.execute(f"SET lock_timeout = {min(seconds, PATIENCE) * _A_MILLISECOND}")
    if not writing:
        found.execute("SET default_transaction_read_only = on")
    found.commit()
    return found


def _take_times_as_texts(session: Session[Any]) -> None:
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
        session.adapters.register_loader(name, TextLoader)
    session.adapters.register_loader("timestamptz", _Instants)


def _mysql(server: DatabaseServer, seconds: int) -> Any:
    """Return a connection to MySQL or MariaDB."""
    import pymysql
    from pymysql.constants import CLIENT

    found = pymysql.connect(
        **server.arguments, **_encryption(server), database=server.database or None, charset="utf8mb4",
        connect_timeout=PATIENCE, read_timeout=seconds + PATIENCE, write_timeout=seconds,
        client_flag=CLIENT.FOUND_ROWS,  # a row that is written as it was counts as written
    )  # fmt: skip
    _certificates[server.machine] = found.ctx if found.server_capabilities & CLIENT.SSL else None
    return found


def _encryption(server: DatabaseServer) -> dict[str, Any]:
    """Return how PyMySQL is to encrypt: a password goes to other machines in no other way."""
    told = {name: value for name, value in server.options.items() if name.startswith("ssl_")}
    if told:
        asked: dict[str, Any] = {"ca": told["ssl_ca"]} if "ssl_ca" in told else {}
        if "ssl_verify_cert" in told:
            asked["verify_mode"] = told["ssl_verify_cert"].lower() in _YES
        if "ssl_verify_identity" in told:
            asked["check_hostname"] = told["ssl_verify_identity"].lower() in _YES
        return {"ssl": asked}
    if server.password and not is_of_this_machine(server.host):  # else it falls back to plain text
        return {"ssl": _certificates.get(server.machine) or {"check_hostname": False}}
    if server.machine not in _certificates:
        return {}  # it asks the server
    known = _certificates[server.machine]
    return {"ssl": known} if known else {"ssl_disabled": True}


def forget_certificates() -> None:
    """Load certificates anew: a server that refused may be set up in another way by now."""
    _certificates.clear()


def only_reading(sort: str, seconds: int, *, is_mariadb: bool) -> Iterator[str]:
    """Yield the statements that begin a transaction of a server in which nothing can be written."""
    if sort == "postgresql":
        yield "SET TRANSACTION ISOLATION LEVEL REPEATABLE READ READ ONLY"
        yield "SET LOCAL datestyle TO ISO"
        return
    name, most = (
        ("max_statement_time", seconds) if is_mariadb else ("max_execution_time", seconds * _A_MILLISECOND)
    )
    yield "SET SESSION TRANSACTION READ ONLY"
    yield f"SET SESSION lock_wait_timeout = {min(seconds, PATIENCE)}"
    yield f"SET SESSION {name} = {most}"
    yield "ROLLBACK"  # what is set holds from the next transaction on
