"""What one run leaves to the next beside the manifest: of what each file was made, and what it links.

It stands in ``.elenchus/pages`` of the published folder, in the layout of the index (docs/index.md). It may
be taken away, or be another's: then all pages are drawn anew, and nothing else changes.
"""

from __future__ import annotations

import sys
import time
from contextlib import suppress
from hashlib import blake2b
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from elenchus.engine.columns.strings import Strings
from elenchus.files import scanned
from elenchus.index.pack import DamagedError, Pack, write_pack
from elenchus.pages.paths import OWN_FOLDER
from elenchus.rendering.trace import Trace

if TYPE_CHECKING:
    import os
    from collections.abc import Iterable, Mapping, Sequence

__all__ = [
    "MARK", "YOUNG", "Known", "LastRun", "Targets",
    "program_of_pages", "read_last_run", "save_run", "sign_of",
]  # fmt: skip

_NAME = f"{OWN_FOLDER}/pages"
_DIGEST = 32  # bytes of the digest of a file
MARK = 16  # bytes of the digest of what a file is made of
_LIBRARIES = ("elenchus", "Jinja2", "MarkupSafe", "markdown-it-py", "nh3", "numpy")
YOUNG = 2_000_000_000  # nanoseconds: a file that is younger may be changed without looking so


class Known(NamedTuple):
    """What is known of a published file.

    ``digest`` is that of its content (hexadecimal), ``mark`` that of what it was made of, empty where that is
    not known; ``trace`` is what was asked for while it was drawn; ``links`` are numbers of the files of the
    site to which it leads. ``sign`` tells whether the file was touched since (see :func:`sign_of`).
    """

    digest: str
    mark: bytes = b""
    trace: Trace | None = None
    links: Sequence[int] = ()
    sign: tuple[int, int, int] = (0, 0, 0)


class Targets:
    """The files of a site to which pages lead, by number."""

    def __init__(self, names: Iterable[str] = ()) -> None:
        self.names = list(names)
        self.numbers = {name: number for number, name in enumerate(self.names)}

    def number(self, name: str) -> int:
        """Return the number of a file, a new one where it has none."""
        if name not in self.numbers:
            self.numbers[name] = len(self.names)
            self.names.append(name)
        return self.numbers[name]


class LastRun(NamedTuple):
    """What the last run left: ``files`` by their paths, and ``meta``, what it says of itself."""

    files: dict[str, Known]
    targets: Targets
    meta: dict[str, Any]


def program_of_pages() -> str:
    """Return what pages are made by: this program with its templates, Python, and the libraries it uses."""
    from importlib.metadata import PackageNotFoundError, version

    told = [sys.version]
    for name in _LIBRARIES:
        with suppress(PackageNotFoundError):
            told.append(f"{name} {version(name)}")
    found = scanned(Path(__file__).parents[1], (".py", ".html", ".css", ".js", ".toml", ".json"))
    signs = np.array(found.signatures, dtype=np.int64).reshape(-1, 4)[:, :2].tolist()
    told += sorted(f"{path} {sign}" for path, sign in zip(found.paths, signs, strict=True))
    return blake2b("\n".join(told).encode(), digest_size=MARK).hexdigest()


def sign_of(told: os.stat_result) -> tuple[int, int, int]:
    """Return what tells whether a file was touched: its size, when it was changed, its inode.

    All are 0 for a file that was changed too short a time ago for that to be sure.
    """
    if told.st_mtime_ns > time.time_ns() - YOUNG:
        return 0, 0, 0
    return told.st_size, told.st_mtime_ns, told.st_ino & (2**63 - 1)


def read_last_run(folder: Path, program: str) -> LastRun:
    """Return what the last run left in a published folder: nothing where that cannot be used."""
    nothing = LastRun({}, Targets(), {})
    try:
        pack = Pack(folder / _NAME)
        pack.verify()
        if pack.meta["program"] != program:
            return nothing
        paths = pack.strings("paths")[:]
        digests = pack.bytes_of("digests").hex()
        marks = pack.bytes_of("marks")
        traces = [_trace_of(each) for each in pack.value("traces")]
        chosen: list[int] = pack.array("trace").tolist()
        starts: list[int] = pack.array("starts").tolist()
        links: list[int] = pack.array("links").tolist()
        signs: list[list[int]] = pack.array("signs").reshape(-1, 3).tolist()
        files = {
            path: Known(
                digests[at * 2 * _DIGEST : (at + 1) * 2 * _DIGEST],
                marks[at * MARK : (at + 1) * MARK],
                traces[chosen[at]],
                links[starts[at] : starts[at + 1]],
                tuple(signs[at]),  # type: ignore[arg-type]
            )
            for at, path in enumerate(paths)
        }
        return LastRun(files, Targets(pack.strings("targets")), pack.meta)
    except (OSError, DamagedError, KeyError):
        return nothing


def _trace_of(told: Sequence[Any]) -> Trace:
    """Return a trace as it was kept."""
    templates, asked, links = told
    questions = {
        (text, tuple((name, tuple(texts)) for name, texts in given), bool(counted)): None
        for text, given, counted in asked
    }
    return Trace(dict.fromkeys(templates), questions, dict.fromkeys(map(tuple, links)))


def save_run(folder: Path, files: Mapping[str, Known], targets: Targets, meta: Mapping[str, Any]) -> None:
    """Leave to the next run what is known of all files. Raises OSError."""
    traces: dict[Any, int] = {}
    chosen = np.array(
        [traces.setdefault(_told(known.trace), len(traces)) for known in files.values()], dtype=np.int32
    )
    lengths = np.fromiter((len(known.links) for known in files.values()), dtype=np.int64, count=len(files))
    links = [link for known in files.values() for link in known.links]
    signs = [number for known in files.values() for number in known.sign]
    sections: dict[str, Any] = {
        "paths": Strings.of(files),
        "digests": bytes.fromhex("".join(known.digest for known in files.values())),
        "marks": b"".join(known.mark.ljust(MARK, b"\0") for known in files.values()),
        "trace": chosen,
        "traces": _as_json(list(traces)),
        "starts": np.concatenate((np.zeros(1, np.int64), np.cumsum(lengths))),
        "links": np.array(links, dtype=np.int32),
        "signs": np.array(signs, dtype=np.int64),
        "targets": Strings.of(targets.names),
    }
    write_pack(folder / _NAME, meta, sections)


def _told(trace: Trace | None) -> tuple[Any, ...]:
    """Return a trace as it is kept."""
    return (tuple(trace.templates), tuple(trace.asked), tuple(trace.links)) if trace else ((), (), ())


def _as_json(value: Any) -> bytes:
    """Return a value as JSON."""
    import json

    return json.dumps(value, separators=(",", ":")).encode()
