"""The program: `willow-cart`, and `python -m willow_cart`."""

import gc
import os
import signal
import sys
from contextlib import suppress
from types import FrameType

# Next to nothing of what is loaded becomes garbage, so the first look for it comes late: by
# default Python looks dozens of times before a command begins.
gc.set_threshold(10_000)


_INTERRUPTED = b"willow-cart: interrupted; nothing was changed\n"


def _leave(_number: int, _frame: FrameType | None) -> None:
    """End at once: the modules that report an interrupt are not loaded yet."""
    os.write(2, _INTERRUPTED)
    os._exit(130)


# The first is ignored in what a shell runs in the background, and stays so.
_STOPS = [
    number
    for number in (signal.SIGINT, signal.SIGTERM)
    if signal.getsignal(number) in (signal.default_int_handler, signal.SIG_DFL)
]
for _each in _STOPS:
    signal.signal(_each, _leave)

from willow_cart.cli.main import main  # noqa: E402


def _speak_utf8() -> None:
    """Start over in UTF-8 if the locale has no letters beyond ASCII, which names of files have."""
    if sys.getfilesystemencoding() == "utf-8":
        return
    words = [sys.executable, *sys.orig_argv[1:]]
    os.execve(sys.executable, words, {**os.environ, "PYTHONUTF8": "1"})  # noqa: S606


def start() -> None:
    """Run the command that was typed, and exit with its code."""
    code = None
    try:
        _speak_utf8()
        for number in _STOPS:
            signal.signal(number, signal.default_int_handler)
        try:
            code = main()
        except SystemExit as error:  # of the parser, after a help page or a mistyped word
            code = error.code if isinstance(error.code, int) else 0
        for number in _STOPS:
            signal.signal(number, signal.SIG_IGN)  # the command has its result
    except KeyboardInterrupt:  # right before or after `main`, which reports its own
        for number in _STOPS:
            signal.signal(number, signal.SIG_IGN)
        if code is None:
            os.write(2, _INTERRUPTED)
            code = 130
    if code == 130:
        # The interpreter would end by the signal instead, if that came while it read code.
        for stream in (sys.stdout, sys.stderr):
            with suppress(OSError, ValueError):
                stream.flush()
        os._exit(code)
    gc.freeze()  # all memory is given back at once, without a last look for garbage
    sys.exit(code)


if __name__ == "__main__":
    start()
