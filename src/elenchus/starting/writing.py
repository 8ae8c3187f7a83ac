"""The files of a site that is begun: TOML with a comment wherever somebody may want to decide otherwise."""

from __future__ import annotations

import json
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, Any

from elenchus.starting.plurals import plural

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence

    from jinja2 import Environment

    from elenchus.starting.guessing import Typed
    from elenchus.starting.plan import SitePlan
    from elenchus.starting.sitedraft import SiteDraft, SourceDraft

__all__ = ["field_text", "files_of", "site_text", "source_text"]


@cache
def _templates() -> Environment:
    """Return the templates of the files."""
    from jinja2 import Environment, FileSystemLoader

    found = Environment(  # noqa: S701 - this is TOML, whose texts have a filter of their own
        loader=FileSystemLoader(Path(__file__).with_name("files")),
        trim_blocks=True,
        lstrip_blocks=True,
        keep_trailing_newline=True,
    )
    found.filters |= {
        "toml": _text,
        "key": _key,
        "plural": plural,
        "words": _words,
        "first_of": _first_of,
        "comment": _comment,
        "spoken": _spoken,
    }
    return found


def _text(value: str) -> str:
    """Return a text of TOML."""
    return json.dumps(value, ensure_ascii=False).replace("\x7f", "\\u007F")


def _words(values: Iterable[str]) -> str:
    """Return a list of texts of TOML."""
    return f"[{', '.join(map(_text, values))}]"


def _spoken(name: str) -> str:
    """Return a name as words."""
    return name.replace("-", " ").replace("_", " ")


def _comment(text: str) -> str:
    """Return a text for a comment: one line without signs that cannot be seen."""
    return "".join(char if char.isprintable() else " " for char in text)


def _first_of(values: Sequence[Any], count: int) -> Sequence[Any]:
    """Return the first few of some values."""
    return list(values)[:count]


def _key(name: str) -> str:
    """Return a key of TOML."""
    return name if name.isascii() and name.replace("-", "").replace("_", "").isalnum() else _text(name)


def site_text(draft: SiteDraft, plan: SitePlan, paths: Mapping[str, str] | None = None) -> str:
    """Return the site file of a draft; ``paths`` has others in the place of those of its sources."""
    given = {"draft": draft, "plan": plan, "paths": paths or {}}
    return _templates().get_template("elenchus.toml").render(given)


def source_text(source: SourceDraft) -> str:
    """Return the part of a site file that is about one source."""
    return _templates().get_template("source.toml").render(source=source, paths={})


def field_text(name: str, told: Typed) -> str:
    """Return the declaration of a field."""
    return _templates().get_template("field.toml").render(name=name, told=told)


def files_of(draft: SiteDraft, plan: SitePlan) -> dict[str, str]:
    """Return the files of a site by name."""
    given = {"draft": draft, "site": plan}
    texts = {name: _templates().get_template(name).render(given) for name in ("listings.toml", "pages.toml")}
    return {"elenchus.toml": site_text(draft, plan), **texts}
