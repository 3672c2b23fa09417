"""What the short help of a command shows: its everyday options, and examples.

The examples work as they are while `willow-cart demo --serve` runs.
"""

from __future__ import annotations

from collections.abc import Mapping

from willow_cart.structs import Value

_DEMO = "http://127.0.0.1:8031"


class Everyday(Value):
    """The short help of a command.

    Attributes:
        options: the keys of about ten options, in the order of their use.
        examples: command lines without the name of the program.
    """

    options: tuple[str, ...]
    examples: tuple[str, ...]


EVERYDAY: Mapping[str, Everyday] = {
    "survey": Everyday(
        ("depth", "ext", "keep", "drop", "kind", "since", "ask_sizes", "tree", "folders", "why"),
        (
            f"survey {_DEMO}/hides/2031.html --column Recording",
            f"survey {_DEMO}/archive/ --depth all --tree",
            f"survey {_DEMO}/sounds/ --depth all --ext wav --at-most 200kB",
        ),
    ),
    "peek": Everyday(
        ("rows", "json", "user", "password", "token"),
        (
            f"peek {_DEMO}/archive/2029/spring/hide_counts.csv",
            f"peek {_DEMO}/recordings/dawn_20310503.wav",
            f"peek {_DEMO}/maps/reedbeds.zip --rows 20",
        ),
    ),
    "load": Everyday(
        ("cart", "add", "depth", "ext", "keep", "drop", "kind", "since", "at_most", "ask_sizes"),
        (
            f"load {_DEMO}/sounds/ --depth all --ask-sizes --cart sounds.csv",
            f"load {_DEMO}/hides/2031.html --cart sounds.csv --add",
            f"load {_DEMO}/archive/ --depth all --ext csv --cart counts.csv",
        ),
    ),
    "pick": Everyday(
        ("only", "out", "back", "undo", "ext", "keep", "kind", "since", "at_most", "prefer"),
        ("pick sounds.csv", "pick sounds.csv --only --ext wav", "pick sounds.csv --undo"),
    ),
    "weigh": Everyday(
        ("at", "drives", "shares", "into", "figure", "ask_sizes", "json"),
        (
            "weigh sounds.csv",
            "weigh sounds.csv --at 2MB/s",
            "weigh sounds.csv --drives 500kB,1MB",
        ),
    ),
    "haul": Everyday(
        (
            "into", "depth", "ext", "keep", "drop", "since", "layout", "unpack", "checksums",
            "preview",
        ),
        (
            f"haul {_DEMO}/sounds/ --depth all --ext wav --into sounds",
            f"haul {_DEMO}/archive/ --depth all --keep '*_counts.csv' --into counts",
            f"haul '{_DEMO}/recordings/dawn_203105{{03,10,17,24}}.wav' --into dawns",
        ),
    ),
    "unpack": Everyday(
        ("into", "unpack_to", "inside", "lift", "nested", "then", "keep", "swell_at_most"),
        (
            "unpack data",
            "unpack data --inside '*.csv' --lift",
            "unpack season.zip --into season",
        ),
    ),
    "combine": Everyday(
        (
            "to", "table", "preview", "anew", "strict", "skip_lines", "columns", "name_parts",
            "encoding", "keep",
        ),
        (
            "combine levels --preview",
            "combine levels --keep 'level_203105??.csv' --to levels.sqlite",
            "combine levels --to levels.parquet --strict",
        ),
    ),
    "pack": Everyday(
        ("to", "keep", "drop", "ext", "since"),
        ("pack levels --to levels.zip", "pack levels --ext csv --to levels.tar.gz"),
    ),
    "audit": Everyday(
        ("upstream", "checksums", "repair", "quick", "inspect", "json"),
        ("audit levels", "audit levels --upstream", "audit levels --repair"),
    ),
    "offline": Everyday(
        ("into", "depth", "also", "keep", "drop", "warc", "lanes_per_host", "gap"),
        (
            f"offline {_DEMO}/guide/ --into guide --depth all",
            f"offline {_DEMO}/hides/2031.html --into hides",
        ),
    ),
    "errand": Everyday(
        ("preview", "set", "from", "summary", "new", "depth", "ext", "keep", "user", "password"),
        (
            f"errand counts.toml --new {_DEMO}/archive/ --depth all --ext csv",
            "errand counts.toml --preview",
            "errand counts.toml --summary counts.json",
        ),
    ),
    "knock": Everyday(
        ("user", "password", "token", "account_key", "endpoint", "ca", "json"),
        (f"knock {_DEMO}/archive/", f"knock {_DEMO}/sounds/ --json"),
    ),
}  # fmt: skip
"""By command; others have so few options that all of them are shown."""
