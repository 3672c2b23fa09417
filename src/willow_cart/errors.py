"""Everything that can go wrong, as one tree.

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
    ├── TransferFailed         one file did not come
    │   ├── TransientError           ... and another attempt may well succeed
    │   │   ├── ConnectionLost
    │   │   ├── TimedOut
    │   │   │   └── TooSlow
    │   │   └── ServerBusy
    │   └── Hopeless           ... and asking again the same way will not help
    │       ├── HostUnknown
    │       ├── NotTrusted
    │       ├── NotServed
    │       ├── TooManyRedirects
    │       ├── TookTooLong
    │       ├── NoParts
    │       └── ProtocolError
    ├── CannotStore            this machine cannot keep what came, or is to come
    │   └── TooLittleRoom
    ├── VerificationError        something came, but is not what was promised (exit code 4)
    │   ├── CheckFailed
    │   ├── Unproved
    │   ├── WrongContent
    │   ├── NotUnpacked
    │   └── PageInstead
    ├── InternalError          a fault of this program
    ├── Incomplete             a script asked for all of it, and not all is here (exit code 1 or 4)
    └── Interrupted            the person asked to stop

Every error reads as one line: the thing, the reason, what to do.
"""

from __future__ import annotations

import traceback
from pathlib import Path
from typing import Any

from willow_cart.redaction import without_secrets


def plainly(error: OSError) -> str:
    """Return what the system says is wrong, as a clause."""
    return (error.strerror or str(error)).lower()


# No name that a person recognises is longer.
_MAX_THING_CHARACTERS = 300


def shortened(thing: str) -> str:
    """Return a name as it is shown in a line: a longer one than is read loses its end."""
    return thing if len(thing) <= _MAX_THING_CHARACTERS else f"{thing[:_MAX_THING_CHARACTERS]}..."


class WillowCartError(Exception):
    """The root of the tree.

    Attributes:
        thing: what it is about: an address (without its secrets), a path, an option.
        reason: what is wrong with it, as a clause.
        advice: what the person can do about it; may be empty.
    """

    def __init__(self, thing: str, reason: str, advice: str = "") -> None:
        thing = without_secrets(thing)
        super().__init__(thing, reason, advice)
        self.thing = thing
        self.reason = reason
        self.advice = advice

    @property
    def why(self) -> str:
        """The reason and the advice without the thing, for tables that name the thing already."""
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
    """The request itself cannot be carried out."""


class BadAddress(UsageError):
    """An address that no place can have, or one with a scheme that is not supported."""


class BadOption(UsageError):
    """A value that an option cannot take."""


class FieldsMissing(UsageError):
    """A template has a field that some files have nothing to say for.

    Attributes:
        address: of the first of them, without secrets.
        files: how many they are.
    """

    def __init__(self, thing: str, reason: str, advice: str, *, address: str, files: int) -> None:
        super().__init__(thing, reason, advice)
        self.address = address
        self.files = files


class UnreadableSource(UsageError):
    """A source that cannot be read at all; a single bad line is a `model.Trouble` instead."""


class UnusableDestination(UsageError):
    """A folder that nothing can be hauled into."""


class NoTable(UsageError):
    """A file that cannot be read as a table, or one that tables cannot be written into."""


class TablesDiffer(UsageError):
    """Tables that are to have the same columns, and have not."""


class UnreadableLedger(UsageError):
    """A folder without a ledger, or one whose ledger this version cannot read."""


class NoSuchRun(UsageError):
    """A run that is not known, or not in progress."""


class NothingChosen(WillowCartError):
    """Sources were read, and no offer is left.

    Attributes:
        offered: how many offers there were before choosing.
        rule: the rule that left none, as it was typed; None when nothing was offered.
    """

    def __init__(
        self, thing: str, reason: str, advice: str, *, offered: int, rule: str | None
    ) -> None:
        super().__init__(thing, reason, advice)
        self.offered = offered
        self.rule = rule


def nothing_there(places: object, what: str) -> NothingChosen:
    """Return the error for folders that hold nothing to choose from."""
    return NothingChosen(
        str(places),
        f"contains no {what}",
        "haul some first, or name another folder",
        offered=0,
        rule=None,
    )


class TransferFailed(WillowCartError):
    """One file did not come."""


class TransientError(TransferFailed):
    """Another attempt may well succeed.

    Attributes:
        wait: seconds that the server asked to be left alone for; None when it did not say.
    """

    def __init__(
        self, thing: str, reason: str, advice: str = "", *, wait: float | None = None
    ) -> None:
        super().__init__(thing, reason, advice)
        self.wait = wait


class ConnectionLost(TransientError):
    """The connection could not be made, or broke before the whole file had come."""


class TimedOut(TransientError):
    """Nothing was heard for too long."""


class TooSlow(TimedOut):
    """Bytes come, but more slowly than allowed; those that came do not count as progress."""


class ServerBusy(TransientError):
    """The server answered, and asked to be left alone for now (408, 425, 429, 5xx).

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
    """Asking again in the same way will not help."""


class HostUnknown(PermanentError):
    """No name server knows the host."""


class NotTrusted(PermanentError):
    """The secure connection could not be set up: the host is not proved to be who it says."""


class NotServed(PermanentError):
    """The server will not give the file (404, 403, ...).

    Attributes:
        status: the HTTP status code.
    """

    def __init__(self, thing: str, reason: str, advice: str = "", *, status: int) -> None:
        super().__init__(thing, reason, advice)
        self.status = status


class TooManyRedirects(PermanentError):
    """Redirects that lead in a circle, or on and on."""


class TookTooLong(PermanentError):
    """A file that has had all the time that it may have; what has come of it is kept."""


class NoParts(PermanentError):
    """A place that does not serve parts of files, where only a part is wanted."""


class ProtocolError(PermanentError):
    """An answer that breaks the protocol's rules; nothing of it can be trusted."""


class CannotStore(WillowCartError):
    """The file came, and this machine could not keep it: disk full, no permission."""


class TooLittleRoom(CannotStore):
    """What is to come does not fit on the disk.

    Attributes:
        needed: bytes.
        room: bytes that may be written.
    """

    def __init__(self, thing: str, reason: str, advice: str, *, needed: int, room: int) -> None:
        super().__init__(thing, reason, advice)
        self.needed = needed
        self.room = room


class VerificationError(WillowCartError):
    """Something came, and is not what was promised."""


class PageInstead(VerificationError):
    """A page came where another kind of file was asked for, with an answer that says all is well.

    Attributes:
        title: of the page; empty where it has none.
    """

    def __init__(self, thing: str, reason: str, advice: str, *, title: str) -> None:
        super().__init__(thing, reason, advice)
        self.title = title


class Unproved(VerificationError):
    """No checksum is promised for a file that must have one."""


class WrongContent(VerificationError):
    """An error document, or nothing at all, where another kind of file was asked for."""


class NotUnpacked(VerificationError):
    """An archive that is none, is damaged, or is meant to do harm."""


class CheckFailed(VerificationError):
    """The file came, and its checksum is not the promised one.

    Attributes:
        expected: the promised checksum, as `algorithm:hex`.
        found: the checksum of what came, in the same form.
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
    """A fault of this program, met while one thing was dealt with.

    It says where it happened and of what kind it is, and holds no values: those may be secrets.

    Attributes:
        trace: the calls that led to it, the outermost first, as `FILE:LINE FUNCTION`.
    """

    trace: tuple[str, ...] = ()

    @classmethod
    def of(cls, thing: str, error: BaseException) -> InternalError:
        """Return the error for something that was raised unforeseen.

        Args:
            thing: what was dealt with.
            error: what was raised.
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
    """Not everything that a script asked for is here, and right.

    Attributes:
        result: what was done until then.
        exit_code: what the command would tell the shell.
    """

    def __init__(
        self, thing: str, reason: str, advice: str = "", *, result: object, exit_code: int
    ) -> None:
        super().__init__(thing, reason, advice)
        self.result = result
        self.exit_code = exit_code


class Interrupted(WillowCartError):
    """The person asked to stop; what had arrived stays."""
