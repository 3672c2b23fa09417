"""Options for listing sources and choosing offers."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum

from willow_cart.options.option import Options, flag, option
from willow_cart.options.readers import Span, depth, end, moment, pages, positive, size, span


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
