"""The two sides of a comparison: another folder, another time, a revision, what was published last."""

from __future__ import annotations

import io
import subprocess
import tarfile
from contextlib import contextmanager
from typing import TYPE_CHECKING

from elenchus.errors import OptionError, Problem
from elenchus.files import temporary_folder
from elenchus.site.site import open_site
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Iterator
    from pathlib import Path

    from elenchus.site.site import Site

__all__ = ["at_revision", "in_folder"]

_PATIENCE = 60  # seconds for git


def in_folder(site: Site, folder: Path) -> Site:
    """Return the site of another folder, at the now of this one. Raises SiteError."""
    return open_site(folder).working(site.content.work).at(site.clock.now)


@contextmanager
def at_revision(site: Site, revision: str) -> Iterator[Site]:
    """Give the site as a revision of its git repository has it, read in a folder that goes away again.

    Neither the work tree nor anything of the repository is touched. Raises OptionError where git or the
    revision is missing, SiteError.
    """
    root = site.definition.folder.resolve()
    if revision.startswith("-"):
        hint = "Name a commit, a branch or a tag, such as HEAD~1."
        raise OptionError([Problem("no-revision", f"{quoted(revision)} is no revision", hint)])
    _git(root, "rev-parse", "--verify", "--quiet", f"{revision}^{{commit}}", about=revision)
    below = _git(root, "rev-parse", "--show-prefix", about=revision).decode().strip()
    wanted = f"{revision}:{below}" if below else revision
    packed = _git(root, "archive", "--format=tar", wanted, about=revision)

    def unpack(above: Path) -> None:
        (above / "site").mkdir()
        try:
            with tarfile.open(fileobj=io.BytesIO(packed)) as archive:
                archive.extractall(above / "site", filter="data")
        except tarfile.TarError as error:  # a link of the repository that leads outside, for one
            message = f"revision {quoted(revision)} cannot be unpacked ({error})"
            raise OptionError([Problem("no-revision", message, "Compare with a folder: --from.")]) from None

    with temporary_folder(unpack) as above:
        yield open_site(above / "site", index=False).at(site.clock.now)


def _git(folder: Path, *arguments: str, about: str) -> bytes:
    """Return what a command of git says. Raises OptionError."""
    try:
        done = subprocess.run(  # noqa: S603 - no shell reads it, and a revision is no option
            ["git", "-C", str(folder), *arguments],  # noqa: S607 - the one that the user has
            capture_output=True,
            check=False,
            timeout=_PATIENCE,
        )
    except (OSError, subprocess.TimeoutExpired) as error:
        hint = "Install git, or compare with a folder: --from."
        raise OptionError([Problem("no-revision", f"git cannot be run here ({error})", hint)]) from None
    if done.returncode:
        said = done.stderr.decode("utf-8", "replace").strip().splitlines()
        message = f"git finds no revision {quoted(about)} of this folder"
        hint = f"git says: {said[-1]}" if said else "Name a commit, a branch or a tag, such as HEAD~1."
        raise OptionError([Problem("no-revision", message, hint)])
    return done.stdout
