"""Reading pages: their paths, their sections, what gives a set of pages its rows."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from elenchus.errors import Problem, respelling
from elenchus.forms import beside_names
from elenchus.frozen import Frozen, member, replace
from elenchus.site.files import read_named
from elenchus.site.keys import PAGE, SECTION
from elenchus.site.listings import given_of
from elenchus.values.slugs import slugify
from elenchus.values.texts import distinct, either, nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence
    from pathlib import Path

    from elenchus.errors import Place
    from elenchus.site.toml import TomlFile

__all__ = ["PageRule", "PageRules", "SectionRule", "read_pages"]


class SectionRule(Frozen):
    """A section as a page has it: a listing with changes, or a question of its own.

    ``given`` are values for parameters; a text such as ``:here`` or ``:here.station`` is taken from the
    row of the page. Sections with a ``priority`` choose first, the smallest number before all.
    ``pages_at`` is the folder of its later pages beneath the page; ``beside`` are the forms of the
    files that hold the same rows.
    """

    place: Place
    listing: str = ""
    ask: str = ""
    title: str = ""
    given: Mapping[str, tuple[str, ...]] = member(default_factory=dict)
    priority: int | None = None
    pages_at: str = ""
    on_every_page: bool = False
    beside: tuple[str, ...] = ()
    own_slug: str = ""

    def slug(self, number: int) -> str:
        """Return what addresses call it: its listing, its title, or its number, which counts from 0.

        The second section of one name on a page has its ``own_slug``.
        """
        return self.own_slug or slugify(self.listing or self.title) or f"section-{number + 1}"


class PageRule(Frozen):
    """A page, or a set of pages with one for each row or group of a question.

    ``menu`` says whether the menu of the site leads to it; ``within`` is the listing in whose order the
    pages before and after stand; ``template`` one of the site's own in place of the page's.
    """

    name: str
    place: Place
    path: str = ""
    title: str = ""
    about: str = ""
    each: str = ""
    sections: tuple[SectionRule, ...] = ()
    no_repeats: bool = False
    private: bool = False
    menu: bool = True
    within: str = ""
    template: str = ""
    lines: Mapping[str, Place] = member(default_factory=dict)

    def at(self, key: str) -> Place:
        """Return the place of a key, or of the page where it has none."""
        return self.lines.get(key, self.place)


class PageRules(Frozen):
    """The pages of a site by name, and what is wrong in their files."""

    pages: Mapping[str, PageRule]
    problems: tuple[Problem, ...] = ()


def read_pages(folder: Path, listings: Sequence[str]) -> PageRules:
    """Return all pages of a site; a file that cannot be read is a problem beside the others."""
    return PageRules(*read_named(folder, "pages", "page", lambda file, name: _page_of(file, name, listings)))


def _page_of(file: TomlFile, name: str, listings: Sequence[str]) -> PageRule:
    """Return one page."""
    found = file.known((name,), PAGE)
    if not found["address"] and not found["each"]:
        file.report("missing-key", (name,), f"[{name}] has no address, so it stands nowhere")
    sections = []
    for number, item in enumerate(found["sections"]):
        section = _section_of(file, (name, "sections"), number, item, listings)
        sections += [section] if section else []
    if found["no_repeats"] and len(found["sections"]) < 2:  # noqa: PLR2004 - two can repeat
        file.report("idle-key", (name, "no_repeats"), "no_repeats means nothing on a page with one section")
    for section in sections:
        if section.priority is not None and not found["no_repeats"]:
            message = "priority means nothing without no_repeats: no section chooses before another"
            file.problems.append(Problem("idle-key", message, place=section.place))
    within = found["within"]
    if within and within not in listings:
        _unknown_listing(file, file.place((name, "within")), within, listings)
    for key in ("within", "menu"):
        if key in found and (key == "menu") == bool(found["each"]):
            needed = (
                "stands alone: the menu never leads to each page of a set" if key == "menu" else "is a set"
            )
            file.report("idle-key", (name, key), f"{key} means nothing for a page, unless it {needed}")
    return PageRule(
        name=name,
        place=file.place((name,)),
        path=found["address"],
        title=found["title"],
        about=found["about"],
        each=found["each"],
        sections=tuple(_named_apart(sections)),
        no_repeats=found["no_repeats"],
        private=found["private"],
        menu=found["menu"] if "menu" in found else not found["each"],
        within=within if within in listings else "",
        template=found["template"],
        lines={key: file.place((name, key)) for key in found},
    )


def _named_apart(sections: Sequence[SectionRule]) -> Iterator[SectionRule]:
    """Yield the sections of a page, each with a slug of its own: ``newest``, ``newest-2``."""
    for number, slug in enumerate(distinct([each.slug(at) for at, each in enumerate(sections)])):
        section = sections[number]
        yield section if section.slug(number) == slug else replace(section, own_slug=slug)


def _section_of(
    file: TomlFile, path: tuple[str, ...], number: int, item: Any, listings: Sequence[str]
) -> SectionRule | None:
    """Return one section: the name of a listing, or a table."""
    table = {"listing": item} if isinstance(item, str) else item
    if not isinstance(table, dict):
        file.report("wrong-type", path, f"a section is a listing or a table, not {quoted(str(item))}")
        return None
    found = file.item(path, table, SECTION)
    place = file.item_place(path, number, found["listing"] or found["ask"])
    listing = found["listing"]
    if listing and listing not in listings:
        _unknown_listing(file, place, listing, listings)
        return None
    if not listing and not found["ask"]:
        message = "a section shows nothing: it has neither a listing nor ask"
        file.problems.append(Problem("missing-key", message, place=place))
        return None
    return SectionRule(
        place=place,
        listing=listing,
        ask=found["ask"],
        title=found["title"],
        given=given_of(found["with"]),
        priority=found["priority"],
        pages_at=found["pages_at"],
        on_every_page=found["on_every_page"],
        beside=_formats_of(file, path, place, found["beside"]),
    )


def _unknown_listing(file: TomlFile, place: Place, name: str, listings: Sequence[str]) -> None:
    """Report a listing that there is not."""
    near = nearest(name, listings)
    hint = f"Listings: {', '.join(listings)}."
    file.problems.append(
        Problem(
            "unknown-listing",
            f"there is no listing {quoted(name)}",
            hint,
            place=place,
            near=near,
            cure=respelling(name, near),
        )
    )


def _formats_of(file: TomlFile, path: tuple[str, ...], place: Place, written: list[Any]) -> tuple[str, ...]:
    """Return the forms of the files beside a section; report those that there are not."""
    found, known = [], beside_names()
    for word in file.texts((*path, "beside"), written):
        if word in known:
            found.append(word)
            continue
        near = nearest(word, known)
        hint = f"Write {either(known)}."
        message = f"no file beside a page can be {quoted(word)}"
        file.problems.append(
            Problem("unknown-word", message, hint, place=place, near=near, cure=respelling(word, near))
        )
    return tuple(dict.fromkeys(found))
