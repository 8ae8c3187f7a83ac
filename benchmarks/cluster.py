"""Ask a dozen questions of a real cluster of Spark with two workers, and kill one of them in the middle.

    .venv/bin/python benchmarks/cluster.py ENTRIES FOLDER [NUMBERS]

So many made-up entries are exported to FOLDER as Parquet, month by month, each month as a site of its own (they
need not fit into memory together); what is there from another run is taken as it is. Then a standalone master
and two workers are started on loopback, each with half of the cores, and every question is asked three times of
them and of DuckDB over the same files, in turns: seconds of wall-clock time, medians. Totals have to agree. At
the end a worker is killed while a question runs; its answer has to be the one that came before. NUMBERS such as
0,8 are those of the questions that are asked, from 0; all of them where none are given.

Spark needs Java 17 or 21. How much memory its processes take is in the variable EXECUTOR (4g by default).
"""

from __future__ import annotations

import json
import os
import shutil
import signal
import socket
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from concurrent.futures import ProcessPoolExecutor
from contextlib import suppress
from datetime import date
from functools import partial
from multiprocessing import get_context
from pathlib import Path
from typing import Any

from tables import QUESTIONS, SITE, megabytes, written

import elenchus
from elenchus.asking.query import Query
from elenchus.tables.export import export

MONTHS = [date(2016 + at // 12, at % 12 + 1, 1) for at in range(120)]
MEMORY = os.environ.get("EXECUTOR", "4g")


def made(folder: Path, count: int, at: int) -> None:
    """Export the entries of one month, from a site that has no others."""
    part = folder / f"part-{at}"
    if (part / "elenchus.json").exists():
        return
    with tempfile.TemporaryDirectory() as name:
        written(Path(name), count // len(MONTHS), prefix=f"m{at}-", month=MONTHS[at])
        export(elenchus.open_site(name, index=False).dataset, str(part))


def exported(folder: Path, count: int) -> None:
    """Export all entries, the months in several processes, and describe them as one snapshot."""
    if (folder / "elenchus.json").exists():
        return
    begun = time.perf_counter()
    with ProcessPoolExecutor(os.cpu_count(), mp_context=get_context("spawn")) as pool:
        list(pool.map(partial(made, folder, count), range(len(MONTHS))))
    told: dict[str, Any] = {}
    for at in range(len(MONTHS)):
        part = folder / f"part-{at}"
        mine = json.loads((part / "elenchus.json").read_text())
        told = told or {**mine, "entries": 0, "files": {}}
        told["entries"] += mine["entries"]
        for table, files in mine["files"].items():
            kept = told["files"].setdefault(table, [])
            if table != "terms" or not kept:
                kept += [f"part-{at}/{each}" for each in files]
    (folder / "elenchus.json").write_text(json.dumps(told))
    size = sum(path.stat().st_size for path in folder.rglob("*.parquet")) / 1e9
    print(
        f"export: {told['entries']} entries in {time.perf_counter() - begun:.0f} s, {size:.2f} GB of Parquet"
    )


# The cluster


def free_port() -> int:
    """Return a port at which nobody listens."""
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        port: int = taken.getsockname()[1]
        return port


def started(home: Path, name: str, *arguments: str) -> subprocess.Popen[bytes]:
    """Start a process of Spark, with a group of its own, so that what it starts can be killed with it."""
    import pyspark

    program = Path(pyspark.__file__).parent / "bin" / "spark-class"
    with (home / f"{name}.log").open("wb") as log:
        return subprocess.Popen(
            [str(program), f"org.apache.spark.deploy.{name.partition('-')[0]}", *arguments],
            stdout=log,
            stderr=log,
            start_new_session=True,
            cwd=home,
        )


def cluster(home: Path, port: int) -> list[subprocess.Popen[bytes]]:
    """Start a master and two workers, and wait until both have come."""
    (home / "spark-defaults.conf").write_text(
        f"spark.executor.memory {MEMORY}\nspark.driver.memory 2g\nspark.driver.host 127.0.0.1\n"
        "spark.sql.shuffle.partitions 8\n"
    )
    os.environ |= {"SPARK_CONF_DIR": str(home), "SPARK_LOCAL_IP": "127.0.0.1", "SPARK_NO_DAEMONIZE": "1"}
    cores = str(max(1, (os.cpu_count() or 2) // 2))
    at = f"spark://127.0.0.1:{port}"
    master = started(home, "master.Master", "--host", "127.0.0.1", "--port", str(port), "--webui-port", "0")
    options = ("--host", "127.0.0.1", "--webui-port", "0", "--cores", cores, "--memory", MEMORY)
    workers = [
        started(home, f"worker.Worker-{number}", *options, "-d", str(home / f"w{number}"), at)
        for number in (1, 2)
    ]
    deadline = time.monotonic() + 60
    while (home / "master.Master.log").read_text().count("Registering worker") < len(workers):
        if time.monotonic() > deadline:
            raise SystemExit((home / "master.Master.log").read_text())
        time.sleep(0.2)
    return [master, *workers]


def killed(process: subprocess.Popen[bytes]) -> None:
    """Kill a process and all that it has started, without a word to anybody."""
    os.killpg(process.pid, signal.SIGKILL)
    process.wait()


def peaks(group: int) -> list[int]:
    """Return how many megabytes each process of a group had at the most."""
    found = []
    for path in Path("/proc").glob("[0-9]*"):
        with suppress(OSError):
            if os.getpgid(int(path.name)) == group:
                told = dict(line.split(":", 1) for line in (path / "status").read_text().splitlines())
                found.append(int(told.get("VmHWM", "0").split()[0]) // 1024)
    return found


# Asking


def asked(site: elenchus.Site, question: str) -> tuple[float, elenchus.Answer]:
    """Ask a question anew; return the seconds that it took, and its answer."""
    site.executor.kept.results.clear()  # type: ignore[attr-defined]
    begun = time.perf_counter()
    found = Query.of(site, question).answer()
    return time.perf_counter() - begun, found


def same(question: str, *answers: elenchus.Answer) -> None:
    """End where answers have other totals, rows or groups."""
    told = [
        (
            each.total,
            [row.id for row in each.rows],
            [(group.label, group.count) for group in each.groups or ()],
        )
        for each in answers
    ]
    if any(each != told[0] for each in told):
        raise SystemExit(f"{question}: {told}")


def interrupted(there: elenchus.Site, worker: subprocess.Popen[bytes], usual: dict[str, float]) -> None:
    """Kill a worker in the middle of the question that takes longest; its answer has to be the same."""
    question = max(usual, key=usual.__getitem__)
    _, before = asked(there, question)
    threading.Timer(usual[question] / 2, killed, [worker]).start()
    seconds, after = asked(there, question)
    if worker.poll() is None:
        raise SystemExit("the question was over before the worker was killed")
    same(question, before, after)
    print(f"\na worker killed in the middle of “{question}”: the same answer after {seconds:.1f} s, "
          f"{usual[question]:.1f} s without that; with one worker {asked(there, question)[0]:.1f} s")  # fmt: skip


def main(count: int, folder: Path, questions: list[str]) -> None:
    """Measure, and print a table in Markdown."""
    folder.mkdir(parents=True, exist_ok=True)
    exported(folder, count)
    with tempfile.TemporaryDirectory() as name:
        home, port = Path(name), free_port()
        (home / "elenchus.toml").write_text(SITE.replace("2026-06-15", "2025-12-20"))
        (home / "notes.jsonl").write_text("")
        processes = cluster(home, port)
        try:
            site = elenchus.open_site(home)
            places = {
                "DuckDB over Parquet": str(folder),
                "Spark, two workers": f"spark://127.0.0.1:{port}{folder}",
            }
            there = {title: site.on(place) for title, place in places.items()}
            print(f"| {count} entries, seconds | {' | '.join(there)} |\n|---|{'---|' * len(there)}")
            usual = {}
            for question in questions:
                times: dict[str, list[float]] = {title: [] for title in there}
                answers = {}
                for _ in range(3):
                    for title, each in there.items():
                        seconds, answers[title] = asked(each, question)
                        times[title].append(seconds)
                same(question, *answers.values())
                usual[question] = statistics.median(times["Spark, two workers"])
                cells = " | ".join(f"{statistics.median(each):.2f}" for each in times.values())
                print(f"| {question} | {cells} |", flush=True)
            had = [sum(peaks(process.pid)) for process in processes[1:]]
            interrupted(there["Spark, two workers"], processes[2], usual)
            print(
                f"this process had {megabytes()} MB at the most, the workers with what they started {had} MB"
            )
        finally:
            for process in processes:
                if process.poll() is None:
                    killed(process)


if __name__ == "__main__":
    numbers = sys.argv[3].split(",") if sys.argv[3:] else range(len(QUESTIONS))
    main(int(sys.argv[1]), Path(sys.argv[2]).resolve(), [QUESTIONS[int(each)] for each in numbers])
    shutil.rmtree("spark-warehouse", ignore_errors=True)
