"""Changing the members of objects in the text of a JSON document (RFC 8259)."""

from __future__ import annotations

import json
import re
from typing import TYPE_CHECKING

from elenchus.sources._json import items_at, members_at
from elenchus.sources._keys import as_written
from elenchus.sources._splice import Splice, cut, joined
from elenchus.values.wording import as_text

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence

    from elenchus.schema.edits import NewValue, Sort
    from elenchus.sources._json import Member

__all__ = ["object_changed"]

_NUMBER = re.compile(r"-?(?:0|[1-9]\d*)(?:\.\d+)?(?:[eE][+-]?\d+)?")
_TRUTHS = {"true": "true", "false": "false", "yes": "true", "no": "false", "on": "true", "off": "false"}


def object_changed(text: str, at: int, values: Mapping[str, NewValue], separator: str) -> Iterator[Splice]:
    """Yield what gives members of the object at a place other values. Raises Unreadable."""
    yield from _Object(text, at, separator).changed(values)


class _Object:
    """An object in a text, with the places of its members."""

    def __init__(self, text: str, at: int, separator: str) -> None:
        self.text = text
        self.at = at
        self.separator = separator
        *self.members, behind = members_at(text, at)
        self.end = behind.begins
        self.is_ascii = text.isascii() and "\\u" in text

    def changed(self, values: Mapping[str, NewValue]) -> Iterator[Splice]:
        """Yield what gives members other values."""
        known = [str(each.name) for each in self.members]
        values = as_written(values, known)
        gone = [name in values and not values[name].values for name in known]
        yield from cut([(each.begins, each.end) for each in self.members], gone)
        for at, name in enumerate(known):
            if name in values and not gone[at]:
                yield self.replaced(self.members[at], values[name])
        added = [
            f"{self.quoted(name)}{self.colon}{self.written(new, '')}"
            for name, new in values.items()
            if name not in known and new.values
        ]
        if added:
            yield self.added(added, has_others=not all(gone))

    @property
    def colon(self) -> str:
        """The colon with its blanks, as the first member has it."""
        return self.text[self.members[0].name_end : self.members[0].start] if self.members else ": "

    def added(self, written: Sequence[str], *, has_others: bool) -> Splice:
        """Return what adds members behind the last one, set apart as the others are."""
        if not self.members:
            return Splice(self.at + 1, self.end - 1, ", ".join(written))
        last, lead = self.members[-1], self.text[self.at + 1 : self.members[0].begins]
        gap = "," + (lead if "\n" in lead else " ")
        if len(self.members) > 1:
            gap = self.text[self.members[-2].end : last.begins]
        return Splice(last.end, last.end, (gap if has_others else "") + gap.join(written))

    def replaced(self, member: Member, new: NewValue) -> Splice:
        """Return what gives a member another value."""
        old = self.text[member.start : member.end]
        text = self.list(member.start, member.end, new) if old.startswith("[") else self.written(new, old)
        return Splice(member.start, member.end, text)

    def written(self, new: NewValue, old: str) -> str:
        """Return a value as JSON has it, in the place of one that is no list, or of none."""
        as_one = old.startswith('"') and bool(self.separator) and self.separator in old
        if new.may_be_list and not as_one and (len(new.values) > 1 or not old):
            return f"[{', '.join(self.scalar(each, new.sort, '') for each in new.values)}]"
        before = json.loads(old, strict=False) if old.startswith('"') else ""
        return self.scalar(joined(new.values, before, self.separator), new.sort, old)

    def list(self, start: int, end: int, new: NewValue) -> str:
        """Return a list in the place of another: what stays as it is written, the gaps as they were."""
        items = list(items_at(self.text, start))
        kept = {as_text(value): self.text[first:last] for value, first, last in items if value is not None}
        sample = next((self.text[first:last] for _, first, last in items), "")
        texts = [kept.get(each) or self.scalar(each, new.sort, sample) for each in new.values]
        if not items:
            return f"[{', '.join(texts)}]"
        lead, tail = self.text[start + 1 : items[0][1]], self.text[items[-1][2] : end - 1]
        gap = self.text[items[0][2] : items[1][1]] if len(items) > 1 else f",{lead or ' '}"
        return f"[{lead}{gap.join(texts)}{tail}]"

    def scalar(self, text: str, sort: Sort, old: str) -> str:
        """Return a text as JSON has it: in quotes, but for numbers and truths where the old one had none."""
        if not old.startswith('"'):
            if sort == "number" and _NUMBER.fullmatch(text):
                return text
            if sort == "yesno" and text.lower() in _TRUTHS:
                return _TRUTHS[text.lower()]
        return self.quoted(text)

    def quoted(self, text: str) -> str:
        """Return a text in quotes."""
        return json.dumps(text, ensure_ascii=self.is_ascii)
