"""The preview: addresses, what visitors choose, why, another time, listings as JSON:API, limits."""

from __future__ import annotations

import json
import re
import shutil
import signal
import socket
import subprocess
import threading
import time
from collections.abc import Iterator
from html import unescape
from pathlib import Path
from typing import Any
from urllib.parse import quote

import httpx2
import pytest
from starlette.testclient import TestClient

import elenchus
from conftest import PROGRAM
from elenchus.preview.app import application
from elenchus.preview.live import Live

JSON_API = "application/vnd.api+json"


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    return Path(shutil.copytree(elenchus.demo_folder(), tmp_path / "demo"))


@pytest.fixture(scope="module")
def demo() -> Iterator[TestClient]:
    live = Live(elenchus.demo_folder())
    with TestClient(
        application(live, watched=False), base_url="http://localhost", follow_redirects=False
    ) as client:
        yield client


@pytest.mark.parametrize(
    ("address", "status", "says"),
    [
        ("/", 200, "Fresh from the shore"),
        ("/index.html", 200, "Fresh from the shore"),
        ("/notebook/", 200, "40 entries"),
        ("/notebook", 302, "/notebook/"),
        ("/notebook/page/2/", 200, "page 2 of 4"),
        ("/notebook/page/5/", 404, "has no page “5”"),
        ("/notebook/page/1/", 404, "nothing stands at"),
        ("/notebook/?page=2", 302, "/notebook/page/2/"),
        ("/notebook/?page=1", 302, "/notebook/"),
        ("/notebook/?page=9", 302, "/notebook/page/9/"),
        ("/notebook/?page=-1", 404, "has no page “-1”"),
        ("/notebook/?page=" + "9" * 40, 404, "has no page"),
        ("/notebook/?habitat=shore", 200, "21 entries"),
        ("/notebook/?habitat=dunes&habitat=shore", 302, "/notebook/?habitat=shore&habitat=dunes"),
        ("/notebook/?order=oldest&habitat=shore", 302, "/notebook/?habitat=shore&order=oldest"),
        ("/notebook/?habitat=shore&order=newest&period=", 302, "/notebook/?habitat=shore"),
        ("/notebook/?order=newest", 302, "/notebook/"),
        ("/notebook/?period=any+time", 302, "/notebook/"),
        ("/notebook/?habitat=SHORE&habitat=Sandy+shore", 302, "/notebook/?habitat=shore&habitat=sandy-shore"),
        ("/notebook/?habitat=shore&page=2", 200, "page 2 of 3"),
        ("/notebook/page/3/?habitat=shore", 302, "/notebook/?habitat=shore&page=3"),
        ("/notebook/?habitat=shore&page=4", 404, "has no page “4”"),
        ("/notebook/?colour=red", 200, "can be chosen by “colour”; it was left out"),
        ("/notebook/?habitat=shor", 404, "Did you mean shore?"),
        ("/notebook/?period=tomorrow", 404, "cannot be “tomorrow”"),
        ("/notebook/?order=up&order=down", 404, "takes one value"),
        ("/habitats/dunes/?species=marram", 200, "1 entry"),
        ("/habitats/dunes/?habitat=shore", 200, "it was left out"),
        ("/guidez/", 404, "/guides/"),
        ("/sightings/limpets-in-square-nine/", 200, "Limpets in square nine"),
        ("/images/seal.svg", 200, "<svg"),
        ("/assets/elenchus.css", 200, "color-scheme"),
        ("/notebook/find.atom", 200, "<feed"),
        ("/notebook/page/4/find.rss", 200, "<rss"),
        ("/notebook/page/9/find.rss", 404, "nothing stands at"),
        ("/elenchus.toml", 404, "nothing stands at"),
        ("/notebook/guide/birds-at-night.md", 404, "nothing stands at"),
        ("/images/../elenchus.toml", 404, "nothing stands at"),
        ("/images/%2e%2e/elenchus.toml", 404, "nothing stands at"),
        ("/images/..%2felenchus.toml", 404, "nothing stands at"),
        ("/%00", 404, "nothing stands at"),
        ("/images/%00", 404, "nothing stands at"),
        ("/images/" + "x" * 300, 404, "nothing stands at"),
        ("/images//seal.svg", 404, "nothing stands at"),
        ("/images/", 404, "nothing stands at"),
        ("/-elenchus/why?page=/&section=1", 200, "habitat is shore or below"),
        ("/-elenchus/why?page=/&section=1&entry=sighting/grey-seals-hauled-out", 200, "does not stand on the page already"),
        ("/-elenchus/why?page=/&section=1&entry=guide/birds-at-night", 200, "is of the kind sighting"),
        ("/-elenchus/why?page=/&section=9", 404, "nothing stands at"),
        ("/-elenchus/why?page=/&section=1&entry=nobody", 404, "nothing stands at"),
        ("/-elenchus/nothing", 404, "nothing stands at"),
        ("/-elenchus/problems", 200, "10 notes"),
        ("/-elenchus/problems.json", 200, '"errors": 0'),
        ("/-elenchus/time?at=never", 500, "is not a date"),
        ("/-elenchus/time?at=2026-01-01&back=//evil.example", 302, "/"),
        ("/-elenchus/time?at=2026-01-01&back=/%0d%0aSet-Cookie:x", 302, "/"),
        ("/-elenchus/time?at=2026-01-01&back=/%C3%A9", 302, "/"),
        ("/" + "a" * 5000, 414, "too long"),
        ("/notebook/?" + "&".join(f"a{number}=1" for number in range(200)), 400, "too many"),
    ],
)  # fmt: skip
def test_addresses(demo: TestClient, address: str, status: int, says: str) -> None:
    """What is answered at an address; where it leads, or what the page says."""
    answer = demo.get(address)
    demo.cookies.clear()
    assert answer.status_code == status
    if status == 302:
        assert answer.headers["location"] == says
    else:
        assert says.lower() in answer.text.lower()
    assert answer.headers.get("x-content-type-options", "nosniff") == "nosniff"


def test_only_reading(demo: TestClient) -> None:
    """Nothing is taken from visitors: other methods are refused, as are other names of this machine."""
    assert [demo.request(method, "/").status_code for method in ("POST", "PUT", "DELETE", "PATCH")] == [
        405
    ] * 4
    assert demo.head("/").status_code == 200
    assert demo.head("/").content == b""
    assert demo.get("/", headers={"host": "evil.example"}).status_code == 400


def test_forms(demo: TestClient) -> None:
    """What is chosen is kept, counts are those of the other choices, the pager keeps the choice."""
    text = demo.get("/notebook/?habitat=shore&period=last+90+days").text
    assert 'value="shore" checked' in text
    assert '<option value="last 90 days" selected>' in text
    estuary = text.partition('value="estuary"')[2].partition("</label>")[0]
    listed: Any = demo.get("/api/listings/find?filter[habitat]=estuary&filter[period]=last 90 days").json()
    assert f'<span class="elen-count">{listed["meta"]["total"]}</span>' in estuary
    shore = demo.get("/notebook/?habitat=shore&order=oldest").text
    assert 'href="/notebook/?habitat=shore&amp;order=oldest&amp;page=2"' in shore
    assert "<template" not in text
    assert '<a href="/notebook/">Show all</a>' in text


def test_another_time(demo: TestClient) -> None:
    """A cookie lets all pages be seen at another time, until it is taken away."""
    assert "Ringed plover chicks" not in demo.get("/notebook/").text
    there = demo.get("/-elenchus/time?at=2026-06-25T10:00&back=/notebook/")
    assert there.headers["location"] == "/notebook/"
    assert "HttpOnly" in there.headers["set-cookie"]
    assert "Ringed plover chicks" in demo.get("/notebook/").text
    demo.get("/-elenchus/time?at=&back=/")
    assert "Ringed plover chicks" not in demo.get("/notebook/").text
    demo.cookies.clear()
    assert demo.get("/notebook/", headers={"cookie": "elenchus-at=never"}).status_code == 200


def test_all_shown(folder: Path) -> None:
    """Whoever builds the site may see all of it, marked; data, the check and others see what is public."""
    seals = folder / "notebook" / "sighting" / "grey-seals-hauled-out.md"
    edit = seals.with_name("grey-seals-hauled-out.edit.md")
    edit.write_text(seals.read_text().replace("title: Grey seals hauled out", "title: Thirty seals"))
    live = Live(folder)
    with TestClient(application(live, watched=False), base_url="http://localhost", follow_redirects=False) as client:  # fmt: skip
        public = client.get("/notebook/").text
        problems, data = client.get("/-elenchus/problems.json").text, client.get("/api/listings/find").text
        assert (public.count("elen-mark"), "Thirty seals" in public, "40 entries" in public) == (
            0,
            False,
            True,
        )
        assert client.get("/sightings/unknown-wader/").status_code == 404
        there = client.get("/-elenchus/shown?what=all&back=/notebook/")
        assert (there.headers["location"], "HttpOnly" in there.headers["set-cookie"]) == ("/notebook/", True)
        shown = client.get("/notebook/").text
        assert "45 entries" in shown
        for text in ('Thirty seals</a> <span class="elen-mark">pending edit</span>', 'Unknown wader</a> <span class="elen-mark">draft</span>', '<span class="elen-mark">scheduled for 2026-06-20 00:00</span>'):  # fmt: skip
            assert text in shown
        page = client.get("/sightings/unknown-wader/").text
        assert "Visitors are not shown this, or not so: draft." in page
        why = client.get("/-elenchus/why?page=/notebook/&section=0&entry=sighting/unknown-wader").text
        assert "publish it: set status to published" in why
        assert client.get("/-elenchus/why?page=/sightings/unknown-wader/&section=0").status_code == 200
        assert client.get("/-elenchus/problems.json").text == problems
        assert client.get("/api/listings/find").text == data
        edit.write_text("---\ntitle: [\n---\n")
        live.changed()
        torn = client.get("/notebook/")
        assert (torn.status_code, "Show what is public" in torn.text) == (500, True)
        back = client.get("/-elenchus/shown?back=//evil.example")
        assert (back.headers["location"], "Max-Age=0" in back.headers["set-cookie"]) == ("/", True)
        assert client.get("/notebook/").text == public
    others = Live(folder, offers_all=False)
    with TestClient(application(others, watched=False), base_url="http://localhost") as client:
        found = client.get("/notebook/", headers={"cookie": "elenchus-shown=all"}).text
        assert ("Unknown wader" in found, "what=all" in found or 'value="all"' in found) == (False, False)


@pytest.mark.parametrize(
    ("address", "status", "code", "parameter"),
    [
        ("/api/listings/fnd", 404, "unknown-listing", ""),
        ("/api/listings/", 404, "unknown-listing", ""),
        ("/api/listings/find?colour=red", 400, "unknown-parameter", "colour"),
        ("/api/listings/find?filter[colour]=red", 400, "unknown-parameter", "filter[colour]"),
        ("/api/listings/find?filter[order]=newest", 400, "unknown-parameter", "filter[order]"),
        ("/api/listings/find?filter[habitat]=shor", 400, "unknown-term", "filter[habitat]"),
        ("/api/listings/find?filter[period]=ever", 400, "unknown-choice", "filter[period]"),
        ("/api/listings/find?sort=up", 400, "unknown-choice", "sort"),
        ("/api/listings/lead?sort=up", 400, "unknown-parameter", "sort"),
        ("/api/listings/find?page[number]=9", 404, "no-such-page", "page[number]"),
        ("/api/listings/find?page[number]=x", 404, "no-such-page", "page[number]"),
        ("/api/rows/sighting/unknown-wader", 404, "unknown-entry", ""),
        ("/api/rows/sighting/nowhere", 404, "unknown-entry", ""),
        ("/api/rows/sightin/nowhere", 404, "unknown-kind", ""),
        ("/api/nothing", 404, "unknown-page", ""),
        ("/api/listings/find?" + "a" * 5000, 414, "bad-request", ""),
        ("/api/listings/find?" + "&" * 200, 400, "bad-request", ""),
        ("/api/listings/of-station", 400, "no-page-row", ""),
        ("/api/listings/find?filter[habitat]=" + "x" * 600, 400, "long-value", "filter[habitat]"),
    ],
)
def test_api_errors(demo: TestClient, address: str, status: int, code: str, parameter: str) -> None:
    """What is wrong with a request is a JSON:API error that names the parameter."""
    answer = demo.get(quote(address, safe="/?&=[]"))
    assert (answer.status_code, answer.headers["content-type"]) == (status, JSON_API)
    (error,) = answer.json()["errors"]
    assert (error["status"], error["code"]) == (str(status), code)
    assert error.get("source", {}).get("parameter", "") == parameter
    assert error["title"]
    assert "--" not in error["detail"]


def test_api(demo: TestClient, demo_site: elenchus.Site) -> None:
    """Pages of resources, links between them, counts of choices; following next gives the whole listing."""
    address, seen = "/api/listings/find?filter[habitat]=shore,dunes&sort=a-z", []
    while address:
        answer = demo.get(address)
        assert answer.headers["content-type"] == JSON_API
        document = answer.json()
        seen += [each["id"] for each in document["data"]]
        assert document["links"]["first"] == "/api/listings/find?filter%5Bhabitat%5D=shore%2Cdunes&sort=a-z"
        address = document["links"]["next"]
    wanted = elenchus.ask(
        demo_site, "find", given={"habitat": ["shore", "dunes"], "order": "a-z"}, changes="no per page"
    )
    assert seen == [row.id for row in wanted.rows]
    counts = {each["value"]: each["count"] for each in document["meta"]["counts"]["habitat"]}
    assert counts["shore"] == elenchus.ask(demo_site, "find", given={"habitat": "shore"}).total
    first = demo.get("/api/listings/find").json()["data"][0]
    assert first["type"] == "sighting"
    assert first["attributes"]["date"] == "2026-06-14T08:40:00+01:00"
    assert first["relationships"]["habitat"]["data"] == [{"type": "habitat", "id": "rocky-shore"}]
    assert first["links"]["self"] == "/api/rows/sighting/sighting/grey-seals-hauled-out"
    assert first["attributes"]["address"].endswith("/sightings/grey-seals-hauled-out/")
    itself = demo.get(first["links"]["self"]).json()
    assert (itself["data"]["id"], itself["links"]["self"]) == (first["id"], first["links"]["self"])
    term = demo.get("/api/rows/habitat/rocky-shore").json()["data"]
    assert (term["type"], term["attributes"]["name"]) == ("habitat", "Rocky shore")
    of_station = demo.get("/api/listings/of-station?filter[here]=station/north-point").json()
    assert of_station["meta"]["total"] > 0
    names = [each["id"] for each in demo.get("/api/listings").json()["data"]]
    assert "find" in names
    months = demo.get("/api/listings/months").json()["meta"]["groups"]
    assert months[0]["label"] == "June 2026"


@pytest.mark.parametrize(
    ("accept", "status"),
    [
        (JSON_API, 200),
        ("*/*", 200),
        (f"{JSON_API};q=0.9", 200),
        (f'{JSON_API}; profile="https://x.example/p"', 200),
        (f"{JSON_API}; ext=x", 406),
        (f"{JSON_API}; ext=x, {JSON_API}", 200),
    ],
)
def test_accept(demo: TestClient, accept: str, status: int) -> None:
    """A client that asks for parameters of the media type is told that there are none (JSON:API 1.1)."""
    assert demo.get("/api/listings/find", headers={"accept": accept}).status_code == status


def test_methods(demo: TestClient) -> None:
    """What would change something is refused, in the form of whoever asks."""
    for method in ("POST", "PUT", "PATCH", "DELETE"):
        refused = demo.request(method, "/api/listings/find")
        assert (refused.status_code, refused.json()["errors"][0]["title"]) == (
            405,
            "This address is only read",
        )
        assert refused.headers["allow"] == "GET, HEAD"
        assert demo.request(method, "/").status_code == 405


def test_validators(demo: TestClient) -> None:
    """What a client has already is not sent again."""
    for address in ("/", "/api/listings/find", "/images/seal.svg"):
        first = demo.get(address)
        again = demo.get(address, headers={"if-none-match": f'"x", {first.headers["etag"]}'})
        assert (again.status_code, again.content) == (304, b"")
        assert again.headers["etag"] == first.headers["etag"]
        assert demo.get(address, headers={"if-none-match": '"other"'}).status_code == 200


def test_problems_are_shown(folder: Path) -> None:
    """A site that cannot be read shows what is wrong on every page, and comes back when that is fixed."""
    live = Live(folder)
    site = folder / "elenchus.toml"
    good = site.read_text(encoding="utf-8")
    with TestClient(application(live, watched=False), base_url="http://localhost") as client:
        assert client.get("/").status_code == 200
        site.write_text(good.replace("[kinds.person]", "[kind.person]"), encoding="utf-8")
        live.changed()
        answer = client.get("/guides/")
        assert (answer.status_code, "Did you mean kinds?" in answer.text) == (500, True)
        assert client.get("/api/listings/find").json()["errors"][0]["code"] == "unknown-key"
        site.write_text(good, encoding="utf-8")
        listings = folder / "listings.toml"
        listings.write_text(
            listings.read_text(encoding="utf-8").replace("habitat under shore", "habitat under shoar"),
            encoding="utf-8",
        )
        live.changed()
        page = client.get("/")
        assert page.status_code == 200
        assert "no habitat is called “shoar”" in page.text
        assert json.loads(client.get("/-elenchus/problems.json").text)["errors"] >= 1


def test_many_clients_while_files_change(folder: Path) -> None:
    """With 50 clients and an edit every half second, each request is answered, and soon."""
    seconds = 8
    times: list[float] = []
    wrong: list[tuple[str, object]] = []
    paths = ["", "notebook/", "guides/", "habitats/shore/", "find/?level=first-steps", "assets/elenchus.css", "-elenchus/problems", "archive/2026/05/", "nowhere/"]  # fmt: skip
    command = [str(PROGRAM), "serve", "--port", "0", "--site", str(folder)]
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True) as process:
        try:
            assert process.stdout
            address = process.stdout.readline().split()[2]
            until = time.monotonic() + seconds

            def visit(number: int) -> None:
                with httpx2.Client(timeout=15, follow_redirects=True) as client:
                    while time.monotonic() < until:
                        begun = time.monotonic()
                        path = paths[(number + len(times)) % len(paths)]
                        try:
                            status = client.get(f"{address}{path}").status_code
                        except httpx2.HTTPError as error:
                            wrong.append((path, repr(error)))
                            continue
                        times.append(time.monotonic() - begun)
                        if status not in (200, 404):
                            wrong.append((path, status))

            clients = [threading.Thread(target=visit, args=(number,)) for number in range(50)]
            for client in clients:
                client.start()
            edited = folder / "notebook" / "guide" / "telling-seals-apart.md"
            while time.monotonic() < until:
                edited.write_text(edited.read_text() + "More.\n")
                time.sleep(0.5)
            for client in clients:
                client.join(30)
            assert not any(client.is_alive() for client in clients)
        finally:
            process.kill()
    assert wrong == []
    assert len(times) > 200
    print(f"{len(times)} requests, p99 {sorted(times)[len(times) * 99 // 100]:.2f} s")


def test_program(folder: Path) -> None:
    """The installed program serves at a free port, tells of changes as events, and refuses a port in use."""
    command = [str(PROGRAM), "serve", "--port", "0", "--site", str(folder)]
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True) as process:
        try:
            assert process.stdout
            line = process.stdout.readline()
            address = line.split()[2]
            assert address.startswith("http://127.0.0.1:")
            with httpx2.stream("GET", f"{address}-elenchus/events", timeout=20) as events:
                lines = events.iter_lines()
                assert next(text for text in lines if text.startswith("data:")) == "data: 1"
                time.sleep(0.5)
                (folder / "notebook" / "guide" / "fresh.md").write_text(
                    "---\ntitle: Fresh guide\ndate: 2026-06-01\n---\n", encoding="utf-8"
                )
                assert next(text for text in lines if text.startswith("data:")) != "data: 1"
            assert "Fresh guide" in httpx2.get(f"{address}guides/", timeout=20).text
            port = address.rstrip("/").rpartition(":")[2]
            second = subprocess.run(
                [*command[:3], port, *command[4:]], capture_output=True, text=True, check=False
            )
            assert (second.returncode, f"port {port} cannot be served at" in second.stderr) == (2, True)
            with socket.create_connection(("127.0.0.1", int(port)), timeout=5) as raw:
                raw.sendall(b"GET /../../etc/passwd HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n")
                assert b" 404 " in raw.recv(200)
            with httpx2.stream("GET", f"{address}-elenchus/events", timeout=20) as events:
                process.send_signal(signal.SIGINT)
                assert all(
                    text.startswith(("retry", "event", "data")) or not text for text in events.iter_lines()
                )
            assert process.wait(timeout=20) == 0
            assert process.stderr
            assert process.stderr.read() == ""
        finally:
            process.kill()


# Changing


KEY = "bay"
OWN = {"origin": "http://localhost"}


def changing(folder: Path, key: str = KEY, given: str = KEY, **more: Any) -> TestClient:
    """Return a client of a preview that has its key, as a browser on this machine would be."""
    found = TestClient(
        application(Live(folder), watched=False, key=key),
        base_url="http://localhost",
        follow_redirects=False,
        **{"client": ("127.0.0.1", 5000), **more},
    )
    found.cookies.set("elenchus-key", given)
    return found


REFUSED = [
    ({"given": ""}, OWN, "with the key"),
    ({"given": "boy"}, OWN, "with the key"),
    ({"key": ""}, OWN, "this machine alone"),
    ({"client": ("192.0.2.7", 5000)}, OWN, "only from this machine"),
    ({}, {}, "a page of the preview itself"),
    ({}, {"origin": "http://localhost.example"}, "a page of the preview itself"),
    ({}, {"origin": "null"}, "a page of the preview itself"),
    ({}, {**OWN, "sec-fetch-site": "cross-site"}, "a page of the preview itself"),
]


@pytest.mark.parametrize(("how", "headers", "says"), REFUSED)
def test_who_may_change(folder: Path, how: dict[str, Any], headers: dict[str, str], says: str) -> None:
    """Without the key, from another machine, or from a page of another origin nothing is written."""
    before = (folder / "listings.toml").read_bytes()
    client = changing(folder, **how)
    for address in ("/-elenchus/change", "/-elenchus/offers"):
        answer = client.post(address, data={"page": "/", "section": "1", "do": "keep"}, headers=headers)
        assert (answer.status_code, says in answer.text) == (403, True)
    assert (
        changing(folder).post("/-elenchus/change", headers={**OWN, "host": "bay.example"}).status_code == 400
    )
    assert (folder / "listings.toml").read_bytes() == before


def fields(text: str) -> dict[str, str]:
    """Return what the fields of a form say."""
    found = dict(re.findall(r'<input type="(?:text|hidden)" name="([\w-]+)" value="([^"]*)"', text))
    found |= dict.fromkeys(re.findall(r'name="(on-\d+)"[^>]* checked', text), "on")
    area = re.search(r"<textarea[^>]*>(.*?)</textarea>", text, re.DOTALL)
    return {name: unescape(value) for name, value in found.items()} | {
        "text": unescape(area[1]) if area else ""
    }


@pytest.mark.parametrize(
    ("page", "section", "file"), [("/", "1", "listings.toml"), ("/about/", "0", "pages.toml")]
)
def test_change_of_a_section(folder: Path, page: str, section: str, file: str) -> None:
    """A section is changed in sight, the difference shown, then written: as a listing, or where it stands."""
    if file == "pages.toml":
        with (folder / file).open("a", encoding="utf-8") as pages:
            pages.write(
                '\n[about]   # ours\naddress = "about/"\nsections = [{ ask = "from guide limit 9", title = "Guides" }]\n'
            )
    before = (folder / file).read_text(encoding="utf-8")
    client = changing(folder)
    form = fields(client.get(f"/-elenchus/change?page={page}&section={section}").text)

    def post(**more: str) -> Any:
        return client.post("/-elenchus/change", data={**form, **more}, headers=OWN)

    assert post(more="x" * 100_000).status_code == 413
    unread = post(more="title = ", do="look")
    assert 'value="title ="' in unread.text
    wrong = post(more="title contians seal", do="keep")
    assert "Did you mean contains?" in wrong.text
    assert "What would be written" not in wrong.text
    seen = post(more='title contains "a"', do="look").text
    assert "left</output>" in seen
    form = fields(seen)
    last = int(form["count"]) - 1
    form[f"line-{last}"] = "limit 2"
    shown = post(do="keep").text
    assert "What would be written" in shown
    form = fields(shown)
    assert "look again" in post(do="write", seen="other").text
    assert (folder / file).read_text(encoding="utf-8") == before
    answer = post(do="write")
    assert (answer.status_code, answer.headers["location"].split("#")[0]) == (302, page)
    after = (folder / file).read_text(encoding="utf-8")
    assert "title contains a" in after
    assert "limit 2" in after
    assert len(after.splitlines()) == len(before.splitlines())
    site = elenchus.open_site(folder)
    assert not site.pages.problems + site.library.problems


def test_counts_are_those_of_the_page(folder: Path) -> None:
    """What other sections show first is not counted; a section that is hidden for want of rows can be changed."""
    listings = folder / "listings.toml"
    text = listings.read_text(encoding="utf-8")
    hidden = text.replace("habitat under shore order", "habitat under shore and date in next 3 days order")
    listings.write_text(
        hidden.replace('fill_from = "newest-sightings"\nat_least  = 3\n', ""), encoding="utf-8"
    )
    client = changing(folder)
    seen = client.get("/-elenchus/change?page=/&section=1").text
    counts = re.findall(r"(\d+) left</output>", seen)
    assert counts == ["29", "15", "0", "0"]  # of 30 sightings, 16 of them from the shore, one stands above
    assert "All counts leave out the 4 rows of sections that choose before this one." in seen
    page = client.get("/").text
    assert "Fresh from the shore has no rows and is hidden: <a" in page
    assert "change?page=%2F&amp;section=1" in page
    form = {**fields(seen), "text": "from sighting group by habitat limit 0 per group"}
    counted = client.post("/-elenchus/change", data=form, headers=OWN).text
    assert (
        "30 shown of 30 that match" in counted
    )  # counts of groups show no rows, so that they leave out none


def test_lines_of_a_form(folder: Path) -> None:
    """Lines are switched off, moved and taken away; the text in their place is read; offers have counts."""
    client = changing(folder)
    form = fields(client.get("/-elenchus/change?page=/&section=1").text)

    def post(**more: str) -> dict[str, str]:
        return fields(client.post("/-elenchus/change", data={**form, **more}, headers=OWN).text)

    assert post(do="drop-3")["text"] == "from sighting where habitat under shore order by newest"
    two = post(more="certainty = confirmed")
    assert (two["line-2"], two["text"].count(" and ")) == ("and certainty = confirmed", 1)
    form = two
    assert post(do="up-2")["line-1"] == "where certainty = confirmed"
    form = {name: value for name, value in two.items() if name != "on-1"}
    assert post()["text"] == "from sighting where certainty = confirmed order by newest limit 6"
    assert post(text="from guide limit 1")["line-0"] == "from guide"
    data = {**two, "typed": "where habitat = ", "at": "2"}
    offered = client.post("/-elenchus/offers", data=data, headers=OWN).json()
    counted = {each["value"]: each["label"] for each in offered}
    assert counted["where habitat = rocky-shore"] == "Rocky shore · 5 left"
    data = {**two, "typed": "ord", "at": "0"}
    assert "order by" in [
        each["value"] for each in client.post("/-elenchus/offers", data=data, headers=OWN).json()
    ]
