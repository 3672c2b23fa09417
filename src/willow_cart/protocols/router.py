"""The router: passes each address to the module of its protocol."""

from __future__ import annotations

import threading
from collections import defaultdict
from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import suppress
from functools import partial
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING

from willow_cart.addresses import host_of, is_inside, scheme_of
from willow_cart.archives.reader import Bounds
from willow_cart.errors import BadAddress
from willow_cart.model import Metadata, Validators
from willow_cart.options.groups import ConnectingOptions, PaceOptions
from willow_cart.protocols.base import (
    Access,
    Download,
    Lister,
    Sharing,
    SmallAnswer,
    SmallRequest,
    Unchanged,
)
from willow_cart.protocols.inside import Inside
from willow_cart.protocols.recorder import ExchangeRecorder
from willow_cart.protocols.retry import Retrier, tell_nothing
from willow_cart.protocols.sockets import RequestPacer
from willow_cart.redaction import lacks_secret, without_secrets
from willow_cart.schemes import SCHEMES
from willow_cart.sign_in.sign_ins import SignIns
from willow_cart.sign_in.trust import Trust
from willow_cart.structs import Value, replace

if TYPE_CHECKING:
    from willow_cart.sign_in.oauth import DeviceCode


class AccessSettings(Value, kw_only=True):
    """The settings of all protocols; each uses its part.

    Attributes:
        lanes_per_host: how many connections one host may have.
        pace: how patiently requests are made, and with which gaps.
        sign_ins: the credentials.
        trust: for TLS.
        retrier: makes attempts again for listings and other documents.
        pacer: keeps a gap between requests; made by the router, if there is one.
        overhearing: hears every exchange with the web; None for none.
        tokens: the folder where tokens are kept between runs; None for nowhere.
        announce: shows a code that the user has to enter elsewhere.
    """

    lanes_per_host: int
    pace: PaceOptions
    connecting: ConnectingOptions
    sign_ins: SignIns
    trust: Trust
    retrier: Retrier
    pacer: RequestPacer | None = None
    overhearing: ExchangeRecorder | None
    tokens: Path | None = None
    announce: Callable[[DeviceCode], None] = tell_nothing


class RouterSharing(Sharing):
    """Makes equal routers in other processes.

    Args:
        settings: for all protocols.
        bounds: how far archives may swell whose members are fetched; None as usual.
    """

    def __init__(self, settings: AccessSettings, bounds: Bounds | None) -> None:
        self._settings = settings
        self._bounds = bounds

    def reserve(self, address: str) -> float:
        """Reserve the next turn at a host; see `Sharing.reserve`."""
        pacer = self._settings.pacer
        return 0.0 if pacer is None else pacer.reserve(host_of(address))

    def holds(self, address: str) -> bool:
        """Whether a form signs in for a file, once for each process; see `Sharing.holds`."""
        sign_in = self._settings.sign_ins.session_sign_in(address)
        return sign_in is not None and sign_in.form is not None

    def maker(self) -> Callable[[], Access] | None:
        """Return a factory for another router; None if exchanges are recorded here."""
        return self._maker_with(self._settings)

    def open_maker(self, hosts: Collection[str]) -> Callable[[], Access] | None:
        """Return a factory that has names in place of secrets; see `Sharing.open_maker`."""
        sign_ins = self._settings.sign_ins.by_names(hosts)
        if sign_ins is None:
            return None
        return self._maker_with(replace(self._settings, sign_ins=sign_ins))

    def _maker_with(self, settings: AccessSettings) -> Callable[[], Access] | None:
        if settings.overhearing is not None:
            return None
        elsewhere = replace(
            settings,
            pacer=None,
            retrier=Retrier(settings.retrier.retry_policy),
            announce=tell_nothing,  # who starts it speaks to people
            trust=settings.trust.absolute(),
        )
        return partial(ProtocolRouter, elsewhere, bounds=self._bounds)


class ProtocolRouter(Access):
    """An access that passes each address to the protocol of its scheme, created on first use.

    Args:
        settings: for all protocols.
        stopped: set by `abort`, to end what waits.
        bounds: how far archives may swell whose members are fetched; None as usual.

    Attributes:
        inside: what fetches files inside archives.
    """

    def __init__(
        self,
        settings: AccessSettings,
        stopped: threading.Event | None = None,
        bounds: Bounds | None = None,
    ) -> None:
        if settings.pace.time_per_file is not None:
            self.document_seconds = settings.pace.time_per_file
        self.retrier = settings.retrier
        self._stopped = stopped or threading.Event()
        if settings.pacer is None and settings.pace.has_gaps:
            settings = replace(settings, pacer=RequestPacer(settings.pace))
        self._settings = settings
        self._made: dict[str, Access] = {}
        self.inside = Inside(self, bounds)
        self.sharing = RouterSharing(settings, bounds)

    def open(
        self,
        address: str,
        *,
        start: int = 0,
        end: int | None = None,
        validators: Validators | None = None,
    ) -> Download | Unchanged:
        """Request a file; see `Access.open`."""
        return self._access_to(address).open(address, start=start, end=end, validators=validators)

    def files_ahead(self, address: str) -> int:
        """Return how many files should be requested ahead; see `Access.files_ahead`."""
        try:
            return self._access_to(address).files_ahead(address)
        except BadAddress:  # it is reported when it is opened
            return 0

    def open_ahead(self, addresses: Sequence[str]) -> None:
        """Request files that will be opened next; see `Access.open_ahead`."""
        by_access: defaultdict[Access, list[str]] = defaultdict(list)
        for address in addresses:
            with suppress(BadAddress):  # it is reported when it is opened
                by_access[self._access_to(address)].append(address)
        for access, those in by_access.items():
            access.open_ahead(those)

    def fetches_small(self, address: str) -> bool:
        """Whether small files of a server can be fetched together; see `Access.fetches_small`."""
        try:
            return self._access_to(address).fetches_small(address)
        except BadAddress:  # it is reported when it is opened
            return False

    def fetch_small(
        self, asked: Sequence[SmallRequest], at_once: int, is_wanted: Callable[[], bool]
    ) -> Iterator[tuple[int, SmallAnswer]]:
        """Request small files of one host; see `Access.fetch_small`."""
        return self._access_to(asked[0].address).fetch_small(asked, at_once, is_wanted)

    def ask(self, address: str) -> Metadata:
        """Request the metadata of a file; see `Access.ask`."""
        return self._access_to(address).ask(address)

    def lister(self, address: str, *, webdav: bool = False) -> Lister | None:
        """Return what lists folders or keys; see `Access.lister`."""
        return self._access_to(address).lister(address, webdav=webdav)

    def post(self, address: str, body: bytes) -> tuple[Metadata, bytes]:
        """Send a document; see `Access.post`."""
        return self._access_to(address).post(address, body)

    def contact(self, address: str) -> str:
        """Return the address that is really contacted; see `Access.contact`."""
        return self._access_to(address).contact(address)

    def trust(self, address: str) -> None:
        """Record that a list of this machine named an address; see `Access.trust`."""
        self._settings.sign_ins.origins.add(address)

    def abort(self) -> None:
        """End every exchange; see `Access.abort`."""
        self._stopped.set()
        for access in list(self._made.values()):
            access.abort()

    def close(self) -> None:
        """Release all connections."""
        for access in self._made.values():
            access.close()

    def _access_to(self, address: str) -> Access:
        if lacks_secret(address):
            raise BadAddress(
                without_secrets(address),
                "the secret in it was removed when the address was recorded",
                "haul it from the source that offers it",
            )
        if is_inside(address):
            return self.inside
        protocol = SCHEMES.get(scheme_of(address))
        if protocol is None:
            shown = without_secrets(address)
            raise BadAddress(shown, f"unsupported scheme {scheme_of(address)}://", "")
        access = self._made.get(protocol.module)
        if access is None:
            # Of two that lanes make at the same time, one is kept; the other has done nothing yet.
            connect = import_module(protocol.module).connect
            access = self._made.setdefault(protocol.module, connect(self._settings))
        return access
