"""Report the outcome of an errand: to a file, by a command, by mail."""

from __future__ import annotations

import os
import re
import shlex
import shutil
import subprocess
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from willow_cart.errands.document import Document
from willow_cart.errands.errand_events import CannotRun
from willow_cart.errors import plainly
from willow_cart.exits import Exit
from willow_cart.jobs.job_observer import JobObserver
from willow_cart.replacing import replacing
from willow_cart.units import format_duration

# Where mail programs are on systems whose search path has no folders for administrators.
_MAIL_PATHS = "/usr/sbin:/usr/lib:/sbin"

_MEANINGS = {
    Exit.GOOD: "everything is done",
    Exit.INCOMPLETE: "something did not arrive, or a step failed",
    Exit.NOT_UNDERSTOOD: "it could not be run",
    Exit.NOTHING_CHOSEN: "nothing was chosen",
    Exit.CHECK_FAILED: "something failed its check",
    Exit.INTERRUPTED: "it was interrupted",
}


def _is_summary(content: bytes) -> bool:
    """Whether a file contains the summary of an earlier run."""
    return re.match(rb"\d{4}-\d\d-\d\d \d\d:\d\d .*\(exit code \d+\), took ", content) is not None


@dataclass(frozen=True, slots=True)
class Accountant:
    """Reports the outcome of a run to the places that the errand names.

    Attributes:
        document: the errand.
        began: when the run did.
        summary: the file for the line; None for none.
        overwrite: whether a file of another program is replaced by it.
        observer: receives what cannot be run for it.
    """

    document: Document
    began: datetime
    summary: Path | None
    overwrite: bool
    observer: JobObserver

    def account_for(self, code: Exit, why: str = "") -> None:
        """Report the outcome and its reasons."""
        document = self.document
        seconds = (datetime.now().astimezone() - self.began).total_seconds()
        meaning = _MEANINGS[code] + (f": {why}" if why else "")
        line = (
            f"{self.began:%Y-%m-%d %H:%M} {document.path.name}: {meaning} (exit code {int(code)}),"
            f" took {format_duration(seconds)}"
        )
        if self.summary is not None:
            with replacing(self.summary, is_ours=_is_summary, overwrite=self.overwrite) as text:
                text.write(f"{line}\n")
        command = document.top.keys.get("on_failure")
        if code is Exit.GOOD:
            return
        if address := document.top.keys.get("mail_to"):
            _mail(str(address), document, line, self.observer)
        if command:
            _run_on_failure(str(command), document, code, line, self.observer)


def _run_on_failure(
    command: str, document: Document, code: Exit, line: str, observer: JobObserver
) -> None:
    told = {"WILLOW_ERRAND": str(document.path), "WILLOW_SUMMARY": line,
            "WILLOW_EXIT_CODE": str(int(code))}  # fmt: skip
    words = shlex.split(command)
    try:
        subprocess.run(words, env={**os.environ, **told}, stdin=subprocess.DEVNULL, check=False)  # noqa: S603
    except OSError as error:
        reason = f"{words[0]} cannot be run: {plainly(error)}"
        observer.note(CannotRun("on_failure", reason))


def _mail(address: str, document: Document, line: str, observer: JobObserver) -> None:
    """Pass a message to sendmail (RFC 5322)."""
    from email.message import EmailMessage

    program = shutil.which("sendmail", path=f"{os.environ.get('PATH', '')}:{_MAIL_PATHS}")
    if program is None:
        reason = "sendmail is not installed; on_failure can run another command"
        observer.note(CannotRun("mail_to", reason))
        return
    mail = EmailMessage()
    mail["To"] = address
    mail["Subject"] = f"Errand {document.path.name}: problems"
    mail.set_content(f"{line}\n\nThe errand is {document.path}\n")
    try:
        # -t: to whom is in the mail; -i: a line with a dot is not its end.
        done = subprocess.run([program, "-t", "-i"], input=mail.as_bytes(), check=False,  # noqa: S603
                              capture_output=True)  # fmt: skip
    except OSError as error:
        observer.note(CannotRun("mail_to", f"{program} cannot be run: {plainly(error)}"))
        return
    if done.returncode:
        why = done.stderr.decode(errors="replace").strip() or f"exit code {done.returncode}"
        observer.note(CannotRun("mail_to", f"{program} failed: {why}"))
