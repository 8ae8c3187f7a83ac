"""Cures that are certain: a misspelt name with one neighbour, a key that is called otherwise now.

A word is written anew only where it stands once on its line, a file only if it says the same but for that.
"""

from __future__ import annotations

import re
import tomllib
from contextlib import suppress
from difflib import SequenceMatcher
from typing import TYPE_CHECKING, NamedTuple

from elenchus.editing.assignments import Assignment
from elenchus.editing.changing import ContentChange, content_change
from elenchus.editing.definitions import in_quotes, texts_in
from elenchus.editing.entries import SORTS, FieldChange, entry_change, entry_changes
from elenchus.editing.ownnames import own_names
from elenchus.editing.spellings import texts_of
from elenchus.errors import Edit, ElenchusError, KeyEdit, OwnName, Respelling
from elenchus.files import read_whole
from elenchus.frozen import Working
from elenchus.journal import FileChange
from elenchus.schema.edits import NewValue
from elenchus.site.site import journal_of
from elenchus.values.texts import fold

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Sequence
    from pathlib import Path

    from elenchus.checks.run import Report
    from elenchus.editing.entries import EntryChange
    from elenchus.errors import Problem
    from elenchus.journal import MadeChange
    from elenchus.site.site import Site

__all__ = ["Fixing", "fixing", "fixing_of_definitions"]

_NEAR = 0.8  # of the letters of both, those that they share


class Fixing(Working):
    """What would put findings right: files of definitions, and content, as they would be.

    ``cured`` are the findings that it is about, ``left`` those with a cure that could not be put in place.
    """

    folder: Path
    cured: tuple[Problem, ...]
    left: tuple[Problem, ...]
    definitions: tuple[FileChange, ...]
    content: ContentChange | None

    @property
    def files(self) -> tuple[FileChange, ...]:
        """All files that change."""
        return (*self.definitions, *(self.content.files if self.content else ()))

    def write(self, told: str, tick: Callable[[], None] = lambda: None) -> MadeChange:
        """Write the files, all of them or none. Raises FolderError, SiteError."""
        if self.content:
            _ = self.content.reread
        return journal_of(self.folder).write(told, self.files, tick)


def fixing(site: Site, report: Report) -> Fixing:
    """Return what would put the findings of a report right, as far as that is certain."""
    found = [each.problem for each in report.findings if not each.accepted]
    first = fixing_of_definitions(site.definition.folder, found)
    cured, left = list(first.cured), list(first.left)
    content = _content(site, found, cured, left)
    return Fixing(first.folder, tuple(cured), tuple(left), first.definitions, content)


def fixing_of_definitions(folder: Path, found: Sequence[Problem]) -> Fixing:
    """Return what would put definitions right; the site need not open with these."""
    cured: list[Problem] = []
    left: list[Problem] = []
    definitions = tuple(_definitions(folder, found, cured, left))
    return Fixing(folder, tuple(cured), tuple(left), definitions, None)


def _are_near(one: str, other: str) -> bool:
    """Say whether a text is so near another that somebody must have meant it."""
    return SequenceMatcher(None, fold(one), fold(other), autojunk=False).ratio() >= _NEAR


# Content


def _content(
    site: Site, found: Sequence[Problem], cured: list[Problem], left: list[Problem]
) -> ContentChange | None:
    """Return entries with the values that were meant; what cannot be written is left."""
    entries: list[EntryChange] = []
    for problem in found:
        edit = problem.cure
        if isinstance(edit, OwnName):
            changes = list(_writable(site, own_names(site, edit)))
            entries += changes
            (cured if len(changes) == len(edit.records) else left).append(problem)
            continue
        if not isinstance(edit, Edit | KeyEdit) or len(problem.near) != 1:
            continue
        try:
            [change] = _changes(site, edit)
            change_of_one = content_change(site, [change])
            _ = change_of_one.reread
        except (ElenchusError, ValueError):  # a source that nothing here writes, an entry that is twice there
            left.append(problem)
            continue
        is_near = isinstance(edit, KeyEdit) or all(
            _are_near(" ".join(each.before), " ".join(each.after)) for each in change.fields
        )
        if not is_near or change_of_one.tables or any(each.record == change.record for each in entries):
            left.append(problem)  # what a database says is changed by set; a second value by the next run
            continue
        entries.append(change)
        cured.append(problem)
    return content_change(site, entries) if entries else None


def _writable(site: Site, changes: Sequence[EntryChange]) -> Iterator[EntryChange]:
    """Yield the changes that files can have: all, if all can be made at once, else those that can alone."""
    with suppress(ElenchusError, ValueError):
        every = content_change(site, changes)
        _ = every.reread
        if not every.tables:
            yield from changes
            return
    for change in changes:
        try:
            one = content_change(site, [change])
            _ = one.reread
        except (ElenchusError, ValueError):
            continue
        if not one.tables:
            yield change


def _changes(site: Site, edit: Edit | KeyEdit) -> list[EntryChange]:
    """Return what an edit means for its entry. Raises OptionError."""
    if isinstance(edit, Edit):
        return entry_changes(site, [edit.entry], [Assignment(edit.field, edit.operator, edit.value)])
    row = site.dataset.entries.names.row(edit.entry)
    field = site.dataset.schema.fields_of(site.dataset.kind_of(row))[edit.right]
    texts = tuple(texts_of(site.content.record(edit.entry), edit.wrong, field))
    fields = {edit.wrong: FieldChange(edit.wrong, texts, ()), edit.right: FieldChange(edit.right, (), texts)}
    sort = SORTS.get(field.type.type, "text")
    values = {edit.wrong: NewValue(()), edit.right: NewValue(texts, field.type.many and len(texts) > 1, sort)}
    found = entry_change(site, row, fields, values)
    return [found] if found else []


# Definitions


class _Spot(NamedTuple):
    """Where a word stands in a file, and what is written there instead."""

    start: int
    end: int
    text: str


def _definitions(
    folder: Path, found: Sequence[Problem], cured: list[Problem], left: list[Problem]
) -> Iterator[FileChange]:
    """Yield files of definitions with other words."""
    by_file: dict[str, list[Problem]] = {}
    for problem in found:
        if isinstance(problem.cure, Respelling) and problem.place:
            by_file.setdefault(problem.place.file, []).append(problem)
    for name, problems in by_file.items():
        try:
            before = read_whole(folder / name)
            text = before.decode("utf-8-sig")
            data = tomllib.loads(text)
        except (OSError, ValueError):
            left += problems
            continue
        new = text
        for problem in problems:
            then = _respelt(new, problem)
            if then is None:
                left.append(problem)
            else:
                new = then
                cured.append(problem)
        if new != text and _shape(tomllib.loads(new)) == _shape(data):
            mark = before[: len(before) - len(text.encode())]
            yield FileChange(name, before, mark + new.encode())


def _shape(value: object) -> object:
    """Return what stays as it is where words are respelt: how tables and lists stand in one another."""
    if isinstance(value, dict):
        return sorted(str(_shape(each)) for each in value.values())
    return [_shape(each) for each in value] if isinstance(value, list) else type(value).__name__


def _respelt(text: str, problem: Problem) -> str | None:
    """Return the text of a file with a word as it was meant, None where it does not stand there just once."""
    cure, place = problem.cure, problem.place
    if (
        not isinstance(cure, Respelling)
        or not place
        or (problem.near and not _are_near(cure.wrong, cure.right))
    ):
        return None
    spots = {*_values(text, place.line, cure), *_keys(text, place.line, cure)}
    if len(spots) != 1:
        return None
    [spot] = spots
    return text[: spot.start] + spot.text + text[spot.end :]


def _pattern(words: str) -> re.Pattern[str]:
    """Return what finds some words as a whole, whatever is between them."""
    inner = r"\s+".join(map(re.escape, words.split()))
    return re.compile(rf"(?<![\w./:-]){inner}(?![\w./-])")


def _values(text: str, line: int, cure: Respelling) -> Iterator[_Spot]:
    """Yield where a word stands in the texts that a line has, or that it is a line of."""
    for match, _ in texts_in(text):
        first = text.count("\n", 0, match.start()) + 1
        last = text.count("\n", 0, match.end()) + 1
        if not first <= line <= last:
            continue
        try:
            value = tomllib.loads(f"a = {match['text']}")["a"]
        except ValueError:
            continue
        lead = int(match["text"][3:5].startswith(("\n", "\r\n")) and match["text"].startswith(('"""', "'''")))
        found = list(_pattern(cure.wrong).finditer(value))
        on_line = [each for each in found if first + lead + value.count("\n", 0, each.start()) == line]
        for each in on_line or found:
            new = value[: each.start()] + cure.right + value[each.end() :]
            yield _Spot(match.start(), match.end(), in_quotes(match["text"], new))


def _keys(text: str, line: int, cure: Respelling) -> Iterator[_Spot]:
    """Yield where a word stands as a key on a line."""
    lines = text.split("\n")
    start = sum(len(each) + 1 for each in lines[: line - 1])
    inside = [match.span() for match, _ in texts_in(text)]
    written = lines[line - 1] if 0 < line <= len(lines) else ""
    for match in _pattern(cure.wrong).finditer(written):
        at, end = start + match.start(), start + match.end()
        is_key = re.match(r"\s*[.=\]]", written[match.end() :])
        if is_key and not any(first <= at < last for first, last in inside):
            yield _Spot(at, end, cure.right)
