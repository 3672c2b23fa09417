"""Buckets: against the stand-in, and against an independent store of the same dialect."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.support.program import Outcome, files_in, run
from tests.support.stores import independent_store
from willow_cart.addresses import address_of_key, key_of, normalise
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.demo.store import DemoStore
from willow_cart.errors import ProtocolError
from willow_cart.protocols.bucket import Endpoint, read_page

KEYS = {
    "2031-05/trap1/img_1.jpg": b"one",
    "2031-05/trap1/img_2.jpg": b"two",
    "2031-05/trap2/img_1.jpg": b"three",
    "2031-05.csv": b"a,b\n",
    "2031-05b/x.csv": b"x",
    "2031-06/": b"",
    "2031-06/img.jpg": b"June",
    "notes.txt": b"notes",
}
ODD = {
    "a//b.csv": b"two slashes",
    "a/b.csv": b"one slash",
    "../up.csv": b"up",
    "x/../../y.csv": b"y",
    "trail/": b"a file all the same",
    "CASE.csv": b"upper",
    "case.csv": b"lower",
    "line\nbreak.csv": b"break",
    "plus+and space&?#%2F.csv": b"plus",
    "k" * 1000 + ".csv": b"long",
    "con": b"device",
}


@pytest.fixture(autouse=True)
def environment(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """No credentials but those that a test names."""
    for name in ("AWS_ACCESS_KEY_ID", "AWS_SECRET_ACCESS_KEY", "AWS_PROFILE", "AWS_REGION"):
        monkeypatch.delenv(name, raising=False)
    monkeypatch.setenv("HOME", str(tmp_path))


@pytest.fixture
def store() -> Iterator[DemoStore]:
    objects = {f"camera-traps/{key}": content for key, content in KEYS.items()}
    with DemoStore(objects) as kept:
        yield kept


def survey(store: DemoStore, address: str, *options: str, cwd: Path) -> Outcome:
    return run("survey", address, "--endpoint", store.base, *options, "--json", cwd=cwd)


def paths(outcome: Outcome) -> list[str]:
    return [offer["path"] for offer in outcome.json()["offers"]]


@pytest.mark.parametrize(
    ("address", "depth", "found", "not_entered"),
    [
        ("", "1", ["2031-05.csv", "notes.txt"], ["2031-05/", "2031-05b/", "2031-06/"]),
        ("2031-06/", "1", ["img.jpg"], []),
        ("2031-06", "all", ["img.jpg"], []),
        ("2031-05/", "1", [], ["trap1/", "trap2/"]),
        ("2031-05/", "2", ["trap1/img_1.jpg", "trap1/img_2.jpg", "trap2/img_1.jpg"], []),
        ("2031-05/trap", "all", ["trap1/img_1.jpg", "trap1/img_2.jpg", "trap2/img_1.jpg"], []),
        ("2031-05.csv", "1", ["2031-05.csv"], []),
        ("2031-05/trap1/img_2.jpg", "all", ["img_2.jpg"], []),
        ("2031-0", "1", ["2031-05.csv"], ["2031-05/", "2031-05b/", "2031-06/"]),
        ("2031-05/*/img_1.*", "1", ["trap1/img_1.jpg", "trap2/img_1.jpg"], []),
        ("*.csv", "1", ["2031-05.csv"], []),
    ],
)
def test_one_address_lists_and_hauls_the_same(
    tmp_path: Path,
    store: DemoStore,
    address: str,
    depth: str,
    found: list[str],
    not_entered: list[str],
) -> None:
    there = f"s3://camera-traps/{address}"
    outcome = survey(store, there, "--depth", depth, cwd=tmp_path)
    assert paths(outcome) == found
    assert [each["path"] for each in outcome.json()["not_entered"]] == not_entered
    haul = ["haul", there, "--endpoint", store.base, "--depth", depth, "--into", "x"]
    assert run(*haul, cwd=tmp_path).code == (0 if found else 3)
    if found:
        assert sorted(files_in(tmp_path / "x")) == sorted(found)
        assert " unchanged (0 B" in run(*haul, cwd=tmp_path).last_line
        # The same from a list, where an address may stand for several as well.
        if "*" in address or address.endswith("/"):
            (tmp_path / "list.txt").write_text(there)
            assert paths(survey(store, "list.txt", "--depth", depth, cwd=tmp_path)) == found


def test_where_nothing_is_what_is_near_is_told(tmp_path: Path, store: DemoStore) -> None:
    for address, words in {
        "camera-traps/2031-07": "not found; nearby: 2031-05.csv, 2031-05/, 2031-05b/, 2031-06/",
        "camera-traps/2031-05/trap3/x.jpg": "nearby: 2031-05/trap1/, 2031-05/trap2/",
        "camera-trap/": "no such bucket; check its name and --endpoint",
    }.items():
        outcome = survey(store, f"s3://{address}", cwd=tmp_path)
        assert outcome.code in (1, 2)
        assert f"s3://{address.partition('/')[0]}" in outcome.err
        assert words in outcome.err


def test_keys_are_not_file_names(tmp_path: Path) -> None:
    with DemoStore({f"odd/{key}": content for key, content in ODD.items()}) as store:
        found = survey(store, "s3://odd/", "--depth", "all", cwd=tmp_path).json()
        assert sorted(offer["size"] for offer in found["offers"]) == sorted(map(len, ODD.values()))
        haul = ["haul", "s3://odd/", "--endpoint", store.base, "--depth", "all", "--into", "x"]
        outcome = run(*haul, cwd=tmp_path)
        assert outcome.code == 0, outcome.err
    filed = files_in(tmp_path / "x")
    assert sorted(filed.values()) == sorted(ODD.values())
    assert len(filed) == len(ODD)
    for path in filed:
        assert not {"", ".", ".."} & set(path.split("/"))
        assert "\n" not in path
    assert not (tmp_path / "up.csv").exists()
    assert "names had characters that files cannot have (such as : and ?)" in outcome.err


@pytest.mark.parametrize("key", [*KEYS, *ODD, "%", "ü", "?versionId=1"])
def test_the_address_of_a_key_stands_for_that_key(key: str) -> None:
    address = address_of_key("s3://odd/", key)
    assert normalise(address) == address
    assert key_of(address) == key


def test_patterns_are_pushed_to_the_store(tmp_path: Path, store: DemoStore) -> None:
    outcome = survey(
        store, "s3://camera-traps/", "--depth", "all", "--keep", "2031-05/trap1/*", cwd=tmp_path
    )
    assert paths(outcome) == ["2031-05/trap1/img_1.jpg", "2031-05/trap1/img_2.jpg"]
    assert outcome.json()["offered"] == 2, "nothing else was listed"
    assert "prefix=2031-05%2Ftrap1%2F" in store.requests[-1].path
    after = survey(store, "s3://camera-traps/", "--after-name", "2031-05.csv", cwd=tmp_path)
    assert paths(after) == ["notes.txt"]
    assert "start-after=2031-05.csv" in store.requests[-1].path


def test_requests_are_signed_and_secrets_stay_where_they_belong(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    objects = {f"odd/{key}": content for key, content in ODD.items()}
    with DemoStore(objects, secret="ida:reedmace", region="fen-west-1") as store:
        everything = ["s3://odd/", "--endpoint", store.base, "--depth", "all"]
        shut = run("survey", *everything, cwd=tmp_path)
        assert (shut.code, shut.out) == (1, "")
        assert "s3://odd/: the store denies access; give a sign-in" in shut.err
        monkeypatch.setenv("FEN", "reedmace")
        signed = ["--user", "ida", "--password", "env:FEN"]
        outcome = run("haul", *everything, *signed, "--into", "x", cwd=tmp_path)
        assert outcome.code == 0, outcome.err
        assert sorted(files_in(tmp_path / "x").values()) == sorted(ODD.values())
        monkeypatch.setenv("AWS_ACCESS_KEY_ID", "ida")
        for secret, words in (
            ("reedmace", ""),
            ("wrong", "the store does not accept the secret; check it"),
        ):
            monkeypatch.setenv("AWS_SECRET_ACCESS_KEY", secret)
            outcome = run("survey", *everything, cwd=tmp_path)
            assert words in outcome.err
            assert outcome.code == (1 if words else 0), outcome.err
        monkeypatch.setenv("AWS_ACCESS_KEY_ID", "otto")
        outcome = run("survey", *everything, cwd=tmp_path)
        assert "the store does not know the key" in outcome.err
        store.clock_is_off = True
        outcome = run("survey", *everything, cwd=tmp_path)
        assert "this machine's clock is wrong; set it" in outcome.err
        # Another service is not shown what is kept for this one.
        public = run("survey", "gs://odd/", cwd=tmp_path)
        assert public.code == 1
        assert "storage.googleapis.com" in public.err


def test_profiles_and_roles_are_used_when_asked_for(
    tmp_path: Path, place: StandIn, monkeypatch: pytest.MonkeyPatch
) -> None:
    aws = tmp_path / ".aws"
    aws.mkdir()
    (aws / "credentials").write_text(
        "[fen]\naws_access_key_id = ida\naws_secret_access_key = reedmace\n[bare]\n"
    )
    role = {
        "AccessKeyId": "ida", "SecretAccessKey": "reedmace", "Token": "fen",
        "Code": "Success", "Expiration": "2131-01-01T00:00:00Z",
    }  # fmt: skip
    place.exhibits["role"] = Exhibit(json.dumps(role).encode(), media_type="application/json")
    objects = {f"odd/{key}": content for key, content in ODD.items()}
    with DemoStore(objects, secret="ida:reedmace") as store:
        everything = ["survey", "s3://odd/", "--endpoint", store.base, "--depth", "all"]
        monkeypatch.setenv("AWS_CONTAINER_CREDENTIALS_FULL_URI", f"{place.base}/role")
        assert "the store denies access" in run(*everything, cwd=tmp_path).err
        assert place.requests == [], "roles are not asked for unless wished"
        for more in (["--profile", "fen"], ["--ambient"]):
            assert run(*everything, *more, cwd=tmp_path).code == 0, more
        assert [each.path for each in place.requests] == ["/role"]
        hauled = run("haul", *everything[1:], "--ambient", "--into", "x", cwd=tmp_path)
        assert hauled.code == 0, hauled.err
        monkeypatch.delenv("AWS_CONTAINER_CREDENTIALS_FULL_URI")
        # The role of a machine, as its own service tells it.
        roles = "latest/meta-data/iam/security-credentials/"
        monkeypatch.setenv("AWS_EC2_METADATA_SERVICE_ENDPOINT", f"{place.base}/")
        place.exhibits[roles] = Exhibit(b"fen", media_type="text/plain")
        place.exhibits[f"{roles}fen"] = place.exhibits["role"]
        assert run(*everything, "--ambient", cwd=tmp_path).code == 0
        assert place.requests[-1].path == f"/{roles}fen"
        monkeypatch.setenv("AWS_EC2_METADATA_DISABLED", "true")
        for given, words in {
            ("--profile", "sedge"): "--profile sedge: no such profile; known profiles: fen, bare",
            ("--profile", "bare"): "--profile bare: has no credentials",
            ("--ambient",): "--ambient: this machine has no role that can be used",
        }.items():
            refused = run(*everything, *given, cwd=tmp_path)
            assert (refused.code, len(refused.err.splitlines())) == (2, 1), refused.err
            assert words in refused.err


def test_what_may_not_be_listed_may_still_be_fetched(tmp_path: Path, store: DemoStore) -> None:
    store.lists = False
    refused = survey(store, "s3://camera-traps/", cwd=tmp_path)
    assert refused.code == 1
    assert "the exact address of a file still works" in refused.err
    outcome = run(
        "haul", "s3://camera-traps/notes.txt", "--as", "file", "--endpoint", store.base,
        "--into", "x", cwd=tmp_path,
    )  # fmt: skip
    assert outcome.code == 0, outcome.err
    assert files_in(tmp_path / "x") == {"notes.txt": b"notes"}


@pytest.mark.parametrize(
    ("status", "code", "words"),
    [
        (403, "InvalidObjectState", "archived; not readable without restoring; restore it"),
        (404, "NoSuchKey", "no such object"),
        (400, "ExpiredToken", "the sign-in has expired; get a new one"),
        (418, "Teapot", "Teapot: on purpose"),
    ],
)
def test_what_a_store_refuses_is_said_in_its_terms(
    tmp_path: Path, store: DemoStore, status: int, code: str, words: str
) -> None:
    store.exhibits["camera-traps/notes.txt"].refusals = [(status, {"code": code})]
    haul = ["haul", "s3://camera-traps/notes.txt", "--endpoint", store.base, "--into", "x"]
    outcome = run(*haul, cwd=tmp_path)
    assert outcome.code == 1
    assert f"failed: s3://camera-traps/notes.txt: {words}" in outcome.err
    store.exhibits["camera-traps/notes.txt"].refusals = [(503, {"code": "SlowDown"})]
    patient = run(*haul, cwd=tmp_path)
    assert patient.code == 0
    assert "is busy (SlowDown); slowing down" in patient.err


def test_versions_and_costs_are_asked_for_in_the_store_s_terms(
    tmp_path: Path, store: DemoStore, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("AWS_ACCESS_KEY_ID", "ida")
    monkeypatch.setenv("AWS_SECRET_ACCESS_KEY", "reedmace")
    version = "s3://camera-traps/notes.txt?versionId=v.2"
    options = ["--endpoint", store.base, "--requester-pays"]
    assert run("haul", version, *options, "--into", "x", cwd=tmp_path).code == 0
    request = store.requests[-1]
    assert request.path == "/camera-traps/notes.txt?versionId=v.2"
    assert request.fields["x-amz-request-payer"] == "requester"
    assert "x-amz-request-payer" in request.fields["authorization"], "it is signed as well"


def test_a_break_is_gone_on_from(tmp_path: Path, store: DemoStore) -> None:
    content = bytes(range(256)) * 20_000
    store.exhibits["camera-traps/film.mp4"] = Exhibit(content, breaks=[3_000_000])
    haul = ["haul", "s3://camera-traps/film.mp4", "--endpoint", store.base, "--into", "x"]
    assert run(*haul, cwd=tmp_path).code == 0
    assert files_in(tmp_path / "x") == {"film.mp4": content}
    assert store.requests[-1].fields["range"] == "bytes=3000000-"


def test_long_listings_come_page_by_page(tmp_path: Path, store: DemoStore) -> None:
    def keys(after: str) -> Iterator[tuple[str, int]]:
        begin = int(after[4:9]) + 1 if after.startswith("img_") else 0
        return ((f"img_{n:05d}.jpg", n) for n in range(begin, 12_345))

    store.made["many"] = keys
    script = (
        "import sys; from willow_cart.cli.main import main; code = main(sys.argv[1:]);"
        "sys.stderr.write(open('/proc/self/status').read()); sys.exit(code)"
    )
    command = ["survey", "s3://many/", "--endpoint", store.base, "--csv"]
    done = subprocess.run(
        [sys.executable, "-c", script, *command], cwd=tmp_path, capture_output=True, text=True,
        check=True,
    )  # fmt: skip
    assert done.stdout.count("\n") == 12_346
    assert len(store.requests) == 13
    (peak,) = (line for line in done.stderr.splitlines() if line.startswith("VmHWM"))
    assert int(peak.split()[1]) < 80_000, "kilobytes, however long the listing is"


@pytest.mark.parametrize(
    ("endpoint", "address"),
    [
        ("https://store.example", "https://store.example/b/k%3F/%2B"),
        ("https://store.example/", "https://store.example/b/k%3F/%2B"),
        ("https://{bucket}.store.example", "https://b.store.example/k%3F/%2B"),
        ("https://s3.{region}.store.example", "https://s3.fen.store.example/b/k%3F/%2B"),
    ],
)
def test_a_bucket_is_in_the_path_or_in_the_host(endpoint: str, address: str) -> None:
    assert Endpoint(endpoint).web_address("b", "k?/+", "fen") == address


@pytest.mark.parametrize("content", [b"", b"<html>", b"<x/>", b"<!DOCTYPE a><Error/>"])
def test_what_is_no_listing_is_told(content: bytes) -> None:
    with pytest.raises(ProtocolError):
        read_page(content, "s3://b/")


def test_an_independent_store_is_listed_and_hauled_from(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    with independent_store(monkeypatch, tmp_path) as (base, client):
        client.create_bucket(Bucket="camera-traps")
        content = {f"2031-{n % 12:02d}/img {n:04d}+.jpg": b"%d" % n for n in range(1100)}
        for key, body in content.items():
            client.put_object(Bucket="camera-traps", Key=key, Body=body)
        everything = ["s3://camera-traps", "--endpoint", base, "--depth", "all"]
        found = run("survey", *everything, "--json", cwd=tmp_path).json()
        assert [o["path"] for o in found["offers"]] == sorted(content)
        assert found["bytes_known"] == sum(map(len, content.values()))
        march = [*everything, "--keep", "2031-03/*", "--into", "x"]
        assert run("haul", *march, cwd=tmp_path).code == 0
        assert files_in(tmp_path / "x") == {
            key: body for key, body in content.items() if key.startswith("2031-03/")
        }
        assert "all unchanged" in run("haul", *march, cwd=tmp_path).last_line


def test_a_listing_that_is_cut_off_without_a_token_is_told_and_the_rest_comes(
    tmp_path: Path, place: StandIn
) -> None:
    page = (
        b'<?xml version="1.0"?><ListBucketResult><IsTruncated>true</IsTruncated>'
        b"<Contents><Key>a.csv</Key><Size>3</Size></Contents></ListBucketResult>"
    )
    query = "delimiter=%2F&encoding-type=url&list-type=2&prefix="
    place.exhibits[f"odd/?{query}"] = Exhibit(page)
    place.exhibits["odd/a.csv"] = Exhibit(b"one")
    for command in (["survey"], ["haul", "--into", "x"]):
        outcome = run(*command, "s3://odd/", "--endpoint", place.base, cwd=tmp_path)
        assert outcome.code == 1
        assert "listing is cut off without a continuation token" in outcome.err
    assert files_in(tmp_path / "x") == {"a.csv": b"one"}
