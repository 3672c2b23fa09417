"""Convert the options for fetching, filing and unpacking to policies."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from random import random

from willow_cart.defaults import LANES_PER_HOST, MOST_LANES_PER_HOST
from willow_cart.errors import BadOption
from willow_cart.filing import Layout, Template
from willow_cart.jobs.connecting import make_retry_policy, read_bounds
from willow_cart.options.hauling import FilingOptions, PaceOptions, UnpackingOptions
from willow_cart.protocols import RequestRules
from willow_cart.requests.haul import HaulRequest
from willow_cart.sign_in.sign_ins import read_secret
from willow_cart.structs import replace
from willow_cart.transfer.pace import Limits, Pace
from willow_cart.transfer.policy import (
    ArrivalCommand,
    DuplicatePolicy,
    ExistingFilePolicy,
    HaulPolicy,
    Unpacking,
)

# Seconds on the average between two files for those who are shy.
_ONE_BY_ONE_GAP_SECONDS = 2.0


def make_policy(request: HaulRequest) -> HaulPolicy:
    """Return the policy of a haul."""
    if request.unpack:
        unpack = make_unpacking(request, request.name_parts, request.unpack)
    else:
        require_of_use(request)
        unpack = None
    return replace(
        make_pace(request),
        layout=make_rule(request),
        accept_anything=request.accept_anything,
        inspect=request.inspect,
        bounds=read_bounds(request.swell_at_most),
        must_check=request.must_check,
        tight=request.tight,
        existing_files=ExistingFilePolicy(request.if_present),
        twins=DuplicatePolicy(request.twins),
        unpack=unpack,
        keep_times=request.times == "keep",
        on_arrival=None if request.on_arrival is None else ArrivalCommand(request.on_arrival),
    )


def make_pace(request: PaceOptions) -> HaulPolicy:
    """Return the part of the policy about pace and limits."""
    pace = Pace(request.gap, speed_cap=request.speed_cap)
    if request.one_by_one:
        pace = replace(pace, gap=request.gap or _ONE_BY_ONE_GAP_SECONDS, jitter=0.5)
    strands: int | None = request.strands
    lanes: int = max(request.lanes, strands or 1)
    per_host: int = request.lanes_per_host or max(LANES_PER_HOST, strands or 1)
    most = max(MOST_LANES_PER_HOST, per_host) if request.lanes_per_host is None else None
    if request.one_by_one:
        lanes = per_host = strands = 1
        most = None
    return HaulPolicy(
        lanes=lanes,
        lanes_per_host=per_host,
        most_lanes_per_host=most,
        retry_policy=make_retry_policy(request),
        pace=pace,
        limits=Limits(request.largest, request.slowest, request.time_per_file),
        strands=strands,
    )


def make_request_rules(request: PaceOptions, policy: HaulPolicy) -> RequestRules:
    """Return the rules for requests of a haul, including those that list its sources."""
    pace = policy.pace
    return RequestRules(
        policy.retry_policy,
        partial(_next_gap, pace) if pace.gap else None,
        request.stall_after,
        request.time_per_file,
    )


def _next_gap(pace: Pace) -> float:
    return pace.gap_after(random())  # noqa: S311  # not a secret


def make_rule(request: FilingOptions) -> Layout | Template:
    """Return the filing rule of the options.

    Raises:
        BadOption: it cannot be understood.
    """
    if request.skip_folders:
        if request.file_as is not None or request.layout != Layout.TREE:
            raise BadOption(
                "--skip-folders", "goes only with the layout tree",
                f"write {{folders[{request.skip_folders}:]}} in --file-as",
            )  # fmt: skip
        return Template(f"{{folders[{request.skip_folders}:]}}/{{name}}")
    if request.file_as is not None:
        return Template(request.file_as, request.name_parts)
    unpacks = isinstance(request, UnpackingOptions) and request.unpack_to is not None
    if request.name_parts and not unpacks:
        raise BadOption("--name-parts", "requires --file-as")
    return Layout(request.layout)


def make_unpacking(
    request: UnpackingOptions, name_parts: str, archives: Sequence[str]
) -> Unpacking:
    """Return how archives are unpacked.

    Raises:
        BadOption: one of them cannot be understood.
    """
    secret = None
    if request.archive_password:
        secret = read_secret(request.archive_password, "--archive-password")
    return Unpacking(
        tuple(archives),
        Template(request.unpack_to, name_parts) if request.unpack_to is not None else None,
        request.inside,
        lift=request.lift,
        nested=request.nested,
        remove=request.then == "remove",
        bounds=read_bounds(request.swell_at_most),
        password=secret,
    )


def require_of_use(request: HaulRequest) -> None:
    """Refuse unpacking options if nothing is unpacked.

    Raises:
        BadOption: there is one.
    """
    given = {
        "--unpack-to": request.unpack_to is not None,
        "--inside": request.inside,
        "--lift": request.lift,
        "--nested": request.nested,
        "--then": request.then != "keep",
        "--swell-at-most": request.swell_at_most is not None and not opens_archives(request),
        "--archive-password": request.archive_password,
    }
    for option, is_given in given.items():
        if is_given:
            raise BadOption(option, "requires --unpack")


def opens_archives(request: HaulRequest) -> bool:
    """Whether archives are opened without being unpacked."""
    return request.inspect or request.as_ == "archive"
