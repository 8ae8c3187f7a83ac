"""Sentences of the language, each with a case that fails where it is read in another way, on both executors."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

import elenchus
from conftest import cases
from elenchus.tables.export import export

SITE = """[site]
title = "Laws"
timezone = "UTC"
clock = 2026-06-01T12:00:00
[sources.all]
read = "markdown"
path = "all"
[fields]
level = { type = "choice", choices = ["low", "high"] }
[kinds.station]
[kinds.note]
[kinds.piece.fields]
size = { type = "integer" }
station = { type = "entry", kind = "station" }
writer = { type = "text" }
"""
ENTRIES = {
    "station/ash-point": "title: Ash Point", "station/ash-point-2": "title: Ash Point", "station/dune-gate": "title: Dune Gate",
    "piece/a1": "title: Ants\nlevel: low\nwriter: Mara\nstation: ash-point\nsize: 1", "piece/a2": "title: Bees\nlevel: high\nwriter: Mara\nstation: ash-point\nsize: 2",
    "piece/a3": "title: Łódź\nwriter: mara\nlevel: high\nstation: ash-point-2", "piece/b1": "title: ４ winds\nwriter: Odd\nlevel: high\nstation: dune-gate",
    "piece/c1": "title: Østers\ndate: 2026-01-01\nlevel: high", "piece/c2": "title: Żaba\nlevel: high",
    "piece/p1": "title: Ended\nstatus: published\nexpires: 2026-01-01\nlevel: low\nwriter: x", "piece/d1": "title: Early\nstatus: draft\nlevel: low",
    "piece/s1": "title: Later\ndate: 2027-01-01\nlevel: low", "piece/s2": "title: Later still\ndate: 2027-01-01\nstatus: published", "piece/s3": "title: Planned\ndate: 2027-01-01\nstatus: scheduled",
    "piece/u1": "title: Unknown\nstatus: simmering",
    "note/n1": f"title: n {'9' * 64}\nsize: 7", "note/n2": f"title: n 1{'0' * 99}\nsize: many", "note/n3": f"title: n 1{'0' * 65}",
}  # fmt: skip
CASES = cases("laws.toml")


@pytest.fixture(scope="module", params=["memory", "tables"])
def site(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> elenchus.Site:
    folder: Path = tmp_path_factory.mktemp("laws")
    (folder / "elenchus.toml").write_text(SITE)
    for name, front in ENTRIES.items():
        path = folder / "all" / f"{name}.md"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(f"---\n{front}\n---\n")
    found = elenchus.open_site(folder, index=False)
    if request.param == "memory":
        return found
    place = f"duckdb:///{folder}/laws.duckdb"
    export(found.dataset, place)
    return found.on(place)


@pytest.mark.parametrize("case", CASES, ids=lambda case: case["law"])
def test_laws(site: elenchus.Site, case: dict[str, Any]) -> None:
    """What a sentence says is what is answered, in memory and of tables."""
    answer = elenchus.ask(site, case["question"])
    if "ids" in case:
        assert [row.id.rpartition("/")[2] for row in answer.rows] == case["ids"].split()
    assert case.get("notice", "") in " ".join(each.message for each in answer.notices)
    if "labels" in case:
        assert [group.label for group in answer.groups or ()] == case["labels"].split()
    elif "groups" in case:
        told = [(str(group.keys[0] or "–").rpartition("/")[2], group.count) for group in answer.groups or ()]
        assert ", ".join(f"{name} {count}" for name, count in told) == case["groups"]
