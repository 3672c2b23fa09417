"""An object store: listings, ranges and signed requests in both dialects.

`/BUCKET/KEY` uses the S3 dialect, `/ACCOUNT/BUCKET/KEY` the blob dialect.
"""

from __future__ import annotations

import base64
import hashlib
import hmac
from collections.abc import Callable, Iterator, Mapping
from email.utils import formatdate
from itertools import islice
from urllib.parse import parse_qs, parse_qsl, quote, unquote, urlsplit
from xml.sax.saxutils import escape

from willow_cart.demo.stand_in import PUT_UP, Exhibit, StandIn, StandInHandler

ACCOUNT = "account"
"""The account in the blob dialect."""

_SIGNED = (
    "Content-Encoding", "Content-Language", "Content-Length", "Content-MD5", "Content-Type", "Date",
    "If-Modified-Since", "If-Match", "If-None-Match", "If-Unmodified-Since", "Range",
)  # fmt: skip

_KEYS_PER_PAGE = 1000
_PUT_UP = "2031-06-01T06:00:00.000Z"

Keys = Callable[[str], Iterator[tuple[str, int]]]
"""Gives the keys of a bucket that sort behind one, in their order, with their sizes."""


class DemoStore(StandIn):
    """An object store on a free port.

    Args:
        objects: what is kept, as `BUCKET/KEY`.
        port: 0 takes a free one.
        made: buckets whose keys are made on the fly.
        region: where all of the buckets are.
        secret: the key and the secret that are authorised, as `KEY:SECRET`; empty allows everybody.
        lists: whether listing is allowed.
        clock_is_off: whether every signature is found to be too old.

    In the blob dialect the account is called `account`, and its key is the secret in base 64.
    """

    def __init__(
        self,
        objects: Mapping[str, bytes],
        port: int = 0,
        *,
        made: Mapping[str, Keys] | None = None,
        region: str = "us-east-1",
        secret: str = "",
        lists: bool = True,
        clock_is_off: bool = False,
    ) -> None:
        super().__init__({path: Exhibit(content) for path, content in objects.items()}, port)
        self.made = dict(made or {})
        self.region = region
        self.secret = secret
        self.lists = lists
        self.clock_is_off = clock_is_off

    def handler(self) -> type[StandInHandler]:
        """Return the handler class for connections."""
        return StoreHandler

    def keys(self, bucket: str) -> Keys | None:
        """Return the keys of a bucket; None for an unknown bucket."""
        if bucket in self.made:
            return self.made[bucket]
        begins = f"{bucket}/"
        sizes = {
            path[len(begins) :]: len(exhibit.content)
            for path, exhibit in self.exhibits.items()
            if path.startswith(begins)
        }
        if not sizes:
            return None
        return lambda after: ((key, sizes[key]) for key in sorted(sizes) if key > after)


class StoreHandler(StandInHandler):
    """One connection to the store."""

    def answer(self) -> None:
        """Answer a request for a listing or an object."""
        store = self.server.stand_in
        assert isinstance(store, DemoStore), "it serves nothing else"
        parts = urlsplit(self.path)
        if parts.path.startswith(f"/{ACCOUNT}/"):
            self._answer_blob(store, parts.path, parts.query)
            return
        bucket, _, key = unquote(parts.path).lstrip("/").partition("/")
        query = {name: values[0] for name, values in parse_qs(parts.query, True).items()}
        keys = store.keys(bucket)
        if keys is None:
            self._fail(404, "NoSuchBucket", "The bucket is not there")
        elif self._is_let_in(store, parts.path, parts.query):
            if key:
                self._send_object(store.exhibits.get(f"{bucket}/{key}"))
            elif not store.lists:
                self._fail(403, "AccessDenied", "Access Denied")
            else:
                self._list(keys, query)

    def _send_object(self, exhibit: Exhibit | None) -> None:
        if exhibit is None:
            self._fail(404, "NoSuchKey", "The object is not there")
        elif exhibit.refusals:
            status, fields = exhibit.refusals.pop(0)
            self._fail(status, fields.get("code", "InternalError"), "on purpose")
        else:
            self.serve(exhibit)

    def _list(self, keys: Keys, query: Mapping[str, str]) -> None:
        """Answer ListObjectsV2."""
        prefix, delimiter = query.get("prefix", ""), query.get("delimiter", "")
        after = query.get("continuation-token") or query.get("start-after", "")
        most = min(int(query.get("max-keys", _KEYS_PER_PAGE)), _KEYS_PER_PAGE)
        encode = quote if query.get("encoding-type") == "url" else escape
        lines: list[str] = []
        last, more = "", False
        # One before the prefix comes what sorts behind everything smaller.
        start = max(after, prefix[:-1] + chr(ord(prefix[-1]) - 1) + "\U0010ffff" if prefix else "")
        for kind, name, size in islice(_entries(keys(start), prefix, delimiter, after), most + 1):
            if len(lines) == most:
                more = True
                break
            last = name
            shown = encode(name)
            if kind == "folder":
                lines.append(f"<CommonPrefixes><Prefix>{shown}</Prefix></CommonPrefixes>")
                last = name[:-1] + chr(ord(name[-1]) + 1)
            else:
                lines.append(
                    f"<Contents><Key>{shown}</Key><LastModified>{_PUT_UP}</LastModified>"
                    f"<ETag>&quot;{size:x}&quot;</ETag><Size>{size}</Size>"
                    "<StorageClass>STANDARD</StorageClass></Contents>"
                )
        encoding = "<EncodingType>url</EncodingType>" if "encoding-type" in query else ""
        token = f"<NextContinuationToken>{escape(last)}</NextContinuationToken>" if more else ""
        self._send_xml(
            '<ListBucketResult xmlns="http://s3.amazonaws.com/doc/2006-03-01/">'
            f"{encoding}<IsTruncated>{str(more).lower()}</IsTruncated>{token}"
            f"{''.join(lines)}</ListBucketResult>"
        )

    def _send_xml(self, text: str) -> None:
        page = f'<?xml version="1.0" encoding="UTF-8"?>\n{text}'.encode()
        fields = {"Content-Type": "application/xml", "Content-Length": str(len(page))}
        self.start(200, fields)
        self.wfile.write(page)

    def _answer_blob(self, store: DemoStore, path: str, query: str) -> None:
        """Answer a request in the blob dialect."""
        bucket, _, key = unquote(path).removeprefix(f"/{ACCOUNT}/").partition("/")
        keys = store.keys(bucket)
        field = self.headers.get("Authorization", "")
        if store.secret and field != self._sign_blob(store.secret.partition(":")[2], path, query):
            self._fail(403, "AuthenticationFailed", "The signature is wrong")
        elif keys is None:
            self._fail(404, "ContainerNotFound", "The container is not there")
        elif key:
            self._send_object(store.exhibits.get(f"{bucket}/{key}"))
        else:
            self._list_blobs(keys, dict(parse_qsl(query)), store, bucket)

    def _list_blobs(
        self, keys: Keys, query: Mapping[str, str], store: DemoStore, bucket: str
    ) -> None:
        """Answer List Blobs."""
        lines: list[str] = []
        prefix, marker = query.get("prefix", ""), query.get("marker", "")
        coming = _entries(keys(marker), prefix, query.get("delimiter", ""), marker)
        page = list(islice(coming, _KEYS_PER_PAGE + 1))
        for kind, name, size in page[:_KEYS_PER_PAGE]:
            if kind == "folder":
                lines.append(f"<BlobPrefix><Name>{escape(name)}</Name></BlobPrefix>")
                continue
            content = store.exhibits[f"{bucket}/{name}"].content
            digest = base64.b64encode(hashlib.md5(content, usedforsecurity=False).digest())
            lines.append(
                f"<Blob><Name>{escape(name)}</Name><Properties>"
                f"<Last-Modified>{formatdate(PUT_UP, usegmt=True)}</Last-Modified>"
                f"<Content-Length>{size}</Content-Length>"
                f"<Content-MD5>{digest.decode()}</Content-MD5></Properties></Blob>"
            )
        following = escape(page[_KEYS_PER_PAGE - 1][1]) if len(page) > _KEYS_PER_PAGE else ""
        self._send_xml(
            f"<EnumerationResults><Blobs>{''.join(lines)}</Blobs>"
            f"<NextMarker>{following}</NextMarker></EnumerationResults>"
        )

    def _sign_blob(self, key: str, path: str, query: str) -> str:
        """Return the Authorization field that Shared Key requires for a request."""
        lines = [self.command, *(self.headers.get(name, "") for name in _SIGNED)]
        lines += sorted(
            f"{name.lower()}:{value}"
            for name, value in self.headers.items()
            if name.lower().startswith("x-ms-")
        )
        lines.append(f"/{ACCOUNT}{path}")
        lines += [f"{name}:{value}" for name, value in sorted(parse_qsl(query, True))]
        signature = hmac.digest(key.encode(), "\n".join(lines).encode(), "sha256")
        return f"SharedKey {ACCOUNT}:{base64.b64encode(signature).decode()}"

    def _is_let_in(self, store: DemoStore, path: str, query: str) -> bool:
        """Whether the signature of a request is valid; sends the refusal if not."""
        field = self.headers.get("Authorization")
        if field is None:
            if store.secret:
                self._fail(403, "AccessDenied", "Access Denied")
            return not store.secret
        told = dict(
            part.strip().split("=", 1) for part in field.partition(" ")[2].split(",") if "=" in part
        )
        key, day, region, _, _ = told["Credential"].split("/")
        known, _, secret = store.secret.partition(":")
        if region != store.region:
            self._fail(
                400, "AuthorizationHeaderMalformed", "The region is wrong",
                f"<Region>{store.region}</Region>",
            )  # fmt: skip
        elif store.clock_is_off:
            self._fail(403, "RequestTimeTooSkewed", "The difference is too large")
        elif store.secret and key != known:
            self._fail(403, "InvalidAccessKeyId", "The key is not known")
        elif store.secret and told["Signature"] != self._sign(
            (secret, day, region), told, path, query
        ):
            self._fail(403, "SignatureDoesNotMatch", "The signature is wrong")
        else:
            return True
        return False

    def _sign(
        self, scoped: tuple[str, str, str], told: Mapping[str, str], path: str, query: str
    ) -> str:
        """Return the signature that Signature Version 4 requires."""
        secret, day, region = scoped
        names = told["SignedHeaders"].split(";")
        fields = "".join(f"{name}:{' '.join(self.headers[name].split())}\n" for name in names)
        arguments = sorted(part if "=" in part else f"{part}=" for part in query.split("&") if part)
        encoded = quote(unquote(path), safe="/~")
        request = "\n".join(
            (self.command, encoded, "&".join(arguments), fields, ";".join(names),
             self.headers["x-amz-content-sha256"])
        )  # fmt: skip
        scope = f"{day}/{region}/s3/aws4_request"
        hashed = hashlib.sha256(request.encode()).hexdigest()
        text = f"AWS4-HMAC-SHA256\n{self.headers['x-amz-date']}\n{scope}\n{hashed}"
        key = f"AWS4{secret}".encode()
        for part in scope.split("/"):
            key = hmac.digest(key, part.encode(), "sha256")
        return hmac.digest(key, text.encode(), "sha256").hex()

    def _fail(self, status: int, code: str, message: str, more: str = "") -> None:
        page = f"<Error><Code>{code}</Code><Message>{message}</Message>{more}</Error>".encode()
        self.start(status, {"Content-Length": str(len(page)), "Date": formatdate(usegmt=True)})
        if self.command == "GET":
            self.wfile.write(page)


def _entries(
    keys: Iterator[tuple[str, int]], prefix: str, delimiter: str, after: str
) -> Iterator[tuple[str, str, int]]:
    """Yield the entries of a listing: objects, and folders if a delimiter is given."""
    folder = ""
    for key, size in keys:
        if not key.startswith(prefix):
            if key > prefix:
                return
            continue
        if folder and key.startswith(folder):
            continue
        at = key.find(delimiter, len(prefix)) if delimiter else -1
        if at < 0:
            yield "object", key, size
        else:
            folder = key[: at + len(delimiter)]
            if folder > after:
                yield "folder", folder, 0
