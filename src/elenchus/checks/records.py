"""One record for each code: how bad it is, what it means, why it hurts, how to fix it."""

from __future__ import annotations

import tomllib
from functools import lru_cache
from pathlib import Path, PurePath
from typing import Literal, TypeAlias, cast

from elenchus.errors import About, NoSuchName, Problem
from elenchus.frozen import Frozen
from elenchus.values.texts import nearest, quoted

__all__ = ["LEVELS", "RENAMED", "CodeRecord", "Level", "costs_itself", "entries_lost", "record", "records"]

Level: TypeAlias = Literal["error", "warning", "note"]
LEVELS: tuple[Level, ...] = ("error", "warning", "note")
# Codes that were given up, and what they are called now.
RENAMED = {
    "misfit": "unfit-value",
    "nothing-to-pretend": "nothing-as-if",
    "left-out": "unusable-entry",
    "left-over": "unexpected-text",
    "unpublished-choices": "choices-on-preview-only",
}
# The files that have one entry each.
_ONE_ENTRY = frozenset({".md", ".markdown", ".mdown", ".html", ".htm", ".xhtml"})
_FILE = Path(__file__).with_name("records.toml")


class CodeRecord(Frozen):
    """What is to be known of one code. ``about`` is what it is about, such as content or pages.

    ``item`` is ``entry`` if the problem costs one entry, which is left out, ``held`` if it only keeps the
    public from it, ``part`` if it costs a part of it, and ``file`` if it costs all entries of one file.
    """

    code: str
    about: str
    level: Level
    means: str
    hurts: str
    fix: str
    item: str = ""


@lru_cache(maxsize=1)
def records() -> dict[str, CodeRecord]:
    """Return the records of all codes, in the order in which they are explained."""
    found = {}
    for about, table in tomllib.loads(_FILE.read_text(encoding="utf-8")).items():
        for code, each in table.items():
            level = cast("Level", each["level"])
            found[code] = CodeRecord(
                code, about, level, each["means"], each["hurts"], each["fix"], each.get("item", "")
            )
    return found


def costs_itself(problem: Problem) -> bool:
    """Say whether a problem costs one entry and nothing else: all others can be published.

    A file of many entries that cannot be read is more than that: their pages would be removed.
    """
    known = records().get(problem.code)
    if problem.about is About.CONTENT:  # the value is missing, and the entry is there
        return True
    if known is None or known.item != "file":
        return bool(known and known.item)
    file = PurePath(problem.place.file if problem.place else "")
    return file.suffix.lower() in _ONE_ENTRY


def entries_lost(problem: Problem) -> int:
    """Return how many entries a problem leaves out."""
    known = records().get(problem.code)
    is_lost = known is not None and known.item in ("entry", "file") and costs_itself(problem)
    return problem.entries if is_lost else 0


def record(code: str) -> CodeRecord:
    """Return the record of a code. Raises NoSuchName."""
    if code not in records():
        near = nearest(code, records())
        hint = "elenchus check shows the code of each finding."
        if code in RENAMED:
            hint, near = f"It is called {RENAMED[code]} now.", ()
        raise NoSuchName([Problem("unknown-code", f"there is no check {quoted(code)}", hint, near=near)])
    return records()[code]
