"""Print offers and totals: as a table, a tree, JSON or a cart.

All but the tree write while they look, and keep no more than a screen's worth of offers.
"""

from __future__ import annotations

import sys
from abc import ABC, abstractmethod
from collections import Counter, defaultdict, deque
from collections.abc import Iterator, Sequence
from datetime import datetime
from functools import partial
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from willow_cart.addresses import host_of, origin_of
from willow_cart.cart.cart_view import FolderTree
from willow_cart.cart.rows import write_table
from willow_cart.cart.weighing import heaviest
from willow_cart.cli.screen import (
    MAX_DRAWN_ROWS,
    Branch,
    Shown,
    show_csv,
    show_line,
    show_table,
    show_text,
    show_tree,
    tell_each,
)
from willow_cart.commands.finding import OfferFinder
from willow_cart.commands.haul import HaulPlan
from willow_cart.events import Planned
from willow_cart.filing import Plan
from willow_cart.kinds import extension_of, kind_of_extension
from willow_cart.model import BETWEEN_HEADINGS, Offer, Sizes, sum_of
from willow_cart.redaction import without_secrets
from willow_cart.sources.listing import Why, not_entered
from willow_cart.structs import Record, field, replace
from willow_cart.units import count_of, format_size, json_text
from willow_cart.views.words import lines_of

if TYPE_CHECKING:
    from willow_cart.sources.listing import NotEntered


# Longer lists are not read.
_MAX_HEADINGS = 40
_MAX_EXTENSIONS = 15
_MAX_FILES_PER_FOLDER = 12

# A list on a terminal that is longer hides its own beginning.
_MAX_ROWS_ON_TERMINAL = 300
_FIRST_ROWS = 60
_LAST_ROWS = 20


class Showing(ABC):
    """An output format for offers."""

    @abstractmethod
    def show(self, finder: OfferFinder) -> None:
        """List the sources, and print the chosen offers.

        Raises:
            WillowCartError: as `OfferFinder.judged` does.
        """


class Totals(Record):
    """Totals of the chosen offers, added up one by one; kept cheap for millions of offers.

    Attributes:
        by_extension: the sizes of each extension, which has a kind.
        by_headings: of the headings above each link; offers below none are in none of them.
        hosts: where the offers are; no more than two are distinguished.
    """

    by_extension: defaultdict[str, Sizes] = field(default_factory=lambda: defaultdict(Sizes))
    by_headings: defaultdict[tuple[str, ...], Sizes] = field(
        default_factory=lambda: defaultdict(Sizes)
    )
    hosts: set[str] = field(default_factory=set)
    _origin: str = "-"

    def add(self, offer: Offer) -> None:
        """Count an offer."""
        self.by_extension[extension_of(offer.file_name)].add(offer)
        if offer.headings:
            self.by_headings[offer.headings].add(offer)
        if len(self.hosts) < 2 and not offer.address.startswith(self._origin):
            self.hosts.add(host_of(offer.address))
            self._origin = f"{origin_of(offer.address)}/"

    @property
    def all(self) -> Sizes:
        """The total of all files."""
        return sum_of(self.by_extension.values())

    def kinds(self) -> list[tuple[str, Sizes]]:
        """Return the kinds with their sizes, the largest first."""
        kinds: defaultdict[str, Sizes] = defaultdict(Sizes)
        for extension, sizes in self.by_extension.items():
            kinds[kind_of_extension(extension)].add_all(sizes)
        return heaviest(kinds)

    def headings(self) -> list[tuple[str, Sizes]]:
        """Return the headings with their sizes, in order of appearance.

        Files below no heading come first.
        """
        below = sum_of(self.by_headings.values())
        rest = self.all
        rest.take_off(below)
        rows = [(BETWEEN_HEADINGS.join(each), sizes) for each, sizes in self.by_headings.items()]
        return [("(none)", rest), *rows] if rest.files else rows


class AsCart(Showing):
    """Output as a cart, which can be hauled, or edited first."""

    def __init__(self, *, why: bool) -> None:
        self._why = why

    def show(self, finder: OfferFinder) -> None:
        """Print the chosen offers, or all of them with those excluded not taken."""
        write_table(
            (
                (offer, not dropped_by)
                for offer, dropped_by in finder.judged()
                if self._why or not dropped_by
            ),
            Shown(),
        )


class AsJson(Showing):
    """Output as one JSON object, with a line per offer and the counts at the end."""

    def __init__(self, *, why: bool) -> None:
        self._why = why

    def show(self, finder: OfferFinder) -> None:
        """Print the chosen offers, or all of them with the rules that excluded them."""
        totals = Totals()
        between = '{"offers": ['
        for offer, dropped_by in finder.judged():
            if not dropped_by:
                totals.add(offer)
            elif not self._why:
                continue
            entry = _entry_of(offer) | ({"dropped_by": dropped_by or None} if self._why else {})
            show_text(f"{between}\n  {json_text(entry)}", end="")
            between = ","
        if between != ",":
            show_text(between, end="")
        sizes = totals.all
        counts = {
            "offered": finder.choice.offered,
            "chosen": finder.choice.kept,
            "bytes_known": sizes.exact,
            "bytes_about": sizes.about,
            "sizes_rounded": sizes.rough,
            "sizes_unknown": sizes.unknown,
            "kinds": [
                {"kind": kind, "files": those.files, "bytes_known": those.exact}
                for kind, those in totals.kinds()
            ],
            "extensions": [
                {
                    "extension": extension,
                    "kind": kind_of_extension(extension),
                    "files": those.files,
                    "bytes_known": those.exact,
                }
                for extension, those in heaviest(totals.by_extension)
            ],
            "not_entered": [
                {"url": each.address, "path": each.path, "why": str(each.why)}
                for each in finder.found.not_entered
            ],
        }
        show_text(f"\n],\n{json_text(counts, indent=1)[2:]}")


def _entry_of(offer: Offer) -> dict[str, object]:
    cell = offer.cell
    return {
        "number": offer.number,
        "path": offer.path,
        "kind": offer.kind,
        "size": offer.size,
        "size_about": offer.about,
        "modified": offer.modified.isoformat() if offer.modified else None,
        "text": offer.text,
        "title": offer.title,
        "heading": offer.heading,
        "headings": offer.headings,
        "row": cell.row if cell else None,
        "place": cell.place if cell else None,
        "column": cell.column if cell else None,
        "column_title": cell.title if cell else None,
        "checksums": [str(checksum) for checksum in offer.checksums],
        "source": offer.source,
        "url": without_secrets(offer.address),
    }


class AsTable(Showing):
    """Output as a table with totals by kind and heading, or as the totals alone."""

    def __init__(self, *, why: bool, brief: bool = False) -> None:
        self._why = why
        self._brief = brief

    def show(self, finder: OfferFinder) -> None:
        """Print the table in pieces of a screen, then the totals."""
        totals = Totals()
        coming = self._shown(finder, totals)
        if self._brief:
            deque(coming, 0)
        elif sys.stdout.isatty():
            _show_ends(coming, why=self._why)
        while rows := list(islice(coming, MAX_DRAWN_ROWS)):
            _show_offers(rows, why=self._why)
        if not totals.by_extension:
            if finder.has_only_folders:
                show_total(finder, totals)
            return
        _show_extensions(heaviest(totals.by_extension))
        if totals.by_headings and len(headings := totals.headings()) > 1:
            _show_groups("heading", headings[:_MAX_HEADINGS])
            if more := headings[_MAX_HEADINGS:]:
                show_line(f"... and {count_of(len(more), 'heading')} more")
        if len(totals.hosts) == 1 and totals.hosts != {""}:
            show_line(f"all at {next(iter(totals.hosts))}", dim=True)
        show_total(finder, totals)

    def _shown(self, finder: OfferFinder, totals: Totals) -> Iterator[tuple[Offer, str]]:
        for offer, dropped_by in finder.judged():
            if not dropped_by:
                totals.add(offer)
            if self._why or not dropped_by:
                yield offer, dropped_by


def _show_ends(coming: Iterator[tuple[Offer, str]], *, why: bool) -> None:
    """Print all rows on a terminal; of very many only the first and the last ones."""
    first = list(islice(coming, _MAX_ROWS_ON_TERMINAL))
    last: deque[tuple[Offer, str]] = deque(maxlen=_LAST_ROWS)
    count = 0
    for row in coming:
        last.append(row)
        count += 1
    if first and not count:
        _show_offers(first, why=why)
        return
    if first:
        _show_offers(first[:_FIRST_ROWS], why=why)
        left = len(first) - _FIRST_ROWS + count - len(last)
        show_line(f"... {left:,} rows between these and the last ones are not shown;"
                  " --folders shows an overview, and '| less' everything")  # fmt: skip
        show_line("")
        _show_offers(list(last), why=why)


def _paths_of(offers: Sequence[Offer]) -> list[str]:
    """Return the paths of offers; those that several share, each with its address."""
    often = Counter(offer.path for offer in offers)
    return [
        offer.path
        if often[offer.path] == 1
        else f"{offer.path} ({without_secrets(offer.address).partition('://')[2]})"
        for offer in offers
    ]


def _show_offers(rows: Sequence[tuple[Offer, str]], *, why: bool) -> None:
    """Print offers with the columns that are not empty."""
    offers = [offer for offer, _ in rows]
    columns = {
        "no.": [f"{offer.number:,}" for offer in offers],
        "path": _paths_of(offers),
        "link": [offer.text for offer in offers],
        "heading": [offer.section for offer in offers],
        "column": [f"{o.cell.column} {o.cell.title}".strip() if o.cell else "" for o in offers],
        "kind": [offer.kind for offer in offers],
        "size": [size_of(offer) for offer in offers],
        "modified": [f"{o.modified:%Y-%m-%d %H:%M}" if o.modified else "" for o in offers],
        "host": [host_of(offer.address) for offer in offers],
        "dropped by": [dropped_by for _, dropped_by in rows],
    }
    if len(set(columns["host"])) == 1:
        del columns["host"]
    if not why:
        del columns["dropped by"]
    columns = {name: cells for name, cells in columns.items() if any(cells)}
    show_table(list(columns), list(zip(*columns.values(), strict=True)), numeric=("no.", "size"))


def _show_extensions(groups: Sequence[tuple[str, Sizes]]) -> None:
    """Print the totals of extensions, with their kinds; rare ones in one row."""
    rows = [
        [kind_of_extension(extension), extension or "(none)", f"{sizes.files:,}", written(sizes)]
        for extension, sizes in groups[:_MAX_EXTENSIONS]
    ]
    if rest := groups[_MAX_EXTENSIONS:]:
        sizes = sum_of(sizes for _, sizes in rest)
        more = f"{len(rest):,} more"
        rows.append(["...", more, f"{sizes.files:,}", written(sizes)])
    show_table(("kind", "extension", "files", "size"), rows, numeric=("files", "size"))


def _show_groups(what: str, groups: Sequence[tuple[str, Sizes]]) -> None:
    rows = [[name, f"{sizes.files:,}", written(sizes)] for name, sizes in groups]
    show_table((what, "files", "size"), rows, numeric=("files", "size"))


def show_total(finder: OfferFinder, totals: Totals) -> None:
    """Print how many offers there are, how many are chosen, and their size."""
    sizes = totals.all
    line = f"{count_of(finder.choice.offered, 'offer')}, {finder.choice.kept:,} chosen"
    if sizes.bytes:
        line += f": {'about ' if sizes.rough else ''}{format_size(sizes.bytes)}"
    if sizes.unknown:
        line += f", {count_of(sizes.unknown, 'size')} unknown"
        line += "" if finder.asks else " (--ask-sizes asks the servers)"
    show_line("; ".join([line, *not_entered(finder.found.not_entered)]))


def size_of(offer: Offer) -> str:
    """Format the size of an offer; `~` marks a rounded one, `?` stands for an unknown one."""
    if offer.size is not None:
        return format_size(offer.size)
    return "?" if offer.about is None else f"~{format_size(offer.about)}"


def written(sizes: Sizes) -> str:
    """Format known sizes; `~` marks rounded ones, `?` stands for nothing known."""
    if sizes.unknown == sizes.files:
        return "?"
    known = f"{'~' if sizes.rough else ''}{format_size(sizes.bytes)}"
    return f"{known}, {count_of(sizes.unknown, 'size')} unknown" if sizes.unknown else known


class Folder(Record):
    """A folder in a tree, with the totals below it and its first files.

    Attributes:
        sizes: of all files in and below it.
        files: the first of those right in it.
        direct: how many are right in it.
        folders: those in it, by their names.
        not_entered: those that were not looked into.
    """

    sizes: Sizes = field(default_factory=Sizes)
    files: list[Offer] = field(default_factory=list)
    direct: int = 0
    folders: dict[str, Folder] = field(default_factory=dict)
    not_entered: dict[str, NotEntered] = field(default_factory=dict)

    def folder(self, names: Sequence[str]) -> Folder:
        """Return the folder at a path; create it if needed."""
        node = self
        for name in names:
            node = node.folders.setdefault(name, Folder())
        return node

    def add(self, offer: Offer) -> None:
        """Count an offer in this folder and those above."""
        node = self
        node.sizes.add(offer)
        for name in offer.path.split("/")[:-1]:
            node = node.folders.setdefault(name, Folder())
            node.sizes.add(offer)
        node.direct += 1
        if len(node.files) < _MAX_FILES_PER_FOLDER:
            node.files.append(offer)

    def branch(self, name: str) -> Branch:
        """Return the folder as a branch to draw."""
        count = count_of(self.sizes.files, "file")
        branch = Branch(name, f"{count}, {written(self.sizes)}" if self.sizes.files else "")
        for offer in self.files:
            modified = f", {offer.modified:%Y-%m-%d}" if offer.modified else ""
            branch.branches.append(Branch(offer.file_name, f"{size_of(offer)}{modified}"))
        if more := self.direct - len(self.files):
            branch.branches.append(Branch("...", f"{count_of(more, 'file')} more"))
        branch.branches += [node.branch(f"{each}/") for each, node in self.folders.items()]
        branch.branches += [
            Branch(each, f"not entered: {left.why}") for each, left in self.not_entered.items()
        ]
        return branch


class AsTree(Showing):
    """Output as a tree of folders for each source."""

    def show(self, finder: OfferFinder) -> None:
        """Collect the folders, then draw them."""
        totals = Totals()
        roots: defaultdict[str, Folder] = defaultdict(Folder)
        for offer, dropped_by in finder.judged():
            if not dropped_by:
                totals.add(offer)
                roots[offer.source].add(offer)
        for each in finder.found.not_entered:
            if each.why is not Why.PAGES:
                *above, name = each.path.rstrip("/").split("/")
                roots[each.source].folder(above).not_entered[f"{name}/"] = each
        if not roots:
            return
        show_tree(node.branch(source) for source, node in roots.items())
        show_total(finder, totals)


def preview(planned: HaulPlan) -> None:
    """Show where offers would be filed."""
    show_plan(planned.plan, planned.into)
    earlier = f"; {planned.known:,} of them already hauled" if planned.known else ""
    show_line(f"{planned.sizes}{earlier}; nothing was fetched")


def show_plan(plan: Plan, into: Path) -> None:
    """Print the messages about a plan, and draw its tree."""
    tell_each(lines_of(Planned(plan)))
    root = Folder()
    for filed in plan:
        folder, _, name = filed.path.rpartition("/")
        root.add(replace(filed.offer, folder=folder, name=name))
    show_tree([root.branch(f"{into}/")])


class _Row(NamedTuple):
    """A folder as it is printed, with everything below it."""

    path: str
    sizes: Sizes
    newest: datetime | None


class AsFolders(Showing):
    """Output as a list of folders.

    Args:
        levels: how many levels are shown; None for all.
        form: `json` or `csv`; empty for a table.
    """

    def __init__(self, levels: int | None, form: str) -> None:
        self._levels = levels
        self._form = form

    def show(self, finder: OfferFinder) -> None:
        """Collect the folders, then print them."""
        totals, trees = Totals(), dict[str, FolderTree]()
        for offer, dropped_by in finder.judged():
            if not dropped_by:
                totals.add(offer)
                trees.setdefault(offer.source, FolderTree()).add(offer)
        if not trees:
            return
        rows = list(self._rows(trees))
        if self._form == "json":
            show_text(json_text([*map(_as_json, rows)], indent=1))
        elif self._form == "csv":
            names = ("folder", "files", "bytes_known", "bytes_about", "sizes_unknown", "newest")
            show_csv([names, *(_as_json(row).values() for row in rows)])
        else:
            _show(rows)
            show_total(finder, totals)

    def _rows(self, trees: dict[str, FolderTree]) -> Iterator[_Row]:
        for source, tree in trees.items():
            sums, newest = tree.sums(), tree.newest()
            # Several sources may have folders of the same names.
            above = f"{source}: " if len(trees) > 1 else ""
            for number in tree.walk(enters=partial(self._goes_below, tree)):
                yield _Row(f"{above}{tree.path_of(number) or './'}", sums[number], newest[number])

    def _goes_below(self, tree: FolderTree, number: int) -> bool:
        return self._levels is None or tree.depths[number] < self._levels


def _show(rows: list[_Row]) -> None:
    cells = [
        [
            row.path,
            f"{row.sizes.files:,}",
            written(row.sizes),
            f"{row.newest:%Y-%m-%d %H:%M}" if row.newest else "",
        ]
        for row in rows
    ]
    columns = ["folder", "files", "size", "newest"]
    if not any(row.newest for row in rows):
        columns, cells = columns[:-1], [each[:-1] for each in cells]
    show_table(columns, cells, numeric=("files", "size"))


def _as_json(row: _Row) -> dict[str, object]:
    return {
        "folder": row.path,
        "files": row.sizes.files,
        "bytes_known": row.sizes.exact,
        "bytes_about": row.sizes.about,
        "sizes_unknown": row.sizes.unknown,
        "newest": row.newest.isoformat() if row.newest else None,
    }
