"""Every proof that a place offers: right, wrong and absent."""

from __future__ import annotations

import base64
import hashlib
import sqlite3
import zlib
from collections.abc import Mapping
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from tests.support.program import files_in, run, start, wait_for_bytes
from tests.support.stores import independent_store
from willow_cart.checks.digests import RunningDigest, proves_composite, read_checksum, verdict_of
from willow_cart.demo.stand_in import Exhibit, StandIn, StandInHandler
from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.opening import ledger_path
from willow_cart.ledger.schema import VERSION
from willow_cart.model import Checksum, Origin
from willow_cart.protocols.web_delivery import composite_of, promised_by_server, promised_by_store

CONTENT = b"time,level\n2031-05-01T00:00,1.17\n" * 40


def digest(algorithm: str, content: bytes = CONTENT) -> str:
    return base64.b64encode(hashlib.new(algorithm, content).digest()).decode()


def in_hex(*algorithms: str) -> list[str]:
    return [f"{each}:{hashlib.new(each, CONTENT).hexdigest()}" for each in algorithms]


@pytest.mark.parametrize(
    ("fields", "found"),
    [
        ({"Repr-Digest": f"sha-256=:{digest('sha256')}:"}, in_hex("sha256")),
        (
            {"Repr-Digest": f"sha-512=:{digest('sha512')}:, sha-256=:{digest('sha256')}:"},
            in_hex("sha512", "sha256"),
        ),
        ({"Content-Digest": f"sha-256=:{digest('sha256')}:"}, in_hex("sha256")),
        ({"Digest": f"SHA-256={digest('sha256')},md5={digest('md5')}"}, in_hex("sha256", "md5")),
        ({"Content-MD5": digest("md5")}, in_hex("md5")),
        ({"Repr-Digest": "sha-256=:AAAA:"}, []),  # not as long as one
        ({"Repr-Digest": "unixsum=:AAAA:, adler=:AAAAAA==:"}, []),
        ({"Digest": "sha-256"}, []),
        ({"Content-MD5": "no base 64"}, []),
        ({"ETag": f'"{hashlib.md5(CONTENT).hexdigest()}"'}, []),  # may be anything here
    ],
)
def test_what_servers_promise_is_read_by_the_rules(
    fields: Mapping[str, str], found: list[str]
) -> None:
    assert [str(each) for each in promised_by_server(fields, whole=True)] == found
    of_part = promised_by_server(fields, whole=False)
    assert [str(each) for each in of_part] == (
        [] if {"Content-Digest", "Content-MD5"} & {*fields} else found
    )


MD5 = hashlib.md5(CONTENT).hexdigest()


@pytest.mark.parametrize(
    ("fields", "found", "composite"),
    [
        ({"ETag": f'"{MD5}"'}, in_hex("md5"), None),
        ({"ETag": f'"{MD5}-3"'}, [], (MD5, 3)),
        ({"ETag": f'"{MD5}"', "x-amz-server-side-encryption": "aws:kms"}, [], None),
        ({"ETag": f'"{MD5}"', "x-amz-server-side-encryption": "AES256"}, in_hex("md5"), None),
        ({"ETag": '"not-a-sum"'}, [], None),
        ({"x-amz-checksum-sha256": digest("sha256")}, in_hex("sha256"), None),
        ({"x-amz-checksum-sha256": digest("sha256") + "-3"}, [], None),
        ({"x-goog-hash": f"crc32c=4waSgw==, md5={digest('md5')}"},
         ["crc32c:e3069283", *in_hex("md5")], None),
    ],
)  # fmt: skip
def test_what_stores_promise_is_read_too(
    fields: Mapping[str, str], found: list[str], composite: tuple[str, int] | None
) -> None:
    assert [str(each) for each in promised_by_store(fields)] == found
    assert composite_of(fields) == composite


def test_sums_of_stores_are_measured_like_others(tmp_path: Path) -> None:
    content = b"123456789" * 200_000
    with (tmp_path / "x").open("w+b", buffering=0) as file:
        running = RunningDigest(["crc32", "crc32c"])
        for at in range(0, len(content), 100_000):
            file.write(content[at : at + 100_000])
            running.add(content[at : at + 100_000], file.fileno())
        running.settle()
    assert running.checksums()["crc32"] == Checksum("crc32", f"{zlib.crc32(content):08x}")
    assert read_checksum("crc32c:E3069283").digest == "e3069283"
    short = RunningDigest(["crc32c"])
    short.add(b"123456789", -1)
    assert short.checksums()["crc32c"].digest == "e3069283", "the check value of RFC 3720"


def test_verdicts_name_the_strongest_proof_and_call_the_weak_ones_so() -> None:
    md5 = Checksum("md5", MD5, Origin.STORE)
    sha = Checksum("sha256", "0" * 64, Origin.SERVER)
    assert verdict_of([md5, sha], 5) == "sha256 from the server"
    assert verdict_of([md5], 5) == "md5 from the store, weak"
    assert verdict_of([], 5) == "length only"
    assert verdict_of([], None) == "nothing"


def test_an_object_in_parts_is_proved_if_the_size_of_its_parts_is_usual(tmp_path: Path) -> None:
    content = bytes(range(256)) * 4096 * 12  # 12 MiB
    (tmp_path / "x").write_bytes(content)
    for size, proved in ((5 << 20, True), (8 << 20, True), (7_000_001, False)):
        parts = [content[at : at + size] for at in range(0, len(content), size)]
        sums = b"".join(hashlib.md5(part).digest() for part in parts)
        mark = hashlib.md5(sums).hexdigest()
        with (tmp_path / "x").open("rb") as file:
            assert proves_composite(file, mark, len(parts)) == proved
            assert not proves_composite(file, "0" * 32, len(parts))


def promising(value: str, content: bytes = CONTENT) -> Exhibit:
    """A file whose server promises something, which holds as far as it goes."""

    def script(handler: StandInHandler) -> None:
        fields = {"Content-Length": str(len(content)), "ETag": '"1"'}
        if value:
            fields["Repr-Digest"] = value
        handler.start(200, fields)
        handler.wfile.write(content)

    return Exhibit(script=script)


def rows(into: Path) -> dict[str, Any]:
    found = run("receipt", into.name, "--json", cwd=into.parent).json()["files"]
    return {row["path"]: row for row in found}


def test_a_server_s_own_promise_is_held_against_what_comes(tmp_path: Path, place: StandIn) -> None:
    right, wrong = f"sha-256=:{digest('sha256')}:", f"sha-256=:{digest('sha256', b'x')}:"
    place.exhibits |= {
        "right.csv": promising(right), "wrong.csv": promising(wrong), "none.csv": promising(""),
    }  # fmt: skip
    haul = ["haul", f"{place.base}/{{right,wrong,none}}.csv"]
    outcome = run(*haul, "--into", "x", cwd=tmp_path)
    assert outcome.code == 4
    assert "from the server; two downloads agreed" in outcome.err
    assert "two downloads agreed; kept in x/.willow/refused/wrong.csv" in outcome.err
    asked = [each.path for each in place.requests if each.status == 200]
    assert asked.count("/wrong.csv") == 2
    assert files_in(tmp_path / "x") == {"right.csv": CONTENT, "none.csv": CONTENT}
    told = rows(tmp_path / "x")
    assert told["right.csv"]["verdict"] == "sha256 from the server"
    assert told["none.csv"]["verdict"] == "length only"

    place.requests.clear()
    outcome = run(*haul, "--into", "y", "--must-check", cwd=tmp_path)
    assert outcome.code == 4
    assert files_in(tmp_path / "y") == {"right.csv": CONTENT}
    assert "none.csv: no checksum known; give a list with --checksums" in outcome.err
    assert rows(tmp_path / "y")["none.csv"]["received"] == 0, "it is not even fetched"


def test_a_file_that_comes_wrong_once_comes_right_the_second_time(
    tmp_path: Path, place: StandIn
) -> None:
    served: list[int] = []

    def spoil_once(handler: StandInHandler) -> None:
        served.append(1)
        content = CONTENT if len(served) > 1 else CONTENT[::-1]
        handler.start(200, {"Content-Length": str(len(content)), "ETag": '"1"'})
        handler.wfile.write(content)

    place.exhibits["a.csv"] = Exhibit(script=spoil_once)
    (tmp_path / "SUMS").write_text(f"{hashlib.sha256(CONTENT).hexdigest()}  a.csv\n")
    outcome = run("haul", f"{place.base}/a.csv", "--into", "x", "--checksums", "SUMS", cwd=tmp_path)
    assert outcome.code == 0, outcome.err
    assert files_in(tmp_path / "x") == {"a.csv": CONTENT}
    assert not (tmp_path / "x" / ".willow" / "refused").exists()


def test_what_was_promised_before_a_kill_is_held_against_the_whole(
    tmp_path: Path, place: StandIn
) -> None:
    content = CONTENT * 3000

    def slowly(handler: StandInHandler) -> None:
        exhibit = Exhibit(content, '"1"', speed=2e6)
        if "Range" not in handler.headers:
            promise = digest("sha256", content[::-1])
            handler.start(
                200,
                {"Content-Length": str(len(content)), "ETag": '"1"',
                 "Repr-Digest": f"sha-256=:{promise}:"},
            )  # fmt: skip
            handler._send(exhibit, memoryview(content))
        else:
            handler.serve(exhibit)

    place.exhibits["a.csv"] = Exhibit(script=slowly)
    haul = ["haul", f"{place.base}/a.csv", "--into", "x"]
    process = start(*haul, cwd=tmp_path)
    wait_for_bytes(tmp_path / "x", 1_000_000, process)
    process.kill()
    process.communicate()
    outcome = run(*haul, cwd=tmp_path)
    assert outcome.code == 4
    assert "from the server; two downloads agreed" in outcome.err
    assert files_in(tmp_path / "x") == {}


def test_an_independent_store_proves_its_objects(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    with independent_store(monkeypatch, tmp_path) as (base, client):
        client.create_bucket(Bucket="traps")
        client.put_object(Bucket="traps", Key="one.csv", Body=CONTENT)
        client.put_object(Bucket="traps", Key="sum.csv", Body=CONTENT, ChecksumAlgorithm="SHA256")
        upload = client.create_multipart_upload(Bucket="traps", Key="parts.bin")["UploadId"]
        pieces = [bytes([n]) * (5 << 20) for n in range(2)] + [b"end"]
        tags = [
            client.upload_part(
                Bucket="traps", Key="parts.bin", UploadId=upload, PartNumber=n, Body=piece
            )["ETag"]
            for n, piece in enumerate(pieces, 1)
        ]
        parts = [{"ETag": tag, "PartNumber": n} for n, tag in enumerate(tags, 1)]
        client.complete_multipart_upload(
            Bucket="traps", Key="parts.bin", UploadId=upload, MultipartUpload={"Parts": parts}
        )
        haul = ["haul", "s3://traps", "--endpoint", base, "--into", "x", "--must-check"]
        outcome = run(*haul, cwd=tmp_path)
        assert outcome.code == 0, outcome.err
        told = {path: row["verdict"] for path, row in rows(tmp_path / "x").items()}
        assert told == {
            "one.csv": "md5 from the store, weak",
            "sum.csv": "sha256 from the store",
            "parts.bin": "md5 of its 3 parts from the store, weak",
        }
        assert files_in(tmp_path / "x")["parts.bin"] == b"".join(pieces)


def test_lists_beside_the_files_are_found_and_not_trusted_blindly(
    tmp_path: Path, place: StandIn
) -> None:
    place.exhibits |= {f"levels/{n}.csv": Exhibit(b"level %d" % n) for n in range(3)}
    sums = "".join(f"{hashlib.sha256(b'level %d' % n).hexdigest()} *{n}.csv\n" for n in range(3))
    place.exhibits["levels/sha256sums.txt"] = Exhibit(sums.encode())
    for name in ("a", "b"):
        place.exhibits[f"maps/{name}.png"] = Exhibit(name.encode())
        own = hashlib.md5(name.encode()).hexdigest()
        place.exhibits[f"maps/{name}.png.md5"] = Exhibit(own.encode())
    place.exhibits["bare/x.csv"] = Exhibit(b"x")
    # A place that answers whatever it is asked for, with a page.
    page = Exhibit(b"<!doctype html><title>Oh</title>", media_type="text/html")
    place.exhibits["bare/SHA256SUMS"] = page
    (tmp_path / "list.txt").write_text("".join(
        f"{place.base}/{path}\n" for path in
        ("levels/0.csv", "levels/1.csv", "levels/2.csv", "maps/a.png", "maps/b.png", "bare/x.csv")
    ))  # fmt: skip
    haul = ["haul", "list.txt", "--into", "x", "--find-checksums"]
    outcome = run(*haul, cwd=tmp_path)
    assert outcome.code == 0, outcome.err
    assert (
        f"{place.base}/levels/sha256sums.txt has 3 checksums; it comes from the same server as"
        " the files, so it does not protect against changes there"
    ) in outcome.err
    assert "1 file of 6 has no checksum in the lists" in outcome.err
    told = {path: row["verdict"] for path, row in rows(tmp_path / "x").items()}
    assert told == {
        **{f"levels/{n}.csv": "sha256 from a checksum list" for n in range(3)},
        **{f"maps/{name}.png": "md5 from a checksum list, weak" for name in "ab"},
        "bare/x.csv": "length only",
    }
    asked = [each.path for each in place.requests if each.path.startswith("/bare/x.csv.")]
    assert len(asked) == 4, "one file is asked for each ending, and no more"


FIRST_LEDGER = Path(__file__).parent / "support" / "first_ledger.sql"


def test_the_first_ledger_is_taken_up_and_gone_on_with(tmp_path: Path, place: StandIn) -> None:
    path = ledger_path(tmp_path / "x")
    path.parent.mkdir(parents=True)
    place.exhibits["levels/a.csv"] = Exhibit(CONTENT)
    with closing(sqlite3.connect(path)) as base:
        base.executescript(FIRST_LEDGER.read_text().replace("http://127.0.0.1:1", place.base))
    (tmp_path / "x" / "levels").mkdir()
    (tmp_path / "x" / "levels" / "a.csv").write_bytes(CONTENT)
    outcome = run("haul", f"{place.base}/levels/a.csv", "--into", "x", cwd=tmp_path)
    assert outcome.code == 0, outcome.err
    receipt = run("receipt", "x", "--run", "1", cwd=tmp_path)
    assert receipt.code == 0
    assert "1 already here" in receipt.last_line, "its words are told of a code by now"
    assert '"state": "here"' in run("receipt", "x", "--run", "1", "--json", cwd=tmp_path).out
    with Ledger(path) as ledger:
        assert ledger.rows("PRAGMA user_version")[0][0] == VERSION
        assert ledger.parts() == {}
