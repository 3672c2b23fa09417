"""Convert the options for fetching, filing and unpacking to policies."""

from __future__ import annotations

from collections.abc import Sequence

from willow_cart.commands.connecting import read_bounds
from willow_cart.errors import BadOption
from willow_cart.filing import Layout, Template
from willow_cart.options.groups import FilingOptions, UnpackingOptions
from willow_cart.sign_in.secrets import read_secret
from willow_cart.transfer.policy import Unpacking


def make_rule(request: FilingOptions, *, unpacks: bool = False) -> Layout | Template:
    """Return the filing rule of the options.

    Args:
        unpacks: whether parts of names are used in the folders of archives.

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
        strip_top=request.strip_top,
        nested=request.nested,
        remove=request.archives == "remove",
        bounds=read_bounds(request.unpacked_at_most),
        password=secret,
    )
