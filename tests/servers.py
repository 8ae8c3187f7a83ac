"""Real database servers for the tests: started in a folder of their own, and ended with them."""

from __future__ import annotations

import os
import secrets
import shutil
import socket
import subprocess
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

import pytest

PASSWORD = "tide & ebb: 7/8@bay"  # noqa: S105 - of a server that lives as long as a test
_PATIENCE = 60


def _as(user: str, command: list[str]) -> list[str]:
    """Return a command that does not run as the superuser, whom servers refuse."""
    return ["runuser", "-u", user, "--", *command] if os.geteuid() == 0 else command


def _port() -> int:
    """Return a free port below those that outgoing connections are given, so that none takes it meanwhile."""
    while True:
        port = secrets.choice(range(20_000, 32_000))
        with socket.socket() as free, suppress(OSError):
            free.bind(("127.0.0.1", port))
            return port


def found(name: str, *places: str) -> str:
    """Return a program; without it the tests that need it are skipped, but on the build machine they fail."""
    path = os.pathsep.join([*places, os.environ["PATH"], "/usr/sbin"])
    found = shutil.which(name, path=path)
    if found is None:
        (pytest.fail if os.environ.get("CI") else pytest.skip)(f"there is no {name}")
    return str(found)


def home(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Return a folder that the user of a server can reach, whose password stands in the environment."""
    found = tmp_path_factory.mktemp("server", numbered=True)
    os.environ["BAY_PASSWORD"] = PASSWORD
    for path in (found, *found.parents):
        if path.stat().st_uid == os.geteuid() and path != Path("/tmp"):  # noqa: S108 - what leads to the server's folder
            path.chmod(path.stat().st_mode | 0o011)
    return found


class _Server:
    """A server that runs, and can be stopped and begun again."""

    def __init__(self, command: list[str], ready: Callable[[], Any]) -> None:
        self.command = command
        self.ready = ready
        self.begin()

    def begin(self) -> None:
        """Run it until it answers; where what it left behind is in the way, once more."""
        begun = time.monotonic()
        self.process = subprocess.Popen(self.command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        while True:
            try:
                self.ready()
            except Exception:
                if time.monotonic() - begun > _PATIENCE:
                    self.end()
                    raise
                time.sleep(0.1)
            else:
                return
            if self.process.poll() is not None:
                self.process = subprocess.Popen(
                    self.command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
                )

    def end(self) -> None:
        """Stop it."""
        self.process.terminate()
        self.process.wait(_PATIENCE)


_SERVERS: dict[str, _Server] = {}


@contextmanager
def _running(url: str, command: list[str], ready: Callable[[], Any]) -> Iterator[None]:
    """Run a server until it answers, and to the end of the block."""
    _SERVERS[url] = _Server(command, ready)
    try:
        yield
    finally:
        _SERVERS.pop(url).end()


@contextmanager
def down(url: str) -> Iterator[None]:
    """Stop the server of an address, and begin it again at the end of the block."""
    _SERVERS[url].end()
    try:
        yield
    finally:
        _SERVERS[url].begin()


@contextmanager
def postgresql(folder: Path) -> Iterator[tuple[str, Callable[[], Any]]]:
    """Give the address of a PostgreSQL server for a reader, and what connects as its owner."""
    import psycopg

    places = [str(path) for path in sorted(Path("/usr/lib/postgresql").glob("*/bin"), reverse=True)]
    if os.geteuid() == 0:
        shutil.chown(folder, "postgres")
    data, port = folder / "data", _port()
    init = [found("initdb", *places), "-D", str(data), "-A", "scram-sha-256", "-U", "owner", "-E", "UTF8"]
    secret = folder / "secret"
    secret.write_text(f"{PASSWORD}\n", encoding="utf-8")
    if os.geteuid() == 0:
        shutil.chown(secret, "postgres")
    subprocess.run(
        _as("postgres", [*init, f"--pwfile={secret}"]), check=True, capture_output=True, cwd=folder
    )
    options = [
        "-D",
        str(data),
        "-p",
        str(port),
        "-k",
        str(data),
        "-c",
        "fsync=off",
        "-c",
        "listen_addresses=127.0.0.1",
    ]

    def connect() -> Any:
        return psycopg.connect(
            host="127.0.0.1", port=port, user="owner", password=PASSWORD, dbname="postgres", autocommit=True
        )

    url = f"postgresql://reader@127.0.0.1:{port}/postgres"
    command = _as("postgres", [found("postgres", *places[:1]), *options])
    with _running(url, command, lambda: connect().close()):
        with connect() as owner:
            owner.execute(f"CREATE ROLE reader LOGIN PASSWORD '{PASSWORD}'")
            owner.execute("GRANT pg_read_all_data TO reader")
        yield url, connect


@contextmanager
def mariadb(folder: Path) -> Iterator[tuple[str, Callable[[], Any]]]:
    """Give the address of a MariaDB server for a reader, and what connects as its owner."""
    import pymysql

    data, port, own = folder / "data", _port(), folder / "server.sock"
    user = ["--user=mysql"] if os.geteuid() == 0 else []
    if user:
        shutil.chown(folder, "mysql")
    install = [
        found("mariadb-install-db"),
        "--no-defaults",
        f"--datadir={data}",
        "--auth-root-authentication-method=normal",
    ]
    subprocess.run([*install, *user, "--skip-test-db"], check=True, capture_output=True)
    server = [
        found("mariadbd"),
        "--no-defaults",
        f"--datadir={data}",
        f"--port={port}",
        f"--socket={own}",
        *user,
    ]

    def connect() -> Any:
        return pymysql.connect(unix_socket=str(own), user="root", charset="utf8mb4", autocommit=True)

    url = f"mariadb://reader@127.0.0.1:{port}/bay"
    with _running(
        url,
        [*server, "--bind-address=127.0.0.1", "--character-set-server=utf8mb4"],
        lambda: own.stat() and connect().close(),
    ):
        with connect() as owner, owner.cursor() as cursor:
            cursor.execute("CREATE DATABASE bay")
            cursor.execute("CREATE USER reader@'127.0.0.1' IDENTIFIED BY %s", [PASSWORD])
            cursor.execute("GRANT SELECT ON bay.* TO reader@'127.0.0.1'")
        yield (
            url,
            lambda: pymysql.connect(
                unix_socket=str(own), user="root", database="bay", charset="utf8mb4", autocommit=True
            ),
        )
