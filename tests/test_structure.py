"""The house: which package may import which, what the public names are, what a start loads."""

from __future__ import annotations

import ast
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from types import ModuleType

import pytest
from typer.testing import CliRunner

import elenchus
from conftest import Write

SOURCE = Path(elenchus.__file__).parent

# From the ground up; a package may import from those before it, and from its own.
FLOORS = [
    ["frozen"],
    ["values"],
    ["errors", "files"],
    ["pieces"],
    ["schema"],
    ["operators"],
    ["language"],
    ["plan"],
    ["engine", "forms"],
    ["sources"],
    ["site"],
    ["asking"],
    ["pages"],
    ["rendering"],
    ["checks"],
    ["publishing"],
    ["report", "chart"],
    ["preview"],
    ["demo"],
    ["cli"],
]
LEVEL = {name: level for level, floor in enumerate(FLOORS) for name in floor}
INTERFACE = {"typer", "click", "rich"}
WIRE = {"starlette", "uvicorn", "watchfiles"}
PLAIN = {
    "elenchus.toml": '[site]\n[sources.n]\nread = "markdown"\npath = "n"\nkind = "note"\n[kinds.note]\n[taxonomies.topic]\n',
    "n/a.md": "---\ntitle: Algae\ntopic: [sea]\n---\n",
}


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
        assert top not in WIRE or parts[0] == "preview", f"{path.name} imports {name}"


def test_public_names() -> None:
    """The flat face of the package, name by name."""
    assert elenchus.__all__ == [
        "Answer", "Choice", "Choices", "ElenchusError", "Explanation", "FolderError", "Group", "MarkerError", "NoSuchName", "NoSuchPage", "OptionError", "Place",
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


@pytest.fixture
def dropped(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> Iterator[Callable[[ModuleType, str, str], None]]:
    """Return a function that puts one file more into the folder of a package; it is gone after the test."""
    used: list[ModuleType] = []

    def drop(package: ModuleType, name: str, text: str) -> None:
        folder = tmp_path / package.__name__
        folder.mkdir(exist_ok=True)
        (folder / name).write_text(text, encoding="utf-8")
        monkeypatch.setattr(package, "__path__", [*package.__path__, str(folder)])
        used.append(package)
        forget(package)

    yield drop
    monkeypatch.undo()
    for package in used:
        forget(package)


def forget(package: ModuleType) -> None:
    """Let a package look into its folder again."""
    for each in vars(package).values():
        if hasattr(each, "cache_clear"):
            each.cache_clear()


def test_an_operator_is_one_record(reference: elenchus.Site, dropped: Callable[..., None]) -> None:
    """An operator that is dropped into its folder is parsed, checked, run, negated and explained."""
    from elenchus import operators

    dropped(
        operators,
        "parity.py",
        "from elenchus.operators.record import Example, Operands, Operator\n"
        "RECORDS = (Operator(name='is even', says='is even', denies='is odd', fix='', unfix='', types='whole numbers',\n"
        "    operands=Operands.NONE, doc='', examples=(), fits=lambda field: field.type == 'integer',\n"
        "    rows=lambda column, _: (column.keys % 2 == 0) & column.valid),)\n",
    )
    question = "from sighting where individuals is even"
    assert [row["title"][0] for row in elenchus.ask(reference, f"{question} order by title").rows] == [
        "D",
        "G",
    ]
    assert elenchus.ask(reference, "from sighting where individuals not is even").matched == 5
    assert elenchus.why(reference, question).steps[-1].words == "individuals is even"


def test_a_form_is_one_record(make_site: Write, dropped: Callable[..., None]) -> None:
    """A form that is dropped into its folder can be asked for, stands beside pages, is served and checked."""
    from elenchus import forms
    from elenchus.checks.run import check_site
    from elenchus.cli.commands import app
    from elenchus.pages.sections import placed
    from elenchus.preview.live import Live
    from elenchus.preview.pages import page_reply
    from elenchus.publishing.beside import files_beside
    from elenchus.rendering.renderer import Renderer

    dropped(
        forms,
        "initials.py",
        "from elenchus.forms import Form, Need\nfrom elenchus.pieces.piece import Piece\n"
        "def write(answer, frame):\n    yield Piece(''.join(row['title'][0] for row in answer.rows))\n"
        "FORM = Form('initials', 'Initials', 'text/x-initials', write, '.abc', frozenset({Need.ENTRIES}))\n",
    )
    page = (
        '[home]\naddress = "index.html"\nsections = [{ ask = "%s", title = "Rows", beside = ["initials"] }]\n'
    )
    site = make_site(
        {**PLAIN, "n/b.md": "---\ntitle: Brine\ntopic: [sea]\n---\n", "pages.toml": page % "order by title"}
    )
    folder = site.definition.folder
    done = CliRunner().invoke(app, ["ask", "order by title", "--site", str(folder), "--format", "initials"])
    assert done.stdout == "AB"
    renderer = Renderer(site)
    found = placed(site, renderer.book.pages[0])
    assert dict(files_beside(renderer, found.page, found.sections[0])) == {"rows.abc": b"AB"}
    assert 'type="text/x-initials"' in renderer.page(found)
    reply = page_reply(Live(folder).scene(), "rows.abc", "")
    assert (reply.body, reply.type) == (b"AB", "text/x-initials; charset=utf-8")
    (folder / "pages.toml").write_text(page % "from topic")
    codes = {each.problem.code for each in check_site(elenchus.open_site(folder)).findings}
    assert "no-feed" in codes
