"""Whether two addresses are the same file's is decided by all of them, never by what is shown."""

from __future__ import annotations

import csv
import hashlib
import json
import random
import shutil
import sqlite3
import uuid
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.support.program import files_in, run
from tests.support.raw_server import Answer, RawServer, Request, answer
from willow_cart.addresses import normalise
from willow_cart.identity import address_id, digest_of_address, ledger_key, without_signature
from willow_cart.ledger import schema
from willow_cart.ledger.opening import ledger_path
from willow_cart.redaction import fingerprint, without_secrets


def clashing(make: Callable[[int], str]) -> tuple[str, str]:
    """Return two texts that look alike once their secrets are hidden."""
    seen: dict[str, str] = {}
    number = 0
    while (text := make(number)) and (shown := fingerprint(text)) not in seen:
        seen[shown] = text
        number += 1
    return seen[shown], text


@pytest.fixture(scope="module")
def pair() -> tuple[str, str]:
    chance = random.Random(1)
    return clashing(lambda _: str(uuid.UUID(int=chance.getrandbits(128), version=4)))


def echo(request: Request) -> Answer:
    """Answer with the address itself, and go by an ETag that is made of it."""
    tag = f'"{hashlib.sha256(request.target.encode()).hexdigest()}"'
    if request.fields.get("if-none-match") == tag:
        return answer(status="304 Not Modified", content_length=None)
    return answer(request.target.encode(), ETag=tag)


@pytest.fixture
def server() -> Iterator[RawServer]:
    with RawServer(echo) as opened:
        yield opened


def test_addresses_that_look_alike_stay_two_files(
    tmp_path: Path, server: RawServer, pair: tuple[str, str]
) -> None:
    places = [f"{server.base}/one.csv?id={each}" for each in pair]
    assert len({*map(without_secrets, places)}) == 1
    (tmp_path / "l.txt").write_text("\n".join(places))
    for how in ("all arrived", "all unchanged", "all unchanged"):
        done = run("haul", "l.txt", "--into", "d", cwd=tmp_path)
        assert (done.code, how in done.out) == (0, True), done.err
        found = files_in(tmp_path / "d")
        assert {*found.values()} == {f"/one.csv?id={each}".encode() for each in pair}
    assert "all unchanged" in run("audit", "d", cwd=tmp_path).out
    # Each has a story of its own, by its whole address; what is shown fits both.
    for place in places:
        told = run("receipt", "d", "--of", place, "--json", cwd=tmp_path).json()
        paths = {each["path"] for each in told}
        (path,) = paths
        assert found[path].decode() == place.removeprefix(server.base)


def test_a_cart_has_a_row_for_each_and_knows_them_again(
    tmp_path: Path, server: RawServer, pair: tuple[str, str]
) -> None:
    places = [f"{server.base}/one.csv?id={each}" for each in pair]
    (tmp_path / "l.txt").write_text("\n".join(places))
    assert "2 files" in (out := run("load", "l.txt", "--cart", "c.csv", cwd=tmp_path).out), out
    rows = list(csv.DictReader((tmp_path / "c.csv").read_text().splitlines()))
    assert len({row["url"] for row in rows}) == 1
    assert len({row["key"] for row in rows}) == 2
    assert not any(each in (tmp_path / "c.csv").read_text() for each in pair)
    (tmp_path / "l.txt").write_text("\n".join(reversed(places)))
    before = (tmp_path / "c.csv").read_text()
    run("load", "l.txt", "--cart", "c.csv", cwd=tmp_path)
    assert (tmp_path / "c.csv").read_text() == before
    # What was hauled is found by its row: only the file of the first is combined.
    run("haul", "l.txt", "--into", "d", cwd=tmp_path)
    (tmp_path / "c.csv").write_text("\n".join(before.splitlines()[:2]))
    done = run("combine", "d", "--cart", "c.csv", "--to", "all.csv", cwd=tmp_path)
    assert "1 table" in done.out, done.err


def test_files_change_places_whatever_their_addresses_hash_to(
    tmp_path: Path, server: RawServer
) -> None:
    names = clashing(lambda number: f"{server.base}/d/{number}.csv")
    (tmp_path / "l.txt").write_text("\n".join(names))
    run("haul", "l.txt", "--into", "d", cwd=tmp_path)
    assert run("refile", "d", "--layout", "flat", cwd=tmp_path).code == 0
    done = run("audit", "d", cwd=tmp_path)
    assert (done.code, done.out.startswith("2 files, ")) == (0, True), done.out
    assert "all unchanged" in done.out
    assert run("haul", "l.txt", "--into", "d", cwd=tmp_path).out.startswith(
        "2 offered, 2 chosen: all unch"
    )


DAYS = {
    "AWS 4": "X-Amz-Algorithm=AWS4-HMAC-SHA256&X-Amz-Credential=AK%2F2031060{d}&X-Amz-Date="
    "2031060{d}T060000Z&X-Amz-Expires=900&X-Amz-SignedHeaders=host&X-Amz-Signature={h}",
    "Google 4": "X-Goog-Date=2031060{d}T060000Z&X-Goog-Credential=a%40b&X-Goog-Signature={h}",
    "AWS 2": "AWSAccessKeyId=AKIA&Expires=190000000{d}&Signature={h}%3D",
    "a policy": "Policy=eyJ{h}&Signature={h}&Key-Pair-Id=K1",
    "a SAS": "sv=2029-01-01&sr=b&se=2031-06-0{d}T06%3A00%3A00Z&sp=r&sig={h}%3D",
    "COS": "q-sign-algorithm=sha1&q-ak=A&q-sign-time=190000000{d}%3B19&q-signature={h}",
    "an edge token": "hdnts=exp=190000000{d}~acl=/*~hmac={h}",
    "of its own": "X-Sig={h}&Expires=190000000{d}",
    "a secure link": "md5={h}&expires=190000000{d}",
}


@pytest.mark.parametrize("way", DAYS)
def test_a_file_that_is_signed_anew_each_day_is_one_file(tmp_path: Path, way: str) -> None:
    def respond(request: Request) -> Answer:
        if request.fields.get("if-none-match") == '"1"':
            return answer(status="304 Not Modified", content_length=None)
        body = b"n\n" * 400_000
        first = request.fields.get("range", "")
        if first and cuts:
            return answer(status="404 Not Found")
        if first and request.fields.get("if-range") == '"1"':
            begin = int(first.removeprefix("bytes=").partition("-")[0])
            return answer(
                body[begin:], "206 Partial Content", ETag='"1"',
                Content_Range=f"bytes {begin}-{len(body) - 1}/{len(body)}",
            )  # fmt: skip
        return answer(body, ETag='"1"', Accept_Ranges="bytes", cut=300_000 if cuts else None)

    with RawServer(respond) as server:
        for day, cuts in ((1, True), (2, False), (3, False)):
            query = DAYS[way].format(d=day, h=hashlib.sha1(b"%d" % day).hexdigest())
            place = f"{server.base}/one.csv?id=7&{query}"
            done = run("haul", place, "--into", "d", "--attempts", "1", cwd=tmp_path)
            assert (done.code == 1) is cuts, done.err
        assert "unchanged" in done.out
        assert [*files_in(tmp_path / "d")] == ["one.csv"]
        # The second day went on with what had come on the first.
        assert any("range" in each.fields for each in server.requests)
        other = f"{server.base}/one.csv?id=8&{query}"
        assert run("haul", other, "--into", "d", cwd=tmp_path).code == 0
        assert len(files_in(tmp_path / "d")) == 2


def test_what_only_looks_like_a_signature_tells_files_apart() -> None:
    for one, other in (
        ("token=a", "token=b"),
        ("sig=a", "sig=b"),
        ("expires=1900000001", "expires=1900000002"),
        ("md5=ab&v=1", "md5=cd&v=1"),
        ("signature=north&expires=never", "signature=south&expires=never"),
    ):
        assert address_id(f"http://h/x?{one}") != address_id(f"http://h/x?{other}")


QUERIES = st.lists(
    st.tuples(
        st.sampled_from(["id", "file", "token", "v", "Expires", "sig", "doi", "ZÄ", ""]),
        st.text("abc019-~.:/%20ä", max_size=6) | st.uuids().map(str),
    ),
    max_size=3,
).map(lambda pairs: "&".join(f"{name}={value}" for name, value in pairs))
ADDRESSES = st.builds(
    lambda scheme, host, path, query, inside: normalise(f"{scheme}{host}/{path}?{query}{inside}"),
    st.sampled_from(["http://", "https://", "ftp://", "sftp://", "sftp://bo@", "s3://"]),
    st.sampled_from(["h.example", "h.example:8080", "k.example"]),
    st.text("ab/;=~.1", max_size=8),
    QUERIES,
    st.sampled_from(["", "#inside=a.csv", "#inside=b/c.csv"]),
)


@given(ADDRESSES, ADDRESSES)
def test_different_addresses_have_different_identifiers(one: str, other: str) -> None:
    same = without_signature(one) == without_signature(other)
    assert (address_id(one) == address_id(other)) == same
    keys = {ledger_key(address_id(each), "salt") for each in (one, other)}
    assert (len(keys) == 1) == same
    # It can be made of what is shown and the digest, and holds no value that is hidden there.
    assert address_id(without_secrets(one), digest_of_address(one)) == address_id(one)
    if digest_of_address(one):
        assert ledger_key(address_id(one), "salt") != ledger_key(address_id(one), "pepper")
        assert "?" not in address_id(one).partition("#")[0].replace("?", "", 1)


def test_a_ledger_of_an_early_version_says_what_it_could_not_tell_apart(
    tmp_path: Path, server: RawServer, pair: tuple[str, str]
) -> None:
    places = [*(f"{server.base}/one.csv?id={each}" for each in pair), f"{server.base}/plain.csv"]
    (tmp_path / "l.txt").write_text("\n".join(places))
    run("haul", "l.txt", "--into", "d", cwd=tmp_path)
    before = files_in(tmp_path / "d")
    make_early(ledger_path(tmp_path / "d"))
    server.requests.clear()
    done = run("haul", "l.txt", "--into", "d", cwd=tmp_path)
    assert done.code == 0
    assert "recorded only part of the addresses of 2 files" in done.err
    # Every file is where it was; those that could not be distinguished were fetched and compared.
    assert files_in(tmp_path / "d") == before
    conditions = {each.target: "if-none-match" in each.fields for each in server.requests}
    assert [conditions[each.removeprefix(server.base)] for each in places] == [False, False, True]
    again = run("haul", "l.txt", "--into", "d", cwd=tmp_path)
    assert "recorded only" not in again.err
    assert "3 chosen: all unchanged" in again.out
    assert run("audit", "d", cwd=tmp_path).code == 0


def make_early(path: Path) -> None:
    """Turn a ledger into that of the version before there were keys."""
    version = schema.VERSION - 1
    early = path.with_name("early.db")
    with closing(sqlite3.connect(early, isolation_level=None)) as base:
        schema.build(base, version)
        base.execute("ATTACH ? AS now", (str(path),))
        for table in ("run", "arrival", "result"):
            names = [row[1] for row in base.execute(f"PRAGMA main.table_info({table})")]
            listed = ", ".join(names)
            base.execute(f"INSERT INTO main.{table} ({listed}) SELECT {listed} FROM now.{table}")
    for ending in ("-wal", "-shm"):
        path.with_name(path.name + ending).unlink(missing_ok=True)
    shutil.move(early, path)


def test_a_ledger_is_upgraded_once_by_many_programs(tmp_path: Path) -> None:
    ledger = tmp_path / "d" / ".willow" / "ledger.db"
    ledger.parent.mkdir(parents=True)
    with closing(sqlite3.connect(ledger, isolation_level=None)) as base:
        schema.build(base, 2)
        base.execute("INSERT INTO run (command, started) VALUES ('x', '2031-06-01T06:00:00+00:00')")
    from concurrent.futures import ThreadPoolExecutor

    def look(_: int) -> tuple[int, str]:
        done = run("receipt", "d", "--json", cwd=tmp_path)
        return done.code, done.err

    with ThreadPoolExecutor(6) as pool:
        assert {*pool.map(look, range(12))} == {(0, "")}
    assert json.loads(run("receipt", "d", "--json", cwd=tmp_path).out)["run"] == 1
