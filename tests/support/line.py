"""A line between the program and a real server, which delays, throttles, and cuts by seed."""

from __future__ import annotations

import asyncio
import random
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from functools import cache
from urllib.parse import urlsplit

_PIECE = 16 * 1024


@dataclass(frozen=True)
class Weather:
    """What becomes of connections.

    Attributes:
        latency: seconds from the first byte of a request to the first of its answer, at least;
            making a connection takes as long.
        speed: bytes a second of one connection; None for as fast as it goes.
        cuts: the share of connections that break off at a random byte.
        longest: bytes after which they do, at most.
        silences: the share of connections that fall silent for good instead.
    """

    latency: float = 0.0
    speed: float | None = None
    cuts: float = 0.0
    longest: int = 1
    silences: float = 0.0


@cache
def _loop() -> asyncio.AbstractEventLoop:
    """What all lines of this process run on, until its end."""
    loop = asyncio.new_event_loop()
    threading.Thread(target=loop.run_forever, daemon=True).start()
    return loop


@contextmanager
def line(base: str, weather: Weather, seed: int = 0) -> Iterator[str]:
    """Stand between the program and a server, and give the address that is to be asked."""
    server = urlsplit(base)
    rng = random.Random(seed)

    async def serve() -> asyncio.Server:
        return await asyncio.start_server(join, "127.0.0.1", 0, limit=_PIECE)

    async def join(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        left = rng.randrange(weather.longest) if rng.random() < weather.cuts else None
        silent = rng.random() < weather.silences
        try:
            there, back = await asyncio.open_connection(server.hostname, server.port, limit=_PIECE)
        except OSError:
            writer.transport.abort()
            return
        await asyncio.sleep(weather.latency)  # what the handshake would have taken
        asking = asyncio.create_task(_pass_on(reader, back, weather.latency, None))
        answering = asyncio.create_task(_pass_on(there, writer, 0.0, weather.speed, left))
        await asyncio.wait({asking, answering}, return_when=asyncio.FIRST_COMPLETED)
        if answering.done() and answering.result() and silent:
            await asking  # until the program has had enough of it
        asking.cancel()
        answering.cancel()
        writer.transport.abort()
        back.transport.abort()

    listener = asyncio.run_coroutine_threadsafe(serve(), _loop()).result()
    try:
        yield f"http://127.0.0.1:{listener.sockets[0].getsockname()[1]}"
    finally:
        _loop().call_soon_threadsafe(listener.close)


async def _pass_on(
    source: asyncio.StreamReader,
    sink: asyncio.StreamWriter,
    latency: float,
    speed: float | None,
    left: int | None = None,
) -> bool:
    """Pass bytes on until their end, or until no more are left to pass; whether that was so."""
    clock = asyncio.get_running_loop().time
    free_at = clock()
    with suppress(OSError):
        while True:
            asked = clock()
            data = await source.read(_PIECE)
            if not data:
                break
            if clock() - asked > 0.02:
                free_at = clock()  # nobody makes up for what was offered nothing to be sent in
            await asyncio.sleep(latency)
            if left is not None:
                data = data[:left]
                left -= len(data)
            if speed is not None:
                # A little of what was missed is made up for: no sleep ends when it should.
                free_at = max(free_at, clock() - 0.1) + len(data) / speed
                await asyncio.sleep(free_at - clock())
            sink.write(data)
            await sink.drain()
            if left == 0:
                return True
    return False
