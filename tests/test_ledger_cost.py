"""What runs once for each file costs the same however much the ledger holds."""

from __future__ import annotations

import sqlite3
from collections import Counter
from functools import partial
from pathlib import Path
from typing import Any

import pytest

from willow_cart.hauling.run import haul_offers
from willow_cart.model import Offer
from willow_cart.options.groups import HandlingOptions, IfPresent, Twins
from willow_cart.protocols.local import LocalAccess, address_of
from willow_cart.transfer.policy import HaulPolicy

PLANNED = ("SELECT", "INSERT", "UPDATE", "DELETE")


class Explaining(sqlite3.Connection):
    """A connection that counts its statements and keeps the plan of each."""

    counts: Counter[str] = Counter()  # noqa: RUF012  # shared, as a haul opens several
    plans: dict[str, list[str]] = {}  # noqa: RUF012

    def execute(self, statement: str, values: Any = ()) -> sqlite3.Cursor:
        if statement.lstrip().startswith(PLANNED):
            self.counts[statement] += 1
            if statement not in self.plans:
                rows = super().execute(f"EXPLAIN QUERY PLAN {statement}", values)
                self.plans[statement] = [row[3] for row in rows]
        return super().execute(statement, values)


@pytest.mark.parametrize("twins", Twins)
@pytest.mark.parametrize("existing_files", [IfPresent.RENEW, IfPresent.REPLACE])
def test_no_statement_that_runs_for_each_file_scans_a_table(
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    twins: Twins,
    existing_files: IfPresent,
) -> None:
    monkeypatch.setattr(sqlite3, "connect", partial(sqlite3.connect, factory=Explaining))
    Explaining.counts.clear()
    (tmp_path / "offered").mkdir()
    for number in range(50):
        (tmp_path / "offered" / f"{number:03}.csv").write_text(f"level {number % 40}\n")
    offers = [Offer(address_of(str(path))) for path in sorted((tmp_path / "offered").iterdir())]
    for _ in range(2):
        with LocalAccess() as access:
            haul_offers(
                offers,
                tmp_path / "into",
                access,
                HaulPolicy(handling=HandlingOptions(twins=twins, if_present=existing_files)),
            )
    each_file = [
        statement
        for statement, count in Explaining.counts.items()
        if count >= 25 or "json_each" in statement  # once for a batch of files, which it is given
    ]
    assert any("INSERT INTO arrival" in statement for statement in each_file)
    assert sum("json_each" in statement for statement in each_file) == 2
    for statement in each_file:
        plan = [
            step
            for step in Explaining.plans[statement]
            if step != "SCAN CONSTANT ROW" and not step.startswith("SCAN json_each")
        ]
        assert not any("SCAN" in step or "TEMP B-TREE" in step for step in plan), (statement, plan)
