"""Whatever content there is, two commands publish all of it that is fit, and the numbers add up."""

from __future__ import annotations

from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import elenchus
import foreign
from conftest import Run, often
from elenchus.checks.census import census
from elenchus.checks.run import check_site
from elenchus.starting.beginning import begin


@settings(max_examples=often(30), deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(st.integers(0, 10**6))
def test_start_writes_what_can_be_published(seed: int) -> None:
    """What start writes is never refused; each record is published or counted; nothing held back is public."""
    with TemporaryDirectory() as made:
        folder = Path(made)
        count = foreign.write(folder, seed)
        begin(str(folder))
        site = elenchus.open_site(folder, index=False)
        stops = [str(each.problem) for each in check_site(site).stops(strict=False)]
        assert stops == []
        assert census(site).found == count
        assert [row.id for row in elenchus.ask(site, "").rows if foreign.HELD in remarks(row)] == []
        again = begin(str(folder))
        assert (list(again.written), list(again.proposed)) == ([], [])


def remarks(row: Any) -> str:
    """Return what an entry says in its remarks, nothing where it has none."""
    try:
        return str(row["remarks"])
    except KeyError:
        return ""


@pytest.mark.parametrize("seed", range(3))
def test_two_commands(tmp_path: Path, run: Run, seed: int) -> None:
    """The commands themselves: exit 0, and no link is dead that was not dead before."""
    foreign.write(tmp_path, seed)
    for words in (["start", "."], ["publish"], ["start", "."]):
        done = run(*words, cwd=tmp_path)
        assert done.returncode == 0, (words, done.stdout, done.stderr)
    assert "nothing to propose" in done.stdout
    assert not any(foreign.HELD in path.read_text() for path in (tmp_path / "published").rglob("*.html"))
