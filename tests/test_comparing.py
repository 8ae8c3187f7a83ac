"""Two states of a site compared, and what time alone brings: against plain set differences, and every minute."""

from __future__ import annotations

import json
import os
import random
import re
import shutil
import subprocess
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

import elenchus
from conftest import SOAK, Run, Write
from elenchus.asking.query import Query
from elenchus.comparing.changes import listing_changes
from elenchus.comparing.showing import name_with
from elenchus.comparing.upcoming import upcoming

START = datetime(2026, 3, 27, 22, 0, tzinfo=UTC)  # clocks in Berlin are set forward two nights later
LISTINGS = [
    "from note order by newest limit 4",
    "from note where starts > now order by starts limit 3",
    "from note where date in last 2 days order by title",
    "from note where starts in this month or topic = rare order by oldest",
    "from note where starts <= now and not date in today order by size desc, title",
    "from note where station.status is set order by title limit 6",
    "from note where starts.hour < 12 and starts.day = today order by starts",
    "from note where listed in l0 order by random limit 2",
    "from note where count of note.station > 0",
    "from topic order by name",
    "from note where starts = now or expires = now",
    "from l1 where size > 2",
    "from note where topic = fog and starts > now",
]


def written(seed: int) -> dict[str, str]:
    """Return a random site whose content moves with time."""
    draw = random.Random(seed)  # noqa: S311 - nothing here is secret
    files = {
        "elenchus.toml": f'[site]\nclock = {START.isoformat()[:19]}Z\ntimezone = "Europe/Berlin"\n[sources.n]\nread = "markdown"\npath = "n"\nkind = "note"\n'
        '[kinds.note.fields]\nstarts = { type = "datetime" }\nsize = { type = "integer" }\nstation = { type = "entry" }\n[taxonomies.topic]\n',
        "listings.toml": "".join(f"[l{number}]\nask = '{text}'\n" for number, text in enumerate(LISTINGS)),
    }
    for number in range(24):

        def near(minutes: int = 4400) -> str:
            return (START + timedelta(minutes=draw.randrange(-minutes // 2, minutes))).isoformat(" ")[
                :16
            ] + "Z"

        lines = [
            f"title: Note {draw.randrange(99)} {number}",
            f"size: {draw.randrange(5)}",
            f"topic: [{draw.choice(['sea', 'ice', 'rare'])}]",
        ]
        lines += [f"date: {near()}"] * (draw.random() < 0.9) + [f"starts: {near()}"] * (draw.random() < 0.8)
        lines += [f"expires: {near()[:10] if draw.random() < 0.5 else near()}"] * (draw.random() < 0.4)
        lines += [f"station: n{draw.randrange(24)}"] * (draw.random() < 0.5)
        lines += ["status: " + draw.choice(["scheduled", "draft"])] * (draw.random() < 0.2)
        files[f"n/n{number}.md"] = "---\n" + "\n".join(lines) + "\n---\n"
    # A term that no other entry has: it can be named before this one is public.
    early, late = START + timedelta(hours=6), START + timedelta(hours=20)
    files["n/late.md"] = f"---\ntitle: Late\ntopic: fog\ndate: {early}\nstarts: {late}\n---\n"
    return files


def asked(site: elenchus.Site, name: str) -> list[str]:
    """Return the ids of a listing's rows; none where it cannot be asked."""
    try:
        return Query.of(site, name).ids()
    except elenchus.QuestionError:
        return []


def some_of(minutes: int, told: set[int]) -> list[int]:
    """Return minutes to look at: those told with their neighbours, and 300 more; all of them in a long run."""
    if SOAK:
        return list(range(1, minutes + 1))
    near = {minute + step for minute in told for step in (-1, 0, 1)}
    drawn = random.Random(5).sample(range(1, minutes + 1), 300)  # noqa: S311 - nothing here is secret
    return sorted({minute for minute in (*near, *drawn, minutes) if 1 <= minute <= minutes})


@pytest.mark.parametrize("seed", [1, 2])
def test_every_minute(make_site: Write, seed: int) -> None:
    """What is told of time ahead is what asking at every minute shows, no more and no less."""
    site = make_site(written(seed))
    days = 2
    names = [f"l{number}" for number in range(len(LISTINGS))]
    until = site.clock.now + days * 86_400_000_000
    told: dict[tuple[str, int], list[tuple[int, int]]] = {}
    for each in upcoming(site, until, names):
        minute = -(
            -(each.at - site.clock.now) // 60_000_000
        )  # the first full minute at which it is to be seen
        told.setdefault((each.change.listing, minute), []).append((each.change.before, each.change.after))
    known = {name: asked(site, name) for name in names}
    seen = set()
    for minute in some_of(days * 1440, {minute for _, minute in told}):
        then = site.at(site.clock.now + minute * 60_000_000)
        for name in names:
            rows = asked(then, name)
            if rows != known[name]:
                seen.add((name, minute))
                assert (name, minute) in told, f"{name} changes after {minute} minutes, and nobody told"
                assert told[name, minute][0][0] == len(known[name])
                assert told[name, minute][-1][1] == len(rows)
            known[name] = rows
    quiet = {key for key in told if key not in seen}
    assert all(len(told[key]) > 1 for key in quiet), (
        "what is told is to be seen, unless it passes within the minute"
    )
    assert len(seen) > 30


MONTH = "from note where starts > now or expires in today order by newest limit 5"


def test_a_month(make_site: Write) -> None:
    """The same for one listing over every minute of a month."""
    site = make_site({**written(9), "listings.toml": f"[l]\nask = '{MONTH}'\n"})
    minutes = 30 * 1440
    found = upcoming(site, site.clock.now + minutes * 60_000_000)
    told = {-(-(each.at - site.clock.now) // 60_000_000) for each in found}
    known, seen = asked(site, "l"), set()
    for minute in some_of(minutes, told):
        rows = asked(site.at(site.clock.now + minute * 60_000_000), "l")
        if rows != known:
            seen.add(minute)
        known = rows
    assert seen == told


CHOSEN = {
    "elenchus.toml": '[site]\nclock = 2026-06-01T09:00:00\ntimezone = "UTC"\n[sources.n]\nread = "markdown"\npath = "n"\nkind = "note"\n[kinds.note]\n[taxonomies.topic]\n[conditions]\nrecent = "date in last 3 days"\n',
    "listings.toml": """
[find]
ask = "from note where :when? and topic = :topic? order by :sort"
[find.parameters]
when = { conditions = { yesterday = "date in yesterday", recent = "recent", all = "" } }
topic = { type = "topic", choices = { sea = "sea", cold = ["ice"] } }
sort = { orders = { new = "date desc", old = "date" }, default = "new" }
[topics]
ask = "from topic order by own desc, name"
show = ["name", "own"]
[by-topic]
ask = "from note where recent group by topic per page 1"
[by-month]
ask = "from note group by date.month"
[titled]
ask = "from topic order by name"
""",
    "pages.toml": '[home]\naddress = "index.html"\nsections = [{ title = "Of late", ask = "where recent" }, "topics"]\n[days]\neach = "from topic"\naddress = "{slug}/"\nsections = [{ ask = "where topic = :here and recent" }]\n',
    **{f"n/n{at}.md": f"---\ntitle: N{at}\ndate: 2026-{'05-3' if at < 2 else '06-0'}{at}\ntopic: [{'sea' if at % 2 else 'ice'}]\n---\n" for at in (0, 1, 2, 3, 5)},
    "n/gone.md": "---\ntitle: Gone\ndate: 2026-05-01\nexpires: 2026-06-04\ntopic: [sea, ice]\n---\n",
}  # fmt: skip


def test_choices_and_counts(make_site: Write) -> None:
    """What each choice of a form will show, and the counts of groups and terms, are told as asking tells them."""
    site = make_site(CHOSEN)
    told = upcoming(site, site.clock.now + 8 * 86_400_000_000)
    given = [{}, *({"when": [each]} for each in ("yesterday", "recent", "all")), {"topic": ["sea"]}, {"topic": ["cold"]}]  # fmt: skip
    usual: set[tuple[int, str]] = set()
    for hour in range(1, 8 * 24):
        then = site.at(site.clock.now + hour * 3_600_000_000)
        before = site.at(then.clock.now - 3_600_000_000)
        here = [each for each in told if before.clock.now < each.at <= then.clock.now]
        ids = {}
        for values in given:
            ids[str(values)] = [set(Query.of(at, "find", values).ids()) for at in (before, then)]
            name = name_with(site.library.get("find"), values)
            old, new = ids[str(values)]
            found = [each.change for each in here if each.change.listing == name]
            changes = [({row for row, _ in each.enters}, {row for row, _ in each.leaves}) for each in found]
            if (new - old, old - new) != (
                ids["{}"][1] - ids["{}"][0],
                ids["{}"][0] - ids["{}"][1],
            ) or not values:
                assert changes == ([(new - old, old - new)] if new != old else []), (hour, values)
                usual |= {(hour, name)} if new != old else set()
        recent = [[row.id for row in elenchus.ask(at, "where recent").rows] for at in (before, then)]
        late = [each.change for each in here if each.change.listing == "Of late on /"]
        assert bool(late) == (recent[0] != recent[1])
        for name in ("topics", "by-topic", "by-month"):
            old_counts, new_counts = (counts_of(at, name) for at in (before, then))
            counts = {each.label: (each.before, each.after) for coming in here if coming.change.listing == name for each in coming.counts}  # fmt: skip
            both = {label: (old_counts.get(label, 0), new_counts.get(label, 0)) for label in {**old_counts, **new_counts}}  # fmt: skip
            assert counts == {label: pair for label, pair in both.items() if pair[0] != pair[1]}, (hour, name)
            usual |= {(hour, name)} if counts else set()
    assert len(usual) > 15
    assert not any(each.counts for each in told if each.change.listing in ("titled", "find"))


def counts_of(site: elenchus.Site, name: str) -> dict[str, int]:
    """Return the counts of groups or of terms that a listing shows on all its pages."""
    asked = Query.of(site, name)
    answers = [asked.answer(number) for number in range(1, asked.answer().pages + 1)]
    if answers[0].groups is None:
        return {f"{row['name']} own": row["own"] for answer in answers for row in answer.rows}
    return {group.label: group.count for answer in answers for group in answer.groups or ()}


def test_differences() -> None:
    """What is told of two answers is their set difference, with the places; moves are the fewest that do."""
    draw = random.Random(5)  # noqa: S311 - nothing here is secret
    for _ in range(300):
        old, new = (draw.sample("abcdefghij", draw.randrange(9)) for _ in range(2))
        change = next(listing_changes({" l": old}, {" l": new}), None)
        if old == new:
            assert change is None
            continue
        assert change is not None
        assert dict(change.enters) == {row: new.index(row) + 1 for row in new if row not in old}
        assert dict(change.leaves) == {row: old.index(row) + 1 for row in old if row not in new}
        moved = {row for row, *_ in change.moves}
        stay = [row for row in old if row in new and row not in moved]
        assert stay == [row for row in new if row in old and row not in moved]


FILES = {
    "elenchus.toml": '[site]\ntitle = "Bay"\nclock = 2026-06-01\ntimezone = "UTC"\n[sources.n]\nread = "markdown"\npath = "n"\nkind = "note"\n[kinds.note]\naddress = "notes/{slug}/"\n[taxonomies.topic]\n',
    "listings.toml": "[newest]\nask = 'from note order by newest limit 2'\n[sea]\nask = 'from note where topic = sea'\n",
    "pages.toml": '[home]\naddress = "index.html"\nsections = ["newest"]\n[notes]\neach = "from note"\naddress = "notes/{slug}/"\nsections = [{ ask = "where topic in :here.topic order by newest per page 2" }]\n',
    **{f"n/n{number}.md": f"---\ntitle: Note {number}\ndate: 2026-05-{number:02}\ntopic: [{'sea' if number % 2 else 'ice'}]\n---\n" for number in range(1, 8)},
    "n/soon.md": "---\ntitle: Soon; and, later\ndate: 2026-06-03 10:00\nstatus: scheduled\ntopic: [sea]\n---\n",
}  # fmt: skip


@pytest.mark.skipif(not (shutil.which("git") or "CI" in os.environ), reason="git is not installed")
def test_compare(make_site: Write, tmp_path: Path, run: Run) -> None:
    """Another folder, time, revision and the last publication tell the same of the same change."""
    make_site(FILES)
    git = ["git", "-c", "user.name=A", "-c", "user.email=a@bay.example"]
    (tmp_path / ".gitignore").write_text(".elenchus\npublished\nbefore\n")
    for command in (["init", "-q"], ["add", "-A"], ["commit", "-qm", "first"]):
        subprocess.run([*git, *command], cwd=tmp_path, check=True)
    shutil.copytree(tmp_path, tmp_path / "before", ignore=shutil.ignore_patterns(".git", ".elenchus"))
    assert run("publish").returncode == 0
    assert (
        run("compare", "--since", "published", "--strict").stdout
        == "No differences: listings have the same entries, and pages have the same content.\n"
    )
    (tmp_path / "n" / "n7.md").unlink()
    sides = {
        "from": ["--from", "before"],
        "since": ["--since", "published"],
        "revision": ["--revision", "HEAD"],
    }
    found = {
        name: json.loads(run("compare", *side, "--format", "json").stdout) for name, side in sides.items()
    }
    assert found["from"] == found["revision"]
    assert [each["address"] for each in found["since"]["vanished"]] == [each["address"] for each in found["from"]["vanished"]] == ["/notes/n7/", "/notes/n7/page/2/"]  # fmt: skip
    home = next(each for each in found["since"]["sections"] if each["place"] == "/")
    assert ([row["id"] for row in home["enters"]], [row["id"] for row in home["leaves"]]) == (
        ["note/n5"],
        ["note/n7"],
    )
    assert [(each["listing"], each["before"], each["after"]) for each in found["from"]["listings"]] == [
        ("newest", 2, 2),
        ("sea", 4, 3),
    ]
    differs = run("compare", "--revision", "HEAD", "--strict")
    assert differs.returncode == 1
    assert "    - Note 7 leaves, it was at 1\n" in differs.stdout
    status = subprocess.run([*git, "status", "--porcelain"], cwd=tmp_path, capture_output=True, check=True)
    assert status.stdout == b" D n/n7.md\n"
    assert "Soon; and, later enters at 1" in run("compare", "--at", "2026-06-04").stdout
    two = run("compare", "newest", "sea").stdout
    assert two.startswith("newest has 2, sea has 3, 1 stand in both.\n")
    for wrong, code, said in ((["--revision", "HAED"], 2, "no revision “HAED”"), ([], 2, "name one thing"), (["newest", "seaa"], 7, "Did you mean sea?"), (["--since", "monday"], 2, "--since knows")):  # fmt: skip
        refused = run("compare", *wrong)
        assert (refused.returncode, said in refused.stderr) == (code, True), refused.stderr


def test_upcoming_forms(make_site: Write, tmp_path: Path, run: Run) -> None:
    """A table, JSON, a calendar that other programs read, and a picture."""
    make_site(FILES)
    assert run("upcoming").stdout.splitlines()[:4] == ["2026-06-03 10:00", "  newest  2", "    + Soon; and, later appears at 1", "    - Note 6 leaves, it was at 2"]  # fmt: skip
    data = json.loads(run("upcoming", "--format", "json", "--listing", "sea").stdout)
    assert [(each["at"], each["listing"], each["enters"][0]["because"]) for each in data] == [
        ("2026-06-03T10:00:00+00:00", "sea", "appears")
    ]
    text = run("upcoming", "--format", "ics").stdout
    assert text.count("BEGIN:VEVENT") == text.count("END:VEVENT") == 2
    whole = re.sub(r"\r?\n ", "", text)
    assert "DTSTART:20260603T100000Z" in whole
    assert "SUMMARY:newest: + Soon\\; and\\, later\\, − Note 6" in whole
    assert "\nREFRESH-INTERVAL;VALUE=DURATION:P1D\n" in text
    assert "\nNAME:Bay\n" in text
    assert "DESCRIPTION:+ Soon\\; and\\, later appears at 1" in whole
    assert all(len(line.encode()) <= 75 for line in text.splitlines())
    assert run("upcoming", "--format", "ics").stdout == text
    assert run("upcoming", "--chart", "days.png").returncode == 0
    assert (tmp_path / "days.png").read_bytes().startswith(b"\x89PNG")
    assert run("upcoming", "--until", "2026-06-02").stdout.startswith("\nNothing changes by time alone")
    for wrong, code in (
        (["--until", "2026-05-01"], 2),
        (["--listing", "see"], 7),
        (["--format", "xml"], 2),
        (["--chart", "a.gif"], 2),
    ):
        assert run("upcoming", *wrong).returncode == code


def test_redirects(make_site: Write, tmp_path: Path, run: Run) -> None:
    """Pages that moved are found at their old addresses: by id, by file, or as written; chains lead to the end."""
    site_file = (
        FILES["elenchus.toml"].replace('address = "notes', 'address = "notes')
        + "[publish]\nredirects = true\n"
    )
    terms = '[topics]\neach = "from topic"\naddress = "topics/{slug}/"\nsections = [{ ask = "where topic = :here" }]\n'
    make_site({**FILES, "elenchus.toml": site_file, "pages.toml": FILES["pages.toml"] + terms})
    out, note = tmp_path / "published", tmp_path / "n" / "n7.md"

    def published() -> list[dict[str, str]]:
        done = run("publish")
        assert done.returncode == 0, done.stderr
        file = out / "redirects.json"
        return list(json.loads(file.read_text())) if file.exists() else []

    assert published() == []
    note.write_text(note.read_text().replace("title:", "id: seven\nslug: seven\ntitle:"))  # told by its file
    assert published() == [{"from": "/notes/n7/", "to": "/notes/seven/"}]
    page = (out / "notes" / "n7" / "index.html").read_text()
    assert 'http-equiv="refresh" content="0; url=/notes/seven/"' in page
    assert "Note 7" in page
    note.rename(note.with_name("other.md"))
    note = note.with_name("other.md")
    note.write_text(note.read_text().replace("slug: seven", "slug: eight"))  # told by its id
    assert published() == [
        {"from": "/notes/n7/", "to": "/notes/eight/"},
        {"from": "/notes/seven/", "to": "/notes/eight/"},
    ]
    assert run("publish").stdout.startswith("Nothing changes")
    (tmp_path / "n" / "n6.md").write_text((tmp_path / "n" / "n6.md").read_text() + "[Old](/notes/n7/)\n")
    assert "Links to addresses that moved\n  /notes/n7/  on notes/n6/" in run("publish", "--dry-run").stdout
    links = [each for each in json.loads(run("check", "--format", "json").stdout)["findings"] if each["code"] == "moved-link"]  # fmt: skip
    assert [(each["file"], each["hint"]) for each in links] == [("n/n6.md", "Write /notes/eight/.")]
    (tmp_path / "n" / "n8.md").write_text(
        "---\ntitle: Another\nslug: n7\ndate: 2026-05-09\n---\n"
    )  # which takes the address
    assert published() == [{"from": "/notes/seven/", "to": "/notes/eight/"}]
    assert "http-equiv" not in (out / "notes" / "n7" / "index.html").read_text()
    shown = run("rename-term", "topic/sea", "Open sea", "--yes")
    assert '  "/topics/sea/" = "/topics/open-sea/"\n' in shown.stdout
    for wrong in ("/old/", "//example.org/"):
        (tmp_path / "elenchus.toml").write_text(site_file + f'[publish.moved]\n"topics/sea/" = "{wrong}"\n')
        refused = run("publish")
        assert refused.returncode == 4
        assert "“topics/sea/” is not the address of a page of the site" in refused.stderr
        assert ("“//example.org/”" in refused.stderr) == (wrong != "/old/")
    (tmp_path / "elenchus.toml").write_text(
        site_file + '[publish.moved]\n"/topics/sea/" = "/topics/open-sea/"\n'
    )
    assert {"from": "/topics/sea/", "to": "/topics/open-sea/"} in published()
    note.unlink()  # what is gone leads nowhere
    assert published() == [{"from": "/topics/sea/", "to": "/topics/open-sea/"}]
    (tmp_path / "elenchus.toml").write_text(FILES["elenchus.toml"])
    assert published() == []
    assert not (out / "topics" / "sea").exists()
