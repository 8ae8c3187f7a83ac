"""The words that the language keeps for itself."""

from __future__ import annotations

from functools import cache

from elenchus.operators import spellings

__all__ = ["CLAUSES", "is_keyword", "keywords"]

# The first words of clauses. Where a clause cannot be read, the parser goes on at the next of these.
CLAUSES = ("from", "where", "order", "offset", "limit", "per")
CONNECTIONS = ("and", "or", "not", "by", "asc", "desc", "all")


@cache
def keywords() -> frozenset[str]:
    """Return the words that need quotes when they are meant as a name or a value."""
    operators = (word for spelling in spellings() for word in spelling if word.isalpha())
    return frozenset((*CLAUSES, *CONNECTIONS, *operators))


def is_keyword(word: str) -> bool:
    """Say whether a word needs quotes to be a name or a value."""
    return word.lower() in keywords()
