"""From values as they were written to keys of their declared type; what does not fit is refused."""

from __future__ import annotations

import math
import re
from typing import TYPE_CHECKING, Any, NamedTuple

from elenchus.schema.types import Type
from elenchus.values.dates import literal_interval, local_microseconds
from elenchus.values.lazily import pattern
from elenchus.values.texts import either, fold, nearest, quoted
from elenchus.values.wording import as_text

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence
    from zoneinfo import ZoneInfo

    from elenchus.errors import Problem
    from elenchus.schema.types import Field, FieldType
    from elenchus.values.dates import Interval

__all__ = ["NO", "RENAMED", "YES", "Moment", "Unfit", "convert", "plain_numbers", "within"]

# Words for yes and no, folded: in English, of other languages with Latin letters, and signs.
YES = frozenset(
    {"yes", "true", "on", "1", "y", "t", "x", "ja", "jo", "oui", "sí", "si", "sim", "da", "tak", "kyllä",
     "wahr", "vrai", "vero", "verdadero", "✓", "✔", "☑", "✅"}
)  # fmt: skip
NO = frozenset(
    {"no", "false", "off", "0", "n", "f", "nein", "non", "não", "nej", "nei", "ne", "nie", "ei", "falsch",
     "faux", "falso", "-", "–", "—", "✗", "✘", "☐", "❌"}
)  # fmt: skip
_DAY = pattern(r"\d{4}-\d{2}-\d{2}|\d{4}-W\d{2}-\d", re.IGNORECASE)
_NEARLY = pattern(r"(\d{4})[-/.](\d{1,2})[-/.](\d{1,2})")
_INTEGER = pattern(r"[+-]?\d{1,19}(_\d{1,19}){0,9}(e\+?\d{1,2})?", re.IGNORECASE)
_NUMBER = pattern(r"[+-]?(\d+(_\d+)*\.?\d*|\.\d+)(e[+-]?\d{1,3})?", re.IGNORECASE)
_LARGEST = 2**63 - 1
RENAMED = {"pending": "draft"}  # words for a status that were given up


class Unfit(ValueError):
    """A value does not fit the type of its field; the message says why, ``hint`` what may help."""

    def __init__(self, message: str, hint: str = "", *, near: Sequence[str] = ()) -> None:
        super().__init__(message)
        self.hint = hint
        self.near = near

    @classmethod
    def of(cls, problem: Problem) -> Unfit:
        """Return the refusal of a value for a problem that is known."""
        return cls(problem.message, problem.advice, near=problem.near)


class Moment(NamedTuple):
    """A stored date: its first instant, the same on the site's clocks, its end, whether it is a whole day."""

    start: int
    local: int
    end: int
    whole: bool


def convert(value: Any, field: Field, zone: ZoneInfo) -> Any:
    """Return one written value as a key of the field's type, or None when it is blank.

    Texts stay texts, references and terms stay names: both are looked up once all entries are known.
    Raises Unfit.
    """
    text = as_text(value) if value is not None else ""
    if not text:
        return None
    reader = _READERS.get(field.type.type)
    found = reader(text, field.type, zone) if reader else text
    if isinstance(found, (int, float)) and not within(found, field):
        raise Unfit(f"{text} lies outside {_bounds(field)}")
    return found


def plain_numbers(values: Sequence[Any], field: Field) -> list[float] | None:
    """Return many written values as keys of a field of numbers; None where not all are plain and fit.

    It is what :func:`convert` gives, all at once.
    """
    form = _PLAIN_NUMBERS.get(field.type.type)
    if form is None or not values or set(map(type, values)) != {str}:
        return None
    joined = "\n".join(values)
    if joined.count("\n") != len(values) - 1 or not form.fullmatch(joined):
        return None
    found: list[float] = list(map(int if field.type.type is Type.INTEGER else float, values))
    return found if within(min(found), field) and within(max(found), field) else None


def within(number: float, field: Field) -> bool:
    """Say whether a number keeps the bounds of its field."""
    least = -math.inf if field.least is None else field.least
    most = math.inf if field.most is None else field.most
    return least <= number <= most


def _bounds(field: Field) -> str:
    """Return the bounds of a field in words."""
    if field.most is None:
        return f"what the field allows (at least {field.least:g})"
    if field.least is None:
        return f"what the field allows (at most {field.most:g})"
    return f"what the field allows ({field.least:g} to {field.most:g})"


def _read_integer(text: str, _type: FieldType, _zone: ZoneInfo) -> int:
    """Read a whole number of up to 64 bits."""
    if not _INTEGER.fullmatch(text):
        raise Unfit(f"{quoted(text)} is not a whole number")
    digits, _, power = text.lower().partition("e")
    found: int = int(digits) * 10 ** int(power or 0)
    if abs(found) > _LARGEST:
        raise Unfit(f"{quoted(text)} is not a whole number")
    return found


def _read_number(text: str, _type: FieldType, _zone: ZoneInfo) -> float:
    """Read a decimal number; words such as ``nan`` are none."""
    if not _NUMBER.fullmatch(text) or math.isinf(float(text)):
        raise Unfit(f"{quoted(text)} is not a number")
    return float(text)


def _read_yesno(text: str, _type: FieldType, _zone: ZoneInfo) -> int:
    """Read yes or no, 1 for yes."""
    if fold(text) not in YES | NO:
        raise Unfit(f"{quoted(text)} is neither yes nor no")
    return int(fold(text) in YES)


def _read_day(text: str, _type: FieldType, zone: ZoneInfo) -> Moment:
    """Read a calendar day; a time of day does not fit."""
    if not _DAY.fullmatch(text) or (found := literal_interval(text, zone)) is None:
        raise Unfit(f"{quoted(text)} is not a day such as 2026-05-18", near=_padded(text, zone))
    return _moment(found, zone, whole=True)


def _read_datetime(text: str, _type: FieldType, zone: ZoneInfo) -> Moment:
    """Read a day, or a day and a time with or without an offset from UTC."""
    if not _DAY.match(text) or (found := literal_interval(text, zone)) is None:
        raise Unfit(
            f"{quoted(text)} is not a date such as 2026-05-18 or 2026-05-18 09:00", near=_padded(text, zone)
        )
    return _moment(found, zone, whole=bool(_DAY.fullmatch(text)))


def _padded(text: str, zone: ZoneInfo) -> tuple[str, ...]:
    """Return a date that lacks only zeros with them; other orders of day and month are anybody's guess."""
    match = _NEARLY.fullmatch(text.strip())
    if match is None:
        return ()
    day = f"{match[1]}-{int(match[2]):02}-{int(match[3]):02}"
    return (day,) if literal_interval(day, zone) else ()


def _moment(interval: Interval, zone: ZoneInfo, *, whole: bool) -> Moment:
    """Return an interval as a stored date."""
    return Moment(interval.start, local_microseconds(interval.start, zone), interval.end, whole)


def _read_choice(text: str, kind: FieldType, _zone: ZoneInfo) -> int:
    """Read one of the declared choices as its position."""
    names = [fold(choice) for choice in kind.choices]
    if fold(text) in names:
        return names.index(fold(text))
    near = nearest(text, kind.choices)
    if fold(text) in RENAMED and RENAMED[fold(text)] in kind.choices:
        raise Unfit(f"{quoted(text)} is not one of the choices", f"Write {RENAMED[fold(text)]}.")
    hint = f"It can be {either(kind.choices)}."
    raise Unfit(f"{quoted(text)} is not one of the choices", hint, near=near)


_PLAIN_NUMBERS = {
    Type.INTEGER: pattern(r"-?[0-9]{1,18}(?:\n-?[0-9]{1,18})*"),
    Type.NUMBER: pattern(r"-?[0-9]{1,99}(?:\.[0-9]+)?(?:\n-?[0-9]{1,99}(?:\.[0-9]+)?)*"),
}
_READERS: dict[Type, Callable[[str, FieldType, ZoneInfo], Any]] = {
    Type.INTEGER: _read_integer,
    Type.NUMBER: _read_number,
    Type.YESNO: _read_yesno,
    Type.DATE: _read_day,
    Type.DATETIME: _read_datetime,
    Type.CHOICE: _read_choice,
}
