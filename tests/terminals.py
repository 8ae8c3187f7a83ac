"""A terminal for programs, whose screen is read as people see it."""

from __future__ import annotations

import fcntl
import os
import pty
import select
import signal
import struct
import termios
import time
from pathlib import Path

import pyte
import pytest

KEYS = {
    "enter": "\r",
    "tab": "\t",
    "esc": "\x1b",
    "down": "\x1b[B",
    "next": "\x0e",
    "switch": "\x14",
    "undo": "\x1a",
    "end": "\x11",
}


class Terminal:
    """The program on a terminal of its own, whose screen is read as people see it."""

    def __init__(
        self, folder: Path, program: str, *arguments: str, columns: int = 110, rows: int = 34, **settings: str
    ) -> None:
        self.screen = pyte.Screen(columns, rows)
        self.stream = pyte.ByteStream(self.screen)
        self.pid, self.file = pty.fork()
        if not self.pid:
            os.chdir(folder)
            environment = {
                "PATH": os.environ["PATH"],
                "HOME": str(folder),
                "TERM": "xterm-256color",
                **settings,
            }
            os.execve(program, [program, *arguments], environment)  # noqa: S606
        self.resize(columns, rows)

    def resize(self, columns: int, rows: int) -> None:
        """Give the terminal another size."""
        fcntl.ioctl(self.file, termios.TIOCSWINSZ, struct.pack("HHHH", rows, columns, 0, 0))
        self.screen.resize(rows, columns)
        os.kill(self.pid, signal.SIGWINCH)

    def type(self, text: str) -> None:
        """Type a text, or press a key by its name."""
        os.write(self.file, KEYS.get(text, text).encode())

    def until(self, *awaited: str, without: str = "\0", seconds: float = 30) -> str:
        """Return the screen as soon as it has all that is awaited."""
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            shown = "\n".join(self.screen.display)
            if all(each in shown for each in awaited) and without not in shown:
                return shown
            if select.select([self.file], [], [], 0.2)[0]:
                try:
                    self.stream.feed(os.read(self.file, 65536))
                except OSError:
                    break
        pytest.fail(f"{awaited} is not on the screen:\n" + "\n".join(self.screen.display))

    def close(self) -> None:
        """End the program."""
        try:
            os.kill(self.pid, signal.SIGKILL)
        finally:
            os.waitpid(self.pid, 0)
            os.close(self.file)
