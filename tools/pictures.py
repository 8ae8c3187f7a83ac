"""Take the pictures in docs/screenshots: the program in a real terminal, its pages in a real browser, on the demo.

    .venv/bin/python tools/pictures.py [NAME ...]

Needs Xvfb, xterm, ImageMagick and Chromium (Debian: apt-get install xvfb xterm imagemagick chromium
fonts-dejavu-core fonts-noto-core), and Playwright, which the tests need too.
"""

from __future__ import annotations

import fcntl
import os
import pty
import re
import select
import shlex
import shutil
import struct
import subprocess
import sys
import tempfile
import termios
import time
import tty
from pathlib import Path
from typing import TYPE_CHECKING, Literal

from playwright.sync_api import sync_playwright

if TYPE_CHECKING:
    from collections.abc import Sequence

TARGET = Path(__file__).parent.parent / "docs" / "screenshots"
PROGRAM = Path(sys.executable).with_name("elenchus")
DISPLAY = ":87"
SIZE = (1280, 800)
PAUSE = 1.5  # seconds between keys

# The name of each picture, and what is typed for it inside the demo site.
TERMINAL = {
    "ask-table": "elenchus ask 'from sighting where habitat under shore and individuals >= 10 order by individuals desc per page 8'",
    "ask-groups": "elenchus ask 'from sighting where habitat under shore group by habitat under shore by count desc limit 3 per group' --overlap",
    "why": "elenchus why 'from sighting where habitat under shore and individuals >= 40 and date in last 60 days'",
    "why-entry": "elenchus why 'from sighting where certainty = confirmed and individuals >= 40 limit 5' grey-seal-count-may",
    "describe": "elenchus describe 2>/dev/null; echo; elenchus describe sighting",
    "start": (
        "elenchus demo ../library --library >/dev/null; mkdir ../shop; cp ../library/books.csv ../library/library.db ../shop;"
        " cd ../shop; script -qec 'elenchus start .' /dev/null | head -n 44"
    ),
    "check": "elenchus check; elenchus check --about page-edge",
    "publish": (
        "elenchus publish >/dev/null; printf -- '---\\ntitle: A new guide\\ndate: 2026-06-14\\nlevel: first-steps\\nhabitat: [dunes]\\n---\\nText\\n'"
        " > notebook/guide/a-new-guide.md; rm notebook/guide/birds-at-night.md; script -qec 'elenchus publish --dry-run' /dev/null | head -n 44"
    ),
    "set": (
        "script -qec \"elenchus set 'from sighting where species = grey-seal limit 3' certainty=possible habitat+=estuary --dry-run\" /dev/null"
        " | head -n 44"
    ),
    "compare": "script -qec 'elenchus compare --at 2026-06-21' /dev/null | head -n 44",
    "ask-error": "elenchus ask 'from sightings where habitat = rocky-shoer and pinned or individuals > many'",
}
# What stands for what is typed, where that only makes the picture ready.
SHOWN = {
    "start": "elenchus start .", "publish": "elenchus publish --dry-run", "compare": "elenchus compare --at 2026-06-21",
    "set": "elenchus set 'from sighting where species = grey-seal limit 3' certainty=possible habitat+=estuary --dry-run",
}  # fmt: skip
# The whole screen: the command, and the keys that are pressed in it.
SCREEN = {
    "explore": (
        "elenchus explore fresh-from-shore",
        ["and where individuals >= 5\r", "\x1b[B", "\x1b[B", "\r", "\x0e", "\x0e", "and where species = "],
    ),
}
# Pages: their address on the preview, the colours, and what is clicked before.
WEB = {
    "web-home": ("/", "light", ""),
    "web-find": ("/notebook/?habitat=shore&habitat=dunes&order=a-z", "light", ""),
    "web-habitat": ("/habitats/shore/rocky-shore/", "dark", ""),
    "web-preview": ("/-elenchus/shown?what=all&back=/guides/", "light", ".preview summary"),
}
NARROW = (390, 844)
CHANGE = "web-change"
# What the program draws itself.
DRAWN = {
    "chart": ["ask", "from sighting group by date.month"],
    "upcoming": ["upcoming", "--until", "2026-07-31"],
}


def main() -> None:
    """Take the pictures named on the command line, or all of them."""
    if sys.argv[1:2] == ["typing"]:  # within the terminal of a picture
        typing(*SCREEN[sys.argv[2]], Path(sys.argv[3]))
        return
    wanted = sys.argv[1:] or [*TERMINAL, *SCREEN, *WEB, CHANGE, *DRAWN]
    TARGET.mkdir(parents=True, exist_ok=True)
    display = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", f"{SIZE[0]}x{SIZE[1]}x24"])
    try:
        time.sleep(1)
        for name in wanted:
            with tempfile.TemporaryDirectory() as folder:
                site = Path(folder) / "skerry-bay"
                subprocess.run([PROGRAM, "demo", site], check=True, stdout=subprocess.DEVNULL)
                if name in DRAWN:
                    command = [PROGRAM, *DRAWN[name], "--site", site, "--chart", TARGET / f"{name}.png"]
                    subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
                elif name in WEB:
                    web_picture(name, *WEB[name], site)
                elif name == CHANGE:
                    change_picture(site)
                elif name in SCREEN:
                    done = site.parent / f"{name}.done"
                    typed = shlex.join(
                        [sys.executable, str(Path(__file__).absolute()), "typing", name, str(done)]
                    )
                    terminal_picture(name, typed, site, rows=46)  # its last line is one of the screen
                else:
                    terminal_picture(name, TERMINAL[name], site)
    finally:
        display.terminate()


def web_picture(name: str, address: str, colours: Literal["light", "dark"], click: str, site: Path) -> None:
    """Save the picture of a page, wide and narrow beside each other: as published, or of the preview."""
    is_preview = bool(click) or "?" in address
    if is_preview:
        command = [PROGRAM, "serve", "--port", "0", "--site", site]
    else:
        subprocess.run([PROGRAM, "publish", "--site", site], check=True, stdout=subprocess.DEVNULL)
        command = [sys.executable, "-um", "http.server", "--directory", site / "published", "0"]
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True) as server:
        assert server.stdout
        root = re.search(r"http://[^/]+", server.stdout.readline().replace("0.0.0.0", "127.0.0.1"))
        assert root
        with sync_playwright() as playwright, tempfile.TemporaryDirectory() as folder:
            browser = playwright.chromium.launch(
                executable_path=shutil.which("chromium"), args=["--no-sandbox", "--disable-gpu"]
            )
            for number, (width, height) in enumerate((SIZE, NARROW)):
                page = browser.new_page(viewport={"width": width, "height": height}, color_scheme=colours)
                page.goto(root[0] + address)
                if click:
                    page.locator(click).click()
                    page.wait_for_timeout(1500)
                page.wait_for_function(
                    "[...document.images].every(each => each.complete || each.getBoundingClientRect().top > innerHeight)"
                )
                page.screenshot(path=f"{folder}/{number}.png")
            browser.close()
            join = [
                "(",
                f"{folder}/1.png",
                "-gravity",
                "northwest",
                "-background",
                "#808890",
                "-splice",
                "8x0",
                ")",
            ]
            both = ["convert", f"{folder}/0.png", *join, "-background", "#808890", "+append"]
            subprocess.run([*both, TARGET / f"{name}.png"], check=True)
        server.terminate()


def change_picture(site: Path) -> None:
    """Save the picture of a section that is being changed in the preview."""
    command = [PROGRAM, "serve", "--port", "0", "--site", site]
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True) as server:
        assert server.stdout
        lines = [server.stdout.readline(), server.stdout.readline()]
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(
                executable_path=shutil.which("chromium"), args=["--no-sandbox", "--disable-gpu"]
            )
            page = browser.new_page(viewport={"width": SIZE[0], "height": SIZE[1]})
            page.goto(lines[1].split()[-1])
            page.locator("#fresh-from-shore .elen-why-link >> text=change").click()
            page.locator("input[name=more]").fill("certainty = confirmed")
            page.locator("input[name=more]").press("Enter")
            page.locator("input[name=line-4]").fill("limit 4")
            page.wait_for_timeout(1000)
            page.locator("text=Keep…").click()
            page.locator("text=Write listings.toml").wait_for()
            page.wait_for_timeout(1000)
            page.screenshot(path=TARGET / f"{CHANGE}.png")
            browser.close()
        server.terminate()


def typing(command: str, keys: Sequence[str], done: Path) -> None:
    """Run a command on a terminal of its own, show it on this one, and press keys in it one after another."""
    pid, file = pty.fork()
    if not pid:
        os.execvp("sh", ["sh", "-c", command])  # noqa: S606
    size = os.get_terminal_size()
    fcntl.ioctl(file, termios.TIOCSWINSZ, struct.pack("HHHH", size.lines, size.columns, 0, 0))
    tty.setraw(sys.stdin)
    waiting, begun = list(keys), time.monotonic()
    while True:
        ready = select.select([file, sys.stdin], [], [], 0.1)[0]
        if file in ready:
            os.write(sys.stdout.fileno(), os.read(file, 65536))
        if sys.stdin in ready:  # what the terminal answers
            os.write(file, os.read(sys.stdin.fileno(), 4096))
        if time.monotonic() - begun > PAUSE:
            begun = time.monotonic()
            if waiting:
                os.write(file, waiting.pop(0).encode())
            else:
                done.touch()


def terminal_picture(name: str, typed: str, site: Path, rows: int = 47) -> None:
    """Show a command and its output in xterm and save the picture of the screen."""
    done = site.parent / f"{name}.done"
    shown = SHOWN.get(name, typed)
    prompt = f"printf '\\033[1;32m$\\033[0m %s\\n\\n' {shlex.quote(shown)}; {typed}; touch {done}; sleep 60"
    environment = {**os.environ, "DISPLAY": DISPLAY, "PATH": f"{PROGRAM.parent}:{os.environ['PATH']}"}
    environment.pop("NO_COLOR", None)
    colours = ["-bg", "#14191d", "-fg", "#e6e9eb", "-xrm", "XTerm*color8: #8b979e"]
    command = [
        "xterm",
        "-fa",
        "DejaVu Sans Mono",
        "-fs",
        "10",
        *colours,
        "-b",
        "10",
        "-geometry",
        f"156x{rows}+0+0",
    ]
    terminal = subprocess.Popen([*command, "-e", "bash", "-c", prompt], env=environment, cwd=site)
    while not done.exists() and terminal.poll() is None:
        time.sleep(0.1)
    time.sleep(1)
    picture = TARGET / f"{name}.png"
    capture = shutil.which("import") or "import"
    subprocess.run([capture, "-window", "root", picture], env=environment, check=True)
    terminal.terminate()
    terminal.wait()


if __name__ == "__main__":
    main()
