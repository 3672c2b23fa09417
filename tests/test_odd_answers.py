"""Answers that no server should send: each spoils its own file at most, and the rest comes home."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

import pytest

from tests.support.program import RunHere, files_in
from willow_cart.demo.stand_in import Exhibit, StandIn, StandInHandler
from willow_cart.protocols.ftp.ftp_listing import (
    NotUnderstoodLine,
    parse_fact_line,
    parse_list_line,
)
from willow_cart.units import MAX_SIZE_BYTES

LONG = "9" * 5000
ODD_FIELDS = {
    "Content-MD5": ["\xff", "=", "A" * 24, "\u00e9" * 24],
    "Digest": ["\xff", "sha-256=\xff", "md5=;,=", "sha-256=" + "A" * 5000],
    "Repr-Digest": ["sha-256=:\xff:", "sha-256=:", ":::", "sha-256=:" + "A" * 100 + ":"],
    "Content-Digest": ["sha-256=:\xff:", "\x01"],
    "ETag": ["\xff", '"', "W/", '"' + "x" * 5000 + '"'],
    "Last-Modified": ["\xff", "Mon, 99 Zzz 99999 99:99:99 GMT", LONG,
                      "Thu, 01 Jan 0000 00:00:00 GMT"],
    "Content-Type": ["\xff", "text/csv; charset=\xff", "text/csv; charset=no-such", "/",
                     ";" * 5000],
    "Content-Disposition": ["\xff", 'attachment; filename="\xff\r', "attachment; filename*=no''%FF",
                            "attachment; filename*=UTF-8''%2e%2e%2f%2e%2e%2fx", "x" * 5000],
    "Accept-Ranges": ["\xff", LONG],
    "Link": ["<file:///etc/passwd>; rel=next", "<", "\xff", '<x>; rel="next' + "x" * 5000],
    "Retry-After": [LONG, "\xff"],
    "Age": [LONG], "Date": [LONG, "\xff"], "Cache-Control": ["\xff"],
    "Set-Cookie": ["\xff", "a=b; Max-Age=" + LONG, "=;=;", "a=b; Expires=" + LONG],
    "x-amz-checksum-crc32c": ["\xff", "AAAA"], "x-goog-hash": ["md5=\xff", "crc32c="],
    "x-ms-blob-content-md5": ["\xff"],
}  # fmt: skip
ODD_STARTS = {
    "length": {"Content-Length": LONG},
    "minus": {"Content-Length": "-5"},
    "range": {"Content-Range": f"bytes 0-4/{LONG}"},
    "range of words": {"Content-Range": "bytes a-b/c"},
}


def answering(fields: dict[str, str], status: int = 200) -> Callable[[StandInHandler], None]:
    def answer(handler: StandInHandler) -> None:
        head = "".join(f"{name}: {value}\r\n" for name, value in fields.items())
        if "Content-Length" not in fields:
            head += "Content-Length: 4\r\n"
        handler.wfile.write(f"HTTP/1.1 {status} OK\r\n{head}\r\n".encode("latin-1", "replace"))
        handler.wfile.write(b"1,2\n")
        handler.close_connection = True

    return answer


def test_no_field_of_an_answer_ends_a_haul(tmp_path: Path, place: StandIn, here: RunHere) -> None:
    for number, (name, values) in enumerate(ODD_FIELDS.items()):
        for each, value in enumerate(values):
            place.exhibits[f"{number}-{each}.csv"] = Exhibit(script=answering({name: value}))
    for number, fields in enumerate(ODD_STARTS.values()):
        for status in (200, 206):
            odd = Exhibit(script=answering(fields, status))
            place.exhibits[f"start-{number}-{status}.csv"] = odd
    place.exhibits["good.csv"] = Exhibit(b"good\n")
    (tmp_path / "list.txt").write_text("".join(f"{place.base}/{name}\n" for name in place.exhibits))
    for options in ((), ("--file-as", "{kind}/{modified|or none:%Y}/{name}"), ("--inspect",)):
        for _ in range(2):
            done = here(tmp_path, "haul", "list.txt", "--into", f"data{len(options)}",
                        "--attempts", "1", *options)  # fmt: skip
            assert "internal error" not in done.out + done.err, done.err
            assert "Traceback" not in done.out + done.err
            assert done.code in (0, 1, 4), done.err
    assert b"good\n" in files_in(tmp_path / "data0").values()
    told = here(tmp_path, "survey", *(f"{place.base}/{name}" for name in place.exhibits), "--json")
    assert "internal error" not in told.err
    assert "passwd" not in told.out


@pytest.mark.parametrize(
    "line",
    [
        f"-rw-r--r-- 1 o g {LONG} May  1  2031 a.csv",
        f"-rw-r--r-- {LONG} o g 5 May {LONG} 2031 a.csv",
        f"05-01-31  06:00AM {LONG} a.csv",
        f"type=file;size={LONG};modify={LONG}; a.csv",
        "type=file;size=-5;modify=99999999999999; a.csv",
        "-rw-r--r-- 1 o g 5 Zzz 99 9999 a.csv",
        "lrwxrwxrwx 1 o g 5 May  1  2031 a.csv -> /etc/passwd",
        "-rw-r--r-- 1 o g 5 May  1  2031 ../../a.csv",
        "\x1b[2J\xff",
    ],
)
def test_no_line_of_a_listing_ends_the_listing(line: str) -> None:
    now = datetime(2031, 6, 1, tzinfo=UTC)
    for parse in (lambda text: parse_list_line(text, now), parse_fact_line):
        try:
            found = parse(line)
        except NotUnderstoodLine:
            continue
        if found is not None:
            assert found.size is None or 0 <= found.size <= MAX_SIZE_BYTES
