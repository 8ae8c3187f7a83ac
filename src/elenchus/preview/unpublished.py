"""A site as it would be if all of it were public: drafts, what is scheduled or over, and pending edits."""

from __future__ import annotations

from elenchus.editing.edits import pending, with_edits
from elenchus.engine.explaining.state import state_of
from elenchus.frozen import Working
from elenchus.site.site import Site
from elenchus.values.kept import cached_property

__all__ = ["AllShown"]


class AllShown(Working):
    """What those who build a site see of it where they want to see all."""

    public: Site

    @cached_property
    def edited(self) -> Site:
        """The site with its pending edits. Raises SiteError where one cannot be read."""
        return with_edits(self.public)

    @cached_property
    def site(self) -> Site:
        """The site with these and with all entries. Raises SiteError where an edit cannot be read."""
        return Site(self.edited.content.all_public(), self.public.clock)

    @cached_property
    def with_edit(self) -> frozenset[str]:
        """The ids of the entries that have a pending edit."""
        return frozenset(pending(self.public))

    def mark(self, name: str) -> str:
        """Return what is to be said of an entry that visitors are not shown so: ``draft``, say."""
        data = self.edited.dataset
        state = state_of(data, self.public.clock.now, data.row_of_id(name))
        told = [] if state.is_public else [str(state)]
        return ", ".join(told + ["pending edit"] * (name in self.with_edit))
