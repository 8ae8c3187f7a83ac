"""Numbers as people write them: with the signs of a language, a unit, or out of so many, and back.

What a source declares is read, and nothing is guessed: ``1.299`` is 1299 where ``numbers = "de"`` says so.
"""

from __future__ import annotations

import re
from functools import lru_cache
from typing import TYPE_CHECKING, NamedTuple

from elenchus.values.lazily import pattern

if TYPE_CHECKING:
    from collections.abc import Callable

__all__ = ["NumberForm", "decimal_sign", "number_reader", "written_like"]

_SPACES = " \u00a0\u202f\u2009"
_GROUPS = {",": f".{_SPACES}'’", ".": f",{_SPACES}'’"}  # by the sign before decimals
_OUT_OF = pattern(r"\s*(?:/|of|out of|von|sur|de|di|van|av|af)\s*", re.IGNORECASE)
_STARS = pattern(r"(?P<full>★*|⭐*|\**)(?P<half>½|⯪)?(?:☆|✩)*")
_NUMBER = pattern(r"[+\-−]?\d[\d.,'’_\u00a0\u202f\u2009 ]*(?:e[+-]?\d{1,3})?|[+\-−]?[.,]\d+", re.IGNORECASE)
_PLAIN = pattern(r"[+-]?\d+(?:\.\d+)?")
_MOST_STARS = 10


class NumberForm(NamedTuple):
    """How numbers of a field are written: the language whose signs they have, a unit, out of how many."""

    language: str = ""
    unit: str = ""
    scale: float = 0


@lru_cache(maxsize=64)
def decimal_sign(language: str) -> str:
    """Return the sign before decimals in a language, as Unicode CLDR has it: a point or a comma."""
    if not language:
        return "."
    from elenchus.values.locales import locale_of

    symbols = locale_of(language).number_symbols
    found = symbols.get("latn", symbols).get("decimal", ".")
    return "," if found == "," else "."


@lru_cache(maxsize=256)
def number_reader(form: NumberForm) -> Callable[[str], str]:
    """Return what reads a text as a plain number such as ``-1299.5``; nothing for one of another form."""
    sign = decimal_sign(form.language)
    groups = re.escape(_GROUPS[sign])
    whole = rf"\d{{1,3}}(?:[{groups}]\d{{3}})+|\d+(?:_\d+)*"
    number = re.compile(
        rf"(?P<minus>[-−+]?)(?P<whole>{whole}|)(?:{re.escape(sign)}(?P<part>\d+)?)?(?P<power>e[+-]?\d{{1,3}})?",
        re.IGNORECASE,
    )
    unit = re.escape(form.unit.strip())

    def plain(text: str) -> str:
        match = number.fullmatch(text.strip(_SPACES))
        if match is None or not (match["whole"] or match["part"]):
            return ""
        digits = re.sub(r"\D", "", match["whole"])
        minus = "-" if match["minus"] in ("-", "−") else ""
        part = f".{match['part']}" if match["part"] else ""
        return f"{minus}{digits or '0'}{part}{(match['power'] or '').lower()}"

    # What most numbers are like: the unit before or behind it, digits in groups, decimals.
    group = "," if sign == "." else "."
    digits = rf"(-?\d{{1,3}}(?:{re.escape(group)}\d{{3}})+|-?\d+)({re.escape(sign)}\d+)?"
    quick = re.compile(rf"(?:{unit} ?)?{digits}|{digits} ?{unit}")

    around = re.compile(rf"(?P<minus>[-−+]?)\s*{unit}\s*|\s*{unit}\.?(?:[,.]?-|,–)?$", re.IGNORECASE)

    def read(text: str) -> str:
        if sign == "." and _PLAIN.fullmatch(text):
            return text
        text = text.strip().strip(_SPACES)
        if not form.scale and (match := quick.fullmatch(text)):
            whole, part = match[1] or match[3], match[2] or match[4] or ""
            return f"{whole.replace(group, '')}{part.replace(sign, '.')}"
        if form.scale and (found := _out_of(text, form.scale, plain)):
            return found
        if unit:
            text = around.sub(lambda match: match["minus"] or "", text, count=1)
        return plain(text)

    return read


def _out_of(text: str, scale: float, plain: Callable[[str], str]) -> str:
    """Return the number of a text such as ``4.5/5`` or ``★★★★``."""
    stars = _STARS.fullmatch(text)
    if text and stars and len(text) <= _MOST_STARS:
        count = len(stars["full"]) + (0.5 if stars["half"] else 0)
        return f"{count:g}" if count <= scale else ""
    number, *rest = _OUT_OF.split(text, maxsplit=1)
    if not rest or (total := plain(rest[0])) == "" or float(total) != scale:
        return ""
    return plain(number)


def written_like(number: str, like: str, form: NumberForm) -> str:
    """Return a plain number as another one is written: its unit, its signs and decimals, or its stars."""
    sign = decimal_sign(form.language)
    stars = like.strip()[:1]
    if form.scale and stars and stars in "★⭐*☆":
        full, half = divmod(float(number), 1)
        star = "★" if stars == "☆" else stars
        return (
            star * int(full)
            + ("½" if half else "")
            + ("☆" * (int(form.scale) - int(full)) if "☆" in like else "")
        )
    match = _NUMBER.search(like)
    if match is None:
        return number.replace(".", sign)
    old = match[0].rstrip(_SPACES)
    whole, _, part = number.partition(".")
    decimals = len(old.rpartition(sign)[2]) if sign in old else 0
    if decimals and len(part) < decimals and not re.search("e", number, re.IGNORECASE):
        part = part.ljust(decimals, "0")
    group = next((each for each in old if each in _GROUPS[sign]), "")
    if group:
        whole = re.sub(r"(?<=\d)(?=(?:\d{3})+$)", group, whole)
    new = f"{whole}{sign}{part}" if part else whole
    return like[: match.start()] + new + like[match.start() + len(old) :]
