"""What was asked for while a page was drawn, so that a later run can tell whether it would be drawn alike."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TypeAlias

__all__ = ["Trace"]

Given: TypeAlias = tuple[tuple[str, tuple[str, ...]], ...]


@dataclass
class Trace:
    """What was asked for while a page was drawn, beside what the page itself shows.

    ``templates`` are names of templates with the digests of what was drawn by; ``asked`` what these asked,
    each a text with its values and whether only its rows were counted; ``links`` are addresses in texts, each
    behind the file that it stands in, with where they led. Files may change while pages are drawn, so what
    was found then is kept; of an earlier run it is None.
    """

    templates: dict[str, str | None] = field(default_factory=dict)
    asked: dict[tuple[str, Given, bool], None] = field(default_factory=dict)
    links: dict[tuple[str, str], str | None] = field(default_factory=dict)

    def copied(self) -> Trace:
        """Return what was asked for, to be kept."""
        return Trace(dict(self.templates), dict(self.asked), dict(self.links))

    def clear(self) -> None:
        """Forget all, as another page begins."""
        self.templates.clear()
        self.asked.clear()
        self.links.clear()
