"""The house: which package may import which, what the public names are, what a start loads."""

from __future__ import annotations

import ast
import statistics
import subprocess
import sys
import tomllib
from collections import Counter
from collections.abc import Callable, Iterator
from graphlib import TopologicalSorter
from pathlib import Path
from types import ModuleType
from typing import Any

import pytest
from typer.testing import CliRunner

import elenchus
from conftest import HERE, Write
from elenchus.frozen import replace

SOURCE = Path(elenchus.__file__).parent

# From the ground up; a package may import from those before it, and from its own.
FLOORS = [
    ["frozen"],
    ["values"],
    ["errors", "files"],
    ["userdata"],
    ["journal"],
    ["pieces"],
    ["schema"],
    ["operators", "measures"],
    ["language"],
    ["plan"],
    ["engine", "forms"],
    ["tables"],
    ["sources"],
    ["index"],
    ["site"],
    ["starting"],
    ["asking"],
    ["pages"],
    ["rendering"],
    ["comparing"],
    ["editing", "publishing"],
    ["exploring"],
    ["checks"],
    ["report", "chart"],
    ["strip"],
    ["preview"],
    ["demo"],
    ["cli"],
]
FILES = sorted(SOURCE.rglob("*.py"))
CODES = {
    code
    for table in tomllib.loads((SOURCE / "checks" / "records.toml").read_text()).values()
    for code in table
}
# What a site accepts is told by its owner, by a code and words of the message; given-up codes stand in the registry.
DECIDING = {"problem.code == self.code", "self.says in problem.message", "each.code in RENAMED"}
# Names by which a folder finds what its files hold, and the entry points of the program.
FOUND_BY_NAME = {"FORM", "RECORDS", "SUFFIXES", "edited", "find", "main", "reader", "scan"}
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


def module_of(path: Path) -> str:
    """Return the dotted name of a file's module."""
    parts = path.relative_to(SOURCE.parent).with_suffix("").parts
    return ".".join(parts[:-1] if parts[-1] == "__init__" else parts)


TREES = {module_of(path): ast.parse(path.read_text(encoding="utf-8")) for path in FILES}


def walk(kind: type[Any]) -> Iterator[tuple[str, Any]]:
    """Yield all nodes of a kind, with the modules that they stand in."""
    for module, tree in TREES.items():
        yield from ((module, node) for node in ast.walk(tree) if isinstance(node, kind))


def when_loaded(nodes: list[ast.stmt]) -> Iterator[ast.stmt]:
    """Yield the statements that run when a module is imported, those for type checkers left out."""
    for node in nodes:
        yield node
        if isinstance(node, ast.If) and "TYPE_CHECKING" not in ast.unparse(node.test):
            yield from when_loaded([*node.body, *node.orelse])


@pytest.mark.parametrize("path", FILES, ids=lambda path: path.relative_to(SOURCE).as_posix())
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


def test_no_circles() -> None:
    """No module needs, while it is imported, one that needs it."""
    needs: dict[str, set[str]] = {}
    for module, tree in TREES.items():
        needs[module] = set()
        for node in when_loaded(tree.body):
            if isinstance(node, ast.ImportFrom) and node.module in TREES:
                names = {f"{node.module}.{alias.name}" for alias in node.names}
                needs[module] |= (names & set(TREES)) or {node.module}
    order = list(TopologicalSorter(needs).static_order())  # raises CycleError
    assert len(order) == len(TREES)


def test_nothing_goes_round_all() -> None:
    """What is imported from a module is in its ``__all__``; what is not begins with an underscore."""
    offered = {
        module: ast.literal_eval(node.value)
        for module, tree in TREES.items()
        for node in tree.body
        if isinstance(node, ast.Assign) and ast.unparse(node.targets[0]) == "__all__"
    }
    for module, node in walk(ast.ImportFrom):
        if node.module in TREES and node.module != "elenchus":
            inner = {alias.name for alias in node.names if f"{node.module}.{alias.name}" not in TREES}
            assert inner <= set(offered.get(node.module, [])), f"{module} imports from {node.module}"
    for module, tree in TREES.items():
        for node in tree.body:
            if isinstance(node, ast.FunctionDef | ast.ClassDef):
                known = node.name.startswith("_") or node.name in FOUND_BY_NAME
                assert known or node.name in offered.get(module, []), f"{module}.{node.name}"


def test_each_class_has_its_own_name() -> None:
    """No two classes are called the same, private ones neither."""
    names = Counter(node.name for _, node in walk(ast.ClassDef))
    assert [name for name, count in names.items() if count > 1] == []


def test_problems_are_data() -> None:
    """Nothing reads a message to decide, knows a list of codes, or offers names in words of its own."""
    reading = {
        "startswith",
        "endswith",
        "removeprefix",
        "removesuffix",
        "find",
        "index",
        "partition",
    }
    for module, node in walk(ast.Attribute):
        inner = node.value
        read = isinstance(inner, ast.Attribute) and inner.attr in ("message", "hint", "advice")
        assert not (read and node.attr in reading), f"{module}: {ast.unparse(node)}"
    for module, node in walk(ast.Compare):
        sides = [each for each in ast.walk(node) if isinstance(each, ast.Attribute)]
        decides = any(each.attr in ("message", "hint", "code") for each in sides)
        assert not decides or ast.unparse(node) in DECIDING, f"{module}: {ast.unparse(node)}"
    lists = (ast.Tuple, ast.List, ast.Set, ast.Dict)
    for module, node in (found for kind in lists for found in walk(kind)):
        parts = node.keys if isinstance(node, ast.Dict) else node.elts
        codes = [each.value for each in parts if isinstance(each, ast.Constant) and each.value in CODES]
        assert len(codes) < 2 or module == "elenchus.checks.records", f"{module}: {codes}"
    offering = [
        module
        for module, node in walk(ast.Constant)
        if isinstance(node.value, str) and "Did you mean" in node.value
    ]
    assert offering == ["elenchus.errors"]


def test_sizes() -> None:
    """Functions are short and files are small, nearly all of them."""
    kinds = (ast.FunctionDef, ast.AsyncFunctionDef)
    lines = sorted(node.end_lineno - node.lineno + 1 for kind in kinds for _, node in walk(kind))
    assert statistics.median(lines) <= 8
    assert lines[int(len(lines) * 0.9)] <= 25
    assert lines[-1] <= 60
    files = sorted(path.read_text(encoding="utf-8").count("\n") for path in FILES)
    assert files[int(len(files) * 0.9)] <= 400


def test_public_names() -> None:
    """The flat face of the package, name by name."""
    assert elenchus.__all__ == [
        "Answer", "Choice", "Choices", "ElenchusError", "Explanation", "FolderError", "Group", "MarkerError", "NoSuchName", "NoSuchPage", "OptionError", "Place",
        "Problem", "QuestionError", "Row", "Site", "SiteError", "SourceError", "Span", "Verdict", "ask", "demo_folder", "describe",
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


def test_plans_are_the_same_in_every_process() -> None:
    """What a question means is printed alike wherever it is checked: nothing in it hangs on hashes or addresses."""
    code = (
        "import sys, tomllib, elenchus\nfrom elenchus.asking.query import Query\n"
        "site = elenchus.open_site(sys.argv[1])\n"
        "for case in tomllib.load(open(sys.argv[2], 'rb'))['case'][:150]:\n    if 'ids' in case and ':' not in case['question']: print(repr(Query.of(site, case['question']).plan))\n"
    )
    command = [sys.executable, "-c", code, str(HERE / "reference"), str(HERE / "questions.toml")]
    printed = [
        subprocess.run(
            command, capture_output=True, text=True, check=True, env={"PYTHONHASHSEED": seed}
        ).stdout
        for seed in ("1", "2")
    ]
    assert printed[0].count("\n") > 70
    assert printed[0] == printed[1]
    assert " at 0x" not in printed[0]


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


def test_a_measure_is_one_record(reference: elenchus.Site, dropped: Callable[..., None]) -> None:
    """A measure that is dropped into its folder is parsed, printed, offered, checked, run, compared and explained."""
    from elenchus import measures
    from elenchus.language.expecting import expected

    dropped(
        measures,
        "presence.py",
        "from elenchus.measures.record import Measure\nfrom elenchus.schema.types import FieldType, Type\n"
        "RECORDS = (Measure(name='presence', types='whole numbers', doc='', example='', fits=lambda field: field.type == 'integer',\n"
        "    holds=lambda _: FieldType(Type.INTEGER), of=lambda values: values.size()),)\n",
    )
    question = "from sighting group by habitat by presence of individuals desc having presence of individuals > 1 measure presence of individuals as told"
    assert elenchus.print_question(elenchus.parse(question)) == question
    answer = elenchus.ask(reference, question)
    assert [(group.label, *group.measures) for group in answer.groups or ()] == [
        ("Rocky shore", 2),
        ("Tide pools", 2),
    ]
    assert [(each.label, each.value) for each in answer.measures] == [("told", 5)]
    assert "presence of" in {each.words for each in expected("from sighting measure ").awaited}
    with pytest.raises(elenchus.QuestionError, match="takes whole numbers, and “title” holds a text"):
        elenchus.ask(reference, "measure presence of title")
    assert (
        "Only groups where presence of individuals is more than 1."
        in elenchus.why(reference, question).arrangement
    )


def test_a_form_is_one_record(make_site: Write, dropped: Callable[..., None]) -> None:
    """A form that is dropped into its folder can be asked for, stands beside pages, is served and checked."""
    from elenchus import forms
    from elenchus.checks.run import check_site
    from elenchus.cli.commands import load
    from elenchus.pages.sections import placed
    from elenchus.preview.live import Live
    from elenchus.preview.pages import page_reply
    from elenchus.publishing.beside import files_beside
    from elenchus.rendering.marks import PageMarks
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
    done = CliRunner().invoke(
        load(), ["ask", "order by title", "--site", str(folder), "--format", "initials"]
    )
    assert done.stdout == "AB"
    renderer = Renderer(site)
    found = placed(renderer.book, renderer.book.pages[0])
    beside = files_beside(renderer, found.page, found.sections[0], PageMarks(renderer))
    assert [(each.path, each.make()) for each in beside] == [("rows.abc", b"AB")]
    assert 'type="text/x-initials"' in renderer.page(found)
    reply = page_reply(Live(folder).scene(), "rows.abc", "")
    assert (reply.body, reply.type) == (b"AB", "text/x-initials; charset=utf-8")
    (folder / "pages.toml").write_text(page % "from topic")
    codes = {each.problem.code for each in check_site(elenchus.open_site(folder)).findings}
    assert "no-feed" in codes


def test_a_source_is_one_file(make_site: Write, dropped: Callable[..., None]) -> None:
    """A source that is dropped into its folder can be named in a site file, and its entries are asked for."""
    from elenchus import sources

    dropped(
        sources,
        "lines.py",
        "from elenchus.errors import Place\nfrom elenchus.schema.record import Raw, Record\nSUFFIXES = ('.lines',)\n"
        "from elenchus.sources._files import FileReader, scan_files\n"
        "def scan(spec, root, before):\n    return scan_files(spec, root, SUFFIXES)\n"
        "def reader(spec, root, units):\n    return FileReader(spec, root, parse)\n"
        "def parse(spec, unit, content):\n    for number, line in enumerate(content.whole().decode().splitlines(), 1):\n"
        "        yield Record(Place(unit, number), spec.kind, line, {'title': Raw(line.title())})\n",
    )
    site = make_site(
        {
            "elenchus.toml": '[site]\n[sources.n]\nread = "lines"\npath = "a.lines"\nkind = "note"\n[kinds.note]\n',
            "a.lines": "whelk\nkelp\n",
        }
    )
    assert [row["title"] for row in elenchus.ask(site, "order by title").rows] == ["Kelp", "Whelk"]


def test_a_check_is_a_record_and_a_function(
    make_site: Write, dropped: Callable[..., None], monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    """A check that is dropped into its folder, with its record, is run, judged by its level and explained."""
    from elenchus.checks import finders, records
    from elenchus.cli.commands import load

    dropped(
        finders,
        "shouting.py",
        "from elenchus.errors import Problem\n"
        "def find(survey):\n    for title in survey.site.dataset.texts('title').lexicon.texts:\n"
        "        if title.isupper():\n            yield Problem('loud-title', f'{title} shouts')\n",
    )
    more = tmp_path / "records.toml"
    more.write_text(
        f'{(SOURCE / "checks" / "records.toml").read_text()}\n[content.loud-title]\nlevel = "error"\n'
        'means = "A title is in capitals."\nhurts = "It shouts."\nfix = "Write it small."\n'
    )
    monkeypatch.setattr(records, "_FILE", more)
    forget(records)
    try:
        site = make_site({**PLAIN, "n/b.md": "---\ntitle: BRINE\ntopic: [sea]\n---\n"})
        done = CliRunner().invoke(
            load(), ["check", "--site", str(site.definition.folder)], standalone_mode=False
        )
        assert "BRINE shouts.  [loud-title]" in done.stdout
        assert done.return_value == 1
        assert "It shouts." in CliRunner().invoke(load(), ["check", "--about", "loud-title"]).stdout
    finally:
        monkeypatch.undo()
        forget(records)


def test_a_command_is_one_function(dropped: Callable[..., None], make_site: Write) -> None:
    """A command that is dropped into its folder is offered by the program and runs."""
    from elenchus.cli import commands
    from elenchus.cli.app import app

    registered = list(app.registered_commands)
    dropped(
        commands,
        "waving.py",
        "from elenchus.cli.app import SiteOption, app, opened\n"
        "@app.command()\ndef wave(site: SiteOption = None) -> None:\n    print(len(opened(site, None).dataset.entries), 'entries wave')\n",
    )
    try:
        folder = str(make_site(PLAIN).definition.folder)
        assert CliRunner().invoke(commands.load(), ["wave", "--site", folder]).stdout == "1 entries wave\n"
    finally:
        app.registered_commands[:] = registered


def test_a_layout_is_a_file_and_a_word(make_site: Write, monkeypatch: pytest.MonkeyPatch) -> None:
    """A template in the folder of layouts is what a listing shows its rows by, once its word is declared."""
    from elenchus.pages.sections import placed
    from elenchus.rendering.renderer import Renderer
    from elenchus.site import keys

    files = {
        **PLAIN,
        "listings.toml": '[all]\nask = "order by title"\nlayout = "plaques"\n',
        "pages.toml": '[home]\naddress = "index.html"\nsections = ["all"]\n',
        "templates/layouts/plaques.html": "{% for row in rows %}<b>plaque {{ row.title }}</b>{% endfor %}",
    }
    layout = keys.LISTING.by_name["layout"]
    declared = tuple(
        replace(each, words=(*layout.words, "plaques")) if each == layout else each
        for each in keys.LISTING.keys
    )
    table = replace(keys.LISTING, keys=declared)
    monkeypatch.setattr("elenchus.site.listings.LISTING", table)
    site = make_site(files)
    renderer = Renderer(site)
    assert "<b>plaque Algae</b>" in renderer.page(placed(renderer.book, renderer.book.pages[0]))
