"""What checks find in SARIF 2.1.0 (OASIS), which systems for the review of changes read."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from elenchus import __version__
from elenchus.checks.records import record
from elenchus.errors import Place
from elenchus.site.keys import SITE_FILE

if TYPE_CHECKING:
    from pathlib import PurePath

    from elenchus.checks.records import CodeRecord
    from elenchus.checks.run import Finding, Report

__all__ = ["as_sarif"]

_SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"


def as_sarif(report: Report, folder: PurePath) -> dict[str, Any]:
    """Return a report as a log of SARIF: a rule for each code that was found, a result for each finding.

    ``folder`` is that of the site as seen from where its files are told, such as the root of a repository.
    """
    numbers = {
        code: at for at, code in enumerate(dict.fromkeys(each.problem.code for each in report.findings))
    }
    driver = {"name": "Elenchus", "version": __version__, "rules": [_rule(record(code)) for code in numbers]}
    driver |= {"informationUri": address} if (address := _own_address()) else {}
    return {
        "$schema": _SCHEMA,
        "version": "2.1.0",
        "runs": [
            {
                "tool": {"driver": driver},
                "columnKind": "unicodeCodePoints",
                "results": [_result(each, numbers[each.problem.code], folder) for each in report.findings],
            }
        ],
    }


def _own_address() -> str:
    """Return the address of the program's own pages, if whoever packaged it has named one."""
    from importlib.metadata import PackageNotFoundError, metadata

    try:
        found = metadata("elenchus").get_all("Project-URL") or []
    except PackageNotFoundError:
        return ""
    return next((each.partition(",")[2].strip() for each in found), "")


def _rule(known: CodeRecord) -> dict[str, Any]:
    """Return what a code means as a rule."""
    return {
        "id": known.code,
        "shortDescription": {"text": " ".join(known.means.split())},
        "fullDescription": {"text": " ".join(f"{known.means} {known.hurts}".split())},
        "help": {"text": " ".join(known.fix.split())},
        "defaultConfiguration": {"level": known.level},
        "properties": {"tags": [known.about]},
    }


def _result(finding: Finding, rule: int, folder: PurePath) -> dict[str, Any]:
    """Return a finding as a result; one that the site accepts is suppressed, with its reason."""
    problem = finding.problem
    found: dict[str, Any] = {
        "ruleId": problem.code,
        "ruleIndex": rule,
        "level": finding.level,
        "message": {"text": problem.sentences},
    }
    place = problem.place or Place(SITE_FILE, 1)  # what is wrong with the site as a whole
    found["locations"] = [{"physicalLocation": _location(place, folder)}]
    if finding.accepted:
        found["suppressions"] = [{"kind": "external", "justification": finding.accepted}]
    return found


def _location(place: Place, folder: PurePath) -> dict[str, Any]:
    """Return a place in the folder of the site, or an address from which content comes."""
    is_address = "://" in place.file
    uri = place.file if is_address else quote((folder / place.file).as_posix())
    return {"artifactLocation": {"uri": uri}, "region": {"startLine": max(place.line, 1)}}
