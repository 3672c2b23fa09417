"""Options that say how sources are looked at, and which offers are chosen."""

from __future__ import annotations

from typing import ClassVar

from willow_cart.options.option import flag, option, option_group
from willow_cart.options.readers import depth, positive, size


@option_group
class LookingOptions:
    """How sources are looked at."""

    group_title: ClassVar[str] = "looking"

    as_: str | None = option(
        None,
        str,
        "what the sources are, where that cannot be told by asking",
        choices=("file", "page", "folder", "bucket", "feed", "sitemap", "list", "archive"),
    )
    depth: int | None = option(
        1,
        depth,
        "how many levels of folders, or of pages that lead on below the page (%(default)s)",
        metavar="N|all",
    )
    within: str = option(
        "", str, "only the part of a page that a CSS selector names", metavar="SELECTOR"
    )
    parts: str = option(
        "links",
        str,
        "which references on a page count: links, images, media, styles, scripts (%(default)s)",
        metavar="PART,...",
        keyword="Words",
    )
    pages: int = option(
        1, positive, "how many pages of a series are followed (%(default)s)", metavar="N"
    )
    next_: str = option(
        "",
        str,
        "the link to the next page as a CSS selector, where it does not say rel=next",
        metavar="SELECTOR",
    )
    base: str = option("", str, "the address that a saved page is from", metavar="ADDRESS")
    most_listed: int = option(
        10000000,
        positive,
        "stop reading a source after so many files, or a hundredth as many folders (%(default)s)",
        metavar="N",
    )
    ignore_robots: bool = flag(
        "follow links also where robots.txt asks programs not to; for your own servers"
    )


@option_group
class ChoosingOptions:
    """Which offers are chosen; the same in every command."""

    group_title: ClassVar[str] = "choosing"

    numbers: str | None = option(
        None,
        str,
        "keep these numbers of a survey or a cart: 3,7-12",
        metavar="N,N-M,...",
        keyword="int | str",
    )
    link_text: tuple[str, ...] = option(
        (), str, "keep links whose words match a wildcard pattern", metavar="PATTERN", many=True
    )
    column: str = option(
        "",
        str,
        "keep links in a column of a table, by number or title",
        metavar="N|TITLE",
        keyword="int | str",
    )
    ext: tuple[str, ...] = option(
        (),
        str,
        "keep these extensions, whatever their case; tar.gz counts as one",
        metavar="EXT,...",
        many=True,
    )
    kind: tuple[str, ...] = option(
        (),
        str,
        "keep families of extensions: table, archive, image, ...",
        metavar="KIND,...",
        many=True,
    )
    keep: tuple[str, ...] = option(
        (),
        str,
        "keep names that match a wildcard pattern (* ? [abc]); with a / in it the path below "
        "the source is matched, and ** stands for any folders; several --keep add up",
        metavar="PATTERN",
        many=True,
    )
    drop: tuple[str, ...] = option(
        (), str, "drop what matches a wildcard pattern", metavar="PATTERN", many=True
    )
    keep_re: tuple[str, ...] = option(
        (), str, "keep paths in which a regular expression is found", metavar="REGEX", many=True
    )
    drop_re: tuple[str, ...] = option(
        (), str, "drop paths in which a regular expression is found", metavar="REGEX", many=True
    )
    after_name: str = option("", str, "keep names that sort behind this one", metavar="NAME")
    since: str | None = option(
        None,
        str,
        "keep what was modified then or later: 2031-05-01, 2031-05-01T06:00Z, or how long ago: "
        "5d, 24h; without a zone it is UTC",
        metavar="WHEN",
        keyword="Moment",
    )
    until: str | None = option(
        None,
        str,
        "keep what was modified then or earlier; a date means its whole day",
        metavar="WHEN",
        keyword="Moment",
    )
    undated: str = option(
        "keep",
        str,
        "what becomes of offers without a date, when dates are chosen by (%(default)s)",
        choices=("keep", "drop"),
    )
    at_least: int | None = option(
        None, size, "keep files of this size or larger: 10MB, 1.5GiB", metavar="SIZE"
    )
    at_most: int | None = option(None, size, "keep files of this size or smaller", metavar="SIZE")
    unsized: str = option(
        "keep",
        str,
        "what becomes of offers without a size, or with one that is rounded and close to the "
        "limit (%(default)s)",
        choices=("keep", "drop"),
    )
    prefer: tuple[str, ...] = option(
        (),
        str,
        "of twins, such as one recording in two formats, keep the first of these: extensions, "
        "names of folders, or last words of names",
        metavar="WORD,...",
        many=True,
    )
    nth: str = option("", str, "of every N that are left keep the K-th: 1/3", metavar="K/N")
    first: int | None = option(None, positive, "keep the first N of what is left", metavar="N")
    ask_sizes: bool = flag(
        "ask the servers for sizes and dates that are not known, one request a file"
    )
