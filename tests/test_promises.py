"""What servers, stores and listings promise of a file: what holds, what does not, and for whom."""

from __future__ import annotations

import gzip
import hashlib
import json
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs

import pytest

from tests.support.program import Outcome, files_in, run
from tests.support.raw_server import Answer, RawServer, Request, answer
from willow_cart.model import Checksum, Origin
from willow_cart.protocols.base import fetch_whole
from willow_cart.protocols.web import WebAccess
from willow_cart.protocols.web_delivery import composite_of, promised_by_store
from willow_cart.sign_in.oauth import OAuthSignIn
from willow_cart.sign_in.secrets import Secret
from willow_cart.sign_in.sign_ins import SignIn, SignIns

LEVELS = b"station,level\na,1.4\n" * 400
SMALL_WAITS = ("--pause", "0.01")


def md5(content: bytes) -> str:
    return hashlib.md5(content, usedforsecurity=False).hexdigest()


def haul(tmp_path: Path, *words: str, code: int = 0) -> Outcome:
    outcome = run("haul", *words, "--into", "x", *SMALL_WAITS, cwd=tmp_path)
    assert outcome.code == code, outcome.err
    return outcome


class Rotating:
    """A token endpoint whose refresh tokens are valid once (RFC 9700, 4.14.2).

    The second use of one ends the sign-in.
    """

    def __init__(self, seconds: float) -> None:
        self.seconds = seconds
        self.valid = "R0"
        self.used: list[str] = []
        self.revoked: set[str] = set()
        self.is_ended = False
        self._lock = threading.Lock()

    def __call__(self, request: Request) -> Answer:
        with self._lock:
            if request.target != "/token":
                token = request.fields.get("authorization", "").removeprefix("Bearer ")
                known = token == f"A{len(self.used)}" and token not in self.revoked
                return answer(LEVELS) if known else answer(status="401 Unauthorized")
            (refresh,) = parse_qs(request.body.decode())["refresh_token"]
            self.is_ended |= refresh in self.used
            if self.is_ended or refresh != self.valid:
                return answer(b'{"error": "invalid_grant"}', "400 Bad Request")
            self.used.append(refresh)
            self.valid = f"R{len(self.used)}"
            said = {"access_token": f"A{len(self.used)}", "expires_in": self.seconds}
            return answer(json.dumps(said | {"refresh_token": self.valid}).encode())


@pytest.mark.parametrize("revoked", [False, True], ids=["runs out", "is taken back"])
def test_a_refresh_token_is_used_once_however_many_processes_need_it(
    tmp_path: Path, *, revoked: bool
) -> None:
    place = Rotating(3600)
    clock = [time.time()]
    with RawServer(place) as server:
        file = f"{server.base}/x.csv"
        oauth = OAuthSignIn(f"{server.base}/token", "me", refresh_token=Secret("R0"))
        sign_ins = SignIns({server.base: SignIn(oauth=oauth)})
        # Each has a session of its own, as processes do.
        accesses = [WebAccess(sign_ins=sign_ins, tokens=tmp_path) for _ in range(6)]
        for access in accesses:
            sessions = access._sessions
            assert sessions is not None
            sessions._now = lambda: clock[0]
        for turn in range(1, 4):
            with ThreadPoolExecutor(6) as pool:
                came = [*pool.map(lambda one: fetch_whole(file, one, 1 << 20)[1], accesses)]
            assert came == [LEVELS] * 6
            assert place.used == [f"R{number}" for number in range(turn)]
            if revoked:
                place.revoked.add(f"A{turn}")
            else:
                clock[0] += 4000
        for access in accesses:
            access.close()
    assert not place.is_ended


@pytest.mark.parametrize("label", ["gzip", "x-gzip"])
def test_an_archive_labelled_as_what_it_is_can_be_resumed(tmp_path: Path, label: str) -> None:
    content = gzip.compress(b"".join(hashlib.sha256(bytes([n])).digest() for n in range(256)) * 99)
    cuts = [len(content) // 2]

    def respond(request: Request) -> Answer:
        fields: dict[str, Any] = {
            "etag": '"1"',
            "accept-ranges": "bytes",
            "content_encoding": label,
        }
        first, _, last = request.fields.get("range", "bytes=0-")[6:].partition("-")
        part = content[int(first) : int(last) + 1 if last else None]
        if "range" not in request.fields:
            return answer(content, cut=cuts.pop() if cuts else None, **fields)
        content_range = f"bytes {first}-{int(first) + len(part) - 1}/{len(content)}"
        return answer(part, "206 Partial Content", content_range=content_range, **fields)

    with RawServer(respond) as server:
        haul(tmp_path, f"{server.base}/levels.tar.gz")
    assert files_in(tmp_path / "x") == {"levels.tar.gz": content}
    assert any("range" in each.fields for each in server.requests)


def test_what_a_store_has_decompressed_is_not_what_it_promises() -> None:
    promised = {
        "ETag": f'"{md5(b"")}"',
        "x-goog-hash": "crc32c=AAAAAA==,md5=1B2M2Y8AsgTpgAmY7PhCfg==",
    }
    assert [each.algorithm for each in promised_by_store(promised)] == ["crc32c", "md5"]
    for coding, count in {"identity": 2, "": 2, "gzip": 0, "br": 0}.items():
        fields = promised | {"x-goog-stored-content-encoding": coding}
        assert len(promised_by_store(fields)) == count, coding
    parts = {"ETag": f'"{md5(b"x")}-2"'}
    assert composite_of(parts) == (md5(b"x"), 2)
    assert composite_of(parts | {"x-goog-stored-content-encoding": "gzip"}) is None


def test_an_object_that_the_store_keeps_compressed_is_hauled(tmp_path: Path) -> None:
    packed = gzip.compress(LEVELS)

    def respond(_: Request) -> Answer:
        return answer(
            LEVELS,
            x_goog_stored_content_encoding="gzip",
            x_goog_stored_content_length=len(packed),
            x_goog_hash="md5=1B2M2Y8AsgTpgAmY7PhCfg==",
            etag=f'"{md5(packed)}"',
        )

    with RawServer(respond) as server:
        haul(tmp_path, "gs://fen/levels.csv", "--as", "file", "--endpoint", server.base)
    assert files_in(tmp_path / "x") == {"levels.csv": LEVELS}


def test_a_tag_that_only_looks_like_an_md5_loses_no_file(tmp_path: Path) -> None:
    """Stores may make tags as they like; of one that does, each further file comes once."""

    def respond(request: Request) -> Answer:
        content = LEVELS + request.target.encode()
        return answer(content, etag=f'"{md5(b"another " + content)}"')

    names = [f"{n}.csv" for n in range(5)]
    (tmp_path / "list.txt").write_text("".join(f"s3://fen/{name}\n" for name in names))
    with RawServer(respond) as server:
        told = haul(tmp_path, "list.txt", "--endpoint", server.base, "--lanes", "1")
    assert sorted(files_in(tmp_path / "x")) == names
    assert len(server.targets()) == len(names) + 1, "one of them was compared"
    assert told.err.count("looks like an MD5, but is not one") == 1
    rows = run("receipt", "x", "--json", cwd=tmp_path).json()["files"]
    assert {row["verdict"] for row in rows} == {"length only"}


def test_a_tag_that_is_the_md5_proves_a_file(tmp_path: Path) -> None:
    """One damaged download is fetched again, and only what was promised gets its name."""
    damaged = [LEVELS.replace(b"1", b"7")]

    def respond(_: Request) -> Answer:
        return answer(damaged.pop() if damaged else LEVELS, etag=f'"{md5(LEVELS)}"')

    with RawServer(respond) as server:
        haul(tmp_path, "s3://fen/levels.csv", "--as", "file", "--endpoint", server.base)
    assert files_in(tmp_path / "x") == {"levels.csv": LEVELS}
    (row,) = run("receipt", "x", "--json", cwd=tmp_path).json()["files"]
    assert row["verdict"] == "md5 from the store, weak"
    tag = Checksum("md5", md5(LEVELS), Origin.STORE, is_hint=True)
    assert promised_by_store({"ETag": f'"{tag.digest}"'}) == (tag,)


@pytest.mark.parametrize("status", ["301 Moved", "307 Temporary Redirect", "308 Permanent"])
@pytest.mark.parametrize("says_region", [True, False])
def test_a_store_that_redirects_is_asked_there_with_a_signature(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, status: str, *, says_region: bool
) -> None:
    monkeypatch.setenv("AWS_ACCESS_KEY_ID", "ida")
    monkeypatch.setenv("AWS_SECRET_ACCESS_KEY", "reedmace")
    page = (
        b"<ListBucketResult><Contents><Key>a.csv</Key><Size>%d</Size></Contents>"
        b"</ListBucketResult>" % len(LEVELS)
    )
    region = "fen-west-1" if says_region else "us-east-1"

    def there(request: Request) -> Answer:
        signature = request.fields.get("authorization", "")
        if f"/{region}/s3/aws4_request" not in signature:
            return answer(b"<Error><Code>AccessDenied</Code></Error>", "403 Forbidden")
        listing = "list-type" in request.target
        return answer(page if listing else LEVELS, content_type="x/xml" if listing else "text/csv")

    with RawServer(there, host="127.0.0.2") as other:

        def here(request: Request) -> Answer:
            told: dict[str, Any] = {"x_amz_bucket_region": region} if says_region else {}
            return answer(status=status, location=f"{other.base}{request.target}", **told)

        with RawServer(here) as first:
            endpoint = ("--endpoint", first.base)
            haul(tmp_path, "s3://fen/", "--as", "folder", *endpoint)
            loops = RawServer(lambda it: answer(status=status, location=it.target))
            with loops:
                lost = run("survey", "s3://fen/", "--endpoint", loops.base, cwd=tmp_path)
    assert files_in(tmp_path / "x") == {"a.csv": LEVELS}
    assert lost.code == 1
    assert len(lost.err.splitlines()) == 1
    assert "s3://fen/: redirect loop" in lost.err


MONDAY, TUESDAY = "Mon, 02 Jun 2031 10:00:20 GMT", "Tue, 03 Jun 2031 10:00:00 GMT"


@pytest.mark.parametrize(
    ("listed", "modified", "code", "words"),
    [
        (str(len(LEVELS)), MONDAY, 0, ""),
        ("1", MONDAY, 4, "a.csv arrived, but it has 8,000 bytes, the listing said 1"),
        ("1", None, 4, "a.csv arrived, but it has 8,000 bytes, the listing said 1"),
        ("1", TUESDAY, 0, "the listing said 1; it was changed after it was listed"),
        ("8.2K", MONDAY, 0, ""),
        ("12K", MONDAY, 0, ""),
        ("1.5M", MONDAY, 0, "it has 8,000 bytes, the listing said about 1.57 MB"),
        ("1.0K", MONDAY, 0, "it has 8,000 bytes, the listing said about 1.02 kB"),
    ],
)
def test_a_size_that_was_listed_is_held_to(
    tmp_path: Path, listed: str, modified: str | None, code: int, words: str
) -> None:
    page = f"""<title>Index of /</title><h1>Index of /</h1><pre><a href="../">../</a>
<a href="a.csv">a.csv</a>  02-Jun-2031 10:00  {listed}
</pre>"""

    def respond(request: Request) -> Answer:
        if request.target == "/":
            return answer(page.encode(), content_type="text/html")
        return answer(LEVELS, last_modified=modified)

    with RawServer(respond) as server:
        told = haul(tmp_path, f"{server.base}/", code=code)
    assert files_in(tmp_path / "x") == {"a.csv": LEVELS}
    assert words in told.err
    (row,) = run("receipt", "x", "--json", cwd=tmp_path).json()["files"]
    assert row["state"] == "arrived"
    assert bool(row["reason"]) == (code == 4)
    assert bool(row["reason"] or row["note"]) == bool(words)


@pytest.mark.parametrize(("came", "code"), [("it", 0), ("another", 4), ("newer", 0)])
def test_the_version_that_a_store_has_listed_is_the_one_that_comes(
    tmp_path: Path, came: str, code: int
) -> None:
    listed = LEVELS if came == "it" else LEVELS.replace(b"1", b"2")
    page = (
        f"<ListBucketResult><Contents><Key>a.csv</Key><Size>{len(LEVELS)}</Size><ETag>&quot;{md5(listed)}&quot;</ETag>"
        "<LastModified>2031-06-02T10:00:20Z</LastModified></Contents></ListBucketResult>"
    )

    def respond(request: Request) -> Answer:
        if "list-type" in request.target:
            return answer(page.encode(), content_type="application/xml")
        modified = TUESDAY if came == "newer" else MONDAY
        return answer(LEVELS, etag=f'"{md5(LEVELS)}"', last_modified=modified)

    with RawServer(respond) as server:
        told = haul(tmp_path, "s3://fen/", "--endpoint", server.base, code=code)
    assert files_in(tmp_path / "x") == {"a.csv": LEVELS}
    assert ("another version than the listing said" in told.err) == (came != "it")
    assert ("changed after it was listed" in told.err) == (came == "newer")


@pytest.mark.parametrize(
    ("lengths", "code"), [((9, 9), 0), ((9, 8, 9), 0), ((9, 8, 8), 0), ((9, 8, 7, 7, 7), 1)]
)
def test_a_version_has_one_length(tmp_path: Path, lengths: tuple[int, ...], code: int) -> None:
    """Two may be a slip on the way; what shows a third one is not believed any more."""
    left = [*lengths]

    def respond(_: Request) -> Answer:
        content = LEVELS[: left.pop(0) * 700]
        # All but the last are broken off.
        return answer(content, cut=None if len(left) in (0, 2) else len(content) - 9, etag='"1"')

    with RawServer(respond) as server:
        told = haul(tmp_path, f"{server.base}/a.bin", "--as", "file", code=code)
    assert ("different lengths for one version" in told.err) == bool(code)


@pytest.mark.parametrize("path", ["a.zip", "a.nc", "a.h5", "a.parquet", "a.pdf", "a.csv.gz"])
@pytest.mark.parametrize(
    "said",
    [
        b"The archive is being rebuilt.",
        b'Error {\n    code = 404;\n    message = "no such file";\n};\n',
        "Für diese Datei fehlt die Berechtigung.\n".encode(),
    ],
)
def test_words_are_no_file_of_bytes(tmp_path: Path, path: str, said: bytes) -> None:
    with RawServer(lambda _: answer(said, content_type="application/octet-stream")) as server:
        told = haul(tmp_path, f"{server.base}/{path}", code=4)
        assert "the server sent a message" in told.err
        haul(tmp_path, f"{server.base}/{path}", "--accept-anything")
    assert files_in(tmp_path / "x") == {path: said}


def test_a_file_that_may_have_been_cut_off_says_so(tmp_path: Path) -> None:
    with RawServer(lambda _: answer(LEVELS, content_length=None, closes=True)) as server:
        told = haul(tmp_path, f"{server.base}/a.csv")
    assert "a.csv: the server announced no length; it may be incomplete" in told.err
