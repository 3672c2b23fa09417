"""The demo servers, and what they show."""

from __future__ import annotations

import os
import re
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from willow_cart.demo import harrowmere
from willow_cart.demo.dav_outbox import DavOutbox
from willow_cart.demo.field_guide import OLD_CHARSET, OLD_PAGE, make_field_guide
from willow_cart.demo.outbox import Outbox
from willow_cart.demo.portal import IdentityHost, Portal
from willow_cart.demo.ssh_outbox import SshOutbox
from willow_cart.demo.stand_in import PUT_UP, Exhibit, StandIn
from willow_cart.demo.store import DemoStore

MEMBERS = "ida:reedmace"
"""Who is authorised to what is for members of the made-up trust."""


def make_exhibits() -> dict[str, Exhibit]:
    """Return the trust's files, with the faults that the example demonstrates."""
    exhibits = _as_exhibits(harrowmere.make_files())
    for path, exhibit in exhibits.items():
        if path.endswith(".wav"):
            exhibit.speed = 900_000
    # The line breaks in the middle of one recording.
    exhibits["recordings/dawn_20310510.wav"].breaks = [700_000]
    # The server is busy when one day's levels are requested.
    exhibits["levels/2031-05/level_20310507.csv"].refusals = [(503, {"Retry-After": "1"})]
    # One archive is kept where byte ranges are not known.
    exhibits["seasons/2030.zip"].ranges = False
    for path, content in harrowmere.make_site().items():
        exhibits[path] = Exhibit(content, modified=_put_up(path))
    for path, content in make_field_guide().items():
        media_type = OLD_CHARSET if path == OLD_PAGE else ""
        is_page = path.endswith((".html", "/")) or "/log" in path
        exhibits[path] = Exhibit(content, media_type=media_type or ("text/html" if is_page else ""))
    # An archive has been taken down, and the server says so in a page that claims to be it.
    gone = b"<!doctype html><title>Season 2027: please ask the office</title><p>Taken down."
    exhibits["seasons/2027.zip"] = Exhibit(gone, media_type="text/html")
    exhibits["members/bitterns_2031.csv"] = Exhibit(
        b"date,hide,bitterns\n2031-05-10,alder,2\n", members=MEMBERS
    )
    return exhibits


def _put_up(path: str) -> float:
    """Return when the trust published a file: on the first of the following month."""
    if not (found := re.search(r"/(20\d\d)-(\d\d)/", path)):
        return PUT_UP
    year, month = int(found[1]), int(found[2])
    return datetime(year + month // 12, month % 12 + 1, 1, 6, tzinfo=UTC).timestamp()


@dataclass(frozen=True, slots=True)
class Places:
    """The addresses of the demo servers.

    Attributes:
        web: of the trust's web server, without a slash at the end.
        contractor: of the contractor's FTP server, likewise.
        store: of the object store, likewise.
        portal: of the portal for members, who fill in a form, likewise.
        records: of the ringing scheme, for programs with tokens, likewise.
        nests: of the nest register, likewise, and of the host that vouches for its users.
        shared: of a partner's WebDAV server, likewise.
        ssh: of the contractor's SFTP server, likewise, and the fingerprint of its key.
        outbox: the folder that the contractor's servers show.
    """

    web: str
    contractor: str
    store: str
    portal: str
    records: str
    nests: tuple[str, str]
    shared: str
    ssh: tuple[str, str]
    outbox: Path

    @property
    def sign_ins(self) -> str:
        """What a config file has to say of the places that ask for a sign-in."""
        nests, people = self.nests
        return (
            f'[sign_in.portal]\nat = "{self.portal}"\nform = "{self.portal}/login"\n'
            'user = "ida"\npassword_env = "FEN_PASSWORD"\n'
            f'\n[sign_in.ringing]\nat = "{self.records}"\n'
            f'token_address = "{self.records}/token"\n'
            f'client = "{Portal.client}"\nclient_secret_env = "RINGING_SECRET"\n'
            f'\n[sign_in.people]\nat = "{people}"\nonly_from = "{nests}"\n'
            'user = "ida"\npassword_env = "FEN_PASSWORD"\n'
        )

    @property
    def ssh_options(self) -> list[str]:
        """What lets the user in to the SFTP server."""
        return ["--user", "ida", "--password", "env:FEN_PASSWORD", "--host-key", self.ssh[1]]


@contextmanager
def open_places(folder: Path, port: int = 0) -> Iterator[Places]:
    """Start all demo servers, and write lists into the folder of the example.

    Args:
        folder: where the lists go.
        port: of the web server; 0 takes a free one.
    """
    with (
        StandIn(make_exhibits(), port) as trust,
        tempfile.TemporaryDirectory() as root,
        Outbox(Path(root)) as contractor,
        DemoStore(harrowmere.make_bucket()) as store,
        Portal(_as_exhibits(harrowmere.make_members())) as portal,
        Portal(_as_exhibits(harrowmere.make_records())) as records,
        IdentityHost() as people,
        Portal(_as_exhibits(harrowmere.make_nests()), identity=people.base) as nests,
        DavOutbox(_as_exhibits(harrowmere.make_shared())) as shared,
        SshOutbox(Path(root), Portal.account, Portal.password) as ssh,
    ):
        catalogue = harrowmere.make_catalogue(trust.base)
        portal.exhibits["catalogue"] = Exhibit(catalogue, media_type="application/geo+json")
        trust.exhibits["news.xml"] = Exhibit(harrowmere.make_feed(trust.base))
        for path, content in harrowmere.make_outbox().items():
            file = Path(root, path)
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_bytes(content)
            os.utime(file, (PUT_UP, PUT_UP))
        folder.mkdir(parents=True, exist_ok=True)
        (folder / "addresses.txt").write_bytes(harrowmere.make_address_list(trust.base))
        (folder / "archive.csv").write_bytes(harrowmere.make_table(trust.base))
        errand = harrowmere.make_errand(trust.base, contractor.base)
        (folder / "report.toml").write_bytes(errand)
        yield Places(
            web=trust.base,
            contractor=contractor.base,
            store=store.base,
            portal=portal.base,
            records=records.base,
            nests=(nests.base, people.base),
            shared=shared.base,
            ssh=(ssh.base, ssh.fingerprint),
            outbox=Path(root, "outbox"),
        )


def _as_exhibits(files: harrowmere.Files) -> dict[str, Exhibit]:
    return {path: Exhibit(content) for path, content in files.items()}
