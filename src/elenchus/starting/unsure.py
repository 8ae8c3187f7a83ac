"""What could be otherwise than it was taken for."""

from __future__ import annotations

from typing import NamedTuple

__all__ = ["Unsure"]


class Unsure(NamedTuple):
    """Something that could be otherwise: what was taken, and what else to write."""

    what: str
    otherwise: str
    lead: str = "If not, write"
