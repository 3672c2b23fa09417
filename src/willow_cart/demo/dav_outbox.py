"""A partner's WebDAV server: its folders are listed by PROPFIND and shown on no page."""

from __future__ import annotations

from email.utils import formatdate
from urllib.parse import quote, unquote
from xml.sax.saxutils import escape

from willow_cart.demo.stand_in import Exhibit, StandIn, StandInHandler, members_of

_MULTI_STATUS = '<?xml version="1.0"?>\n<D:multistatus xmlns:D="DAV:">{}</D:multistatus>\n'
_RESPONSE = (
    "<D:response><D:href>{}</D:href><D:propstat><D:prop>{}</D:prop>"
    "<D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response>"
)
_COLLECTION = "<D:resourcetype><D:collection/></D:resourcetype>"


class DavOutbox(StandIn):
    """A server on a free port that has class 1 of RFC 4918, for reading."""

    def handler(self) -> type[StandInHandler]:
        """Return the handler class for connections."""
        return DavHandler


class DavHandler(StandInHandler):
    """One connection to the server."""

    def answer(self) -> None:
        """Answer a request for a file; a folder is not shown as a page."""
        path, exhibits = unquote(self.path.lstrip("/")), self.server.stand_in.exhibits
        if path not in exhibits and members_of(path, exhibits):
            self.refuse(403)
        else:
            super().answer()

    def do_OPTIONS(self) -> None:  # noqa: N802  # as the library calls it
        """Say what the server can do (RFC 4918, 10.1)."""
        self.start(200, {"DAV": "1", "Allow": "GET, HEAD, PROPFIND", "Content-Length": "0"})

    def do_PROPFIND(self) -> None:  # noqa: N802  # as the library calls it
        """List a folder, or describe a file (RFC 4918, 9.1)."""
        path, exhibits = unquote(self.path.lstrip("/")), self.server.stand_in.exhibits
        folder = path and path.rstrip("/") + "/"
        if path in exhibits:
            responses = [_describe(path, exhibits[path])]
        elif members := members_of(folder, exhibits):
            responses = [_describe(folder, None)]
            if self.headers.get("Depth") == "1":
                responses += [_describe(folder + name, each) for name, each in members.items()]
        else:
            self.refuse(404)
            return
        page = _MULTI_STATUS.format("".join(responses)).encode()
        self.start(207, {"Content-Type": "application/xml", "Content-Length": str(len(page))})
        self.wfile.write(page)


def _describe(path: str, exhibit: Exhibit | None) -> str:
    """Return the response element of a file, or of a folder."""
    if exhibit is None:
        properties = _COLLECTION
    else:
        properties = (
            f"<D:resourcetype/><D:getcontentlength>{len(exhibit.content)}</D:getcontentlength>"
            f"<D:getetag>{escape(exhibit.tag or '')}</D:getetag>"
        )
        if exhibit.modified is not None:
            moment = formatdate(exhibit.modified, usegmt=True)
            properties += f"<D:getlastmodified>{moment}</D:getlastmodified>"
    return _RESPONSE.format(quote(f"/{path}"), properties)
