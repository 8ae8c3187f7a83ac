"""The program in a process that has all of it loaded, and forks for each run.

A run has its own process, folder, environment and streams, as one from a shell has; only loading the program,
which takes longer than most runs do, is done once. ``python ready.py FD`` waits at a socket for runs.
"""

from __future__ import annotations

import gc
import json
import os
import socket
import subprocess
import sys
import threading
import time
import traceback
from collections.abc import Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any

_STREAMS = (0, 1, 2)


class Ready:
    """A process that is ready to run the program; it begins with the first run."""

    def __init__(self) -> None:
        self.lock = threading.Lock()
        self.process: subprocess.Popen[bytes] | None = None
        self.here: socket.socket | None = None

    def run(
        self,
        command: Sequence[str],
        *,
        cwd: Path,
        env: Mapping[str, str],
        typed: str = "",
        timeout: float | None = None,
    ) -> subprocess.CompletedProcess[str]:
        """Run a command to its end. Raises subprocess.TimeoutExpired."""
        files = [os.memfd_create(name) for name in ("in", "out", "err")]
        try:
            with os.fdopen(os.dup(files[0]), "wb") as given:
                given.write(typed.encode())
            paths = [f"/proc/{os.getpid()}/fd/{each}" for each in files]
            call = {"command": list(command), "cwd": str(cwd), "env": dict(env), "streams": paths}
            code = self._called(call, timeout)
            out, err = (_text(each) for each in files[1:])
            return subprocess.CompletedProcess(command, code, out, err)
        finally:
            for each in files:
                os.close(each)

    def _called(self, call: dict[str, Any], timeout: float | None) -> int:
        with self.lock:
            if self.here is None:
                self.here, there = socket.socketpair()
                own = [sys.executable, __file__, str(there.fileno())]
                clean = {"PATH": os.environ["PATH"], "COLUMNS": "100", "OPENBLAS_NUM_THREADS": "1"}
                self.process = subprocess.Popen(
                    own,
                    env=clean,
                    pass_fds=[there.fileno()],
                    stdin=subprocess.DEVNULL,
                    stdout=subprocess.DEVNULL,
                )
                there.close()
            self.here.sendall(json.dumps(call).encode() + b"\n")
            self.here.settimeout(None)
            pid = int(_line(self.here))
            try:
                self.here.settimeout(timeout)
                return int(_line(self.here))
            except TimeoutError:
                os.kill(pid, 9)
                self.here.settimeout(None)
                _line(self.here)
                raise subprocess.TimeoutExpired(call["command"], timeout or 0) from None

    def close(self) -> None:
        """End the process."""
        if self.process and self.here:
            self.here.close()
            self.process.wait()


def _text(file: int) -> str:
    """Return what was written to a file, with the ends of lines as Python reads them."""
    with os.fdopen(os.dup(file), "rb") as written:
        written.seek(0)
        return written.read().decode("utf-8").replace("\r\n", "\n").replace("\r", "\n")


def _line(wire: socket.socket) -> bytes:
    """Return the next line of a socket; nothing at its end."""
    found = b""
    while not found.endswith(b"\n"):
        more = wire.recv(1 << 16)
        if not more:
            return b""  # the other side has ended
        found += more
    return found


def _load() -> None:
    """Load all that a run may need."""
    import pkgutil
    from importlib import import_module

    import elenchus

    for module in pkgutil.walk_packages(elenchus.__path__, "elenchus."):
        if not module.name.endswith("__main__"):
            import_module(module.name)
    gc.collect()
    gc.freeze()  # so that no run touches what it shares


def _serve(wire: socket.socket) -> dict[str, Any] | None:
    """Fork for each call that comes; return the call in the process that is to run it."""
    while line := _line(wire):
        pid = os.fork()
        if not pid:
            wire.close()
            return dict(json.loads(line))
        wire.sendall(f"{pid}\n".encode())
        _, status = os.waitpid(pid, 0)
        wire.sendall(f"{os.waitstatus_to_exitcode(status)}\n".encode())
    return None


def _become(call: Mapping[str, Any]) -> None:
    """Give this process what the call says: streams, folder, environment and arguments."""
    for number, path in zip(_STREAMS, call["streams"], strict=True):
        file = os.open(path, os.O_RDWR | os.O_APPEND)
        os.dup2(file, number)
        os.close(file)
    os.lseek(0, 0, os.SEEK_SET)
    os.environ.clear()
    os.environ.update(call["env"])
    time.tzset()
    os.chdir(call["cwd"])
    sys.argv = call["command"]


def _ended() -> int:
    """Run the program and return its exit code, with all that belongs to its end."""
    from elenchus.cli.program import main

    code = 0
    try:
        main()
    except SystemExit as stop:
        code = stop.code if isinstance(stop.code, int) else 0 if stop.code is None else 1
    except BaseException:
        traceback.print_exc()
        code = 1
    with suppress(AttributeError):
        threading._shutdown()  # type: ignore[attr-defined]  # noqa: SLF001 - waits for threads, as any end does
    import atexit

    atexit._run_exitfuncs()  # noqa: SLF001
    for stream in (sys.stdout, sys.stderr):
        stream.flush()
    return code


if __name__ == "__main__":
    _load()
    if (asked := _serve(socket.socket(fileno=int(sys.argv[1])))) is not None:
        _become(asked)
        os._exit(_ended())
