"""What reading any table of the site file needs: the tables below a path, zones, patterns with names."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError, available_timezones

from elenchus.errors import Near
from elenchus.site.names import can_be_named
from elenchus.values.placeholders import names_in
from elenchus.values.texts import either, nearest, quoted

if TYPE_CHECKING:
    from elenchus.site.toml import TomlFile

__all__ = ["check_placeholders", "read_zone", "tables_below"]


def tables_below(file: TomlFile, path: tuple[str, ...]) -> list[str]:
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


def read_zone(file: TomlFile, name: str, path: tuple[str, ...] = ("site", "timezone")) -> ZoneInfo:
    """Return a zone by its IANA name."""
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        pass
    near = Near(name, nearest(name, available_timezones()))
    hint = "Use an IANA name such as Atlantic/Azores."
    file.report("unknown-zone", path, f"there is no time zone {quoted(name)}", hint, near=near)
    return ZoneInfo("UTC")


def check_placeholders(file: TomlFile, path: tuple[str, ...], pattern: str, known: tuple[str, ...]) -> None:
    """Report placeholders in an address, or in words, that nothing fills."""
    for name in names_in(pattern):
        if name not in known:
            hint = f"Known here: {either('{' + word + '}' for word in known) or 'none'}."
            file.report("unknown-placeholder", path, f"nothing fills {quoted('{' + name + '}')}", hint)
