"""Sentences of the language, each with a case that fails where it is read in another way, on both executors."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

import elenchus
from conftest import Run, Write, cases
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
LISTINGS = """
[of-level]
ask = "from piece where level = :level? order by id"
[of-level.parameters]
level = { type = "choice", choices = ["low", "high"] }
[with-default]
ask = "from piece where level = :level? order by id"
[with-default.parameters]
level = { type = "choice", choices = ["low", "high"], default = "low" }
[quiet]
ask = "from piece where level = :level order by id"
[quiet.parameters]
level = { type = "choice", choices = ["low", "high"], absent = "nothing" }
[chosen]
ask = "from piece where level = :level order by id"
[chosen.parameters]
level = { type = "choice", choices = ["low", "high"], absent = "choices" }
[at-station]
ask = "from piece where station = :station order by id"
[at-station.parameters]
station = { type = "station", absent = "choices" }
[strict]
ask = "from piece where writer = :writer order by id"
[form]
ask = "from piece where :size? and not level = :level? order by :order"
[form.parameters]
size = { conditions = { any = "", one = "size = 1", more = "size > 1 or writer = Odd" } }
order = { orders = { up = "id", down = "id desc" }, default = "down" }
"""
CASES = cases("laws.toml")


@pytest.fixture(scope="module", params=["memory", "tables"])
def site(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> elenchus.Site:
    folder: Path = tmp_path_factory.mktemp("laws")
    (folder / "elenchus.toml").write_text(SITE)
    (folder / "listings.toml").write_text(LISTINGS)
    for name, front in ENTRIES.items():
        path = folder / "all" / f"{name}.md"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(f"---\n{front}\n---\n")
    found = elenchus.open_site(folder, index=False)
    if request.param == "memory":
        return found
    place = f"duckdb:///{folder}/laws.duckdb"
    export(found.dataset, place, complete=True)
    return found.on(place)


@pytest.mark.parametrize("case", CASES, ids=lambda case: f"{case['law']}: {case.get('given', '')}")
def test_laws(site: elenchus.Site, case: dict[str, Any]) -> None:
    """What a sentence says is what is answered, in memory and of tables."""
    if "error" in case:
        with pytest.raises(elenchus.QuestionError, match=case["error"]):
            elenchus.ask(site, case["question"], given=case.get("given"))
        return
    answer = elenchus.ask(site, case["question"], given=case.get("given"))
    if "choices" in case:
        assert answer.choices
        assert {each.value: each.count for each in answer.choices.choices} == case["choices"]
    if "ids" in case:
        assert [row.id.rpartition("/")[2] for row in answer.rows] == case["ids"].split()
    assert case.get("notice", "") in " ".join(each.message for each in answer.notices)
    if "labels" in case:
        assert [group.label for group in answer.groups or ()] == case["labels"].split()
    elif "groups" in case:
        told = [(str(group.keys[0] or "–").rpartition("/")[2], group.count) for group in answer.groups or ()]
        assert ", ".join(f"{name} {count}" for name, count in told) == case["groups"]


PRIVATE = {
    "elenchus.toml": '[site]\ntitle = "Bay"\naddress = "https://bay.example/"\nclock = 2026-06-01\ntimezone = "UTC"\n[sources.n]\nread = "markdown"\npath = "n"\nkind = "note"\n[kinds.note]\naddress = "n/{slug}/"\n[taxonomies.topic]\n',
    "listings.toml": '[all]\nask = "from note including unpublished order by id"\n[public]\nask = "from note order by id"\n[by-topic]\nask = "from note where topic = :topic"\n[by-topic.parameters]\ntopic = { type = "topic", absent = "choices" }\n',
    "pages.toml": '[home]\naddress = "index.html"\nsections = [{ listing = "public", beside = ["json", "atom"] }, "by-topic"]\n[desk]\naddress = "desk/"\nprivate = true\nsections = ["all"]\n[notes]\neach = "from note"\naddress = "n/{slug}/"\n[topics]\neach = "from topic"\naddress = "t/{slug}/"\nsections = [{ ask = "from note where topic = :here" }]\n',
    "n/open.md": "---\ntitle: Open\ntopic: sea\n---\n",
    "n/hidden.md": "---\ntitle: Hidden\nstatus: draft\ntopic: [sea, fog]\n---\n",
    "n/later.md": "---\ntitle: Later\ndate: 2026-07-01\ntopic: ice\n---\n",
}  # fmt: skip


def test_private_pages(make_site: Write, tmp_path: Path, run: Run) -> None:
    """A page with unpublished rows is refused unless it is private; that is published nowhere, nor counted."""
    make_site(PRIVATE)
    assert run("publish").returncode == 0
    files = {path.relative_to(tmp_path / "published").as_posix(): path for path in (tmp_path / "published").rglob("*") if path.is_file() and ".elenchus" not in path.parts}  # fmt: skip
    assert not any(name.startswith(("desk", "n/hidden", "n/later", "t/fog", "t/ice")) for name in files)
    texts = "".join(path.read_text() for path in files.values() if path.suffix not in (".css", ".js"))
    for word in ("Hidden", "hidden", "Later", "later", "fog", "ice/", "desk"):
        assert word not in texts, word
    assert "sea" in texts
    for open_page in (PRIVATE["pages.toml"].replace("private = true\n", ""), '[home]\naddress = "index.html"\nsections = [{ ask = "from note including unpublished" }]\n'):  # fmt: skip
        (tmp_path / "pages.toml").write_text(open_page)
        refused = run("publish", "--to", "other")
        assert (refused.returncode, "private = true" in refused.stderr) == (1, True), refused.stderr
        assert not (tmp_path / "other").exists()
    told = run("ask", "all", "--format", "csv")
    assert (told.stdout.count("note/"), "no visitor sees" in told.stderr) == (3, True)


def test_here_without_a_page(make_site: Write, run: Run) -> None:
    """A question for the row of a page is an error where no page is, and names page and section on one without."""
    make_site({**PRIVATE, "pages.toml": '[home]\naddress = "index.html"\nsections = [{ ask = "from note where topic = :here" }]\n'})  # fmt: skip
    alone = run("ask", "from note where topic = :here")
    assert (alone.returncode, ":here" in alone.stderr) == (3, True)
    found = run("check").stdout + run("check").stderr
    assert ":here" in found
    assert "pages.toml:3" in found
