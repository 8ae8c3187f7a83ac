"""Reading the sources of a site file: formats, paths, habits, databases."""

from __future__ import annotations

import codecs
from encodings.aliases import aliases
from typing import TYPE_CHECKING, Any

from elenchus import sources
from elenchus.errors import Near
from elenchus.schema.convert import RENAMED
from elenchus.schema.record import Habits
from elenchus.schema.types import STATUSES
from elenchus.site.keys import EXTRAS_OF_SOURCE, SOURCE, TERMS_OF_SOURCE
from elenchus.site.reading import check_placeholders, read_zone, tables_below
from elenchus.sources import ExtrasSpec, SourceSpec, TableSpec, TermsSpec
from elenchus.values.addresses import has_password
from elenchus.values.datepatterns import wrong_pattern
from elenchus.values.filepaths import fixed_part, is_inside, is_pattern, within_archive
from elenchus.values.locales import is_language
from elenchus.values.texts import either, fold, nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Mapping
    from pathlib import Path

    from elenchus.site.keys import Written
    from elenchus.site.toml import TomlFile

__all__ = ["read_source"]

_UNITS = {"second": 1, "minute": 60, "hour": 3600, "day": 86400}
_MOST_SECONDS = 3600
_MOST_ROWS = 9  # of a table that name its columns, or stand behind its entries
_OF_FILES = ("markdown", "html")  # an entry a file


def read_source(
    file: TomlFile, name: str, folder: Path, usual: tuple[str, str], names: tuple[str, ...] = ()
) -> SourceSpec:
    """Return one source; its format must be one that we have and its folder must be there.

    ``usual`` are the language and the zone of the site, ``names`` those of declared fields and taxonomies.
    """
    path = ("sources", name)
    found = file.known(path, SOURCE)
    _demand(file, path, found, ["read"])
    if not any(found[key] for key in ("path", "url", "url_from")):
        file.report("missing-key", path, f"[sources.{name}] does not say path = …")
    if found["read"] and found["read"] not in sources.names():
        hint = f"Known: {', '.join(sources.names())}."
        file.report("unknown-source", (*path, "read"), f"there is no source {quoted(found['read'])}", hint)
    if found["read"] in _OF_FILES:  # rows have columns of any name
        check_placeholders(file, (*path, "slug"), found["slug"], sources.FILE_PARTS)
    check_placeholders(file, (*path, "date"), found["date"], sources.FILE_PARTS)
    paths = tuple(_read_paths(file, (*path, "path"), found["path"], folder, is_free=found["outside"]))
    columns = _read_map(file, (*path, "columns"), found["columns"])
    flags = _read_map(file, (*path, "flags"), found["flags"], (*STATUSES, ""))
    if found["edits"]:  # whatever it is called, it says nothing of the status
        flags[next((name for name, each in columns.items() if each == found["edits"]), found["edits"])] = ""
    return SourceSpec(
        name=name,
        read=found["read"],
        paths=paths,
        kind=found["kind"],
        kind_at_root=found["kind_at_root"],
        kinds=_read_map(file, (*path, "kinds"), found["kinds"]),
        columns=columns,
        slug=found["slug"],
        title=found["title"],
        date=found["date"],
        encoding=_read_encoding(file, (*path, "encoding"), found["encoding"]),
        delimiter=_read_delimiter(file, (*path, "delimiter"), found["delimiter"]),
        quote=found["quote"],
        header=_read_count(file, (*path, "header"), found["header"]),
        footer=_read_count(file, (*path, "footer"), found["footer"]),
        url=found["url"] if found["read"] != "database" else "",
        omit=tuple(file.texts((*path, "omit"), found["omit"])),
        exclude=tuple(file.texts((*path, "exclude"), found["exclude"])),
        outside=found["outside"],
        names=names,
        every=_read_every(file, (*path, "fetch_every"), found["fetch_every"]),
        table=_read_table(file, path, found, usual[1]) if found["read"] == "database" else None,
        bodies=found["bodies"],
        titles="" if found["titles"] == "text" else found["titles"],
        texts="" if found["texts"] == "text" else found["texts"],
        missing_status="" if found["missing_status"] == "published" else found["missing_status"],
        name_links=found["name_links"],
        edits=found["edits"],
        records=_read_records(file, (*path, "records"), found["records"]),
        habits=_read_habits(file, path, found, flags, usual[0]),
    )


def _read_habits(
    file: TomlFile, path: tuple[str, ...], found: Written, flags: dict[str, str], language: str
) -> Habits:
    """Return how a source writes what all sources say."""
    zone = str(read_zone(file, found["zone"], (*path, "zone"))) if found["zone"] else ""
    return Habits(
        source=path[-1],
        statuses=_read_map(file, (*path, "statuses"), found["statuses"], STATUSES),
        flags=flags,
        separator=found["separator"],
        is_declared="separator" in found,
        dates=tuple(_read_dates(file, (*path, "dates"), found["dates"])),
        language=language,
        zone=zone,
        blanks=frozenset(map(fold, file.texts((*path, "blanks"), found["blanks"]))),
        numbers=_read_languages(file, (*path, "numbers"), found["numbers"]),
        units=_read_by_field(file, (*path, "unit"), found["unit"], (str,)),
        scales=_read_by_field(file, (*path, "scale"), found["scale"], (int, float)),
    )


def _read_paths(
    file: TomlFile, path: tuple[str, ...], written: Any, folder: Path, *, is_free: bool
) -> Iterator[str]:
    """Yield the paths of a source; what they name must be there, and in the site unless that is free."""
    for text in [written] if isinstance(written, str) else file.texts(path, written):
        place = within_archive(text)
        if text and not is_pattern(text) and not (folder / place).exists():
            message = f"there is no file or folder {quoted(place)} in the site"
            names = nearest(place, (each.name for each in folder.iterdir())) if folder.is_dir() else ()
            near = Near(place, names)
            file.report("missing-folder", path, message, near=near)
        elif text and not is_free and not is_inside(folder, fixed_part(place)):
            message = f"{quoted(text)} lies outside the site, or a link leads there"
            hint = f"If you want that read: outside = true in [{'.'.join(path[:-1])}]."
            file.report("outside-site", path, message, hint)
        if text:
            yield text


_CODE_PAGES = [f"cp{number}" for number in range(1250, 1259)]  # which aliases have without their letters


def _read_encoding(file: TomlFile, path: tuple[str, ...], name: str) -> str:
    """Return the name of an encoding of texts; nothing where none is said."""
    try:
        found = codecs.lookup(name) if name else None
    except (LookupError, ValueError):
        found = None
    if name and (found is None or not getattr(found, "_is_text_encoding", True)):
        near = Near(name, nearest(name, (*aliases, *_CODE_PAGES)))
        file.report("unknown-word", path, f"there is no encoding {quoted(name)}", near=near)
        return ""
    return found.name if found else ""


def _read_table(file: TomlFile, path: tuple[str, ...], found: Written, zone: str) -> TableSpec:
    """Return what is read of a database; a password has no place in a site file."""
    if has_password(found["url"]):
        name = f"{path[-1].upper()}_PASSWORD"
        hint = f'Put it into a variable of the environment, and write password_from = "{name}".'
        file.report("secret-in-file", (*path, "url"), "the address of the database tells its password", hint)
    if not (found["table"] or found["query"]):
        file.report("missing-key", path, f"[{'.'.join(path)}] does not say table = … or query = …")
    terms = []
    for taxonomy in tables_below(file, (*path, "terms")):
        where = (*path, "terms", taxonomy)
        told = file.known(where, TERMS_OF_SOURCE)
        _demand(file, where, told, ("table", "entry", "term"))
        told["where"] = _read_conditions(file, (*where, "where"), told["where"])
        terms.append(TermsSpec(taxonomy, **{key.name: told[key.name] for key in TERMS_OF_SOURCE.keys}))
    extras = None
    if found["extras"]:
        told = file.known((*path, "extras"), EXTRAS_OF_SOURCE)
        names = [key.name for key in EXTRAS_OF_SOURCE.keys if key.name != "where"]
        _demand(file, (*path, "extras"), told, names)
        told["where"] = _read_conditions(file, (*path, "extras", "where"), told["where"])
        extras = ExtrasSpec(**{name: told[name] for name in (*names, "where")})
    plain = ("url", "url_from", "password_from", "table", "query", "prefix", "key", "updated", "zone")
    named = {name: found[name] for name in plain}
    named["zone"] = named["zone"] or zone
    for name, least, seconds in (("timeout", 1, TableSpec().timeout), ("poll", 0, TableSpec().poll)):
        named[name] = _read_seconds(file, (*path, name), found[name], least=least, usual=seconds)
    named["where"] = _read_conditions(file, (*path, "where"), found["where"])
    return TableSpec(**named, terms=tuple(terms), extras=extras, writable=found["writable"])


def _read_seconds(file: TomlFile, path: tuple[str, ...], seconds: int, *, least: int, usual: int) -> int:
    """Return a number of seconds; report one that is too small or too large."""
    if least <= seconds <= _MOST_SECONDS:
        return seconds
    message = f"{path[-1]} is a number of seconds from {least} to {_MOST_SECONDS}, not {seconds}"
    file.report("wrong-type", path, message, f"Write {usual}, as if nothing were said, or another one.")
    return usual


def _read_conditions(file: TomlFile, path: tuple[str, ...], written: Mapping[str, Any]) -> dict[str, Any]:
    """Return the values that columns must have; report what is no text, number, or yes or no."""
    found = {}
    for column, value in written.items():
        if isinstance(value, (str, int, float)):  # yes and no are whole numbers, too
            found[column] = value
        else:
            message = f"{path[-1]}.{column} must be a text, a number, true or false, not {quoted(str(value))}"
            file.report("wrong-type", path, message)
    return found


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


def _read_count(file: TomlFile, path: tuple[str, ...], number: int) -> int:
    """Return a number of rows."""
    if not 0 <= number <= _MOST_ROWS:
        message = f"{path[-1]} = {number} is out of range"
        file.report("bad-number", path, message, f"Write a number from 0 to {_MOST_ROWS}.")
        return 0
    return number


def _read_languages(file: TomlFile, path: tuple[str, ...], written: Any) -> dict[str, str]:
    """Return the languages in which numbers are written, by fields."""
    found = _read_by_field(file, path, written, (str,))
    for name in [name for name, language in found.items() if not is_language(language)]:
        hint = "Write en for 1,299.50, de for 1.299,50, fr for 1 299,50."
        file.report("unknown-word", path, f"there is no language {quoted(found.pop(name))}", hint)
    return found


def _read_by_field(
    file: TomlFile, path: tuple[str, ...], written: Any, types: tuple[type, ...]
) -> dict[str, Any]:
    """Return what holds for fields by their names: what holds for all of them under none."""
    if not isinstance(written, dict):
        return {"": written} if written else {}
    found = {}
    for name, value in written.items():
        if not isinstance(value, types) or isinstance(value, bool):
            wanted = "a text" if str in types else "a number"
            file.report("wrong-type", path, f"{path[-1]}.{name} must be {wanted}, not {quoted(str(value))}")
        else:
            found[name] = value
    return found


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
            near = Near(value, nearest(value, allowed))
            words = [word for word in allowed if word]
            hint = f"It can be {either(words)}."
            if value in RENAMED:
                hint, near = f"Write {RENAMED[value]}.", Near(value, ())
            file.report("unknown-word", path, f"there is no status {quoted(value)}", hint, near=near)
        else:
            found[key] = value
    return found
