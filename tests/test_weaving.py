"""Markers: what is filled, what is kept to the byte, what is refused."""

from __future__ import annotations

import re
import stat
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import elenchus
from conftest import PROGRAM, Run, cases, kill_at_moments, often
from elenchus.publishing.markers import markers_in
from elenchus.publishing.weaving import encoding_of, weave
from elenchus.rendering.renderer import Renderer

MARKED = '<!-- elenchus begin number "from guide" -->{}<!-- elenchus end -->'


@pytest.fixture(scope="module")
def renderer() -> Renderer:
    return Renderer(elenchus.open_site(Path(__file__).parent / "reference"))


@pytest.mark.parametrize("case", cases("markers.toml"), ids=lambda case: str(case["name"]))
def test_markers(renderer: Renderer, tmp_path: Path, case: dict[str, Any]) -> None:
    """A file becomes what the case says, and stays so; or every problem is reported with its line."""
    path = tmp_path / case["file"]
    path.write_bytes(case["text"].replace("⏎", "\r\n").encode())
    if "errors" in case:
        with pytest.raises(elenchus.MarkerError) as caught:
            weave(renderer, path)
        told = [f"{each.code} {each.place.line}" for each in caught.value.problems if each.place]
        assert told == case["errors"]
        return
    found = weave(renderer, path)
    assert found.new.decode() == case["gives"].replace("⏎", "\r\n")
    path.write_bytes(found.new)
    assert not weave(renderer, path).changes


@pytest.mark.parametrize(
    "content",
    [
        b"\xef\xbb\xbf<p>\xc3\xa9 " + MARKED.format("").encode(),
        "<p>é ".encode("utf-16") + MARKED.format("").encode("utf-16-le"),
        b'<meta charset="windows-1252"><p>\x93quoted\x94 \x81' + MARKED.format("").encode(),
        b'<meta charset="iso-8859-15"><p>\xa4' + MARKED.format("").encode(),
        b"<p>\xff\xfe neither " + MARKED.format("").encode(),
        b'<meta charset="no-such-charset">' + MARKED.format("").encode(),
        b"lines\rof\r\nall\nsorts\x00\x1a" + MARKED.format("old").encode() + b"\r",
    ],
    ids=["bom", "utf-16", "1252", "8859-15", "bytes", "unknown", "line-ends"],
)
def test_every_other_byte_stays(renderer: Renderer, tmp_path: Path, content: bytes) -> None:
    """Whatever the encoding, only what stands between the markers changes."""
    path = tmp_path / "page.html"
    path.write_bytes(content)
    found = weave(renderer, path)
    assert found.changes
    encoding = "utf-16-le" if content.startswith(b"\xff\xfe") else "latin-1"
    old, new = MARKED.format("old").encode(encoding), MARKED.format("").encode(encoding)
    assert found.new.replace(MARKED.format("4").encode(encoding), b"|") == content.replace(old, b"|").replace(
        new, b"|"
    )


def test_letters_that_an_encoding_lacks(renderer: Renderer, tmp_path: Path) -> None:
    """They are written as references, which every encoding has."""
    path = tmp_path / "page.html"
    path.write_bytes(
        b'<meta charset="ascii"><!-- elenchus begin "where title contains \\"tang\\"" layout=titles --><!-- elenchus end -->'
    )
    assert b"&#201;tang edge plants" in weave(renderer, path).new


@settings(max_examples=often(300), deadline=None)
@given(st.binary(max_size=60), st.sampled_from([".html", ".md"]))
def test_any_file_is_read_and_kept(content: bytes, suffix: str) -> None:
    """Any bytes decode to a text that gives them back, and are searched for markers without an error."""
    encoding = encoding_of(content)
    text = content.decode(encoding)
    assert text.encode(encoding) == content
    assert markers_in(text, "x", markdown=suffix == ".md") == ([], [])


PIECES = [
    "<!--",
    "-->",
    " elenchus ",
    "begin ",
    "end ",
    "x",
    '"',
    "'",
    "=",
    "count ",
    "\n",
    "```",
    "`",
    "<script>",
    "</script>",
    "--!>",
]


@settings(max_examples=often(500), deadline=None)
@given(st.lists(st.sampled_from(PIECES), max_size=25), st.booleans())
def test_broken_markers_are_told(pieces: list[str], markdown: bool) -> None:
    """Whatever markers are made of, they are pairs in their order, or problems with a line of the file."""
    text = "".join(pieces)
    found, problems = markers_in(text, "x", markdown=markdown)
    spans = [place for each in found for place in (each.inner.start, each.inner.end)]
    assert spans == sorted(spans)
    assert all(each.place and 1 <= each.place.line <= text.count("\n") + 1 for each in problems)


@pytest.mark.usefixtures("site_folder")
def test_program(run: Run, tmp_path: Path) -> None:
    """Folders are searched, --check writes nothing, one problem anywhere writes nothing, permissions stay."""
    web = tmp_path / "web"
    (web / "sub").mkdir(parents=True)
    good, other, text = web / "good.html", web / "sub" / "other.md", MARKED.format("?")
    for path in (good, other, web / ".hidden.html", web / "notes.txt"):
        path.write_text(text, encoding="utf-8")
    good.chmod(0o640)
    (web / "link.html").symlink_to(tmp_path / "outside.html")
    (tmp_path / "outside.html").write_text(text, encoding="utf-8")

    checked = run("weave", "web", "--check", "--site", "site")
    assert (checked.returncode, checked.stderr) == (1, "")
    assert checked.stdout.endswith("2 markers in 2 files: 2 files would change.\n")
    assert good.read_text(encoding="utf-8") == text

    broken = web / "zz.html"
    broken.write_text(text + "<!-- elenchus end -->", encoding="utf-8")
    refused = run("weave", "web", "--site", "site")
    assert refused.returncode == 8
    assert "zz.html:1: A marker ends, and none has begun" in refused.stderr
    assert good.read_text(encoding="utf-8") == text
    broken.unlink()

    done = run("weave", "web", "--site", "site")
    assert (done.returncode, done.stdout.splitlines()[-1]) == (
        0,
        "2 markers in 2 files: 2 files filled again.",
    )
    assert [path.read_text(encoding="utf-8") for path in (good, other)] == [MARKED.format("4")] * 2
    assert (tmp_path / "outside.html").read_text(encoding="utf-8") == text
    assert stat.S_IMODE(good.stat().st_mode) == 0o640
    assert run("weave", "web", "--check", "--site", "site").returncode == 0
    assert run("weave", "nowhere.html", "--site", "site").returncode == 6


def test_nothing_escapes_into_markup(site_folder: Path, tmp_path: Path) -> None:
    """Titles and terms that hold markup, markers or Markdown stay text, in HTML and in Markdown."""
    evil = "<script>alert(1)</script> --> <!-- elenchus end --> [x](javascript:y) `\"'&"
    entry = site_folder / "notebook" / "guide" / "evil.md"
    entry.write_text(
        f"---\ntitle: {evil!r}\ndate: 2026-05-30\nspecies: ['<b>bold</b>']\n---\nBody\n", encoding="utf-8"
    )
    site = Renderer(elenchus.open_site(site_folder))
    for name, layout in [
        ("a.html", "list"),
        ("a.html", "table"),
        ("a.html", "titles"),
        ("a.html", "cards"),
        ("a.md", ""),
    ]:
        path = tmp_path / name
        setting = f" layout={layout}" if layout else ""
        path.write_text(
            f'<!-- elenchus begin "from guide order by newest limit 1"{setting} --><!-- elenchus end -->',
            encoding="utf-8",
        )
        found = weave(site, path)
        text = found.new.decode()
        assert "<script" not in text
        assert len(re.findall("<!-- elenchus end -->", text)) == 1
        path.write_bytes(found.new)
        assert not weave(site, path).changes
        if layout == "":
            from markdown_it import MarkdownIt

            assert "<script" not in MarkdownIt().render(text)
            assert "javascript:" not in re.sub(r">[^<]*<", "><", MarkdownIt().render(text))


@pytest.mark.usefixtures("site_folder")
def test_a_kill_leaves_whole_files(tmp_path: Path) -> None:
    """A run that is killed at any moment leaves each file old or new, and the next run makes all new."""
    web = tmp_path / "web"
    web.mkdir()
    padding = "x" * 300_000
    old = f"{padding}{MARKED.format('?')}{padding}"
    new = old.replace("?", "4")
    files = [web / f"{number:03}.html" for number in range(200)]
    states = []

    def look() -> None:
        states.append({path.read_text(encoding="utf-8") for path in files})
        for path in files:
            path.write_text(old, encoding="utf-8")

    for path in files:
        path.write_text(old, encoding="utf-8")
    kill_at_moments([str(PROGRAM), "weave", "web", "--site", "site"], tmp_path, look)
    assert states[0] == {new}
    assert all(state <= {old, new} for state in states)
    assert any(state == {old} for state in states), "no run was killed in time"
