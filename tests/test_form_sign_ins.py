"""Sign-ins that take steps of their own: forms, OAuth 2.0, and hosts that vouch for users."""

from __future__ import annotations

import json
import stat
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from urllib.request import urlopen

import pytest

from tests.support.program import PATIENCE, Outcome, files_in, run, start
from willow_cart.demo.portal import IdentityHost, Portal
from willow_cart.demo.stand_in import Exhibit, StandIn
from willow_cart.sign_in.oauth import OAuthSignIn, Token
from willow_cart.sign_in.secrets import Secret

FILES = {f"level_{n}.csv": b"station,level\na,%d\n" % n for n in range(12)}
PAGE = b"<!doctype html><title>Notes</title><p>Nothing to sign in to.</p>"


@pytest.fixture
def identity() -> Iterator[IdentityHost]:
    with IdentityHost() as host:
        yield host


@pytest.fixture
def portal(identity: IdentityHost) -> Iterator[Portal]:
    exhibits = {
        f"{folder}/{name}": Exhibit(content)
        for folder in ("members", "records", "vouched")
        for name, content in FILES.items()
    }
    exhibits["members/notes.html"] = Exhibit(PAGE)
    with Portal(exhibits, identity=identity.base) as place:
        yield place


Configure = Callable[[str], dict[str, str]]


@pytest.fixture
def configure(tmp_path: Path) -> Configure:
    def write(text: str) -> dict[str, str]:
        config = tmp_path / "config" / "willow-cart"
        config.mkdir(parents=True, exist_ok=True)
        (config / "config.toml").write_text(text)
        return {
            "XDG_CONFIG_HOME": str(tmp_path / "config"),
            "XDG_STATE_HOME": str(tmp_path / "state"),
            "FEN": Portal.password,
            "SEDGE": Portal.client_secret,
        }

    return write


def form_of(portal: Portal, more: str = 'user = "ida"\npassword_env = "FEN"\n') -> str:
    return f'[sign_in.portal]\naddress = "{portal.base}"\nform = "{portal.base}/login"\n{more}'


def hauled(tmp_path: Path, where: str, environment: dict[str, str]) -> Outcome:
    return run(
        "haul", f"{where}/", "--into", "data", "--layout", "flat", "--log", "log.jsonl",
        cwd=tmp_path, env=environment,
    )  # fmt: skip


@pytest.mark.parametrize("redirects", [True, False])
def test_a_form_is_filled_in_once_and_anew_when_the_session_ends(
    tmp_path: Path, portal: Portal, configure: Configure, *, redirects: bool
) -> None:
    portal.redirects = redirects
    environment = configure(form_of(portal))
    first = hauled(tmp_path, f"{portal.base}/members", environment)
    assert first.code == 0, first.err
    assert files_in(tmp_path / "data") == FILES | {"notes.html": PAGE}
    assert portal.sign_ins == {"form": 1}, "by one lane for all"
    # A session that ends in the midst is begun again, and no file is the form.
    for name, content in FILES.items():
        portal.exhibits[f"members/{name}"] = Exhibit(content + b"more\n")
    closed: list[bool] = []

    def close(handler: object) -> None:
        if not closed:
            closed.append(True)
            portal.sessions.clear()
        handler.serve(Exhibit(FILES["level_3.csv"] + b"more\n"))  # type: ignore[attr-defined]

    portal.exhibits["members/level_3.csv"].script = close
    again = hauled(tmp_path, f"{portal.base}/members", environment)
    assert again.code == 0, again.err
    more = {name: content + b"more\n" for name, content in FILES.items()}
    assert files_in(tmp_path / "data") == more | {"notes.html": PAGE}
    assert portal.sign_ins == {"form": 3}
    everything = (tmp_path / "log.jsonl").read_bytes() + b"".join(
        path.read_bytes() for path in tmp_path.rglob("*") if path.is_file()
    )
    assert b"reedmace" not in everything
    assert not any(session.encode() in everything for session in portal.sessions)


def test_fields_are_named_where_they_cannot_be_guessed(
    tmp_path: Path, portal: Portal, configure: Configure
) -> None:
    fields = 'form_fields = {account = "ida", secret_word = "env:FEN"}\n'
    environment = configure(form_of(portal, fields))
    assert hauled(tmp_path, f"{portal.base}/members", environment).code == 0
    changed = configure(form_of(portal, fields.replace("account", "login")))
    outcome = run("survey", f"{portal.base}/members/", cwd=tmp_path, env=changed)
    assert "the page has a form without the field login; it has stamp, account" in outcome.err
    plain = configure(form_of(portal, fields.replace("env:FEN", "reedmace")))
    outcome = run("survey", f"{portal.base}/members/", cwd=tmp_path, env=plain)
    assert outcome.code == 2
    assert "must not be given as plain text" in outcome.err


FORMS = {
    "no form": ("<title>Moved</title><p>Sign in elsewhere.", "no form with a password field"),
    "get": (
        '<form action="{action}"><input name=a><input type=password name=b></form>',
        "a form that would put the password into an address",
    ),
    "elsewhere": (
        '<form method=post action="http://127.0.0.1:9/x"><input type=password name=b></form>',
        "a form that is sent to another host",
    ),
    "base": (
        '<base href="http://127.0.0.1:9/"><form method=post action=x><input type=password></form>',
        "a form that is sent to another host",
    ),
    "multipart": (
        "<form method=post enctype=multipart/form-data><input name=a><input type=password name=b>",
        "a form of the type multipart/form-data",
    ),
    "no user": ("<form method=post><input type=password name=b></form>", "without fields for user"),
}


@pytest.mark.parametrize("name", FORMS)
def test_a_form_that_is_not_as_it_should_be_gets_no_password(
    tmp_path: Path, portal: Portal, configure: Configure, name: str
) -> None:
    portal.form, words = FORMS[name]
    outcome = run("survey", f"{portal.base}/members/", cwd=tmp_path, env=configure(form_of(portal)))
    assert outcome.code == 1, outcome.out
    assert len(outcome.err.splitlines()) == 1, outcome.err
    assert f"signing in to {portal.base}" in outcome.err
    assert words in outcome.err
    assert portal.posts == {}


def test_a_refused_password_is_sent_once(
    tmp_path: Path, portal: Portal, configure: Configure
) -> None:
    environment = configure(form_of(portal)) | {"FEN": "willow"}
    (tmp_path / "list.txt").write_text("".join(f"{portal.base}/members/{n}\n" for n in FILES))
    outcome = run("haul", "list.txt", "--into", "data", cwd=tmp_path, env=environment)
    assert outcome.code == 1
    assert "the sign-in form was returned; user or password were refused" in outcome.err
    assert files_in(tmp_path / "data") == {}
    assert portal.posts == {"/session": 1}, "an account may be locked by the next"
    knocked = run("knock", f"{portal.base}/members/", cwd=tmp_path, env=environment)
    assert knocked.code == 1
    assert "sign-in" in knocked.out
    assert "the sign-in form was returned" in knocked.out


def tokens_of(portal: Portal, more: str) -> str:
    return (
        f'[sign_in.records]\naddress = "{portal.base}"\ntoken_address = "{portal.base}/token"\n'
        f'client = "{Portal.client}"\n{more}'
    )


def test_a_client_gets_tokens_and_renews_them(
    tmp_path: Path, portal: Portal, configure: Configure
) -> None:
    environment = configure(tokens_of(portal, 'client_secret_env = "SEDGE"\nscope = "levels"\n'))
    first = hauled(tmp_path, f"{portal.base}/records", environment)
    assert first.code == 0, first.err
    assert files_in(tmp_path / "data") == FILES
    assert portal.sign_ins == {"client_credentials": 1}
    (kept,) = (tmp_path / "state" / "willow-cart" / "tokens").glob("*.json")
    assert stat.S_IMODE(kept.stat().st_mode) == 0o600
    assert stat.S_IMODE(kept.parent.stat().st_mode) == 0o700
    assert hauled(tmp_path, f"{portal.base}/records", environment).code == 0
    assert portal.sign_ins == {"client_credentials": 1}, "the token was kept"
    # One that was taken back is replaced, by the refresh token that came with it.
    portal.tokens.clear()
    assert hauled(tmp_path, f"{portal.base}/records", environment).code == 0
    assert portal.sign_ins == {"client_credentials": 1, "refresh_token": 1}
    # One that is about to end is renewed before it does.
    facts = json.loads(kept.read_text())
    kept.write_text(json.dumps(facts | {"expires": time.time() + 5}))
    assert hauled(tmp_path, f"{portal.base}/records", environment).code == 0
    assert portal.sign_ins["refresh_token"] == 2
    # All is taken back: the client signs in once more.
    portal.tokens.clear()
    portal.refresh_tokens.clear()
    assert hauled(tmp_path, f"{portal.base}/records", environment).code == 0
    assert portal.sign_ins["client_credentials"] == 2
    wrong = hauled(tmp_path, f"{portal.base}/records", environment | {"SEDGE": "rush"})
    assert wrong.code == 0, "the kept token is still good"
    kept.write_text("no token")
    wrong = hauled(tmp_path, f"{portal.base}/records", environment | {"SEDGE": "rush"})
    assert wrong.code == 1
    assert "the client is not known, or its secret is wrong; check them" in wrong.err


def test_tokens_are_kept_in_the_keyring_if_wished(
    tmp_path: Path, portal: Portal, configure: Configure
) -> None:
    kept = tmp_path / "kept.json"
    (tmp_path / "fen_tokens.py").write_text(
        "import json, pathlib\n"
        "from keyring.backend import KeyringBackend\n"
        f"kept = pathlib.Path({str(kept)!r})\n"
        "class Backend(KeyringBackend):\n"
        "    priority = 1\n"
        "    def get_password(self, service, name):\n"
        "        return json.loads(kept.read_text()).get(name) if kept.exists() else None\n"
        "    def set_password(self, service, name, value):\n"
        "        kept.write_text(json.dumps({name: value}))\n"
        "    def delete_password(self, service, name):\n"
        "        kept.unlink()\n"
    )
    environment = configure(
        tokens_of(portal, 'client_secret_env = "SEDGE"\nkeep_tokens = "keyring"\n')
    )
    environment |= {"PYTHONPATH": str(tmp_path), "PYTHON_KEYRING_BACKEND": "fen_tokens.Backend"}
    for _ in range(2):
        assert hauled(tmp_path, f"{portal.base}/records", environment).code == 0
    assert portal.sign_ins == {"client_credentials": 1}
    assert kept.exists()
    assert not [*(tmp_path / "state" / "willow-cart" / "tokens").glob("*.json")]


def test_a_refresh_token_from_elsewhere_is_used_and_its_successor_kept(
    tmp_path: Path, portal: Portal, configure: Configure
) -> None:
    environment = configure(tokens_of(portal, 'refresh_token_env = "GREEN"\n'))
    environment["GREEN"] = "evergreen"
    assert hauled(tmp_path, f"{portal.base}/records", environment).code == 0
    portal.tokens.clear()
    assert hauled(tmp_path, f"{portal.base}/records", environment).code == 0
    assert portal.sign_ins == {"refresh_token": 2}, "the second time by the one that came first"
    portal.tokens.clear()
    portal.refresh_tokens.clear()
    over = hauled(tmp_path, f"{portal.base}/records", environment)
    assert over.code == 1
    assert "the token was taken back or has expired; sign in anew" in over.err


@pytest.mark.parametrize("seconds", [3, 30, 61])
def test_a_token_that_lasts_for_seconds_is_used_for_all_of_them(
    tmp_path: Path, portal: Portal, configure: Configure, seconds: int
) -> None:
    portal.token_seconds = seconds
    environment = configure(tokens_of(portal, 'client_secret_env = "SEDGE"\n'))
    assert hauled(tmp_path, f"{portal.base}/records", environment).code == 0
    given = sum(portal.sign_ins.get(each, 0) for each in ("client_credentials", "refresh_token"))
    asked = sum("records" in request.path for request in portal.requests)
    assert given <= (2 if seconds > 3 else 3) < asked, "not one for each request"


def test_a_code_is_shown_and_waited_for(
    tmp_path: Path, portal: Portal, configure: Configure, monkeypatch: pytest.MonkeyPatch
) -> None:
    environment = configure(tokens_of(portal, f'device_address = "{portal.base}/device"\n'))
    for name, value in environment.items():
        monkeypatch.setenv(name, value)
    haul = start(
        "haul", f"{portal.base}/records/", "--into", "data", "--layout", "flat", cwd=tmp_path
    )
    assert haul.stderr is not None
    shown = haul.stderr.readline().decode()
    assert f"to sign in, open {portal.base}/activate and enter the code FEN-2031" in shown
    # The user enters the code on the page.
    with urlopen(f"{portal.base}/activate", b"code=FEN-2031") as page:
        assert b"Approved" in page.read()
    out, err = haul.communicate(timeout=PATIENCE)
    assert haul.returncode == 0, (out, err)
    assert files_in(tmp_path / "data") == FILES
    assert hauled(tmp_path, f"{portal.base}/records", environment).code == 0
    assert portal.sign_ins == {"device_code": 1}, "no code is asked for again"


class Forgetful(set[str]):
    """Keeps nothing."""

    def add(self, element: str) -> None:
        pass


def test_a_second_code_in_a_run_is_explained(
    tmp_path: Path, portal: Portal, configure: Configure
) -> None:
    """The place gives no token that can be renewed, and one of it lasts for three seconds."""
    environment = configure(tokens_of(portal, f'device_address = "{portal.base}/device"\n'))
    portal.token_seconds, portal.approved, portal.refresh_tokens = 3, True, Forgetful()
    done = run(
        "haul", f"{portal.base}/records/", "--into", "data", "--layout", "flat", "--gap", "0.4",
        cwd=tmp_path, env=environment,
    )  # fmt: skip
    assert done.code == 0, done.err
    assert files_in(tmp_path / "data") == FILES
    lines = done.err.splitlines()
    codes = [n for n, line in enumerate(lines) if "to sign in, open" in line]
    assert len(codes) > 1
    assert "has ended" not in "".join(lines[: codes[0] + 1])
    assert all("the sign-in at" in lines[n - 1] and "has ended" in lines[n - 1] for n in codes[1:])


def test_an_identity_host_gets_the_password_on_the_way_that_was_written_down(
    tmp_path: Path, portal: Portal, identity: IdentityHost, configure: Configure
) -> None:
    sign_in = f'[sign_in.people]\naddress = "{identity.base}"\nuser = "ida"\npassword_env = "FEN"\n'
    environment = configure(f'{sign_in}only_from = "{portal.base}"\n')
    vouched = hauled(tmp_path, f"{portal.base}/vouched", environment)
    assert vouched.code == 0, vouched.err
    assert files_in(tmp_path / "data") == FILES
    assert portal.sign_ins == {"vouched": 1}, "its cookie is kept for the place"
    # Another place that leads there gets nothing, and neither does a straight request.
    with StandIn({}) as stranger:
        to = f"{identity.base}/vouch?back={portal.base}/enter?to=/vouched/level_1.csv"
        stranger.exhibits["level.csv"] = Exhibit(b"", refusals=[(302, {"Location": to})] * 9)
        for address in (f"{stranger.base}/level.csv", to):
            before = identity.asked_without
            refused = run("haul", address, "--into", "x", cwd=tmp_path, env=environment)
            assert refused.code == 1
            assert "401 Unauthorized" in refused.err
            assert identity.asked_without > before
    sent = [each for each in identity.requests if "authorization" in each.fields]
    assert len(sent) == 1


def test_the_forms_that_a_config_file_may_have(
    tmp_path: Path, portal: Portal, configure: Configure
) -> None:
    bad = {
        f'[sign_in.a]\nform = "{portal.base}/login"\nuser = "a"\npassword_env = "FEN"\n': (
            "address: is"
        ),
        form_of(portal, 'user = "ida"\n'): "has nothing to fill in",
        f'[sign_in.a]\naddress = "{portal.base}"\nclient = "a"\n': "client: requires token_address",
        tokens_of(portal, ""): "has nothing to sign in with",
        tokens_of(portal, 'client_secret_env = "SEDGE"\nkeep_tokens = "cloud"\n'): "unknown value",
        form_of(portal, "form_fields = 3\n"): "is of the wrong type",
    }
    for text, words in bad.items():
        outcome = run("survey", portal.base, cwd=tmp_path, env=configure(text))
        assert (outcome.code, len(outcome.err.splitlines())) == (2, 1), outcome.err
        assert words in outcome.err


def test_answers_of_token_places_are_read_with_care() -> None:
    sign_in = OAuthSignIn("https://a.example/token", "desk", Secret("s"))
    token = sign_in.read_token(b'{"access_token": "t", "expires_in": "90"}', 1000.0, "r")
    assert token == Token("t", 1090.0, "r", 90.0)
    assert (token.is_valid(1080.0), token.is_valid(1082.0)) == (True, False)
    short = sign_in.read_token(b'{"access_token": "t", "expires_in": 5}', 1000.0)
    assert (short.is_valid(1004.0), short.is_valid(1004.9)) == (True, False)
    long = sign_in.read_token(b'{"access_token": "t", "expires_in": 7200}', 1000.0)
    assert (long.is_valid(8139.0), long.is_valid(8141.0)) == (True, False)
    assert Token.from_text(token.as_text()) == token
    for text in ("", "[]", "{}", '{"access": 1}', "[" * 100_000):
        assert Token.from_text(text) is None
    for content in (b"", b"[]", b'{"access_token": 7}', b'{"access_token": "a\\nb"}',
                    b'{"access_token": "t", "token_type": "mac"}'):  # fmt: skip
        with pytest.raises(Exception, match=r"answer|not supported"):
            sign_in.read_token(content, 0.0)
    assert "<" not in str(sign_in.refused(400, b"<html>"))
