"""`errand`: run a job that is written down in a file."""

from __future__ import annotations

import argparse
import fcntl
import os
import shlex
import subprocess
import sys
from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import chdir, contextmanager
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from willow_cart.cli.errand_job import Job, Step, make_job
from willow_cart.cli.telling import code_for
from willow_cart.errors import BadOption, UnusableDestination, WillowCartError, plainly
from willow_cart.exits import Exit
from willow_cart.replacing import replacing
from willow_cart.units import format_duration

if TYPE_CHECKING:
    from willow_cart.access import Access
    from willow_cart.errands import Document, Memory, Values
    from willow_cart.model import Offer
    from willow_cart.shelf import Shelf

BRIEF = "run a whole job that is written down in a file, again next month"
DESCRIPTION = (
    "Run a job from its file, in TOML: where files come from, which of them, where they go, and"
    " what is done with them then. Every option of the commands is a key there. What changes from"
    " one run to the next, such as the month, is a value and stands in the texts by its name."
)


_MEANINGS = {
    Exit.GOOD: "all is done",
    Exit.INCOMPLETE: "something did not arrive, or a step failed",
    Exit.NOT_UNDERSTOOD: "it could not be carried out",
    Exit.NOTHING_CHOSEN: "nothing was chosen",
    Exit.CHECK_FAILED: "something failed its check",
    Exit.INTERRUPTED: "it was interrupted",
}


def add_options(command: argparse.ArgumentParser) -> None:
    """Add what errand understands."""
    command.add_argument("file", type=Path, metavar="FILE", help="the errand")
    command.add_argument(
        "--preview",
        action="store_true",
        help="show its values, what would be fetched, where it would go and what would be done",
    )
    command.add_argument(
        "--set",
        action="append",
        default=[],
        metavar="NAME=VALUE",
        help="give a value of the errand another word for this run",
    )
    command.add_argument(
        "--from",
        dest="begin",
        metavar="STEP",
        help="fetch nothing, and begin with a step: its number, or what it is, such as combine",
    )
    command.add_argument(
        "--summary",
        type=Path,
        metavar="FILE",
        help="write what came of it into a file, in one line",
    )


def run(args: argparse.Namespace) -> int:
    """Run an errand, or show what it would do."""
    from willow_cart.errands import Values, read_document

    document = read_document(args.file)
    given = {**document.values.keys, **_set(args.set, document)}
    began = datetime.now().astimezone()
    values = Values(given, now=began, environment=os.environ)
    summary = None if args.summary is None else args.summary.absolute()
    # What is written relative in the file is relative to it, wherever it is started from.
    document = replace(document, path=args.file.resolve())
    with chdir(document.path.parent):
        return _run_there(args, document, values, began, summary)


def _run_there(
    args: argparse.Namespace,
    document: Document,
    values: Values,
    began: datetime,
    summary: Path | None,
) -> int:
    memory = _memory_of(document.path)
    job = make_job(document, values, memory.last_good())
    first = _first_step(job, args.begin)
    job.haul.typed = args.typed
    if args.preview:
        return _preview(document, job, values)
    with _alone(document.path):
        try:
            code = _run_job(document, job, None if args.begin is None else first)
        except WillowCartError as error:
            _account(document, code_for(error), str(error), began, summary)
            raise
        if code is Exit.GOOD and args.begin is None:
            memory.keep(began)
        _account(document, code, "", began, summary)
    return code


def _memory_of(path: Path) -> Memory:
    import platformdirs

    from willow_cart.errands import Memory

    state = platformdirs.user_state_path("willow-cart", appauthor=False)
    return Memory(path, state / "errands")


def _run_job(document: Document, job: Job, first: int | None) -> Exit:
    """Haul and take all steps, or take those from one on."""
    if first is not None:
        return _do(job.steps[first:])
    code = _haul(document, job)
    if code is not Exit.GOOD and job.steps:
        _say(f"{job.steps[0]}: not begun, since not everything has come;"
             f" --from {job.steps[0].what} begins it all the same")  # fmt: skip
        return code
    return code or _do(job.steps)


def _account(
    document: Document, code: Exit, why: str, began: datetime, summary: Path | None
) -> None:
    """Say in one line what came of a run, to whoever is to know of it."""
    seconds = (datetime.now().astimezone() - began).total_seconds()
    meaning = _MEANINGS[code] + (f": {why}" if why else "")
    line = (
        f"{began:%Y-%m-%d %H:%M} {document.path.name}: {meaning} (exit code {int(code)}), took"
        f" {format_duration(seconds)}"
    )
    if summary is not None:
        with replacing(summary) as text:
            text.write(f"{line}\n")
    command = document.top.keys.get("on_failure")
    if code is Exit.GOOD or not command:
        return
    told = {"WILLOW_ERRAND": str(document.path), "WILLOW_SUMMARY": line,
            "WILLOW_EXIT_CODE": str(int(code))}  # fmt: skip
    words = shlex.split(str(command))
    try:
        subprocess.run(words, env={**os.environ, **told}, stdin=subprocess.DEVNULL, check=False)  # noqa: S603
    except OSError as error:
        _say(f"on_failure: {words[0]} cannot be run: {plainly(error)}")


def _set(words: Sequence[str], document: Document) -> dict[str, str]:
    """The values that are given for this run."""
    given = {}
    for word in words:
        name, equals, value = word.partition("=")
        if not equals:
            raise BadOption(f"--set {word}", "gives nothing", "write NAME=VALUE")
        if name not in document.values.keys:
            known = ", ".join(document.values.keys) or "none"
            raise BadOption(f"--set {word}", "is no value of the errand", f"there are {known}")
        given[name] = value
    return given


def _first_step(job: Job, begin: str | None) -> int:
    """The place of the step to begin with, from 0.

    Raises:
        BadOption: there is no such step.
    """
    if begin is None:
        return 0
    for place, step in enumerate(job.steps):
        if begin in (str(step.number), step.what):
            return place
    known = ", ".join(f"{step.number} {step.what}" for step in job.steps) or "none"
    raise BadOption(f"--from {begin}", "is no step of the errand", f"there are {known}")


@contextmanager
def _alone(path: Path) -> Iterator[None]:
    """Keep a second run of the same errand out until this one is over.

    Raises:
        UnusableDestination: one is under way.
    """
    try:
        file = os.open(path, os.O_RDONLY)
    except OSError as error:
        raise BadOption(str(path), f"cannot be read: {plainly(error)}", "see to it") from None
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        yield
    except BlockingIOError:
        raise UnusableDestination(
            str(path), "is under way already", "wait for its end; see willow-cart runs"
        ) from None
    finally:
        os.close(file)


@contextmanager
def _access(document: Document, job: Job) -> Iterator[Access]:
    from willow_cart.access.sign_in_file import sign_ins_in
    from willow_cart.cli.connecting import make_access

    kept = sign_ins_in(str(document.path), document.sign_in.keys)
    several = [job.haul, *(source.args for source in job.sources)]
    lanes = job.haul.lanes_per_host or job.haul.lanes
    with make_access(several, lanes, job.haul.stall_after, kept=kept) as access:
        yield access


def _look(job: Job, access: Access) -> tuple[Shelf, int]:
    """What all sources offer and their rules leave, and how many troubles there were.

    Raises:
        NothingChosen: nothing is left of any of them.
        WillowCartError: none of them can be read.
    """
    from willow_cart.cli.options import Looker
    from willow_cart.errors import NothingChosen
    from willow_cart.shelf import Shelf
    from willow_cart.units import count_of

    shelf = Shelf()
    failures: list[WillowCartError] = []
    counts: Counter[str] = Counter()
    troubles = 0
    for source in job.sources:
        looker = Looker(source.args, access, job.haul.lanes)
        before = len(shelf)
        try:
            for offer, dropped_by in looker.judged():
                if not dropped_by:
                    shelf.add(_named(offer, source.name))
            looker.choice.require_some()
        except WillowCartError as error:
            failures.append(error)
            continue
        troubles += len(looker.found.troubles)
        counts[source.name or ", ".join(looker.found.sources)] += len(shelf) - before
    for shown, files in counts.items():
        _say(f"{shown}: {count_of(files, 'file')}")
    if len(failures) == len(job.sources):
        raise failures[0]
    for failure in failures:
        _say(str(failure))
        troubles += not isinstance(failure, NothingChosen)
    return shelf, troubles


def _named(offer: Offer, name: str) -> Offer:
    return replace(offer, source=name) if name else offer


def _haul(document: Document, job: Job) -> Exit:
    """Bring everything home."""
    from willow_cart.cart import Cart, Find
    from willow_cart.cli.bringing import bring
    from willow_cart.cli.load import put_in_cart
    from willow_cart.cli.pacing import make_wishes
    from willow_cart.shelf import Shelf
    from willow_cart.sources import Look

    wishes = make_wishes(job.haul)
    with _access(document, job) as access:
        shelf, troubles = _look(job, access)
        if job.haul.cart is not None:
            find = Find((offer, True) for offer in shelf)
            _say(put_in_cart(find, job.haul.cart, Look(), add=False))
            # What a person has taken out of it stays out.
            shelf = Shelf(offer for offer in Cart.load(job.haul.cart) if shelf.has(offer.address))
        return bring(job.haul, wishes, shelf, access, troubles=troubles)


def _do(steps: Sequence[Step]) -> Exit:
    """Take the steps in order, until one fails."""
    for step in steps:
        _say(f"{step}: {step.typed}")
        code = _take(step)
        if code is Exit.NOTHING_CHOSEN and step.what == "unpack":
            continue  # those of the last time are unpacked and gone, perhaps
        if code:
            _say(f"{step}: failed with exit code {int(code)}; once that is mended, --from"
                 f" {step.number} goes on there")  # fmt: skip
            return code
    return Exit.GOOD


def _take(step: Step) -> Exit:
    """Take one step, and return what it comes to."""
    from willow_cart.cli.main import main

    sys.stdout.flush()
    if step.what != "run":
        return Exit(main(step.words))
    try:
        done = subprocess.run(step.words, stdin=subprocess.DEVNULL, check=False)  # noqa: S603
    except OSError as error:
        _say(f"{step.words[0]} cannot be run: {plainly(error)}")
        return Exit.INCOMPLETE
    return Exit.INCOMPLETE if done.returncode else Exit.GOOD


def _preview(document: Document, job: Job, values: Values) -> int:
    """Show what a run would do."""
    from willow_cart.cli.filing import preview
    from willow_cart.cli.pacing import make_wishes
    from willow_cart.cli.screen import show_line, show_table

    if shown := list(values.shown()):
        show_table(("value", "is"), shown)
    wishes = make_wishes(job.haul)
    with _access(document, job) as access:
        shelf, troubles = _look(job, access)
        preview(shelf, Path(job.into), wishes.layout)
    _show_changes(shelf, Path(job.into))
    for step in job.steps:
        show_line(f"then {step}: {step.typed}")
    return Exit.INCOMPLETE if troubles else Exit.GOOD


def _show_changes(shelf: Shelf, into: Path) -> None:
    """Say what is new, changed and gone, as far as the sources and the ledger tell."""
    from willow_cart.addresses import is_inside, without_secrets
    from willow_cart.cli.screen import show_line
    from willow_cart.records import Held, Ledger, ledger_path

    path = ledger_path(into)
    if not path.is_file():
        return
    new = changed = missing = 0
    offered = set()
    with Held(path) as held:
        for offer in shelf:
            address = without_secrets(offer.address)
            offered.add(address)
            arrival = held.get(address)
            new += arrival is None
            if arrival is None:
                continue
            changed += offer.size not in (None, arrival.size)
            missing += arrival.instead != "members" and not (into / arrival.lies_at).is_file()
    with Ledger(path) as ledger:
        gone = [
            each.path
            for each in ledger.latest_arrivals()
            if each.address not in offered and not is_inside(each.address)
        ]
    show_line(
        f"since the last time: {new:,} new, {changed:,} of another size, {missing:,} missing here,"
        f" {len(gone):,} gone there{f', such as {gone[0]}' if gone else ''}"
    )


def _say(line: str) -> None:
    from willow_cart.cli.telling import tell

    tell(line)
