"""What sources say in their own ways, made to say the same: statuses, flags, several values in one text."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from elenchus.errors import Place, Problem
from elenchus.schema.convert import NO, YES
from elenchus.schema.record import Raw
from elenchus.schema.types import Type
from elenchus.values.lazily import pattern
from elenchus.values.several import parts_of_text
from elenchus.values.texts import fold, quoted
from elenchus.values.wording import as_text

if TYPE_CHECKING:
    from collections.abc import Mapping

    from elenchus.schema.record import Habits
    from elenchus.schema.types import Field

__all__ = [
    "FLAGS",
    "Conformed",
    "can_be_parted",
    "conformed",
    "flags_of",
    "is_yes",
    "parted",
    "says_yes_or_no",
    "split_note",
]

# Flags that are understood without being declared: what yes means. “published” keeps an entry back at no.
FLAGS = {"draft": "draft", "published": "published"}
_HELD = ("draft", "withdrawn")
_UNPARTED = (Type.URL, Type.IMAGE)
_DATE_LIKE = pattern(r"\d{4}-\d{1,2}|\d{1,2}[./]\d{1,2}[./]\d{2,4}|[^\W\d]+ \d|\d{1,2}\.? [^\W\d]")


class Conformed:
    """What a record says of its status, as all sources have it.

    ``flag`` is the key by which the content keeps the entry back, empty where none does; ``standing`` is the
    status beside it, as far as that is not published.
    """

    def __init__(self, values: dict[str, Raw]) -> None:
        self.values = values
        self.flag = ""
        self.standing = ""
        self.problems: list[Problem] = []


def flags_of(habits: Habits) -> dict[str, str]:
    """Return the keys that say yes or no of the status, with the status that yes gives."""
    return {key: meaning for key, meaning in {**FLAGS, **habits.flags}.items() if meaning}


def conformed(
    values: Mapping[str, Raw], place: Place, habits: Habits, fields: Mapping[str, Field]
) -> Conformed:
    """Return what a record says of its status: of its values, those of the status and of flags are looked at.

    ``fields`` are those of its kind.
    """
    found = Conformed(dict(values))
    if habits.statuses:
        _status(found, habits)
    for key, meaning in flags_of(habits).items():
        if key in found.values:
            _flag(found, place, key, meaning, fields.get(key), is_declared=key in habits.flags)
    return found


def can_be_parted(field: Field | None) -> bool:
    """Say whether one text may stand for several values of a field; addresses may have commas in them."""
    return field is not None and field.type.many and field.declared and field.type.type not in _UNPARTED


def parted(text: str, separator: str, whole: frozenset[str]) -> list[str] | None:
    """Return the several values that one text stands for; None where it is one.

    ``whole`` are the folded names of defined terms that have a separator in them.
    """
    if separator not in text or fold(text.strip()) in whole:
        return None
    return parts_of_text(text, separator)


def _status(found: Conformed, habits: Habits) -> None:
    """Turn a foreign status into ours, whatever its case; true and false are words like others."""
    raw = found.values.get("status")
    if raw is None or raw.value is None:
        return
    word = fold(as_text(raw.value))
    for foreign, ours in habits.statuses.items():
        known = fold(foreign)
        if word == known or any(word in words and known in words for words in (YES, NO)):
            found.values["status"] = raw._replace(value=ours)


def says_yes_or_no(value: Any) -> bool:
    """Say whether a written value is any spelling of yes or of no."""
    return fold(as_text(value)) in YES | NO


def is_yes(value: Any) -> bool:
    """Say whether a written value is any spelling of yes."""
    return fold(as_text(value)) in YES


def _flag(
    found: Conformed, place: Place, key: str, meaning: str, field: Field | None, *, is_declared: bool
) -> None:
    """Understand a key that says yes or no of the status; one that says neither keeps the entry back.

    A site may have a field of the name: then it stays one, and keeps entries back only if it holds yes or
    no as well, or the source declares the flag.
    """
    raw = found.values[key]
    own = field if field and field.declared else None
    if own is None:
        del found.values[key]
    if raw.value is None or as_text(raw.value) == "":
        return
    if not says_yes_or_no(raw.value):
        as_date = meaning == "published" and bool(_DATE_LIKE.match(as_text(raw.value)))
        if (own and not is_declared) or as_date:  # “published: 2024-03-05” is a date by another name
            found.values[key] = raw
            return
        message = f"{key}: {quoted(as_text(raw.value))} is neither yes nor no, so the entry is held back"
        at = Place(place.file, raw.line)
        found.problems.append(Problem("unreadable-flag", message, "Write yes or no.", place=at))
        _hold(found, key, "draft", raw)
    elif is_yes(raw.value) != (meaning == "published"):
        _hold(found, key, "draft" if meaning == "published" else meaning, raw)


def _hold(found: Conformed, key: str, word: str, raw: Raw) -> None:
    """Give an entry the status of a flag; where its status keeps it back already, that stays as it is."""
    standing = found.values.get("status")
    told = as_text(standing.value) if standing and standing.value is not None else ""
    if not found.flag:
        found.flag = key
        found.standing = "" if fold(told) == "published" else told
    if fold(told) not in _HELD:
        found.values["status"] = Raw(word, raw.line)


def split_note(source: str, name: str, count: int, text: str, place: Place) -> Problem:
    """Return the note of a field of a source whose texts were parted: how many, and the first of them."""
    texts = "1 text was" if count == 1 else f"{count} texts were"
    message = f"{name}: {texts} split at the separator into several values, such as {quoted(text)}"
    hint = f'Where that is wrong, write separator = "" in [sources.{source}], or a list in the content.'
    return Problem("split-text", message, hint, place=place)
