"""The words that the language keeps for itself."""

from __future__ import annotations

__all__ = ["CLAUSES", "KEYWORDS", "is_keyword"]

# The first words of clauses. Where a clause cannot be read, the parser goes on at the next of these.
CLAUSES = ("from", "including", "where", "order", "lead", "at", "group", "offset", "limit", "per")

# Words that need quotes when they are meant as a name or a value. The words of operators are not among
# them: where an operator can stand no name can, so that a field may be called “starts” or “contains”.
KEYWORDS = frozenset((*CLAUSES, "and", "or", "not", "by", "asc", "desc", "related", "listed"))


def is_keyword(word: str) -> bool:
    """Say whether a word needs quotes to be a name or a value."""
    return word.lower() in KEYWORDS
