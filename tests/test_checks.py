"""What check finds: nothing but notes in the demo, and in its broken copy each code where it belongs."""

from __future__ import annotations

import csv
import json
import re
import shutil
from collections import Counter
from pathlib import Path
from urllib.parse import unquote

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import elenchus
from conftest import HERE, Run, often
from elenchus.checks.records import records
from elenchus.checks.run import check_site
from elenchus.pieces.flowing import flowing
from elenchus.pieces.piece import Piece, width_of

MARK = re.compile(r"#! (file )?([a-z -]+)$")
# Codes that check cannot find: those of single answers and commands, and of site files that stop everything.
ELSEWHERE = ("answers", "commands")
WITHOUT_ADDRESS = {"no-address"}  # which the demo has: see test_no_address
STOPPING = {
    "unreadable-terms", "bad-clock", "unknown-zone", "unknown-source", "missing-folder", "no-source", "no-kind", "fixed-field", "bad-address",
    "outside-site", "secret-in-file",
}  # fmt: skip


@pytest.fixture(scope="module")
def broken(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Return a copy of the demo with the broken files over it."""
    folder = Path(shutil.copytree(elenchus.demo_folder(), tmp_path_factory.mktemp("broken") / "site"))
    shutil.copytree(HERE / "broken", folder, dirs_exist_ok=True)
    added = (folder / "site.toml").read_text(encoding="utf-8")
    site_file = folder / "elenchus.toml"
    wanted = site_file.read_text(encoding="utf-8").replace("[publish]\n", "[publish]\nredirects = true\n")
    site_file.write_text(wanted + added, encoding="utf-8")
    (folder / "notebook" / "log" / "linked.md").symlink_to("first-log.md")
    (folder / "listings").mkdir()
    (folder / "listings" / "torn.toml").write_text("[torn\n", encoding="utf-8")
    (folder / "listings" / "deep.toml").write_text(
        f'deep = {{ ask = "where {"(" * 50}pinned" }}\nlong = {{ ask = "{"x" * 20_001}" }}\n',
        encoding="utf-8",
    )
    wide = {"title": "Wide", "date": "2026-01-01"} | {f"k{number}": "x" for number in range(1001)}
    (folder / "lists" / "wide.jsonl").write_text(json.dumps(wide) + "\n")
    with (folder / "terms" / "habitat.csv").open("a", encoding="utf-8") as file:
        file.write("sea-cave,Sea cave again,shore,,\nlost,Lost,nowhere,,\n")
    return folder


def marked(folder: Path) -> Counter[tuple[str, int, str]]:
    """Return the codes that the broken files mark, each with its file and line; 0 for a file as a whole."""
    found: Counter[tuple[str, int, str]] = Counter()
    names = [path.relative_to(HERE / "broken") for path in (HERE / "broken").rglob("*.*")]
    for name in ["elenchus.toml", *map(Path.as_posix, names)]:
        for number, line in enumerate(
            (folder / name).read_text(encoding="utf-8", errors="replace").splitlines(), start=1
        ):
            if (mark := MARK.search(line)) and name != "site.toml" and not line.startswith("# "):
                found.update((name, 0 if mark[1] else number, code) for code in mark[2].split())
    return found


# What check finds in files that cannot be marked, or in those of the demo as it is.
UNMARKED = {
    ("listings/torn.toml", 1, "bad-toml"),
    ("listings/deep.toml", 1, "too-deep"),
    ("listings/deep.toml", 2, "too-long"),
    ("listings/deep.toml", 1, "unplaced-listing"),
    ("listings/deep.toml", 2, "unplaced-listing"),
    ("lists/wide.jsonl", 0, "too-many-keys"),
    ("lists/more.jsonl", 4, "numbered-slug"),
    ("lists/more.jsonl", 0, "duplicate-title"),
    ("lists/*.tsv", 0, "no-file"),
    ("lists/ledger.db/items", 0, "unreadable-database"),
    ("127.0.0.1/bay/items", 0, "unreadable-database"),
    ("http://127.0.0.1:9/far.atom", 0, "unfetched"),
    ("notebook/log/linked.md", 0, "no-regular-file"),
    ("notebook/sighting/unfinished.md", 3, "unreadable-file"),
    ("terms/habitat.csv", 23, "duplicate-term"),
    ("terms/habitat.csv", 24, "bad-parent"),
}


def test_every_code(broken: Path) -> None:
    """In the broken copy each code that check can find stands exactly where it is marked."""
    report = check_site(elenchus.open_site(broken))
    places = [(each.problem.place, each.problem.code) for each in report.findings if not each.accepted]
    found = Counter((place.file, place.line, code) for place, code in places if place)
    wanted = marked(broken) + Counter(UNMARKED)
    of_demo = {name for name, _, _ in found} - {name for name, _, _ in wanted}
    assert of_demo <= {path.relative_to(broken).as_posix() for path in broken.rglob("notebook/*/*.md")}
    missing, extra = (
        wanted - found,
        Counter({key: n for key, n in (found - wanted).items() if key[0] not in of_demo}),
    )
    assert (sorted(missing.elements()), sorted(extra.elements())) == ([], [])
    possible = (
        {code for code, each in records().items() if each.about not in ELSEWHERE} - STOPPING - WITHOUT_ADDRESS
    )
    assert possible - {code for _, _, code in found} == set()


def test_no_address(tmp_path: Path) -> None:
    """A site without an address can have data beside its pages, but no feeds."""
    folder = Path(shutil.copytree(elenchus.demo_folder(), tmp_path / "site"))
    site = folder / "elenchus.toml"
    site.write_text(re.sub("address  = .*", "", site.read_text(encoding="utf-8"), count=1), encoding="utf-8")
    found = [
        each.problem for each in check_site(elenchus.open_site(folder)).findings if each.level == "error"
    ]
    assert {each.code for each in found} == {"no-address"}
    assert "has no atom, rss or jsonfeed" in found[0].message + found[-1].message


def test_demo_is_clean() -> None:
    """The demo has notes only, and accepts one finding with its reason."""
    report = check_site(elenchus.open_site(elenchus.demo_folder()))
    assert {each.level for each in report.findings if not each.accepted} == {"note"}
    assert [each.problem.code for each in report.findings if each.accepted] == ["unfit-value"]
    assert not report.fails(strict=True)


def test_values_once(demo_copy: Path) -> None:
    """Where pages give many values that are wrong in one way, because the type is another, that is told once."""
    listings = demo_copy / "listings.toml"
    listings.write_text(listings.read_text(encoding="utf-8").replace('type = "habitat"', 'type = "station"'))
    found = [
        each.problem.message
        for each in check_site(elenchus.open_site(demo_copy)).findings
        if each.level == "error" and each.problem.code == "unknown-entry"
    ]
    assert len(found) == 1
    assert re.search(
        "no station is called “.+”, given for :habitat, and 19 other values are wrong like it$", found[0]
    )


def test_program(run: Run, broken: Path) -> None:
    """The program exits with 1 at errors, and at warnings if it is strict; JSON holds what the text says."""
    done = run("check", "--site", str(broken), "--format", "json")
    report = json.loads(done.stdout)
    assert done.returncode == 9
    assert {each["level"] for each in report["findings"]} == {"error", "warning", "note"}
    assert report["counts"]["error"] == sum(
        each["level"] == "error" and not each["accepted"] for each in report["findings"]
    )
    text = run("check", "--site", str(broken))
    assert text.returncode == 9
    assert "Traceback" not in text.stderr
    assert all(f"[{each['code']}]" in text.stdout for each in report["findings"])


def test_strict(run: Run, tmp_path: Path) -> None:
    """A warning fails only a strict check; an acceptance with its reason lets it pass."""
    site = Path(shutil.copytree(elenchus.demo_folder(), tmp_path / "site"))
    with (site / "listings.toml").open("a") as file:
        file.write('[bare]\nask = "from guide order by date"\n')
    assert run("check", "--site", str(site)).returncode == 0
    done = run("check", "--site", str(site), "--strict")
    assert done.returncode == 1
    assert "“order by date” has the oldest first.  [bare-date-order]\n      Write newest" in done.stdout
    with (site / "elenchus.toml").open("a") as file:
        file.write('[[accepted]]\ncode = "bare-date-order"\nwhy = "the oldest first, for once"\n')
    assert run("check", "--site", str(site), "--strict").returncode == 0


def test_pages_that_cannot_be_read(run: Run, tmp_path: Path) -> None:
    """Where pages.toml is broken that is reported, and not that all listings stand on no page."""
    site = Path(shutil.copytree(elenchus.demo_folder(), tmp_path / "site"))
    with (site / "pages.toml").open("a") as file:
        file.write("[torn\n")
    report = json.loads(run("check", "--site", str(site), "--format", "json").stdout)
    assert [each["code"] for each in report["findings"] if each["level"] == "error"] == ["bad-toml"]
    assert "unplaced-listing" not in {each["code"] for each in report["findings"]}


@pytest.mark.parametrize(
    ("accepted", "level"),
    [
        ('code = "bare-date-order"\nwhy = "so"', "note"),
        ('code = "bare-date-order"\nfile = "listings.toml"\nwhy = "so"', "note"),
        ('code = "bare-date-order"\nsays = "oldest first"\nwhy = "so"', "note"),
        ('code = "bare-date-order"\nfile = "pages.toml"\nwhy = "so"', "warning"),
        ('code = "bare-date-order"\nsays = "newest first"\nwhy = "so"', "warning"),
        ('code = "never-met"\nwhy = "so"', "warning"),
        ('code = "bare-date-order"', "SiteError"),
        ('codes = "bare-date-order"\nwhy = "so"', "SiteError"),
    ],
)
def test_accepted(tmp_path: Path, accepted: str, level: str) -> None:
    """An acceptance covers a code, in a file, with words of the message, and must say why."""
    site = Path(shutil.copytree(elenchus.demo_folder(), tmp_path / "site"))
    with (site / "listings.toml").open("a") as file:
        file.write('[bare]\nask = "from guide order by date"\n')
    with (site / "elenchus.toml").open("a") as file:
        file.write(f"[[accepted]]\n{accepted}\n")
    if level == "SiteError":
        with pytest.raises(elenchus.SiteError, match=r"accepted|unknown key"):
            elenchus.open_site(site)
        return
    report = check_site(elenchus.open_site(site))
    assert {each.level for each in report.findings if not each.accepted} == {"note", level}
    assert ("idle-acceptance" in {each.problem.code for each in report.findings}) is (level == "warning")


@settings(max_examples=often(200), deadline=None)
@given(st.lists(st.text("ab é漢", max_size=12), max_size=6), st.integers(8, 40), st.integers(0, 6))
def test_flowing(texts: list[str], width: int, indent: int) -> None:
    """Running text loses no letter, and no line with more than one word is wider than it may be."""
    whole = "".join(piece.text for piece in flowing([Piece(text) for text in texts], width, indent))
    assert "".join(whole.split()) == "".join("".join(texts).split())
    for number, line in enumerate(whole.split("\n")):
        assert width_of(line.rstrip()) <= width or len(line.split()) == 1 or not number
        assert not number or not line or line.startswith(" " * indent)


def test_sarif(run: Run, broken: Path) -> None:
    """The same findings stand in SARIF, each with its rule, level, file and line; accepted ones are suppressed."""
    report, log = (
        json.loads(run("check", "--format", form, "--site", str(broken)).stdout) for form in ("json", "sarif")
    )
    [found] = log["runs"]
    rules = [rule["id"] for rule in found["tool"]["driver"]["rules"]]
    assert (log["version"], len(rules)) == ("2.1.0", len(set(rules)))
    assert len(found["results"]) == len(report["findings"]) > 100
    for result, finding in zip(found["results"], report["findings"], strict=True):
        assert (result["ruleId"], result["level"]) == (finding["code"], finding["level"])
        assert rules[result["ruleIndex"]] == finding["code"]
        assert bool(result.get("suppressions")) == bool(finding["accepted"])
        [where] = [each["physicalLocation"] for each in result["locations"]]
        assert unquote(where["artifactLocation"]["uri"]) == (finding["file"] or "elenchus.toml")
        assert where["region"]["startLine"] == (finding.get("line") or 1)
    above = run("check", "--format", "sarif", "--site", "site", cwd=broken.parent).stdout
    assert '"uri": "site/listings.toml"' in above
    assert "Did you mean sarif?" in run("check", "--format", "sarf").stderr
    listed = run("check", "--codes").stdout
    assert all(f"  {code}  " in listed for code in records())


def test_about(run: Run) -> None:
    """--about tells of a code what it means, why it hurts and how to fix it; an unknown one has suggestions."""
    done = run("check", "--about", "only-the-term")
    assert [line.split()[0] for line in done.stdout.splitlines() if line[:1].strip()] == [
        "only-the-term", "means", "hurts", "fix",
    ]  # fmt: skip
    wrong = run("check", "--about", "only-the-trem")
    assert (wrong.returncode, "Did you mean only-the-term?" in wrong.stderr) == (7, True)


def test_every_code_has_a_record() -> None:
    """Each code that stands in the source has a record, and each record's code stands in the source."""
    source = Path(elenchus.__file__).parent
    text = "\n".join(path.read_text(encoding="utf-8") for path in source.rglob("*.py"))
    calls = r'(?:Problem|report|fail|Refused|NoField|no_step)\(\s*(?:\(?\*?path[^"]*,\s*)?"([a-z]+(?:-[a-z]+)+|expected|misfit|unpublished)"'
    assert set(re.findall(calls, text)) - set(records()) == set()
    unused = {code for code in records() if f'"{code}"' not in text and not code.startswith("duplicate-")}
    assert unused == set()


def test_fix(run: Run, broken: Path, tmp_path: Path) -> None:
    """What is certain is put right after its difference was shown; nothing else is found then, and undo undoes it."""
    site = Path(shutil.copytree(broken, tmp_path / "fixed", symlinks=True))

    def found() -> Counter[tuple[str, str]]:
        done = run("check", "--format", "json", cwd=site)
        return Counter((each["file"] or "", each["code"]) for each in json.loads(done.stdout)["findings"])

    def whole() -> dict[str, bytes]:
        return {
            str(path): path.read_bytes()
            for path in site.rglob("*.*")
            if path.is_file() and ".elenchus" not in str(path)
        }

    before, files = found(), whole()
    looked = run("check", "--fix", "--dry-run", cwd=site)
    assert looked.returncode == 9
    assert '52 + term     = { ask = "where habitat = rocky-shore" }' in looked.stderr
    assert "by hand: pages.toml:36:" in looked.stderr
    assert whole() == files
    assert "add --yes" in run("check", "--fix", cwd=site).stderr
    run("check", "--fix", "--yes", cwd=site)
    after = found()
    assert sum((before - after).values()) >= 10
    assert {code for _, code in before} - {code for _, code in after} >= {"unknown-taxonomy"}
    again = run("check", "--fix", "--yes", cwd=site)
    assert "Nothing can be put right with certainty." in again.stderr
    assert run("undo", "--yes", cwd=site).returncode == 0
    assert whole() == files


def test_fix_of_a_site_that_does_not_open(run: Run, demo_copy: Path) -> None:
    """A misspelt key of the site file is put right although the site cannot be opened with it."""
    site_file = demo_copy / "elenchus.toml"
    before = site_file.read_text(encoding="utf-8")
    site_file.write_text(before.replace("\ntitle", "\ntitel", 1), encoding="utf-8")
    assert run("check", cwd=demo_copy).returncode == 4
    done = run("check", "--fix", "--yes", cwd=demo_copy)
    assert (done.returncode, site_file.read_text(encoding="utf-8")) == (0, before)


def test_misspelt_keys(run: Run, tmp_path: Path) -> None:
    """A key with a slip is found and put right, in a document and in a table; a key of its own is left alone."""
    keys = '[kinds.post.fields]\nsize = { type = "integer" }\n[taxonomies.category]\n'
    sources = '[sources.posts]\nread = "markdown"\npath = "posts"\nkind = "post"\n[sources.rows]\nread = "jsonl"\npath = "rows.jsonl"\nkind = "post"\n'
    (tmp_path / "elenchus.toml").write_text(f"[site]\n{sources}{keys}")
    (tmp_path / "posts").mkdir()
    for at in range(12):
        text = f"---\ntitle: P {at}\ncategory: a\nsize: {at}\nsizes: 1\n---\n"
        (tmp_path / "posts" / f"p{at}.md").write_text(text)
    slip = tmp_path / "posts" / "slip.md"
    slip.write_text("---\ntitle: Slip\ncategry: a  # as it was\nsize: 3\nmood: calm\n---\n")
    (tmp_path / "rows.jsonl").write_text('{"title": "Row", "category": "a", "szie": 4}\n')
    found = json.loads(run("check", "--format", "json").stdout)["findings"]
    told = [(each["near"], each["cure"]["wrong"]) for each in found if each["code"] == "misspelt-key"]
    assert sorted(told) == [(["category"], "categry"), (["size"], "szie")]
    before = slip.read_bytes()
    assert run("check", "--fix", "--yes").returncode == 0
    assert "category: a\n" in slip.read_text()
    assert "categry" not in slip.read_text()
    assert json.loads((tmp_path / "rows.jsonl").read_text()) == {"title": "Row", "category": "a", "size": 4}
    assert run("undo", "--yes").returncode == 0
    assert slip.read_bytes() == before


def test_slugs_that_are_taken(run: Run, tmp_path: Path) -> None:
    """Copies that kept the slug or the id of their pattern get names of their own; no address changes."""
    taxonomies = '[kinds.post.fields]\nsize = { type = "integer" }\n'
    sources = '[sources.posts]\nread = "markdown"\npath = "posts"\nkind = "post"\n[sources.rows]\nread = "csv"\npath = "rows.csv"\nkind = "post"\n'
    (tmp_path / "elenchus.toml").write_text(f"[site]\n{sources}{taxonomies}")
    for folder in ("posts", "posts/more"):
        (tmp_path / folder).mkdir()
        for at in range(4):
            (tmp_path / folder / f"p{at}.md").write_text(f"---\ntitle: P {at}\nslug: My-Post\n---\n{at}\n")
    (tmp_path / "posts/p9.md").write_text("---\ntitle: P 9\nslug: p2\nid: one\n---\n")
    (tmp_path / "posts/p8.md").write_text("---\ntitle: P 8\nid: one\n---\n")
    (tmp_path / "rows.csv").write_text("slug,title,size\np1,Row 1,1\np1,Row 2,2\n")
    before = {path: path.read_bytes() for path in tmp_path.rglob("*.*") if path.is_file()}
    told = run("check")
    assert told.stdout.count("\n      elenchus check --fix\n") == 3
    found = json.loads(run("check", "--format", "json").stdout)["findings"]
    assert [each["cure"] for each in found if each["code"].startswith("duplicate-") and each["cure"]]
    assert json.loads(run("ask", "from post", "--format", "json").stdout)["total"] == 3
    (tmp_path / "posts/p0.md").touch()
    for _ in range(2):  # an id that is freed can free a slug
        assert run("check", "--fix", "--yes").returncode in (0, 1)
    rows = list(csv.DictReader(run("ask", "from post order by slug", "--format", "csv").stdout.splitlines()))
    assert len(rows) == 12
    assert len({row["slug"] for row in rows}) == 12
    assert (tmp_path / "posts/more/p0.md").read_bytes() == before[tmp_path / "posts/more/p0.md"]
    assert "slug: p1-2" not in (tmp_path / "posts/p1.md").read_text()
    assert not [
        each
        for each in json.loads(run("check", "--format", "json").stdout)["findings"]
        if each["code"].startswith("duplicate-slug")
    ]
    while run("undo", "--yes").returncode == 0 and any(
        path.read_bytes() != text for path, text in before.items()
    ):
        pass
    assert {path: path.read_bytes() for path in before} == before
