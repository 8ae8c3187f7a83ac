"""The documentation is true: its table of operators, its recipes, its commands."""

from __future__ import annotations

import re
import shlex
import subprocess
import sys
from pathlib import Path

import pytest

import elenchus
from conftest import HERE, PROGRAM

ROOT = HERE.parent
LANGUAGE = (ROOT / "docs" / "question-language.md").read_text(encoding="utf-8")
RECIPES = re.findall(
    r"```question ?([^\n]*)\n(.*?)\n```\n\n(\d+) (?:entry|entries|term|terms)\.", LANGUAGE, re.DOTALL
)
COMMANDS = [
    line.strip()
    for page in (ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md")))
    for line in page.read_text(encoding="utf-8").splitlines()
    if re.match(r"    (\$ )?elenchus (ask|why|describe|pages|check|publish --dry-run)\b", line)
    and "[" not in line
    and not re.search(r"\b(QUESTION|CODE|NAME)\b", line)
]


def test_enough_recipes() -> None:
    """Every recipe of the page is one that the test below runs."""
    assert len(RECIPES) == LANGUAGE.count("```question") >= 20


@pytest.mark.parametrize(("given", "question", "count"), RECIPES, ids=lambda text: text[:40])
def test_recipes(demo_site: elenchus.Site, given: str, question: str, count: str) -> None:
    """A recipe answers with as many rows as the page says."""
    values = dict(pair.split("=", 1) for pair in shlex.split(given))
    assert elenchus.ask(demo_site, question, given=values).total == int(count)


def test_references_are_current() -> None:
    """The table of operators and the page of checks are those that their records make."""
    command = [sys.executable, str(ROOT / "tools" / "reference.py"), "--check"]
    assert subprocess.run(command, check=False).returncode == 0


@pytest.mark.parametrize("command", COMMANDS, ids=lambda text: text[:50])
def test_commands(tmp_path: Path, command: str) -> None:
    """Every command in the README and the docs runs on the demo as it is written."""
    words = shlex.split(command.removeprefix("$ "))
    assert words[0] == "elenchus"
    done = subprocess.run(
        [PROGRAM, *words[1:]], cwd=elenchus.demo_folder(), capture_output=True, text=True, check=False
    )
    wanted = 3 if "rocky-shoer" in command else 0
    assert done.returncode == wanted, done.stderr
    assert not list(tmp_path.iterdir())
