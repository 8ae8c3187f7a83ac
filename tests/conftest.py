"""What many tests share: the reference site, a copy of the demo, and the installed program."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import time
import tomllib
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing
from pathlib import Path
from typing import Any, TypeVar

import pytest

import elenchus
from ready import Ready

_Value = TypeVar("_Value")
HERE = Path(__file__).parent
PROGRAM = Path(sys.executable).with_name("elenchus")

# A long run (make soak) takes all cases, and many times the examples; every other takes a share of what is slow.
SOAK = "ELENCHUS_SOAK" in os.environ

Run = Callable[..., subprocess.CompletedProcess[str]]


def share(values: Sequence[_Value], part: int) -> Sequence[_Value]:
    """Return every so-manieth of some cases; all of them in a long run."""
    return values if SOAK else values[::part]


def often(count: int) -> int:
    """Return how many examples are drawn: twenty times as many in a long run."""
    return count * 20 if SOAK else count


def cases(name: str) -> list[Any]:
    """Return the cases of a data file."""
    data = tomllib.loads((HERE / name).read_text(encoding="utf-8"))
    found: list[Any] = data["case"]
    return found


def group_words(answer: elenchus.Answer) -> str:
    """Return the groups of an answer as the cases have them: label, count, measures."""
    told = ((group.label, group.count, *group.measures) for group in answer.groups or ())
    return ", ".join(" ".join(map(str, each)) for each in told)


@pytest.fixture(scope="session")
def reference() -> elenchus.Site:
    return elenchus.open_site(HERE / "reference")


@pytest.fixture(scope="session")
def demo_site() -> elenchus.Site:
    return elenchus.open_site(elenchus.demo_folder())


@pytest.fixture(scope="session")
def ready() -> Iterator[Ready]:
    """Give a process that has the program loaded, for many runs of it."""
    with closing(Ready()) as found:
        yield found


def settings_of(home: Path, settings: dict[str, str]) -> dict[str, str]:
    """Return the environment of a run: no setting of the user's reaches it."""
    return {"PATH": os.environ["PATH"], "HOME": str(home), "COLUMNS": "100", **settings}


@pytest.fixture
def run(tmp_path: Path, ready: Ready) -> Run:
    """Run the program in a temporary folder, in a process of its own."""

    def program(
        *arguments: str, cwd: Path = tmp_path, timeout: float | None = None, typed: str = "", **settings: str
    ) -> subprocess.CompletedProcess[str]:
        env = settings_of(tmp_path, settings)
        return ready.run([str(PROGRAM), *arguments], cwd=cwd, env=env, typed=typed, timeout=timeout)

    return program


@pytest.fixture
def installed(tmp_path: Path) -> Run:
    """Run the installed program as a shell does, with all that it loads at its start."""

    def program(
        *arguments: str, cwd: Path = tmp_path, typed: str = "", **settings: str
    ) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [str(PROGRAM), *arguments],
            cwd=cwd,
            env=settings_of(tmp_path, settings),
            capture_output=True,
            input=typed,
            text=True,
            encoding="utf-8",
            check=False,
        )

    return program


@pytest.fixture
def site_folder(tmp_path: Path) -> Path:
    """Return a copy of the reference site that a test may change."""
    return Path(shutil.copytree(HERE / "reference", tmp_path / "site"))


def kill_at_moments(
    command: list[str], folder: Path, look: Callable[[], None], moments: int = often(4)
) -> None:
    """Run a program to its end once, then again killed at moments spread over that time; look each time.

    ``look`` is called after each run: it tells whether what a killed run leaves is whole, and makes the
    folder ready for the next one.
    """
    started = time.monotonic()
    subprocess.run(command, cwd=folder, check=True, capture_output=True)
    whole = time.monotonic() - started
    look()
    for moment in range(moments):
        with subprocess.Popen(command, cwd=folder, stdout=subprocess.DEVNULL) as process:
            time.sleep(whole * (0.3 + 0.65 * moment / moments))
            process.kill()
        look()


Write = Callable[[dict[str, str]], elenchus.Site]


@pytest.fixture
def make_site(tmp_path: Path) -> Write:
    """Return a function that writes files and opens the site that they make."""

    def make(files: dict[str, str]) -> elenchus.Site:
        for name, text in files.items():
            path = tmp_path / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(text, encoding="utf-8")
        return elenchus.open_site(tmp_path)

    return make


@pytest.fixture
def demo_copy(tmp_path: Path) -> Path:
    """Return a copy of the demo, to be changed."""
    return Path(shutil.copytree(elenchus.demo_folder(), tmp_path / "demo"))


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Let what takes minutes begin first, so that no process waits for another at the end."""

    def turn(item: pytest.Item) -> tuple[bool, bool]:
        return "spark" not in item.name, item.path.name not in ("test_tables.py", "test_oracle.py")

    items.sort(key=turn)
