"""`errand`: run a job that is written down in a file."""

from __future__ import annotations

import fcntl
import os
import subprocess
import sys
from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import chdir, contextmanager
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from willow_cart.cart import Cart, Find
from willow_cart.cli.bringing import bring, keeping_answers
from willow_cart.cli.errand_job import Job, Step, make_job
from willow_cart.cli.errand_looking import Found, look, open_access
from willow_cart.cli.errand_outcome import account_for
from willow_cart.cli.errand_surveying import write_from_survey
from willow_cart.cli.filing import preview
from willow_cart.cli.load import put_in_cart
from willow_cart.cli.screen import show_line, show_table
from willow_cart.cli.telling import code_for, tell
from willow_cart.destination import FileTree
from willow_cart.errands import Memory, Values, read_document
from willow_cart.errors import BadOption, UnusableDestination, WillowCartError, plainly
from willow_cart.exits import Exit
from willow_cart.hauling import find_gone, put_gone_aside
from willow_cart.jobs.errand import ErrandRequest
from willow_cart.jobs.hauling_policies import make_wishes
from willow_cart.records import Held, has_ledger, ledger_path
from willow_cart.redaction import without_secrets
from willow_cart.shelf import Shelf
from willow_cart.sources import Look
from willow_cart.units import count_of

if TYPE_CHECKING:
    from willow_cart.errands import Document


def run(request: ErrandRequest) -> int:
    """Run an errand, or show what it would do."""
    if request.new is not None:
        write_from_survey(request.file, request.new)
        return Exit.GOOD
    document = read_document(request.file)
    given = {**document.values.keys, **_set(request.set, document)}
    began = datetime.now().astimezone()
    values = Values(given, now=began, environment=os.environ)
    summary = None if request.summary is None else request.summary.absolute()
    # What is written relative in the file is relative to it, wherever it is started from.
    document = replace(document, path=request.file.resolve())
    with chdir(document.path.parent):
        return _run_there(request, document, values, began, summary)


def _run_there(
    request: ErrandRequest,
    document: Document,
    values: Values,
    began: datetime,
    summary: Path | None,
) -> int:
    memory = _memory_of(document.path)
    job = make_job(document, values, memory.last_good())
    first = _first_step(job, request.from_)
    job = replace(job, haul=replace(job.haul, typed=request.typed))
    if request.preview:
        return _preview(document, job, values, memory)
    with _alone(document.path):
        try:
            offered: Mapping[str, Collection[str]] = {}
            if request.from_ is None:
                code, offered = _haul(document, job, memory)
                code = code or _do(job.steps)
            else:
                code = _do(job.steps[first:])
        except WillowCartError as error:
            account_for(
                document, code_for(error), str(error), began, summary, overwrite=request.overwrite
            )
            raise
        if code is Exit.GOOD and request.from_ is None:
            memory.keep(began, offered)
        account_for(document, code, "", began, summary, overwrite=request.overwrite)
    return code


def _memory_of(path: Path) -> Memory:
    import platformdirs

    state = platformdirs.user_state_path("willow-cart", appauthor=False)
    return Memory(path, state / "errands")


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


def _haul(
    document: Document, job: Job, memory: Memory
) -> tuple[Exit, Mapping[str, Collection[str]]]:
    """Bring everything home, and say what is offered, by the marks of the sources."""
    wishes = make_wishes(job.haul)
    with (
        open_access(document, job) as made,
        keeping_answers(made, Path(job.into), wishes.lanes_per_host) as (access, asking),
    ):
        found = look(job, access, memory.offered(), asking)
        shelf = found.shelf
        if job.haul.cart is not None:
            find = Find((offer, True) for offer in shelf)
            tell(put_in_cart(find, job.haul.cart, Look(), add=False))
            # What a person has taken out of it stays out.
            shelf = Shelf(offer for offer in Cart.load(job.haul.cart) if shelf.has(offer.address))
        code = bring(job.haul, wishes, shelf, access, troubles=found.troubles)
    if code is Exit.GOOD:
        _see_to_gone(document, job, found)
    elif job.steps:
        tell(f"{job.steps[0]}: not begun, since not everything has come;"
             f" --from {job.steps[0].what} begins it all the same")  # fmt: skip
    return code, found.offered


def _see_to_gone(document: Document, job: Job, found: Found) -> None:
    """Say what lies here and is offered no more, and put it aside if that is wished for."""
    into = Path(job.into)
    gone = find_gone(into, found.gone)
    if not gone:
        return
    files = f"{count_of(len(gone), 'file')} offered no more, such as {gone[0].path}"
    if document.top.keys.get("gone", "keep") == "keep":
        tell(f'{files}; kept (gone = "aside" puts such aside)')
        return
    kept = put_gone_aside(into, gone)
    tell(f"{files}; {len(kept):,} put aside in {into / '.willow' / 'aside'}")


def _do(steps: Sequence[Step]) -> Exit:
    """Take the steps in order, until one fails."""
    for step in steps:
        tell(f"{step}: {step.typed}")
        code = _take(step)
        if code is Exit.NOTHING_CHOSEN and step.what == "unpack":
            continue  # those of the last time are unpacked and gone, perhaps
        if code:
            tell(f"{step}: failed with exit code {int(code)}; once that is mended, --from"
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
        tell(f"{step.words[0]} cannot be run: {plainly(error)}")
        return Exit.INCOMPLETE
    return Exit.INCOMPLETE if done.returncode else Exit.GOOD


def _preview(document: Document, job: Job, values: Values, memory: Memory) -> int:
    """Show what a run would do."""
    if shown := list(values.shown()):
        show_table(("value", "is"), shown)
    wishes = make_wishes(job.haul)
    with open_access(document, job) as access:
        found = look(job, access, memory.offered())
        preview(found.shelf, Path(job.into), wishes.layout)
    _show_changes(found, Path(job.into))
    for step in job.steps:
        show_line(f"then {step}: {step.typed}")
    return Exit.INCOMPLETE if found.troubles else Exit.GOOD


def _show_changes(found: Found, into: Path) -> None:
    """Say what is new, changed and gone, as far as the sources, the ledger and memory tell."""
    if not has_ledger(into):
        return
    new = changed = missing = 0
    with Held(ledger_path(into)) as held, FileTree(into) as tree:
        for offer in found.shelf:
            arrival = held.get(without_secrets(offer.address))
            new += arrival is None
            if arrival is None:
                continue
            changed += offer.size not in (None, arrival.size)
            missing += arrival.instead != "members" and tree.stamp(arrival.lies_at) is None
    gone = find_gone(into, found.gone)
    show_line(
        f"since the last time: {new:,} new, {changed:,} of another size, {missing:,} missing here,"
        f" {len(gone):,} gone there{f', such as {gone[0].path}' if gone else ''}"
    )
