"""The words that pages say of themselves; a site replaces any of them in ``[words]``."""

from __future__ import annotations

__all__ = ["WORDS"]

# Words in braces are filled in.
WORDS: dict[str, str] = {
    "skip": "Skip to the content",
    "menu": "Site",
    "trail": "Where you are",
    "home": "Home",
    "pages": "Pages of {title}",
    "page": "Page {number}",
    "page_of": "page {number} of {pages}",
    "previous": "Previous",
    "next": "Next",
    "beside": "Before and after",
    "written_by": "By {name}",
    "updated": "Updated {date}",
    "continued": "continued",
    "none": "none",
    "empty": "Nothing is listed here.",
    "count": "Entries",
    "together": "Together",
    "entry": "{count} entry",
    "entries": "{count} entries",
    "subscribe": "The same as data",
    "choose": "Choose from {title}",
    "show": "Show",
    "reset": "Show all",
    "any": "any",
    "chosen": "{count} of {all} shown",
    "details": "Details",
    "yes": "yes",
    "no": "no",
    "topics": "Filed under",
}
