"""What came of an errand, for whoever is to know of it: a line in a file, a command, a mail."""

from __future__ import annotations

import os
import re
import shlex
import shutil
import subprocess
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from willow_cart.cli.telling import tell
from willow_cart.errors import plainly
from willow_cart.exits import Exit
from willow_cart.replacing import replacing
from willow_cart.units import format_duration

if TYPE_CHECKING:
    from willow_cart.errands import Document

# Where mail programs are on systems whose search path has no folders for administrators.
_MAIL_PATHS = "/usr/sbin:/usr/lib:/sbin"

_MEANINGS = {
    Exit.GOOD: "all is done",
    Exit.INCOMPLETE: "something did not arrive, or a step failed",
    Exit.NOT_UNDERSTOOD: "it could not be carried out",
    Exit.NOTHING_CHOSEN: "nothing was chosen",
    Exit.CHECK_FAILED: "something failed its check",
    Exit.INTERRUPTED: "it was interrupted",
}


def _is_summary(content: bytes) -> bool:
    """Return whether a file holds what came of an earlier run."""
    return re.match(rb"\d{4}-\d\d-\d\d \d\d:\d\d .*\(exit code \d+\), took ", content) is not None


def account_for(
    document: Document,
    code: Exit,
    why: str,
    began: datetime,
    summary: Path | None,
    *,
    overwrite: bool = False,
) -> None:
    """Say in one line what came of a run, to whoever is to know of it."""
    seconds = (datetime.now().astimezone() - began).total_seconds()
    meaning = _MEANINGS[code] + (f": {why}" if why else "")
    line = (
        f"{began:%Y-%m-%d %H:%M} {document.path.name}: {meaning} (exit code {int(code)}), took"
        f" {format_duration(seconds)}"
    )
    if summary is not None:
        with replacing(summary, is_ours=_is_summary, overwrite=overwrite) as text:
            text.write(f"{line}\n")
    command = document.top.keys.get("on_failure")
    if code is Exit.GOOD:
        return
    if address := document.top.keys.get("mail_to"):
        _mail(str(address), document, line)
    if command:
        _run_on_failure(str(command), document, code, line)


def _run_on_failure(command: str, document: Document, code: Exit, line: str) -> None:
    told = {"WILLOW_ERRAND": str(document.path), "WILLOW_SUMMARY": line,
            "WILLOW_EXIT_CODE": str(int(code))}  # fmt: skip
    words = shlex.split(command)
    try:
        subprocess.run(words, env={**os.environ, **told}, stdin=subprocess.DEVNULL, check=False)  # noqa: S603
    except OSError as error:
        tell(f"on_failure: {words[0]} cannot be run: {plainly(error)}")


def _mail(address: str, document: Document, line: str) -> None:
    """Hand a mail to the machine's own mail program, which reads it as RFC 5322 has it."""
    from email.message import EmailMessage

    program = shutil.which("sendmail", path=f"{os.environ.get('PATH', '')}:{_MAIL_PATHS}")
    if program is None:
        tell("mail_to: there is no sendmail on this machine; on_failure can run another command")
        return
    mail = EmailMessage()
    mail["To"] = address
    mail["Subject"] = f"Errand {document.path.name}: not all went well"
    mail.set_content(f"{line}\n\nThe errand is {document.path}\n")
    try:
        # -t: to whom is in the mail; -i: a line with a dot is not its end.
        done = subprocess.run([program, "-t", "-i"], input=mail.as_bytes(), check=False,  # noqa: S603
                              capture_output=True)  # fmt: skip
    except OSError as error:
        tell(f"mail_to: {program} cannot be run: {plainly(error)}")
        return
    if done.returncode:
        why = done.stderr.decode(errors="replace").strip() or f"exit code {done.returncode}"
        tell(f"mail_to: {program} did not take it: {why}")
