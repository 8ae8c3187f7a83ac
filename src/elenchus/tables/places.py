"""Where tables are: folders of Parquet, files of DuckDB, servers of PostgreSQL, and Spark over a folder."""

from __future__ import annotations

import os
import sys
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import quote, unquote

from elenchus.errors import OptionError, Problem, SiteError
from elenchus.files import is_file, read_whole
from elenchus.tables.backend import (
    SCHEMA,
    DuckBackend,
    PostgresBackend,
    SparkBackend,
    duckdb_errors,
    no_tables,
    of_engine,
    postgresql_errors,
    read_description,
    spark_errors,
)
from elenchus.tables.layout import sql_text
from elenchus.userdata import CLIENT_PASSWORD, is_allowed, not_allowed
from elenchus.values.addresses import is_of_this_machine, split_address
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator
    from contextlib import AbstractContextManager
    from urllib.parse import SplitResult

    from elenchus.tables.backend import Backend, Described

__all__ = [
    "ABOUT",
    "backend_of",
    "from_folder",
    "is_folder",
    "is_server",
    "path_of",
    "postgresql_options",
    "reaching_duckdb",
    "reaching_postgresql",
    "refuse_unknown_host",
    "scheme_of",
]

ABOUT = "elenchus.json"  # the file that describes tables in a folder
_LARGEST = 2**26  # bytes of a description
# Tables may come from somebody else: nothing is loaded for them.
_CLOSED = {"autoinstall_known_extensions": False, "autoload_known_extensions": False}


def backend_of(place: str) -> Backend:
    """Return what runs questions on tables at a place.

    That is a folder of Parquet, ``duckdb:///file``, ``postgresql://…``, or ``spark://host:port/folder`` and
    ``spark:folder`` for a cluster and for Spark in this process. Raises OptionError for others, SiteError
    where nothing can be reached.
    """
    import ibis

    if scheme_of(place) == "duckdb":
        path = path_of(place)
        if not is_file(path):
            raise no_tables(place)
        with reaching_duckdb(place):
            found = DuckBackend(place, ibis.duckdb.connect(path, read_only=True, **_CLOSED))
            found.connection.con.execute("SET enable_external_access = false")
        if wrong := found.foreign():
            raise no_tables(place, wrong)
        return found
    if is_server(place):
        options = postgresql_options(place)
        database = options.pop("dbname", None)
        with reaching_postgresql(place):
            return PostgresBackend(
                place,
                ibis.postgres.connect(database=database, autocommit=True, options=_settings(), **options),
            )
    if scheme_of(place) == "spark":
        return _over_spark(place)
    if is_folder(place):
        return _over_parquet(place)
    known = "a folder, duckdb:///FILE, postgresql://…, spark:FOLDER or spark://HOST:PORT/FOLDER"
    raise OptionError(
        [Problem("unknown-engine", f"{quoted(place)} is no place of tables", f"Write {known}.")]
    )


def is_folder(place: str) -> bool:
    """Say whether a place is a folder: it has no scheme, or the letter of a drive."""
    return len(scheme_of(place)) <= 1


def scheme_of(place: str) -> str:
    """Return the scheme of an address of tables, empty for a folder. Raises OptionError for no address."""
    return _parts(place).scheme


def _parts(place: str) -> SplitResult:
    found = split_address(place)
    if found is None or "\0" in place:
        hint = "Write a folder, duckdb:///FILE, or postgresql://USER@HOST/DATABASE."
        raise OptionError([Problem("unknown-engine", f"{quoted(place)} is no address of tables", hint)])
    return found


def from_folder(place: str, folder: Path) -> str:
    """Return a place as it is written in a folder, in which its paths begin."""
    scheme = scheme_of(place)
    if is_folder(place):
        return str(folder / place)
    if scheme == "duckdb":
        return f"duckdb:///{quote(str(folder / path_of(place)))}"
    path = folder / unquote(_parts(place).path)
    return place if scheme != "spark" or _parts(place).netloc else f"spark:{quote(str(path))}"


def is_server(place: str) -> bool:
    """Say whether a place is a server of PostgreSQL."""
    return scheme_of(place) in ("postgresql", "postgres")


def path_of(place: str) -> Path:
    """Return the file of an address such as duckdb:///notes.duckdb, which is one of the working directory."""
    parts = _parts(place)
    if parts.netloc:  # duckdb://../t.duckdb would silently mean another file
        hint = f"Write three slashes: duckdb:///{parts.netloc}{parts.path}."
        message = f"{quoted(place)} names a host, and a file of DuckDB has none"
        raise OptionError([Problem("unknown-engine", message, hint)])
    return Path(unquote(parts.path.removeprefix("/")))


def _settings() -> str:
    """Return the settings of a connection; those of the environment have the last word.

    Our statements have hundreds of expressions, each cheap: to compile them takes longer than to run them.
    Memory is for the rows that a subquery has and a negation keeps; the server's own setting is 4 MB, which
    is enough for some ten thousand.
    """
    return f"-c jit=off -c work_mem=64MB {os.environ.get('PGOPTIONS', '')}".strip()


def postgresql_options(place: str) -> dict[str, Any]:
    """Return how a server is connected to. Raises OptionError for a password, which is the environment's.

    What the address does not say is for the variables of the environment that all clients of PostgreSQL know.
    """
    parts = _parts(place)
    if parts.password is not None:
        hint = "Put it into the variable PGPASSWORD of the environment."
        raise OptionError([Problem("secret-in-address", "an address has no place for a password", hint)])
    try:
        port = parts.port
    except ValueError as error:
        hint = "Write it as postgresql://USER@HOST:PORT/DATABASE."
        raise OptionError([Problem("unknown-engine", f"{quoted(place)}: {error}", hint)]) from None
    host = parts.hostname or ""
    is_away = not is_of_this_machine(host) and "PGSSLMODE" not in os.environ
    is_secret = is_away and bool(os.environ.get(CLIENT_PASSWORD))
    wanted = {
        "sslmode": "require" if is_secret else None,  # a password is never sent in plain text
        "host": parts.hostname,
        "port": port,
        "user": unquote(parts.username) if parts.username else None,
        "dbname": unquote(parts.path.strip("/")) or None,
    }
    return {name: value for name, value in wanted.items() if value is not None}


def refuse_unknown_host(place: str) -> None:
    """Raise SiteError for a server that a site file names, if it would get a password never meant for it."""
    host = _parts(place).hostname or ""
    if not is_server(place) or not os.environ.get(CLIENT_PASSWORD) or is_allowed(CLIENT_PASSWORD, host):
        return
    message, hint = not_allowed(CLIENT_PASSWORD, host)
    raise SiteError([Problem("cannot-reach", message, hint)])


def reaching_duckdb(place: str) -> AbstractContextManager[None]:
    """Let what DuckDB refuses of a file be an error of ours."""
    hint = "Name a file of DuckDB that no other program is writing, or one that is not there yet."
    return of_engine(duckdb_errors(), "cannot-reach", f"{quoted(place)} cannot be opened", hint)


def reaching_postgresql(place: str) -> AbstractContextManager[None]:
    """Let what a server refuses be an error of ours."""
    hint = (
        "Its address names the server, PGPASSWORD holds the password; the user must own its tables to write."
    )
    return of_engine(postgresql_errors(), "cannot-reach", f"{quoted(place)} cannot be used", hint)


def _described_in(folder: Path) -> str | None:
    """Return the description of the tables in a folder, None where there is none. Raises SiteError."""
    try:
        return read_whole(folder / ABOUT, _LARGEST).decode() if is_file(folder / ABOUT) else None
    except (OSError, ValueError) as error:
        raise no_tables(str(folder), str(error)) from None


def _over_parquet(place: str) -> Backend:
    """Return DuckDB over the files of a folder."""
    import ibis

    told = _described_in(Path(place))
    if told is None:
        raise no_tables(place)
    found = DuckBackend(place, ibis.duckdb.connect(**_CLOSED))
    raw = found.connection.con
    raw.execute(f"CREATE SCHEMA {SCHEMA}")
    raw.execute(f"CREATE TABLE {SCHEMA}.about AS SELECT $1 AS told", [told])
    with found.reading():
        every = _files(found.about, Path(place))
        raw.execute("SET allowed_paths = " + _list(str(each) for _, files in every for each in files))
        raw.execute("SET enable_external_access = false")
        for table, files in every:
            raw.execute(f"CREATE VIEW {SCHEMA}.{table} AS SELECT * FROM read_parquet({_list(files)})")
    return found


def _list(texts: Iterable[str]) -> str:
    """Return texts as a list of SQL."""
    return f"[{', '.join(map(sql_text, texts))}]"


def _over_spark(place: str) -> Backend:
    """Return Spark over the files of a folder: in this process, or in the cluster of a master."""
    import ibis
    from pyspark.sql import SparkSession

    parts = _parts(place)
    folder = Path(unquote(parts.path))
    told = _described_in(folder)
    if told is None:
        raise no_tables(place)
    files = _files(read_description(told, place), folder)
    settings = {
        "spark.sql.session.timeZone": "UTC",
        "spark.ui.enabled": "false",
        "spark.ui.showConsoleProgress": "false",
        "spark.sql.ansi.enabled": "true",  # what overflows is refused, and not answered wrongly
    }
    if not parts.netloc:  # few rows at a time, so that a step need not be cut in hundreds
        settings |= {"spark.sql.shuffle.partitions": "4", "spark.driver.memory": "2g"}
    builder = SparkSession.builder.appName("elenchus")
    builder = builder.master(f"spark://{parts.netloc}" if parts.netloc else "local[*]")
    for name, value in settings.items():
        builder = builder.config(name, value)
    hint = "Spark needs Java 17 or 21; the address of a cluster is spark://HOST:PORT/FOLDER."
    with of_engine(spark_errors(), "cannot-reach", f"{quoted(place)} cannot be used", hint):
        with _without_a_word():
            session = builder.getOrCreate()
        session.sparkContext.setLogLevel("ERROR")
        found = SparkBackend(place, ibis.pyspark.connect(session), told)
    with found.reading():
        for table, paths in files:
            session.read.parquet(*paths).createOrReplaceTempView(table)
    return found


@contextmanager
def _without_a_word() -> Iterator[None]:
    """Let what a process that is started now writes beside its work go nowhere, unless that is looked for.

    Java tells of its modules and of the name of the machine before anything can be set.
    """
    if os.environ.get("ELENCHUS_TRACEBACK"):
        yield
        return
    sys.stderr.flush()
    before, nowhere = os.dup(2), os.open(os.devnull, os.O_WRONLY)
    os.dup2(nowhere, 2)
    try:
        yield
    finally:
        os.dup2(before, 2)
        os.close(before)
        os.close(nowhere)


def _files(about: Described, folder: Path) -> list[tuple[str, list[str]]]:
    """Return each table of a folder with the paths of its files. Raises SiteError where one is no file."""
    found = []
    for table in about.layout.tables:
        paths = [folder / each for each in about.files.get(table.name, ())]
        wrong = next((each for each in paths if each.is_symlink() or not is_file(each)), None)
        if wrong or not paths or (folder / table.name).is_symlink():
            name = wrong.relative_to(folder).as_posix() if wrong else table.name
            raise no_tables(str(folder), f"{name} is not there, or no regular file")
        found.append((table.name, [str(each.absolute()) for each in paths]))
    return found
