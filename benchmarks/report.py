"""Put the figures of a run into docs/performance.md, and draw how they grow.

.venv/bin/python benchmarks/questions.py --sizes 10000,100000,1000000 --json figures.json
.venv/bin/python benchmarks/report.py figures.json
"""

from __future__ import annotations

import json
import re
import sys
from pathlib import Path
from typing import Any

DOCS = Path(__file__).parents[1] / "docs"
ENGINES = ("Elenchus", "SQLite", "DuckDB", "pandas", "Polars")
COLOURS = ("#0b5d6b", "#c2571a", "#8a6fb0", "#5b8c3a", "#8c8c8c")
MARKS = "os^Dv"


def table(found: dict[str, Any]) -> str:
    """Return the figures of one size and setting as a table of Markdown: ours, then how many times the others take."""
    lines = [
        "| milliseconds of CPU | Elenchus | first call | SQLite | DuckDB | pandas | Polars | best of them |",
        "|---|---|---|---|---|---|---|---|",
    ]
    for name, times in found["questions"].items():
        own = times["Elenchus"]["cpu"]
        ratios = [times[engine]["cpu"] / own for engine in ENGINES[1:]]
        cells = [f"{own:.2f}", f"{times['Elenchus']['first']:.0f}", *(f"{ratio:.1f} ×" for ratio in ratios)]
        lines.append(f"| {name} | {' | '.join(cells)} | **{min(ratios):.1f} ×** |")
    built = (f"{each['seconds']:.0f} s, {each['megabytes']:.0f} MB" for each in found["built"].values())
    lines.append(f"| *built in* | {' | '.join(_spread(list(built)))} | |")
    return "\n".join(lines)


def _spread(built: list[str]) -> list[str]:
    """Return the cells of building: the first call has none."""
    return [built[0], "", *built[1:]]


def growth(all_found: list[dict[str, Any]]) -> None:
    """Draw the time of each question over the number of entries, for each engine in the usual setting."""
    import matplotlib as mpl

    mpl.use("svg")
    mpl.rcParams |= {"svg.hashsalt": "elenchus", "font.size": 9}
    import matplotlib.pyplot as plt

    found = [each for each in all_found if each["setting"] == "usual"]
    sizes = [each["entries"] for each in found]
    names = list(found[0]["questions"])
    figure, parts = plt.subplots(3, 4, figsize=(12, 8), sharex=True, sharey=True, layout="constrained")
    for part, name in zip(parts.flat, names, strict=True):
        for engine, colour, mark in zip(ENGINES, COLOURS, MARKS, strict=True):
            times = [each["questions"][name][engine]["cpu"] for each in found]
            width = 2.4 if engine == "Elenchus" else 1.2
            part.loglog(sizes, times, color=colour, marker=mark, markersize=4, linewidth=width, label=engine)
        part.set_title(name, fontsize=9)
        part.grid(visible=True, which="major", alpha=0.3)
    for part in parts[:, 0]:
        part.set_ylabel("ms of CPU")
    for part in parts[-1]:
        part.set_xlabel("entries")
    figure.legend(
        *parts[0, 0].get_legend_handles_labels(), loc="outside upper center", ncols=5, frameon=False
    )
    figure.savefig(DOCS / "growth.svg", metadata={"Date": None})


def main(path: Path) -> None:
    """Write both."""
    all_found = json.loads(path.read_text(encoding="utf-8"))
    largest = max(found["entries"] for found in all_found)
    page = DOCS / "performance.md"
    text = page.read_text(encoding="utf-8")
    for setting in ("usual", "tuned"):
        for found in all_found:
            if found["setting"] == setting and found["entries"] == largest:
                begin, end = f"<!-- figures, {setting} -->\n", "<!-- end of figures -->"
                pattern = re.compile(re.escape(begin) + ".*?" + re.escape(end), re.DOTALL)
                shown = f"{begin}\n{table(found)}\n\n{end}"
                text = pattern.sub(lambda _, shown=shown: shown, text)
    page.write_text(text, encoding="utf-8")
    growth(all_found)


if __name__ == "__main__":
    main(Path(sys.argv[1]))
