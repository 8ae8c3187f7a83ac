"""All files of a published site, one after the other."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from elenchus.errors import Place, Problem, SiteError
from elenchus.pages.paths import unsafe
from elenchus.publishing.beside import files_beside
from elenchus.publishing.sitemap import sitemap_files
from elenchus.rendering.renderer import ASSETS, paths_of
from elenchus.values.dates import stamp
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator
    from pathlib import Path

    from elenchus.pages.sections import Placed
    from elenchus.rendering.renderer import Renderer

__all__ = ["Output", "outputs", "published_file"]


@dataclass(frozen=True, slots=True)
class Output:
    """One file: its path below the root, the page that it belongs to (empty for the site's), its content."""

    path: str
    page: str
    content: bytes


def outputs(
    renderer: Renderer, pages: Iterable[Placed], *, only: str = "", tick: Callable[[], None] = lambda: None
) -> Iterator[Output]:
    """Yield every file; ``only`` those of one page or page set, with what all pages need.

    Raises SiteError where two files have one path, or a path is unsafe.
    """
    seen: dict[str, str] = {}
    for output in unchecked(renderer, pages, only, tick):
        if reason := unsafe(output.path):
            raise SiteError([Problem("unsafe-path", f"a file cannot be written: {reason}")])
        if output.path in seen:
            owners = f"for {whose(output.page)} and for {whose(seen[output.path])}"
            message = f"{quoted(output.path)} would be written twice, {owners}"
            hint = "Give one of the two another name or path."
            raise SiteError([Problem("duplicate-address", message, hint)])
        seen[output.path] = output.page
        yield output


def whose(page: str) -> str:
    """Return what a file belongs to, in words."""
    return f"the page {page}" if page else "the site's files"


def unchecked(
    renderer: Renderer, pages: Iterable[Placed], only: str, tick: Callable[[], None]
) -> Iterator[Output]:
    """Yield every file, whatever its path."""
    listed: list[tuple[str, str]] = []
    for found in pages:
        rule = found.page.rule
        if rule.private or (only and rule.name != only):
            tick()
            continue
        for path, visit in paths_of(found):
            yield Output(path, rule.name, renderer.page(found, visit).encode())
            listed.append((path, changed_of(renderer, found) if visit.number == 1 else ""))
        for section in found.sections:
            if section.plan and section.rule.beside:
                for path, content in files_beside(renderer, found.page, section):
                    yield Output(path, rule.name, content)
        tick()
    if not only:
        for path, content in sitemap_files(renderer.root, listed):
            yield Output(path, "", content)
    yield from own_files(renderer)


def changed_of(renderer: Renderer, found: Placed) -> str:
    """Return when the entry of a page was last changed, as a W3C date; nothing for other pages."""
    row = renderer.row_of(renderer.desk, found.page)
    instant = row.changed if row and not row.taxonomy else None
    return stamp(instant) if instant else ""


def own_files(renderer: Renderer) -> Iterator[Output]:
    """Yield our stylesheet and script, and the files that the site publishes as they are."""
    for name, content in renderer.assets().items():
        yield Output(f"{ASSETS}/{name}", "", content)
    definition = renderer.site.definition
    for name in definition.files:
        for path in files_below(definition.folder / name, definition.folder.resolve()):
            yield Output(path.relative_to(definition.folder).as_posix(), "", content_of(path))


def content_of(path: Path) -> bytes:
    """Return the content of a file of the site. Raises SiteError."""
    try:
        return path.read_bytes()
    except OSError as error:
        message = f"the file cannot be read ({error.strerror})"
        hint = "Mend its permissions, or take it out of files below [publish]."
        raise SiteError([Problem("unreadable-file", message, hint, place=Place(str(path)))]) from None


def files_below(path: Path, root: Path) -> Iterator[Path]:
    """Yield a file, or all files of a folder, without hidden ones and links that lead out of the site."""
    if not is_open(path, root):
        return
    if path.is_dir():
        for inner in sorted(path.iterdir()):
            yield from files_below(inner, root)
    elif path.is_file():
        yield path


def is_open(path: Path, root: Path) -> bool:
    """Say whether a file or folder may be published: it is not hidden, no linked folder, inside the site."""
    is_link = path.is_symlink() and path.is_dir()
    return not path.name.startswith(".") and not is_link and path.resolve().is_relative_to(root)


def published_file(folder: Path, names: Iterable[str], wanted: str) -> Path | None:
    """Return a file that a site publishes as it is, by its path below the site; None for all others."""
    if not any(wanted == name or wanted.startswith(f"{name}/") for name in names):
        return None
    steps, root = wanted.split("/"), folder.resolve()
    if any(step in ("", ".", "..") for step in steps):
        return None
    above = [folder.joinpath(*steps[:length]) for length in range(1, len(steps) + 1)]
    try:
        return above[-1] if above[-1].is_file() and all(is_open(each, root) for each in above) else None
    except OSError:  # a name that no file can have
        return None
