"""What is there and is not content: packages, builds, settings, credentials, what version control ignores."""

from __future__ import annotations

import json
from collections import Counter, defaultdict
from pathlib import Path, PurePosixPath
from typing import TYPE_CHECKING, NamedTuple

from elenchus.files import is_file, read_whole
from elenchus.starting.shapes import are_alike
from elenchus.values.private import is_private_file, private_name, private_text, private_values
from elenchus.values.wording import as_text

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Mapping, Sequence

__all__ = ["LeftOut", "is_content_table", "is_home", "left_out", "private_keys"]

# Folders of packages, and those that builds write, in a folder that a build makes something of.
_PACKAGES = frozenset({"node_modules", "bower_components", "vendor", "site-packages", "__pycache__", "venv"})
_BUILT = frozenset({"dist", "build", "target", "out", "coverage"})
_PROJECT = (
    "package.json",
    "pyproject.toml",
    "setup.py",
    "Makefile",
    "Cargo.toml",
    "go.mod",
    "composer.json",
    "Gemfile",
    "pom.xml",
)
_ABOUT = frozenset(
    {"readme", "license", "licence", "changelog", "contributing", "security", "code_of_conduct"}
)
_SETTINGS = frozenset(
    {"package", "package-lock", "composer", "tsconfig", "jsconfig", "settings", "config", "manifest", "lerna"}
)
_STRUCTURED = (".json", ".jsonl", ".ndjson", ".csv", ".tsv", ".db", ".sqlite", ".sqlite3")
_TEXTS = (".md", ".markdown", ".mdown", ".html", ".htm", ".txt")
# Tables that a program keeps for itself.
_TABLES = """
session sessions log logs audit audits audit_log cache caches setting settings option options config configs
configuration migration migrations schema_migrations job jobs failed_jobs queue queues token tokens
password_resets password_reset_tokens permission permissions role_user lock locks visit visits stat stats
notification notifications
"""
_SECRETS = ("keys or tokens", "passwords")
_IGNORE = ".gitignore"


_SIGNS_OF_HOME = frozenset(
    (
        ".ssh",
        ".gnupg",
        ".bashrc",
        ".bash_history",
        ".zshrc",
        ".profile",
        ".cache",
        ".config",
        ".local",
        "AppData",
    )
)


def is_home(folder: Path) -> bool:
    """Say whether a folder is somebody's home folder, which holds more than what anybody would publish."""
    try:
        names = {each.name for each in folder.iterdir()}
    except OSError:
        return False
    return len(names & _SIGNS_OF_HOME) > 1


class LeftOut(NamedTuple):
    """Files that are not content: by what people call them, how many, and the patterns that exclude them.

    ``stay`` are the files that are not left out, by their paths below the site.
    """

    counts: Mapping[str, int]
    patterns: Sequence[str]
    stay: Sequence[str] = ()


def left_out(base: Path, paths: Sequence[str]) -> tuple[list[str], LeftOut]:
    """Return which of some files below a folder may be content, and what the others are."""
    is_project = any(is_file(base / name) for name in _PROJECT)
    ignored = _ignored(base, paths)
    counts: Counter[str] = Counter()
    patterns: dict[str, None] = {}
    stay: list[str] = []
    for path in paths:
        reason = _reason(base, path, is_project=is_project) or ignored.get(path, "")
        if reason:
            counts[reason] += 1
            patterns[f"{reason}**" if reason.endswith("/") else reason] = None
        else:
            stay.append(path)
    for path in _lone_objects(base, [path for path in stay if path.lower().endswith(".json")]):
        stay.remove(path)
        counts[path] += 1
        patterns[path] = None
    return stay, LeftOut(counts, list(patterns))


def _reason(base: Path, path: str, *, is_project: bool) -> str:
    """Return the folder or file that is left out with a path; nothing for what may be content."""
    steps = path.split("/")
    for at, step in enumerate(steps[:-1]):
        if step in _PACKAGES or (is_project and step in _BUILT) or is_private_file(f"{step}/"):
            return "/".join(steps[: at + 1]) + "/"
    name = PurePosixPath(path)
    stem = name.name.partition(".")[0].lower()
    if len(steps) == 1 and stem.replace("-", "_") in _ABOUT:
        return path
    if name.suffix.lower() == ".json":
        is_settings = (
            stem in _SETTINGS or stem.endswith("rc") or ".config." in name.name or ".lock" in name.name
        )
        if is_settings or _has_credentials(base / path):
            return path
    if name.suffix.lower() in _TEXTS:
        return path if private_text(_text_of(base / path)) == "a private key" else ""
    return path if name.suffix.lower() in _STRUCTURED and is_private_file(path) else ""


def _text_of(path: Path) -> str:
    try:
        return read_whole(path).decode("utf-8", "replace")
    except OSError:
        return ""


def _has_credentials(path: Path) -> bool:
    """Say whether a document is one object with a secret in it, such as what opens an account."""
    document = _document(path)
    if not isinstance(document, dict):
        return False
    texts = {str(key): value for key, value in document.items() if isinstance(value, str)}
    return any(
        private_values([text]) in _SECRETS or private_name(key) in _SECRETS for key, text in texts.items()
    )


def _document(path: Path) -> object:
    try:
        return json.loads(read_whole(path))
    except (OSError, ValueError, RecursionError):
        return None


def _lone_objects(base: Path, paths: Sequence[str]) -> Iterator[str]:
    """Yield documents that are one object of plain values with none of their shape beside them: settings."""
    shapes: dict[str, list[tuple[str, frozenset[str]]]] = defaultdict(list)
    for path in paths:
        document = _document(base / path)
        if isinstance(document, dict) and not _holds_records(document):
            shapes[path.rpartition("/")[0]].append((path, frozenset(map(str, document))))
    for inside in shapes.values():
        for path, keys in inside:
            others = (other for name, other in inside if name != path)
            if not any(are_alike(keys, other) for other in others):
                yield path


def _holds_records(value: object, depth: int = 4) -> bool:
    """Say whether a value holds a list of objects, or an object of objects, at whatever depth."""
    if isinstance(value, list):
        return bool(value) and all(isinstance(each, dict) for each in value)
    if not isinstance(value, dict) or not depth:
        return False
    inner = list(value.values())
    is_table = len(inner) > 1 and all(isinstance(each, dict) for each in inner)
    return is_table or any(_holds_records(each, depth - 1) for each in inner)


def _ignored(base: Path, paths: Sequence[str]) -> dict[str, str]:
    """Return the files that version control ignores, with the folder or file that is left out for each."""
    import pathspec

    folders = {"", *(path.rpartition("/")[0] for path in paths)}
    specs = {}
    for folder in sorted(folders):
        if is_file(base / folder / _IGNORE):
            lines = read_whole(base / folder / _IGNORE).decode("utf-8", "replace").splitlines()
            specs[folder] = pathspec.GitIgnoreSpec.from_lines(lines)
    found = {}
    for path in paths if specs else ():
        for folder, spec in specs.items():
            start = f"{folder}/" if folder else ""
            if path.startswith(start) and spec.match_file(path[len(start) :]):
                steps = path.split("/")
                above = (
                    "/".join(steps[:at]) + "/"
                    for at in range(folder.count("/") + 1 + bool(folder), len(steps))
                )
                found[path] = next((each for each in above if spec.match_file(each[len(start) :])), path)
    return found


def is_content_table(name: str) -> bool:
    """Say whether a table of a database may hold content: not what a program keeps for itself."""
    return name.lower() not in _TABLES.split()


def private_keys(entries: Iterable[Mapping[str, object]]) -> dict[str, str]:
    """Return the keys of entries that are not read, with what they hold: ``passwords``, ``phone numbers``.

    Of a value that holds others, the keys inside are named as ``author.email``.
    """
    texts: dict[str, list[str]] = defaultdict(list)
    for entry in entries:
        for key, value in entry.items():
            for name, text in _texts_in(key, value):
                texts[name].append(text)
    found = {}
    for name, values in texts.items():
        if name in ("body", "title", "summary"):
            continue
        if what := private_name(name.rpartition(".")[2], values) or private_values(values):
            found[name] = what
    return found


def _texts_in(key: str, value: object) -> Iterator[tuple[str, str]]:
    """Yield the texts of a value, with the path to each."""
    if isinstance(value, dict):
        for name, inner in value.items():
            yield from _texts_in(f"{key}.{name}", inner)
    elif isinstance(value, list):
        for each in value:
            yield from _texts_in(key, each)
    elif value is not None:
        yield key, as_text(value)
