"""The documentation is true: its table of operators, its recipes, its commands."""

from __future__ import annotations

import os
import re
import shlex
import sqlite3
import subprocess
import sys
from contextlib import closing
from pathlib import Path

import pytest

import elenchus
import office
from conftest import HERE, PROGRAM, Run

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
    and "lending-library" not in line
    and page.name not in ("start.md", "scale.md", "databases.md")
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


def test_start(tmp_path: Path, run: Run) -> None:
    """What docs/start.md brings along and types becomes a site with the pages that it promises."""
    text = (ROOT / "docs" / "start.md").read_text(encoding="utf-8")
    folder = tmp_path / "shop"
    for name, content in re.findall(r"```\w+ (\S+)\n(.*?)```", text, re.DOTALL):
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(content, encoding="utf-8")
    commands = re.findall(r"^    \$ elenchus (.*)$", text, re.MULTILINE)
    said = []
    for command in commands:
        done = run(*shlex.split(command), cwd=folder)
        assert (done.returncode, command) == (0, command), done.stdout + done.stderr
        said.append(done.stdout)
    assert "live means published" in said[0]
    assert ["Tide tables" in said[2], "Knots" in said[2]] == [True, False]
    assert (tmp_path / "public" / "books" / "tide-tables" / "index.html").is_file()
    assert not list((tmp_path / "public").rglob("*knots*"))
    assert "nothing to propose" in said[3]


def test_sources(run: Run) -> None:
    """The commands of docs/sources.md run, and the site that they write has nothing but the slip it is to show."""
    text = (ROOT / "docs" / "sources.md").read_text(encoding="utf-8")
    for command in re.findall(r"^    elenchus (.*)$", text, re.MULTILINE):
        done = run(*shlex.split(command))
        assert (done.returncode, command) == (0, command), done.stdout + done.stderr
    done = run("check", "--site", "lending-library")
    assert done.stdout.endswith("1 warning, 1 note · 1 accepted\n"), done.stdout
    assert run("publish", "--site", "lending-library").returncode == 0


@pytest.mark.parametrize("command", COMMANDS, ids=lambda text: text[:50])
def test_commands(tmp_path: Path, command: str, run: Run) -> None:
    """Every command in the README and the docs runs on the demo as it is written."""
    words = shlex.split(command.removeprefix("$ "))
    assert words[0] == "elenchus"
    done = run(*words[1:], cwd=elenchus.demo_folder(), HOME=str(tmp_path.parent))
    wanted = 3 if "rocky-shoer" in command else 0
    assert done.returncode == wanted, done.stderr
    assert not list(tmp_path.iterdir())


def test_tables_walk(tmp_path: Path, run: Run) -> None:
    """The commands of docs/scale.md write tables of a demo and ask them, but for those that need a server."""
    run("demo", str(tmp_path / "bay"))
    text = (ROOT / "docs" / "scale.md").read_text(encoding="utf-8")
    commands = [
        line.strip()
        for line in text.splitlines()
        if line.startswith("    elenchus ") and "postgresql" not in line
    ]
    assert len(commands) > 4
    for command in commands:
        words = [*shlex.split(command)[1:], "--site", "bay"]
        done = run(*words)
        assert done.returncode == 0, command + done.stderr


@pytest.mark.parametrize("name", ["changing-content", "comparing"])
def test_walks(name: str, tmp_path: Path, run: Run) -> None:
    """The commands of a page do what it says, one after another, in a demo of their own, which ends as it began."""
    text = (ROOT / "docs" / f"{name}.md").read_text(encoding="utf-8")
    run("demo", str(tmp_path / "bay"))
    files = {path: path.read_bytes() for path in (tmp_path / "bay").rglob("*.*") if path.is_file()}
    commands = re.findall(r"^    \$ elenchus (.*)$", text, re.MULTILINE)
    assert len(commands) >= 5
    for command in commands:
        found = run(*shlex.split(command), cwd=tmp_path / "bay")
        assert found.returncode == 0, f"{command}: {found.stderr}"
        assert found.stdout, command
    assert {path: path.read_bytes() for path in files} == files


def test_databases(tmp_path: Path, run: Run) -> None:
    """The commands of docs/databases.md begin, ask, publish and change a site for a database."""
    text = (ROOT / "docs" / "databases.md").read_text(encoding="utf-8")
    with closing(sqlite3.connect(tmp_path / "office.sqlite")) as database:
        office.fill(database, "sqlite", office.office(60))
    for command in re.findall(r"^    \$ elenchus (.*)$", text, re.MULTILINE):
        found = run(*shlex.split(command), cwd=tmp_path)
        assert found.returncode == 0, f"{command}: {found.stderr}"
    site = tmp_path / "site" / "elenchus.toml"
    written = site.read_text(encoding="utf-8")
    site.write_text(written.replace('key = "id"\n', 'key = "id"\nwritable = true\n', 1), encoding="utf-8")
    changes = re.findall(r"^    elenchus ((?:set|rename-term|undo)\b.*)$", text, re.MULTILINE)
    assert len(changes) == 6
    for command in changes:
        found = run(*shlex.split(command), "--yes", cwd=site.parent)
        assert found.returncode == 0, f"{command}: {found.stderr}"
    script = text.partition("```sh\n")[2].partition("```")[0]
    (tmp_path / "night.sh").write_text(script)
    environment = {"PATH": f"{PROGRAM.parent}:{os.environ['PATH']}", "HOME": str(tmp_path)}
    done = subprocess.run(
        ["/bin/sh", "night.sh"], cwd=tmp_path, env=environment, capture_output=True, text=True, check=False
    )
    assert (done.returncode, "elenchus check names what was held back" in done.stderr) == (0, True), (
        done.stderr
    )
    (tmp_path / "office.sqlite").write_bytes(b"SQLite format 3\0 torn")
    done = subprocess.run(
        ["/bin/sh", "night.sh"], cwd=tmp_path, env=environment, capture_output=True, text=True, check=False
    )
    assert (done.returncode, "the site stays as it is" in done.stderr) == (9, True)
    assert (tmp_path / "site" / "published" / "index.html").exists()


def test_exploring(demo_copy: Path, run: Run) -> None:
    """What docs/exploring.md types, one line after another, is understood, and writes nothing before yes."""
    text = (ROOT / "docs" / "exploring.md").read_text(encoding="utf-8")
    lines = re.findall(r"^    explore: (.*)$", text, re.MULTILINE)
    assert len(lines) > 12
    before = (demo_copy / "listings.toml").read_bytes()
    done = run("explore", "fresh-from-shore", "--plain", cwd=demo_copy, typed="\n".join(lines) + "\n")
    assert (done.returncode, done.stderr) == (0, "")
    assert not re.search(r"\.  \[[a-z]+(-[a-z]+)+\]$", done.stdout, re.MULTILINE)
    assert all(
        f"+ {line}" in done.stdout
        for line in re.findall(r"^    (based_on = .*|ask = .*)$", text, re.MULTILINE)
    )
    assert (demo_copy / "listings.toml").read_bytes() == before
