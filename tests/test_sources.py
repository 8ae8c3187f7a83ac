"""Content of all formats: the same answers from each, changes noticed, secrets kept."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

import pytest

import elenchus
import formats
import servers
from conftest import Run, cases


@pytest.fixture(scope="session", params=[*formats.FORMATS, "postgresql", "mariadb"])
def written(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """Return the reference site with its content in one of the formats."""
    folder = tmp_path_factory.mktemp("written")
    if request.param not in ("postgresql", "mariadb"):
        yield formats.write(folder / "site", request.param)
        return
    home = tmp_path_factory.mktemp("server", numbered=True)
    os.environ["BAY_PASSWORD"] = servers.PASSWORD
    for path in (home, *home.parents):
        if path.stat().st_uid == os.geteuid() and path != Path("/tmp"):  # noqa: S108 - what leads to the server's folder
            path.chmod(path.stat().st_mode | 0o011)
    with getattr(servers, request.param)(home) as (url, connect):
        with connect() as owner, owner.cursor() as cursor:
            for sql, values in formats.statements(formats.rows(), "%s"):
                cursor.execute(sql, values or None)
        where = f'url = "{url}"\npassword_from = "BAY_PASSWORD"'
        shape = "[sources.notebook]" + formats.SHAPE.format(where=where)
        formats.FORMATS["server"] = lambda _folder, _rows: shape
        try:
            site = formats.write(folder / "site", "server")
        finally:
            del formats.FORMATS["server"]
        yield site


def test_same_answers(written: Path) -> None:
    """Whatever the format, each question has the same answer."""
    wrong = []
    sites: dict[str | None, elenchus.Site] = {}
    for case in cases("questions.toml"):
        site = sites.setdefault(case.get("at"), elenchus.open_site(written, at=case.get("at")))
        answer = elenchus.ask(site, case["question"], page=case.get("page", 1), given=case.get("with"))
        told = {
            "ids": " ".join(row.id for row in answer.rows),
            "groups": ", ".join(f"{group.label} {group.count}" for group in answer.groups or ()),
            **{name: getattr(answer, name) for name in ("matched", "total", "pages", "placements")},
        }
        wrong += [
            (case["question"], name, value) for name, value in told.items() if case.get(name, value) != value
        ]
        said = case.get("notice", "").partition(" in notebook")[0]
        if not any(said in notice.message for notice in answer.notices) and said:
            wrong.append((case["question"], "notice", said))
    assert wrong == []


def test_no_secret(written: Path, run: Run) -> None:
    """Neither an output nor a file of the index tells a password, also where it is refused."""
    if "password_from" not in (written / "elenchus.toml").read_text():
        pytest.skip("nothing here has a password")
    said = ""
    for password in (servers.PASSWORD, f"{servers.PASSWORD}, and wrong"):
        for command in (["ask", ""], ["check"], ["describe"], ["why", ""], ["describe", "--index"]):
            done = run(*command, "--site", str(written), BAY_PASSWORD=password)
            assert done.returncode in (0, 1), done.stderr
            said += done.stdout + done.stderr
    assert "the database cannot be read" in said
    assert "tide & ebb" not in said
    assert all(b"tide & ebb" not in path.read_bytes() for path in (written / ".elenchus").iterdir())
