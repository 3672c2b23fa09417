"""The common parts of requests; each command has a subclass in a module of its own."""

from __future__ import annotations

import shlex
from collections.abc import Iterator
from typing import Self

from willow_cart.addresses import (
    WEB,
    container_on_web,
    is_container_address,
    looks_like_address,
    normalise,
    origin_of,
    scheme_of,
)
from willow_cart.choosing import Choosing
from willow_cart.errors import BadOption
from willow_cart.options import Option
from willow_cart.options.groups import ConnectingOptions, LookingOptions, SignInOptions
from willow_cart.options.option import SOURCES, Given, Request
from willow_cart.redaction import SECRET_REFERENCES, without_secrets
from willow_cart.structs import replace


class ReachingRequest(Request):
    """A request that contacts servers.

    Attributes:
        sources: the sources; the sign-ins are for the addresses among them.
        signatures: the queries that sign requests to containers, by the origins of these.
        is_of_containers: whether the sources were written as containers.
    """

    signing: SignInOptions = SignInOptions()
    connecting: ConnectingOptions = ConnectingOptions()
    sources: tuple[str, ...] = ()
    signatures: tuple[tuple[str, str], ...] = ()
    is_of_containers: bool = False

    @classmethod
    def read(cls, given: Given, settings: Given | None = None, words: tuple[str, ...] = ()) -> Self:
        """Make a request; containers that are written `az://` get their web addresses.

        Raises:
            BadAddress: one names no container.
            BadOption: there are other sources next to them.
        """
        made = super().read(given, settings, words)
        written = [*map(is_container_address, made.sources)]
        if not any(written):
            return made
        if not all(written):
            raise BadOption(
                "az:// addresses", "do not go with other sources", "give each a command of its own"
            )
        places = (container_on_web(source, made.connecting.endpoint) for source in made.sources)
        return replace(made, sources=tuple(places), is_of_containers=True)

    @property
    def has_container_key(self) -> bool:
        """Whether a key of a blob store is given, and all sources are web addresses.

        Only containers have such keys, so that the kind of the sources need not be named.
        """
        if self.is_of_containers:
            return True
        keyed = bool(self.signing.account_key or self.signing.shared_access)
        return keyed and bool(self.sources) and all(map(_is_on_the_web, self.sources))


class LookingRequest(ReachingRequest):
    """A request that lists sources."""

    sources: tuple[str, ...] = SOURCES
    looking: LookingOptions = LookingOptions()
    choosing: Choosing = Choosing()

    @classmethod
    def read(cls, given: Given, settings: Given | None = None, words: tuple[str, ...] = ()) -> Self:
        """Make a request; shared access signatures are moved out of pasted container addresses.

        With the signature in its query an address is that of one object; what is meant is the whole
        container, and every request to it is to be signed.
        """
        made = super().read(given, settings, words)
        if made.looking.as_ is None and made.has_container_key:
            made = replace(made, looking=replace(made.looking, as_="bucket"))
        if made.looking.as_ != "bucket":
            return made
        parts = [_without_signature(source) for source in made.sources]
        signed = tuple((origin_of(normalise(bare)), query) for bare, query in parts if query)
        return replace(made, sources=tuple(bare for bare, _ in parts), signatures=signed)


def _is_on_the_web(source: str) -> bool:
    return looks_like_address(source) and scheme_of(source).lower() in WEB


def _without_signature(source: str) -> tuple[str, str]:
    """Split a source into its address and the shared access signature in it, if any."""
    bare, _, query = source.partition("?")
    names = {each.partition("=")[0] for each in query.split("&")}
    return (bare, query) if _is_on_the_web(bare) and {"sig", "sv"} <= names else (source, "")


def without_value(option: Option, text: str) -> str:
    """Return a value of an option without a secret."""
    before, value = "", text
    if option.key == "header":
        name, _, value = text.partition(":")
        before = f"{name}: "
    elif not option.is_secret:
        return text
    return text if value.strip().startswith(SECRET_REFERENCES) else f"{before}***"


def shown_command(request: Request) -> str:
    """Return the command line without secrets, as it can be typed again."""
    return shlex.join(["willow-cart", *map(without_secrets, _shown_words(request))])


def _shown_words(request: Request) -> Iterator[str]:
    """Yield words without secrets."""
    options = {each.flag: each for each in type(request).by_key().values()}
    before: Option | None = None
    for word in request.words:
        flag, equals, value = word.partition("=")
        if equals and flag in options:
            yield f"{flag}={without_value(options[flag], value)}"
        else:
            yield word if before is None else without_value(before, word)
        before = options.get(word)
