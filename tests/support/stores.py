"""An object store that others have made, for the dialect that buckets are spoken to in."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest


@contextmanager
def independent_store(monkeypatch: pytest.MonkeyPatch, home: Path) -> Iterator[tuple[str, Any]]:
    """An object store that is not ours, with a client of its own; gives address and client."""
    import boto3
    from moto.server import ThreadedMotoServer

    server = ThreadedMotoServer(ip_address="127.0.0.1", port=0, verbose=False)
    server.start()
    try:
        base = "http://{}:{}".format(*server.get_host_and_port())
        monkeypatch.setenv("AWS_ACCESS_KEY_ID", "ida")
        monkeypatch.setenv("AWS_SECRET_ACCESS_KEY", "reedmace")
        monkeypatch.setenv("HOME", str(home))
        yield base, boto3.client("s3", endpoint_url=base, region_name="us-east-1")
    finally:
        server.stop()
