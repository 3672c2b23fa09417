"""Where an answer ends and what it is coded in: read by the rules, or refused."""

from __future__ import annotations

import gzip
import io
import socket
import ssl
import threading
import zipfile
import zlib
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path

import pytest

from willow_cart.demo.stand_in import Exhibit, StandIn, StandInHandler
from willow_cart.errors import (
    ConnectionLost,
    ProtocolError,
    ServerBusy,
    TimedOut,
    TookTooLong,
    TransferFailed,
)
from willow_cart.model import Metadata
from willow_cart.protocols import Download, Unchanged
from willow_cart.protocols.base import SmallRequest
from willow_cart.protocols.http.http_connection import Answer
from willow_cart.protocols.http.http_response import Fields
from willow_cart.protocols.web import WebAccess
from willow_cart.protocols.web_delivery import WebDownload

OK = b"HTTP/1.1 200 OK\r\nConnection: close\r\n"
CODED = OK + b"Transfer-Encoding: "
CHUNKED = CODED + b"chunked\r\n\r\n"
HELLO = b"5\r\nhello\r\n0\r\n\r\n"
LEVELS = b"day,level\n" * 9_000
PACKED = gzip.compress(LEVELS)
ARCHIVE = io.BytesIO()
with zipfile.ZipFile(ARCHIVE, "w") as made:
    made.writestr("levels.csv", LEVELS)
ZIP = ARCHIVE.getvalue()


def framed(body: bytes) -> bytes:
    return b"%x\r\n%s\r\n0\r\n\r\n" % (len(body), body)


def with_length(body: bytes, *fields: bytes) -> bytes:
    lines = b"".join(each + b"\r\n" for each in fields)
    return OK + lines + b"Content-Length: %d\r\n\r\n%s" % (len(body), body)


def status(line: bytes, body: bytes = b"", *fields: bytes) -> bytes:
    return with_length(body, *fields).replace(b"200 OK", line, 1)


@pytest.fixture
def web() -> Iterator[WebAccess]:
    with WebAccess(connect_after=5.0, stall_after=5.0) as access:
        yield access


def fetch(web: WebAccess, address: str) -> tuple[Download, bytes]:
    delivery = web.open(address)
    assert isinstance(delivery, Download)
    try:
        return delivery, b"".join(iter(delivery.read, b""))
    finally:
        delivery.close()


CASES: dict[str, tuple[bytes, bytes | type[TransferFailed]]] = {
    # Lengths (RFC 9112, 6.3)
    "no length": (OK + b"\r\nhello", b"hello"),
    "a length, and more": (OK + b"Content-Length: 5\r\n\r\nhello and more", b"hello"),
    "a length twice": (OK + b"Content-Length: 5\r\nContent-Length: 5\r\n\r\nhello", b"hello"),
    "a length in a list": (OK + b"Content-Length: 5, 5\r\n\r\nhello", b"hello"),
    "two lengths": (OK + b"Content-Length: 5\r\nContent-Length: 7\r\n\r\nhello", ProtocolError),
    "a length in words": (OK + b"Content-Length: five\r\n\r\nhello", ProtocolError),
    "a length with a sign": (OK + b"Content-Length: +5\r\n\r\nhello", ProtocolError),
    "a negative length": (OK + b"Content-Length: -5\r\n\r\nhello", ProtocolError),
    "a length as Python writes it": (OK + b"Content-Length: 0_5\r\n\r\nhello", ProtocolError),
    "an endless length": (OK + b"Content-Length: " + b"9" * 5000 + b"\r\n\r\nhi", ProtocolError),
    "an empty length": (OK + b"Content-Length: \r\n\r\nhello", ProtocolError),
    "a short body": (OK + b"Content-Length: 9\r\n\r\nhello", ConnectionLost),
    # Transfer codings (RFC 9112, 6.1 and 7)
    "chunks": (CHUNKED + HELLO, b"hello"),
    "chunks and a length": (
        CODED + b"chunked\r\nContent-Length: 3\r\n\r\n" + HELLO, b"hello"
    ),
    "chunks in capitals": (CODED + b"CHUNKED\r\n\r\n" + HELLO, b"hello"),
    "chunks of gzip": (CODED + b"gzip, chunked\r\n\r\n" + framed(PACKED), LEVELS),
    "chunks of gzip in two fields": (
        CODED + b"gzip\r\nTransfer-Encoding: chunked\r\n\r\n" + framed(PACKED),
        LEVELS,
    ),
    "chunks of gzip cut off": (
        CODED + b"gzip, chunked\r\n\r\n" + framed(PACKED[:-20]), ConnectionLost
    ),
    "gzip to the end": (CODED + b"gzip\r\n\r\n" + PACKED, LEVELS),
    "identity": (CODED + b"identity\r\nContent-Length: 5\r\n\r\nhello", b"hello"),
    "chunks of chunks": (CODED + b"chunked, chunked\r\n\r\n" + HELLO, ProtocolError),
    "chunks within": (CODED + b"chunked, gzip\r\n\r\n" + HELLO, ProtocolError),
    "an unknown transfer coding": (CODED + b"br, chunked\r\n\r\n" + HELLO, ProtocolError),
    "chunks with a parameter": (CODED + b"chunked;q=1\r\n\r\n" + HELLO, ProtocolError),
    "a chunk extension": (CHUNKED + b"5;a=b\r\nhello\r\n0\r\n\r\n", b"hello"),
    "trailers": (CHUNKED + b"5\r\nhello\r\n0\r\nDigest: x\r\n\r\n", b"hello"),
    "many trailers": (CHUNKED + b"5\r\nhello\r\n0\r\n" + b"X: x\r\n" * 5000, ProtocolError),
    "a chunk size in words": (CHUNKED + b"ZZ\r\nhello", ConnectionLost),
    "a negative chunk": (CHUNKED + b"-5\r\nhello\r\n0\r\n\r\n", ConnectionLost),
    "a chunk size with a sign": (CHUNKED + b"+5\r\nhello\r\n0\r\n\r\n", ConnectionLost),
    "a chunk size as Python writes it": (CHUNKED + b"0x5\r\nhello\r\n0\r\n\r\n", ConnectionLost),
    "no last chunk": (CHUNKED + b"5\r\nhello\r\n", ConnectionLost),
    # Interim answers (RFC 9110, 15.2)
    "continue": (b"HTTP/1.1 100 Continue\r\n\r\n" + with_length(b"hello"), b"hello"),
    "processing": (b"HTTP/1.1 102 Processing\r\n\r\n" * 3 + with_length(b"hello"), b"hello"),
    "early hints": (
        b"HTTP/1.1 103 Early Hints\r\nLink: </x>\r\n\r\n" + with_length(b"hello"), b"hello"
    ),
    "continue for ever": (b"HTTP/1.1 100 Continue\r\n\r\n" * 5000, ProtocolError),
    "hints for ever": (b"HTTP/1.1 103 Early Hints\r\nLink: </x>\r\n\r\n" * 5000, ProtocolError),
    "another protocol": (b"HTTP/1.1 101 Switching\r\nUpgrade: x\r\n\r\n", ProtocolError),
    # Heads
    "a long line": (OK + b"X: " + b"x" * 100_000 + b"\r\n\r\n", ProtocolError),
    "many fields": (OK + b"".join(b"X%d: x\r\n" % n for n in range(200)) + b"\r\n", ProtocolError),
    "nonsense": (b"\0\1 nonsense\r\n\r\n", ProtocolError),
    "a page without a head": (b"<html>hello</html>", ProtocolError),
    "nothing": (b"", ConnectionLost),
    # Content codings (RFC 9110, 8.4)
    "gzip": (with_length(PACKED, b"Content-Encoding: gzip"), LEVELS),
    "gzip in two members": (with_length(PACKED * 2, b"Content-Encoding: gzip"), LEVELS * 2),
    "gzip and padding": (with_length(PACKED + bytes(9), b"Content-Encoding: gzip"), LEVELS),
    "gzip cut off": (with_length(PACKED[:-9], b"Content-Encoding: gzip"), ConnectionLost),
    "gzip cut off in a second member": (
        with_length(PACKED + PACKED[:40], b"Content-Encoding: gzip"), ConnectionLost
    ),
    "gzip twice": (
        with_length(gzip.compress(PACKED), b"Content-Encoding: gzip, gzip"), LEVELS
    ),
    "deflate": (with_length(zlib.compress(LEVELS), b"Content-Encoding: deflate"), LEVELS),
    "bare deflate": (
        with_length(zlib.compress(LEVELS)[2:-4], b"Content-Encoding: deflate"), LEVELS
    ),
    "deflate cut off": (
        with_length(zlib.compress(LEVELS)[:-9], b"Content-Encoding: deflate"), ConnectionLost
    ),
    "nothing in gzip": (with_length(b"", b"Content-Encoding: gzip"), b""),
    "a charset": (with_length(LEVELS, b"Content-Encoding: UTF-8"), LEVELS),
    "an unknown coding": (with_length(b"coded", b"Content-Encoding: br"), ProtocolError),
    "gzip that is none": (with_length(LEVELS, b"Content-Encoding: gzip"), ProtocolError),
    "many codings": (
        with_length(PACKED, b"Content-Encoding: gzip, gzip, gzip, gzip"), ProtocolError
    ),
    # Statuses
    "an unasked part that is the whole": (
        status(b"206 Partial Content", b"hello", b"Content-Range: bytes 0-4/5"), b"hello"
    ),
    "an unasked part": (
        status(b"206 Partial Content", b"hello", b"Content-Range: bytes 0-4/9"), ProtocolError
    ),
    "accepted": (status(b"202 Accepted", b"wait"), ServerBusy),
    "too early": (status(b"425 Too Early"), ServerBusy),
    "an error that nobody has registered": (status(b"530 Frozen"), ServerBusy),
    "not implemented": (status(b"501 Not Implemented"), TransferFailed),
}  # fmt: skip


def saying(raw: bytes) -> Exhibit:
    """Return an exhibit whose answer is these bytes and the end of the connection."""

    def script(handler: StandInHandler) -> None:
        with suppress(OSError):  # the client has seen enough
            handler.wfile.write(raw)
        handler.close_connection = True

    return Exhibit(script=script)


@pytest.mark.parametrize("case", CASES)
def test_answers_are_read_by_the_rules_or_refused(
    web: WebAccess, place: StandIn, case: str
) -> None:
    raw, expected = CASES[case]

    place.exhibits["x"] = saying(raw)
    if isinstance(expected, bytes):
        assert fetch(web, f"{place.base}/x")[1] == expected
    else:
        with pytest.raises(expected):
            fetch(web, f"{place.base}/x")


@pytest.mark.parametrize("case", CASES)
def test_an_odd_answer_among_many_ends_its_connection_and_no_other(
    web: WebAccess, place: StandIn, case: str
) -> None:
    """What comes together with others is what comes alone, or is left to be requested alone."""
    raw, expected = CASES[case]
    names = [f"{n}.csv" for n in range(6)]
    place.exhibits |= {name: Exhibit(name.encode()) for name in names} | {"x": saying(raw)}
    names.insert(3, "x")
    came = dict(
        web.fetch_small([SmallRequest(f"{place.base}/{name}") for name in names], 2, lambda: True)
    )
    broke = 3 not in came
    odd = came.pop(3, None)
    if isinstance(odd, Download) and isinstance(expected, bytes):
        assert b"".join(iter(odd.read, b"")) == expected
    elif odd is not None:
        assert isinstance(expected, type), "what is right alone is right among others"
        assert not isinstance(odd, Unchanged), "nothing is held"
        with pytest.raises(expected):
            b"".join(iter(_reader(odd), b""))
    ends = broke or isinstance(odd, ServerBusy)
    assert set(came) >= ({0, 1, 2} if ends else {0, 1, 2, 4, 5, 6})
    for place_, download in came.items():
        assert isinstance(download, Download)
        assert b"".join(iter(download.read, b"")) == names[place_].encode()


def _reader(came: Download | TransferFailed) -> Callable[[], bytes]:
    if isinstance(came, TransferFailed):
        raise came
    return came.read


@pytest.mark.parametrize(
    ("name", "body", "label", "expected", "told"),
    [
        ("levels.csv.gz", PACKED, "gzip", PACKED, False),
        ("levels.csv.gz", gzip.compress(PACKED), "gzip", PACKED, False),
        ("levels.zip", ZIP, "x-gzip", ZIP, True),
        ("levels.zip", ZIP, "deflate", ZIP, True),
        ("levels.zip", ZIP, "br", ZIP, True),
        ("levels.zip", gzip.compress(ZIP), "gzip", ZIP, False),
    ],
    ids=["what it is", "twice", "x-gzip", "deflate", "br", "once more"],
)
def test_a_label_is_believed_as_far_as_the_bytes_bear_it_out(
    web: WebAccess, place: StandIn, name: str, body: bytes, label: str, expected: bytes, told: bool
) -> None:
    raw = with_length(body, b"Content-Encoding: " + label.encode())
    place.exhibits[name] = Exhibit(script=lambda handler: _send(handler, raw))
    delivery, content = fetch(web, f"{place.base}/{name}")
    assert content == expected
    assert bool(delivery.notes) == told


def _send(handler: StandInHandler, raw: bytes) -> None:
    handler.wfile.write(raw)
    handler.close_connection = True


@pytest.mark.parametrize("closes", [True, False], ids=["closed", "cut"])
def test_a_secure_connection_that_is_cut_has_not_ended(closes: bool) -> None:
    certificate = Path(__file__).parent / "support" / "named.pem"
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(certificate)
    with socket.create_server(("127.0.0.1", 0)) as listener:

        def serve() -> None:
            raw, _ = listener.accept()
            secure = context.wrap_socket(raw, server_side=True)
            secure.recv(4096)
            secure.sendall(OK + b"\r\nhalf")
            if closes:
                with suppress(OSError):  # the client need not wait for it
                    secure.unwrap()
            secure.close()  # which says nothing by itself

        server = threading.Thread(target=serve, daemon=True)
        server.start()
        trust = ssl.create_default_context(cafile=str(certificate))
        address = f"https://127.0.0.1:{listener.getsockname()[1]}/x"
        with WebAccess(stall_after=5.0, context_for=lambda _: trust) as web:
            if closes:
                assert fetch(web, address)[1] == b"half"
            else:
                with pytest.raises(ConnectionLost, match="closed before the answer was complete"):
                    fetch(web, address)
        server.join(5.0)


def test_a_body_without_a_length_is_whole_once_its_end_was_read() -> None:
    cut = Answer.received_whole(200, Fields([]), b"half", 0.1)
    cut.is_delimited = False
    facts = Metadata("https://h.example/x")
    assert WebDownload(cut, facts.address, facts, 0, 5.0).whole is None
    whole = Answer.received_whole(200, Fields([]), b"all", 0.1)
    assert WebDownload(whole, facts.address, facts, 0, 5.0).whole == b"all"


DRIPS = {
    "a head": (b"HTTP/1.1 200 OK\r\nX: ", b"x"),
    "interim answers": (b"", b"HTTP/1.1 102 Processing\r\n\r\n"),
    "a chunk size": (CODED + b"chunked\r\n\r\n", b"0"),
    "trailers": (CHUNKED + b"5\r\nhello\r\n0\r\n", b"X"),
    "a refusal": (b"HTTP/1.1 404 Not Found\r\nContent-Length: 900\r\n\r\n", b"x"),
}


@pytest.mark.parametrize("drip", DRIPS)
def test_what_drips_without_end_is_given_up(place: StandIn, drip: str) -> None:
    first, again = DRIPS[drip]
    gone = threading.Event()

    def script(handler: StandInHandler) -> None:
        with suppress(OSError):
            handler.wfile.write(first)
            while not gone.wait(0.02):
                handler.wfile.write(again)
        handler.close_connection = True

    place.exhibits["x"] = Exhibit(script=script)
    with (
        WebAccess(stall_after=0.3, longest=0.8) as web,
        pytest.raises((TimedOut, TookTooLong, ProtocolError, TransferFailed)),
    ):
        fetch(web, f"{place.base}/x")
    gone.set()
