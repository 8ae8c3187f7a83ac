"""Renaming a term, or merging it into another: in content, in the file of terms, in all questions, as one."""

from __future__ import annotations

import os
import shutil
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from elenchus.editing.changing import content_change, write_change
from elenchus.editing.definitions import with_other_words
from elenchus.editing.entries import FieldChange, entry_change
from elenchus.editing.spellings import texts_in_any, texts_of, whole_names
from elenchus.errors import NoSuchName, OptionError, Place, Problem, SiteError
from elenchus.files import read_whole, temporary_folder
from elenchus.frozen import Working, replace
from elenchus.index.content import reread
from elenchus.journal import FileChange
from elenchus.schema.edits import EntryEdit, NewValue, TermWords, UneditableError
from elenchus.site.files import files_of
from elenchus.site.keys import SITE_FILE
from elenchus.site.site import Site, open_site
from elenchus.site.terms import columns_in, lines_of_rows, terms_in
from elenchus.sources import SourceSpec, editor
from elenchus.values.filepaths import fixed_part
from elenchus.values.kept import cached_property
from elenchus.values.slugs import slugify
from elenchus.values.texts import fold, nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Sequence

    from elenchus.comparing.showing import Showing
    from elenchus.editing.changing import ContentChange, TableChange
    from elenchus.editing.entries import EntryChange
    from elenchus.journal import MadeChange
    from elenchus.pages.book import Page
    from elenchus.schema.taxonomy import Taxonomy, Term
    from elenchus.schema.terms import TermRow

__all__ = ["TermChange", "merged", "renamed"]

_LARGEST = 2**26
_MOST_NAMED = 8  # terms that a message lists
_WORDS = ("slug", "name", "parent")  # columns of a file of terms


class _TermWords:
    """The spellings of a term and of those below it, with what each becomes."""

    def __init__(
        self, taxonomy: Taxonomy, number: int, slugs: tuple[str, ...], names: tuple[str, ...]
    ) -> None:
        self.taxonomy = taxonomy
        self.number = number
        self.term: Term = taxonomy.terms[number]
        self.slugs = slugs  # of the new path, from the root
        self.names = names

    def of(self, text: str) -> str | None:
        """Return the new words for a spelling of the term or of one below it, None where nothing changes."""
        found = self.taxonomy.find(text)
        if len(found) != 1 or not self.number <= found[0] < self.taxonomy.ends[self.number]:
            return None
        new = self._of_term(text) if found[0] == self.number else self._of_lower(text, found[0])
        return None if new is None or new == text else new

    def is_it(self, text: str) -> bool:
        """Say whether a spelling means the term itself."""
        return self.taxonomy.find(text) == [self.number]

    def _of_term(self, text: str) -> str | None:
        """Return the new words for a spelling of the term itself; ids and other names are left."""
        folded, lead = fold(text.strip().lstrip("/")), "/" if text.strip().startswith("/") else ""
        # Where a slug and a name differ in their letters' size only, the text tells which of them it is.
        is_name = folded == fold(self.term.name) and not lead
        if is_name and (self.taxonomy.is_made or text.strip() != self.term.slug):
            return self.names[-1]
        if folded == fold(self.term.slug):
            return lead + (self.slugs[-1] if not lead else "/".join(self.slugs))
        if self._is_of_names(text, self.number):
            return "/".join(self.names)
        if folded == fold(self.term.address):
            return lead + "/".join(self.slugs)
        is_path = self.taxonomy.tree and folded == fold(self.taxonomy.name_paths[self.number])
        return "/".join(self.names) if is_path else None

    def _is_of_names(self, text: str, number: int) -> bool:
        """Say whether a path is written in names that slugs differ from by the size of letters only."""
        path = self.taxonomy.name_paths[number] if self.taxonomy.tree else ""
        return text.strip() == path != self.taxonomy.terms[number].address

    def _of_lower(self, text: str, number: int) -> str | None:
        """Return the new words for a path that leads through the term."""
        steps = text.strip().lstrip("/").split("/")
        lower, depth = self.taxonomy.terms[number], len(self.term.path)
        if len(steps) != len(lower.path):
            return None
        is_slugs = fold("/".join(steps)) == fold(lower.address) and not self._is_of_names(text, number)
        lead = "/" if text.strip().startswith("/") else ""
        return lead + "/".join([*(self.slugs if is_slugs else self.names), *steps[depth:]])


class TermChange(Working):
    """A term with other words: entries that change, the files of these, and the others that name it.

    ``paths`` are the slugs of the term from the root, before and after.
    """

    site: Site
    content: ContentChange
    others: tuple[FileChange, ...]
    taxonomy: str
    paths: tuple[tuple[str, ...], tuple[str, ...]]

    @property
    def files(self) -> tuple[FileChange, ...]:
        """All files that change."""
        return (*self.content.files, *self.others)

    @property
    def is_empty(self) -> bool:
        """Say whether nothing changes."""
        return not (self.files or self.content.tables)

    @property
    def tables(self) -> tuple[TableChange, ...]:
        """The rows of databases that change."""
        return self.content.tables

    @contextmanager
    def after(self) -> Iterator[Site]:
        """Give the site as it would be, in a folder that goes away again. Raises SiteError, FolderError."""
        _ = self.content.reread
        with temporary_folder(self._fill) as above:
            yield self._with_rows(open_site(self._copy_in(above), index=False).at(self.site.clock.now))

    def _fill(self, above: Path) -> None:
        """Copy the site into a folder, with the files that change as they will be. Raises OSError."""
        folder, leave_out = self._copy_in(above), partial(_left_out, self.site)
        shutil.copytree(self.site.definition.folder, folder, copy_function=_linked, ignore=leave_out)
        for path in self._outside:
            target = Path(os.path.normpath(folder / path))
            target.parent.mkdir(parents=True, exist_ok=True)
            if not os.path.lexists(target):
                target.symlink_to((self.site.definition.folder / path).resolve())
        for file in self.files:
            (folder / file.path).unlink(missing_ok=True)
            if file.after is not None:
                (folder / file.path).write_bytes(file.after)

    @property
    def _outside(self) -> list[str]:
        """What sources read outside the folder of the site, by paths from there."""
        specs = self.site.definition.sources
        paths = (fixed_part(path) for spec in specs if spec.outside for path in spec.paths)
        return [path for path in paths if path.startswith("..")]

    def _copy_in(self, above: Path) -> Path:
        """Return where the copy stands: so deep that paths which lead up from it stay below ``above``."""
        depth = max((path.split("/").count("..") for path in self._outside), default=0)
        return above.joinpath(*["up"] * depth, "site")

    def _with_rows(self, site: Site) -> Site:
        """Return a site of the changed files with the rows of databases as they would be, too."""
        if not self.content.tables:
            return site
        content, then = site.content, self.content.rows_then
        places = {path: at for at, path in enumerate(content.found.units.seen.paths)}
        units = {places[self.content.paths[unit]]: each for unit, each in then.items()}
        ordered = dict(sorted(units.items()))
        chunk = reread(content.found, content.wanted, ordered)
        return Site(content.with_units(list(ordered), chunk), site.clock)

    def moved(self, before: Showing, after: Showing) -> list[tuple[str, str]]:
        """Return the addresses of pages of the term and those below it that change, before and after."""
        old, new = self.paths
        known = {(page.rule.name, path): page.address for page, path in _pages_of_terms(after, self.taxonomy)}
        found = []
        for page, path in _pages_of_terms(before, self.taxonomy):
            address = (
                known.get((page.rule.name, (*new, *path[len(old) :]))) if path[: len(old)] == old else None
            )
            if address and address != page.address:
                found.append((f"/{page.address}", f"/{address}"))
        return found

    def write(self, told: str, tick: Callable[[], None] = lambda: None) -> MadeChange:
        """Write the files, all of them or none. Raises FolderError."""
        return write_change(self.site, told, self.files, self.content.tables, tick)


def _pages_of_terms(showing: Showing, taxonomy: str) -> Iterator[tuple[Page, tuple[str, ...]]]:
    """Yield the pages that stand for terms of a taxonomy, with the slugs of these from the root."""
    terms = showing.site.dataset.taxonomies[taxonomy].terms
    for page in showing.survey.book.pages:
        if page.here and page.here.subject and page.here.subject.taxonomy == taxonomy:
            yield page, terms[page.here.number].path


def _linked(source: str, target: str) -> None:
    """Let a file stand at a second place, by a link where the system has such."""
    try:
        os.link(source, target, follow_symlinks=False)
    except OSError:
        shutil.copy2(source, target)


def _left_out(site: Site, folder: str, names: list[str]) -> set[str]:
    """Return what the site is not made of: hidden files and folders, and what was published."""
    target = site.definition.folder / site.definition.to
    return {name for name in names if name.startswith(".") or Path(folder) / name == target}


def renamed(site: Site, text: str, new: str) -> TermChange:
    """Return what becomes of a site when a term, written as ``taxonomy/term``, is called otherwise.

    A new name that is a slug changes the slug alone, where a file defines both. Raises NoSuchName,
    OptionError.
    """
    taxonomy, number = _named(site, text)
    term, slug = taxonomy.terms[number], slugify(new)
    if not slug or "/" in new:
        message = f"{quoted(new)} cannot be the name of a term"
        hint = "Write one with a letter or a digit, and without a slash: a term stays below the one above it."
        raise OptionError([Problem("bad-term", message, hint)])
    path = (*term.path[:-1], slug)
    if taxonomy.by_path.get(fold("/".join(path)), number) != number:
        message = f"{taxonomy.name} has a term {quoted('/'.join(path))} already"
        raise OptionError([Problem("bad-term", message, f"To make one of the two, write --into {slug}.")])
    is_slug_only = not taxonomy.is_made and new == slug and term.name != term.slug
    name = term.name if is_slug_only else new
    names = (*taxonomy.name_paths[number].split("/")[:-1], name)
    return _Renaming(site, _TermWords(taxonomy, number, path, names), None).change()


def merged(site: Site, text: str, into: str) -> TermChange:
    """Return what becomes of a site when a term becomes one with another. Raises NoSuchName, OptionError."""
    taxonomy, number = _named(site, text)
    _, other = _named(site, into if into.startswith(f"{taxonomy.name}/") else f"{taxonomy.name}/{into}")
    if number <= other < taxonomy.ends[number]:
        message = f"{taxonomy.terms[other].address} is {taxonomy.terms[number].address}, or stands below it"
        hint = "Name a term that stands elsewhere; to make it one with the term above it, name that."
        raise OptionError([Problem("bad-term", message, hint)])
    names = tuple(taxonomy.name_paths[other].split("/"))
    return _Renaming(site, _TermWords(taxonomy, number, taxonomy.terms[other].path, names), other).change()


def _named(site: Site, text: str) -> tuple[Taxonomy, int]:
    """Return the term that ``taxonomy/term`` names. Raises NoSuchName."""
    name, _, spelling = text.partition("/")
    taxonomies = site.dataset.taxonomies
    if name not in taxonomies or not spelling:
        near = [f"{each}/{text}" for each in taxonomies if taxonomies[each].find(text)]
        near = near or [f"{each}/{spelling}" for each in nearest(name, taxonomies)]
        hint = f"Write taxonomy/term. Taxonomies: {', '.join(taxonomies)}."
        raise NoSuchName([Problem("unknown-term", f"there is no term {quoted(text)}", hint, near=near)])
    found = taxonomies[name].find(spelling)
    if len(found) != 1:
        near = [f"{name}/{each}" for each in taxonomies[name].suggest(spelling)]
        near = [f"{name}/{taxonomies[name].terms[each].address}" for each in found] or near
        what = "several terms of" if found else "no term of"
        message = f"{quoted(spelling)} names {what} {name}"
        terms = [term.address for term in taxonomies[name].terms]
        more = " and others" if len(terms) > _MOST_NAMED else ""
        hint = f"Terms of {name}: {', '.join(terms[:_MOST_NAMED])}{more}."
        raise NoSuchName([Problem("unknown-term", message, hint, near=near)])
    return taxonomies[name], found[0]


class _Renaming:
    """One term that gets other words."""

    def __init__(self, site: Site, words: _TermWords, other: int | None) -> None:
        self.site = site
        self.words = words
        self.taxonomy = words.taxonomy
        self.other = other

    def change(self) -> TermChange:
        """Return what becomes of all files. Raises SiteError, FolderError."""
        entries = list(self.entries())
        others = [file for name in self.definitions if (file := self.definition(name))]
        terms = self.site.definition.schema.taxonomies[self.taxonomy.name].terms
        if terms:
            others.append(self.terms_file(terms))
        words = TermWords(self.taxonomy.name, self.words.of, self.words.is_it)
        content = content_change(self.site, entries, words)
        paths = self.words.term.path, self.words.slugs
        return TermChange(self.site, content, tuple(others), self.taxonomy.name, paths)

    @property
    def definitions(self) -> list[str]:
        """The files in which questions and conditions stand."""
        folder = self.site.definition.folder
        return [SITE_FILE, *files_of(folder, "listings"), *files_of(folder, "pages")]

    def definition(self, name: str) -> FileChange | None:
        """Return a file of questions as it would be; None where it stays, as one that cannot be read does."""
        before = read_whole(self.site.definition.folder / name, _LARGEST)
        try:
            text = before.decode()
        except UnicodeDecodeError:
            return None
        after = with_other_words(text, self.taxonomy.name, self.parameters, self.words.of).encode()
        return FileChange(name, before, after) if after != before else None

    @cached_property
    def parameters(self) -> set[str]:
        """The names of parameters that take terms of the taxonomy."""
        rules = self.site.library.rules.values()
        found = (each for rule in rules for each in rule.parameters.values())
        return {each.name for each in found if each.type and each.type.taxonomy == self.taxonomy.name}

    def entries(self) -> Iterator[EntryChange]:
        """Yield the entries that have the term, or one below it by a path that leads through it."""
        data, records = self.site.dataset, self.site.content.records
        cells = records.cells.get(self.taxonomy.name)
        if cells is None:
            return
        field = data.schema.fields_of(data.kind_names[0])[self.taxonomy.name]
        used, whole = np.unique(cells.codes), whole_names(data, field)
        concerned = [
            code
            for code, value in zip(used.tolist(), cells.values(used), strict=True)
            if any(map(self.words.of, texts_in_any(value, field, records.habits, whole)))
        ]
        owners = set(cells.owners[np.isin(cells.codes, concerned)].tolist())
        for row, number in enumerate(data.entries.names.records.tolist()):
            if number in owners:
                record = records.record(number)
                before = texts_of(record, field.name, field, whole)
                after = self.without_doubles([self.words.of(text) or text for text in before])
                change = FieldChange(field.name, tuple(before), tuple(after))
                found = entry_change(
                    self.site, row, {field.name: change}, {field.name: NewValue(after, may_be_list=True)}
                )
                if found:
                    yield found

    def without_doubles(self, texts: list[str]) -> list[str]:
        """Return texts without those that name the term again into which another was merged."""
        if self.other is None:
            return texts
        is_other = [self.taxonomy.find(text) == [self.other] for text in texts]
        first = is_other.index(True) if any(is_other) else -1
        return [text for at, text in enumerate(texts) if at == first or not is_other[at]]

    def terms_file(self, name: str) -> FileChange:
        """Return the file of terms as it would be. Raises SiteError where it cannot be changed."""
        before = read_whole(self.site.definition.folder / name, _LARGEST)
        columns, rows = columns_in(before, name), terms_in(before, name)
        kept = [row for row in rows if self.other is None or not self.is_row(row)]
        wanted = [self.row(row, columns) for row in kept]
        edits = []
        for row, new in zip(kept, wanted, strict=True):
            values = {name: getattr(new, name) for name in _WORDS if name in columns}
            changed = {name: NewValue([text]) for name, text in values.items() if text != getattr(row, name)}
            edits += [EntryEdit(row.place.line, 0, changed)] if changed else []
        after, spec = before, SourceSpec("terms", "csv", (name,))
        try:
            if edits:
                after = editor(spec, name)(spec, name, before, edits)
            after = _without(after, name, [row for row in rows if row not in kept])
            is_right = list(map(_unplaced, terms_in(after, name))) == list(map(_unplaced, wanted))
        except UneditableError:
            is_right = False
        if after == before or not is_right:
            message = f"the row of the term {self.words.term.address} cannot be changed here"
            raise SiteError([Problem("not-changed", message, "Change it by hand.", place=Place(name))])
        return FileChange(name, before, after)

    def is_row(self, row: TermRow) -> bool:
        """Say whether a row of the file of terms is that of the term."""
        if fold(row.slug) != fold(self.words.term.slug):
            return False
        above = self.taxonomy.parents[self.words.number]
        return above < 0 if not row.parent else self.taxonomy.find(row.parent) == [above]

    def row(self, row: TermRow, columns: Sequence[str]) -> TermRow:
        """Return a row of the file of terms as it is to be, as far as the file has columns for that."""
        if self.is_row(row):
            slug = self.words.slugs[-1]
            return replace(row, slug=slug, name=self.words.names[-1] if "name" in columns else slug)
        parent = self.words.of(row.parent) if row.parent else None
        return replace(row, parent=parent) if parent else row


def _without(content: bytes, name: str, rows: Sequence[TermRow]) -> bytes:
    """Return the content of a file of terms without some rows, each of which may have several lines."""
    lines = lines_of_rows(content, name) if rows else {}
    gone = {line for row in rows for line in lines[row.place.line]}
    kept = (text for line, text in enumerate(content.splitlines(keepends=True), 1) if line not in gone)
    return b"".join(kept) if gone else content


def _unplaced(row: TermRow) -> TermRow:
    """Return a row of a file of terms, whatever its line."""
    return replace(row, place=Place(""))
