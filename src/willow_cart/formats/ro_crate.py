"""RO-Crate metadata: what a destination contains and which haul fetched it (JSON-LD).

RO-Crate 1.1. A crate says more than a list of files: its actions tie every file to the haul that
fetched it, with the command, the program and the time.
"""

from __future__ import annotations

import mimetypes
from collections.abc import Iterator, Mapping
from itertools import groupby
from operator import itemgetter
from urllib.parse import quote

from willow_cart.ledger.entries import Arrival
from willow_cart.ledger.ledger import PRESENT, Ledger
from willow_cart.units import json_text

_SPECIFICATION = "https://w3id.org/ro/crate/1.1"
# The terms of the specification have no SHA-256; schema.org has had one since its version 12.
_CONTEXT = [f"{_SPECIFICATION}/context", {"sha256": "https://schema.org/sha256"}]
_DONE, _FAILED = (f"http://schema.org/{word}ActionStatus" for word in ("Completed", "Failed"))

_RUNS = (
    "SELECT id, command, started, ended, exit_code, note, software FROM run"
    " WHERE id IN (SELECT run FROM arrival) ORDER BY id"
)
_BROUGHT = f"SELECT run, path FROM arrival WHERE {PRESENT} ORDER BY run, path"


def crate_lines(ledger: Ledger) -> Iterator[str]:
    """Yield the lines of `ro-crate-metadata.json`."""
    yield f'{{"@context": {json_text(_CONTEXT)}, "@graph": ['
    descriptor = {
        "@id": "ro-crate-metadata.json",
        "@type": "CreativeWork",
        "conformsTo": {"@id": _SPECIFICATION},
        "about": {"@id": "./"},
    }
    yield f"{json_text(descriptor)},"
    runs = [dict(run) for run in ledger.each_row(_RUNS)]
    root = {
        "@id": "./",
        "@type": "Dataset",
        "name": _name(runs),
        "description": "Downloaded files and their origins",
        "datePublished": max((run["ended"] or run["started"] for run in runs), default=""),
        "license": "not recorded; see the terms of each file's source",
        "mentions": [{"@id": _run_id(run)} for run in runs],
    }
    parts = (_reference(arrival.path) for arrival in ledger.latest_arrivals())
    yield from _with_list(root, "hasPart", parts)
    for arrival in ledger.latest_arrivals():
        yield f",{json_text(_file(arrival))}"
    for software in sorted({run["software"] for run in runs if run["software"]}):
        yield f",{json_text(_application(software))}"
    actions = {run["id"]: _action(run) for run in runs}
    for number, those in groupby(ledger.each_row(_BROUGHT), key=itemgetter("run")):
        yield ","
        fetched = (_reference(path) for _, path in those)
        yield from _with_list(actions.pop(number), "result", fetched)
    for action in actions.values():  # their files were renewed since
        yield f",{json_text({**action, 'result': []})}"
    yield "]}"


def _with_list(entity: Mapping[str, object], name: str, items: Iterator[str]) -> Iterator[str]:
    """Yield an entity with a property that is a list, which may be long."""
    yield f'{json_text(entity)[:-1]}, "{name}": ['
    comma = ""
    for item in items:
        yield f"{comma}{item}"
        comma = ","
    yield "]}"


def _name(runs: list[dict[str, str]]) -> str:
    notes = [run["note"] for run in runs if run["note"]]
    return notes[-1] if notes else "A folder of files"


def _reference(path: str) -> str:
    return json_text({"@id": quote(path)})


def _file(arrival: Arrival) -> dict[str, object]:
    """Return a file entity (RO-Crate 1.1, "Data Entities"): sizes are texts, paths are encoded."""
    media_type, packing = mimetypes.guess_type(arrival.path, strict=False)
    return {
        "@id": quote(arrival.path),
        "@type": "File",
        "name": arrival.path.rpartition("/")[2],
        "contentSize": str(arrival.size),
        "sha256": arrival.sha256,
        "contentUrl": arrival.address,
        "sdDatePublished": arrival.time,
        "description": f"checked by {arrival.verdict}",
        **({"encodingFormat": media_type} if media_type and not packing else {}),
        **({"license": arrival.licence} if arrival.licence else {}),
        **({"citation": arrival.citation} if arrival.citation else {}),
    }


def _application(software: str) -> dict[str, object]:
    name, _, version = software.partition(" ")
    return {
        "@id": f"#{quote(software)}",
        "@type": "SoftwareApplication",
        "name": name,
        "version": version,
    }


def _run_id(run: Mapping[str, object]) -> str:
    return f"#haul-{run['id']}"


def _action(run: Mapping[str, object]) -> dict[str, object]:
    """Return an action entity (RO-Crate 1.1, "Provenance of entities")."""
    action = {
        "@id": _run_id(run),
        "@type": "CreateAction",
        "name": f"Haul {run['id']}",
        "description": " | ".join(str(run[part]) for part in ("note", "command") if run[part]),
        "startTime": run["started"],
        "actionStatus": _DONE if run["exit_code"] == 0 else _FAILED,
    }
    if run["ended"]:
        action["endTime"] = run["ended"]
    if run["software"]:
        action["instrument"] = {"@id": f"#{quote(str(run['software']))}"}
    return action
