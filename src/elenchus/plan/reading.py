"""What all parts of a check share: the fields that can be asked, those mentioned, and the problems met."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.errors import About, Problem, Replacement
from elenchus.plan.fields import Fields, NoField

if TYPE_CHECKING:
    from collections.abc import Sequence

    from elenchus.errors import Span
    from elenchus.language.nodes import Path
    from elenchus.plan.nodes import FieldRef

__all__ = ["Reading"]


class Reading:
    """The fields of one question; problems and mentioned fields go to the lists given."""

    def __init__(self, fields: Fields, problems: list[Problem], mentioned: list[FieldRef]) -> None:
        self.fields = fields
        self.problems = problems
        self.mentioned = mentioned

    def report(
        self,
        code: str,
        message: str,
        hint: str,
        span: Span,
        about: About = About.ANYTHING,
        *,
        near: Sequence[str] = (),
    ) -> None:
        """Add a problem at a place in the question; a single name that comes near its word cures it."""
        cure = Replacement(span, near[0]) if len(near) == 1 and span.start < span.end else None
        self.problems.append(Problem(code, message, hint, span=span, near=near, cure=cure, about=about))

    def field(self, path: Path) -> FieldRef | None:
        """Return the field of a path; report one that leads nowhere."""
        try:
            found = self.fields.find(path)
        except NoField as error:
            self.problems.append(error.problem)
            return None
        self.mentioned.append(found)
        return found
