"""All errors, as one tree.

An error carries its parts as attributes, so that callers decide on fields and never on text::

    WillowCartError
    ├── UsageError          the request itself cannot be carried out (exit code 2)
    │   ├── BadAddress
    │   ├── BadOption
    │   ├── UnreadableSource
    │   ├── UnusableDestination
    │   ├── NoTable
    │   ├── TablesDiffer
    │   └── UnreadableLedger
    ├── NothingChosen          the request is fine, but no file is left (exit code 3)
    ├── TransferFailed         one file could not be fetched
    │   ├── TransientError           ... and another attempt may well succeed
    │   │   ├── TooManyFiles
    │   │   ├── ConnectionLost
    │   │   ├── TimedOut
    │   │   │   └── TooSlow
    │   │   └── ServerBusy
    │   └── PermanentError     ... and asking again the same way will not help
    │       ├── HostUnknown
    │       ├── NotTrusted
    │       ├── NotServed
    │       ├── TooManyRedirects
    │       ├── TookTooLong
    │       ├── NoParts
    │       └── ProtocolError
    ├── CannotStore            this machine cannot keep what came, or is to come
    │   └── TooLittleRoom
    ├── VerificationError        something came, but failed its check (exit code 4)
    │   ├── CheckFailed
    │   ├── Unproved
    │   ├── WrongContent
    │   ├── NotUnpacked
    │   └── PageInstead
    ├── InternalError          a fault of this program
    ├── Incomplete             a script requested all of it, and not all is here (exit code 1 or 4)
    └── Interrupted            the user asked to stop

Every error reads as one line: the thing, the reason, what to do.
"""

from __future__ import annotations

import errno
import traceback
from collections.abc import Collection
from enum import IntEnum
from pathlib import Path
from typing import Any

from willow_cart.redaction import without_secrets

TOO_MANY_FILES = frozenset({errno.EMFILE, errno.ENFILE})
"""What the system says if no further file can be opened; `OSError.errno`."""


def plainly(error: OSError) -> str:
    """Return the message of an operating system error as a clause."""
    return (error.strerror or str(error)).lower()


# What a library says beyond this is for its developers.
_MAX_SAID_CHARACTERS = 200


def said_in(error: BaseException) -> str:
    """Return what a library says in an error, in one line."""
    return " ".join(str(error).split())[:_MAX_SAID_CHARACTERS] or type(error).__name__


# No name that a user recognises is longer.
_MAX_THING_CHARACTERS = 300


def shortened(thing: str) -> str:
    """Shorten a long name at its end, to be shown in a line."""
    return thing if len(thing) <= _MAX_THING_CHARACTERS else f"{thing[:_MAX_THING_CHARACTERS]}..."


class WillowCartError(Exception):
    """The base class of all errors.

    Attributes:
        thing: the subject: an address (without its secrets), a path, an option.
        reason: the problem, as a clause.
        advice: what the user can do about it; may be empty.
    """

    def __init__(self, thing: str, reason: str, advice: str = "") -> None:
        thing = without_secrets(thing)
        super().__init__(thing, reason, advice)
        self.thing = thing
        self.reason = reason
        self.advice = advice

    @property
    def why(self) -> str:
        """Return the reason and the advice, for tables that show the thing in another column."""
        return f"{self.reason}; {self.advice}" if self.advice else self.reason

    def __str__(self) -> str:
        return f"{shortened(self.thing)}: {self.why}"

    def __reduce__(self) -> tuple[Any, ...]:
        # Between processes; what subclasses take by keyword would be lost.
        return _revive, (type(self), self.args, self.__dict__)


def _revive(
    kind: type[WillowCartError], args: tuple[str, ...], facts: dict[str, object]
) -> WillowCartError:
    error = kind.__new__(kind, *args)
    error.__dict__.update(facts)
    return error


class UsageError(WillowCartError):
    """The request is invalid."""


class BadAddress(UsageError):
    """An invalid address, or one with an unsupported scheme."""


class BadOption(UsageError):
    """An invalid value of an option."""


class FieldsMissing(UsageError):
    """A template has a field without a value for some files.

    Attributes:
        address: of the first of them, without secrets.
        files: how many they are.
    """

    def __init__(self, thing: str, reason: str, advice: str, *, address: str, files: int) -> None:
        super().__init__(thing, reason, advice)
        self.address = address
        self.files = files


class UnreadableSource(UsageError):
    """A source that cannot be read at all; a single bad line is a `model.Issue` instead."""


class UnusableDestination(UsageError):
    """A folder that cannot be a destination."""


class UnusableCluster(UsageError):
    """A cluster on which nothing can be fetched: no scheduler, no workers, no common folder."""


class NoTable(UsageError):
    """A file that cannot be read as a table, or that tables cannot be written to."""


class TablesDiffer(UsageError):
    """Tables that must have the same columns but do not."""


class UnreadableLedger(UsageError):
    """A folder without a ledger, or with one that this version cannot read."""


class NoSuchRun(UsageError):
    """A run that does not exist, or is not running."""


class NothingChosen(WillowCartError):
    """The sources were read, but no offer is left.

    Attributes:
        offered: how many offers there were before choosing.
        rule: the rule or the wildcard that left none, as typed; None when nothing was offered.
    """

    def __init__(
        self, thing: str, reason: str, advice: str, *, offered: int, rule: str | None
    ) -> None:
        super().__init__(thing, reason, advice)
        self.offered = offered
        self.rule = rule


def nothing_there(places: object, what: str) -> NothingChosen:
    """Return the error for folders without anything to choose from."""
    return NothingChosen(
        str(places),
        f"contains no {what}",
        "haul some first, or name another folder",
        offered=0,
        rule=None,
    )


class TransferFailed(WillowCartError):
    """A file did not arrive."""


class TransientError(TransferFailed):
    """A temporary failure; another attempt may succeed.

    Attributes:
        wait: seconds that the server asked to be left alone for; None if it gave none.
    """

    def __init__(
        self, thing: str, reason: str, advice: str = "", *, wait: float | None = None
    ) -> None:
        super().__init__(thing, reason, advice)
        self.wait = wait


class TooManyFiles(TransientError):
    """This machine lets the program open no further file or connection for now."""


def too_many_files(thing: str) -> TooManyFiles:
    """Return the error for something that could not be opened."""
    return TooManyFiles(thing, "too many open files", "raise the limit (ulimit -n), or --lanes 4")


class ConnectionLost(TransientError):
    """The connection could not be made, or broke before the file was complete."""


class SurplusBytes(TransientError):
    """The server sent more bytes than it announced, so those that came are not to be trusted."""


class TimedOut(TransientError):
    """The server sent nothing for too long."""


class TooSlow(TimedOut):
    """The transfer is slower than allowed; the bytes that arrived do not count as progress."""


class ServerBusy(TransientError):
    """The server asked to wait (408, 425, 429, 5xx).

    Attributes:
        status: the HTTP status code, or the FTP reply code.
        most: as many connections as the server allows; None where it does not show that.
    """

    def __init__(
        self,
        thing: str,
        reason: str,
        advice: str = "",
        *,
        wait: float | None,
        status: int,
        most: int | None = None,
    ) -> None:
        super().__init__(thing, reason, advice, wait=wait)
        self.status = status
        self.most = most


class PermanentError(TransferFailed):
    """A permanent failure; the same request will not succeed."""


class HostUnknown(PermanentError):
    """The host name does not exist."""


class NotTrusted(PermanentError):
    """The TLS connection could not be established: the host's identity is not proved."""


class NotServed(PermanentError):
    """The server refuses the file (404, 403, ...).

    Attributes:
        status: the HTTP status code.
    """

    def __init__(self, thing: str, reason: str, advice: str = "", *, status: int) -> None:
        super().__init__(thing, reason, advice)
        self.status = status


class SignInFailed(PermanentError):
    """A sign-in that takes steps of its own, such as a form, was refused at one of them."""


class TooManyRedirects(PermanentError):
    """Circular or endless redirects."""


class TookTooLong(PermanentError):
    """The time limit for a file was reached; the part that arrived is kept."""


class NoParts(PermanentError):
    """The server does not serve byte ranges, but one is needed."""


class ProtocolError(PermanentError):
    """A response that violates the protocol; none of it can be trusted."""


class CannotStore(WillowCartError):
    """The file could not be stored: disk full, no permission."""


class ClusterLost(WillowCartError):
    """The scheduler or all workers of a cluster are gone; the same command resumes."""


class TooLittleRoom(CannotStore):
    """There is not enough free disk space.

    Attributes:
        needed: bytes.
        room: bytes that may be written.
    """

    def __init__(self, thing: str, reason: str, advice: str, *, needed: int, room: int) -> None:
        super().__init__(thing, reason, advice)
        self.needed = needed
        self.room = room


class VerificationError(WillowCartError):
    """The file that arrived failed its check."""


class PageInstead(VerificationError):
    """A web page arrived with status 200 in place of another kind of file.

    Attributes:
        title: of the page; empty where it has none.
    """

    def __init__(self, thing: str, reason: str, advice: str, *, title: str) -> None:
        super().__init__(thing, reason, advice)
        self.title = title


class Unproved(VerificationError):
    """A file that must have a checksum has none."""


class WrongContent(VerificationError):
    """An error document or an empty body arrived in place of another kind of file."""


class NotUnpacked(VerificationError):
    """An archive that is invalid, damaged or malicious."""


class CheckFailed(VerificationError):
    """The checksum of the file differs from the expected one.

    Attributes:
        expected: the promised checksum, as `algorithm:hex`.
        found: the checksum of the received bytes, in the same form.
        kept: where the bytes were put for inspection.
    """

    def __init__(
        self, thing: str, reason: str, advice: str, *, expected: str, found: str, kept: Path
    ) -> None:
        super().__init__(thing, reason, advice)
        self.expected = expected
        self.found = found
        self.kept = kept


class InternalError(WillowCartError):
    """A bug in this program, limited to one file or source.

    It says where it happened and of what kind it is, and contains no values, which may be secrets.

    Attributes:
        trace: the calls that led to it, the outermost first, as `FILE:LINE FUNCTION`.
    """

    trace: tuple[str, ...] = ()

    @classmethod
    def of(cls, thing: str, error: BaseException) -> InternalError:
        """Return the error for an unexpected exception.

        Args:
            thing: the subject.
        """
        frames = traceback.extract_tb(error.__traceback__)
        trace = tuple(f"{Path(each.filename).name}:{each.lineno} {each.name}" for each in frames)
        where = trace[-1].partition(" ")[0] if trace else "unknown"
        made = cls(
            thing,
            f"internal error ({type(error).__name__} at {where})",
            "please report it; --log FILE writes the details",
        )
        made.trace = trace
        return made


class Incomplete(WillowCartError):
    """Not everything that a script requested arrived and passed its check.

    Attributes:
        result: the result until then.
        exit_code: what the command would return to the shell.
    """

    def __init__(
        self, thing: str, reason: str, advice: str = "", *, result: object, exit_code: int
    ) -> None:
        super().__init__(thing, reason, advice)
        self.result = result
        self.exit_code = exit_code


class Interrupted(WillowCartError):
    """The user asked to stop; arrived files are kept."""


class Exit(IntEnum):
    """An exit code of a command."""

    GOOD = 0
    """All arrived or was here already."""
    INCOMPLETE = 1
    """Something did not arrive."""
    NOT_UNDERSTOOD = 2
    """The command requests something that cannot be done."""
    NOTHING_CHOSEN = 3
    """Nothing matched."""
    CHECK_FAILED = 4
    """Something arrived and failed its check."""
    INTERRUPTED = 130
    """Interrupted by the user: 128 and the number of the signal, as in shells."""


def code_for(error: WillowCartError) -> Exit:
    """Return the exit code for an error that ends a command."""
    match error:
        case NothingChosen():
            return Exit.NOTHING_CHOSEN
        case CannotStore() | TransferFailed():
            return Exit.INCOMPLETE
        case _:
            return Exit.NOT_UNDERSTOOD


def gravest(codes: Collection[Exit]) -> Exit:
    """Return the most serious of several exit codes: an interruption first, then failed checks."""
    order = (Exit.INTERRUPTED, Exit.CHECK_FAILED, Exit.INCOMPLETE)
    return next((code for code in order if code in codes), Exit.GOOD)
