"""What the rows of an answer are: entries, or the terms of a taxonomy."""

from __future__ import annotations

from elenchus.frozen import Ordered

__all__ = ["ENTRIES", "Subject", "terms_of"]


class Subject(Ordered):
    """The entries of a site, or the terms of the taxonomy that is named."""

    taxonomy: str = ""

    @property
    def is_terms(self) -> bool:
        """Say whether rows are terms."""
        return bool(self.taxonomy)

    @property
    def is_entries(self) -> bool:
        """Say whether rows are entries."""
        return not self.taxonomy

    @property
    def one(self) -> str:
        """What messages call one row: an entry, or a term by the name of its taxonomy."""
        return self.taxonomy or "entry"

    def counted(self, count: int) -> str:
        """Return the word for so many rows."""
        one, several = ("term", "terms") if self.taxonomy else ("entry", "entries")
        return one if count == 1 else several


ENTRIES = Subject()


def terms_of(taxonomy: str) -> Subject:
    """Return the terms of a taxonomy as a subject."""
    return Subject(taxonomy)
