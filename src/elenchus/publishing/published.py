"""What was published last, as one side of a comparison."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.frozen import Frozen
from elenchus.pages.paths import address_of

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence

    from elenchus.publishing.manifest import Manifest

__all__ = ["Published"]


class Published(Frozen):
    """What a manifest tells: the rows of sections, and where pages are; of listings it tells nothing."""

    manifest: Manifest
    listings: None = None

    @property
    def sections(self) -> Mapping[str, Sequence[str]]:
        """The ids of the rows of each section."""
        return self.manifest.listings

    @property
    def addresses(self) -> Mapping[str, str]:
        """The pages by their addresses; nobody knows their titles any more."""
        return {f"/{address_of(path)}": "" for path in self.manifest.files if path.endswith(".html")}

    def titles(self, _names: Iterable[str]) -> Mapping[str, str]:
        """Return nothing: titles stand in the pages."""
        return {}
