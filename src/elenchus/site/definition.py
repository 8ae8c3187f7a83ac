"""Reading elenchus.toml: sources, kinds, fields and taxonomies, every problem with its line."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from elenchus.errors import Near, Place, Problem, QuestionError, SiteError
from elenchus.frozen import Frozen, member, replace
from elenchus.language.parser import parse_condition
from elenchus.language.words import is_keyword
from elenchus.schema.types import (
    CORE_FIELDS,
    FIXED,
    Field,
    FieldType,
    Kind,
    Schema,
    TaxonomyRules,
    Type,
)
from elenchus.site.keys import (
    ACCEPTED,
    ASKED,
    FIELD,
    KIND,
    PUBLISH,
    SITE,
    SITE_FILE,
    TAXONOMY,
    TOP,
)
from elenchus.site.names import can_be_named
from elenchus.site.reading import check_placeholders, read_zone, tables_below
from elenchus.site.sources import read_source
from elenchus.site.toml import TomlFile, open_toml
from elenchus.site.words import WORDS
from elenchus.values.addresses import split_address
from elenchus.values.dates import literal_interval
from elenchus.values.filepaths import is_inside
from elenchus.values.placeholders import names_in
from elenchus.values.texts import either, nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Mapping
    from datetime import date, datetime
    from pathlib import Path
    from zoneinfo import ZoneInfo

    from elenchus.site.keys import Written
    from elenchus.sources import SourceSpec

__all__ = ["Acceptance", "Definition", "read_definition"]

_NUMERIC = (Type.INTEGER, Type.NUMBER)
_GIVES_WAY = ("author",)  # a field that every entry has, and that a taxonomy of its name takes the place of


class Acceptance(Frozen):
    """A finding of the checks that the site lives with: of a code, in a file, with words in its message."""

    code: str
    why: str
    place: Place
    file: str = ""
    says: str = ""

    def covers(self, problem: Problem) -> bool:
        """Say whether a problem is meant."""
        file = problem.place.file if problem.place else ""
        return problem.code == self.code and self.file in ("", file) and self.says in problem.message


class Definition(Frozen):
    """A site as its file describes it; ``clock`` is the pinned instant, None when time runs.

    ``trusted`` lets the HTML of its content onto pages as it is, ``remote`` pictures of other origins. ``to``
    is the folder that pages are published to, ``files`` are what is published beside them unchanged,
    ``words`` what pages say in place of their own words; ``formulas`` lets cells of CSV files be formulas to
    a spreadsheet. Where it wants ``redirects``, old addresses lead on to new ones, those in ``moved`` among
    them. ``tables`` is where questions are asked, as it is written; nothing for the content itself.
    """

    folder: Path
    title: str
    address: str
    language: str
    seed: str
    zone: ZoneInfo
    clock: int | None
    sources: tuple[SourceSpec, ...]
    schema: Schema
    accepted: tuple[Acceptance, ...] = ()
    trusted: bool = False
    remote: bool = True
    to: str = ""
    files: tuple[str, ...] = ()
    words: Mapping[str, str] = member(default_factory=dict)
    formulas: bool = False
    redirects: bool = False
    moved: Mapping[str, str] = member(default_factory=dict)
    tables: str = ""

    def source(self, name: str) -> SourceSpec:
        """Return a source by its name."""
        return next(spec for spec in self.sources if spec.name == name)


def read_definition(folder: Path) -> Definition:
    """Read the site file of a folder. Raises SiteError with all that is wrong in it."""
    file = open_toml(folder / SITE_FILE, SITE_FILE)
    file.known((), TOP)
    site = file.known(("site",), SITE)
    zone = read_zone(file, site["timezone"])
    publish = file.known(("publish",), PUBLISH)
    schema = _read_schema(file)
    for name, rules in schema.taxonomies.items():
        if rules.terms and not is_inside(folder, rules.terms):
            message = f"the file of terms {quoted(rules.terms)} lies outside the site, or a link leads there"
            file.report("outside-site", ("taxonomies", name, "terms"), message, "Put a copy into the site.")
    names = tuple(
        sorted({*schema.taxonomies, *(each for kind in schema.kinds for each in schema.fields_of(kind))})
    )
    definition = Definition(
        folder=folder,
        title=site["title"],
        address=site["address"],
        language=site["language"],
        seed=site["seed"],
        zone=zone,
        clock=_read_clock(file, site["clock"], zone),
        sources=tuple(
            read_source(file, name, folder, (site["language"], site["timezone"]), names)
            for name in tables_below(file, ("sources",))
        ),
        schema=schema,
        accepted=tuple(_read_accepted(file)),
        trusted=site["trusted"],
        remote=site["remote"],
        to=publish["to"],
        files=tuple(_read_files(file, folder, publish["files"])),
        words=_read_words(file),
        formulas=publish["formulas"],
        redirects=publish["redirects"],
        moved=_read_moved(file) if publish["moved"] else {},
        tables=file.known(("tables",), ASKED)["at"],
    )
    _check_site_address(file, definition.address)
    if definition.trusted and not definition.remote:
        message = "remote = false cannot be kept beside trusted = true: that HTML stands on pages as it is"
        file.report("idle-key", ("site", "remote"), message, "Take one of the two away.")
    if not file.data.get("sources"):
        file.report(
            "no-source", (), "the site has no [sources.NAME]", 'Add one with read = "markdown" and a path.'
        )
    if file.problems:
        raise SiteError(sorted(file.problems, key=lambda problem: problem.place.line if problem.place else 0))
    return definition


def _read_accepted(file: TomlFile) -> Iterator[Acceptance]:
    """Yield the findings that the site lives with; each must say why."""
    written = file.data.get("accepted", [])
    for number, item in enumerate(written if isinstance(written, list) else []):
        place = file.item_place(("accepted",), number, "")
        if not isinstance(item, dict):
            file.report("wrong-type", ("accepted",), "[[accepted]] is a table with code and why")
            continue
        found = file.item(("accepted",), item, ACCEPTED)
        if not found["code"] or not found["why"]:
            message = "what is accepted needs its code, and why it is accepted"
            file.problems.append(Problem("missing-key", message, place=place))
            continue
        yield Acceptance(found["code"], found["why"], place, found["file"], found["says"])


def _read_files(file: TomlFile, folder: Path, written: Iterable[Any]) -> Iterator[str]:
    """Yield the files and folders that are published unchanged; they must be in the site."""
    root = folder.resolve()
    for name in file.texts(("publish", "files"), written):
        path = (root / name).resolve()
        if not path.is_relative_to(root) or path == root:
            hint = "Name a file or a folder inside the site's."
            message = f"{quoted(name)} is not inside the site, so it is never published"
            file.report("outside-site", ("publish", "files"), message, hint)
        elif not path.exists():
            message = f"there is no file or folder {quoted(name)} in the site"
            file.report("missing-folder", ("publish", "files"), message)
        else:
            yield path.relative_to(root).as_posix()


def _read_words(file: TomlFile) -> dict[str, str]:
    """Return the words of pages that the site says in its own way."""
    found = file.texts_of(("words",), WORDS)
    for name, text in found.items():
        check_placeholders(file, ("words", name), text, tuple(names_in(WORDS[name])))
    return found


def _read_moved(file: TomlFile) -> dict[str, str]:
    """Return the new address of each old one; both are written as pages write theirs."""
    found = file.texts_of(("publish", "moved"))
    for old, new in found.items():
        for address in (old, new):
            if not address.startswith("/") or address.startswith("//"):
                hint = 'Write it from the root of the site: "/old/" = "/new/".'
                message = f"{quoted(address)} is not the address of a page of the site"
                file.report("bad-address", ("publish", "moved", old), message, hint)
    return found


def _check_site_address(file: TomlFile, address: str) -> None:
    """Report an address that pages cannot be under."""
    parts = split_address(address)
    if address and (
        parts is None
        or parts.scheme not in ("http", "https")
        or not parts.hostname
        or parts.query
        or parts.fragment
    ):
        hint = "Write it whole: https://example.org/ or https://example.org/notes/."
        file.report(
            "bad-address", ("site", "address"), f"{quoted(address)} is not the address of a site", hint
        )


def _read_clock(file: TomlFile, value: datetime | date | str | None, zone: ZoneInfo) -> int | None:
    """Return the pinned instant of the site, local where it has no offset."""
    if value is None:
        return None
    found = literal_interval(value if isinstance(value, str) else value.isoformat(), zone)
    if found is None:
        file.report(
            "bad-clock",
            ("site", "clock"),
            f"{quoted(str(value))} is not a date",
            "Write 2026-06-15T09:00:00.",
        )
        return None
    return found.start


def _read_schema(file: TomlFile) -> Schema:
    """Return the kinds, the fields that all of them have, and the taxonomies."""
    kinds = tables_below(file, ("kinds",))
    fields = {name: _read_field(file, ("fields",), name, kinds) for name in tables_below(file, ("fields",))}
    found = {}
    for name in kinds:
        entry = file.known(("kinds", name), KIND)
        check_placeholders(file, ("kinds", name, "address"), entry["address"], ("slug", "kind", "id"))
        where = ("kinds", name, "fields")
        own = {field: _read_field(file, where, field, kinds) for field in tables_below(file, where)}
        found[name] = Kind(name, own, entry["address"])
    if not kinds:
        file.report(
            "no-kind", (), "the site has no [kinds.NAME]", "Declare each kind of entry, even without fields."
        )
    taxonomies = {name: _read_taxonomy(file, name) for name in tables_below(file, ("taxonomies",))}
    kind = Field("kind", FieldType(Type.CHOICE, choices=tuple(kinds)))
    conditions = file.texts_of(("conditions",))
    prefer = file.texts(("site", "prefer"), file.at(("site",)).get("prefer", ()))
    for name in prefer:
        if name not in file.at(("sources",)):
            near = Near(name, nearest(name, file.at(("sources",))))
            file.report("unknown-word", ("site", "prefer"), f"there is no source {quoted(name)}", near=near)
    core = {
        name: field for name, field in CORE_FIELDS.items() if name not in taxonomies or name not in _GIVES_WAY
    }
    schema = Schema(found, taxonomies, {**core, "kind": kind, **fields}, conditions, prefer, _renamed(file))
    _check_conditions(file, schema)
    _check_clashes(file, schema)
    return schema


def _renamed(file: TomlFile) -> dict[str, str]:
    """Return the fields of columns that have other names in the content of any source."""
    found: dict[str, str] = {}
    for name in tables_below(file, ("sources",)):
        columns = file.at(("sources", name)).get("columns", {})
        given = columns.items() if isinstance(columns, dict) else ()
        found |= {column: field for field, column in given if isinstance(column, str)}
    return found


def _read_taxonomy(file: TomlFile, name: str) -> TaxonomyRules:
    """Return one taxonomy."""
    found = file.known(("taxonomies", name), TAXONOMY)
    check_placeholders(file, ("taxonomies", name, "address"), found["address"], ("slug", "path", "id"))
    return TaxonomyRules(name, found["tree"], found["address"], found["terms"])


def _read_field(file: TomlFile, where: tuple[str, ...], name: str, kinds: Iterable[str]) -> Field:
    """Return one field; report what its type cannot have."""
    path = (*where, name)
    found = file.known(path, FIELD)
    types = [kind.value for kind in Type if kind is not Type.TERM]
    if name in FIXED:
        file.report("fixed-field", path, f"{quoted(name)} is a field that every entry has; it cannot change")
    if found["type"] not in types:
        near = Near(found["type"], nearest(found["type"], types))
        hint = f"Types: {', '.join(types)}."
        file.report(
            "unknown-type", (*path, "type"), f"there is no type {quoted(found['type'])}", hint, near=near
        )
        found["type"] = "text"
    kind = Type(found["type"])
    targets = _targets(file, (*path, "kind"), found["kind"], kinds)
    _check_options(file, path, found, kind)
    choices = file.texts((*path, "choices"), found["choices"])
    many, unit = found["many"], found["unit"]
    described = FieldType(kind, many=many, choices=choices, kinds=targets, unit=unit)
    return Field(name, described, found["at_least"], found["at_most"])


def _check_options(file: TomlFile, path: tuple[str, ...], found: Written, kind: Type) -> None:
    """Report options that do not go with a field's type, and those that it lacks."""
    allowed = {
        "at_least": _NUMERIC,
        "at_most": _NUMERIC,
        "unit": _NUMERIC,
        "choices": (Type.CHOICE,),
        "kind": (Type.ENTRY,),
    }
    for key, types in allowed.items():
        if key in found and kind not in types:
            hint = f"It goes with the type {either(types)}."
            file.report("idle-key", (*path, key), f"{key} means nothing for {kind.label}", hint)
    if kind is Type.CHOICE and not found["choices"]:
        file.report(
            "missing-key", path, f"{path[-1]} is a choice without choices", 'Add choices = ["…", "…"].'
        )


def _targets(file: TomlFile, path: tuple[str, ...], written: Any, kinds: Iterable[str]) -> tuple[str, ...]:
    """Return the kinds that a reference may lead to, as far as there are such."""
    targets = file.texts(path, written) if isinstance(written, list) else (written,) if written else ()
    for target in targets:
        if target not in kinds:
            near, hint = Near(target, nearest(target, kinds)), f"Kinds: {', '.join(kinds)}."
            file.report("unknown-kind", path, f"there is no kind {quoted(target)}", hint, near=near)
    return tuple(target for target in targets if target in kinds)


def _check_conditions(file: TomlFile, schema: Schema) -> None:
    """Report conditions that cannot be parsed, and names that mean something else already."""
    for name, text in schema.conditions.items():
        path = ("conditions", name)
        if not can_be_named(name) or is_keyword(name):
            file.report("bad-name", path, f"{quoted(name)} cannot be a name", "Use letters, digits, - and _.")
        if name in schema.kinds or name in schema.taxonomies or name in schema.fields:
            file.report("name-clash", path, f"{quoted(name)} is a kind, a taxonomy or a field already")
        try:
            parse_condition(text)
        except QuestionError as error:
            for problem in error.problems:
                file.take(path, text, replace(problem, message=f"in the condition {name}: {problem.message}"))


def _check_clashes(file: TomlFile, schema: Schema) -> None:
    """Report names that would mean two things: a kind and a taxonomy, a field and a taxonomy."""
    for name in schema.taxonomies:
        path = ("taxonomies", name)
        if name in schema.kinds:
            file.report(
                "name-clash", path, f"{quoted(name)} is a kind already", "Give the taxonomy another name."
            )
        if name in schema.fields or name in FIXED:
            file.report("name-clash", path, f"{quoted(name)} is a field that every entry has")
        for kind in schema.kinds.values():
            if name in kind.fields:
                where = ("kinds", kind.name, "fields", name)
                file.report("name-clash", where, f"{quoted(name)} is a taxonomy already", "Rename the field.")
