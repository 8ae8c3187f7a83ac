"""What a check asks of whoever knows the site's listings: their questions, with parameters bound."""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol

from elenchus.frozen import Frozen, member
from elenchus.language.nodes import Question

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from elenchus.errors import Place, Problem

__all__ = ["NO_LISTINGS", "Asked", "Listings"]


class Asked(Frozen):
    """The question of a listing, ready to be checked.

    ``name`` is that of the listing, empty for a question of its own. ``fill_from`` is the listing that
    fills it up to ``at_least`` rows. ``empty`` says why it has no rows whatever its question says,
    because a parameter is absent. ``problems`` are those of its text and of its parameters; ``here`` what
    the page gives, for the listings that the question names. ``show`` are the fields that it shows.
    """

    question: Question = member(default_factory=Question)
    name: str = ""
    fill_from: str = ""
    at_least: int = 0
    empty: str = ""
    problems: tuple[Problem, ...] = ()
    here: Mapping[str, Sequence[str]] = member(default_factory=dict)
    show: Sequence[str] = ()


class Listings(Protocol):
    """The listings of a site by name."""

    def names(self) -> Sequence[str]:
        """Return the names of all listings."""

    def clash(self, name: str) -> Place | None:
        """Return where a listing stands that has the name of something else, None if none does."""

    def asked(self, name: str, given: Mapping[str, Sequence[str]]) -> Asked:
        """Return the question of a listing that exists, with the values given for its parameters."""


class _NoListings:
    """A site without listings."""

    def names(self) -> Sequence[str]:
        """Return no name."""
        return ()

    def clash(self, _: str) -> Place | None:
        """Return None: no listing has any name."""
        return None

    def asked(self, name: str, given: Mapping[str, Sequence[str]]) -> Asked:
        """Raise KeyError: there is none."""
        raise KeyError(name, given)


NO_LISTINGS = _NoListings()
