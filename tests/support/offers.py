"""Offers of every sort, for tests that take any."""

from __future__ import annotations

from datetime import UTC, datetime

from hypothesis import strategies as st

from willow_cart.addresses import normalise
from willow_cart.model import Checksum, Offer

# What a cart does not keep: characters that control a terminal. Line ends and tabs stay.
_CONTROLS = "".join(
    chr(code) for code in (*range(32), *range(127, 160)) if chr(code) not in "\t\n\r"
)

# Whatever a page may call a link; a lone surrogate is no character and reaches nobody.
words = st.text(st.characters(exclude_categories=["Cs"], exclude_characters=_CONTROLS), max_size=20)
names = st.text(
    st.characters(exclude_categories=["Cs"], exclude_characters=f"/{_CONTROLS}"),
    min_size=1,
    max_size=20,
).filter(lambda name: name.strip() not in ("", ".", ".."))
addresses = st.builds(
    "http://{}.example/{}".format,
    st.sampled_from("abc"),
    st.text("abcdé /%=+-@.", max_size=12),
).map(normalise)
moments = st.integers(0, 4 * 10**9).map(lambda seconds: datetime.fromtimestamp(seconds, UTC))
checksums = st.sampled_from([Checksum("sha256", "ab" * 32), Checksum("md5", "0f" * 16)])
offers = st.builds(
    Offer,
    addresses,
    source=st.sampled_from(["addresses.txt", "https://trust.example/hides/", "=1+1"]),
    number=st.integers(1, 10**6),
    name=names,
    folder=st.lists(names, max_size=2).map("/".join),
    size=st.one_of(st.none(), st.integers(0, 10**15)),
    modified=st.one_of(st.none(), moments),
    checksums=st.lists(checksums, max_size=2, unique=True).map(tuple),
    text=words,
    headings=st.lists(words.filter(bool), max_size=2).map(tuple),
    mirrors=st.lists(addresses, max_size=2, unique=True).map(tuple),
)
