"""The groups of options, which are also the policies: what reads them gets them as they are."""

from __future__ import annotations

import re
from collections.abc import Mapping
from datetime import datetime
from enum import StrEnum
from pathlib import Path

from willow_cart.defaults import LANES, LANES_PER_HOST, MOST_LANES_PER_HOST, STALL_SECONDS
from willow_cart.errors import BadOption
from willow_cart.options.option import Options, flag, option
from willow_cart.options.readers import (
    Span,
    depth,
    end,
    few,
    moment,
    pages,
    positive,
    seconds,
    size,
    span,
    speed,
    strands,
    whole,
)
from willow_cart.platform import processes
from willow_cart.structs import Value, force_setattr


class SignInOptions(Options):
    """The sign-in; secrets are referred to, never contained."""

    title = "sign-in"
    text = (
        "Sent to the hosts of the addresses among the sources, or to the one that --sign-in-at "
        "names, and to no other. Keep secrets in an environment variable (env:NAME), in the first "
        "line of a file (file:PATH), or in the system's keyring (keyring:NAME). Sign-ins in the "
        "config file that name their host, and ~/.netrc, are used as well."
    )

    sign_in: str | None = option(
        None, str, "the name of a sign-in in the config file", metavar="NAME"
    )
    user: str | None = option(
        None, str, "user name, for basic or digest authentication", metavar="NAME"
    )
    password: str | None = option(
        None,
        str,
        "password of --user; asked for on the terminal if missing",
        metavar="env:NAME|file:PATH|keyring:NAME",
    )
    key: str | None = option(
        None, str, "private key for SFTP, besides those of the agent and of ~/.ssh", metavar="FILE"
    )
    passphrase: str | None = option(
        None, str, "passphrase of --key", metavar="env:NAME|file:PATH|keyring:NAME"
    )
    token: str | None = option(
        None, str, "a bearer token", metavar="env:NAME|file:PATH|keyring:NAME"
    )
    account_key: str | None = option(
        None,
        str,
        "account key of a blob store; --user is the account's name",
        metavar="env:NAME|file:PATH|keyring:NAME",
    )
    shared_access: str | None = option(
        None,
        str,
        "shared access signature of a blob store",
        metavar="env:NAME|file:PATH|keyring:NAME",
    )
    header: tuple[str, ...] = option(
        (),
        str,
        "a header field to send; its value may be env:NAME or file:PATH",
        metavar="'NAME: VALUE'",
        many=True,
    )
    cookies: str | None = option(
        None, str, "a cookie file in the Netscape text form", metavar="FILE"
    )
    sign_in_at: str | None = option(
        None, str, "the address that the sign-in is for", metavar="ADDRESS"
    )


class ConnectingOptions(Options):
    """How to connect to servers."""

    title = "connecting"

    ca: str | None = option(
        None, str, "certificates to trust besides the system's, in PEM format", metavar="FILE"
    )
    client_cert: str | None = option(
        None, str, "client certificate with its key, in PEM format", metavar="FILE"
    )
    client_key: str | None = option(
        None, str, "key of --client-cert, if it is in a file of its own", metavar="FILE"
    )
    host_key: tuple[str, ...] = option(
        (),
        str,
        "accept the SFTP server with this key, which is not in ~/.ssh/known_hosts",
        metavar="SHA256:...",
        many=True,
    )
    endpoint: str | None = option(
        None,
        str,
        "address of the server for s3://, gs:// and az:// addresses; {bucket} in it makes the "
        "bucket part of the host name",
        metavar="ADDRESS",
    )
    profile: str | None = option(
        None,
        str,
        "sign requests to s3:// buckets by this profile of the shared credentials file",
        metavar="NAME",
    )
    ambient: bool = flag(
        "sign requests to s3:// buckets by the role of this machine, container or workload"
    )
    requester_pays: bool = flag("accept the charges for buckets whose owner does not pay them")
    largest_listing: int = option(
        64 << 20,
        size,
        "maximum size of a page, a folder index or an FTP listing (64MiB)",
        metavar="SIZE",
    )
    active: bool = flag("use active mode for FTP: the server opens the data connections")


class PatienceOptions(Options):
    """How often and how long to retry."""

    title = "pace"

    attempts: int = option(
        5,
        positive,
        "consecutive failed attempts before a request is given up; the pauses between them grow "
        "(%(default)s)",
        metavar="N",
    )
    pause: float | None = option(
        None, seconds, "use the same pause between all attempts", metavar="SECONDS"
    )
    longest_wait: float = option(
        300,
        seconds,
        "longest wait that a server may ask for; a file fails if the server asks for more "
        "(%(default)s)",
        metavar="SECONDS",
    )


class KindOption(Options):
    """What sources are."""

    title = "looking"

    as_: str | None = option(
        None,
        str,
        "what the sources are, if the server's answer does not show it",
        choices=(
            "file",
            "page",
            "folder",
            "bucket",
            "feed",
            "sitemap",
            "list",
            "archive",
            "webdav",
            "catalogue",
        ),
    )


class LookingOptions(KindOption):
    """How sources are listed."""

    title = "looking"

    depth: int | None = option(
        1,
        depth,
        "levels of folders to list, or of linked pages below the page (%(default)s)",
        metavar="N|all",
    )
    within: str = option(
        "", str, "only the part of a page that matches a CSS selector", metavar="SELECTOR"
    )
    parts: str = option(
        "links",
        str,
        "kinds of references on a page to use: links, images, media, styles, scripts (%(default)s)",
        metavar="PART,...",
        keyword="Words",
    )
    pages: int = option(1, pages, "pages of a series to follow (%(default)s)", metavar="N|all")
    next_: str = option(
        "",
        str,
        "CSS selector of the link to the next page, if the page does not mark it rel=next",
        metavar="SELECTOR",
    )
    keep_folders: bool = flag(
        "keep the folders of addresses: paths begin at the top of the server, not at the source"
    )
    left_out: bool = flag("use the rows of carts that are out, instead of those that are taken")
    base: str = option("", str, "the original address of a saved page", metavar="ADDRESS")
    most_listed: int = option(
        10000000,
        positive,
        "stop listing a source after N files or N/100 folders (%(default)s)",
        metavar="N",
    )
    ignore_robots: bool = flag("follow links that robots.txt disallows; for your own servers")


class Unknown(StrEnum):
    """What to do with offers for which a rule lacks a fact."""

    KEEP = "keep"
    DROP = "drop"


class ChoosingOptions(Options):
    """Which offers are chosen; the same in every command."""

    title = "choosing"

    numbers: str | None = option(
        None,
        str,
        "keep these rows of a survey or a cart, by number: 3,7-12",
        metavar="N,N-M,...",
        keyword="int | str",
    )
    link_text: tuple[str, ...] = option(
        (), str, "keep links whose text matches a wildcard pattern", metavar="PATTERN", many=True
    )
    heading: tuple[str, ...] = option(
        (),
        str,
        "keep links below a heading that matches a wildcard pattern, also of a section around it",
        metavar="PATTERN",
        many=True,
    )
    column: str = option(
        "",
        str,
        "keep links in one column of a table on the page, by number or title",
        metavar="N|TITLE",
        keyword="int | str",
    )
    ext: tuple[str, ...] = option(
        (),
        str,
        "keep these extensions, in any case; tar.gz is one extension",
        metavar="EXT,...",
        many=True,
    )
    kind: tuple[str, ...] = option(
        (),
        str,
        "keep these kinds of files: table, archive, image, ...",
        metavar="KIND,...",
        many=True,
    )
    keep: tuple[str, ...] = option(
        (),
        str,
        "keep names that match a wildcard pattern (* ? [abc]); a pattern with / is matched "
        "against the path below the source, and ** matches any folders; --keep may be repeated",
        metavar="PATTERN",
        many=True,
    )
    drop: tuple[str, ...] = option(
        (), str, "exclude names that match a wildcard pattern", metavar="PATTERN", many=True
    )
    keep_re: tuple[str, ...] = option(
        (),
        str,
        "keep paths that contain a match of a regular expression",
        metavar="REGEX",
        many=True,
    )
    drop_re: tuple[str, ...] = option(
        (),
        str,
        "exclude paths that contain a match of a regular expression",
        metavar="REGEX",
        many=True,
    )
    after_name: str = option("", str, "keep names that sort after this one", metavar="NAME")
    since: datetime | None = option(
        None,
        moment,
        "keep files modified at this time or later: 2031-05-01, 2031-05-01T06:00Z, or an age "
        "such as 5d or 24h; times without a zone are UTC",
        metavar="WHEN",
        keyword="Moment",
    )
    until: datetime | None = option(
        None,
        end,
        "keep files modified at this time or earlier; a date includes the whole day",
        metavar="WHEN",
        keyword="Moment",
    )
    media_type: tuple[str, ...] = option(
        (),
        str,
        "keep these media types: image/tiff, 'text/*'; the catalogue's, or that of the extension",
        metavar="TYPE",
        many=True,
    )
    within_time: Span | None = option(
        None,
        span,
        "keep data of this time, as a catalogue says: 2031-05-01/2031-05-31",
        metavar="FROM/UNTIL",
    )
    within_box: str | None = option(
        None,
        str,
        "keep data of this place, as a catalogue says, in degrees: 4.1,52.0,4.3,52.2",
        metavar="WEST,SOUTH,EAST,NORTH",
    )
    undated: Unknown = option(
        Unknown.KEEP,
        Unknown,
        "keep or drop files of unknown date when a rule needs the date (%(default)s)",
        choices=("keep", "drop"),
    )
    at_least: int | None = option(
        None, size, "keep files of this size or larger: 10MB, 1.5GiB", metavar="SIZE"
    )
    at_most: int | None = option(None, size, "keep files of this size or smaller", metavar="SIZE")
    unsized: Unknown = option(
        Unknown.KEEP,
        Unknown,
        "keep or drop files of unknown size, or of a rounded size near the limit, when a rule "
        "needs the size (%(default)s)",
        choices=("keep", "drop"),
    )
    prefer: tuple[str, ...] = option(
        (),
        str,
        "if a file is offered in several variants, such as two formats, keep the first of these: "
        "extensions, folder names, or last words of names",
        metavar="WORD,...",
        many=True,
    )
    nth: str = option("", str, "keep the K-th of every N remaining files: 1/3", metavar="K/N")
    first: int | None = option(None, positive, "keep the first N remaining files", metavar="N")
    ask_sizes: bool = flag("ask the servers for unknown sizes and dates, with one request per file")


# Seconds on the average between two files for those who are shy.
_ONE_BY_ONE_GAP_SECONDS = 2.0


class FilingOptions(Options):
    """Where files go below the destination."""

    layout: str = option(
        "tree",
        str,
        "folders: as in the addresses, none, by host, by kind of file, by month of modification, "
        "or by heading on the page (%(default)s)",
        choices=("tree", "flat", "host", "kind", "month", "heading"),
        one_of="rule",
    )
    file_as: str | None = option(
        None,
        str,
        "the path of each file, such as {kind}/{modified:%%Y-%%m}/{name}, or {text}.{ext} to name "
        "files by the words of their links; the guide lists the fields",
        metavar="TEMPLATE",
        one_of="rule",
    )
    skip_folders: int = option(0, whole, "leave out the first N folders of each path", metavar="N")
    name_parts: str = option(
        "",
        str,
        "defines fields for --file-as from parts of names: 'level_(?P<year>\\d{4})' defines {year}",
        metavar="REGEX",
    )


class PaceOptions(PatienceOptions):
    """The pace of requests, and limits on time, speed and size."""

    title = "pace"

    lanes: int = option(
        LANES,
        few,
        "number of files, or of strands of files, that are fetched at a time (%(default)s)",
        metavar="N",
    )
    lanes_per_host: int | None = option(
        None,
        few,
        "fixed number of lanes at one host (unless given: 8 at first, or the number of strands, "
        "and up to 16 while more are faster)",
        metavar="N",
    )
    strands: int | None = option(
        1,
        strands,
        "maximum number of lanes for one large file when lanes are free; auto adds lanes while "
        "the speed grows (%(default)s)",
        metavar="N|auto",
    )
    gap: float = option(0.0, seconds, "pause between two requests to one host", metavar="SECONDS")
    one_by_one: bool = flag("for sensitive servers: one file at a time, with a varying gap")
    speed_cap: int | None = option(None, speed, "limit the total speed: 2MB/s", metavar="SPEED")
    stall_after: float = option(
        STALL_SECONDS,
        seconds,
        "retry if no data arrives for this long (%(default)s)",
        metavar="SECONDS",
    )
    slowest: int | None = option(
        None, speed, "retry if the average speed is lower", metavar="SPEED"
    )
    time_per_file: float | None = option(
        None,
        seconds,
        "longest time for a file: 2h; what takes longer fails, and the next haul resumes it",
        metavar="SECONDS",
    )
    largest: int | None = option(
        None, size, "refuse larger files, whether or not their size is announced", metavar="SIZE"
    )

    @property
    def all_lanes(self) -> int:
        """Return how many files, or strands, are fetched at a time."""
        return 1 if self.one_by_one else max(self.lanes, self.strands or 1)

    @property
    def first_host_lanes(self) -> int:
        """Return how many lanes a host has at first."""
        if self.one_by_one:
            return 1
        return self.lanes_per_host or max(LANES_PER_HOST, self.strands or 1)

    @property
    def most_host_lanes(self) -> int:
        """Return how many lanes a host may get while it serves more of them faster."""
        is_fixed = self.one_by_one or self.lanes_per_host is not None
        return (
            self.first_host_lanes if is_fixed else max(MOST_LANES_PER_HOST, self.first_host_lanes)
        )

    @property
    def most_strands(self) -> int | None:
        """Return on how many lanes at most one large file is fetched; None for as many as pay."""
        return 1 if self.one_by_one else self.strands

    @property
    def has_gaps(self) -> bool:
        """Whether there are pauses between the requests to a host."""
        return bool(self.gap or self.one_by_one)

    @property
    def is_free(self) -> bool:
        """Whether requests follow each other as fast as they can."""
        return not (self.has_gaps or self.speed_cap)

    @property
    def may_hurry(self) -> bool:
        """Whether a host may be asked for several files at a time, as fast as it answers."""
        return min(self.all_lanes, self.first_host_lanes) > 1 and self.is_free

    def gap_after(self, random_value: float) -> float:
        """Return the seconds between a request to a host and the next.

        Args:
            random_value: a random number from 0 to 1.
        """
        if not self.one_by_one:
            return self.gap
        return (self.gap or _ONE_BY_ONE_GAP_SECONDS) * (0.5 + random_value)

    def speed_share(self, count: int) -> int | None:
        """Return the share of one of several workers in bytes a second; None for no limit."""
        return self.speed_cap and max(1, self.speed_cap // max(1, count))


class IfPresent(StrEnum):
    """What a haul does about a file that exists at the path of another one."""

    RENEW = "renew"
    """Ask the server whether it has changed, and fetch it if so."""
    KEEP = "keep"
    """Leave it, and make no request."""
    REPLACE = "replace"
    """Fetch it again, changed or not."""
    FAIL = "fail"
    """Leave it, and count it as a failure."""


class Twins(StrEnum):
    """What a haul does about a file that has the same content as another file here, by SHA-256."""

    KEEP = "keep"
    """File it anyway."""
    LINK = "link"
    """Have both names lead to one file on the disk (a hard link, POSIX `link`)."""
    SKIP = "skip"
    """Leave it out; the ledger knows which file stands for it."""


_FIELD = re.compile(r"\{(\w*)\}")

FIELDS = (
    "path", "into", "name", "stem", "ext", "folder", "kind", "address", "host", "source", "size",
    "sha256", "time",
)  # fmt: skip
"""What a command may be told; the same is in its environment, as `WILLOW_PATH` and so on."""


class ArrivalCommand(Value):
    """A command with fields in it.

    Attributes:
        text: as typed.
        words: what that comes to.

    Raises:
        BadOption: it cannot be read, or has an unknown field.
    """

    text: str
    words: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        try:
            words = tuple(processes.words_of(self.text))
        except ValueError as error:
            raise BadOption(
                self.text, f"cannot be read: {str(error).lower()}", "check its quotes"
            ) from None
        if not words:
            raise BadOption("--on-arrival", "is empty", "name a command: 'COMMAND {path}'")
        for name in _FIELD.findall(self.text):
            if name not in FIELDS:
                raise BadOption(f"{{{name}}}", "not a field", f"fields are {', '.join(FIELDS)}")
        force_setattr(self, "words", words)

    def words_for(self, fields: Mapping[str, str]) -> list[str]:
        """Return the words of the command for a file."""
        return [_FIELD.sub(lambda found: fields[found[1]], word) for word in self.words]


class HandlingOptions(Options):
    """Options for fetching, checking and filing."""

    times: str = option(
        "keep",
        str,
        "modification time of files: keep the server's, or use the time of arrival (%(default)s)",
        choices=("keep", "now"),
    )
    preview: bool = flag("show the resulting tree; fetches and writes nothing")
    checksums: tuple[str, ...] = option(
        (),
        str,
        "verify files against a checksum list, in GNU or BSD format",
        metavar="FILE|ADDRESS",
        many=True,
    )
    find_checksums: bool = flag(
        "look for checksum lists next to the files: SHA256SUMS, md5sums.txt, name.sha256, ..."
    )
    must_check: bool = flag(
        "refuse files without a checksum in the cart, in a list, or from the server"
    )
    inspect: bool = flag(
        "open archives, images, tables and JSON after arrival, and report what is damaged inside"
    )
    accept_anything: bool = flag("accept web pages in place of other files")
    if_present: IfPresent = option(
        IfPresent.RENEW,
        IfPresent,
        "for files that exist already: ask the server whether they have changed, keep them "
        "without asking, fetch them again, or count them as failed (%(default)s)",
        choices=("renew", "keep", "replace", "fail"),
    )
    twins: Twins = option(
        Twins.KEEP,
        Twins,
        "for files whose content exists under another name: file them as well, link both names "
        "to one file, or leave them out (%(default)s)",
        choices=("keep", "link", "skip"),
    )
    cart: Path | None = option(
        None, Path, "also write a cart of what is hauled, as load does", metavar="FILE"
    )
    even_if_full: bool = flag("start even if there is not enough disk space for everything")
    start_over: bool = flag(
        "start over in a folder that was on another disk when it was hauled into"
    )
    note: str = option("", str, "a note to store in the ledger", metavar="TEXT")
    detach: bool = flag("run in the background; see willow-cart runs")
    cluster: str | None = option(
        None,
        str,
        "fetch with the workers of a Dask cluster that shares the destination: tcp://HOST:8786, "
        "tls://HOST:8786, or the scheduler's file",
        metavar="SCHEDULER",
    )
    log: Path | None = option(None, Path, "write a log of events as JSON Lines", metavar="FILE")
    on_arrival: ArrivalCommand | None = option(
        None,
        ArrivalCommand,
        "run a command for each file that arrives, without a shell: 'check {path}'; the guide "
        "lists the fields",
        metavar="COMMAND",
    )


class UnpackingOptions(Options):
    """How archives are unpacked."""

    title = "unpacking"

    unpack_to: str | None = option(
        None,
        str,
        "the folder for the content of each archive, with the fields of --file-as "
        "({folder}/{stem})",
        metavar="TEMPLATE",
    )
    inside: tuple[str, ...] = option(
        (),
        str,
        "unpack only files whose path in the archive matches a wildcard pattern, as for --keep",
        metavar="PATTERN",
        many=True,
    )
    strip_top: bool = flag("omit the top folder of an archive if everything is in one")
    nested: bool = flag("also unpack archives inside archives, one level deep")
    archives: str = option(
        "keep",
        str,
        "keep or remove an archive after all of it was unpacked (%(default)s)",
        choices=("keep", "remove"),
    )
    unpacked_at_most: str | None = option(
        None,
        str,
        "maximum unpacked size of an archive: 200x its size, 50GB, or both with a comma (1000x, "
        "if that is more than 100 MB)",
        metavar="BOUND",
    )
    archive_password: str | None = option(
        None, str, "password of encrypted archives", metavar="env:NAME|file:PATH|keyring:NAME"
    )


class HaulUnpackingOptions(UnpackingOptions):
    """Which archives a haul unpacks, and how."""

    text = "Archives are unpacked after everything has arrived."

    unpack: tuple[str, ...] = option(
        (),
        str,
        "unpack archives that match a wildcard pattern, as for --keep: '*.zip'",
        metavar="PATTERN",
        many=True,
    )
