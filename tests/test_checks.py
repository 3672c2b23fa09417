"""Checks: digests measured on the way, and the lists that promise them."""

from __future__ import annotations

import hashlib
import os
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from willow_cart.checks.digests import RunningDigest, digest_of, read_checksum
from willow_cart.errors import BadOption
from willow_cart.formats.checksums import ChecksumBook, ListedChecksum, read_checksum_list
from willow_cart.model import Checksum, Issue, Offer

HEX = {
    length: "0123456789abcdef" * (length // 16) + "0" * (length % 16) for length in (32, 64, 128)
}


@pytest.mark.parametrize(
    ("line", "name", "algorithm"),
    [
        (f"{HEX[64]}  a b.csv", "a b.csv", "sha256"),
        (f"{HEX[64].upper()} *maps/a.png", "maps/a.png", "sha256"),
        (f"{HEX[32]}  ./a.csv", "a.csv", "md5"),
        (f"{HEX[128]}\ta.csv", "a.csv", "sha512"),
        (f"SHA256 (a (1).csv) = {HEX[64]}", "a (1).csv", "sha256"),
        (f"BLAKE2b (a.csv) = {HEX[128]}", "a.csv", "blake2b"),
        (f"BLAKE2b-512 (a.csv)= {HEX[128]}", "a.csv", "blake2b"),
        (f"SHA2-256 (a.csv) = {HEX[64]}", None, None),
        (f"\\{HEX[64]}  a\\nb\\\\c.csv", "a\nb/c.csv", "sha256"),
        (HEX[64], "dawn.wav", "sha256"),
        (f"{HEX[64][:-1]}  a.csv", None, None),
        ("hello there", None, None),
        (f"MD5 (a.csv) = {HEX[64]}", None, None),
    ],
)
def test_both_styles_of_lists_are_read(line: str, name: str | None, algorithm: str | None) -> None:
    (item,) = read_checksum_list(f"# sums\n\n{line}\r\n", "sums/dawn.wav.sha256")
    if name is None:
        assert isinstance(item, Issue)
        assert item.place.endswith("line 3")
    else:
        assert isinstance(item, ListedChecksum)
        assert ("/".join(item.parts), item.checksum.algorithm) == (name, algorithm)


def test_a_list_tells_by_its_name_what_its_length_cannot() -> None:
    (item,) = read_checksum_list(f"{HEX[128]}  a.csv", "B2SUMS")
    assert isinstance(item, ListedChecksum)
    assert item.checksum.algorithm == "blake2b"


@pytest.mark.parametrize("text", ["", "sha256:", "sha256:xyz", "crc:00", "abc", f"md5:{HEX[64]}"])
def test_what_is_no_checksum_is_told(text: str) -> None:
    with pytest.raises(BadOption):
        read_checksum(text)


def promised(entries: list[tuple[str, str]], offers: list[str]) -> tuple[list[str], int]:
    """Which of the entries' letters each offer is promised, and how many troubles there are."""
    book = ChecksumBook(
        ListedChecksum(
            tuple(name.split("/")), Checksum("sha256", letter), "http://h.example/2030/SUMS"
        )
        for name, letter in entries
    )
    given, troubles = book.promise([Offer(address) for address in offers])
    return ["".join(sorted(c.digest for c in offer.checksums)) for offer in given], len(troubles)


@pytest.mark.parametrize(
    ("entries", "offers", "expected"),
    [
        ([("c.csv", "x")], ["http://h.example/2030/c.csv"], (["x"], 0)),
        ([("c.csv", "x")], ["http://other.example/1/c.csv"], (["x"], 0)),
        # A list speaks of the folder that it is in before it speaks of any other.
        (
            [("c.csv", "x")],
            ["http://h.example/2029/c.csv", "http://h.example/2030/c.csv"],
            (["", "x"], 0),
        ),
        # Where nothing tells which of two is meant, neither is checked wrongly.
        ([("c.csv", "x")], ["http://g.example/1/c.csv", "http://g.example/2/c.csv"], (["", ""], 1)),
        (
            [("1/c.csv", "x"), ("2/c.csv", "y")],
            ["http://g.example/1/c.csv", "http://g.example/2/c.csv"],
            (["x", "y"], 0),
        ),
        ([("9/c.csv", "x")], ["http://g.example/1/c.csv"], ([""], 0)),
        ([("c.csv", "x"), ("c.csv", "y")], ["http://h.example/2030/c.csv"], (["xy"], 0)),
    ],
)
def test_a_list_is_held_against_the_files_it_means(
    entries: list[tuple[str, str]], offers: list[str], expected: tuple[list[str], int]
) -> None:
    assert promised(entries, offers) == expected


@settings(max_examples=30)
@given(
    st.lists(st.integers(1, 700_000), max_size=8),
    st.integers(0, 300_000),
    st.sets(st.integers(0, 7), max_size=3),
)
def test_a_running_digest_is_that_of_the_file_however_it_came(
    tmp_path_factory: pytest.TempPathFactory, pieces: list[int], before: int, rests: set[int]
) -> None:
    path = tmp_path_factory.mktemp("digest") / "file"
    path.write_bytes(os.urandom(before))
    digest = RunningDigest(["md5"])
    file = os.open(path, os.O_RDWR | os.O_APPEND)
    if before:
        digest.reach(before, file)
    for number, size in enumerate(pieces):
        data = os.urandom(size)
        os.write(file, data)
        digest.add(data, file)
        if number in rests:  # as between two attempts
            digest.settle()
            os.close(file)
            file = os.open(path, os.O_RDWR | os.O_APPEND)
    digest.settle()
    os.close(file)
    expected = {
        name: hashlib.new(name, path.read_bytes()).hexdigest() for name in ("sha256", "md5")
    }
    assert {name: each.digest for name, each in digest.checksums().items()} == expected


def test_a_digest_lags_behind_a_fast_writer_and_catches_up(tmp_path: Path) -> None:
    path = tmp_path / "large"
    content = os.urandom(1 << 20) * 24
    digest = RunningDigest()
    with path.open("wb+", buffering=0) as file:
        for at in range(0, len(content), 1 << 20):
            piece = content[at : at + (1 << 20)]
            file.write(piece)
            digest.add(piece, file.fileno())
        digest.settle()
    with path.open("rb") as file:
        assert digest.checksums() == digest_of(file, ["sha256"])


def test_a_file_that_shrinks_under_the_digest_is_an_error_and_no_wrong_sum(tmp_path: Path) -> None:
    path = tmp_path / "file"
    path.write_bytes(b"x" * 100)
    digest = RunningDigest()
    with path.open("rb") as file:
        digest.reach(200, file.fileno())
        with pytest.raises(OSError, match="shorter"):
            digest.settle()
