"""The installed program as a user meets it: outputs, exit codes, files written."""

from __future__ import annotations

import csv
import io
import json
import os
import pty
import re
import shlex
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

import elenchus
from conftest import HERE, PROGRAM, Run, Write, cases
from elenchus.cli import commands
from elenchus.cli.app import GROUPS
from servers import found
from terminals import Terminal

COMMANDS = Path(commands.__file__).parent
REFERENCE = HERE / "reference"
COUNTING = "from sighting where individuals >= 10 order by individuals desc"


@pytest.fixture(scope="module")
def demos(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Return a folder with copies of both demos, which keep what a run has read for the next one."""
    folder = tmp_path_factory.mktemp("outputs")
    for name in ("skerry-bay", "lending-library"):
        shutil.copytree(elenchus.demo_folder().parent / name, folder / name)
    return folder


@pytest.mark.parametrize("case", cases("outputs.toml"), ids=lambda case: case["command"])
def test_outputs(installed: Run, demos: Path, case: dict[str, Any]) -> None:
    """What a command prints in a demo is what the case says, line by line; it changes nothing."""
    folder = demos / case.get("demo", "skerry-bay")
    done = installed(*shlex.split(case["command"]), cwd=folder, typed=case.get("typed", ""))
    assert done.returncode == case.get("code", 0)
    assert (done.stderr if "errors" in case else done.stdout) == case.get("errors", case.get("says"))
    assert not (folder / "published").exists()


def test_table(run: Run) -> None:
    """A table has the id, title, date and the fields that the question names; problems go to stderr."""
    done = run("ask", COUNTING + " limit 2", cwd=REFERENCE)
    assert done.stdout == (
        "id  title                  date              individuals\n"
        "s2  Dunlin flock at dusk   2026-05-18 23:30          140\n"
        "s4  Ochre stars returning  2026-04-30 22:30           31\n"
        "\n2 of 3 entries · as of 2026-05-20 12:00 America/Halifax\n"
        "note: 1 stored value of individuals does not fit and counts as missing: “about 20” in "
        "notebook/sighting/grey-seal-count-first-try.md:7.\n"
    )
    assert done.stderr.startswith("\n1 problem in the content, which did not stop the answer:\n")
    assert "grey-seal-count-first-try.md:7: individuals: “about 20” is not a whole number." in done.stderr


def test_json(run: Run) -> None:
    """JSON carries the question, its counts, and each row once with what the question names."""
    done = run("ask", COUNTING + " offset 1 per page 1", "--page", "2", "--format", "json", cwd=REFERENCE)
    answer = json.loads(done.stdout)
    rows = answer.pop("rows")
    notices = answer.pop("notices")
    assert answer == {
        "question": COUNTING + " offset 1 per page 1",
        "at": "2026-05-20T12:00:00-03:00",
        "matched": 3,
        "total": 2,
        "offset": 1,
        "page": 2,
        "pages": 2,
        "per_page": 1,
        "groups": None,
        "grouped_by": [],
        "placements": None,
        "overlap": {},
        "unpublished": False,
        "choices": None,
    }
    assert rows == [
        {
            "id": "s1",
            "kind": "sighting",
            "slug": "grey-seals-hauled-out",
            "title": "Grey seals hauled out",
            "date": "2026-05-18T09:00:00-03:00",
            "address": None,
            "individuals": 12,
        }
    ]
    assert [notice["code"] for notice in notices] == ["unfit-value"]


def test_csv(run: Run) -> None:
    """CSV has a header and a line for each row; several terms have commas between them."""
    done = run(
        "ask", "where habitat under shore and species is set limit 3", "--format", "csv", cwd=REFERENCE
    )
    rows = list(csv.DictReader(io.StringIO(done.stdout)))
    assert [(row["id"], row["habitat"], row["species"]) for row in rows] == [
        ("g4", "rocky-shore", "limpet"),
        ("s1", "rocky-shore", "grey-seal"),
        ("s3", "rocky-shore,tide-pools", "limpet"),
    ]


@pytest.mark.parametrize(
    "format_name",
    ["table", "json", "jsonl", "csv", "lines", "number", "markdown", "html", "atom", "rss", "jsonfeed"],
)
def test_unpublished_is_told(run: Run, format_name: str) -> None:
    """Whatever the format, an answer with unpublished rows says so: in its text, or beside it."""
    # feeds need the address of their site, which the reference site has none of
    folder = elenchus.demo_folder() if format_name in ("atom", "rss", "jsonfeed") else REFERENCE
    done = run("ask", "including unpublished where status = draft", "--format", format_name, cwd=folder)
    told = done.stdout if format_name in ("table", "json") else done.stderr
    assert "this includes unpublished rows, which no visitor sees" in told
    assert done.returncode == 0


@pytest.mark.parametrize(
    ("arguments", "code", "said"),
    [
        (("ask", "where habitat = open-watr"), 3, "Did you mean open-water?"),
        (("ask", "per page 5", "--page", "5"), 5, "There is no page “5”: the last page is 4."),
        (("ask", "", "--page", "abc"), 5, "There is no page “abc”: there is only page 1."),
        (("ask", "", "--site", "/nowhere"), 4, "There is no elenchus.toml in /nowhere."),
        (("ask", "", "--at", "noon"), 2, "--at “noon” is not a date."),
        (("ask", "", "--format", "tabel"), 2, "Did you mean table?"),
        (("ask", "", "--formt", "csv"), 2, "--format"),
        (("ask",), 2, "Missing argument 'QUESTION'"),
        (("aks", ""), 2, "There is no command “aks”. Did you mean ask?\n"),
        (("demo", "/proc/demo"), 6, "cannot be written"),
        (("why", "where habitat = open-watr"), 3, "Did you mean open-water?"),
        (("why", "from guide", "g9"), 7, "No entry is called “g9”."),
        (("describe", "open-watr"), 7, "Did you mean open-water?"),
        (("ask", "", "--with", "x"), 2, "--with takes NAME=VALUE"),
        (("ask", "", "--with", "x=1"), 3, "The question has no parameter :x."),
    ],
)
def test_exit_codes(run: Run, arguments: tuple[str, ...], code: int, said: str) -> None:
    """Each sort of error has its own exit code and a text without a traceback on standard error."""
    done = run(*arguments, cwd=REFERENCE)
    assert (done.returncode, done.stdout) == (code, "")
    assert said in done.stderr
    assert "Traceback" not in done.stderr


def test_site_is_found_upward(run: Run, tmp_path: Path) -> None:
    """The site is the nearest folder upward; outside of any site an error says how to get one."""
    assert run("ask", "from guide", "-f", "number", cwd=REFERENCE / "notebook" / "guide").stdout == "4\n"
    done = run("ask", "from guide", cwd=tmp_path)
    assert done.returncode == 4
    assert "elenchus demo" in done.stderr


@pytest.mark.parametrize(
    ("arguments", "settings", "now"),
    [
        (("--at", "2026-06-01T09:00"), {"SOURCE_DATE_EPOCH": "0"}, "2026-06-01T09:00:00-03:00"),
        ((), {"SOURCE_DATE_EPOCH": "86400"}, "2026-05-20T12:00:00-03:00"),
    ],
)
def test_clock(run: Run, arguments: tuple[str, ...], settings: dict[str, str], now: str) -> None:
    """--at beats the site's clock, and that beats SOURCE_DATE_EPOCH."""
    done = run("ask", "", "-f", "json", *arguments, cwd=REFERENCE, **settings)
    assert json.loads(done.stdout)["at"] == now


def test_epoch_without_clock(run: Run, site_folder: Path) -> None:
    """Without a clock of its own a site takes SOURCE_DATE_EPOCH for now."""
    file = site_folder / "elenchus.toml"
    file.write_text(file.read_text().replace("clock =", "# clock ="))
    done = run("ask", "", "-f", "json", cwd=site_folder, SOURCE_DATE_EPOCH="1768478400")
    answer = json.loads(done.stdout)
    assert (answer["at"], answer["matched"]) == ("2026-01-15T08:00:00-04:00", 4)


def test_demo(run: Run, tmp_path: Path) -> None:
    """The demo writes its site, tells its story, writes nothing twice, and overwrites only by force."""
    first = run("demo")
    assert first.returncode == 0, first.stderr
    assert first.stdout.count("$ elenchus ask") == 7
    assert first.stdout.count("try next:") == 7
    assert "Did you mean rocky-shore?" in first.stdout
    assert run("demo").stdout == first.stdout
    page = tmp_path / "skerry-bay" / "notebook" / "guide" / "boats-near-seals.md"
    shipped = page.read_text()
    page.write_text(shipped + "\nMy own words.\n")
    refused = run("demo")
    assert refused.returncode == 6
    assert "1 file in skerry-bay would be overwritten, so nothing was written" in refused.stderr
    assert page.read_text().endswith("My own words.\n")
    assert run("demo", "--force").returncode == 0
    assert page.read_text() == shipped
    assert not list(tmp_path.rglob("*.part"))


def test_demo_says_what_works(run: Run, tmp_path: Path) -> None:
    """Every command that the demo offers as the next one runs as it is written."""
    lines = run("demo").stdout.splitlines()
    offered = [line.split("try next: ")[1].split("     (")[0] for line in lines if "try next: " in line]
    for command in offered:
        program = command.replace("elenchus", str(PROGRAM), 1)
        done = subprocess.run(
            program, shell=True, cwd=tmp_path / "skerry-bay", capture_output=True, check=False
        )
        assert done.returncode == 0, (command, done.stderr)


def test_terminal_has_colours(run: Run) -> None:
    """On a terminal the output is coloured, with NO_COLOR it is not; in a pipe it is plain."""
    plain = run("ask", "from guide", cwd=REFERENCE).stdout
    coloured = on_terminal("ask", "from guide", TERM="xterm")
    assert "\x1b[" not in plain
    assert "\x1b[1mTelling seals apart" in coloured
    assert "\x1b[" not in on_terminal("ask", "from guide", TERM="xterm", NO_COLOR="1")


def test_narrow_terminal() -> None:
    """Lines fit the terminal: long cells end in an ellipsis."""
    lines = on_terminal("ask", "order by title", TERM="dumb", COLUMNS="50").splitlines()
    assert max(len(line) for line in lines[:18]) <= 50
    assert any("…" in line for line in lines)


def on_terminal(*arguments: str, **settings: str) -> str:
    """Return what the program writes to a terminal."""
    parent, child = pty.openpty()
    environment = {"PATH": os.environ["PATH"], "COLUMNS": "100", **settings}
    command = [str(PROGRAM), *arguments]
    with subprocess.Popen(
        command, cwd=REFERENCE, env=environment, stdout=child, stderr=subprocess.DEVNULL
    ) as process:
        os.close(child)
        found = b""
        try:
            while part := os.read(parent, 65536):
                found += part
        except OSError:  # the other end of a terminal closes with an error
            pass
        process.wait()
    os.close(parent)
    return found.decode().replace("\r\n", "\n")


def test_reader_goes_away() -> None:
    """When nobody reads the output any more the program ends quietly."""
    reading, writing = os.pipe()
    os.close(reading)
    command = [str(PROGRAM), "ask", "from guide"]
    done = subprocess.run(
        command, cwd=REFERENCE, stdout=writing, stderr=subprocess.PIPE, text=True, check=False
    )
    os.close(writing)
    assert done.returncode == 0
    assert "Error" not in done.stderr


def test_wheel(tmp_path: Path) -> None:
    """A wheel that is built and unpacked anywhere brings all it needs to run the demo."""
    root = HERE.parent
    build = [sys.executable, "-m", "build", "--wheel", "--no-isolation", "--outdir", str(tmp_path), str(root)]
    subprocess.run(build, check=True, capture_output=True)
    (wheel,) = tmp_path.glob("*.whl")
    target = tmp_path / "installed"
    install = [
        sys.executable,
        "-m",
        "pip",
        "install",
        "--no-deps",
        "--quiet",
        "--target",
        str(target),
        str(wheel),
    ]
    subprocess.run(install, check=True, capture_output=True)
    environment = {"PATH": os.environ["PATH"], "PYTHONPATH": str(target)}
    where = "import elenchus; print(elenchus.__file__)"
    demo = [sys.executable, "-m", "elenchus", "demo"]
    outputs = [
        subprocess.run(
            command, cwd=tmp_path, env=environment, capture_output=True, text=True, check=True
        ).stdout
        for command in ([sys.executable, "-c", where], demo)
    ]
    assert outputs[0].startswith(str(target))
    assert "Étang edge plants" in outputs[1]
    assert (tmp_path / "skerry-bay" / "images" / "seal.svg").is_file()


@pytest.mark.parametrize(
    "command", [(), ("ask",), ("why",), ("describe",), ("pages",), ("check",), ("demo",)], ids=str
)
def test_help(run: Run, command: tuple[str, ...]) -> None:
    """Help has a sentence for every argument, option and command, none of them cut."""
    done = run(*command, "--help", COLUMNS="120")
    assert done.returncode == 0
    assert "..." not in done.stdout.replace("[ARGS]...", "")
    for line in done.stdout.splitlines():
        assert not re.fullmatch(r"  \S+( [A-Z=]+)?(  \[required\])?", line), line


def test_examples_of_help(run: Run, tmp_path: Path) -> None:
    """Each command stands in one group of the help, and its own ends with two examples, which work in the demo."""
    grouped = [name for names in GROUPS.values() for name in names]
    commands = sorted(path.stem.replace("_", "-") for path in COMMANDS.glob("[a-z]*.py"))
    assert sorted(grouped) == commands
    folder = Path(shutil.copytree(elenchus.demo_folder(), tmp_path / "demo"))
    (folder / "index.html").write_text(
        "<p><!-- elenchus begin number 'from sighting' --><!-- elenchus end --></p>\n"
    )
    entry = folder / "notebook" / "sighting" / "grey-seal-count-may.md"
    entry.with_suffix(".edit.md").write_text(entry.read_text() + "More.\n")
    for name in grouped:
        lines = run(name, "--help").stdout.split("For example, in the demo:\n")[-1].splitlines()
        examples = [line.strip() for line in lines if line.strip()]
        assert [line.split()[:2] for line in examples] == [["elenchus", name]] * 2
        for line in examples if name != "serve" else []:
            plain = ["--plain"] if name == "explore" else []  # the screen of explore needs a terminal
            done = run(*shlex.split(line)[1:], *plain, cwd=folder)
            assert done.returncode == 0, f"{line}: {done.stderr}"


SHELLS = {
    "bash": (["--norc", "-i"], "source made; PS1='$ '"),
    "zsh": (["-f", "-i"], "autoload -Uz compinit; compinit -u; source ./made; PROMPT='$ '"),
    "fish": (["--no-config", "-i"], "source made"),
}
EVIL_NAMES = ["$(touch pwned)", "`touch pwned`", "a;touch pwned", "a&touch pwned", "a\\ntouch pwned\\n", "a|touch pwned", "x'$(touch pwned)", "~root", "*", "a\\u001b]0;x\\u0007", "!touch", "a>pwned", "-x y", "${IFS}"]  # fmt: skip


@pytest.mark.parametrize("shell", SHELLS)
def test_nothing_of_a_site_is_run_by_completion(
    make_site: Write, tmp_path: Path, run: Run, shell: str
) -> None:
    """Names that a shell gives a meaning to are not offered, and descriptions have no control characters."""
    make_site({"elenchus.toml": '[sources.n]\nread = "markdown"\npath = "n"\nkind = "note"\n[kinds.note]\n[taxonomies.topic]\n', "listings.toml": "".join(f'["{name}"]\nask = "from note"\n' for name in EVIL_NAMES) + '[good]\nask = "from note"\ntitle = "a\\u001b]52;c;x\\u0007 $(touch pwned)"\n', **{f"n/n{at}.md": f'---\ntitle: "T\\e]0;x\\a"\ntopic: ["{name}"]\n---\n' for at, name in enumerate(EVIL_NAMES)}})  # fmt: skip
    run("ask", "", "--format", "number")
    for line in (
        "ask ",
        "why good ",
        "rename-term topic/",
        "describe ",
        "set good topic=",
        "upcoming --listing ",
    ):
        for begun in ("", "a", "$", "-", "*"):
            asked = run(ELENCHUS_LINE=f"elenchus {line}{begun}", _ELENCHUS_COMPLETE=shell)
            assert (asked.returncode, asked.stderr) == (0, "")
            for told in asked.stdout.splitlines():
                sort, value, help_text = told.split("\t")
                assert sort in ("word", "file", "folder")
                assert re.fullmatch(r"[\w./:@%,+= -]*", value), value
                assert not value.startswith(("~", "=")), value
                assert begun == "-" or not value.startswith("-")
                assert help_text.isprintable()
    assert "good" in run(ELENCHUS_LINE="elenchus ask ", _ELENCHUS_COMPLETE=shell).stdout
    assert not (tmp_path / "pwned").exists()


def test_completion_asks_no_server(make_site: Write, run: Run) -> None:
    """The Tab key reads no feed and no database, and waits for no content without an index."""
    files = {"elenchus.toml": '[sources.n]\nread = "feed"\nurl = "http://127.0.0.1:9/feed"\nkind = "note"\n[kinds.note]\n', "listings.toml": '[good]\nask = "from note"\n'}  # fmt: skip
    make_site(files)
    for line in ("elenchus why good ", "elenchus set good "):
        asked = run(ELENCHUS_LINE=line, _ELENCHUS_COMPLETE="bash")
        assert (asked.returncode, asked.stdout, asked.stderr) == (0, "", "")


@pytest.mark.parametrize("shell", SHELLS)
def test_completion(run: Run, demo_copy: Path, shell: str) -> None:
    """In a real shell the Tab key completes commands, options, and the names of the site around it."""
    arguments, setup = SHELLS[shell]
    (demo_copy / "made").write_text(run("completion", shell).stdout, encoding="utf-8")
    (demo_copy / "images" / "smaller").mkdir()
    assert run("ask", "", "--format", "number", cwd=demo_copy).returncode == 0  # which makes the index
    path = f"{PROGRAM.parent}{os.pathsep}{os.environ['PATH']}"
    terminal = Terminal(demo_copy, found(shell), *arguments, PATH=path)
    try:
        terminal.type(
            f"{setup}; echo ready-$((40 + 2))\r"
            if shell != "fish"
            else f"{setup}; echo ready-(math 40 + 2)\r"
        )
        terminal.until("ready-42")
        for typed, whole in (
            ("elenchus expl", "elenchus explore"),
            ("elenchus ask fre", "elenchus ask fresh-from-shore"),
            ("elenchus check --about only-the", "elenchus check --about only-the-term"),
            ("elenchus describe sight", "elenchus describe sighting"),
            ("elenchus why shore-sidebar grey-seals-h", "elenchus why shore-sidebar grey-seals-hauled-out"),
            ("elenchus set 'from guide' minu", "elenchus set 'from guide' minutes="),
            ("elenchus set 'from sighting' habitat=rocky", "habitat=rocky-shore"),
            ("elenchus rename-term hab", "elenchus rename-term habitat/"),
            ("elenchus rename-term habitat/mudf", "elenchus rename-term habitat/mudflat"),
            ("elenchus rename-term habitat/mudflat --into saltm", "--into saltmarsh"),
            ("elenchus ask find --with hab", "elenchus ask find --with habitat="),
            ("elenchus ask by-habitat --with habitat=saltm", "--with habitat=saltmarsh"),
            ("elenchus publish --only ho", "elenchus publish --only home"),
            ("elenchus publish --to images/sm", "elenchus publish --to images/smaller"),
            ("elenchus ask find --chart ima", "elenchus ask find --chart images"),
            ("elenchus weave terms/hab", "elenchus weave terms/habitat.csv"),
            ("elenchus demo note", "elenchus demo notebook"),
        ):
            terminal.type(f"{typed}\t")
            terminal.until(whole)
            terminal.type("\x15")
    finally:
        terminal.close()
