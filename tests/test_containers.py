"""Containers of the blob dialect: against the emulator of the published rules."""

from __future__ import annotations

import base64
import os
import subprocess
import sys
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

from tests.support.program import files_in, run
from tests.support.servers import free_port, is_up
from willow_cart.addresses import container_on_web
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.demo.store import DemoStore
from willow_cart.errors import ProtocolError
from willow_cart.model import Checksum
from willow_cart.protocols import DirectoryEntry
from willow_cart.protocols.container import read_page
from willow_cart.protocols.store_pages import StorePage, page_by_page

EMULATOR = Path(sys.prefix) / "azurite" / "node_modules" / ".bin" / "azurite-blob"
ACCOUNT = "harrowmere"
KEY = "aGFycm93bWVyZS1tYWRlLXVwLWtleQ=="
KEYS = {
    "2031-05/trap1/img 1+.jpg": b"one",
    "2031-05/trap1/img_2.jpg": b"two",
    "2031-05/trap2/img_1.jpg": b"three",
    "2031-05.csv": b"a,b\n",
    "2031-06/img.jpg": b"June",
    "folder/": b"",
    "Über.csv": b"u",
}


@pytest.fixture(scope="module")
def account(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    """An account with two containers, of which one is open to everybody."""
    if not EMULATOR.exists():
        pytest.skip("azurite is not installed")
    from azure.storage.blob import BlobServiceClient

    folder = tmp_path_factory.mktemp("azurite")
    port = free_port()
    server = subprocess.Popen(
        [str(EMULATOR), "--blobPort", str(port), "--location", str(folder), "--silent",
         "--skipApiVersionCheck", "--disableTelemetry"],
        env={**os.environ, "AZURITE_ACCOUNTS": f"{ACCOUNT}:{KEY}"}, stdout=subprocess.DEVNULL,
    )  # fmt: skip
    try:
        assert is_up(port, server, 30)
        base = f"http://127.0.0.1:{port}/{ACCOUNT}"
        client = BlobServiceClient(base, credential=KEY)
        for name, access in (("traps", None), ("open", "container")):
            container = client.create_container(name, public_access=access)
            for key, content in KEYS.items():
                container.upload_blob(key, content)
        yield base
    finally:
        server.terminate()
        server.wait()


@pytest.fixture(autouse=True)
def secret(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("HOME", str(tmp_path))
    monkeypatch.setenv("TRAPS_KEY", KEY)


SIGNED = ["--user", ACCOUNT, "--account-key", "env:TRAPS_KEY"]


def test_a_container_may_be_written_by_its_account(tmp_path: Path, account: str) -> None:
    base = account.rpartition("/")[0]
    written = [f"az://{ACCOUNT}/traps/2031-05/", "--endpoint", base]
    by_account = run("survey", *written, "--depth", "all", "--csv", *SIGNED, cwd=tmp_path)
    by_address = run(
        "survey", f"{account}/traps/2031-05/", "--depth", "all", "--csv", *SIGNED, cwd=tmp_path
    )
    assert by_account.code == by_address.code == 0, by_account.err
    assert by_account.out == by_address.out
    pasted = f"az://{ACCOUNT}/traps/2031-05/*/img_*.jpg?{shared_access()}"
    hauled = run("haul", pasted, "--endpoint", base, "--into", "d", cwd=tmp_path)
    assert hauled.code == 0, hauled.err
    assert sorted(files_in(tmp_path / "d").values()) == [b"three", b"two"]
    peeked = run("peek", f"az://{ACCOUNT}/open/2031-05.csv", "--endpoint", base, cwd=tmp_path)
    assert peeked.code == 0, peeked.err
    knocked = run("knock", *written, *SIGNED, cwd=tmp_path)
    assert knocked.code == 0, knocked.out
    for words, told in {
        (f"az://{ACCOUNT}",): "no container in the address; write az://ACCOUNT/CONTAINER/PREFIX",
        (f"az://{ACCOUNT}/traps/", f"{account}/traps/"): "do not go with other sources",
    }.items():
        refused = run("survey", *words, cwd=tmp_path)
        assert (refused.code, len(refused.err.splitlines())) == (2, 1), refused.err
        assert told in refused.err
    public = "https://fen.blob.core.windows.net/traps/a%20b/"
    assert container_on_web("AZ://fen/traps/a%20b/", None) == public


def shared_access(**more: Any) -> str:
    from azure.storage.blob import ContainerSasPermissions, generate_container_sas

    until = datetime.now(UTC) + more.get("lasts", timedelta(hours=1))
    permission = ContainerSasPermissions(read=True, list=True)
    return str(
        generate_container_sas(
            ACCOUNT, "traps", account_key=KEY, expiry=until, permission=permission
        )
    )


@pytest.mark.parametrize(
    ("address", "depth", "found", "not_entered"),
    [
        ("", "1", ["2031-05.csv", "Über.csv"], ["2031-05/", "2031-06/", "folder/"]),
        ("2031-05", "all", ["trap1/img 1+.jpg", "trap1/img_2.jpg", "trap2/img_1.jpg"], []),
        ("2031-05/trap", "2", ["trap1/img 1+.jpg", "trap1/img_2.jpg", "trap2/img_1.jpg"], []),
        ("2031-05.csv", "1", ["2031-05.csv"], []),
    ],
)
@pytest.mark.parametrize("way", ["anonymous", "account key", "shared access"])
def test_a_container_is_listed_and_hauled_from_by_every_way_in(
    tmp_path: Path, account: str, way: str, monkeypatch: pytest.MonkeyPatch,
    address: str, depth: str, found: list[str], not_entered: list[str],
) -> None:  # fmt: skip
    monkeypatch.setenv("TRAPS_ACCESS", shared_access())
    name, options = {
        "anonymous": ("open", []),
        "account key": ("traps", SIGNED),
        "shared access": ("traps", ["--shared-access", "env:TRAPS_ACCESS"]),
    }[way]
    everything = [f"{account}/{name}/{address}", "--as", "bucket", "--depth", depth, *options]
    outcome = run("survey", *everything, "--json", cwd=tmp_path)
    assert outcome.code == 0, outcome.err
    offers = outcome.json()["offers"]
    assert [offer["path"] for offer in offers] == found
    assert [each["path"] for each in outcome.json()["not_entered"]] == not_entered
    assert all(offer["checksums"][0].startswith("md5:") for offer in offers)
    haul = run("haul", *everything, "--into", "x", cwd=tmp_path)
    assert haul.code == 0, haul.err
    assert sorted(files_in(tmp_path / "x")) == sorted(found)
    rows = run("receipt", "x", "--json", cwd=tmp_path).json()["files"]
    assert {row["verdict"] for row in rows} == {"md5 from the store, weak"}
    ledger = (tmp_path / "x" / ".willow" / "ledger.db").read_bytes()
    assert KEY.encode() not in ledger
    assert b"sig=" not in ledger


def test_who_is_not_let_in_is_told_why(
    tmp_path: Path, account: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    traps = [f"{account}/traps/", "--as", "bucket"]
    monkeypatch.setenv("TRAPS_ACCESS", shared_access(lasts=-timedelta(hours=1)))
    monkeypatch.setenv("TRAPS_KEY", "d3Jvbmc=")
    for options, said in (
        ([], "--user ACCOUNT and --account-key env:NAME, or --shared-access env:NAME"),
        (SIGNED, "the store refuses the key (403 Auth"),
        (["--shared-access", "env:TRAPS_ACCESS"], "(403 Auth"),
    ):
        outcome = run("survey", *traps, *options, cwd=tmp_path)
        assert (outcome.code, outcome.out) == (1, "")
        assert said in outcome.err
        assert "sig=" not in outcome.err
        # A key or a signature states that it is a container.
        bare = run("survey", traps[0], *options, cwd=tmp_path)
        assert (bare.err == outcome.err) is bool(options)
        knocked = run("knock", *traps, *options, "--json", cwd=tmp_path)
        assert knocked.code == 1
        (failed,) = [each for each in knocked.json() if each["verdict"] == "failed"][:1]
        assert failed["tried"] == "sign-in"
        assert said in f"{failed['found']}; {failed['remedy']}"
    monkeypatch.setenv("TRAPS_KEY", KEY)
    knocked = run("knock", traps[0], *SIGNED, "--json", cwd=tmp_path)
    assert knocked.code == 0, knocked.out
    assert {
        "tried": "sign-in",
        "verdict": "ok",
        "found": "accepted",
        "remedy": "",
    } in knocked.json()
    for key, code in (("not base 64!", 2), (KEY, 1)):
        monkeypatch.setenv("TRAPS_KEY", key)
        gone = run("survey", f"{account}/none/", "--as", "bucket", *SIGNED, cwd=tmp_path)
        assert gone.code == code
        assert len(gone.err.splitlines()) == 1
    near = run("survey", f"{account}/open/2031-07", "--as", "bucket", cwd=tmp_path)
    assert near.code == 2
    assert "not found; nearby: 2031-05/, 2031-06/" in near.err


PAGE = b"""<?xml version="1.0"?><EnumerationResults><Blobs>
<Blob><Name Encoded="true">a%0Ab.csv</Name><Properties><Content-Length>3</Content-Length>
<Last-Modified>Sun, 01 Jun 2031 06:00:00 GMT</Last-Modified>
<Content-MD5>XrY7u+Ae7tCTyyK7j1rNww==</Content-MD5></Properties></Blob>
<BlobPrefix><Name>2031-05/</Name></BlobPrefix>
<Blob><Name>../x</Name><Properties><Content-MD5>?</Content-MD5></Properties></Blob>
</Blobs><NextMarker>next</NextMarker></EnumerationResults>"""


def test_a_page_of_a_listing_is_read() -> None:
    bucket = "https://account.example/traps/"
    (odd, folder, up), marker, _ = read_page(PAGE, bucket)
    assert marker == "next"
    assert odd.address == f"{bucket}a%0Ab.csv"
    assert odd.size == 3
    assert odd.checksums == (Checksum("md5", "5eb63bbbe01eeed093cb22bb8f5acdc3"),)
    assert str(odd.modified) == "2031-06-01 06:00:00+00:00"
    assert folder.is_folder
    assert (up.address, up.size, up.checksums) == (f"{bucket}%2E%2E/x", None, ())
    for content in (b"", b"<html/>"):
        with pytest.raises(ProtocolError):
            read_page(content, bucket)


def test_a_listing_that_comes_to_no_end_is_given_up() -> None:
    asked = []

    def in_a_circle(query: str) -> StorePage:
        asked.append(query)
        return StorePage([DirectoryEntry("s3://b/x")], "ab"[len(asked) % 2])

    pages = page_by_page("s3://b/", {"prefix": "a b"}, "marker", in_a_circle)
    with pytest.raises(ProtocolError, match="repeats the same pages"):
        list(pages)
    assert asked == ["prefix=a%20b", "marker=b&prefix=a%20b"]


def test_the_stand_in_speaks_the_dialect_as_well(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    content = {f"2031-05/img_{n:04d}.jpg": b"%d" % n for n in range(2100)}
    objects = {f"traps/{key}": body for key, body in content.items()}
    monkeypatch.setenv("TRAPS_KEY", base64.b64encode(b"reedmace").decode())
    signed = ["--user", "account", "--account-key", "env:TRAPS_KEY"]
    with DemoStore(objects, secret="account:reedmace") as store:
        traps = [f"{store.base}/account/traps/2031-05", "--as", "bucket", "--depth", "all"]
        assert run("survey", *traps, cwd=tmp_path).code == 1
        found = run("survey", *traps, *signed, "--json", cwd=tmp_path)
        assert found.json()["chosen"] == 2100, found.err
        named = traps[0].replace("http:", "HTTP:")  # the key tells that it is a container
        found = run("survey", named, "--depth", "all", *signed, "--json", cwd=tmp_path)
        assert found.json()["chosen"] == 2100, found.err
        options = [*traps, *signed, "--keep", "img_000?.jpg", "--into", "x"]
        assert run("haul", *options, cwd=tmp_path).code == 0
        assert len(files_in(tmp_path / "x")) == 10


def test_a_pasted_address_with_a_signature_is_that_of_the_container(
    tmp_path: Path, place: StandIn
) -> None:
    listing = (
        b"<?xml version='1.0'?><EnumerationResults><Blobs><Blob><Name>a.csv</Name><Properties>"
        b"<Content-Length>3</Content-Length></Properties></Blob></Blobs></EnumerationResults>"
    )
    signature = "sv=2021-12-02&sp=rl&sig=reedmace%3D"
    query = "comp=list&delimiter=%2F&prefix=&restype=container"
    place.exhibits[f"account/traps?{query}&{signature}"] = Exhibit(listing)
    place.exhibits[f"account/traps/a.csv?{signature}"] = Exhibit(b"one")
    pasted = [f"{place.base}/account/traps?{signature}", "--as", "bucket"]
    survey = run("survey", *pasted, "--json", cwd=tmp_path)
    assert [offer["path"] for offer in survey.json()["offers"]] == ["a.csv"]
    outcome = run("haul", *pasted, "--into", "x", cwd=tmp_path)
    assert outcome.code == 0, outcome.err
    assert files_in(tmp_path / "x") == {"a.csv": b"one"}
    written = outcome.out + outcome.err + survey.out + survey.err
    written += run("receipt", "x", "--json", cwd=tmp_path).out
    assert "reedmace" not in written
