"""Build the access to servers with the user's sign-ins."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING

from willow_cart.addresses import (
    expand_ranges,
    looks_like_address,
    normalise,
    origin_of,
    scheme_of,
)
from willow_cart.archives.reader import Bounds
from willow_cart.commands.request import ReachingRequest
from willow_cart.commands.settings import TABLES, own_file
from willow_cart.errors import BadAddress, BadOption
from willow_cart.events import CodeWanted, PassedOver
from willow_cart.observer import Observer, WaitNotes
from willow_cart.options.groups import ConnectingOptions, PaceOptions, SignInOptions
from willow_cart.platform.own_folders import state_folder
from willow_cart.protocols import Retrier, RetryPolicy
from willow_cart.protocols.router import AccessSettings, ProtocolRouter
from willow_cart.redaction import SECRET_REFERENCES
from willow_cart.sign_in.cookie_file import CookieJar, read_cookies
from willow_cart.sign_in.origins import NamedOrigins
from willow_cart.sign_in.secrets import Secret, read_secret
from willow_cart.sign_in.sign_in_file import read_sign_ins
from willow_cart.sign_in.sign_ins import SignIn, SignIns
from willow_cart.sign_in.trust import Trust

if TYPE_CHECKING:
    from netrc import netrc

    from willow_cart.protocols import Access
    from willow_cart.protocols.recorder import ExchangeRecorder


def make_access(
    several: Sequence[ReachingRequest],
    lanes_per_host: int,
    observer: Observer,
    pace: PaceOptions = PaceOptions(),
    *,
    bounds: Bounds | None = None,
    kept: Mapping[str, tuple[str | None, SignIn]] | None = None,
    overhearing: ExchangeRecorder | None = None,
) -> Access:
    """Build the router over all supported protocols.

    Args:
        several: the options; of more than one the sign-ins of all count, and else the first.
        lanes_per_host: how many connections one host may have.
        observer: told what is waited for, and requested passwords.
        pace: how requests are made.
        bounds: how far archives may swell whose members are fetched; None as usual.
        kept: sign-ins that can be named besides those of the config file.
        overhearing: hears every exchange with the web; None for none.

    Raises:
        BadOption: a secret or a certificate is not where the option says.
    """
    request = several[0]
    stopped = threading.Event()
    settings = AccessSettings(
        lanes_per_host=lanes_per_host,
        pace=pace,
        connecting=request.connecting,
        sign_ins=_make_sign_ins(several, kept or {}, observer),
        trust=trust_of(request.connecting),
        retrier=Retrier(RetryPolicy.of(pace), stopped.wait, WaitNotes(observer)),
        overhearing=overhearing,
        tokens=state_folder() / "tokens",
        announce=lambda code: observer.note(CodeWanted(code.address, code.user_code, code.why)),
    )
    access = ProtocolRouter(settings, stopped, bounds)
    for each in several:
        for place in places_in((*each.sources, *filter(None, (each.signing.sign_in_at,)))):
            access.trust(place)
    return access


def _make_sign_ins(
    several: Sequence[ReachingRequest],
    kept_besides: Mapping[str, tuple[str | None, SignIn]],
    observer: Observer,
) -> SignIns:
    """Collect all sign-ins that a command may use.

    Raises:
        BadOption: a secret is not where the option says, or it is not clear which server it is for.
    """
    config = own_file()
    kept = {**read_sign_ins(config, besides=TABLES), **kept_besides}
    by_origin = {origin: sign_in for origin, sign_in in kept.values() if origin is not None}
    for request in several:
        for origin, query in request.signatures:
            by_origin[origin] = SignIn(shared_access=Secret(query))
    all_named: set[str] = set()
    for request in several:
        places = (
            request.sources if request.signing.sign_in_at is None else (request.signing.sign_in_at,)
        )
        named = set(map(origin_of, places_in(places)))
        by_origin |= _sign_ins_of(request.signing, named, kept, config, observer)
        all_named |= named
    cookies = next((each.signing.cookies for each in several if each.signing.cookies), None)
    jar = None
    if cookies:
        only_named = any(each.signing.sign_in_at is not None for each in several)
        jar = CookieJar(read_cookies(cookies, time.time()), only_named)
    origins = NamedOrigins(all_named)
    return SignIns(by_origin, cookies=jar, netrc=_read_netrc(observer), origins=origins)


def _sign_ins_of(
    request: SignInOptions,
    named: set[str],
    kept: Mapping[str, tuple[str | None, SignIn]],
    config: Path,
    observer: Observer,
) -> dict[str, SignIn]:
    """Return the sign-ins that the options name.

    Sign-ins that are spelt out are included; the keys are origins.
    """
    by_origin: dict[str, SignIn] = {}
    if request.sign_in is not None:
        if request.sign_in not in kept:
            known = f"there are {', '.join(kept)}" if kept else f"write it into {config}"
            raise BadOption(f"--sign-in {request.sign_in}", f"not in {config}", known)
        origin, sign_in = kept[request.sign_in]
        if origin is None:
            by_origin.update(dict.fromkeys(_some(named, "--sign-in"), sign_in))
    asks = not all(scheme_of(each) == "sftp" for each in named)
    if typed := _typed_sign_in(request, observer, asks=asks):
        by_origin.update(
            dict.fromkeys(_some(named, "--user, --token, --header or --shared-access"), typed)
        )
    return by_origin


def _typed_sign_in(request: SignInOptions, observer: Observer, *, asks: bool) -> SignIn | None:
    """Return the sign-in that the options describe, or None.

    Args:
        request: has the options.
        observer: asks for a password.
        asks: whether to ask for one that is missing; SSH has keys and an agent instead.
    """
    if request.password is not None and request.user is None:
        raise BadOption("--password", "requires --user")
    if request.account_key is not None and request.user is None:
        raise BadOption("--account-key", "requires --user", "give the name of the account")
    key, passphrase = _key_of(request)
    asks = asks and not (key or request.account_key)
    sign_in = SignIn(
        request.user or "",
        _password_of(request, observer, asks=asks),
        _read(request.token, "--token"),
        tuple(map(_read_field, request.header)),
        _read(request.account_key, "--account-key"),
        _read(request.shared_access, "--shared-access"),
        key=key,
        passphrase=passphrase,
    )
    return sign_in if any(sign_in.secrets) or key or sign_in.user else None


def _read(reference: str | None, option: str) -> Secret | None:
    return None if reference is None else read_secret(reference, option)


def _password_of(request: SignInOptions, observer: Observer, *, asks: bool) -> Secret | None:
    if request.password is None and request.user is not None and asks:
        return _ask_password(request.user, observer)
    return _read(request.password, "--password")


def _key_of(request: SignInOptions) -> tuple[str, Secret | None]:
    """Return the private key that the options name, and its passphrase."""
    if request.passphrase is not None and request.key is None:
        raise BadOption("--passphrase", "requires --key")
    if request.key is None:
        return "", None
    path = Path(request.key).expanduser().absolute()
    if not path.is_file():
        raise BadOption(f"--key {request.key}", "no such file", "check its path")
    return str(path), _read(request.passphrase, "--passphrase")


def _read_field(field: str) -> tuple[str, Secret]:
    """Parse a header field whose value may be a reference to a secret."""
    name, colon, value = field.partition(":")
    value = value.strip()
    if not colon or not name.strip() or not value or not field.isprintable():
        raise BadOption("--header", "not a header field", "write 'NAME: VALUE'")
    kept = value.startswith(SECRET_REFERENCES)
    return name.strip(), read_secret(value, "--header") if kept else Secret(value)


def _ask_password(user: str, observer: Observer) -> Secret:
    password = observer.ask_password(user)
    if password is None:
        raise BadOption(
            f"--user {user}", "has no password", "give --password env:NAME or file:PATH"
        )
    return Secret(password)


def places_in(sources: Iterable[str]) -> Iterator[str]:
    """Yield the origins of the addresses among the sources."""
    for source in sources:
        if looks_like_address(source):
            # Ranges in the path do not matter here, and there may be a million.
            scheme, _, rest = source.partition("://")
            for place in expand_ranges(f"{scheme}://{rest.partition('/')[0]}/"):
                with suppress(BadAddress):  # whatever looks at it states it
                    yield normalise(place)


def _some(named: set[str], option: str) -> set[str]:
    if not named:
        raise BadOption(option, "has no address to sign in to", "use --sign-in-at")
    return named


def _read_netrc(observer: Observer) -> netrc | None:
    """Read `~/.netrc`; if that fails, report it and continue."""
    import netrc

    path = Path("~/.netrc").expanduser()
    if not path.is_file():
        return None
    try:
        return netrc.netrc()
    except (netrc.NetrcParseError, OSError, UnicodeDecodeError) as error:
        observer.note(PassedOver(path, str(error)))
        return None


def trust_of(request: ConnectingOptions) -> Trust:
    """Return the certificates to trust.

    Raises:
        BadOption: a file cannot be read.
    """
    files = (request.ca, request.client_cert, request.client_key)
    trust = Trust(*(None if each is None else Path(each) for each in files))
    if any(files):
        trust.context()  # reports a mistake before any request
    return trust


def read_bounds(text: str | None) -> Bounds:
    """Parse the limits on the unpacked size of archives.

    Args:
        text: as typed; None for as far as usual.

    Raises:
        BadOption: it cannot be read.
    """
    return Bounds() if text is None else Bounds.parse(text)
