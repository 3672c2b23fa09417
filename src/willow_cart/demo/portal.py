"""A data portal that lets people in by a form, by tokens, or by a host that vouches for them."""

from __future__ import annotations

import html
import json
import secrets
import time
from collections.abc import Mapping
from http.cookies import SimpleCookie
from urllib.parse import parse_qs, quote, quote_plus, urlencode, urlsplit

from willow_cart.demo.stand_in import Exhibit, StandIn, StandInHandler

FORM = """<!doctype html><title>Sign in to the wetland portal</title>
<form action="{action}" method="post"><input type="hidden" name="stamp" value="{stamp}">
<label>Account <input name="account"></label>
<label>Password <input type="password" name="secret_word"></label>
<input type="hidden" name="back" value="{back}"><button>Sign in</button></form>
"""

USER_CODE = "FEN-2031"
DEVICE_PAGE = b"""<!doctype html><title>Approve a program</title>
<form method="post"><label>Code <input name="code"></label><button>Approve</button></form>
"""


class Portal(StandIn):
    """A portal on a free port.

    What is below `members/` is for sessions that the form has begun, below `records/` for tokens,
    and below `vouched/` for those whom the identity host knows.

    Args:
        exhibits: what is served, by path without the first slash.
        port: 0 takes a free one.
        identity: the address of the identity host.
        token_seconds: for how long tokens are valid.
        redirects: whether members who are not signed in are sent to the form, or get it at once.

    Attributes:
        sessions: the sessions that are open, by their cookies.
        tokens: when each token ends, in seconds of the epoch.
        refresh_tokens: those that are valid.
        approved: whether the user has entered the code of the device.
        form: the page with the form.
        posts: how often each path was posted to.
        sign_ins: how often each way of signing in has succeeded.
    """

    account, password = "ida", "reedmace"
    client, client_secret = "willow-desk", "sedge & rush"

    def __init__(
        self,
        exhibits: Mapping[str, Exhibit],
        port: int = 0,
        *,
        identity: str = "",
        token_seconds: float = 3600.0,
        redirects: bool = True,
    ) -> None:
        super().__init__(exhibits, port)
        self.identity = identity
        self.token_seconds = token_seconds
        self.redirects = redirects
        self.sessions: set[str] = set()
        self.tokens: dict[str, float] = {}
        self.refresh_tokens: set[str] = {"evergreen"}
        self.approved = False
        self.form = FORM
        self.posts: dict[str, int] = {}
        self.sign_ins: dict[str, int] = {}

    def handler(self) -> type[StandInHandler]:
        """Return the handler class for connections."""
        return PortalHandler

    def succeed(self, way: str) -> None:
        """Count a sign-in."""
        self.sign_ins[way] = self.sign_ins.get(way, 0) + 1

    def begin_session(self, way: str) -> str:
        """Count a sign-in, and return the cookie of its session."""
        self.succeed(way)
        session = secrets.token_hex(8)
        self.sessions.add(session)
        return session


class PortalHandler(StandInHandler):
    """One connection to the portal."""

    @property
    def portal(self) -> Portal:
        """The portal."""
        place = self.server.stand_in
        assert isinstance(place, Portal), "it serves no other"
        return place

    def answer(self) -> None:
        """Answer a request of someone who may have what it is for."""
        parts = urlsplit(self.path)
        portal = self.portal
        cookies = {name: each.value for name, each in SimpleCookie(self.headers["Cookie"]).items()}
        match parts.path.split("/")[1]:
            case "login":
                self._send_form(parse_qs(parts.query).get("back", ["/"])[0])
            case "welcome":
                self._send_page(200, b"<!doctype html><title>Welcome</title>", "text/html", {})
            case "activate":
                self._send_page(200, DEVICE_PAGE, "text/html", {})
            case "enter":
                self._enter(parse_qs(parts.query))
            case "members" if cookies.get("session") not in portal.sessions:
                if portal.redirects:
                    self.refuse(302, {"Location": f"/login?back={quote(parts.path)}"})
                else:
                    self._send_form(parts.path)
            case "vouched" if cookies.get("vouched") not in portal.sessions:
                back = f"{portal.base}/enter?to={quote(parts.path)}"
                self.refuse(302, {"Location": f"{portal.identity}/vouch?back={quote(back)}"})
            case "records" if not self._has_token():
                self.refuse(401, {"WWW-Authenticate": 'Bearer error="invalid_token"'})
            case _:
                super().answer()

    def do_POST(self) -> None:  # noqa: N802  # as the library calls it
        """Answer a form, or a question for a token."""
        body = self.rfile.read(int(self.headers.get("Content-Length", "0"))).decode("ascii")
        given = {name: values[0] for name, values in parse_qs(body).items()}
        path = urlsplit(self.path).path
        self.portal.posts[path] = self.portal.posts.get(path, 0) + 1
        match path:
            case "/session":
                self._begin_session(given)
            case "/token":
                self._give_token(given)
            case "/device":
                self._give_code(given)
            case "/activate" if given.get("code") == USER_CODE:
                self.portal.approved = True
                self._send_page(200, b"<!doctype html><title>Approved</title>", "text/html", {})
            case _:
                self.refuse(404)

    # The form

    def _send_form(self, back: str) -> None:
        page = self.portal.form.format(action="/session", stamp="fen", back=html.escape(back))
        self._send_page(200, page.encode(), "text/html; charset=utf-8", {"Set-Cookie": "seen=1"})

    def _begin_session(self, given: Mapping[str, str]) -> None:
        portal = self.portal
        seen = "seen=1" in (self.headers["Cookie"] or "")
        right = (given.get("account"), given.get("secret_word")) == (
            portal.account, portal.password
        )  # fmt: skip
        if not (seen and right and given.get("stamp") == "fen"):
            self._send_form(given.get("back", "/"))
            return
        cookie = f"session={portal.begin_session('form')}; Path=/; HttpOnly"
        self.refuse(303, {"Location": "/welcome", "Set-Cookie": cookie})

    # The identity host's users

    def _enter(self, given: Mapping[str, list[str]]) -> None:
        if given.get("ticket") != ["fen-ticket"]:
            self.refuse(403)
            return
        cookie = f"vouched={self.portal.begin_session('vouched')}; Path=/"
        self.refuse(302, {"Location": given["to"][0], "Set-Cookie": cookie})

    # Tokens

    def _has_token(self) -> bool:
        kind, _, token = self.headers.get("Authorization", "").partition(" ")
        return kind == "Bearer" and self.portal.tokens.get(token, 0) > time.time()

    def _give_token(self, given: Mapping[str, str]) -> None:
        portal = self.portal
        grant = given.get("grant_type", "").rpartition(":")[2]
        match grant:
            case "client_credentials":
                members = map(quote_plus, (portal.client, portal.client_secret))
                if not self._is_member(":".join(members)):
                    self._send_json(401, {"error": "invalid_client"})
                    return
            case "refresh_token":
                if given.get("refresh_token") not in portal.refresh_tokens:
                    self._send_json(400, {"error": "invalid_grant"})
                    return
                portal.refresh_tokens.discard(given["refresh_token"])
            case "device_code" if not portal.approved:
                self._send_json(400, {"error": "authorization_pending"})
                return
            case "device_code":
                pass
            case _:
                self._send_json(400, {"error": "unsupported_grant_type"})
                return
        portal.succeed(grant)
        token, refresh = secrets.token_hex(8), secrets.token_hex(8)
        portal.tokens[token] = time.time() + portal.token_seconds
        portal.refresh_tokens.add(refresh)
        facts = {"access_token": token, "token_type": "Bearer", "expires_in": portal.token_seconds}
        self._send_json(200, facts | {"refresh_token": refresh})

    def _give_code(self, given: Mapping[str, str]) -> None:
        if given.get("client_id") != self.portal.client:
            self._send_json(401, {"error": "invalid_client"})
            return
        facts = {"device_code": "reed", "user_code": USER_CODE, "expires_in": 600, "interval": 0.1}
        self._send_json(200, facts | {"verification_uri": f"{self.portal.base}/activate"})

    def _send_json(self, status: int, facts: Mapping[str, object]) -> None:
        self._send_page(status, json.dumps(facts).encode(), "application/json", {})

    def _send_page(
        self, status: int, page: bytes, media_type: str, fields: Mapping[str, str]
    ) -> None:
        length = {"Content-Type": media_type, "Content-Length": str(len(page))}
        self.start(status, length | dict(fields))
        if self.command != "HEAD":
            self.wfile.write(page)


class IdentityHost(StandIn):
    """A host that knows people by name and password, and vouches for them at other places."""

    def __init__(self, port: int = 0) -> None:
        super().__init__({}, port)
        self.members = f"{Portal.account}:{Portal.password}"
        self.asked_without = 0

    def handler(self) -> type[StandInHandler]:
        """Return the handler class for connections."""
        return IdentityHandler


class IdentityHandler(StandInHandler):
    """One connection to the identity host."""

    def answer(self) -> None:
        """Send someone who is known back with a ticket."""
        host = self.server.stand_in
        assert isinstance(host, IdentityHost), "it serves no other"
        if not self._is_member(host.members):
            host.asked_without += 1
            self.refuse(401, {"WWW-Authenticate": 'Basic realm="wetland people"'})
            return
        back = parse_qs(urlsplit(self.path).query)["back"][0]
        self.refuse(302, {"Location": f"{back}&{urlencode({'ticket': 'fen-ticket'})}"})
