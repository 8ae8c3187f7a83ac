"""Made-up sites: what their entries are made of, and whole ones in memory."""

from __future__ import annotations

import os
import random
import resource
import subprocess
import tempfile
import time
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import NamedTuple

import elenchus
from elenchus.engine.columns.build import build
from elenchus.errors import Place
from elenchus.schema.record import Raw, Record
from elenchus.schema.terms import TermRow

LEVELS = ("possible", "probable", "confirmed")
WORDS = [
    "seal",
    "limpet",
    "dunlin",
    "tide",
    "storm",
    "kelp",
    "shore",
    "ledge",
    "marsh",
    "eelgrass",
    "count",
    "survey",
    "night",
    "pup",
    "flock",
    "wrack",
]
HABITATS = [f"h{top}" for top in range(8)] + [f"h{top}-{sub}" for top in range(8) for sub in range(6)]
SPECIES = [f"s{number:03}" for number in range(300)]
NOW = datetime(2026, 6, 15, 9, tzinfo=UTC)
SITE = """
[site]
timezone = "UTC"
clock = 2026-06-15T09:00:00
[sources.none]
read = "markdown"
path = "."
kind = "sighting"
[kinds.report]
[kinds.sighting.fields]
individuals = { type = "integer" }
certainty = { type = "choice", choices = ["possible", "probable", "confirmed"] }
[taxonomies.habitat]
tree = true
[taxonomies.species]
"""


SITE_OF_FILES = """
[site]
title = "Skerry Bay"
address = "https://skerrybay.example/"
timezone = "UTC"
clock = 2026-06-15T09:00:00
[sources.notebook]
read = "markdown"
path = "notebook"
[kinds.sighting]
address = "sightings/{slug}/"
[kinds.sighting.fields]
individuals = { type = "integer" }
certainty = { type = "choice", choices = ["possible", "probable", "confirmed"] }
"""


class Row(NamedTuple):
    """An entry; ``moment`` is its date to the minute."""

    id: str
    kind: str
    title: str
    moment: datetime
    individuals: int
    certainty: int
    habitat: list[str]
    species: list[str]


def entries(count: int) -> list[Row]:
    """Return entries, the same for the same count."""
    draw = random.Random(7)  # noqa: S311 - nothing here is secret
    return [
        Row(
            f"e{number:07}",
            "sighting" if draw.random() < 0.8 else "report",
            f"{draw.choice(WORDS)} {draw.choice(WORDS)} {draw.randrange(10**6):06}",
            NOW - timedelta(minutes=draw.randrange(5 * 365 * 24 * 60)),
            draw.randrange(500),
            draw.randrange(3),
            sorted({draw.choice(HABITATS) for _ in range(draw.randrange(1, 3))}),
            sorted({SPECIES[int(300 * draw.random() ** 3)] for _ in range(draw.randrange(3))}),
        )
        for number in range(count)
    ]


def site_of(rows: Iterable[Row]) -> elenchus.Site:
    """Return entries as a site that stands in memory."""
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "elenchus.toml").write_text(SITE, encoding="utf-8")
        site = elenchus.open_site(folder, index=False)
    place = Place("made-up")
    records = (
        Record(
            place,
            row.kind,
            row.id,
            {
                "id": Raw(row.id),
                "title": Raw(row.title),
                "date": Raw(row.moment.strftime("%Y-%m-%dT%H:%M")),
                "individuals": Raw(row.individuals),
                "certainty": Raw(LEVELS[row.certainty]),
                "habitat": Raw(row.habitat),
                "species": Raw(row.species),
            },
        )
        for row in rows
    )
    terms = {
        "habitat": [
            TermRow(name, name, place, name.partition("-")[0] if "-" in name else "") for name in HABITATS
        ],
        "species": [TermRow(name, name, place) for name in SPECIES],
    }
    site.content.__dict__["dataset"] = build(site.definition.schema, records, terms, site.clock.zone)
    return site


def spent(command: Sequence[str], folder: Path | None = None) -> tuple[float, float]:
    """Return the processor's time of a command and of all that it starts, and the time by the clock.

    Raises CalledProcessError.
    """
    settings = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
    before, started = resource.getrusage(resource.RUSAGE_CHILDREN), time.perf_counter()
    subprocess.run(command, cwd=folder, env=settings, capture_output=True, check=True)
    clock, after = time.perf_counter() - started, resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime, clock
