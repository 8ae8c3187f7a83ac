"""Elenchus answers which entries a place on a website shows, in what order, and why.

    >>> import elenchus
    >>> site = elenchus.open_site(elenchus.demo_folder())
    >>> elenchus.ask(site, "from guide where species = grey-seal").total
    2

Names are loaded when they are first used, so that importing the package costs next to nothing.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from elenchus.asking.describing import describe
    from elenchus.asking.questions import ask, why, why_entry
    from elenchus.demo import demo_folder
    from elenchus.errors import (
        ElenchusError,
        FolderError,
        MarkerError,
        NoSuchName,
        NoSuchPage,
        OptionError,
        Place,
        Problem,
        QuestionError,
        SiteError,
        SourceError,
        Span,
    )
    from elenchus.language.parser import parse
    from elenchus.language.printer import print_question
    from elenchus.plan.answer import Answer, Choice, Choices, Group, Row
    from elenchus.plan.explanation import Explanation, Verdict
    from elenchus.site.site import Site, find_site, open_site

__version__ = "0.1.0"

__all__ = [
    "Answer",
    "Choice",
    "Choices",
    "ElenchusError",
    "Explanation",
    "FolderError",
    "Group",
    "MarkerError",
    "NoSuchName",
    "NoSuchPage",
    "OptionError",
    "Place",
    "Problem",
    "QuestionError",
    "Row",
    "Site",
    "SiteError",
    "SourceError",
    "Span",
    "Verdict",
    "ask",
    "demo_folder",
    "describe",
    "find_site",
    "open_site",
    "parse",
    "print_question",
    "why",
    "why_entry",
]

HOMES = {
    "elenchus.asking.describing": ("describe",),
    "elenchus.asking.questions": ("ask", "why", "why_entry"),
    "elenchus.demo": ("demo_folder",),
    "elenchus.plan.answer": ("Answer", "Choice", "Choices", "Group", "Row"),
    "elenchus.plan.explanation": ("Explanation", "Verdict"),
    "elenchus.errors": (
        "ElenchusError", "FolderError", "MarkerError", "NoSuchName", "NoSuchPage", "OptionError", "Place",
        "Problem", "QuestionError", "SiteError", "SourceError", "Span",
    ),
    "elenchus.language.parser": ("parse",),
    "elenchus.language.printer": ("print_question",),
    "elenchus.site.site": ("Site", "find_site", "open_site"),
}  # fmt: skip


def __getattr__(name: str) -> Any:
    for module, names in HOMES.items():
        if name in names:
            return getattr(import_module(module), name)
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")


def __dir__() -> list[str]:
    return sorted((*__all__, "__version__"))
