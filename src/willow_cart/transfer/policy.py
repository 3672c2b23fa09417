"""The policies of a haul as immutable values."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator

from willow_cart.archives.reader import Bounds
from willow_cart.choosing.patterns import on_path, wildcard
from willow_cart.filing import Filed, Layout, Template, require_fields
from willow_cart.filing.plan import FilingRule
from willow_cart.kinds import stem_of, tells_kind
from willow_cart.options.groups import HandlingOptions, PaceOptions
from willow_cart.protocols import RetryPolicy
from willow_cart.sign_in.secrets import Secret
from willow_cart.structs import Value, replace


class Unpacking(Value):
    """How to unpack archives.

    Attributes:
        archives: wildcards, any of which an archive must match; see `choosing.patterns.wildcard`.
        to: gives the folder for what is in each; None for one of its name next to it, and for the
            file in a packed one the folder that it is in.
        inside: wildcards, any of which a member must match by its path in there. Empty takes all.
        strip_top: whether the one folder that everything is in is left out.
        nested: whether archives in it are unpacked too, once.
        remove: whether the archive is removed.
        bounds: how far it may swell.
        password: of encrypted members; None for none.

    Raises:
        BadOption: a wildcard cannot be read.
    """

    archives: tuple[str, ...] = ("*",)
    to: Template | None = None
    inside: tuple[str, ...] = ()
    strip_top: bool = False
    nested: bool = False
    remove: bool = False
    bounds: Bounds = Bounds()
    password: Secret | None = None

    def __post_init__(self) -> None:
        for pattern in (*self.archives, *self.inside):
            on_path(pattern)

    @property
    def mark(self) -> str:
        """Return an identifier of these settings, for the ledger."""
        to = self.to and [self.to.text, self.to.name_parts]
        return json.dumps([to, self.inside, self.strip_top, self.nested])

    def wanted(self, filed: Iterable[Filed]) -> Iterator[Filed]:
        """Yield the files that are archives to be unpacked; all of them without patterns."""
        tests = [wildcard(pattern) for pattern in self.archives]

        def is_wanted(each: Filed) -> bool:
            offer, name = each.offer, each.path.rpartition("/")[2]
            as_named = offer if tells_kind(offer.file_name) else replace(offer, name=name)
            return not tests or any(test(as_named) for test in tests)

        return filter(is_wanted, filed)

    def chooses(self, path: str) -> bool:
        """Whether a member is wanted, by its path in the archive."""
        return not self.inside or any(on_path(pattern)(path) for pattern in self.inside)

    def folder_for(self, filed: Filed, *, is_single: bool) -> str:
        """Return the folder for the content of an archive, safe or not.

        Raises:
            FieldMissing: the template has a field that has no value.
        """
        folder, _, name = filed.path.rpartition("/")
        if self.to is not None:
            return self.to.wish_for(replace(filed.offer, folder=folder, name=name))
        return folder if is_single else f"{folder}/{stem_of(name)}"

    def require_fields(self, filed: Iterable[Filed]) -> None:
        """Refuse a template with a field that has no value for some archives.

        Raises:
            FieldsMissing: it has a field that does not.
            BadOption: it has none, and there are several archives.
        """
        archives = [*self.wanted(filed)]
        if self.to is not None:
            self.to.require_apart(len(archives))
        require_fields(archives, lambda each: self.folder_for(each, is_single=False))


class HaulPolicy(Value):
    """The policy of a haul: the options of its command, and what they come to.

    Attributes:
        layout: the rule for where files go.
        bounds: how far an archive may swell that is inspected.
        unpack: how archives that arrive are unpacked; None if they are not.
        takes_pages: whether pages are what is wanted, those of folders included.
    """

    layout: FilingRule = Layout.TREE
    pace: PaceOptions = PaceOptions()
    handling: HandlingOptions = HandlingOptions()
    bounds: Bounds = Bounds()
    unpack: Unpacking | None = None
    takes_pages: bool = False

    @property
    def retry_policy(self) -> RetryPolicy:
        """When to try again."""
        return RetryPolicy.of(self.pace)
