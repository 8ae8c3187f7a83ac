"""Regular expressions that are compiled when they are first used: most runs use few of them."""

from __future__ import annotations

import re
from typing import Any, cast

__all__ = ["pattern"]


class _Uncompiled:
    """Stands for a compiled pattern, whose methods it has once they are asked for."""

    def __init__(self, text: str, flags: int) -> None:
        self._given = text, flags

    def __getattr__(self, name: str) -> Any:
        found = getattr(re.compile(*self._given), name)
        self.__dict__[name] = found  # so that it is looked up at once the next time
        return found


def pattern(text: str, flags: int = 0) -> re.Pattern[str]:
    """Return what a compiled pattern is in all that is asked of it."""
    return cast("re.Pattern[str]", _Uncompiled(text, flags))
