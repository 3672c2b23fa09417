"""Other words for commands and options, for help and for messages about unknown ones."""

from __future__ import annotations

import difflib
import re
from collections import defaultdict
from collections.abc import Collection, Iterable, Mapping
from functools import cache

_WORDS_FOR: Mapping[str, str] = {
    "survey": "list show index find search inventory",
    "peek": "inspect describe column",
    "load": "spreadsheet",
    "pick": "select deselect tick choose edit",
    "pick --swap": "invert inverse reverse complement opposite others remaining unselected",
    "weigh": "total sum estimate split",
    "haul": "download fetch get mirror copy retrieve",
    "unpack": "unzip extract untar decompress expand",
    "combine": "merge concatenate concat join append union stack excel xlsx workbook sheet",
    "pack": "zip compress bundle tar",
    "runs": "jobs status queue progress",
    "audit": "verify validate integrity corrupt corruption",
    "receipt": "report provenance history origin",
    "refile": "rename move reorganise reorganize relocate",
    "offline": "webpage website",
    "errand": "job recipe pipeline workflow script batch repeat",
    "timetable": "schedule cron crontab weekly week daily nightly night monthly every recurring "
    "systemd timer automatic",
    "knock": "ping test diagnose reachable",
    "settings": "config configuration configure preference",
    "--depth all": "recursive recurse recursion recursively subfolder subdirectory subdir subpage "
    "deep crawl level r",
    "--keep": "include pattern glob wildcard filter match",
    "--drop": "exclude ignore omit without",
    "--into": "output out outdir destination dest directory target o",
    "--ext": "extension suffix format filetype",
    "--since": "newer after",
    "--until": "older before",
    "--at-most": "maximum smaller maxsize",
    "--at-least": "minimum larger minsize",
    "--first": "limit",
    "--ask-sizes": "size filesize",
    "--lanes": "parallel parallelism concurrent concurrency simultaneous thread connection worker",
    "--stall-after": "timeout hang",
    "--attempts": "retry retries try tries attempt",
    "--speed-cap": "throttle bandwidth rate",
    "--gap": "wait delay sleep polite politeness throttling",
    "--preview": "dry-run simulate simulation",
    "--if-present": "existing overwrite update resume",
    "--file-as": "rename naming template filename",
    "--layout flat": "flatten",
    "--layout": "structure",
    "--strip-top": "strip",
    "--unpacked-at-most": "zip-bomb bomb",
    "--user": "username login account authentication credential",
    "--password": "passwd secret",
    "--token": "bearer oauth",
    "--header": "headers",
    "--cookies": "cookie",
    "--ca": "certificate ssl tls",
    "--checksums": "checksum hash hashes md5 sha256",
    "--detach": "background",
    "--log": "logfile verbose debug",
    "--on-arrival": "hook callback",
    "--strands": "segment chunk",
    "--link-text": "anchor text",
    "--prefer": "variant",
    "--twins": "duplicate deduplicate",
    "--pages all": "pagination series",
    "--ignore-robots": "robots",
    "--start-over": "restart reset",
    "--json": "machine-readable",
}  # fmt: skip
"""The words for each command and each option, in the singular."""

_RENAMED: Mapping[str, tuple[str, ...]] = {
    "at": ("from", "address", "speed"),
    "arrival": ("step",),
    "lift": ("strip_top",),
    "swell_at_most": ("unpacked_at_most",),
    "tight": ("even_if_full",),
    "then": ("archives",),
    "begin_anew": ("start_over",),
    "anew": ("start_over",),
}
"""Keys that have had another name: in errands, settings and sign-ins, and as options."""

# How alike a mistyped word must be, from 0 to 1.
_LIKENESS = 0.75

# Shorter words resemble too many others.
_MIN_MISTYPED = 4


def singular(word: str) -> str:
    """Return an English noun in the singular; other words are returned unchanged."""
    if len(word) > 4 and word.endswith("ies"):
        return f"{word[:-3]}y"
    if re.search(r"(?:ss|x|ch|sh)es$", word):
        return word[:-2]
    return word[:-1] if len(word) > 3 and re.search(r"[^su]s$", word) else word


@cache
def _meanings() -> Mapping[str, tuple[str, ...]]:
    meant: dict[str, list[str]] = defaultdict(list)
    for meaning, words in _WORDS_FOR.items():
        for word in words.split():
            meant[singular(word)].append(meaning)
    return {word: tuple(meanings) for word, meanings in meant.items()}


def meanings_of(word: str) -> tuple[str, ...]:
    """Return the commands and options that another word stands for: `haul`, `--depth all`."""
    meanings = _meanings()
    typed = word.lower().lstrip("-").replace("_", "-")
    plain = singular(typed)
    if plain not in meanings and typed.removesuffix("s") in meanings:
        plain = typed.removesuffix("s")  # such as `cookies`
    if plain not in meanings and len(plain) > _MIN_MISTYPED:
        plain = next(iter(difflib.get_close_matches(plain, meanings, 1, _LIKENESS)), "")
    return meanings.get(plain, ())


def key_for(key: str, known: Collection[str]) -> str:
    """Return the key that an unknown one stands for, or resembles; empty for none."""
    for renamed in _RENAMED.get(key, ()):
        if renamed in known:
            return renamed
    near = difflib.get_close_matches(key, known, 1, _LIKENESS)
    if near:
        return near[0]
    flags = (part for meaning in meanings_of(key) for part in meaning.split())
    keys = (flag[2:].replace("-", "_") for flag in flags if flag.startswith("--"))
    return next((each for each in keys if each in known), "")


def option_for(word: str, known: Iterable[str]) -> str:
    """Return the option, with its value, that an unknown one stands for; empty for none.

    Args:
        word: as typed, with its dashes.
        known: the names of the command's options, with dashes.
    """
    flags = {each[2:].replace("-", "_"): each for each in known if each.startswith("--")}
    for meaning in meanings_of(word):
        name, _, value = meaning.partition("--")[2].partition(" ")
        if name.replace("-", "_") in flags:
            return f"--{name} {value}".rstrip()
    key = key_for(word.lstrip("-").replace("-", "_"), flags) if len(word) > 2 else ""
    return flags.get(key, "")


def command_for(word: str, known: Collection[str]) -> str:
    """Return the command, with its option, that an unknown one stands for; empty for none."""
    meant = [each for each in meanings_of(word) if each.split()[0] in known]
    near = difflib.get_close_matches(word.lower(), known, 1, _LIKENESS)
    return next(iter((*near, *meant)), "")
