"""Changing the front matter of a text file, whichever of its forms that has; the text below it stays."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from elenchus.schema.edits import UneditableError
from elenchus.sources._simple import Unreadable
from elenchus.sources._splice import Splice, end_of_line, spliced

if TYPE_CHECKING:
    from collections.abc import Mapping

    from elenchus.schema.edits import NewValue

__all__ = ["changed_front"]

_OPENING = re.compile(r"(---|\+\+\+)[^\S\r\n]*(?:\r\n|\n|\r)")
_CLOSING = {
    fence: re.compile(rf"(?:(?<=[\r\n])|\A){re.escape(fence)}[ \t]*(?=[\r\n]|\Z)") for fence in ("---", "+++")
}


def changed_front(text: str, values: Mapping[str, NewValue], separator: str) -> str:
    """Return a file's text in whose front matter some keys have other values. Raises UneditableError."""
    end = end_of_line(text)
    opening = _OPENING.match(text)
    if opening is None:
        return _json_front(text, values, separator, end)
    start = opening.end()
    closing = _CLOSING[opening[1]].search(text, start)
    if closing is None:
        raise UneditableError(f"the front matter is not closed: no second {opening[1]}", 1)
    front = text[start : closing.start()]
    if opening[1] == "---":
        from elenchus.sources._yaml_edit import changed_yaml

        new = changed_yaml(front, values, separator, end)
    else:
        from elenchus.sources._toml_edit import changed_toml

        new = changed_toml(front, values, separator, end)
    return text[:start] + new + text[closing.start() :]


def _json_front(text: str, values: Mapping[str, NewValue], separator: str, end: str) -> str:
    """Return a text whose front matter is JSON, or that has none yet, with other values."""
    if text.startswith("{") and text[1:].lstrip().startswith(('"', "}")):
        from elenchus.sources._json_edit import object_changed

        try:
            return spliced(text, object_changed(text, 0, values, separator))
        except Unreadable as error:
            raise UneditableError(str(error), error.line) from None
    from elenchus.sources._yaml_edit import changed_yaml

    front = changed_yaml("", values, separator, end)
    return spliced(text, [Splice(0, 0, f"---{end}{front}---{end}")]) if front else text
