"""Write exchanges as a WARC file (ISO 28500:2017, version 1.1), one record per message."""

from __future__ import annotations

import io
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, BinaryIO

from willow_cart.errors import BadOption
from willow_cart.version import __version__

if TYPE_CHECKING:
    from willow_cart.protocols.recorder import Exchange

ENDINGS = (".warc", ".warc.gz")


def require_warc_name(path: Path) -> None:
    """Refuse a name of an unknown file type, or of an existing file.

    Raises:
        BadOption: it is one.
    """
    if not path.name.lower().endswith(ENDINGS):
        raise BadOption(f"--warc {path}", "unknown file type", "use .warc or .warc.gz")
    if path.exists():
        raise BadOption(f"--warc {path}", "already exists", "name a new file")


class WarcFile:
    """A WARC file that is being written.

    Args:
        file: where it goes.
        name: file name for the warcinfo record; .gz selects compression.
        command: the command line, without secrets.
    """

    def __init__(self, file: BinaryIO, name: str, command: str) -> None:
        from warcio.warcwriter import WARCWriter  # imported only where it is wanted

        self._writer = WARCWriter(file, gzip=name.lower().endswith(".gz"), warc_version="1.1")
        about = {
            "software": f"willow-cart/{__version__}",
            "format": "WARC File Format 1.1",
            "command": command,
        }
        self._writer.write_record(self._writer.create_warcinfo_record(name, about))

    def write(self, exchange: Exchange) -> None:
        """Write an exchange: the response, and its request (6.3 and 6.4)."""
        moment = exchange.moment.isoformat(timespec="microseconds").replace("+00:00", "Z")
        marks = {"WARC-Date": moment}
        if not exchange.is_whole:
            marks["WARC-Truncated"] = "disconnect"  # 5.13
        head = _head(exchange.status, exchange.fields, exchange.protocol)
        answer = self._writer.create_warc_record(
            exchange.address, "response", payload=exchange.body, http_headers=head,
            warc_headers_dict=marks,
        )  # fmt: skip
        asked = _head(f"{exchange.method} {exchange.target} HTTP/1.1", exchange.asked, "")
        request = self._writer.create_warc_record(
            exchange.address, "request", payload=io.BytesIO(), http_headers=asked,
            warc_headers_dict={"WARC-Date": moment},
        )  # fmt: skip
        self._writer.write_request_response_pair(request, answer)


def _head(line: str, fields: Sequence[tuple[str, str]], protocol: str) -> Any:
    from warcio.statusandheaders import StatusAndHeaders

    return StatusAndHeaders(line, list(fields), protocol=protocol, is_http_request=not protocol)
