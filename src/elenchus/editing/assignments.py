"""Assignments as people write them: ``certainty=confirmed``, ``topic+=sea, ice``, ``summary=``."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, Literal, NamedTuple, cast

from elenchus.errors import OptionError, Problem
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Iterable

    from elenchus.schema.types import Field

__all__ = ["Assignment", "read_assignments"]

_FORM = re.compile(r"\s*([^\s=]+?)\s*(\+=|-=|=)(.*)", re.DOTALL)
_PART = re.compile(r"""\s*(?:"((?:[^"]|"")*)"|'((?:[^']|'')*)'|([^,]*))\s*(,|\Z)""", re.DOTALL)


class Assignment(NamedTuple):
    """What is to become of a field: ``=`` gives it values, ``+=`` adds some, ``-=`` takes some away."""

    field: str
    operator: Literal["=", "+=", "-="]
    text: str

    def values(self, field: Field | None) -> list[str]:
        """Return the values that it names: several, parted by commas, where the field may hold several.

        In quotes a value may have commas in it. Raises OptionError.
        """
        if field is None or not field.type.many:
            return [self.text] if self.text else []
        found: list[str] = []
        at = 0
        while at < len(self.text):
            match = _PART.match(self.text, at)
            if match is None:
                hint = "Write several values as topic=sea, ice; one with a comma in it in quotes."
                raise _wrong(f"{self.field}{self.operator}{self.text}", hint)
            twice, once, plain, _ = match.groups()
            value = (
                twice.replace('""', '"') if twice is not None
                else once.replace("''", "'") if once is not None
                else plain.strip()
            )  # fmt: skip
            found += [value] if value else []
            at = match.end()
        return list(dict.fromkeys(found))


def read_assignments(texts: Iterable[str]) -> list[Assignment]:
    """Return what texts such as ``topic+=sea`` say. Raises OptionError."""
    found = []
    for text in texts:
        match = _FORM.fullmatch(text)
        if match is None:
            hint = "Write field=value, field+=value, field-=value, or field= to clear it."
            raise _wrong(text, hint)
        name, operator, value = match.groups()
        if operator != "=" and not value.strip():
            raise _wrong(text, f"Write what {name} is to gain or lose.")
        found.append(Assignment(name, cast('Literal["=", "+=", "-="]', operator), value.strip()))
    if not found:
        raise OptionError([Problem("bad-assignment", "nothing is to be set", "Write field=value.")])
    return found


def _wrong(text: str, hint: str) -> OptionError:
    """Return the error of what is no assignment."""
    return OptionError([Problem("bad-assignment", f"{quoted(text)} sets nothing", hint)])
