"""What requests have in common; each command has one of its own, in the module of its name."""

from __future__ import annotations

from dataclasses import dataclass, field, fields, replace
from typing import TYPE_CHECKING, Any, ClassVar, Self

from willow_cart.addresses import WEB, looks_like_address, normalise, origin_of, scheme_of
from willow_cart.jobs.looking_options import ChoosingOptions, LookingOptions
from willow_cart.jobs.reaching_options import ConnectingOptions, SignInOptions
from willow_cart.jobs.shared_options import SourcesArgument

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence


@dataclass(frozen=True, kw_only=True)
class Request:
    """What is asked for.

    Attributes:
        typed: the words that say the same on the command line, with the command first.
    """

    command: ClassVar[str] = ""
    typed: tuple[str, ...] = field(default=(), repr=False, compare=False)

    @classmethod
    def from_values(cls, values: Mapping[str, Any], typed: Sequence[str] = ()) -> Self:
        """Make a request of the values of its options; those of others are passed over."""
        given = {each.name: values[each.name] for each in fields(cls) if each.name in values}
        frozen = {
            name: tuple(value) if isinstance(value, list) else value
            for name, value in given.items()
        }
        return cls(**{**frozen, "typed": tuple(typed)})


@dataclass(frozen=True, kw_only=True)
class ReachingRequest(SignInOptions, ConnectingOptions, Request):
    """A request for which places are reached.

    Attributes:
        sources: what is looked at; the sign-ins are for the addresses among them.
        signatures: the queries that sign requests to containers, by the origins of these.
    """

    sources: tuple[str, ...] = ()
    signatures: tuple[tuple[str, str], ...] = field(default=(), repr=False)


@dataclass(frozen=True, kw_only=True)
class LookingRequest(SourcesArgument, LookingOptions, ChoosingOptions, ReachingRequest):
    """A request for which sources are looked at."""

    @classmethod
    def from_values(cls, values: Mapping[str, Any], typed: Sequence[str] = ()) -> Self:
        """Make a request; shared access signatures are taken out of pasted container addresses.

        With the signature in its query an address is that of one object; what is meant is the whole
        container, and every request to it is to be signed.
        """
        made = super().from_values(values, typed)
        if made.as_ != "bucket":
            return made
        parts = [_without_signature(source) for source in made.sources]
        signed = tuple((origin_of(normalise(bare)), query) for bare, query in parts if query)
        return replace(made, sources=tuple(bare for bare, _ in parts), signatures=signed)


def _without_signature(source: str) -> tuple[str, str]:
    """Part a source from the shared access signature in it; an empty one for none."""
    bare, _, query = source.partition("?")
    names = {each.partition("=")[0] for each in query.split("&")}
    is_web = looks_like_address(bare) and scheme_of(bare) in WEB
    return (bare, query) if is_web and {"sig", "sv"} <= names else (source, "")
