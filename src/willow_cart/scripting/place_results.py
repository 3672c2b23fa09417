"""The results of the functions that contact servers."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from willow_cart.cart.cart import Cart
from willow_cart.commands.combine import CombineRequest
from willow_cart.commands.pack import PackRequest
from willow_cart.commands.receipt import PageWritten
from willow_cart.errands.running import ErrandPlan, StepDone
from willow_cart.errors import BadOption
from willow_cart.exits import Exit
from willow_cart.hauling.summary import HaulSummary
from willow_cart.knocking.steps import KnockFinding, Verdict
from willow_cart.ledger.ledger import Ledger
from willow_cart.ledger.opening import ledger_path
from willow_cart.ledger.receipt import Receipt, ReceiptRow, read_receipt
from willow_cart.markup_table import html_table
from willow_cart.model import Offer, Sizes, State, label_of
from willow_cart.offline_copies import Missing, Readings, TakenPages
from willow_cart.packing import Packed
from willow_cart.peeking.peek import Peeked
from willow_cart.redaction import without_secrets
from willow_cart.scripting.result_frames import (
    frame,
    frame_of_receipt,
    paths_of_members,
    typed_frame,
)
from willow_cart.sources.discovery import NotEntered
from willow_cart.tables import Combined
from willow_cart.units import format_size
from willow_cart.views.peek_words import facts_line, fetched_line, headline, shown_table
from willow_cart.views.words import (
    combined_line,
    counted,
    in_words,
    packed_line,
    summed_up,
    unpacked_line,
)

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True)
class Survey:
    """The offers of the sources after the choosing rules.

    Going through it gives the offers, so it can be hauled as it is.

    Attributes:
        offers: what was chosen, numbered as on their pages.
        offered: how many there were to choose from.
        not_entered: folders and pages that were seen and not entered.
        complete: whether every source could be read to its end, and every size requested.
        notes: the messages.
    """

    offers: tuple[Offer, ...]
    offered: int
    not_entered: tuple[NotEntered, ...]
    complete: bool
    notes: tuple[str, ...]

    def to_frame(self) -> pd.DataFrame:
        """Return the offers as a data frame with the columns of a cart; see `Cart.to_frame`."""
        return self._as_cart().to_frame()

    def _as_cart(self) -> Cart:
        return Cart((offer, True) for offer in self.offers)

    def __iter__(self) -> Iterator[Offer]:
        return iter(self.offers)

    def __len__(self) -> int:
        return len(self.offers)

    def __repr__(self) -> str:
        return f"<Survey: {self._brief()}>"

    def _brief(self) -> str:
        sizes = Sizes()
        for offer in self.offers:
            sizes.add(offer)
        return f"{in_words(sizes)}, of {self.offered:,} offered" + (
            f"; {len(self.not_entered):,} not entered" if self.not_entered else ""
        )

    def _repr_html_(self) -> str:
        columns = ("number", "path", "size", "modified", "text")
        rows = (
            (
                str(offer.number),
                offer.path,
                "" if offer.size is None else format_size(offer.size),
                f"{offer.modified:%Y-%m-%d %H:%M}" if offer.modified else "",
                offer.text,
            )
            for offer in self.offers
        )
        return html_table(self._brief(), columns, rows, len(self.offers))


@dataclass(frozen=True)
class Haul:
    """The result of a haul.

    Attributes:
        account: counts, and the exit code that follows from them.
        notes: the messages.
    """

    into: Path
    account: HaulSummary
    notes: tuple[str, ...] = ()

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return self.account.exit_code

    @cached_property
    def receipt(self) -> Receipt:
        """Return the receipt, read from the ledger."""
        return read_receipt(self.into, self.account.run)

    @property
    def troubles(self) -> list[ReceiptRow]:
        """Return the files that failed, were refused, or are damaged."""
        return [row for row in self.receipt.rows if row.reason]

    @cached_property
    def paths(self) -> tuple[Path, ...]:
        """Return the paths of the files that arrived now or earlier, in the order of the haul."""
        good = (State.ARRIVED, State.UNCHANGED, State.HERE)
        lying = (self.into / row.path for row in self.receipt.rows if row.state in good)
        return tuple(path for path in lying if path.is_file())

    @property
    def path(self) -> Path:
        """Return the path of the only file.

        Raises:
            BadOption: it is not one.
        """
        if len(self.paths) != 1:
            raise BadOption("path", f"there are {len(self.paths):,} files", "use paths")
        return self.paths[0]

    @cached_property
    def members(self) -> tuple[Path, ...]:
        """Return the paths of the files from its archives, unpacked now or earlier."""
        with Ledger(ledger_path(self.into)) as ledger:
            arrivals = [ledger.latest_at(row.path) for row in self.receipt.rows]
        return paths_of_members((self.into, each) for each in arrivals if each is not None)

    def to_frame(self) -> pd.DataFrame:
        """Return a row per file, with the columns of `receipt --csv`; sizes are in bytes."""
        return frame_of_receipt(self.receipt.rows)

    def __repr__(self) -> str:
        return f"<Haul into {self.into}: {self._brief()}>"

    def _brief(self) -> str:
        counts = counted(self.account.planned, self.account.counts)
        return f"{counts}; {format_size(self.account.received)} received"

    def _repr_html_(self) -> str:
        rows = self.receipt.rows
        # Problems must not be among what is not shown.
        first = sorted(rows, key=lambda row: not row.reason)
        cells = (
            (
                label_of(row.state),
                row.path,
                "" if row.size is None else format_size(row.size),
                row.reason,
            )
            for row in first
        )
        return html_table(self._brief(), ("state", "path", "size", "why"), cells, len(rows))


@dataclass(frozen=True)
class OfflineResult:
    """The result of copying pages.

    Attributes:
        taken: what was served, and what was not.
        made: the copies that lead to each other; None where none were made.
        notes: the messages.
    """

    into: Path
    taken: TakenPages
    made: Readings | None
    notes: tuple[str, ...] = ()

    @property
    def exit_code(self) -> Exit:
        """Return the exit code of the command."""
        return self.taken.exit_code

    @property
    def start(self) -> Path | None:
        """Return the start page; None if no copies were written."""
        return self.made.start if self.made else None

    @property
    def missing(self) -> list[Missing]:
        """Return the files that did not arrive, with the pages that need them."""
        return self.taken.missing

    def to_frame(self) -> pd.DataFrame:
        """Return a row per file: url, path, size in bytes, sha256, role."""
        rows = (
            (each.address, each.path, each.size, each.sha256, str(self.taken.roles[address]))
            for address, each in self.taken.arrivals.items()
        )
        return frame(("url", "path", "size", "sha256", "role"), rows)

    def __repr__(self) -> str:
        return f"<OfflineResult: {summed_up(self.taken, self.into)}>"


@dataclass(frozen=True)
class PeekResult:
    """What is in a file.

    Attributes:
        file: the facts, columns and first rows, and how many bytes were fetched.
    """

    file: Peeked

    @property
    def form(self) -> str:
        """What the file is: `table`, `JSON`, `zip archive`."""
        return self.file.content.form

    @property
    def facts(self) -> Mapping[str, str | int | float]:
        """What is known of the whole file, by names."""
        return self.file.content.facts

    def to_frame(self) -> pd.DataFrame:
        """Return the first rows; numbers and times have their types."""
        content = self.file.content
        return typed_frame([(each.name, each.type) for each in content.columns], content.rows)

    def __repr__(self) -> str:
        return f"<PeekResult: {self._brief()}>"

    def _brief(self) -> str:
        told = (headline(self.file), facts_line(self.file.content), *self.file.content.notes)
        return "; ".join([*filter(None, told), fetched_line(self.file)])

    def _repr_html_(self) -> str:
        columns, cells, _ = shown_table(self.file.content)
        return html_table(self._brief(), columns, cells, len(cells))


@dataclass(frozen=True)
class KnockResult:
    """The findings at a server.

    Attributes:
        findings: the steps with their results.
    """

    address: str
    findings: tuple[KnockFinding, ...]

    @property
    def works(self) -> bool:
        """Whether files can be hauled from the server."""
        return all(each.verdict is not Verdict.FAILED for each in self.findings)

    def to_frame(self) -> pd.DataFrame:
        """Return a row per step: tried, verdict, found, remedy."""
        return frame(("tried", "verdict", "found", "remedy"), self._rows())

    def _rows(self) -> Iterator[tuple[str, ...]]:
        return ((each.tried, str(each.verdict), each.found, each.remedy) for each in self.findings)

    def __repr__(self) -> str:
        return f"<KnockResult: {self._brief()}>"

    def _brief(self) -> str:
        outcome = "ready to haul from" if self.works else "something does not work"
        return f"{without_secrets(self.address)}: {outcome}"

    def _repr_html_(self) -> str:
        columns = ("tried", "verdict", "found", "remedy")
        return html_table(self._brief(), columns, self._rows(), len(self.findings))


@dataclass(frozen=True)
class ErrandRun:
    """The result of an errand.

    Attributes:
        file: the errand's.
        exit_code: what the command would tell the shell.
        haul: the result of the haul; None where the run began with a step, or was only planned.
        steps: the steps that were taken, with what each returned.
        notes: the messages.
        plan: what a run would do; None where it was run.
    """

    file: Path
    exit_code: Exit
    haul: Haul | None = None
    steps: tuple[StepDone, ...] = ()
    notes: tuple[str, ...] = ()
    plan: ErrandPlan | None = None

    @property
    def output(self) -> str:
        """Return a line for each result: the haul, and each step."""
        return "".join(f"{line}\n" for line in self._lines())

    def _lines(self) -> Iterator[str]:
        if self.plan is not None:
            yield from (f"{name}: {value}" for name, value in self.plan.values)
            yield from (
                f"{self.plan.planned.into}/{filed.path}" for filed in self.plan.planned.plan
            )
            yield f"{in_words(self.plan.planned.sizes)}; nothing was fetched"
            yield from (f"then {step}: {step.typed}" for step in self.plan.steps)
        if self.haul is not None:
            yield summed_up(self.haul.account, self.haul.into)
        for done in self.steps:
            yield _line_of(done)

    def __repr__(self) -> str:
        return f"<ErrandRun of {self.file}: exit code {int(self.exit_code)}>"

    def __str__(self) -> str:
        return self.output


def _line_of(done: StepDone) -> str:
    """Return the result of a step in one line."""
    match done.result, done.step.request:
        case HaulSummary() as account, _:
            return unpacked_line(account)
        case Combined() as combined, CombineRequest() as request:
            return combined_line(combined, request.to)
        case Packed() as packed, PackRequest() as request:
            return packed_line(packed, request.to)
        case PageWritten() as written, _:
            return f"written to {written.page}"
    return f"{done.step}: {'failed' if done.exit_code else 'done'}"
