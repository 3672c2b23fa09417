"""Ask the registry whether each dependency has a wheel for each system and Python, and print it.

Versions of Python may be given; otherwise all that are supported are asked for. Nothing is
downloaded or installed. Ends with 1 if a wheel is missing.
"""

from __future__ import annotations

import json
import re
import subprocess
import sys
import tempfile
import tomllib
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from itertools import product
from pathlib import Path

SYSTEMS = {
    "Windows": ("win_amd64",),
    "macOS": ("macosx_14_0_arm64",),
    "Linux": ("manylinux_2_28_x86_64", "manylinux2014_x86_64"),
}
PYTHONS = ("3.11", "3.12", "3.13", "3.14")

# Published as source alone, in Python alone, so that they are built everywhere without a compiler.
SOURCE_ONLY = {"pyftpdlib": "the FTP outbox of the demo"}


def main(pythons: Sequence[str]) -> int:
    """Print the table for versions of Python; return the exit code."""
    content = tomllib.loads((Path(__file__).parents[1] / "pyproject.toml").read_text())
    project = content["project"]
    extras = project["optional-dependencies"]
    for_users = [each for name in extras if name not in ("dev", "bench") for each in extras[name]]
    wanted = [each.replace(" ", "") for each in (*project["dependencies"], *for_users)]
    names = {_name_of(each): each for each in wanted}
    asked = [each for name, each in names.items() if name not in SOURCE_ONLY]
    cells = [*product(SYSTEMS, pythons)]
    with ThreadPoolExecutor(4) as pool:
        found = dict(zip(cells, pool.map(lambda cell: _wheels(asked, *cell), cells), strict=True))
    print(f"{'':18}" + "".join(f"{system:>24}" for system in SYSTEMS))
    print(f"{'':18}" + f"{'  '.join(pythons):>24}" * len(SYSTEMS))
    missing = 0
    for name in names:
        if name in SOURCE_ONLY:
            print(f"{name:18}  source in Python alone, for {SOURCE_ONLY[name]}")
            continue
        has = [name in found[cell] for cell in cells]
        missing += has.count(False)
        marks = ["yes" if each else "NO" for each in has]
        parts = (marks[at : at + len(pythons)] for at in range(0, len(marks), len(pythons)))
        print(
            f"{name:18}" + "".join(f"{'   '.join(f'{m:>3}' for m in part):>24}" for part in parts)
        )
    print(f"{missing} wheels are missing" if missing else "every wheel is there")
    return 1 if missing else 0


def _wheels(requirements: Sequence[str], system: str, python: str) -> set[str]:
    """Return the names of those that have a wheel; asked one by one if not all have."""
    found = _ask(requirements, system, python)
    if found is not None:
        return found
    alone = (_ask([each], system, python) for each in requirements)
    return set().union(*filter(None, alone))


def _ask(requirements: Sequence[str], system: str, python: str) -> set[str] | None:
    """Ask for wheels of all requirements; None if one has none."""
    with tempfile.TemporaryDirectory() as folder:
        report = Path(folder, "report.json")
        platforms = [f"--platform={each}" for each in SYSTEMS[system]]
        asked = subprocess.run(  # noqa: S603  # its words are this file's own
            [sys.executable, "-m", "pip", "install", "--dry-run", "--quiet", "--ignore-installed",
             "--no-deps", "--only-binary=:all:", *platforms, "--python-version", python,
             "--target", folder, "--report", str(report),
             "--disable-pip-version-check", *requirements],
            check=False, capture_output=True,
        )  # fmt: skip
        if asked.returncode:
            return None
        told = json.loads(report.read_text())
        return {_name_of(each["metadata"]["name"]) for each in told["install"]}


def _name_of(requirement: str) -> str:
    """Return the name of a package in normal form (PEP 503)."""
    name = re.split(r"[\[<>=;]", requirement, maxsplit=1)[0]
    return re.sub(r"[-_.]+", "-", name).lower()


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:] or PYTHONS))
