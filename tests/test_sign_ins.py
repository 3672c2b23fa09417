"""Sign-ins: every kind against servers that ask for it, and secrets that stay where they belong."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path

import pytest

from tests.support.program import Outcome, files_in, run
from tests.support.servers import APACHE, NGINX, apache, nginx
from willow_cart.demo.stand_in import Exhibit, StandIn, StandInHandler
from willow_cart.protocols.http.http_rules import parse_challenges
from willow_cart.sign_in.digest import answer_digest, read_digest_challenge
from willow_cart.sign_in.secrets import Secret
from willow_cart.sign_in.sign_ins import SignIn, SignIns

SECRET = "reedmace"
USER = ["--user", "ida", "--password", "env:FEN"]


@pytest.fixture(autouse=True)
def home(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A home of one's own, so that no sign-in of this machine's user is met."""
    monkeypatch.setenv("HOME", str(tmp_path))
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    monkeypatch.setenv("FEN", SECRET)
    return tmp_path


def guarded(place: StandIn, field: str, value: str) -> None:
    """Serve one file to those who send a header field, and note who asked how."""

    def serve(handler: StandInHandler) -> None:
        if handler.headers.get(field) != value:
            handler.refuse(401)
            return
        handler.start(200, {"Content-Length": "3"})
        handler.wfile.write(b"yes")

    place.exhibits["m/x.csv"] = Exhibit(script=serve)


def haul(place: str, cwd: Path, *options: str) -> Outcome:
    outcome = run("haul", f"{place}/m/x.csv", "--into", "x", "--attempts", "1", *options, cwd=cwd)
    assert SECRET not in outcome.out + outcome.err
    assert SECRET.encode() not in (cwd / "x" / ".willow" / "ledger.db").read_bytes()
    return outcome


@pytest.mark.parametrize(
    ("field", "value", "options"),
    [
        ("Authorization", f"Bearer {SECRET}", ["--token", "env:FEN"]),
        ("Authorization", f"Bearer {SECRET}", ["--token", "file:secret.txt"]),
        ("X-Key", SECRET, ["--header", "X-Key: env:FEN"]),
        ("X-Key", SECRET, ["--header", f"X-Key: {SECRET}"]),
        ("X-Key", SECRET, [f"--header=X-Key:{SECRET}"]),
    ],
)
def test_tokens_and_fields_let_in(
    tmp_path: Path, place: StandIn, field: str, value: str, options: list[str]
) -> None:
    (tmp_path / "secret.txt").write_text(f"{SECRET}\nnot this\n")
    guarded(place, field, value)
    without = haul(place.base, tmp_path)
    assert without.code == 1
    assert "401 Unauthorized; give a sign-in (--user, --token" in without.err
    assert haul(place.base, tmp_path, *options).code == 0
    shown = run("receipt", "x", cwd=tmp_path).out
    assert SECRET not in shown


@pytest.mark.parametrize(("serve", "there"), [(nginx, NGINX), (apache, APACHE)])
def test_basic_and_digest_let_in_whoever_knows_the_password(
    tmp_path: Path, serve: object, there: str | None, monkeypatch: pytest.MonkeyPatch
) -> None:
    """nginx asks for basic, Apache for digest authentication."""
    if not there:
        pytest.skip("is not installed")
    root = tmp_path / "www"
    (root / "a b").mkdir(parents=True)
    files = {"a b/one.csv": b"one", "two.csv": b"two"}
    for path, content in files.items():
        (root / path).write_bytes(content)
    with serve(root, tmp_path / "work") as base:  # type: ignore[operator]
        everything = ["haul", f"{base}/members/", "--depth", "all", "--into", "x"]
        shut = run(*everything, cwd=tmp_path)
        assert (shut.code, shut.out) == (1, "")
        assert "give a sign-in (--user" in shut.err
        outcome = run(*everything, *USER, cwd=tmp_path)
        assert outcome.code == 0, outcome.err
        assert files_in(tmp_path / "x") == files
        monkeypatch.setenv("FEN", "wrong")
        wrong = run(*everything, *USER, cwd=tmp_path)
        assert wrong.code == 1
        assert "sign-in refused; check the name and the secret" in wrong.err


def test_a_sign_in_of_the_config_file_is_used_at_its_place_or_by_its_name(
    tmp_path: Path, place: StandIn
) -> None:
    config = tmp_path / "config" / "willow-cart" / "config.toml"
    config.parent.mkdir(parents=True)
    guarded(place, "Authorization", f"Bearer {SECRET}")
    config.write_text(f'[sign_in.fen]\naddress = "{place.base}/m/"\ntoken_env = "FEN"\n')
    assert haul(place.base, tmp_path).code == 0
    config.write_text('[sign_in.fen]\ntoken_env = "FEN"\n')
    assert haul(place.base, tmp_path, "--layout", "flat").code == 1
    assert haul(place.base, tmp_path, "--sign-in", "fen").code == 0
    for content, words in {
        '[sign_in.fen]\ntokenenv = "FEN"\n': "tokenenv: unknown key; did you mean token_env",
        '[sign_in.fen]\npassword = "x"\n': "must not be given as plain text; write env:NAME",
        '[sign_in.fen]\ntoken_env = "NONE"\n': "the environment variable NONE is not set",
        "[sign_in\n": "not valid TOML",
        "[sign_in.other]\n": "--sign-in fen: not in",
    }.items():
        config.write_text(content)
        outcome = run("survey", f"{place.base}/", "--sign-in", "fen", cwd=tmp_path)
        assert outcome.code == 2
        assert words in outcome.err


def test_cookies_and_netrc_let_in(tmp_path: Path, place: StandIn) -> None:
    guarded(place, "Cookie", f"visit={SECRET}")
    jar = tmp_path / "cookies.txt"
    line = "127.0.0.1\tFALSE\t{path}\tFALSE\t0\tvisit\t" + SECRET + "\n"
    jar.write_text("# Netscape HTTP Cookie File\n" + line.format(path="/m/"))
    assert haul(place.base, tmp_path, "--cookies", "cookies.txt").code == 0
    jar.write_text("# Netscape HTTP Cookie File\n" + line.format(path="/other/"))
    assert haul(place.base, tmp_path, "--cookies", "cookies.txt").code == 1
    jar.write_text(line)
    assert "Netscape text form" in run("survey", place.base, "--cookies", jar, cwd=tmp_path).err
    place.exhibits["m/x.csv"] = Exhibit(b"yes", members=f"ida:{SECRET}")
    assert haul(place.base, tmp_path).code == 1
    netrc = tmp_path / ".netrc"
    netrc.write_text(f"machine 127.0.0.1 login ida password {SECRET}\n")
    netrc.chmod(0o600)
    assert haul(place.base, tmp_path).code == 0
    # In a list a host alone may be any server of that host: only what the person names counts.
    (tmp_path / "list.txt").write_text(f"{place.base}/m/x.csv\n")
    assert run("haul", "list.txt", "--into", "y", cwd=tmp_path).code == 1
    named = ["--sign-in-at", place.base]
    assert run("haul", "list.txt", "--into", "y", *named, cwd=tmp_path).code == 0


@pytest.mark.parametrize("options", [["--token", "env:FEN"], ["--header", "X-Key: env:FEN"], USER])
def test_a_secret_goes_to_its_own_origin_only(
    tmp_path: Path, place: StandIn, options: list[str]
) -> None:
    with StandIn({"x.csv": Exhibit(b"yes"), "y.csv": Exhibit(b"y", members="ida:x")}) as other:
        for path in ("x.csv", "y.csv"):
            place.exhibits[f"m/{path}"] = Exhibit(
                script=lambda handler: handler.refuse(
                    302, {"Location": f"{other.base}/{handler.path.rpartition('/')[2]}"}
                )
            )
        haul(place.base, tmp_path, *options)
        run("haul", f"{place.base}/m/y.csv", "--into", "y", *options, cwd=tmp_path)
        assert other.requests
        for request in other.requests:
            assert not {"authorization", "x-key", "cookie"} & set(request.fields)


def test_a_list_alone_names_no_place(tmp_path: Path, place: StandIn) -> None:
    (tmp_path / "list.txt").write_text(f"{place.base}/m/x.csv\n")
    outcome = run("haul", "list.txt", "--into", "x", *USER, cwd=tmp_path)
    assert outcome.code == 2
    assert "has no address to sign in to; use --sign-in-at" in outcome.err
    for options, words in (
        (["--user", "ida"], "--user ida: has no password; give --password"),
        (["--password", "env:FEN"], "--password: requires --user"),
        (["--token", SECRET], "--token: must not be given as plain text; write env:NAME"),
        (["--token", "env:NONE"], "the environment variable NONE is not set"),
        (["--token", "file:none.txt"], "none.txt cannot be read"),
        (["--header", "X-Key"], "--header: not a header field"),
    ):
        outcome = run("survey", place.base, *options, cwd=tmp_path)
        assert (outcome.code, words in outcome.err) == (2, True), outcome.err
        assert SECRET not in outcome.err


def test_a_page_for_signing_in_is_known_as_one(tmp_path: Path, place: StandIn) -> None:
    form = b"<!doctype html><title>Members &amp; friends</title><input type=password name=p>"
    place.exhibits |= {
        "login": Exhibit(form, media_type="text/html"),
        "data/": Exhibit(script=lambda handler: handler.refuse(302, {"Location": "/login"})),
        "a.zip": Exhibit(script=lambda handler: handler.refuse(302, {"Location": "/login"})),
    }
    survey = run("survey", f"{place.base}/data/", cwd=tmp_path)
    assert survey.code == 2
    assert 'leads to a sign-in page, "Members & friends"; give a sign-in' in survey.err
    outcome = run("haul", f"{place.base}/a.zip", "--into", "x", cwd=tmp_path)
    assert outcome.code == 4
    assert 'the server sent a sign-in page, "Members & friends"' in outcome.err
    assert files_in(tmp_path / "x") == {}


@pytest.mark.parametrize(
    ("algorithm", "response"),
    [
        ("MD5", "8ca523f5e9506fed4657c9700eebdbec"),
        ("SHA-256", "753927fa0e85d155564e2e272a28d1802ca10daf4496794697cf8db5856cb6c1"),
    ],
)
def test_digests_are_those_of_the_standard(algorithm: str, response: str) -> None:
    """RFC 7616, 3.9.1."""
    parameters = {
        "realm": "http-auth@example.org",
        "qop": "auth, auth-int",
        "algorithm": algorithm,
        "nonce": "7ypf/xlj9XXwfDPEoM4URrv/xwf94BcCAzFZH4GiTo0v",
        "opaque": "FQhe/qaU925kfnzjCev0ciny7QMkPqMAFRtzCUYo5tdS",
    }
    challenge = read_digest_challenge(parameters)
    assert challenge is not None
    nonce = "f2/wE4q74E6zIJEtWaHKaf5wv/H5QzzpXusqGemxURZJ"
    answer = answer_digest(
        challenge, "Mufasa", "Circle of Life", "GET", "/dir/index.html", make_nonce=lambda: nonce
    )
    assert f'response="{response}"' in answer
    assert "nc=00000001" in answer
    assert read_digest_challenge(parameters | {"algorithm": "MD4"}) is None
    assert read_digest_challenge(parameters | {"qop": "auth-int"}) is None


@pytest.mark.parametrize(
    ("fields", "schemes"),
    [
        (['Basic realm="a, b"'], [("basic", {"realm": "a, b"})]),
        (["Negotiate, Basic realm=x"], [("negotiate", {}), ("basic", {"realm": "x"})]),
        (
            ['Digest realm="\\"q\\"", nonce=n, stale=TRUE', "Bearer"],
            [("digest", {"realm": '"q"', "nonce": "n", "stale": "TRUE"}), ("bearer", {})],
        ),
        (["=,;"], []),
    ],
)
def test_challenges_are_taken_apart(
    fields: list[str], schemes: list[tuple[str, Mapping[str, str]]]
) -> None:
    assert parse_challenges(fields) == schemes


def test_a_stale_nonce_is_answered_anew_and_a_refused_password_is_not() -> None:
    place = "https://fen.example/x?y=1"
    sign_ins = SignIns({"https://fen.example": SignIn("ida", Secret(SECRET))})
    ask = ['Digest realm="r", nonce="{}", qop="auth"'.format]
    assert sign_ins.challenged(place, [ask[0]("1")], {})
    sent = sign_ins.fields_for("GET", place)
    assert re.search(r'nonce="1".*nc=00000001', sent["Authorization"])
    assert 'uri="/x?y=1"' in sent["Authorization"]
    assert not sign_ins.challenged(place, [ask[0]("2")], sent)
    assert sign_ins.challenged(place, [ask[0]("3") + ", stale=true"], sent)
    assert 'nonce="3"' in sign_ins.fields_for("GET", place)["Authorization"]
    assert sign_ins.fields_for("GET", "http://fen.example/x") == {}
    assert sign_ins.fields_for("GET", "https://fen.example:8443/x") == {}
    assert SECRET not in repr(SignIn("ida", Secret(SECRET))) + str(Secret(SECRET))


def test_secrets_are_read_from_the_keyring(tmp_path: Path, place: StandIn) -> None:
    """A keyring of its own, which knows one secret and is locked for another."""
    (tmp_path / "fen_keyring.py").write_text(
        "from keyring.backend import KeyringBackend\n"
        "from keyring.errors import KeyringLocked\n"
        "class Backend(KeyringBackend):\n"
        "    priority = 1\n"
        "    def get_password(self, service, name):\n"
        "        if name == 'locked':\n"
        "            raise KeyringLocked('it is locked')\n"
        "        return {('willow-cart', 'fen'): 'reedmace'}.get((service, name))\n"
        "    def set_password(self, service, name, password): ...\n"
        "    def delete_password(self, service, name): ...\n"
    )
    env = {"PYTHONPATH": str(tmp_path), "PYTHON_KEYRING_BACKEND": "fen_keyring.Backend"}
    place.exhibits["members.csv"] = Exhibit(b"inside", members="ida:reedmace")
    haul = ["haul", f"{place.base}/members.csv", "--into", "data", "--user", "ida", "--password"]
    done = run(*haul, "keyring:fen", cwd=tmp_path, env=env)
    assert done.code == 0, done.err
    assert (tmp_path / "data" / "members.csv").read_bytes() == b"inside"
    absent = run(*haul, "keyring:mere", cwd=tmp_path, env=env)
    assert absent.code == 2
    assert "the keyring has no entry mere of willow-cart; enter it with" in absent.err
    locked = run(*haul, "keyring:locked", cwd=tmp_path, env=env)
    assert (locked.code, len(locked.err.splitlines())) == (2, 1)
    assert "the keyring cannot be read: it is locked" in locked.err
    for file in (tmp_path / "data" / ".willow").iterdir():
        assert file.is_dir() or b"reedmace" not in file.read_bytes()
