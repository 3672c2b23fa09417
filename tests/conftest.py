"""What the tests share."""

from __future__ import annotations

import os
from collections.abc import Iterator

import pytest

from willow_cart.demo import harrowmere
from willow_cart.demo.stand_in import Exhibit, StandIn

SITE = harrowmere.make_site()


@pytest.fixture(scope="session", autouse=True)
def state(tmp_path_factory: pytest.TempPathFactory) -> None:
    """Keep the hauls of the tests out of the list of whoever runs them."""
    os.environ["XDG_STATE_HOME"] = str(tmp_path_factory.mktemp("state"))


@pytest.fixture(scope="session")
def trust_files() -> dict[str, bytes]:
    """The made-up trust's files, by path."""
    return harrowmere.make_files()


@pytest.fixture
def place() -> Iterator[StandIn]:
    """A stand-in server with nothing in it yet."""
    with StandIn({}) as stand_in:
        yield stand_in


@pytest.fixture
def trust(trust_files: dict[str, bytes]) -> Iterator[StandIn]:
    """A stand-in with the trust's files and no faults."""
    with StandIn({path: Exhibit(content) for path, content in trust_files.items()}) as stand_in:
        yield stand_in


@pytest.fixture
def trust_site() -> Iterator[StandIn]:
    """A stand-in with the trust's pages and what they lead to."""
    with StandIn({path: Exhibit(content) for path, content in SITE.items()}) as stand_in:
        yield stand_in
