"""Options for connections and sign-ins."""

from __future__ import annotations

from willow_cart.options.option import Options, flag, option
from willow_cart.options.readers import positive, seconds, size


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
