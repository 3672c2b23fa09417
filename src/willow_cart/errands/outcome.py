"""Report the outcome of an errand: to a file, by a command, by mail."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
from collections.abc import Mapping, Sequence
from datetime import datetime
from pathlib import Path

from willow_cart.commands.combine import CombineResult
from willow_cart.commands.haul import Haul
from willow_cart.commands.pack import PackResult
from willow_cart.commands.unpack import UnpackResult
from willow_cart.errands.errand_events import CannotRun
from willow_cart.errands.job import Document, Step
from willow_cart.errors import Exit, plainly
from willow_cart.model import State, label_of
from willow_cart.observer import Observer
from willow_cart.platform import processes
from willow_cart.replacing import replacing
from willow_cart.structs import Value
from willow_cart.units import format_duration, json_text

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


# What was done in a step, for its counts.
_DONE = {"unpack": "unpacked", "combine": "combined", "pack": "packed"}


def _is_summary(content: bytes) -> bool:
    """Whether a file contains the summary of an earlier run."""
    return (
        content.startswith(b'{"errand": ')
        or re.match(rb"\d{4}-\d\d-\d\d \d\d:\d\d .*\(exit code \d+\), took ", content) is not None
    )


class StepDone(Value):
    """A step that was run.

    Attributes:
        result: what its job returned; None for a program of the user's own, or an error.
        exit_code: its exit code.
    """

    step: Step
    result: object
    exit_code: Exit

    @property
    def counts(self) -> Mapping[str, int]:
        """Return what the step did, by names; zeros are left out."""
        match self.result:
            case UnpackResult(account=done):
                counts = {"archives": done.unpacked, "files": done.members}
            case CombineResult(combined=combined):
                counts = {"tables": combined.files, "rows": combined.rows}
            case PackResult(packed=packed):
                counts = {"files": packed.files}
            case _:
                counts = {}
        return {name: count for name, count in counts.items() if count}


class ErrandDone(Value):
    """The result of an errand.

    Attributes:
        hauled: the result of the haul; None where the errand began with a step.
        steps: those that were taken.
        exit_code: the exit code of the command.
        why: the problem, where neither the haul nor a step states it; empty for nothing.
    """

    hauled: Haul | None
    steps: Sequence[StepDone]
    exit_code: Exit
    why: str = ""


class Accountant(Value):
    """Reports the outcome of a run to the recipients that the errand names.

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
    observer: Observer

    def account_for(self, code: Exit, why: str = "", done: ErrandDone | None = None) -> None:
        """Report the outcome.

        Args:
            code: the exit code.
            why: the problem; empty for what the code says.
            done: the haul and the steps; None where the run came to neither.
        """
        document = self.document
        seconds = (datetime.now().astimezone() - self.began).total_seconds()
        counts = _counts_of(done)
        means = "too little is new" if done is not None and done.why else _MEANINGS[code]
        told = ", ".join(f"{count:,} {label_of(name)}" for name, count in counts.items())
        meaning = ": ".join(filter(None, (means, why, told)))
        line = (
            f"{self.began:%Y-%m-%d %H:%M} {document.path.name}: {meaning} (exit code {int(code)}),"
            f" took {format_duration(seconds)}"
        )
        if self.summary is not None:
            text = line
            if self.summary.suffix.lower() == ".json":
                facts = {
                    "errand": str(document.path),
                    "began": self.began.isoformat(timespec="seconds"),
                    "seconds": round(seconds, 3),
                    "exit_code": int(code),
                    "meaning": means,
                    "why": why,
                    "counts": counts,
                    "steps": _steps_of(done),
                }
                text = json_text(facts)
            with replacing(self.summary, is_ours=_is_summary, overwrite=self.overwrite) as file:
                file.write(f"{text}\n")
        keys = document.top.keys
        if (address := keys.get("mail_to")) and (code or keys.get("mail_when") == "always"):
            _mail(str(address), document, code, line, self.observer)
        if code and (command := keys.get("on_failure")):
            _run_on_failure(str(command), document, code, line, self.observer)


def _counts_of(done: ErrandDone | None) -> dict[str, int]:
    """Return the counts of a run by names; zeros are left out."""
    if done is None:
        return {}
    counts: dict[str, int] = {}
    if done.hauled is not None:
        account = done.hauled.account
        counts = {"offered": done.hauled.offered, "chosen": account.planned}
        counts |= {str(state): account.counts[state] for state in State}
    for step in done.steps:
        for name, count in step.counts.items():
            key = f"{name} {_DONE.get(step.step.what, step.step.what)}"
            counts[key] = counts.get(key, 0) + count
    # That nothing failed is what the reader of a mail looks for.
    return {name: count for name, count in counts.items() if count or name == State.FAILED}


def _steps_of(done: ErrandDone | None) -> list[dict[str, object]]:
    """Return the steps of a run for programs."""
    return [
        {
            "number": each.step.number,
            "step": each.step.what,
            "exit_code": int(each.exit_code),
            "counts": each.counts,
        }
        for each in (done.steps if done is not None else ())
    ]


def _run_on_failure(
    command: str, document: Document, code: Exit, line: str, observer: Observer
) -> None:
    told = {"WILLOW_ERRAND": str(document.path), "WILLOW_SUMMARY": line,
            "WILLOW_EXIT_CODE": str(int(code))}  # fmt: skip
    words = processes.words_of(command)
    try:
        subprocess.run(words, env={**os.environ, **told}, stdin=subprocess.DEVNULL, check=False)  # noqa: S603
    except OSError as error:
        reason = f"{words[0]} cannot be run: {plainly(error)}"
        observer.note(CannotRun("on_failure", reason))


def _mail(address: str, document: Document, code: Exit, line: str, observer: Observer) -> None:
    """Pass a message to sendmail (RFC 5322)."""
    from email.message import EmailMessage

    program = shutil.which("sendmail", path=f"{os.environ.get('PATH', '')}:{_MAIL_PATHS}")
    if program is None:
        reason = "sendmail is not installed; on_failure can run another command"
        observer.note(CannotRun("mail_to", reason))
        return
    mail = EmailMessage()
    mail["To"] = address
    mail["Subject"] = f"Errand {document.path.name}: {'problems' if code else 'done'}"
    mail.set_content(f"{line}\n\nThe errand is {document.path}\n")
    try:
        # -t: the recipients are in the mail; -i: a line with a dot does not end it.
        done = subprocess.run([program, "-t", "-i"], input=mail.as_bytes(), check=False,  # noqa: S603
                              capture_output=True)  # fmt: skip
    except OSError as error:
        observer.note(CannotRun("mail_to", f"{program} cannot be run: {plainly(error)}"))
        return
    if done.returncode:
        why = done.stderr.decode(errors="replace").strip() or f"exit code {done.returncode}"
        observer.note(CannotRun("mail_to", f"{program} failed: {why}"))
