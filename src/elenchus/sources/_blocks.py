"""HTML as a block that Markdown leaves alone."""

from __future__ import annotations

import re
from html import unescape

__all__ = ["as_block", "without_markup"]

_BLANK = re.compile(r"\n[ \t]*(?=\n)")
_TAG = re.compile(r"</?[A-Za-z][^<>]*>|<!--.*?-->", re.DOTALL)
_KEPT = re.compile(r"(<pre\b.*?</pre\s*>|<textarea\b.*?</textarea\s*>|<!--.*?-->)", re.DOTALL | re.IGNORECASE)


def without_markup(html: str) -> str:
    """Return the text of a line of HTML: no tags, and signs for their names."""
    return " ".join(unescape(_TAG.sub("", html)).split())


def as_block(html: str) -> str:
    """Return HTML as one block of Markdown (CommonMark 0.31, section 4.6), which no blank line ends."""
    parts = _KEPT.split(html.strip())
    for at, part in enumerate(parts):
        if at % 2 == 0:
            parts[at] = _BLANK.sub("", part)
        elif part.startswith("<!--"):
            parts[at] = ""
        else:
            parts[at] = _BLANK.sub("\n&#8203;", part)
    inner = "".join(parts).strip("\n")
    return f"<div>\n{inner}\n</div>" if inner else ""
