"""The web, as servers really speak it: every oddity on a real local socket."""

from __future__ import annotations

import errno
import gzip
import http.client
import inspect
import socket
import ssl
import threading
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import pytest

from willow_cart.demo.stand_in import Exhibit, StandIn, StandInHandler
from willow_cart.errors import (
    ConnectionLost,
    HostUnknown,
    NotServed,
    NotTrusted,
    ProtocolError,
    ServerBusy,
    TimedOut,
    TooManyRedirects,
    TransferFailed,
    TransientError,
)
from willow_cart.model import Validators
from willow_cart.protocols import Download, Resumability, Unchanged
from willow_cart.protocols.web import WebAccess
from willow_cart.protocols.web_sessions import no_connection, translate
from willow_cart.sign_in.cookie_file import ChainCookies
from willow_cart.sign_in.secrets import Secret
from willow_cart.sign_in.sign_ins import SignIn, SignIns

CONTENT = bytes(range(256)) * 1000
TAG = Validators('"v1"')


@pytest.fixture
def web() -> Iterator[WebAccess]:
    with WebAccess(connect_after=5.0, stall_after=5.0) as access:
        yield access


def fetch(
    web: WebAccess, address: str, start: int = 0, validators: Validators | None = None
) -> tuple[Download, bytes]:
    delivery = web.open(address, start=start, validators=validators)
    assert isinstance(delivery, Download)
    try:
        return delivery, b"".join(iter(delivery.read, b""))
    finally:
        delivery.close()


def served(place: StandIn, **how: object) -> str:
    place.exhibits["x"] = Exhibit(CONTENT, '"v1"', **how)  # type: ignore[arg-type]
    return f"{place.base}/x"


def answer(place: StandIn, status: int, body: bytes = CONTENT, **fields: str) -> str:
    """Have the stand-in answer exactly this, whatever it is asked."""
    head = {name.replace("_", "-"): value for name, value in fields.items()}

    def script(handler: StandInHandler) -> None:
        handler.start(status, {"Content-Length": str(len(body)), **head})
        if handler.command == "GET":
            handler.wfile.write(body)

    place.exhibits["x"] = Exhibit(script=script)
    return f"{place.base}/x"


def test_a_whole_file_comes_with_what_is_known_of_it(web: WebAccess, place: StandIn) -> None:
    delivery, content = fetch(web, served(place))
    assert content == CONTENT
    assert delivery.facts.length == len(CONTENT)
    assert delivery.facts.validators.entity_tag == '"v1"'
    assert delivery.joining is Resumability.SAFE
    (request,) = place.requests
    assert request.fields["accept-encoding"] == "identity"
    assert request.fields["user-agent"].startswith("willow-cart/")


def test_the_rest_of_a_file_is_asked_for_and_joined(web: WebAccess, place: StandIn) -> None:
    delivery, content = fetch(web, served(place), 100, TAG)
    assert (delivery.start, content) == (100, CONTENT[100:])
    assert delivery.facts.length == len(CONTENT)
    assert place.requests[0].fields["range"] == "bytes=100-"
    assert place.requests[0].fields["if-range"] == '"v1"'


@pytest.mark.parametrize(
    "validators",
    [Validators('"v0"'), Validators('W/"v1"'), Validators(None, "Sun, 01 Jun 2031 12:00:00 GMT")],
)
def test_a_version_that_is_not_proved_the_same_is_delivered_whole(
    web: WebAccess, place: StandIn, validators: Validators
) -> None:
    delivery, content = fetch(web, served(place), 100, validators)
    assert (delivery.start, content) == (0, CONTENT)


def test_a_server_that_ignores_ranges_delivers_the_whole(web: WebAccess, place: StandIn) -> None:
    delivery, content = fetch(web, served(place, ranges=False), 100, TAG)
    assert (delivery.start, content) == (0, CONTENT)


@pytest.mark.parametrize(
    ("content_range", "tag"),
    [
        (f"bytes 99-{len(CONTENT) - 1}/{len(CONTENT)}", '"v1"'),
        (f"bytes 100-{len(CONTENT) - 2}/{len(CONTENT)}", '"v1"'),
        (f"bytes 100-{len(CONTENT) - 1}/*", '"v1"'),
        (f"bytes 100-{len(CONTENT) - 1}/{len(CONTENT)}", '"v2"'),
        ("nonsense", '"v1"'),
        ("", '"v1"'),
    ],
)
def test_a_part_that_is_not_the_one_asked_for_is_not_joined(
    web: WebAccess, place: StandIn, content_range: str, tag: str
) -> None:
    def lie(handler: StandInHandler) -> None:
        if "Range" not in handler.headers:
            handler.start(200, {"Content-Length": str(len(CONTENT)), "ETag": '"v2"'})
            handler.wfile.write(CONTENT)
            return
        body = CONTENT[100:]
        fields = {"Content-Length": str(len(body)), "ETag": tag, "Content-Range": content_range}
        handler.start(206, fields)
        handler.wfile.write(body)

    place.exhibits["x"] = Exhibit(script=lie)
    delivery, content = fetch(web, f"{place.base}/x", 100, TAG)
    assert (delivery.start, content) == (0, CONTENT)
    assert delivery.facts.validators.entity_tag == '"v2"'


def test_416_means_complete_only_if_the_length_says_so(web: WebAccess, place: StandIn) -> None:
    address = answer(place, 416, b"", Content_Range="bytes */100")
    delivery, content = fetch(web, address, 100, TAG)
    assert (delivery.start, delivery.facts.length, content) == (100, 100, b"")
    with pytest.raises(NotServed, match="416"):  # asked for whole, it still says 416
        fetch(web, address, 101, TAG)


def test_a_version_that_is_held_is_not_sent_again(web: WebAccess, place: StandIn) -> None:
    assert isinstance(web.open(served(place), validators=TAG), Unchanged)
    assert fetch(web, served(place), validators=Validators('"v0"'))[1] == CONTENT


def test_a_body_that_stops_short_is_a_lost_connection(web: WebAccess, place: StandIn) -> None:
    with pytest.raises(ConnectionLost, match="before the file was complete"):
        fetch(web, served(place, breaks=[1000]))


def test_a_chunked_body_has_no_length_and_its_end_is_checked(
    web: WebAccess, place: StandIn
) -> None:
    def send(handler: StandInHandler, *pieces: bytes) -> None:
        handler.start(200, {"Transfer-Encoding": "chunked"})
        for piece in pieces:
            handler.wfile.write(piece)
        handler.wfile.flush()

    place.exhibits["x"] = Exhibit(script=lambda h: send(h, b"5\r\nhello\r\n", b"0\r\n\r\n"))
    delivery, content = fetch(web, f"{place.base}/x")
    assert (delivery.facts.length, content) == (None, b"hello")

    def stop_short(handler: StandInHandler) -> None:
        send(handler, b"5\r\nhello\r\n")
        handler.cut()

    place.exhibits["x"] = Exhibit(script=stop_short)
    with pytest.raises(ConnectionLost):
        fetch(web, f"{place.base}/x")


def test_what_comes_coded_unasked_is_decoded_unless_it_is_the_archive(
    web: WebAccess, place: StandIn
) -> None:
    packed = gzip.compress(CONTENT)
    delivery, content = fetch(web, answer(place, 200, packed, Content_Encoding="gzip"))
    assert content == CONTENT
    assert (delivery.facts.length, delivery.joining) == (None, Resumability.NEVER)
    answer(place, 200, packed, Content_Encoding="gzip")
    place.exhibits["x.csv.gz"] = place.exhibits["x"]
    assert fetch(web, f"{place.base}/x.csv.gz")[1] == packed
    with pytest.raises(ProtocolError, match="content coding"):
        fetch(web, answer(place, 200, b"\x1f\x8bnonsense", Content_Encoding="gzip"))
    swollen = gzip.compress(bytes(8 << 20), 9)
    with pytest.raises(ProtocolError, match="decompresses to more than 200 times"):
        fetch(web, answer(place, 200, swollen, Content_Encoding="gzip"))
    small = gzip.compress(bytes(200_000), 9)
    assert fetch(web, answer(place, 200, small, Content_Encoding="x-gzip"))[1] == bytes(200_000)


def test_redirects_are_followed_to_where_the_file_is(web: WebAccess, place: StandIn) -> None:
    served(place)
    for status in (301, 302, 303, 307, 308):
        script = lambda handler, status=status: handler.refuse(status, {"Location": "/x"})  # noqa: E731
        place.exhibits["moved"] = Exhibit(script=script)
        delivery, content = fetch(web, f"{place.base}/moved")
        assert (content, delivery.facts.address) == (CONTENT, f"{place.base}/x")


def test_redirects_in_a_circle_end(web: WebAccess, place: StandIn) -> None:
    place.exhibits["a"] = Exhibit(script=lambda handler: handler.refuse(302, {"Location": "/b"}))
    place.exhibits["b"] = Exhibit(script=lambda handler: handler.refuse(302, {"Location": "/a"}))
    with pytest.raises(TooManyRedirects):
        web.open(f"{place.base}/a")


@pytest.mark.parametrize(
    ("status", "kind"),
    [
        (404, NotServed), (403, NotServed), (410, NotServed),
        (204, ProtocolError), (206, ProtocolError), (304, ProtocolError),
        (408, ServerBusy), (429, ServerBusy), (500, ServerBusy), (503, ServerBusy),
    ],
)  # fmt: skip
def test_answers_without_a_file_say_what_to_do(
    web: WebAccess, place: StandIn, status: int, kind: type[TransferFailed]
) -> None:
    place.exhibits["x"] = Exhibit(
        script=lambda handler: handler.refuse(status, {"Retry-After": "7"})
    )
    with pytest.raises(kind) as caught:
        web.open(f"{place.base}/x")
    assert str(status) in caught.value.reason
    assert caught.value.advice
    if isinstance(caught.value, ServerBusy):
        assert caught.value.wait == 7


def test_asking_brings_facts_and_no_bytes(web: WebAccess, place: StandIn) -> None:
    facts = web.ask(served(place))
    assert facts.length == len(CONTENT)
    assert facts.modified is not None
    assert [request.method for request in place.requests] == ["HEAD"]

    def no_head(handler: StandInHandler) -> None:
        if handler.command == "HEAD":
            handler.refuse(405)
        else:
            handler.start(200, {"Content-Length": "12345"})

    place.exhibits["x"] = Exhibit(script=no_head)
    assert web.ask(f"{place.base}/x").length == 12345


def test_silence_is_a_stall_and_nobody_there_is_told(place: StandIn) -> None:
    release = threading.Event()

    def stall(_: StandInHandler) -> None:
        release.wait(20)

    place.exhibits["x"] = Exhibit(script=stall)
    with WebAccess(stall_after=0.2) as web:
        with pytest.raises(TimedOut, match="no data for"):
            web.open(f"{place.base}/x")
        release.set()
        with socket.socket() as nobody:
            nobody.bind(("127.0.0.1", 0))
            port = nobody.getsockname()[1]
            with pytest.raises(ConnectionLost, match="connection refused"):
                web.open(f"http://127.0.0.1:{port}/x")
        with pytest.raises((HostUnknown, ConnectionLost), match=r"unknown host|name server"):
            web.open("http://no-such-host.invalid/x")


def test_a_host_that_cannot_prove_itself_is_not_trusted(web: WebAccess, place: StandIn) -> None:
    context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
    context.load_cert_chain(Path(__file__).parent / "support" / "self_signed.pem")
    listening = socket.create_server(("127.0.0.1", 0))
    with context.wrap_socket(listening, server_side=True) as server:

        def shake_hands() -> None:
            with suppress(OSError):
                server.accept()[0].close()

        threading.Thread(target=shake_hands, daemon=True).start()
        with pytest.raises(NotTrusted, match="self-signed certificate"):
            web.open(f"https://127.0.0.1:{server.getsockname()[1]}/x")


def test_connections_are_used_again_also_after_refusals(web: WebAccess, place: StandIn) -> None:
    ports = set()

    def note(handler: StandInHandler) -> None:
        ports.add(handler.client_address[1])
        handler.refuse(404)

    place.exhibits["x"] = Exhibit(script=note)
    for _ in range(3):
        with pytest.raises(NotServed):
            web.open(f"{place.base}/x")
    assert len(ports) == 1


def test_every_error_of_the_library_has_a_translation() -> None:
    """Whatever the library or the system raises becomes an error of this house, with a way out."""
    errors: list[Exception] = [
        kind.__new__(kind)
        for _, kind in inspect.getmembers(http.client, inspect.isclass)
        if issubclass(kind, http.client.HTTPException)
    ]
    assert len(errors) > 10
    errors += [ssl.SSLError(), TimeoutError(), ConnectionResetError()]
    errors += [OSError(number, "x") for number in errno.errorcode]
    errors += [socket.gaierror(number, "x") for number in (socket.EAI_AGAIN, socket.EAI_NONAME)]
    address, host = "http://h.example/x?token=otter", "h.example"
    for each in errors:
        for error in (
            translate(each, address, host, 9),
            translate(each, address, host, 9, reading=True),
            no_connection(each, address, host),
        ):
            assert isinstance(error, TransferFailed)
            assert error.reason
            assert error.advice
            assert "otter" not in str(error)


def test_what_breaks_off_in_a_head_has_said_nothing(place: StandIn, web: WebAccess) -> None:
    head = b"HTTP/1.1 200 OK\r\nContent-Type: text/plain\r\nContent-Length: 12345\r\n\r\n"
    for at in range(len(head)):

        def break_off(handler: StandInHandler, sent: bytes = head[:at]) -> None:
            handler.wfile.write(sent)
            handler.cut()

        place.exhibits["x"] = Exhibit(script=break_off)
        with pytest.raises(TransientError):
            web.open(f"{place.base}/x")
        with pytest.raises(TransientError):
            web.ask(f"{place.base}/x")

    # A head that is whole, and a body that ends with the connection, are fine.
    def end_with_the_line(handler: StandInHandler) -> None:
        handler.wfile.write(b"HTTP/1.1 200 OK\n\nall of it")
        handler.cut()

    place.exhibits["x"] = Exhibit(script=end_with_the_line)
    assert fetch(web, f"{place.base}/x")[1] == b"all of it"


def test_a_consent_page_that_sets_a_cookie_is_passed(web: WebAccess, place: StandIn) -> None:
    """The file sends those without a cookie to the page, which sets it and sends back."""

    def file(handler: StandInHandler) -> None:
        if "agreed=yes" in (handler.headers.get("Cookie") or ""):
            handler.serve(Exhibit(CONTENT))
        else:
            handler.refuse(302, {"Location": "/agree"})

    def agree(handler: StandInHandler) -> None:
        handler.refuse(302, {"Location": "/x", "Set-Cookie": "agreed=yes; Path=/; HttpOnly"})

    place.exhibits |= {"x": Exhibit(script=file), "agree": Exhibit(script=agree)}
    assert fetch(web, f"{place.base}/x")[1] == CONTENT
    # The next chain knows nothing of it, and a page without cookies still is a circle.
    place.exhibits["agree"] = Exhibit(script=lambda h: h.refuse(302, {"Location": "/x"}))
    with pytest.raises(TooManyRedirects):
        fetch(web, f"{place.base}/x")


def test_cookies_of_a_chain_stay_with_their_origin_and_path(place: StandIn) -> None:
    cookies = ChainCookies()
    here, elsewhere = "https://a.example/files/x", "https://b.example/files/x"
    assert cookies.take(here, ["one=1", "two=2; Path=/other", "three=3; Domain=b.example; Path=/"])
    assert cookies.field_for("https://a.example/files/y") == "one=1; three=3"
    assert cookies.field_for("https://a.example/filesystem") == "three=3"
    assert cookies.field_for("https://a.example/other") == "two=2; three=3"
    assert cookies.field_for(elsewhere) == ""
    assert cookies.field_for("http://a.example/files/y") == ""
    assert not cookies.take(here, ["one=1", "broken", "=x", "odd=\n", "big=" + "x" * 5000])
    assert cookies.take(here, ["one=; Max-Age=0"])
    assert cookies.field_for("https://a.example/files/y") == "three=3"


def test_as_many_redirects_are_followed_as_browsers_follow(web: WebAccess, place: StandIn) -> None:
    def move_on(handler: StandInHandler) -> None:
        handler.refuse(302, {"Location": f"/{int(handler.path[1:]) + 1}"})

    place.exhibits |= {str(number): Exhibit(script=move_on) for number in range(30)}
    place.exhibits["20"] = Exhibit(CONTENT)
    assert fetch(web, f"{place.base}/0")[1] == CONTENT
    place.exhibits["20"] = place.exhibits["19"]
    place.exhibits["30"] = Exhibit(CONTENT)
    with pytest.raises(TooManyRedirects):
        fetch(web, f"{place.base}/1")


@pytest.mark.parametrize("signed", [False, True])
def test_a_redirect_away_from_tls_is_told_and_refused_to_who_is_signed_in(
    place: StandIn, signed: bool
) -> None:
    served(place)
    certificate = Path(__file__).parent / "support" / "named.pem"
    context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
    context.load_cert_chain(certificate)
    with StandIn({"x": Exhibit(script=lambda h: h.refuse(302, {"Location": f"{place.base}/x"}))},
                 context=context) as secure:  # fmt: skip
        sign_ins = SignIns({secure.base: SignIn(token=Secret("reedmace"))} if signed else {})
        trust = ssl.create_default_context(cafile=str(certificate))
        with WebAccess(context_for=lambda _: trust, sign_ins=sign_ins) as web:
            if signed:
                with pytest.raises(NotTrusted, match="redirected from https to http"):
                    fetch(web, f"{secure.base}/x")
            else:
                delivery, content = fetch(web, f"{secure.base}/x")
                assert content == CONTENT
                assert delivery.notes == ("redirected from https to http; fetched unencrypted",)
