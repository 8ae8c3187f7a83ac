"""Reading elenchus.toml: sources, kinds, fields and taxonomies, every problem with its line."""

from __future__ import annotations

import codecs
from encodings.aliases import aliases
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError, available_timezones

from elenchus import sources
from elenchus.errors import Place, Problem, QuestionError, SiteError
from elenchus.frozen import Frozen, member
from elenchus.language.parser import parse_condition
from elenchus.language.words import is_keyword
from elenchus.schema.convert import RENAMED
from elenchus.schema.record import Habits
from elenchus.schema.types import (
    CORE_FIELDS,
    FIXED,
    STATUSES,
    Field,
    FieldType,
    Kind,
    Schema,
    TaxonomyRules,
    Type,
)
from elenchus.site.keys import (
    ACCEPTED,
    EXTRAS_OF_SOURCE,
    FIELD,
    KIND,
    PUBLISH,
    SITE,
    SITE_FILE,
    SOURCE,
    TAXONOMY,
    TERMS_OF_SOURCE,
    TOP,
)
from elenchus.site.names import can_be_named
from elenchus.site.toml import TomlFile, open_toml
from elenchus.site.words import WORDS
from elenchus.sources import ExtrasSpec, SourceSpec, TableSpec, TermsSpec
from elenchus.values.addresses import has_password, split_address
from elenchus.values.datepatterns import wrong_pattern
from elenchus.values.dates import literal_interval
from elenchus.values.filepaths import is_pattern, within_archive
from elenchus.values.placeholders import names_in
from elenchus.values.texts import either, nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Mapping
    from datetime import date, datetime
    from pathlib import Path

    from elenchus.site.keys import Written

__all__ = ["Acceptance", "Definition", "read_definition"]

_NUMERIC = (Type.INTEGER, Type.NUMBER)
_GIVES_WAY = ("author",)  # a field that every entry has, and that a taxonomy of its name takes the place of
_UNITS = {"second": 1, "minute": 60, "hour": 3600, "day": 86400}


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

    ``trusted`` lets the HTML of its content onto pages as it is. ``to`` is the folder that pages are
    published to, ``files`` are what is published beside them unchanged, ``words`` what pages say in
    place of their own words; ``formulas`` lets cells of CSV files be formulas to a spreadsheet.
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
    to: str = ""
    files: tuple[str, ...] = ()
    words: Mapping[str, str] = member(default_factory=dict)
    formulas: bool = False


def read_definition(folder: Path) -> Definition:
    """Read the site file of a folder. Raises SiteError with all that is wrong in it."""
    file = open_toml(folder / SITE_FILE, SITE_FILE)
    file.known((), TOP)
    site = file.known(("site",), SITE)
    zone = _read_zone(file, site["timezone"])
    publish = file.known(("publish",), PUBLISH)
    definition = Definition(
        folder=folder,
        title=site["title"],
        address=site["address"],
        language=site["language"],
        seed=site["seed"],
        zone=zone,
        clock=_read_clock(file, site["clock"], zone),
        sources=tuple(
            _read_source(file, name, folder, site["language"]) for name in _tables(file, ("sources",))
        ),
        schema=_read_schema(file),
        accepted=tuple(_read_accepted(file)),
        trusted=site["trusted"],
        to=publish["to"],
        files=tuple(_read_files(file, folder, publish["files"])),
        words=_read_words(file),
        formulas=publish["formulas"],
    )
    _check_site_address(file, definition.address)
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
        _check_address(file, ("words", name), text, tuple(names_in(WORDS[name])))
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


def _tables(file: TomlFile, path: tuple[str, ...]) -> list[str]:
    """Return the names of the tables below a path; report values that are no tables."""
    above: Any = file.data
    for part in path:
        above = above.get(part, {}) if isinstance(above, dict) else {}
    if not isinstance(above, dict):
        return []
    for name in above:
        if not can_be_named(name):
            hint = "Use letters, digits, - and _."
            file.report("bad-name", (*path, name), f"{quoted(name)} cannot be a name", hint)
    return [name for name in above if file.fits((*path, name), above[name], dict)]


def _read_zone(file: TomlFile, name: str, path: tuple[str, ...] = ("site", "timezone")) -> ZoneInfo:
    """Return a zone by its IANA name."""
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        pass
    near = nearest(name, available_timezones())
    hint = "Use an IANA name such as Atlantic/Azores."
    file.report("unknown-zone", path, f"there is no time zone {quoted(name)}", hint, near=near)
    return ZoneInfo("UTC")


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


def _read_source(file: TomlFile, name: str, folder: Path, language: str) -> SourceSpec:
    """Return one source; its format must be one that we have and its folder must be there."""
    path = ("sources", name)
    found = file.known(path, SOURCE)
    _demand(file, path, found, ["read"])
    if not any(found[key] for key in ("path", "url", "url_from")):
        file.report("missing-key", path, f"[sources.{name}] does not say path = …")
    if found["read"] and found["read"] not in sources.names():
        hint = f"Known: {', '.join(sources.names())}."
        file.report("unknown-source", (*path, "read"), f"there is no source {quoted(found['read'])}", hint)
    paths = tuple(_read_paths(file, (*path, "path"), found["path"], folder))
    return SourceSpec(
        name=name,
        read=found["read"],
        paths=paths,
        kind=found["kind"],
        kind_at_root=found["kind_at_root"],
        kinds=_read_map(file, (*path, "kinds"), found["kinds"]),
        columns=_read_map(file, (*path, "columns"), found["columns"]),
        slug=found["slug"],
        date=found["date"],
        encoding=_read_encoding(file, (*path, "encoding"), found["encoding"]),
        delimiter=_read_delimiter(file, (*path, "delimiter"), found["delimiter"]),
        url=found["url"] if found["read"] != "database" else "",
        every=_read_every(file, (*path, "fetch_every"), found["fetch_every"]),
        table=_read_table(file, path, found) if found["read"] == "database" else None,
        bodies=found["bodies"],
        records=_read_records(file, (*path, "records"), found["records"]),
        habits=Habits(
            source=name,
            statuses=_read_map(file, (*path, "statuses"), found["statuses"], STATUSES),
            flags=_read_map(file, (*path, "flags"), found["flags"], (*STATUSES, "")),
            separator=found["separator"],
            is_declared="separator" in found,
            dates=tuple(_read_dates(file, (*path, "dates"), found["dates"])),
            language=language,
        ),
    )


def _read_paths(file: TomlFile, path: tuple[str, ...], written: Any, folder: Path) -> Iterator[str]:
    """Yield the paths of a source; what they name must be there."""
    for text in [written] if isinstance(written, str) else file.texts(path, written):
        place = within_archive(text)
        if text and not is_pattern(text) and not (folder / place).exists():
            message = f"there is no file or folder {quoted(place)} in the site"
            near = nearest(place, (each.name for each in folder.iterdir())) if folder.is_dir() else ()
            file.report("missing-folder", path, message, near=near)
        if text:
            yield text


def _read_encoding(file: TomlFile, path: tuple[str, ...], name: str) -> str:
    """Return the name of an encoding of texts; nothing where none is said."""
    try:
        found = codecs.lookup(name) if name else None
    except (LookupError, ValueError):
        found = None
    if name and (found is None or not getattr(found, "_is_text_encoding", True)):
        file.report("unknown-word", path, f"there is no encoding {quoted(name)}", near=nearest(name, aliases))
        return ""
    return found.name if found else ""


def _read_table(file: TomlFile, path: tuple[str, ...], found: Written) -> TableSpec:
    """Return what is read of a database; a password has no place in a site file."""
    if has_password(found["url"]):
        name = f"{path[-1].upper()}_PASSWORD"
        hint = f'Put it into a variable of the environment, and write password_from = "{name}".'
        file.report("secret-in-file", (*path, "url"), "the address of the database tells its password", hint)
    if not (found["table"] or found["query"]):
        file.report("missing-key", path, f"[{'.'.join(path)}] does not say table = … or query = …")
    if found["zone"]:
        _read_zone(file, found["zone"], (*path, "zone"))
    terms = []
    for taxonomy in _tables(file, (*path, "terms")):
        where = (*path, "terms", taxonomy)
        told = file.known(where, TERMS_OF_SOURCE)
        _demand(file, where, told, ("table", "entry", "term"))
        terms.append(TermsSpec(taxonomy, **{key.name: told[key.name] for key in TERMS_OF_SOURCE.keys}))
    extras = None
    if found["extras"]:
        told = file.known((*path, "extras"), EXTRAS_OF_SOURCE)
        names = [key.name for key in EXTRAS_OF_SOURCE.keys]
        _demand(file, (*path, "extras"), told, names)
        extras = ExtrasSpec(**{name: told[name] for name in names})
    plain = ("url", "url_from", "password_from", "table", "query", "prefix", "key", "updated", "zone")
    return TableSpec(**{name: found[name] for name in plain}, terms=tuple(terms), extras=extras)


def _demand(file: TomlFile, path: tuple[str, ...], found: Written, names: Iterable[str]) -> None:
    """Report keys that must be written and are not."""
    for name in names:
        if not found[name]:
            file.report("missing-key", path, f"[{'.'.join(path)}] does not say {name} = …")


def _read_every(file: TomlFile, path: tuple[str, ...], text: str) -> int:
    """Return an age in seconds."""
    number, _, unit = text.strip().partition(" ")
    seconds = _UNITS.get(unit.strip().removesuffix("s"))
    if not (number.isascii() and number.isdigit()) or seconds is None:
        file.report("unknown-word", path, f"{quoted(text)} is no age", "Write 15 minutes, 2 hours or 1 day.")
        return 0
    return int(number) * seconds


def _read_records(file: TomlFile, path: tuple[str, ...], text: str) -> str:
    """Return the path to the records of JSON documents; nothing where none is said."""
    if text and (wrong := sources.source("json").wrong_path(text)):  # type: ignore[attr-defined]
        file.report(
            "unknown-word", path, f"{quoted(text)} is no path: {wrong}", "Write $.data.items, for example."
        )
        return ""
    return text


def _read_delimiter(file: TomlFile, path: tuple[str, ...], text: str) -> str:
    """Return the one character that parts cells; nothing where none is said."""
    if len(text) > 1 or text in ("\n", "\r", '"'):
        file.report(
            "unknown-word", path, f"{quoted(text)} cannot part cells", "Write one character, such as ; or |."
        )
        return ""
    return text


def _read_dates(file: TomlFile, path: tuple[str, ...], written: Iterable[Any]) -> Iterator[str]:
    """Yield the patterns of dates of a source."""
    for text in file.texts(path, written):
        if problem := wrong_pattern(text):
            hint = "Write y, M, d, H, m, s as in dd/MM/y, d MMMM y, or y-MM-dd HH:mm, or the word epoch."
            file.report("unknown-word", path, f"{quoted(text)} is no pattern of dates: {problem}", hint)
        else:
            yield text


def _read_map(
    file: TomlFile, path: tuple[str, ...], written: Mapping[str, Any], allowed: tuple[str, ...] = ()
) -> dict[str, str]:
    """Return a table from words to words; report those on its right that mean nothing there."""
    found = {}
    for key, value in written.items():
        if not isinstance(value, str):
            file.report("wrong-type", path, f"{path[-1]}.{key} must be a text, not {quoted(str(value))}")
        elif allowed and value not in allowed:
            near = nearest(value, allowed)
            words = [word for word in allowed if word]
            hint = f"It can be {either(words)}."
            if value in RENAMED:
                hint, near = f"Write {RENAMED[value]}.", ()
            file.report("unknown-word", path, f"there is no status {quoted(value)}", hint, near=near)
        else:
            found[key] = value
    return found


def _read_schema(file: TomlFile) -> Schema:
    """Return the kinds, the fields that all of them have, and the taxonomies."""
    kinds = _tables(file, ("kinds",))
    fields = {name: _read_field(file, ("fields",), name, kinds) for name in _tables(file, ("fields",))}
    found = {}
    for name in kinds:
        entry = file.known(("kinds", name), KIND)
        _check_address(file, ("kinds", name, "address"), entry["address"], ("slug", "kind", "id"))
        where = ("kinds", name, "fields")
        own = {field: _read_field(file, where, field, kinds) for field in _tables(file, where)}
        found[name] = Kind(name, own, entry["address"])
    if not kinds:
        file.report(
            "no-kind", (), "the site has no [kinds.NAME]", "Declare each kind of entry, even without fields."
        )
    taxonomies = {name: _read_taxonomy(file, name) for name in _tables(file, ("taxonomies",))}
    kind = Field("kind", FieldType(Type.CHOICE, choices=tuple(kinds)))
    conditions = file.texts_of(("conditions",))
    prefer = file.texts(("site", "prefer"), file.at(("site",)).get("prefer", ()))
    for name in prefer:
        if name not in file.at(("sources",)):
            near = nearest(name, file.at(("sources",)))
            file.report("unknown-word", ("site", "prefer"), f"there is no source {quoted(name)}", near=near)
    core = {
        name: field for name, field in CORE_FIELDS.items() if name not in taxonomies or name not in _GIVES_WAY
    }
    schema = Schema(found, taxonomies, {**core, "kind": kind, **fields}, conditions, prefer)
    _check_conditions(file, schema)
    _check_clashes(file, schema)
    return schema


def _read_taxonomy(file: TomlFile, name: str) -> TaxonomyRules:
    """Return one taxonomy."""
    found = file.known(("taxonomies", name), TAXONOMY)
    _check_address(file, ("taxonomies", name, "address"), found["address"], ("slug", "path", "id"))
    return TaxonomyRules(name, found["tree"], found["address"], found["terms"])


def _read_field(file: TomlFile, where: tuple[str, ...], name: str, kinds: Iterable[str]) -> Field:
    """Return one field; report what its type cannot have."""
    path = (*where, name)
    found = file.known(path, FIELD)
    types = [kind.value for kind in Type if kind is not Type.TERM]
    if name in FIXED:
        file.report("fixed-field", path, f"{quoted(name)} is a field that every entry has; it cannot change")
    if found["type"] not in types:
        near = nearest(found["type"], types)
        hint = f"Types: {', '.join(types)}."
        file.report(
            "unknown-type", (*path, "type"), f"there is no type {quoted(found['type'])}", hint, near=near
        )
        found["type"] = "text"
    kind = Type(found["type"])
    _check_options(file, path, found, kind, kinds)
    choices = file.texts((*path, "choices"), found["choices"])
    many, unit = found["many"], found["unit"]
    described = FieldType(kind, many=many, choices=choices, kind=found["kind"], unit=unit)
    return Field(name, described, found["at_least"], found["at_most"])


def _check_options(
    file: TomlFile, path: tuple[str, ...], found: Written, kind: Type, kinds: Iterable[str]
) -> None:
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
    target = found["kind"]
    if kind is Type.ENTRY and target and target not in kinds:
        near = nearest(target, kinds)
        file.report("unknown-kind", (*path, "kind"), f"there is no kind {quoted(target)}", "", near=near)


def _check_address(file: TomlFile, path: tuple[str, ...], pattern: str, known: tuple[str, ...]) -> None:
    """Report placeholders in an address, or in words, that nothing fills."""
    for name in names_in(pattern):
        if name not in known:
            hint = f"Known here: {either('{' + word + '}' for word in known) or 'none'}."
            file.report("unknown-placeholder", path, f"nothing fills {quoted('{' + name + '}')}", hint)


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
                message = f"in the condition {name}: {problem.message}"
                file.report(problem.code, path, message, problem.advice, near=problem.near)


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
