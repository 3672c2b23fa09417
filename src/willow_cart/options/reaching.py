"""Options that say how places are reached, and what lets one in."""

from __future__ import annotations

from typing import ClassVar

from willow_cart.options.option import flag, option, option_group
from willow_cart.options.readers import positive, seconds, size


@option_group
class SignInOptions:
    """What lets one in; no secret is among them, only where it is kept."""

    group_title: ClassVar[str] = "sign-in"
    group_text: ClassVar[str] = (
        "For the places of the addresses among the sources, or for the one that --sign-in-at "
        "names, and nowhere else. Secrets are kept in an environment variable (env:NAME) or in the "
        "first line of a file (file:PATH). Also used: sign-ins of the config file that say where "
        "they are for, and ~/.netrc."
    )

    sign_in: str | None = option(None, str, "a sign-in of the config file", metavar="NAME")
    user: str | None = option(
        None, str, "a user's name, for basic or digest authentication", metavar="NAME"
    )
    password: str | None = option(
        None,
        str,
        "that user's password; without this option a terminal is asked for it",
        metavar="env:NAME|file:PATH",
    )
    token: str | None = option(None, str, "a bearer token", metavar="env:NAME|file:PATH")
    account_key: str | None = option(
        None,
        str,
        "the key of a blob store's account, whose name is --user",
        metavar="env:NAME|file:PATH",
    )
    shared_access: str | None = option(
        None, str, "a shared access signature of a blob store", metavar="env:NAME|file:PATH"
    )
    header: tuple[str, ...] = option(
        (),
        str,
        "a header field; its value may be env:NAME or file:PATH",
        metavar="'NAME: VALUE'",
        many=True,
    )
    cookies: str | None = option(
        None, str, "a cookie file in the Netscape text form", metavar="FILE"
    )
    sign_in_at: str | None = option(None, str, "the place that these are for", metavar="ADDRESS")


@option_group
class ConnectingOptions:
    """How places are connected to."""

    group_title: ClassVar[str] = "connecting"

    ca: str | None = option(
        None, str, "certificates to trust besides the system's, in PEM form", metavar="FILE"
    )
    client_cert: str | None = option(
        None, str, "a certificate to prove who you are, in PEM form, with its key", metavar="FILE"
    )
    client_key: str | None = option(
        None, str, "the key of that certificate, where it is elsewhere", metavar="FILE"
    )
    endpoint: str | None = option(
        None,
        str,
        "where the buckets of s3:// and gs:// are; with {bucket} in it the bucket is part of "
        "the host",
        metavar="ADDRESS",
    )
    requester_pays: bool = flag("bear the costs of buckets whose owners do not")
    largest_listing: int = option(
        64 << 20,
        size,
        "the most bytes of a page, a folder index or an FTP listing that are read (64MiB)",
        metavar="SIZE",
    )
    active: bool = flag("let FTP servers connect to this machine for data")


@option_group
class PatienceOptions:
    """How often and how long places are asked again."""

    group_title: ClassVar[str] = "pace"

    attempts: int = option(
        5,
        positive,
        "how often in a row a request is made without success before it is given up, with "
        "growing pauses in between (%(default)s)",
        metavar="N",
    )
    pause: float | None = option(
        None, seconds, "always the same pause between attempts", metavar="SECONDS"
    )
    longest_wait: float = option(
        300,
        seconds,
        "the longest pause that a server may ask for; a file that it asks longer for fails "
        "(%(default)s)",
        metavar="SECONDS",
    )
