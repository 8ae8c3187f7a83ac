"""How numbers are written: a language's signs, a unit beside them, so many out of so many."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, NamedTuple

from elenchus.values.numberpatterns import NumberForm, number_reader

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping

__all__ = ["NumberHabit", "numbers_of"]

_PLAIN = re.compile(r"[+-]?(\d+(_\d+)*\.?\d*|\.\d+)(e[+-]?\d{1,3})?", re.IGNORECASE)
_AROUND = re.compile(
    r"(?P<minus>[-−+])?\s*(?P<before>[^\d\s.,'’+−-]{1,4})?\s*"
    r"(?P<number>[+\-−]?\d[\d.,'’_\u00a0\u202f\u2009 ]*?)\s*(?P<after>[^\d.,'’]{1,15}\.?)?(?:[.,]-)?"
)
_OUT_OF = re.compile(r"(?P<number>\d+(?:[.,]\d+)?)\s*(?:/|out of|of|von|sur)\s*(?P<scale>\d{1,3})")
_STARS = re.compile(r"[★⭐]*[½⯪]?[☆✩]*")
_POINT = re.compile(r".*(?:,\d{3}\.\d+|(?:,\d{3}){2,}|(?<![.\d])\d*\.(?:\d{1,2}|\d{4,}))$")
_COMMA = re.compile(r".*(?:\.\d{3},\d+|(?:\.\d{3}){2,}|(?<![,\d])\d*,(?:\d{1,2}|\d{4,}))$")
_EITHER = re.compile(r"[+-]?\d{1,3},\d{3}")
_STAR_SCALE = 5


class NumberHabit(NamedTuple):
    """How the numbers of a key are written, and whether all of them are whole.

    ``unsure`` is one of which nobody can tell what its comma means.
    """

    form: NumberForm
    is_whole: bool
    unsure: str = ""


def numbers_of(texts: Mapping[str, int]) -> NumberHabit | None:
    """Return how some texts are written as numbers; None where one of them is none."""
    if not texts:
        return None
    if all(map(_PLAIN.fullmatch, texts)):
        return NumberHabit(NumberForm(), all(re.fullmatch(r"[+-]?[\d_]+", text) for text in texts))
    return _with_scale(texts) or _with_unit(texts)


def _with_scale(texts: Iterable[str]) -> NumberHabit | None:
    """Return how texts such as ``4.5/5`` and ``★★★★`` are written; None where they are not."""
    scales, whole, stars = set(), True, 0
    for text in texts:
        if match := _OUT_OF.fullmatch(text):
            scales.add(int(match["scale"]))
            whole = whole and match["number"].isdecimal()
        elif text and _STARS.fullmatch(text):
            stars += 1
            whole = whole and not set("½⯪") & set(text)
            scales.add(max(_STAR_SCALE, len(text)))
        elif not _PLAIN.fullmatch(text.replace(",", ".")):
            return None
    if len(scales) != 1:
        return None
    form = NumberForm(_language(texts), "", float(scales.pop()))
    return NumberHabit(form, whole) if _fit(texts, form) else None


def _with_unit(texts: Iterable[str]) -> NumberHabit | None:
    """Return how texts such as ``€12.50`` and ``1.299,00 km`` are written; None where they are not."""
    units: set[str] = set()
    bare: list[str] = []
    for text in texts:
        match = _AROUND.fullmatch(text)
        if match is None or (match["before"] and match["after"]):
            return None
        units.add((match["before"] or match["after"] or "").strip())
        bare.append(match["number"].strip())
    units.discard("")
    if len({unit.casefold().rstrip(".") for unit in units}) > 1:
        return None
    unit = min(units, default="")
    language = _language(bare)
    if not language and any("," in text for text in bare):
        unsure = next((text for text in bare if _EITHER.fullmatch(text)), "")
        return NumberHabit(NumberForm("", unit), is_whole=False, unsure=unsure) if unsure else None
    form = NumberForm(language, unit)
    if not _fit(texts, form):
        return None
    read = number_reader(form)
    return NumberHabit(form, all("." not in read(text) for text in texts))


def _fit(texts: Iterable[str], form: NumberForm) -> bool:
    """Say whether all texts can be read in a form, or as they are."""
    read = number_reader(form)
    return all(read(text) or _PLAIN.fullmatch(text) for text in texts)


def _language(texts: Iterable[str]) -> str:
    """Return the language whose signs numbers have: nothing for plain ones, and where it could be either."""
    found = list(texts)
    if not any(sign in text for text in found for sign in ",'’\u00a0\u202f ") and not any(
        text.count(".") > 1 for text in found
    ):
        return ""
    has_point, has_comma = any(map(_POINT.match, found)), any(map(_COMMA.match, found))
    if has_comma and not has_point:
        return "fr" if any(sign in text for text in found for sign in "\u00a0\u202f ") else "de"
    return "en" if has_point and not has_comma else ""
