"""Manifests of a destination in open standards, for other programs and for reports."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Iterator
from enum import StrEnum

from willow_cart.addresses import host_of, looks_like_address, name_of
from willow_cart.formats.ro_crate import crate_lines
from willow_cart.ledger.entries import Arrival
from willow_cart.ledger.ledger import Ledger
from willow_cart.structs import Record, field
from willow_cart.units import count_of, format_size, json_text
from willow_cart.version import __version__

# Files that a section of a report lists.
_MAX_LISTED = 20

# Data Package, "name": these alone, in lower case.
_NOT_IN_NAMES = re.compile(r"[^a-z0-9._/-]+")


class Manifest(StrEnum):
    """The formats of manifests."""

    SHA256SUMS = "sha256sums"
    """A checksum list as sha256sum(1) checks it."""
    DATAPACKAGE = "datapackage"
    """A Data Package descriptor, as JSON."""
    MARKDOWN = "markdown"
    """A section on data sources for a report, with a table of the files if they are few."""
    RO_CRATE = "ro-crate"
    """The metadata of an RO-Crate, as JSON-LD: which haul fetched which file."""

    def lines(self, ledger: Ledger, run: int | None = None) -> Iterator[str]:
        """Yield the lines of the manifest of a ledger.

        Args:
            run: of which haul; None for all that is there. An RO-Crate always describes all hauls.
        """
        if self is Manifest.RO_CRATE:
            return crate_lines(ledger)
        arrivals = ledger.latest_arrivals() if run is None else ledger.arrivals_of(run)
        return _WRITERS[self](arrivals)


def sha256_sums(arrivals: Iterable[Arrival]) -> Iterator[str]:
    """Yield a SHA256SUMS list (GNU coreutils, "md5sum invocation"); odd names are escaped."""
    for arrival in arrivals:
        escaped = arrival.path.replace("\\", "\\\\").replace("\n", "\\n").replace("\r", "\\r")
        mark = "\\" if escaped != arrival.path else ""
        yield f"{mark}{arrival.sha256}  {escaped}"


def data_package(arrivals: Iterable[Arrival]) -> Iterator[str]:
    """Yield a Data Package descriptor, version 1.

    It is a descriptor whose resources have path, bytes, hash and sources.
    """
    yield '{"profile": "data-package", "resources": ['
    names: Counter[str] = Counter()
    comma = ""
    for arrival in arrivals:
        name = _NOT_IN_NAMES.sub("-", arrival.path.lower()).strip("-") or "file"
        names[name] += 1
        resource: dict[str, object] = {
            "name": name if names[name] == 1 else f"{name}-{names[name]}",
            "path": arrival.path,
            "bytes": arrival.size,
            "hash": f"sha256:{arrival.sha256}",
            "sources": [{"title": name_of(arrival.address), "path": arrival.address}],
            "retrieved": arrival.time,
            "verdict": arrival.verdict,
        }
        if arrival.licence:
            is_address = looks_like_address(arrival.licence)
            resource["licenses"] = [{"path" if is_address else "name": arrival.licence}]
        if arrival.citation:
            resource["citation"] = arrival.citation
        yield f"{comma}{json_text(resource)}"
        comma = ","
    yield "]}"


class _Place(Record):
    """The files from one host.

    Attributes:
        files: how many files.
        times: of the first and the last arrival.
        verdicts: the number of files by way of verification.
        licences, citations: how many files their catalogues say these of.
    """

    files: int = 0
    bytes: int = 0
    times: tuple[str, str] = ("9", "")
    verdicts: Counter[str] = field(default_factory=Counter)
    licences: Counter[str] = field(default_factory=Counter)
    citations: Counter[str] = field(default_factory=Counter)

    def add(self, arrival: Arrival) -> None:
        """Count a file."""
        self.files += 1
        self.bytes += arrival.size
        first, last = self.times
        self.times = (min(first, arrival.time), max(last, arrival.time))
        self.verdicts[arrival.verdict] += 1
        for said, counts in ((arrival.licence, self.licences), (arrival.citation, self.citations)):
            if said and (said in counts or len(counts) < _MAX_LISTED):
                counts[said] += 1


def _markdown(arrivals: Iterable[Arrival]) -> Iterator[str]:
    places: defaultdict[str, _Place] = defaultdict(_Place)
    listed: list[Arrival] = []
    count = 0
    for arrival in arrivals:
        places[host_of(arrival.address) or "this machine"].add(arrival)
        count += 1
        if count <= _MAX_LISTED:
            listed.append(arrival)
    yield "## Data sources"
    yield ""
    for host, place in sorted(places.items()):
        first, last = (moment[:10] for moment in place.times)
        when = f"on {first}" if first == last else f"between {first} and {last}"
        proofs = "; ".join(
            f"{count:,} checked by {how}" for how, count in place.verdicts.most_common()
        )
        yield (
            f"- {count_of(place.files, 'file')} ({format_size(place.bytes)}) from {host}, retrieved"
            f" {when} (UTC): {proofs}."
        )
        for what, counts in (("Licence", place.licences), ("Cite as", place.citations)):
            for said, number in counts.most_common():
                of = "" if number == place.files else f" ({count_of(number, 'file')})"
                yield f"  - {what}: {_plain(said)}{of}"
    yield ""
    if count <= _MAX_LISTED:
        yield from _table_of(listed)
        yield ""
    yield (
        f"Retrieved and recorded with willow-cart {__version__}; the ledger beside the data has the"
        " address, time, size and SHA-256 of every file."
    )
    if count > _MAX_LISTED:
        yield (
            f"The {count:,} files are listed with their SHA-256 in `SHA256SUMS`, which"
            " `willow-cart receipt --manifest sha256sums` prints."
        )


def _plain(text: str) -> str:
    """Return what a catalogue says as plain text in one line of Markdown."""
    return re.sub(r"([\\`*_\[\]<>|#])", r"\\\1", " ".join(text.split()))


def _table_of(arrivals: Iterable[Arrival]) -> Iterator[str]:
    """Yield a table with the facts that distinguish one version of a file from another."""
    yield "| file | address | retrieved (UTC) | modified | version | SHA-256 |"
    yield "| --- | --- | --- | --- | --- | --- |"
    for arrival in arrivals:
        cells = (
            arrival.path, f"<{arrival.address}>", arrival.time[:16].replace("T", " "),
            arrival.modified[:10] or arrival.last_modified or "", arrival.entity_tag or "",
            f"`{arrival.sha256}`",
        )  # fmt: skip
        yield f"| {' | '.join(cell.replace('|', chr(92) + '|') for cell in cells)} |"


_WRITERS: dict[Manifest, Callable[[Iterable[Arrival]], Iterator[str]]] = {
    Manifest.SHA256SUMS: sha256_sums,
    Manifest.DATAPACKAGE: data_package,
    Manifest.MARKDOWN: _markdown,
}
