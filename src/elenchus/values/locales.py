"""The locale of a language: its names of months and days, from the Common Locale Data Repository."""

from __future__ import annotations

from functools import lru_cache
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from babel import Locale

__all__ = ["is_language", "locale_of"]


def is_language(name: str) -> bool:
    """Say whether a language tag is one whose names and signs are known."""
    from babel import Locale, UnknownLocaleError

    try:
        _ = Locale.parse(name, sep="-")
    except (UnknownLocaleError, ValueError):
        return False
    return True


@lru_cache(maxsize=8)
def locale_of(language: str) -> Locale:
    """Return the locale of a language tag such as ``en`` or ``pt-BR``; English where there is none."""
    from babel import Locale, UnknownLocaleError

    try:
        return Locale.parse(language, sep="-")
    except (UnknownLocaleError, ValueError):
        return Locale("en")
