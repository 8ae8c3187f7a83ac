"""Whole numbers as people type them."""

from __future__ import annotations

__all__ = ["counting_number"]

_MOST_DIGITS = 9


def counting_number(text: str) -> int:
    """Return a number from 1 on, such as that of a page; 0 for any other text."""
    return int(text) if text.isascii() and text.isdigit() and len(text) <= _MOST_DIGITS else 0
