"""The scripts that make documents, as modules."""

from __future__ import annotations

import importlib.util
from pathlib import Path
from typing import Any

ROOT = Path(__file__).parent.parent.parent


def docs_module(name: str) -> Any:
    page = ROOT / "docs" / f"{name}.py"
    spec = importlib.util.spec_from_file_location(name, page)
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module
