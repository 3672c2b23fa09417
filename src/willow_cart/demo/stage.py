"""What runs the commands of the example and checks how they end."""

from __future__ import annotations

import os
import shlex
import subprocess
import sys
import time
from collections.abc import Sequence
from pathlib import Path

from willow_cart.demo.portal import Portal

SECRETS = {"FEN_PASSWORD": Portal.password, "RINGING_SECRET": Portal.client_secret}
"""The environment variables that the example's sign-ins name."""

_PROGRAM = [sys.executable, "-m", "willow_cart"]


class Stage:
    """Runs the commands of the example and prints its explanations.

    Args:
        folder: where the commands are run.
        home: where they keep their settings and their state, so that neither the person's settings
            nor an earlier run of the example changes what they do.
    """

    def __init__(self, folder: Path, home: Path) -> None:
        self._folder = folder
        homes = {"XDG_CONFIG_HOME": str(home / "config"), "XDG_STATE_HOME": str(home / "state")}
        self._env = os.environ | homes | SECRETS
        self._config = home / "config" / "willow-cart" / "config.toml"
        self._surprises = 0
        self._began = time.monotonic()

    def explain(self, heading: str, *lines: str) -> None:
        """Print an explanation."""
        print()
        if heading:
            print(f"== {heading} ==")
        print("\n".join(lines), flush=True)

    def configure(self, text: str) -> None:
        """Write the config file of the commands."""
        self._config.parent.mkdir(parents=True, exist_ok=True)
        self._config.write_text(text)

    def run(self, arguments: Sequence[str], expect: int) -> None:
        """Print and run a command, and check its exit code."""
        self._say(arguments)
        command = [*_PROGRAM, *arguments]
        done = subprocess.run(command, cwd=self._folder, env=self._env, check=False)
        self._note(done.returncode, expect)

    def run_and_kill(self, arguments: Sequence[str], after_bytes: int) -> None:
        """Print and run a command, and kill it after this many bytes."""
        self._say(arguments)
        into = self._folder / arguments[arguments.index("--into") + 1]
        process = subprocess.Popen([*_PROGRAM, *arguments], cwd=self._folder, env=self._env)
        while process.poll() is None and _partial_bytes(into) < after_bytes:
            time.sleep(0.02)
        process.kill()
        self._surprises += process.wait() == 0
        print(f"(killed with {_partial_bytes(into):,} bytes in {into.name}/.willow/partial)")

    def spoil(self, path: str) -> None:
        """Change one byte of a file."""
        with (self._folder / path).open("r+b") as file:
            file.seek(5000)
            file.write(b"?")

    def end(self) -> int:
        """Print the result."""
        seconds = time.monotonic() - self._began
        print(f"\nThe example took {seconds:.1f} s. Its files are in {self._folder}")
        if self._surprises:
            print(f"{self._surprises} commands ended with an unexpected exit code", file=sys.stderr)
        return 1 if self._surprises else 0

    def _say(self, arguments: Sequence[str]) -> None:
        print(f"\n$ {shlex.join(['willow-cart', *arguments])}", flush=True)

    def _note(self, code: int, expect: int) -> None:
        meaning = f"exit code {code}"
        if code != expect:
            self._surprises += 1
            meaning += f", expected {expect}"
        print(f"({meaning})", flush=True)


def _partial_bytes(into: Path) -> int:
    folder = into / ".willow" / "partial"
    return sum(path.stat().st_size for path in folder.iterdir()) if folder.is_dir() else 0
