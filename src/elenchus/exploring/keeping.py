"""Writing a question into the file of its listing: comments and the order of all else stay."""

from __future__ import annotations

import tomllib
from typing import TYPE_CHECKING, Any

from elenchus.errors import FolderError, NoSuchName, Place, Problem, SiteError
from elenchus.files import read_whole
from elenchus.frozen import Working, names_of_members, replace
from elenchus.journal import FileChange
from elenchus.language.nodes import And, Or, Question
from elenchus.language.parser import read, read_changes
from elenchus.language.printer import print_condition, print_question
from elenchus.language.tree import CLAUSES_OF, changed, parts_of
from elenchus.site.inheritance import Library
from elenchus.site.listings import Rules, listings_of_file
from elenchus.site.site import Site, journal_of
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Sequence

    from elenchus.journal import MadeChange
    from elenchus.site.inheritance import Listing
    from elenchus.site.pages import PageRule, PageRules, SectionRule

__all__ = ["Keeping", "keeping", "keeping_section"]

_FILE = "listings.toml"
_WIDEST = 90  # characters of a question on one line


class Keeping(Working):
    """A listing as it is to be written, or a section of a page: its file before and after.

    ``section`` is the section with the question that it is to ask, None where a listing is kept.
    """

    site: Site
    name: str
    file: FileChange
    section: SectionRule | None = None

    @property
    def is_idle(self) -> bool:
        """Say whether nothing changes."""
        return self.file.before == self.file.after

    def write(self) -> MadeChange:
        """Write the file, all of it or none. Raises FolderError."""
        return journal_of(self.site.definition.folder).write(f"keep {self.name}", [self.file], lambda: None)

    def after(self) -> Site:
        """Return the site as it would be with this; content that is read already is not read again."""
        content = replace(self.site.content)
        for key in ("found", "dataset", "library", "pages"):
            if key in self.site.content.__dict__:
                content.__dict__[key] = self.site.content.__dict__[key]
        if self.section is None:
            text = _text(self.file.after)
            new = listings_of_file(self.file.path, text, self.site.definition.schema).listings
            rules = self.site.library.rules
            content.__dict__["library"] = Library(
                Rules({**rules, **new}, self.site.library.problems, self.site.library.clashes)
            )
        else:
            content.__dict__["pages"] = _with_section(self.site.pages, self.name, self.section)
        return Site(content, self.site.clock, self.site.tables)


def keeping(
    site: Site, question: Question, base: Listing, name: str = "", shown: Sequence[str] = ()
) -> Keeping:
    """Return what becomes of a file when a question is kept under a name, by itself that of its listing.

    A listing that there is gets the clauses that are otherwise. A new one that was made from another is
    based on that. ``shown`` are the fields that it shows, where those are others. Raises NoSuchName for a
    name that cannot be one, SiteError for a file that cannot be changed so, FolderError for one that cannot
    be read.
    """
    name = name or base.name
    if not name:
        hint = "Write keep NAME."
        raise NoSuchName([Problem("no-name", "the question has no name yet", hint)])
    rules = site.library.rules
    file = rules[name].place.file if name in rules else _FILE
    before = _read(site, file)
    text = _text(before)
    values: dict[str, Any] = {"show": list(shown)} if shown else {}
    if name in rules:
        rule = rules[name]
        above = site.library.get(rule.based_on).question if rule.based_on else None
        ask = _rewritten(rule.ask, question, above)
    elif base.name:
        ask = _difference(base.question, question) or None
        values = {"based_on": base.name, **values}
    else:
        ask = _on_lines(question)
    values |= {} if ask is None else {"ask": ask}
    after = _with_values(text, file, name, values)
    found = Keeping(site, name, FileChange(file, before, _encoded(after, before)))
    _make_sure(site, found, question, before, values)
    return found


def keeping_section(site: Site, page: PageRule, number: int, question: Question) -> Keeping:
    """Return what becomes of a file of pages when a section asks something else, in its own words.

    Raises SiteError for a file that cannot be changed so, FolderError for one that cannot be read.
    """
    rule = page.sections[number]
    file = page.place.file
    before = _read(site, file)
    above = site.library.get(rule.listing).question if rule.listing else None
    ask = _rewritten(rule.ask, question, above)
    ask = rule.ask if ask is None else ask
    if len(tomllib.loads(_text(before))[page.name]["sections"]) != len(page.sections):
        raise SiteError([_unclear(Place(file), "another section of the page is wrong")])
    written = _with_values(_text(before), file, page.name, {"ask": ask}, at=("sections", number))
    after = _encoded(written, before)
    found = Keeping(site, page.name, FileChange(file, before, after), replace(rule, ask=ask))
    was, now = (tomllib.loads(_text(each)) for each in (before, after))
    item = now[page.name]["sections"][number]
    was[page.name]["sections"][number] = {**was[page.name]["sections"][number], "ask": ask}
    if now != was or item["ask"] != ask:
        raise SiteError([_unclear(Place(file), "something else would change as well")])
    return found


def _with_section(rules: PageRules, name: str, section: SectionRule) -> PageRules:
    """Return pages of which one section is another, told by where it stands."""
    page = rules.pages[name]
    sections = tuple(section if each.place == section.place else each for each in page.sections)
    return replace(rules, pages={**rules.pages, name: replace(page, sections=sections)})


def _text(content: bytes | None) -> str:
    """Return the text of a file."""
    return (content or b"").decode("utf-8-sig").replace("\r\n", "\n")


def _read(site: Site, file: str) -> bytes | None:
    """Return a file of the site, None where there is none. Raises FolderError."""
    try:
        return read_whole(site.definition.folder / file)
    except FileNotFoundError:
        return None
    except OSError as error:
        message = f"{file} cannot be read ({error.strerror})"
        raise FolderError([Problem("cannot-write", message, "Let it be read.")]) from None


def _encoded(text: str, before: bytes | None) -> bytes:
    """Return a text in the bytes of a file, with the mark at its beginning and the line ends that it had."""
    old = before or b""
    mark = b"\xef\xbb\xbf" if old.startswith(b"\xef\xbb\xbf") else b""
    if old.count(b"\n") and old.count(b"\r\n") == old.count(b"\n"):
        text = text.replace("\r\n", "\n").replace("\n", "\r\n")
    return mark + text.encode()


def _with_values(
    text: str, file: str, name: str, values: dict[str, Any], at: tuple[str | int, ...] = ()
) -> str:
    """Return the text of a file in which a table, or what stands ``at`` a place in it, has other values.

    Raises SiteError.
    """
    import tomlkit
    from tomlkit.exceptions import TOMLKitError

    try:
        document = tomlkit.parse(text)
        if name not in document:
            lead = "\n" if text.strip() else ""
            return text.rstrip() + ("\n" if text.strip() else "") + lead + _new(name, values)
        table: Any = document[name]
        for step in at:
            table = table[step]
        for key, value in values.items():
            table[key] = _item(value)
        return tomlkit.dumps(document)
    except TOMLKitError as error:
        message = f"{file} cannot be changed as it is written: {error}"
        raise SiteError([_unclear(Place(file), message)]) from None


def _new(name: str, values: dict[str, Any]) -> str:
    """Return the table of a new listing."""
    import tomlkit

    table = tomlkit.table()
    for key, value in values.items():
        table[key] = _item(value)
    document = tomlkit.document()
    document[name] = table
    return tomlkit.dumps(document)


def _item(value: Any) -> Any:
    """Return a value as it is written: a text of several lines from the line below its quotes on."""
    import tomlkit

    if not isinstance(value, str) or "\n" not in value:
        return value
    written = tomlkit.string(value, multiline=True).as_string()
    return tomlkit.parse('ask = """\n' + written[3:])["ask"]


def _make_sure(
    site: Site, found: Keeping, question: Question, before: bytes | None, values: dict[str, Any]
) -> None:
    """Raise where the file would not say what is meant, or something else as well."""
    place = Place(found.file.path)
    after = _text(found.file.after)
    before_text = _text(before)
    was = tomllib.loads(before_text)
    wanted = {**was, found.name: {**was.get(found.name, {}), **values}}
    now = tomllib.loads(after)
    rules = listings_of_file(found.file.path, after, site.definition.schema)
    if found.name not in rules.listings:
        old = listings_of_file(found.file.path, before_text, site.definition.schema)
        raise NoSuchName([problem for problem in rules.problems if problem not in old.problems])
    if now != wanted:
        raise SiteError([_unclear(place, "something else would change as well")])
    rule = rules.listings[found.name]
    if rule.based_on:
        base = site.library.get(rule.based_on)
        kept = changed(base.question, read_changes(rule.ask)[0])
    else:
        kept = read(rule.ask, comments=True)[0]
    if kept != question:
        raise SiteError([_unclear(place, f"the listing would ask {quoted(print_question(kept))}")])


def _unclear(place: Place, message: str) -> Problem:
    """Return the problem of a file that cannot be changed as it is meant."""
    return Problem("not-changed", message, "Nothing was written; change it by hand.", place=place)


# The text of a question


def _on_lines(question: Question) -> str:
    """Return a question on one line, or a clause on each where it is long."""
    text = print_question(question)
    return text if len(text) <= _WIDEST else "\n".join(_clauses(question).values()) + "\n"


def _clauses(question: Question) -> dict[str, str]:
    """Return the clauses of a question by their fields, as they are written."""
    return {
        name: print_question(Question(**{name: node}))
        for name in CLAUSES_OF
        if (node := getattr(question, name)) is not None
    }


def _difference(base: Question, question: Question) -> str:
    """Return the changes that make a question of another."""
    found = []
    for name, words in CLAUSES_OF.items():
        old, new = getattr(base, name), getattr(question, name)
        if new == old:
            continue
        if new is None:
            found.append(f"no {words}")
        elif name == "where" and old is not None and (joined := _joined(old, new)):
            found.append(f"and where {joined}")
        else:
            found.append(print_question(Question(**{name: new})))
    return " ".join(found)


def _joined(old: Any, new: Any) -> str:
    """Return the conditions that are joined to those that there were; nothing where some of these changed."""
    before, after = parts_of(old.condition), parts_of(new.condition)
    if after[: len(before)] != before or len(after) == len(before):
        return ""
    more = after[len(before) :]
    return print_condition(more[0] if len(more) == 1 else And(more))


def _rewritten(text: str, question: Question, above: Question | None) -> str | None:
    """Return the text of a question, or of changes of one ``above``, that asks another; None if it does so.

    Where clauses are as they were, they stay as they are written, with the comments around them.
    """
    if above is not None:
        changes, problems = read_changes(text)
        is_same = not problems and changed(above, changes) == question
        return None if is_same else _difference(above, question)
    old, problems = read(text, comments=True)
    if problems:
        return _on_lines(question)
    if old == question:
        return None
    edits, added = _edits(old, question)
    found = text
    for start, end, new in sorted(edits, reverse=True):
        rest = found[end:]
        found = found[:start] + new + (rest if new else rest.lstrip(" "))
    joint = "\n" if "\n" in text.strip() else " "
    for clause in added:
        found = found.rstrip() + joint + clause + ("\n" if text.endswith("\n") else "")
    again, problems = read(found, comments=True)
    return found if not problems and again == question else _on_lines(question)


def _edits(old: Question, new: Question) -> tuple[list[tuple[int, int, str]], list[str]]:
    """Return what stands in place of clauses of a text, and the clauses that come to its end."""
    edits, added = [], []
    for name in names_of_members(Question):
        before, after = getattr(old, name), getattr(new, name)
        if before == after:
            continue
        written = print_question(Question(**{name: after})) if after is not None else ""
        if before is None:
            added.append((list(CLAUSES_OF).index(name), written))
            continue
        span = before.span
        joined = _joined(before, after) if name == "where" and after is not None else ""
        if joined and not isinstance(before.condition, Or):
            edits.append((span.end, span.end, f" and {joined}"))
        else:
            edits.append((span.start, span.end, written))
    return edits, [text for _, text in sorted(added)]
