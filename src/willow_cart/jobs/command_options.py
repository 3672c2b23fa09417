"""The options that belong to one command each."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from willow_cart.jobs.option import flag, option
from willow_cart.jobs.readers import depth, drives, few, port, positive, processors, speed, whole


@dataclass(frozen=True, kw_only=True)
class SourcesArgument:
    """The sources of offers."""

    sources: tuple[str, ...] = option(
        (),
        str,
        "an http:// or https:// address of a file, a page, a folder, a feed or a sitemap; a "
        "list of addresses, a CSV table with a url column, a saved page; or - for standard "
        "input; addresses may hold ranges: {2018..2031}, {01..12}, {a,b}",
        metavar="SOURCE",
        nargs="+",
    )


@dataclass(frozen=True, kw_only=True)
class CartArgument:
    """The cart."""

    cart: Path | None = option(None, Path, "a cart that load has made", metavar="CART")


@dataclass(frozen=True, kw_only=True)
class FolderArgument:
    """The folder that a command is about."""

    folder: Path = option(
        Path(), Path, "a folder that was hauled into (the current one)", metavar="DIR", nargs="?"
    )


@dataclass(frozen=True, kw_only=True)
class OverwriteOption:
    """What allows a file to be replaced that another program has written."""

    overwrite: bool = flag("replace a file that is there, also if willow-cart has not written it")


@dataclass(frozen=True, kw_only=True)
class WriteErrandOption:
    """What has an errand written instead."""

    write_errand: Path | None = option(
        None,
        Path,
        "write what is typed here into a file as an errand, to be run again from there",
        metavar="FILE",
    )


@dataclass(frozen=True, kw_only=True)
class FormOptions:
    """The forms for other programs."""

    json: bool = flag("write JSON for other programs", one_of="form")
    csv: bool = flag("write CSV for spreadsheets", one_of="form")


@dataclass(frozen=True, kw_only=True)
class LanesOption:
    """How many places are looked at together."""

    lanes: int = option(
        4, few, "how many folders are read and sizes asked for at a time (%(default)s)", metavar="N"
    )


@dataclass(frozen=True, kw_only=True)
class SurveyOptions:
    """The own options of `survey`."""

    why: bool = flag("show also what was dropped, and by which rule")
    tree: bool = flag("show the folders as a tree", one_of="form")


@dataclass(frozen=True, kw_only=True)
class LoadOptions:
    """The own options of `load`."""

    cart: Path | None = option(None, Path, "the cart, made or brought up to date", metavar="FILE")
    to_script: Path | None = option(
        None,
        Path,
        "write a Python file that brings it all home by itself, with checks and resume, where "
        "nothing but Python is",
        metavar="FILE.py",
    )
    add: bool = flag("add sources to a cart that has files of others")


@dataclass(frozen=True, kw_only=True)
class PickOptions:
    """The own options of `pick`."""

    out: bool = flag("take what is chosen out", one_of="way")
    only: bool = flag("take out everything but what is chosen", one_of="way")
    back: bool = flag("put what is chosen back", one_of="way")
    undo: bool = flag("undo the last picking; undo that, too, if repeated", one_of="way")
    gone: bool = flag("choose only rows that their sources did not offer any more when last loaded")


@dataclass(frozen=True, kw_only=True)
class WeighOptions:
    """The own options of `weigh`."""

    into: Path = option(
        Path(),
        Path,
        "where it is to be hauled: its free space, what is there already, the speed of the last "
        "haul (the current folder)",
        metavar="DIR",
    )
    at: int | None = option(
        None, speed, "how long it takes at a speed, such as 20MB/s", metavar="SPEED"
    )
    ask_sizes: bool = flag(
        "ask the servers for sizes that are not known, one request a file, and note them in the "
        "cart"
    )
    drives: tuple[int, ...] | None = option(
        None,
        drives,
        "write a cart for each drive of these sizes, whole folders together where they fit",
        metavar="SIZE,...",
        one_of="parts",
    )
    shares: int | None = option(
        None, few, "write N carts of about the same size", metavar="N", one_of="parts"
    )
    figure: Path | None = option(None, Path, "draw it: FILE.png or .svg", metavar="FILE")
    json: bool = flag("write JSON for other programs")


@dataclass(frozen=True, kw_only=True)
class HaulOptions:
    """The own options of `haul`."""

    into: Path | None = option(None, Path, "the folder to file into", metavar="DIR", required=True)


@dataclass(frozen=True, kw_only=True)
class UnpackArguments:
    """What `unpack` takes."""

    archives: tuple[Path, ...] = option(
        (), Path, "a folder that was hauled into, or an archive", metavar="DIR|ARCHIVE", nargs="+"
    )


@dataclass(frozen=True, kw_only=True)
class UnpackOptions:
    """The own options of `unpack`."""

    into: Path | None = option(
        None,
        Path,
        "the folder to unpack archives into (that which they were hauled into, or lie in)",
        metavar="DIR",
    )
    name_parts: str = option(
        "", str, "cuts parts out of names for --unpack-to, as for --file-as", metavar="REGEX"
    )


@dataclass(frozen=True, kw_only=True)
class CombineArguments:
    """What `combine` takes."""

    places: tuple[Path, ...] = option(
        (), Path, "a folder, hauled into or not, or a table", metavar="DIR|FILE", nargs="+"
    )


@dataclass(frozen=True, kw_only=True)
class CombineOptions:
    """The own options of `combine`."""

    to: Path | None = option(
        None,
        Path,
        "what to put them together in; its name ends in .sqlite, .parquet, .csv or .jsonl",
        metavar="FILE",
    )
    table: str = option("", str, "the table of a database (the name of its file)", metavar="NAME")
    preview: bool = flag("show what there would be; writes nothing")
    anew: bool = flag("begin with nothing: rows of other files that are there already do not stay")
    strict: bool = flag("stop if a table has not the columns of the others")
    skip_lines: int = option(
        0, whole, "how many lines come before the header of each (%(default)s)", metavar="N"
    )
    columns: str = option("", str, "only these columns, in this order", metavar="NAME,...")
    sheet: str | None = option(
        None, str, "which sheets of workbooks, as a wildcard pattern (the first)", metavar="PATTERN"
    )
    name_parts: str = option(
        "",
        str,
        "makes columns of parts of names: 'level_(?P<year>\\d{4})' makes one called year",
        metavar="REGEX",
    )
    cart: Path | None = option(
        None, Path, "only what the addresses of a cart have brought", metavar="FILE"
    )


@dataclass(frozen=True, kw_only=True)
class PackArguments:
    """What `pack` takes."""

    folder: Path | None = option(None, Path, "a folder, hauled into or not", metavar="DIR")


@dataclass(frozen=True, kw_only=True)
class PackOptions:
    """The own options of `pack`."""

    to: Path | None = option(
        None, Path, "a name that ends in .zip or .tar.gz", metavar="FILE", required=True
    )


@dataclass(frozen=True, kw_only=True)
class RunsOptions:
    """The own options of `runs`."""

    watch: int | None = option(
        None,
        positive,
        "show how far a haul is until it ends; Ctrl-C ends the watching alone",
        metavar="N",
        nargs="?",
        const=0,
        one_of="what",
    )
    stop: int | None = option(
        None,
        positive,
        "have a haul end: it keeps what has come, and its command goes on from there",
        metavar="N",
        nargs="?",
        const=0,
        one_of="what",
    )
    log: int | None = option(
        None,
        positive,
        "what a haul in the background has said so far",
        metavar="N",
        nargs="?",
        const=0,
        one_of="what",
    )
    json: bool = flag("list them as JSON", one_of="what")


@dataclass(frozen=True, kw_only=True)
class AuditOptions:
    """The own options of `audit`."""

    quick: bool = flag("believe files that have the size and date with which they were filed")
    inspect: bool = flag("open archives, pictures, tables and JSON, and say what is broken inside")
    checksums: tuple[str, ...] = option(
        (),
        str,
        "hold files against a checksum list as well; then the folder needs no ledger",
        metavar="FILE|ADDRESS",
        many=True,
    )
    upstream: bool = flag(
        "ask the places that files came from whether they have newer ones; fetches none"
    )
    repair: bool = flag("haul again what has changed or is missing; what has changed is kept aside")
    local_files: bool = flag(
        "let --repair and --upstream read files of this machine that the ledger names; only for "
        "folders of your own"
    )
    threads: int = option(
        processors(),
        few,
        "how many files are read at a time (as many as there are processors)",
        metavar="N",
    )
    lanes: int = option(
        4, few, "how many are asked for or fetched at a time (%(default)s)", metavar="N"
    )


@dataclass(frozen=True, kw_only=True)
class ReceiptOptions:
    """The own options of `receipt`."""

    run_: int | None = option(
        None, positive, "the haul with this number, not the last one", metavar="N", one_of="which"
    )
    runs: bool = flag("list the hauls into the folder, one in a line", one_of="which")
    of: str | None = option(
        None,
        str,
        "what became of one file in every haul: give its name, path or address",
        metavar="NAME",
        one_of="which",
    )
    html: Path | None = option(
        None,
        Path,
        "write the receipt as a page with figures, which needs nothing but itself",
        metavar="FILE",
        one_of="form",
    )
    manifest: str | None = option(
        None,
        str,
        "what lies in the folder: a checksum list, a Data Package, an RO-Crate's metadata, or a "
        "paragraph on data sources for a report",
        choices=("sha256sums", "datapackage", "ro-crate", "markdown"),
        one_of="form",
    )
    bag: Path | None = option(
        None,
        Path,
        "write the folder's files as a BagIt bag, with their checksums, to hand them on",
        metavar="NEW_DIR",
        one_of="form",
    )


@dataclass(frozen=True, kw_only=True)
class RefileOptions:
    """The own options of `refile`."""

    preview: bool = flag("show the tree that would result; moves nothing")


@dataclass(frozen=True, kw_only=True)
class OfflineArguments:
    """What `offline` takes."""

    pages: tuple[str, ...] = option(
        (), str, "the page to begin with; ranges as everywhere", metavar="ADDRESS", nargs="+"
    )


@dataclass(frozen=True, kw_only=True)
class OfflineOptions:
    """The own options of `offline`."""

    into: Path | None = option(None, Path, "the folder to file into", metavar="DIR", required=True)
    depth: int | None = option(
        1,
        depth,
        "how many levels of links are followed; 1 is the page itself (%(default)s)",
        metavar="N|all",
    )
    stay: str = option(
        "folder",
        str,
        "follow links below the page's folder, or anywhere at its host (%(default)s)",
        choices=("folder", "host"),
    )
    also: tuple[str, ...] = option(
        (),
        str,
        "a host, or a wildcard pattern, from which what pages need may come too",
        metavar="HOST",
        many=True,
    )
    parts: str = option(
        "images,media,styles,scripts",
        str,
        "what is taken with a page (%(default)s)",
        metavar="PART,...",
    )
    ignore_robots: bool = flag(
        "take also what robots.txt asks programs not to; for your own servers"
    )
    warc: Path | None = option(
        None,
        Path,
        "write also the exact exchanges, as WARC (ISO 28500); end it in .warc or .warc.gz",
        metavar="FILE",
    )
    note: str = option("", str, "your own words about it, kept in the ledger", metavar="TEXT")


@dataclass(frozen=True, kw_only=True)
class ErrandArguments:
    """What `errand` takes."""

    file: Path | None = option(None, Path, "the errand", metavar="FILE")


@dataclass(frozen=True, kw_only=True)
class ErrandOptions:
    """The own options of `errand`."""

    preview: bool = flag(
        "show its values, what would be fetched, where it would go and what would be done"
    )
    set: tuple[str, ...] = option(
        (),
        str,
        "give a value of the errand another word for this run",
        metavar="NAME=VALUE",
        many=True,
    )
    from_: str | None = option(
        None,
        str,
        "fetch nothing, and begin with a step: its number, or what it is, such as combine",
        metavar="STEP",
    )
    new: tuple[str, ...] = option(
        (),
        str,
        "write the file: an errand of these sources, with what they offer in comments",
        metavar="SOURCE",
        nargs="+",
    )
    summary: Path | None = option(
        None, Path, "write what came of it into a file, in one line", metavar="FILE"
    )


@dataclass(frozen=True, kw_only=True)
class TimetableArguments:
    """What `timetable` takes."""

    file: Path | None = option(None, Path, "the errand", metavar="FILE")


@dataclass(frozen=True, kw_only=True)
class TimetableOptions:
    """The own options of `timetable`."""

    at: str | None = option(
        None,
        str,
        "when: 'daily 06:30', 'Fri 20:30', 'Mon-Fri 07:00', or a day of the month: '1 06:00'",
        metavar="WHEN",
        required=True,
    )
    install: bool = flag("put the line into your own crontab")


@dataclass(frozen=True, kw_only=True)
class KnockArguments:
    """What `knock` takes."""

    sources: str | None = option(None, str, "the place", metavar="ADDRESS", nargs=1)


@dataclass(frozen=True, kw_only=True)
class KnockOptions:
    """The own options of `knock`."""

    json: bool = flag("write JSON for other programs")


@dataclass(frozen=True, kw_only=True)
class SettingsOptions:
    """The own options of `settings`."""

    all: bool = flag("show also what nobody has set, as it is by itself")
    json: bool = flag("write JSON for other programs")


@dataclass(frozen=True, kw_only=True)
class HelpArguments:
    """What `help` takes."""

    topic: tuple[str, ...] = option(
        (),
        str,
        "what to read about: errands, checksums, or an option without its dashes: since",
        metavar="TOPIC",
        nargs="*",
    )


@dataclass(frozen=True, kw_only=True)
class CompletionArguments:
    """What `completion` takes."""

    shell: str | None = option(None, str, "bash, zsh or fish", choices=("bash", "zsh", "fish"))


@dataclass(frozen=True, kw_only=True)
class DemoOptions:
    """The own options of `demo`."""

    into: Path | None = option(
        None,
        Path,
        "where the example is run (a new temporary folder, which is kept)",
        metavar="DIR",
    )
    serve: bool = flag("only start the stand-ins, and keep them up")
    port: int = option(
        0, port, "the port of the web server, with --serve (a free one)", metavar="N"
    )
