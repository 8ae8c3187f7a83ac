"""Regular expressions that take time in proportion to the text, whatever the pattern."""

from __future__ import annotations

from functools import lru_cache
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Callable

__all__ = ["PatternError", "searcher"]

_LONGEST = 1_000  # characters in a pattern
_MEMORY = 1 << 18  # bytes that a compiled pattern may take: with more, some compile for minutes


class PatternError(ValueError):
    """A text is no regular expression, or one beyond the bounds; the message says why."""


@lru_cache(maxsize=64)
def searcher(pattern: str) -> Callable[[str], bool]:
    """Return a function that says whether a pattern occurs in a text. Raises PatternError."""
    import re2

    if len(pattern) > _LONGEST:
        raise PatternError(f"it is longer than {_LONGEST} characters")
    options = re2.Options()
    options.log_errors = False
    options.max_mem = _MEMORY
    try:
        compiled = re2.compile(pattern, options=options)
    except re2.error as error:
        reason = error.args[0]
        raise PatternError(
            reason.decode(errors="replace") if isinstance(reason, bytes) else str(reason)
        ) from None
    return lambda text: compiled.search(text) is not None
