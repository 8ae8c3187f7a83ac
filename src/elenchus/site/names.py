"""What can be the name of something that a site defines."""

from __future__ import annotations

from elenchus.values.lazily import pattern

__all__ = ["can_be_called", "can_be_named"]

_NAME = pattern(r"[^\W\d][\w-]*")  # it stands in questions where a number could
_KEY = pattern(r"[\w-]+")  # it stands where no number can


def can_be_called(name: str) -> bool:
    """Say whether a listing, a page or a parameter can have a name: letters, digits, - and _."""
    return bool(_NAME.fullmatch(name))


def can_be_named(name: str) -> bool:
    """Say whether a kind, a field, a taxonomy, a source or a condition can have a name."""
    return bool(_KEY.fullmatch(name))
