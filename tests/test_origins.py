"""Which credential goes to which origin: the table of SECURITY.md, and what servers really get."""

from __future__ import annotations

import re
import ssl
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.support.docs import ROOT
from tests.support.program import files_in, run
from tests.support.servers import SSHD, SshServer, openssh
from tests.test_form_sign_ins import FILES as MEMBERS
from tests.test_form_sign_ins import Configure, configure, form_of, hauled, identity, portal
from willow_cart.demo.portal import IdentityHost, Portal
from willow_cart.demo.stand_in import Exhibit, StandIn, StandInHandler
from willow_cart.executors.cluster import _has_secret
from willow_cart.model import Offer
from willow_cart.sign_in.origins import Credential, NamedBy, may_go

__all__ = ["configure", "identity", "portal"]

CERTIFICATE = Path(__file__).parent / "support" / "named.pem"
PAGE = '<a href="{}">x</a>'


def cell(credential: Credential, named_by: NamedBy) -> str:
    """What the rule says, in the words of the table."""
    here, elsewhere = "https://fen.example:8443", "https://sedge.example:8443"
    if may_go(credential, here, named_by, [here]) and not may_go(credential, elsewhere, named_by):
        return "only where you wrote it down for"
    if may_go(credential, here, named_by):
        return "yes"
    usual = [f"{scheme}://fen.example" for scheme in ("https", "ftps", "sftp", "http", "ftp")]
    if [may_go(credential, each, named_by) for each in usual] == [True] * 3 + [False] * 2:
        return "by a secure scheme on its usual port"
    return "no"


def test_the_table_of_security_md_says_what_the_rule_does() -> None:
    text = (ROOT / "SECURITY.md").read_text()
    rows = re.findall(r"^\| ([^|]+?) \| ([^|]+?) \| ([^|]+?) \| ([^|]+?) \|$", text, re.MULTILINE)
    written = {row[0]: list(row[1:]) for row in rows}
    order = (NamedBy.USER, NamedBy.LIST, NamedBy.SERVER)
    for credential in Credential:
        said = [cell(credential, named_by) for named_by in order]
        assert written[credential.value.shown] == said, credential


def leading(address: str) -> Exhibit:
    """A file that redirects, as often as it is asked for."""
    return Exhibit(script=lambda handler: handler.refuse(302, {"Location": address}))


def got(place: StandIn) -> list[str]:
    """The credentials that a place was sent."""
    fields = ("authorization", "cookie", "x-key", "proxy-authorization")
    return [each.fields[name] for each in place.requests for name in fields if name in each.fields]


@pytest.mark.parametrize("status", [301, 302, 303, 307, 308])
@pytest.mark.parametrize("at", ["the page", "the form"])
def test_the_password_of_a_form_stays_with_its_origin(
    tmp_path: Path, portal: Portal, configure: Configure, status: int, at: str
) -> None:
    bodies: list[bytes] = []

    def take(handler: StandInHandler) -> None:
        length = int(handler.headers.get("Content-Length") or 0)
        bodies.append(handler.rfile.read(length))
        form = (
            b'<form method=post action="/in"><input name=user><input type=password name=p></form>'
        )
        handler.wfile.write(
            b"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nContent-Length: %d\r\n\r\n" % len(form)
            + form
        )

    with StandIn({}) as stranger:
        stranger.exhibits |= {"login": Exhibit(script=take), "in": Exhibit(script=take)}
        to = {"Location": f"{stranger.base}/login"}
        moved = Exhibit(script=lambda handler: handler.refuse(status, to))
        if at == "the page":
            portal.exhibits["moved"] = moved
        else:
            page = b'<form method=post action="/moved"><input name=u><input type=password name=p>'
            portal.exhibits |= {"page.html": Exhibit(page), "moved": moved}
        name = "moved" if at == "the page" else "page.html"
        written = form_of(portal).replace(f"{portal.base}/login", f"{portal.base}/{name}")
        done = hauled(tmp_path, f"{portal.base}/members", configure(written))
        assert done.code != 0
        assert Portal.password not in "".join(map(str, [*bodies, done.err, done.out]))
        assert not got(stranger)


def test_the_default_of_netrc_is_for_places_that_the_user_named(tmp_path: Path) -> None:
    netrc = tmp_path / ".netrc"
    netrc.write_text("default login ida password reedmace\n")
    netrc.chmod(0o600)
    closed = Exhibit(b"in", members="ida:reedmace")
    with StandIn({"x.csv": closed}) as named, StandIn({"y.csv": closed}) as other:
        named.exhibits["page.html"] = Exhibit(
            (PAGE.format("x.csv") + PAGE.format(f"{other.base}/y.csv")).encode()
        )
        named.exhibits["z.csv"] = leading(f"{other.base}/y.csv")
        for source in (f"{named.base}/page.html", f"{named.base}/z.csv"):
            run("haul", source, "--into", "data", cwd=tmp_path, env={"HOME": str(tmp_path)})
        assert "x.csv" in files_in(tmp_path / "data")
        assert got(named)
        assert other.requests
        assert not got(other)


def test_an_identity_host_is_reached_by_places_that_were_written_down_alone(
    tmp_path: Path, portal: Portal, identity: IdentityHost, configure: Configure
) -> None:
    sign_in = f'[sign_in.people]\naddress = "{identity.base}"\nuser = "ida"\npassword_env = "FEN"\n'
    environment = configure(f'{sign_in}only_from = "{portal.base}"\n')
    to = f"{identity.base}/vouch?back={portal.base}/enter?to=/vouched/level_1.csv"
    with StandIn({"on.csv": leading(to)}) as third:
        portal.exhibits["away.csv"] = leading(f"{third.base}/on.csv")
        away = f"{portal.base}/away.csv"
        done = run("haul", away, "--into", "x", cwd=tmp_path, env=environment)
        assert "401 Unauthorized" in done.err
        assert not got(identity)
        # Once the place between is written down, too, it may lead there.
        both = f'{sign_in}only_from = ["{portal.base}", "{third.base}"]\n'
        assert run("haul", away, "--into", "x", cwd=tmp_path, env=configure(both)).code == 0
        assert got(identity)
    assert MEMBERS


@pytest.fixture(scope="module")
def ssh(tmp_path_factory: pytest.TempPathFactory) -> Iterator[SshServer]:
    if SSHD is None:
        pytest.skip("openssh-server is not installed")
    with openssh(tmp_path_factory.mktemp("sshd")) as server:
        yield server


def test_the_own_ssh_keys_are_not_for_what_a_server_names(tmp_path: Path, ssh: SshServer) -> None:
    home = tmp_path / "home" / ".ssh"
    home.mkdir(parents=True)
    (home / "known_hosts").write_text(ssh.known)
    (home / "id_ed25519").write_bytes(Path(ssh.key).read_bytes())
    (home / "id_ed25519").chmod(0o600)
    (home / "config").write_text(f"Host fen\n  HostName 127.0.0.1\n  Port {ssh.port}\n")
    env = {"HOME": str(tmp_path / "home"), "SSH_AUTH_SOCK": ""}
    (tmp_path / "x.csv").write_bytes(b"in")
    there = f"{ssh.base}{tmp_path}/x.csv"
    listed = {
        "page.html": PAGE.format(there).encode(),
        "list.txt": f"{there}\n".encode(),
        "list.csv": f"url\n{there}\n".encode(),
        "alias.html": PAGE.format(f"sftp://fen{tmp_path}/x.csv").encode(),
    }
    with StandIn({name: Exhibit(content) for name, content in listed.items()}) as place:
        for name in listed:
            more = ["--as", "list"] if name.startswith("list") else []
            done = run("haul", f"{place.base}/{name}", "--into", name, *more, cwd=tmp_path, env=env)
            assert done.code == 1, (name, done.err)
            assert ("your SSH keys are not used" in done.err) == (name != "alias.html"), done.err
        # Named besides, in a list of this machine, or straight, the place gets them.
        page = ("haul", f"{place.base}/page.html", "--into", "a", "--sign-in-at", ssh.base)
        assert run(*page, cwd=tmp_path, env=env).code == 0
    (tmp_path / "own.txt").write_text(f"{there}\n")
    for source in ("own.txt", there):
        done = run("haul", source, "--into", "b", cwd=tmp_path, env=env)
        assert done.code == 0, done.err


def test_a_client_certificate_is_shown_to_places_that_the_user_named(tmp_path: Path) -> None:
    context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH, cafile=str(CERTIFICATE))
    context.load_cert_chain(CERTIFICATE)
    context.verify_mode = ssl.CERT_OPTIONAL
    shown: dict[str, bool] = {}

    def note(handler: StandInHandler) -> None:
        shown[handler.path] = bool(handler.connection.getpeercert())
        handler.wfile.write(b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nin")

    trust = ["--ca", str(CERTIFICATE), "--client-cert", str(CERTIFICATE)]
    noted = Exhibit(script=note)
    with (
        StandIn({"named.csv": noted, "again.csv": noted}, context=context) as named,
        StandIn({"linked.csv": noted, "led.csv": noted}, context=context) as other,
    ):
        named.exhibits |= {
            "page.html": Exhibit(
                "".join(
                    map(PAGE.format, ("named.csv", f"{other.base}/linked.csv", "to.csv"))
                ).encode()
            ),
            "to.csv": leading(f"{other.base}/led.csv"),
        }
        page = ("haul", f"{named.base}/page.html", "--into", "data", *trust)
        done = run(*page, cwd=tmp_path)
        assert done.code == 0, done.err
    assert shown == {"/named.csv": True, "/linked.csv": False, "/led.csv": False}


@pytest.mark.parametrize(
    "field", ["address", "mirrors", "source", "text", "title", "citation", "headings"]
)
def test_what_workers_are_sent_of_a_file_is_looked_at_as_a_whole(field: str) -> None:
    plain = "https://fen.example/x.csv"
    assert not _has_secret(Offer(plain, source=plain, mirrors=(plain,), text="May"))
    signed = f"{plain}?sig=kY3bZ0Qq8bM4uXwq7hRk1g"
    value = (plain, signed) if field in ("mirrors", "headings") else signed
    assert _has_secret(Offer(**{"address": plain, field: value}))  # type: ignore[arg-type]
