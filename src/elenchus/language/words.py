"""The words that the language keeps for itself."""

from __future__ import annotations

__all__ = ["CLAUSES", "KEYWORDS", "NAMES_TOO", "is_keyword"]

# The first words of clauses. Where a clause cannot be read, the parser goes on at the next of these.
CLAUSES = (
    "from", "including", "where", "order", "lead", "at", "group", "having", "measure", "offset", "limit",
    "per",
)  # fmt: skip

# Of these, words that are names where a name is wanted: no clause can begin there, and fields are called so.
NAMES_TOO = frozenset({"having", "measure"})

# Words that need quotes when they are meant as a name or a value. The words of operators are not among
# them: where an operator can stand no name can, so that a field may be called “starts” or “contains”.
KEYWORDS = frozenset(
    (*(set(CLAUSES) - NAMES_TOO), "and", "or", "not", "by", "asc", "desc", "related", "listed")
)


def is_keyword(word: str) -> bool:
    """Say whether a word needs quotes to be a name or a value."""
    return word.lower() in KEYWORDS
