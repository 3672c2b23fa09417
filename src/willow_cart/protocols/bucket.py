"""S3 object storage: `s3://BUCKET/KEY` and `gs://BUCKET/KEY`, over HTTP.

Listing is ListObjectsV2; requests are signed by Signature Version 4 where there are credentials,
and anonymous otherwise.
"""

from __future__ import annotations

import os
import re
import threading
from collections.abc import Callable, Iterator, Mapping, Sequence
from operator import itemgetter
from types import MappingProxyType
from typing import TYPE_CHECKING, TypeVar
from urllib.parse import quote, unquote_plus, urlsplit

from willow_cart.addresses import address_of_key, host_of, key_of, origin_of, scheme_of
from willow_cart.defaults import LANES_PER_HOST
from willow_cart.errors import (
    BadAddress,
    BadOption,
    NotServed,
    NotTrusted,
    ServerBusy,
    SignInFailed,
    TransferFailed,
    said_in,
)
from willow_cart.model import Metadata, Validators
from willow_cart.options.groups import PaceOptions
from willow_cart.outside_values import read_iso
from willow_cart.protocols.base import (
    Access,
    DirectoryEntry,
    Download,
    Lister,
    ObjectStore,
    Unchanged,
    fetch_whole,
)
from willow_cart.protocols.http.http_rules import HOW_TO_SIGN_IN, next_address
from willow_cart.protocols.retry import Retrier
from willow_cart.protocols.sockets import RequestPacer
from willow_cart.protocols.store_pages import StorePage, open_page, page_by_page
from willow_cart.protocols.web import WebAccess
from willow_cart.redaction import without_secrets
from willow_cart.sign_in.origins import Credential
from willow_cart.sign_in.sign_ins import SignIns
from willow_cart.sign_in.trust import ContextFor, TlsContexts
from willow_cart.structs import Value, replace
from willow_cart.units import read_count

if TYPE_CHECKING:
    from botocore.credentials import Credentials

    from willow_cart.protocols.router import AccessSettings


if TYPE_CHECKING:
    from botocore.credentials import Credentials

# Roles of a machine, a container and a workload. Asking for them takes seconds where nothing
# answers, and shows that a program runs there.
_AMBIENT = ("iam-role", "container-role", "assume-role-with-web-identity")

# How long the service that knows the role of a machine is waited for, and how often.
_SERVICE_SECONDS = 2
_SERVICE_ATTEMPTS = 2


class UsualCredentials:
    """The credentials in the usual locations, read when first used; thread-safe.

    Args:
        profile: of the shared credentials file; empty for the one that is named by the
            environment, or the default one.
        ambient: whether to ask for the role of this machine as well.
    """

    def __init__(self, profile: str = "", *, ambient: bool = False) -> None:
        self._profile = profile
        self._ambient = ambient
        self._lock = threading.Lock()
        self._found: list[Credentials | None] = []

    def load(self) -> Credentials | None:
        """Return the credentials; None if there are none. Those of roles renew themselves.

        Raises:
            BadOption: there is no such profile.
            SignInFailed: credentials were asked for by name, and there are none.
        """
        with self._lock:
            if not self._found:
                self._found.append(self._load())
            return self._found[0]

    def _load(self) -> Credentials | None:
        import botocore.exceptions
        import botocore.session

        session = botocore.session.Session(profile=self._profile or None)
        session.set_config_variable("metadata_service_timeout", _SERVICE_SECONDS)
        session.set_config_variable("metadata_service_num_attempts", _SERVICE_ATTEMPTS)
        try:
            resolver = session.get_component("credential_provider")
            if not self._ambient:
                for name in _AMBIENT:
                    resolver.remove(name)
            found: Credentials | None = resolver.load_credentials()
        except botocore.exceptions.ProfileNotFound:
            known = ", ".join(session.available_profiles) or "none"
            raise BadOption(
                f"--profile {self._profile}", "no such profile", f"known profiles: {known}"
            ) from None
        except (botocore.exceptions.BotoCoreError, OSError, ValueError) as error:
            raise SignInFailed(
                "credentials for object stores", f"cannot be read: {said_in(error)}", "check them"
            ) from None
        if found is None and self._profile:
            raise BadOption(f"--profile {self._profile}", "has no credentials", "check the file")
        if found is None and self._ambient:
            raise BadOption(
                "--ambient", "this machine has no role that can be used", "leave it out"
            )
        return found


Answer = TypeVar("Answer")

_FIRST_REGION = "us-east-1"
_PUBLIC = {"s3": "https://s3.{region}.amazonaws.com", "gs": "https://storage.googleapis.com"}

# A bucket that is always in yet another region is in none.
_MAX_REGIONS = 2

# As many bytes of a listing as are read; a page of a thousand keys of 1,024 bytes has about 2 MB.
_MAX_PAGE_BYTES = 16 << 20


class Endpoint(Value):
    """The server of the buckets of a scheme.

    Attributes:
        address: of the service; with `{bucket}` in it the bucket is part of the host, otherwise
            of the path; `{region}` is filled in with the bucket's region.
    """

    address: str

    def web_address(self, bucket: str, key: str, region: str) -> str:
        """Return the web address of an object, or of the bucket if the key is empty.

        Everything but what is plain in every dialect is encoded, as signing demands.
        """
        base = self.address.replace("{region}", region).rstrip("/")
        base = base.replace("{bucket}", bucket) if "{bucket}" in base else f"{base}/{bucket}"
        return f"{base}/{quote(key, safe='/~')}"


class _Elsewhere(TransferFailed):
    """The bucket is in another region or at another host, which the response names.

    Attributes:
        region: of the bucket; empty if not given.
        location: where it redirects to; empty if it does not.
    """

    def __init__(self, thing: str, region: str, location: str) -> None:
        where = f"in the region {region}" if region else "at another host"
        super().__init__(thing, f"the bucket is {where}", "name it by AWS_REGION or --endpoint")
        self.region = region
        self.location = location


def connect(settings: AccessSettings) -> BucketAccess:
    """Build the access to object stores from the settings."""
    connecting = settings.connecting
    return BucketAccess(
        endpoint=connecting.endpoint,
        sign_ins=settings.sign_ins,
        usual=UsualCredentials(
            settings.connecting.profile or "", ambient=settings.connecting.ambient
        ),
        requester_pays=connecting.requester_pays,
        lanes_per_host=settings.lanes_per_host,
        context_for=TlsContexts(settings.trust, settings.sign_ins.origins),
        pace=settings.pace,
        pacer=settings.pacer,
        retrier=settings.retrier,
    )


class BucketAccess(Access, ObjectStore):
    """Access to object stores.

    Args:
        endpoint: where the buckets are; None for the public service of each scheme.
        sign_ins: names and secrets of stores, used as key and secret.
        usual: the credentials in the usual locations.
        requester_pays: whether we bear the costs where the bucket's owner does not.
        lanes_per_host: how many connections are kept open to one host.
        context_for: the TLS context for an origin; None trusts whom the system trusts.
        pacer: keeps gaps between requests; None for no gaps.
        retrier: makes attempts again for listings.
        environment: where credentials and the region may be named.
    """

    def __init__(
        self,
        *,
        endpoint: str | None = None,
        sign_ins: SignIns | None = None,
        usual: UsualCredentials | None = None,
        requester_pays: bool = False,
        lanes_per_host: int = LANES_PER_HOST,
        context_for: ContextFor | None = None,
        pace: PaceOptions = PaceOptions(),
        pacer: RequestPacer | None = None,
        retrier: Retrier | None = None,
        environment: Mapping[str, str] = os.environ,
    ) -> None:
        self.retrier = retrier or Retrier()
        named = environment.get("AWS_ENDPOINT_URL_S3") or environment.get("AWS_ENDPOINT_URL")
        self._endpoint = endpoint or named
        self._region = environment.get("AWS_REGION") or environment.get("AWS_DEFAULT_REGION")
        self._regions: dict[str, str] = {}
        self._signer = _BucketSigner(
            SignIns() if sign_ins is None else sign_ins,
            usual or UsualCredentials(),
            requester_pays=requester_pays,
        )
        self._web = WebAccess(
            lanes_per_host=lanes_per_host,
            stall_after=pace.stall_after,
            longest=pace.time_per_file,
            pacer=pacer,
            sign_ins=self._signer,
            context_for=None
            if context_for is None
            else lambda there: context_for(self._signer.told(there)),
            of_store=True,
            explain=explain,
        )

    def open(
        self,
        address: str,
        *,
        start: int = 0,
        end: int | None = None,
        validators: Validators | None = None,
    ) -> Download | Unchanged:
        """Request an object; see `Access.open`."""
        answer = self._where_it_is(
            address,
            lambda there: self._web.open(there, start=start, end=end, validators=validators),
        )
        if isinstance(answer, Unchanged):
            return Unchanged(replace(answer.facts, address=address))
        answer.facts = replace(answer.facts, address=address)
        return answer

    def ask(self, address: str) -> Metadata:
        """Request the metadata of an object."""
        return replace(self._where_it_is(address, self._web.ask), address=address)

    def contact(self, address: str) -> str:
        """Return the web address of the bucket's server."""
        return self._web_address(address)

    def lister(self, address: str, *, webdav: bool = False) -> Lister | None:
        """Return this object, which lists keys; see `Access.lister`."""
        return super().lister(address, webdav=True) if webdav else self

    def list_keys(
        self, bucket: str, prefix: str, *, deep: bool, after: str = ""
    ) -> Iterator[DirectoryEntry]:
        """Yield every object whose key starts with a prefix, reading page by page."""
        query = {"list-type": "2", "encoding-type": "url", "prefix": prefix}
        if not deep:
            query["delimiter"] = "/"
        if after:
            query["start-after"] = after
        return page_by_page(
            bucket,
            query,
            "continuation-token",
            lambda asked: read_page(self._page(bucket, asked), bucket),
        )

    def abort(self) -> None:
        """End every exchange; see `Access.abort`."""
        self._web.abort()

    def close(self) -> None:
        """Release all connections."""
        self._web.close()

    def _page(self, bucket: str, query: str) -> bytes:
        def read(there: str) -> bytes:
            return fetch_whole(f"{there}?{query}", self._web, _MAX_PAGE_BYTES)[1]

        return self.retrier.run(lambda: self._where_it_is(bucket, read))

    def _where_it_is(self, address: str, ask: Callable[[str], Answer]) -> Answer:
        """Send a request, and repeat it where the response says, signed for there."""
        try:
            seen = [self._web_address(address)]
            while True:
                try:
                    return ask(seen[-1])
                except _Elsewhere as error:
                    seen.append(self._moved_to(address, seen, error))
        except TransferFailed as error:
            # People know the bucket, not the address on the web that it was asked at.
            error.thing = without_secrets(address)
            raise

    def _moved_to(self, address: str, seen: list[str], error: _Elsewhere) -> str:
        """Return where to ask instead.

        Args:
            address: of the object or bucket.
            seen: where it was asked for so far.
            error: what the last answer said.

        Raises:
            NotTrusted: it leads away from TLS.
            ProtocolError, TooManyRedirects: it leads nowhere, or back.
        """
        if error.region:
            self._regions[host_of(address)] = error.region
            if self._endpoint is None or not error.location:
                if len(seen) > _MAX_REGIONS:
                    raise error
                return self._web_address(address)
        # A listing is requested with a query of its own, which is added again.
        location = error.location.partition("?")[0]
        there = next_address(seen[-1].partition("?")[0], location, seen)
        if scheme_of(seen[-1]) == "https" and scheme_of(there) == "http":
            reason = "redirected from https to http; not followed, since requests may be signed"
            raise NotTrusted(without_secrets(address), reason, "check --endpoint")
        region = error.region or self._region_of(host_of(address))
        self._signer.know(there, address, region, public=self._endpoint is None)
        version = urlsplit(address).query
        return f"{there}?{version}" if version else there

    def _region_of(self, bucket: str) -> str:
        return self._regions.get(bucket) or self._region or _FIRST_REGION

    def _web_address(self, address: str) -> str:
        scheme, bucket = scheme_of(address), host_of(address)
        region = self._region_of(bucket)
        endpoint = self._endpoint or _PUBLIC[scheme]
        if "://" not in endpoint:
            raise BadAddress(without_secrets(endpoint), "not an endpoint", "write https://HOST")
        there = Endpoint(endpoint).web_address(bucket, key_of(address), region)
        self._signer.know(there, address, region, public=self._endpoint is None)
        version = urlsplit(address).query
        return f"{there}?{version}" if version else there


def read_page(content: bytes, bucket: str) -> StorePage:
    """Parse a page of a listing: its entries, and the token for the next page, if any.

    Args:
        content: the answer to ListObjectsV2.
        bucket: the address of the bucket.

    Raises:
        ProtocolError: it is invalid.
    """
    root = open_page(content, "ListBucketResult", bucket, "check the endpoint")
    values: dict[str, str] = {}
    folders: list[str] = []
    objects: list[dict[str, str]] = []
    # All elements are in one namespace, if in any; taking it off is most of the work here.
    cut = len(str(root.tag)) - len("ListBucketResult")
    for element in root:
        fields = {str(each.tag)[cut:]: each.text or "" for each in element}
        match str(element.tag)[cut:]:
            case "Contents":
                objects.append(fields)
            case "CommonPrefixes":
                folders.append(fields.get("Prefix", ""))
            case other:
                values[other] = element.text or ""
    # Only a server that repeats the encoding has done it; spaces are written as plus signs.
    decode = unquote_plus if values.get("EncodingType") == "url" else str
    prefixes = map(decode, folders)
    keyed = [(each, DirectoryEntry(f"{bucket}{quote(each, safe='/~')}")) for each in prefixes]
    for fields in objects:
        key = decode(fields.get("Key", ""))
        size = fields.get("Size", "")
        if key.endswith("/") and size == "0":
            continue  # what consoles put there to show a folder
        entry = DirectoryEntry(
            address_of_key(bucket, key),
            read_count(size),
            read_iso(fields.get("LastModified")),
            entity_tag=fields.get("ETag", ""),
        )
        keyed.append((key, entry))
    if folders:  # which the page has apart from the objects
        keyed.sort(key=itemgetter(0))
    entries = [entry for _, entry in keyed]
    is_cut = values.get("IsTruncated") == "true"
    return StorePage(entries, values.get("NextContinuationToken", "") if is_cut else "", is_cut)


# What stores say by their codes, and what a user can do about it.
_BUSY = frozenset({"SlowDown", "ServiceUnavailable", "InternalError", "RequestTimeout"})
_REASONS = {
    "NoSuchBucket": ("no such bucket", "check its name and --endpoint"),
    "NoSuchKey": ("no such object", "check the address; survey lists the objects"),
    "NoSuchVersion": ("no such version", "leave out versionId for the newest"),
    "AccessDenied": (
        "the store denies access",
        f"{HOW_TO_SIGN_IN}; where only listing is refused, the exact address of a file still works",
    ),
    "InvalidAccessKeyId": ("the store does not know the key", "check the name of the sign-in"),
    "SignatureDoesNotMatch": ("the store does not accept the secret", "check it"),
    "ExpiredToken": ("the sign-in has expired", "get a new one"),
    "TokenRefreshRequired": ("the sign-in has expired", "get a new one"),
    "RequestTimeTooSkewed": ("this machine's clock is wrong", "set it and try again"),
    "RequestExpired": ("the signature in the address has expired", "ask for a new address"),
    "InvalidObjectState": (
        "archived; not readable without restoring",
        "restore it in the store first",
    ),
}


def explain(
    status: int, fields: Mapping[str, str], body: bytes, address: str
) -> TransferFailed | None:
    """Return the error for a response without an object."""
    code = _tag(body, "Code")
    shown = without_secrets(address)
    region = fields.get("x-amz-bucket-region") or _tag(body, "Region")
    elsewhere = ("PermanentRedirect", "TemporaryRedirect", "AuthorizationHeaderMalformed",
                 "IllegalLocationConstraintException")  # fmt: skip
    is_moved = status in (301, 307, 308)
    location = fields.get("Location", "") if is_moved else ""
    if location or (region and (code in elsewhere or is_moved)):
        return _Elsewhere(shown, region, location)
    if code in _BUSY or status in (500, 502, 503, 504):
        return ServerBusy(shown, f"{code or status}", "try later", wait=None, status=status)
    if code == "AccessDenied" and b"expired" in body:
        code = "RequestExpired"
    if code in _REASONS:
        reason, advice = _REASONS[code]
        return NotServed(shown, reason, advice, status=status)
    if code:
        message = _tag(body, "Message")
        return NotServed(shown, f"{code}: {message}", "", status=status)
    return None


def _tag(body: bytes, name: str) -> str:
    """Return the text of an element in a short response."""
    match = re.search(rb"<%s>([^<]{0,300})<" % name.encode(), body)
    return " ".join(match[1].decode("utf-8", "replace").split()) if match else ""


class _BucketSigner:
    """Signs requests with Signature Version 4 if there are credentials."""

    def __init__(self, sign_ins: SignIns, usual: UsualCredentials, *, requester_pays: bool) -> None:
        self._sign_ins = sign_ins
        self._usual = usual
        self._requester_pays = requester_pays
        self._known: dict[str, tuple[str, str, bool]] = {}

    def __bool__(self) -> bool:
        return True

    def know(self, there: str, address: str, region: str, *, public: bool) -> None:
        """Record which store and region an origin belongs to."""
        self._known[there.split("/", 3)[2]] = (address, region, public)

    def told(self, there: str) -> str:
        """Return the origin of the store that an origin of the web belongs to."""
        known = self._known.get(host_of(there))
        return origin_of(known[0]) if known else there

    def query_for(self, _address: str) -> str:
        """Return nothing: the query is not used for signing."""
        return ""

    def fields_for(
        self, method: str, address: str, _sent: Mapping[str, str] = MappingProxyType({})
    ) -> dict[str, str]:
        """Return the fields of a signed request; none for origins that are no stores."""
        store = self._known.get(host_of(address))
        if store is None:
            return {}
        told, region, public = store
        fields = {"x-amz-request-payer": "requester"} if self._requester_pays else {}
        if method == "GET":
            fields["x-amz-checksum-mode"] = "ENABLED"  # else the store keeps them to itself
        credentials = self._credentials(told, address, public=public)
        if credentials is None:
            return fields
        from botocore.auth import S3SigV4Auth
        from botocore.awsrequest import AWSRequest

        request = AWSRequest(method=method, url=address, headers=fields)
        # Those of a role may be renewed while they are read one by one.
        frozen = credentials.get_frozen_credentials()
        S3SigV4Auth(frozen, "s3", region).add_auth(request)
        return dict(request.headers.items())

    def is_for(self, _address: str, _led_by: Sequence[str]) -> bool:
        """Return True: stores are signed for by their own addresses."""
        return True

    def challenged(self, _address: str, _challenges: list[str], _sent: Mapping[str, str]) -> bool:
        """Return False: stores send no challenges."""
        return False

    def _credentials(self, told: str, there: str, *, public: bool) -> Credentials | None:
        """Return the credentials for a store.

        They are those of a sign-in, else those of the usual locations.
        """
        from botocore.credentials import Credentials

        named = self._sign_ins.password_for(told) or self._sign_ins.password_for(there)
        if named is not None:
            return Credentials(*named)
        if not self._sign_ins.origins.allow(Credential.STORE_KEY, origin_of(told)):
            return None
        # The usual locations are those of one service; another one is not shown what is kept there.
        if scheme_of(told) != "s3" and public:
            return None
        return self._usual.load()
