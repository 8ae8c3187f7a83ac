"""What stands at an address: a page, a later page of it, a file beside it, or nothing."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from elenchus.frozen import Frozen, Working
from elenchus.pages.paths import file_beside, file_of, folder_of
from elenchus.rendering.views import Visit
from elenchus.values.kept import cached_property
from elenchus.values.texts import nearest

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from elenchus.pages.book import Book, Page

__all__ = ["PagePlace", "Places"]

_LATER = re.compile(r"(?P<folder>(?:.*/)?)page/(?P<number>[1-9]\d{0,8})/(?P<rest>[^/]*)")
_NEAR = 5


class PagePlace(Frozen):
    """A page with the look at it; ``section`` and ``form`` are those of a file beside it."""

    page: Page
    visit: Visit
    section: int = -1
    form: str = ""


class Places(Working):
    """The addresses of a site."""

    book: Book

    @cached_property
    def folders(self) -> Mapping[str, tuple[Page, str]]:
        """The pages by the folders of their later pages, with the folder of a section's own."""
        found: dict[str, tuple[Page, str]] = {}
        for page in self.book.pages:
            below = {section.pages_at.strip("/") for section in page.rule.sections}
            for name in sorted(below | {""}):
                found.setdefault(folder_of(page.path) + (f"{name}/" if name else ""), (page, name))
        return found

    @cached_property
    def beside(self) -> Mapping[str, tuple[Page, int, str]]:
        """The files beside pages: the page, the number of the section, the form."""
        found: dict[str, tuple[Page, int, str]] = {}
        for page in self.book.pages:
            for number, rule in enumerate(page.rule.sections):
                for form in rule.beside:
                    path = file_beside(page.path, rule.slug(number), form)
                    found.setdefault(path, (page, number, form))
        return found

    def find(self, path: str) -> PagePlace | None:
        """Return what stands at a path without the slash at its beginning; None where nothing does."""
        if path.endswith("/") or not path or "." in path.rpartition("/")[2]:
            page = self.book.by_file.get(file_of(path))
            if page:
                return PagePlace(page, Visit())
        if path in self.beside:
            page, section, form = self.beside[path]
            return PagePlace(page, Visit(), section, form)
        return self.later(path)

    def later(self, path: str) -> PagePlace | None:
        """Return what stands on a later page, or beside one."""
        match = _LATER.fullmatch(path)
        if not match or match["number"] == "1":
            return None
        number = int(match["number"])
        if match["rest"] in ("", "index.html") and match["folder"] in self.folders:
            page, below = self.folders[match["folder"]]
            rules = [rule.pages_at for rule in page.rule.sections if rule.pages_at.strip("/") == below]
            return PagePlace(page, Visit(number, rules[0] if below else ""))
        found = self.beside.get(match["folder"] + match["rest"])
        return PagePlace(found[0], Visit(number), found[1], found[2]) if found else None

    def near(self, path: str) -> Sequence[str]:
        """Return the addresses that look like one."""
        return nearest(path, [page.address for page in self.book.pages], most=_NEAR)
