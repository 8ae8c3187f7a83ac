"""Take the pictures in docs/screenshots: the installed program in a real terminal, on the demo site.

    .venv/bin/python tools/pictures.py [NAME ...]

Needs Xvfb, xterm and ImageMagick (Debian: apt-get install xvfb xterm imagemagick fonts-dejavu-core).
"""

from __future__ import annotations

import os
import shlex
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

TARGET = Path(__file__).parent.parent / "docs" / "screenshots"
PROGRAM = Path(sys.executable).with_name("elenchus")
DISPLAY = ":87"
SIZE = (1280, 800)

# The name of each picture, and what is typed for it inside the demo site.
TERMINAL = {
    "demo": "cd .. && script -qec 'elenchus demo' /dev/null | head -n 44",
    "ask-table": "elenchus ask 'from sighting where habitat under shore and individuals >= 10 order by individuals desc per page 8'",
    "ask-groups": "elenchus ask 'from sighting where habitat under shore group by habitat under shore by count desc limit 3 per group' --overlap",
    "why": "elenchus why 'from sighting where habitat under shore and individuals >= 40 and date in last 60 days'",
    "why-entry": "elenchus why 'from sighting where certainty = confirmed and individuals >= 40 limit 5' grey-seal-count-may",
    "describe": "elenchus describe 2>/dev/null; echo; elenchus describe sighting",
    "listing": "elenchus describe shore-sidebar; echo; elenchus ask shore-sidebar --pretend 2 2>/dev/null",
    "choices": "elenchus ask by-habitat 2>/dev/null",
    "page": "elenchus pages guides",
    "addresses": "elenchus pages | head -n 44",
    "check": "elenchus check; elenchus check --about page-edge",
    "ask-error": "elenchus ask 'from sightings where habitat = rocky-shoer and pinned or individuals > many'",
}


def main() -> None:
    """Take the pictures named on the command line, or all of them."""
    wanted = sys.argv[1:] or [*TERMINAL, "chart"]
    TARGET.mkdir(parents=True, exist_ok=True)
    display = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", f"{SIZE[0]}x{SIZE[1]}x24"])
    try:
        time.sleep(1)
        with tempfile.TemporaryDirectory() as folder:
            site = Path(folder) / "skerry-bay"
            subprocess.run([PROGRAM, "demo", site], check=True, stdout=subprocess.DEVNULL)
            for name in wanted:
                if name == "chart":
                    ask = ["ask", "from sighting group by date.month", "--site", site, "--chart"]
                    subprocess.run(
                        [PROGRAM, *ask, TARGET / "chart.png"], check=True, stdout=subprocess.DEVNULL
                    )
                else:
                    terminal_picture(name, TERMINAL[name], site)
    finally:
        display.terminate()


def terminal_picture(name: str, typed: str, site: Path) -> None:
    """Show a command and its output in xterm and save the picture of the screen."""
    done = site.parent / f"{name}.done"
    shown = "elenchus demo" if name == "demo" else typed
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
        "156x47+0+0",
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
