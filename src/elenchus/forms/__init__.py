"""Every form that an answer can be put in: one file each, found by scanning this folder.

A form's module has a record ``FORM``; the module's name is the word after ``--format`` and in ``beside``.
Modules that begin with a line are shared by them.
"""

from __future__ import annotations

import pkgutil
from functools import cache
from importlib import import_module
from typing import cast

from elenchus.forms._feed import Feed, FeedItem, stable_id
from elenchus.forms._record import Form, Frame, Need

__all__ = ["Feed", "FeedItem", "Form", "Frame", "Need", "beside_names", "form", "names", "stable_id"]


def names() -> list[str]:
    """Return the names of all forms."""
    return sorted(module.name for module in pkgutil.iter_modules(__path__) if not module.name.startswith("_"))


@cache
def form(name: str) -> Form:
    """Return a form by its name; KeyError when there is none."""
    if name not in names():
        raise KeyError(name)
    return cast("Form", import_module(f"{__name__}.{name}").FORM)


def beside_names() -> list[str]:
    """Return the names of the forms that files beside a page can have."""
    return [name for name in names() if form(name).ending]
