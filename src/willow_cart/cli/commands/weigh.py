"""`weigh`: total a cart, check the free space, and split it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

from willow_cart.cart.splitting import CartPart
from willow_cart.cart.weighing import Weight, heaviest, in_time
from willow_cart.cli.console import Console
from willow_cart.cli.render import size_of, written
from willow_cart.cli.screen import show_line, show_table, show_tables, show_text, tell, tell_each
from willow_cart.commands.weigh import WeighRequest, WeighResult, draw, weigh
from willow_cart.destination import LARGEST_ON_FAT
from willow_cart.hauling.room import Prospect
from willow_cart.model import Sizes, sum_of
from willow_cart.redaction import without_secrets
from willow_cart.units import count_of, format_duration, format_size, json_text

Parts = Sequence[tuple[Path, CartPart]]

# Groups printed one by one; the others are added up in one row.
_MAX_GROUPS = 12


def run(request: WeighRequest) -> int:
    """Total, print, draw and split a cart."""
    done = weigh(request, Console())
    tell_each([*done.troubles, *done.oddities])
    _tell_of_parts(request, done)
    if request.json:
        facts = _as_json(done.weight, done.ahead, done.split, request)
        show_text(json_text(facts, indent=1))
    else:
        _show_parts(done.split)
        _show(done.weight, done.ahead, request)
    if (figure := draw(request, done)) is not None:
        tell(f"drawn in {figure}")
    return done.exit_code


def _tell_of_parts(request: WeighRequest, done: WeighResult) -> None:
    unknown = sum(part.sizes.unknown for _, part in done.split)
    if unknown and request.drives:
        tell(
            f"{count_of(unknown, 'file')} of unknown size went to the drives with most space left;"
            " --ask-sizes asks the servers first"
        )
    if done.stale is not None:
        tell(f"{done.stale} is from an earlier split; delete it, or its files are hauled twice")


def _show(weight: Weight, ahead: Prospect, request: WeighRequest) -> None:
    whole = weight.all
    common = []
    tables: list[tuple[Sequence[str], Sequence[Sequence[str]]]] = []
    for what, groups in (
        ("kind", heaviest(weight.kinds)),
        ("month", in_time(weight.months)),
        ("folder", heaviest(weight.folders)),
        ("source", heaviest(weight.sources)),
    ):
        if len(groups) == 1:
            common.append(f"{what} {groups[0][0]}")
        elif groups:
            rows = [_row_of(name, sizes, whole) for name, sizes in _shortened(groups)]
            tables.append(((what, "files", "size", "share"), rows))
    if weight.largest:
        largest = [[offer.path, size_of(offer)] for offer in weight.largest]
        tables.append((("largest", "size"), largest))
    show_tables(tables, numeric=("files", "size", "share"))
    if common:
        show_line(f"all files: {', '.join(common)}", dim=True)
    left_out = f"; {count_of(weight.left_out, 'row')} not taken" if weight.left_out else ""
    asks = "" if request.ask_sizes or not whole.unknown else " (--ask-sizes asks the servers)"
    show_line(f"{request.cart}: {whole}{asks}{left_out}")
    _show_prospect(ahead, request)


def _shortened(groups: list[tuple[str, Sizes]]) -> list[tuple[str, Sizes]]:
    """Return the first groups, and the rest as one group, so that the sum is right."""
    if len(groups) <= _MAX_GROUPS + 1:
        return groups
    rest = groups[_MAX_GROUPS:]
    return [
        *groups[:_MAX_GROUPS],
        (f"... {len(rest):,} more", sum_of(sizes for _, sizes in rest)),
    ]


def _row_of(name: str, sizes: Sizes, whole: Sizes) -> list[str]:
    share = ""
    if sizes.bytes:
        part = sizes.bytes / whole.bytes
        share = "< 1 %" if part < 0.01 else f"{part:.0%}".replace("%", " %")
    return [name, f"{sizes.files:,}", written(sizes), share]


def _show_prospect(ahead: Prospect, request: WeighRequest) -> None:

    into = "here" if request.into == Path() else f"in {request.into}"
    if ahead.here:
        verb = "is" if ahead.here == 1 else "are"
        show_line(f"{count_of(ahead.here, 'file')} {verb} {into} already;"
                  f" {ahead.to_come} to fetch")  # fmt: skip
    if ahead.too_large:
        verb = "is" if ahead.too_large == 1 else "are"
        most = format_size(LARGEST_ON_FAT)
        show_line(f"{count_of(ahead.too_large, 'file')} {verb} too large: the disk takes files"
                  f" of at most {most} (FAT)")  # fmt: skip
    if ahead.room is not None:
        fits = f"{format_size(ahead.short)} short" if ahead.short else "it fits"
        if not ahead.short and (ahead.to_come.unknown or ahead.to_come.rough):
            fits = "the known sizes fit"
        show_line(f"{format_size(ahead.room)} free {into}: {fits}")
    speed, whose = (
        (request.speed, "") if request.speed else (ahead.speed, ", the speed of the last haul")
    )
    if speed and ahead.needed:
        time = format_duration(ahead.needed / speed)
        unknown = ", without files of unknown size" if ahead.to_come.unknown else ""
        show_line(f"{time} at {format_size(int(speed))}/s{whose}{unknown}")


def _as_json(
    weight: Weight, ahead: Prospect, parts: Parts, request: WeighRequest
) -> dict[str, object]:
    def table(groups: Mapping[str, Sizes]) -> dict[str, object]:
        return {name: _sizes_as_json(sizes) for name, sizes in sorted(groups.items())}

    speed = request.speed or ahead.speed
    return {
        "cart": str(request.cart),
        "taken": _sizes_as_json(weight.all),
        "not_taken": weight.left_out,
        "kinds": table(weight.kinds),
        "folders": table(weight.folders),
        "sources": table(weight.sources),
        "months": table(weight.months),
        "largest": [
            {
                "path": each.path,
                "size": each.size,
                "size_about": each.about,
                "url": without_secrets(each.address),
            }
            for each in weight.largest
        ],
        "into": str(request.into),
        "here_already": ahead.here,
        "to_come": _sizes_as_json(ahead.to_come),
        "bytes_needed": ahead.needed,
        "bytes_free": ahead.room,
        "too_large": ahead.too_large,
        "fits": ahead.fits,
        "seconds": ahead.needed / speed if speed else None,
        "parts": [{"cart": str(file), **_sizes_as_json(part.sizes)} for file, part in parts],
    }


def _sizes_as_json(sizes: Sizes) -> dict[str, int]:
    return {
        "files": sizes.files,
        "bytes_known": sizes.exact,
        "bytes_about": sizes.about,
        "sizes_rounded": sizes.rough,
        "sizes_unknown": sizes.unknown,
    }


def _show_parts(parts: Parts) -> None:
    if not parts:
        return
    columns = ["cart", "files", "size"]
    rows = [[str(file), f"{part.sizes.files:,}", written(part.sizes)] for file, part in parts]
    if parts[0][1].capacity is not None:
        columns.append("room left")
        for row, (_, part) in zip(rows, parts, strict=True):
            row.append(format_size(part.room))
    show_line("")
    show_table(columns, rows, numeric=columns[1:])
