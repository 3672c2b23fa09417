"""Run commands in processes that are forked from one that has loaded the program.

Starting an interpreter and loading the program takes longer than most commands. One process for
each process of the tests loads it once, without threads, and forks for every command. What is
special about a start itself is tested with `tests.support.program.start`.
"""

from __future__ import annotations

import atexit
import gc
import io
import json
import os
import signal
import socket
import subprocess
import sys
import threading
import time
from functools import cache
from importlib import import_module
from pathlib import Path

_PRELOADED = (
    "argparse sqlite3 ssl ftplib lxml.html urllib3 rich.console rich.table rich.tree rich.columns"
    " rich.live willow_cart.cli.main willow_cart.hauling willow_cart.protocols.web"
    " willow_cart.protocols.ftp.ftp_access willow_cart.errands willow_cart.sources"
    " willow_cart.commands.haul willow_cart.cli.console willow_cart.cli.render willow_cart.cart"
    " willow_cart.archives willow_cart.sources.document_reader willow_cart.commands.receipt"
    " willow_cart.cli.commands.haul willow_cart.cli.commands.survey willow_cart.cli.commands.load"
    " willow_cart.cli.commands.audit willow_cart.cli.commands.receipt platformdirs netrc"
).split()
_LARGEST_REQUEST = 1 << 20


class ForkServer:
    """The process that commands are forked from."""

    def __init__(self) -> None:
        self._ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        self._lock = threading.Lock()
        self._process = subprocess.Popen(
            [sys.executable, "-m", "tests.support.forked", str(theirs.fileno())],
            pass_fds=[theirs.fileno()],
            stdin=subprocess.DEVNULL,
            cwd=Path(__file__).parent.parent.parent,
        )
        theirs.close()
        atexit.register(self.close)

    def close(self) -> None:
        self._ours.close()
        self._process.wait()

    def run(
        self, words: list[str], cwd: Path, stdin: bytes, env: dict[str, str], timeout: float
    ) -> tuple[int, bytes, bytes]:
        """Run a command; return its exit code, negative for a signal, and its output.

        Raises:
            subprocess.TimeoutExpired: it takes too long; it is killed.
        """
        result, theirs = socket.socketpair()
        (in_read, in_write), (out_read, out_write), (err_read, err_write) = (
            os.pipe(), os.pipe(), os.pipe()
        )  # fmt: skip
        request = json.dumps({"words": words, "cwd": str(cwd), "env": env}).encode()
        given = [in_read, out_write, err_write, theirs.fileno()]
        with self._lock:
            socket.send_fds(self._ours, [request], given)
        for each in given[:3]:
            os.close(each)
        theirs.close()
        output: list[bytes] = [b"", b""]
        threads = [
            threading.Thread(target=_write, args=(in_write, stdin)),
            threading.Thread(target=_read, args=(out_read, output, 0)),
            threading.Thread(target=_read, args=(err_read, output, 1)),
        ]
        for thread in threads:
            thread.start()
        with result, result.makefile("r") as told:
            pid = int(told.readline())
            result.settimeout(timeout)
            try:
                code = int(told.readline())
            except TimeoutError:
                os.kill(pid, signal.SIGKILL)
                raise subprocess.TimeoutExpired(words, timeout) from None
        for thread in threads:
            thread.join()
        return code, *output  # type: ignore[return-value]


@cache
def fork_server() -> ForkServer:
    """Return the server of this process, which is started when it is needed first."""
    return ForkServer()


def _write(descriptor: int, content: bytes) -> None:
    try:
        with open(descriptor, "wb") as file:
            file.write(content)
    except BrokenPipeError:
        pass  # the command does not read it


def _read(descriptor: int, output: list[bytes], place: int) -> None:
    with open(descriptor, "rb") as file:
        output[place] = file.read()


def _serve(requests: socket.socket) -> None:
    """Fork for every request; each has a supervisor that waits for the command."""
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    while True:
        message, descriptors, _flags, _address = socket.recv_fds(requests, _LARGEST_REQUEST, 4)
        if not message:
            return
        if os.fork() == 0:
            requests.close()
            signal.signal(signal.SIGCHLD, signal.SIG_DFL)
            _supervise(json.loads(message), descriptors)
            os._exit(0)
        for each in descriptors:
            os.close(each)


def _supervise(request: dict[str, object], descriptors: list[int]) -> None:
    pid = os.fork()
    if pid == 0:
        for place, each in enumerate(descriptors[:3]):
            os.dup2(each, place)
        for each in descriptors:
            os.close(each)
        _open_streams()
        os._exit(_command(request))
    for each in descriptors[:3]:
        os.close(each)
    with socket.socket(fileno=descriptors[3]) as result:
        result.sendall(f"{pid}\n".encode())
        _, status = os.waitpid(pid, 0)
        result.sendall(f"{os.waitstatus_to_exitcode(status)}\n".encode())


def _open_streams() -> None:
    """Make the standard streams again, as at a start: those of the server are of other kinds."""
    coding, errors = sys.stdout.encoding, sys.stdout.errors
    sys.stdin = io.TextIOWrapper(io.BufferedReader(io.FileIO(0)), coding, sys.stdin.errors)
    sys.stdout = io.TextIOWrapper(io.BufferedWriter(io.FileIO(1, "w")), coding, errors)
    sys.stderr = io.TextIOWrapper(
        io.BufferedWriter(io.FileIO(2, "w")), coding, "backslashreplace", line_buffering=True
    )
    sys.__stdin__, sys.__stdout__, sys.__stderr__ = sys.stdin, sys.stdout, sys.stderr  # type: ignore[misc]


def _command(request: dict[str, object]) -> int:
    """Be the program: the same words, folder and environment, to the end of its threads."""
    from willow_cart.cli.main import main

    os.chdir(str(request["cwd"]))
    os.environ.clear()
    os.environ.update(request["env"])  # type: ignore[call-overload]
    time.tzset()
    words = request["words"]
    assert isinstance(words, list)
    sys.argv = [str(Path(sys.modules["willow_cart"].__path__[0]) / "__main__.py"), *words]
    try:
        code = main(words)
    except SystemExit as error:
        code = error.code if isinstance(error.code, int) else int(bool(error.code))
    threading._shutdown()  # type: ignore[attr-defined]  # waits for threads, as at any end
    for stream in (sys.stdout, sys.stderr):
        try:
            stream.flush()
        except OSError:
            code = code or 120
    return code


if __name__ == "__main__":
    for name in _PRELOADED:
        import_module(name)
    gc.freeze()  # what is loaded is looked through by no command
    _serve(socket.socket(fileno=int(sys.argv[1])))
