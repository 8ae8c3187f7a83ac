"""The house: which package may import which, what the public names are, what a start loads."""

from __future__ import annotations

import ast
import subprocess
import sys
from pathlib import Path

import pytest

import elenchus

SOURCE = Path(elenchus.__file__).parent

# From the ground up; a package may import from those before it, and from its own.
FLOORS = [
    ["errors", "files"],
    ["values"],
    ["table"],
    ["operators"],
    ["language"],
    ["plan"],
    ["engine"],
    ["sources"],
    ["site"],
    ["asking"],
    ["pages"],
    ["rendering"],
    ["checks"],
    ["layout"],
    ["formats", "chart"],
    ["feeds"],
    ["publishing"],
    ["serving"],
    ["demo"],
    ["cli"],
]
LEVEL = {name: level for level, floor in enumerate(FLOORS) for name in floor}
INTERFACE = {"typer", "click", "rich"}
WIRE = {"starlette", "uvicorn", "watchfiles"}


def imports(path: Path) -> list[str]:
    """Return the modules that a file imports, wherever in it."""
    found: list[str] = []
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Import):
            found += [alias.name for alias in node.names]
        elif isinstance(node, ast.ImportFrom):
            found += [f"{node.module}.{alias.name}" for alias in node.names]
    return found


@pytest.mark.parametrize(
    "path", sorted(SOURCE.rglob("*.py")), ids=lambda path: path.relative_to(SOURCE).as_posix()
)
def test_arrows(path: Path) -> None:
    """Nothing imports from a floor above its own, and only the command line knows its libraries."""
    parts = path.relative_to(SOURCE).with_suffix("").parts
    if parts[0] in ("__init__", "__main__"):
        return
    for name in imports(path):
        top, *rest = name.split(".")
        if top == "elenchus" and rest and rest[0] in LEVEL:
            assert LEVEL[rest[0]] <= LEVEL[parts[0]], f"{path.name} imports {name}"
        assert top not in INTERFACE or parts[0] == "cli", f"{path.name} imports {name}"
        assert top not in WIRE or parts[0] == "serving", f"{path.name} imports {name}"


def test_public_names() -> None:
    """The flat face of the package, name by name."""
    assert elenchus.__all__ == [
        "Answer", "Choice", "Choices", "ElenchusError", "Explanation", "FolderError", "Group", "MarkerError", "NoSuchName", "NoSuchPage", "Place",
        "Problem", "QuestionError", "Row", "Site", "SiteError", "Span", "Verdict", "ask", "demo_folder", "describe",
        "find_site", "open_site", "parse", "print_question", "why", "why_entry",
    ]  # fmt: skip
    assert all(getattr(elenchus, name) for name in elenchus.__all__)
    with pytest.raises(AttributeError):
        elenchus.nothing  # noqa: B018


@pytest.mark.parametrize(
    ("code", "absent"),
    [
        (
            "import elenchus",
            ["numpy", "yaml", "typer", "click", "pyuca", "rich", "jinja2", "sqlalchemy", "matplotlib", "re2"],
        ),
        (
            "import sys; sys.argv = ['elenchus', '--help']\nfrom elenchus.cli.program import main\ntry: main()\nexcept SystemExit: pass",
            ["numpy", "yaml", "jinja2", "sqlalchemy", "pyuca", "rich", "pydantic", "tomllib"],
        ),
        (
            "import elenchus; elenchus.ask(elenchus.open_site(elenchus.demo_folder()), 'order by title')",
            ["typer", "click", "pyuca", "rich", "jinja2", "sqlalchemy", "matplotlib", "re2"],
        ),
    ],
    ids=["import", "help", "ask"],
)
def test_what_a_start_loads(code: str, absent: list[str]) -> None:
    """Importing, helping and asking load no library that they do not need."""
    code += f"\nimport sys\nprint('LOADED', [name for name in {absent} if name in sys.modules])"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines()[-1] == "LOADED []"


def test_doctest() -> None:
    """The example in the package's own docstring is true."""
    import doctest

    assert doctest.testmod(elenchus).failed == 0
    assert doctest.testmod(elenchus).attempted == 3


def test_one_place_changes(tmp_path: Path, reference: elenchus.Site, monkeypatch: pytest.MonkeyPatch) -> None:
    """A format is one file and an operator one record: dropped into their folders, they work everywhere."""
    from elenchus import formats, operators

    for folder in ("formats", "operators"):
        (tmp_path / folder).mkdir()
    (tmp_path / "formats" / "initials.py").write_text(
        "from elenchus.layout.pieces import Piece\n"
        "def write(answer, width):\n    yield Piece(''.join(row['title'][0] for row in answer.rows))\n"
    )
    (tmp_path / "operators" / "parity.py").write_text(
        "from elenchus.operators.record import Example, Operands, Operator\n"
        "RECORDS = (Operator(name='is even', says='is even', denies='is odd', fix='', unfix='', types='whole numbers',\n"
        "    operands=Operands.NONE, doc='', examples=(), fits=lambda field: field.type == 'integer',\n"
        "    rows=lambda column, _: (column.keys % 2 == 0) & column.valid),)\n"
    )
    for package in (formats, operators):
        monkeypatch.setattr(
            package, "__path__", [*package.__path__, str(tmp_path / package.__name__.rpartition(".")[2])]
        )
    for cached in (operators.all_operators, operators.by_name, operators.spellings):
        cached.cache_clear()
    try:
        assert "initials" in formats.names()
        answer = elenchus.ask(reference, "from sighting where individuals is even order by title")
        assert "".join(piece.text for piece in formats.answer_format("initials").write(answer, None)) == "DG"
        assert elenchus.ask(reference, "from sighting where individuals not is even").matched == 5
        assert (
            elenchus.why(reference, "from sighting where individuals is even").steps[-1].words
            == "individuals is even"
        )
    finally:
        monkeypatch.undo()
        for cached in (operators.all_operators, operators.by_name, operators.spellings):
            cached.cache_clear()
