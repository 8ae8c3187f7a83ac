"""Run the program again and again, and end it before its first write, its second, and so on.

``python faults.py kill|fail SITE FOLDER ARGUMENT…`` makes a copy of a site in the folder for each run, which
is called by the number of the write, and prints that number and how the run ended. What counts is what is
about to be written in the site, its index aside, and in copies of it: files that are opened for writing,
moved, linked or deleted, folders, and rows of databases. The process is killed, or the write fails as on a
full disk. What a run says stands in FOLDER/NUMBER.txt.
"""

from __future__ import annotations

import errno
import os
import shutil
import signal
import sys
import tempfile
from pathlib import Path

from elenchus import sources
from elenchus.cli import program
from elenchus.site import rows

COPIES = f"{tempfile.gettempdir()}/elenchus-"
NOT_REACHED = 99
WRITING = os.O_WRONLY | os.O_RDWR | os.O_CREAT | os.O_TRUNC
EVENTS = {"os.rename", "os.remove", "os.mkdir", "os.rmdir", "os.link", "os.truncate", "elenchus.rows"}


class Fault:
    """What happens at the write of a number in a folder."""

    def __init__(self, mode: str, at: int, folder: Path) -> None:
        self.mode = mode
        self.at = at
        self.folder = str(folder)
        self.count = 0

    def is_write(self, event: str, arguments: tuple[object, ...]) -> bool:
        """Say whether something is about to be written that counts."""
        if event == "elenchus.rows":
            return True
        if event == "open":
            flags = arguments[2]
            if not isinstance(flags, int) or not flags & WRITING:
                return False
        elif event not in EVENTS:
            return False
        named = [each for each in arguments[: 1 if event == "open" else 2] if isinstance(each, (str, bytes))]
        paths = [os.path.abspath(os.fsdecode(each)) for each in named]  # noqa: PTH100 - links are moved too
        return any(
            path.startswith(COPIES) or (path.startswith(self.folder) and "/.elenchus/" not in path)
            for path in paths
        )

    def __call__(self, event: str, arguments: tuple[object, ...]) -> None:
        """Count a write, and let the one that is wanted not happen."""
        if self.is_write(event, arguments):
            self.count += 1
            if self.count == self.at and self.mode == "kill":
                os.kill(os.getpid(), signal.SIGKILL)
            if self.count == self.at:
                raise OSError(errno.ENOSPC, "No space left on device")


def run(fault: Fault, arguments: list[str]) -> int:
    """Run the program with a fault, in a process of its own; return how it ended."""
    write = sources.write_rows

    def write_rows(*given: object) -> None:
        sys.audit("elenchus.rows")
        write(*given)  # type: ignore[arg-type]

    rows.write_rows = write_rows  # type: ignore[assignment, attr-defined]
    os.chdir(fault.folder)
    os.environ["HOME"] = fault.folder
    said = os.open(f"{fault.folder}.txt", os.O_WRONLY | os.O_CREAT)
    os.dup2(said, 1)
    os.dup2(said, 2)
    sys.argv = ["elenchus", *arguments]
    sys.addaudithook(fault)
    code = 0
    try:
        program.main()
    except SystemExit as end:
        code = end.code if isinstance(end.code, int) else 0
    return code if fault.count >= fault.at else NOT_REACHED


def main() -> None:
    """Run the program with a fault at each of its writes."""
    mode, site, folder, *arguments = sys.argv[1:]
    code, at = 0, 0
    while code != NOT_REACHED:
        at += 1
        copy = Path(folder, str(at)).resolve()
        shutil.copytree(site, copy)
        child = os.fork()
        if not child:
            os._exit(run(Fault(mode, at, copy), arguments) & 0xFF)
        code = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
        sys.stdout.write(f"{at} {code}\n")


if __name__ == "__main__":
    main()
