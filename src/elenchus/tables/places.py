"""Where tables are: folders of Parquet, files of DuckDB, servers of PostgreSQL, and Spark over a folder."""

from __future__ import annotations

import os
import sys
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import quote, unquote, urlsplit

from elenchus.errors import OptionError, Problem
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
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Iterator
    from contextlib import AbstractContextManager

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
]

ABOUT = "elenchus.json"  # the file that describes tables in a folder
_LARGEST = 2**26  # bytes of a description


def backend_of(place: str) -> Backend:
    """Return what runs questions on tables at a place.

    That is a folder of Parquet, ``duckdb:///file``, ``postgresql://…``, or ``spark://host:port/folder`` and
    ``spark:folder`` for a cluster and for Spark in this process. Raises OptionError for others, SiteError
    where nothing can be reached.
    """
    import ibis

    if urlsplit(place).scheme == "duckdb":
        path = path_of(place)
        if not is_file(path):
            raise no_tables(place)
        with reaching_duckdb(place):
            return DuckBackend(place, ibis.duckdb.connect(path, read_only=True))
    if is_server(place):
        options = postgresql_options(place)
        database = options.pop("dbname", None)
        with reaching_postgresql(place):
            return PostgresBackend(
                place,
                ibis.postgres.connect(database=database, autocommit=True, options=_settings(), **options),
            )
    if urlsplit(place).scheme == "spark":
        return _over_spark(place)
    if is_folder(place):
        return _over_parquet(place)
    known = "a folder, duckdb:///FILE, postgresql://…, spark:FOLDER or spark://HOST:PORT/FOLDER"
    raise OptionError(
        [Problem("unknown-engine", f"{quoted(place)} is no place of tables", f"Write {known}.")]
    )


def is_folder(place: str) -> bool:
    """Say whether a place is a folder: it has no scheme, or the letter of a drive."""
    return len(urlsplit(place).scheme) <= 1


def from_folder(place: str, folder: Path) -> str:
    """Return a place as it is written in a folder, in which its paths begin."""
    scheme = urlsplit(place).scheme
    if is_folder(place):
        return str(folder / place)
    path = folder / unquote(urlsplit(place).path.removeprefix("/" if scheme == "duckdb" else ""))
    if scheme == "duckdb":
        return f"duckdb:///{quote(str(path))}"
    return place if scheme != "spark" or urlsplit(place).netloc else f"spark:{quote(str(path))}"


def is_server(place: str) -> bool:
    """Say whether a place is a server of PostgreSQL."""
    return urlsplit(place).scheme in ("postgresql", "postgres")


def path_of(place: str) -> Path:
    """Return the file of an address such as duckdb:///notes.duckdb, which is one of the working directory."""
    return Path(unquote(urlsplit(place).path.removeprefix("/")))


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
    parts = urlsplit(place)
    if parts.password is not None:
        hint = "Put it into the variable PGPASSWORD of the environment."
        raise OptionError([Problem("secret-in-address", "an address has no place for a password", hint)])
    try:
        port = parts.port
    except ValueError as error:
        hint = "Write it as postgresql://USER@HOST:PORT/DATABASE."
        raise OptionError([Problem("unknown-engine", f"{quoted(place)}: {error}", hint)]) from None
    wanted = {
        "host": parts.hostname,
        "port": port,
        "user": unquote(parts.username) if parts.username else None,
        "dbname": unquote(parts.path.strip("/")) or None,
    }
    return {name: value for name, value in wanted.items() if value is not None}


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
    found = DuckBackend(place, ibis.duckdb.connect())
    raw = found.connection.con
    raw.execute(f"CREATE SCHEMA {SCHEMA}")
    raw.execute(f"CREATE TABLE {SCHEMA}.about AS SELECT $1 AS told", [told])
    with found.reading():
        for table, files in _files(found.about, Path(place)):
            listed = ", ".join("'" + each.replace("'", "''") + "'" for each in files)
            raw.execute(f"CREATE VIEW {SCHEMA}.{table} AS SELECT * FROM read_parquet([{listed}])")
    return found


def _over_spark(place: str) -> Backend:
    """Return Spark over the files of a folder: in this process, or in the cluster of a master."""
    import ibis
    from pyspark.sql import SparkSession

    parts = urlsplit(place)
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
    """Return each table of a folder with the paths of its files."""
    return [
        (table.name, [str(folder / each) for each in about.files.get(table.name, ())])
        for table in about.layout.tables
    ]
