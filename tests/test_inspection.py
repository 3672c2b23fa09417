"""Files that came as they were sent, and are broken inside."""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import tarfile
import zipfile
from pathlib import Path

import pytest

from tests.support.media import recording
from tests.support.program import files_in, run
from willow_cart.checks.inspection import inspect
from willow_cart.demo.stand_in import Exhibit, StandIn

TEXT = b"time,level\n2031-05-01,1.17\n" * 2000


def zipped() -> bytes:
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("levels/a.csv", TEXT)
    return packed.getvalue()


def tarred(mode: str) -> bytes:
    packed = io.BytesIO()
    with tarfile.open(fileobj=packed, mode=mode) as archive:  # type: ignore[call-overload]
        member = tarfile.TarInfo("a.csv")
        member.size = len(TEXT)
        archive.addfile(member, io.BytesIO(TEXT))
    return packed.getvalue()


def document() -> bytes:
    from pypdf import PdfWriter

    made = PdfWriter()
    made.add_blank_page(200, 200)
    file = io.BytesIO()
    made.write(file)
    return file.getvalue()


PNG = b"\x89PNG\r\n\x1a\n" + b"x" * 5000 + b"\0\0\0\0IEND\xaeB`\x82"
JPEG = b"\xff\xd8\xff\xe0" + b"x" * 5000 + b"\xff\xd9"
FILM = b"\0\0\0\x10ftypisom\0\0\0\0" + b"\0\0\0\x0cmoov\0\0\0\0" + b"\0\0\0\x14mdat" + b"x" * 12
OGG = b"OggS\0\2" + bytes(20) + b"\1\4page" + b"OggS\0\4" + bytes(20) + b"\2\xff\5" + bytes(260)
GOOD = {
    "a.zip": zipped(), "a.gz": gzip.compress(TEXT), "a.bz2": bz2.compress(TEXT),
    "a.xz": lzma.compress(TEXT), "a.tar": tarred("w"), "a.tar.gz": tarred("w:gz"),
    "a.png": PNG, "a.jpg": JPEG + b"more of the camera", "a.csv": TEXT,
    "odd.csv": b'a,5" pipe,"quo""ted",\n', "wide.csv": TEXT.decode().encode("utf-16"),
    "latin.csv": b"caf\xe9,1\n", "a.tsv": b'a\t"b c"\n', "a.json": b'{"a": [1]}',
    "a.jsonl": b'{"a": 1}\n\n{"a": 2}\n', "a.xyz": b"of a kind that is not opened",
    "a.wav": recording(3000), "b.wav": b"RIFF" + b"\xff" * 4 + b"WAVE" + b"streamed",
    "a.pdf": document(),
    "a.au": b".snd" + bytes((0, 0, 0, 24, 0, 0, 0, 9)) + bytes(12 + 9), "a.mp4": FILM,
    "b.mov": FILM[:-20] + bytes(4) + FILM[-16:], "a.ogg": OGG, "a.aif": b"FORM\0\0\0\x06AIFF\0\0",
}  # fmt: skip


def flipped(content: bytes) -> bytes:
    middle = len(content) // 2
    return content[:middle] + bytes([content[middle] ^ 255]) + content[middle + 1 :]


BROKEN = {
    "flipped.zip": (flipped(zipped()), "levels/a.csv in it is damaged"),
    "cut.zip": (zipped()[:-30], "file is not a zip file"),
    "cut.gz": (gzip.compress(TEXT)[:-20], "it ends too soon"),
    "flipped.gz": (gzip.compress(TEXT)[:-6] + b"\0" * 6, "crc check failed"),
    "cut.xz": (lzma.compress(TEXT)[:-8], "it ends too soon"),
    "flipped.bz2": (flipped(bz2.compress(TEXT)), "invalid data stream"),
    "cut.tar.gz": (tarred("w:gz")[:-40], "a.csv in it is damaged: it ends too soon"),
    "cut.png": (PNG[:-12], "the end of a PNG image is missing"),
    "cut.jpeg": (JPEG[:-2], "the end of a JPEG image is missing"),
    "not.png": (JPEG, "it does not start like a PNG image"),
    "open.csv": (b'a,b\n1,"never closed\n2,3\n', "it cannot be read: unexpected end of data"),
    "bytes.csv": (b"a,b\n\0\0\0\1", "it contains bytes that are not text"),
    "cut.json": (b'{"a": [1, ', "it cannot be read: expecting value"),
    "cut.jsonl": (b'{"a": 1}\n{"a"', "line 2 cannot be read"),
    "cut.wav": (recording(3000)[:-100], "it ends too soon: 2,944 of 3,044 bytes"),
    "not.wav": (b"ID3" + bytes(99), "it does not start like a RIFF file"),
    "cut.au": (b".snd" + bytes((0, 0, 0, 24, 0, 0, 9, 9)) + bytes(99), "it ends too soon: 111 of"),
    "cut.aiff": (b"FORM\0\0\1\0AIFF", "it ends too soon: 12 of 264 bytes"),
    "cut.mp4": (FILM[:-3], "it ends too soon: its last part needs 3 bytes more"),
    "half.mp4": (FILM[:16] + FILM[28:], "the part that describes it is missing"),
    "zeros.mp4": (b"\0\0\0\1ftyp", "its parts have impossible lengths"),
    "cut.ogg": (OGG[:-1], "its last page is cut off"),
    "half.opus": (OGG[:32], "its last page is missing"),
    "cut.pdf": (document()[:-10], "the end of a PDF document is missing"),
    "page.csv": (b"<!doctype html><title>Not found</title>", "it is a web page"),
}


def test_what_is_sound_is_called_so(tmp_path: Path) -> None:
    for name, content in GOOD.items():
        (tmp_path / name).write_bytes(content)
        with (tmp_path / name).open("rb") as file:
            assert inspect(file, name) == "", name


@pytest.mark.parametrize("name", BROKEN)
def test_what_is_broken_is_told_in_words(tmp_path: Path, name: str) -> None:
    content, words = BROKEN[name]
    (tmp_path / name).write_bytes(content)
    with (tmp_path / name).open("rb") as file:
        assert inspect(file, name).startswith(words)


def test_hauls_and_audits_tell_what_came_whole_and_is_broken(
    tmp_path: Path, place: StandIn
) -> None:
    place.exhibits |= {"good.zip": Exhibit(zipped()), "bad.zip": Exhibit(flipped(zipped()))}
    haul = ["haul", f"{place.base}/{{good,bad}}.zip", "--into"]
    outcome = run(*haul, "x", "--inspect", cwd=tmp_path)
    assert outcome.code == 4
    assert "bad.zip arrived, but levels/a.csv in it is damaged" in outcome.err
    assert "1 file arrived otherwise than expected (see above)" in outcome.err
    assert set(files_in(tmp_path / "x")) == {"good.zip", "bad.zip"}, "it is what its place has"
    assert "levels/a.csv in it is damaged" in run("receipt", "x", cwd=tmp_path).out
    assert run(*haul, "y", cwd=tmp_path).code == 0
    audit = run("audit", "y", "--inspect", "--json", cwd=tmp_path)
    assert audit.code == 4
    assert {each["path"]: each["finding"] for each in audit.json()} == {
        "bad.zip": "broken", "good.zip": "unchanged",
    }  # fmt: skip
