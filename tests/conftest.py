"""What the tests share."""

from __future__ import annotations

import os
import shutil
import signal
from collections.abc import Iterator
from pathlib import Path

import hypothesis
import pytest
from selenium import webdriver

from tests.support.program import Outcome, RunHere
from willow_cart.cli.main import main
from willow_cart.demo import harrowmere
from willow_cart.demo.stand_in import Exhibit, StandIn

SITE = harrowmere.make_site()

# A shell in the background starts what it runs with Ctrl-C switched off, and so would we.
signal.signal(signal.SIGINT, signal.default_int_handler)

# How long an example takes says nothing on a machine that is shared.
hypothesis.settings.register_profile("shared", deadline=None)
hypothesis.settings.load_profile("shared")


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Leave out what Windows, or its disks, cannot have in the run that is like it."""
    if "as_windows" in os.environ.get("PYTHONPATH", ""):
        items[:] = [each for each in items if each.get_closest_marker("posix") is None]


@pytest.fixture(scope="session", autouse=True)
def state(tmp_path_factory: pytest.TempPathFactory) -> None:
    """Keep the hauls of the tests out of the list of whoever runs them."""
    os.environ["XDG_STATE_HOME"] = str(tmp_path_factory.mktemp("state"))


@pytest.fixture
def here(capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch) -> RunHere:
    """Run commands in this process, for tables of hundreds; the real program does the same."""

    def run_here(folder: Path, *words: str) -> Outcome:
        with monkeypatch.context() as patched:
            patched.chdir(folder)
            try:
                code = main(words)
            except SystemExit as error:  # a word was not understood
                code = int(error.code or 0)
        written = capsys.readouterr()
        return Outcome(code, written.out, written.err)

    return run_here


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


@pytest.fixture(scope="session")
def chromium() -> Iterator[webdriver.Chrome]:
    """A real browser, with its logs of what goes wrong and of what it asks for."""
    browser, driver = shutil.which("chromium"), shutil.which("chromedriver")
    if browser is None or driver is None:
        pytest.skip("there is no Chromium")
    options = webdriver.ChromeOptions()
    options.binary_location = browser
    options.set_capability("goog:loggingPrefs", {"browser": "ALL", "performance": "ALL"})
    for switch in ("--headless=new", "--disable-gpu", "--disable-dev-shm-usage"):
        options.add_argument(switch)
    if os.getuid() == 0:
        options.add_argument("--no-sandbox")  # it refuses to be run by root otherwise
    with webdriver.Chrome(options, webdriver.ChromeService(driver)) as driven:
        yield driven
