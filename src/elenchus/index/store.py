"""The index of a site: a folder with what its content was, which one run leaves to the next."""

from __future__ import annotations

import hashlib
import os
import sys
import unicodedata
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any
from zoneinfo import TZPATH

import numpy as np

from elenchus.errors import Problem
from elenchus.files import read_whole, signature
from elenchus.frozen import Frozen
from elenchus.index.pack import DamagedError, Pack
from elenchus.index.problems import unpacked_problems
from elenchus.index.tables import unpacked_tables
from elenchus.index.units import Seen, Units

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping, Sequence
    from zoneinfo import ZoneInfo

    from numpy.typing import NDArray

    from elenchus.engine.columns.dataset import Dataset
    from elenchus.engine.columns.recordtable import RecordTable
    from elenchus.schema.terms import TermRow
    from elenchus.schema.types import Schema
    from elenchus.sources import SourceSpec

__all__ = [
    "FOLDER",
    "PARTS",
    "ROOT",
    "KeptIndex",
    "Wanted",
    "digest_of",
    "digest_of_sources",
    "folders_for",
    "forget_used",
    "opened",
    "program",
    "rebuilt",
]

FOLDER = ".elenchus"
ROOT = "units"
PARTS = ("tables", "records")
_USED: dict[Path, None] = {}  # the folders whose indexes this process reads


class Wanted(Frozen):
    """A site whose content is asked for: its folder, what its files declare, and a digest of those files."""

    folder: Path
    specs: tuple[SourceSpec, ...]
    schema: Schema
    zone: ZoneInfo
    terms: Callable[[], Mapping[str, Sequence[TermRow]]]
    digest: str


def digest_of(folder: Path, files: Sequence[str], zone: ZoneInfo) -> str:
    """Return a digest of the files that say what content means, and of what is known of a time zone."""
    found = hashlib.blake2b(digest_size=16)
    known = (Path(start) / (zone.key or "") for start in TZPATH)
    for path in (*(folder / name for name in files), *known):
        try:
            content_of = read_whole(path)
        except OSError:
            content_of = b"\0"
        found.update(len(content_of).to_bytes(8, "little") + content_of)
    return found.hexdigest()


class _Changed(Exception):
    """The files of an index are not those that its root names any more."""


class KeptIndex:
    """An index that is there: its units, and the files of its records and tables."""

    def __init__(self, folder: Path) -> None:
        """Open an index. Raises FileNotFoundError where there is none, DamagedError for an unusable one."""
        self.folder = folder
        root = Pack(folder / ROOT)
        root.verify()
        self.meta: dict[str, Any] = root.meta
        if self.meta["program"] != program():
            raise DamagedError("it was made by another version of the program")
        seen = Seen(
            root.strings("paths")[:],
            root.array("sources"),
            root.array("signatures").reshape(-1, 4),
            root.array("unsure"),
            unpacked_problems(self.meta["problems"]),
            self.meta["notes"],
        )
        told = {int(at): unpacked_problems(each) for at, each in self.meta["unit_problems"].items()}
        self.units = Units(seen, root.array("digests"), root.array("firsts"), root.array("counts"), told)
        self.is_sure = True
        self.parts = {name: self._part(name) for name in PARTS}

    def _part(self, name: str) -> Pack:
        """Open a file; where it is not as it was when it was written, compare it with its checksums."""
        path = self.folder / self.meta["parts"][name]["file"]
        try:
            pack = Pack(path)
        except FileNotFoundError:
            raise _Changed from None
        if list(signature(path.stat())) != self.meta["parts"][name]["signature"]:
            pack.verify()
            self.is_sure = False
        return pack

    @property
    def paths(self) -> list[Path]:
        """Its files, the root first."""
        return [self.folder / ROOT, *(self.folder / each["file"] for each in self.meta["parts"].values())]

    @property
    def size(self) -> int:
        """The number of records, those included that no unit has any more."""
        return len(self.parts["records"].array("files"))

    def sizes(self, wanted: Wanted) -> list[tuple[str, int]]:
        """Return the names of what is kept and its size in bytes, the largest first."""
        found: dict[str, int] = {"files and their signatures": (self.folder / ROOT).stat().st_size}
        fields = [name for name, _ in self.dataset(wanted).entries.columns]
        keys = self.parts["records"].meta["keys"]
        for name, part in self.parts.items():
            for section, (_, _, size, _) in part.sections.items():
                stem, _, number = section.partition("/")[0].partition("-")
                word = {"column": "column", "key": "as written:", "taxonomy": "terms of"}.get(stem)
                named = {"column": fields, "key": keys, "taxonomy": self.parts["tables"].meta["taxonomies"]}
                what = f"{word} {named[stem][int(number)]}" if word else f"other {name}"
                found[what] = found.get(what, 0) + size
        return sorted(found.items(), key=lambda pair: -pair[1])

    def live(self) -> NDArray[np.bool_]:
        """Return which records are those of a unit."""
        return self.units.live(self.size)

    def records(self, wanted: Wanted) -> RecordTable:
        """Return the records."""
        from elenchus.index.records import unpacked_records

        return unpacked_records(self.parts["records"], [spec.habits for spec in wanted.specs])

    def dataset(self, wanted: Wanted) -> Dataset:
        """Return the tables."""
        return unpacked_tables(self.parts["tables"], self.parts["records"], wanted.schema, wanted.zone)


def program() -> str:
    """Return what the tables depend on beside content and definitions: this program, Python, and Unicode."""
    from elenchus import __version__

    home = Path(__file__).parents[1]
    told = [__version__, sys.version, unicodedata.unidata_version, np.__version__]
    for name in (".", "values", "schema", "sources", "engine/columns", "index"):
        with os.scandir(home / name) as found:
            files = ((each.name, each.stat()) for each in found if each.name.endswith((".py", ".json")))
            told += sorted(f"{name}/{each} {seen.st_size} {seen.st_mtime_ns}" for each, seen in files)
    return hashlib.blake2b("\n".join(told).encode(), digest_size=16).hexdigest()


def _opened(folder: Path) -> tuple[KeptIndex | None, Problem | None]:
    """Return the index of a folder, if there is one that can be used, and a notice where one cannot."""
    for _ in range(3):
        try:
            return KeptIndex(folder), None
        except FileNotFoundError:
            return None, None
        except _Changed:
            continue
        except OSError as error:
            message = f"the index in {folder} cannot be read ({error.strerror})"
            return None, Problem("index-rebuilt", message, "All content was read instead.")
        except Exception as error:  # an index comes with its site, and can hold anything
            return None, rebuilt(folder, str(error) if isinstance(error, DamagedError) else "")
    return None, None


def rebuilt(folder: Path, why: str = "") -> Problem:
    """Return the notice of an index in whose place all content was read."""
    message = f"the index in {folder} was built anew: {why or 'it does not fit together'}"
    return Problem("index-rebuilt", message, "Nothing is lost by that.")


def forget_used() -> list[Path]:
    """Make the indexes that this process has read unusable, and return their folders."""
    found = list(_USED)
    _USED.clear()
    for folder in found:
        with suppress(OSError):
            (folder / ROOT).unlink(missing_ok=True)
    return found


def folders_for(site: Path) -> list[Path]:
    """Return where the index of a site may lie: in the site, or where the user's caches are.

    A link in the site is not followed, so it is not among them.
    """
    name = hashlib.blake2b(os.fsencode(site.resolve()), digest_size=8).hexdigest()
    found = [site / FOLDER, _caches() / "elenchus" / name]
    is_ours = Path(__file__).parents[1] in site.resolve().parents  # the demo, as it comes with the program
    return found[1:] if is_ours or found[0].is_symlink() else found


def _caches() -> Path:
    """Return the folder of the user's caches."""
    if sys.platform == "win32":
        return Path(os.environ.get("LOCALAPPDATA") or Path.home())
    if sys.platform == "darwin":
        return Path.home() / "Library" / "Caches"
    return Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache")


def _age(folder: Path) -> float:
    """Return a number that is the smaller the later an index was written."""
    try:
        return -(folder / ROOT).stat().st_mtime
    except OSError:
        return 0.0


def opened(site: Path) -> tuple[KeptIndex | None, Problem | None]:
    """Return the index of a site, wherever it stands, and a notice where one cannot be used."""
    notice = None
    if (site / FOLDER).is_symlink():
        message = f"{site / FOLDER} is a link, and links are not followed"
        notice = Problem("index-rebuilt", message, "The index is kept in your cache folder instead.")
    for folder in sorted(folders_for(site), key=_age):
        kept, told = _opened(folder)
        if kept:
            _USED[folder] = None
            return kept, notice
        notice = notice or told
    return None, notice


def digest_of_sources(specs: Sequence[SourceSpec]) -> str:
    """Return a digest of how sources are to be read."""
    return hashlib.blake2b(repr(specs).encode("utf-8", "surrogatepass"), digest_size=16).hexdigest()
