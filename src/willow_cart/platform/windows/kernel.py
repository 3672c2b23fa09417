"""The calls of the kernel of Windows; on another system each answers as if it knew nothing."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager

_HIDDEN = 0x2  # FILE_ATTRIBUTE_HIDDEN
_VIRTUAL_TERMINAL = 0x4  # ENABLE_VIRTUAL_TERMINAL_PROCESSING
_PREFETCHING = (
    r"SYSTEM\CurrentControlSet\Control\Session Manager\Memory Management\PrefetchParameters"
)
_STANDARD_HANDLES = {1: -11, 2: -12}  # STD_OUTPUT_HANDLE, STD_ERROR_HANDLE

if sys.platform == "win32":
    import ctypes
    import msvcrt
    import winreg

    def path_of(descriptor: int) -> str:
        """Return the path of an open file (GetFinalPathNameByHandle).

        Raises:
            OSError: it has none.
        """
        room = ctypes.create_unicode_buffer(1 << 15)
        handle = ctypes.c_void_p(msvcrt.get_osfhandle(descriptor))
        if not ctypes.windll.kernel32.GetFinalPathNameByHandleW(handle, room, len(room), 0):
            raise ctypes.WinError()
        return room.value

    def kind_of_disk(root: str) -> str:
        """Return the kind of a disk, such as `NTFS`; empty if unknown (GetVolumeInformation)."""
        kind = ctypes.create_unicode_buffer(64)
        told = ctypes.windll.kernel32.GetVolumeInformationW(
            root, None, 0, None, None, None, kind, len(kind)
        )
        return kind.value if told else ""

    def boot_number() -> int | None:
        """Return how often the system was started; None if unknown.

        It counts for its own prefetching, in the registry.
        """
        try:
            with winreg.OpenKey(winreg.HKEY_LOCAL_MACHINE, _PREFETCHING) as key:
                return int(winreg.QueryValueEx(key, "BootId")[0])
        except (OSError, ValueError, TypeError):
            return None

    def hide(path: str) -> None:
        """Hide a folder (SetFileAttributes)."""
        ctypes.windll.kernel32.SetFileAttributesW(path, _HIDDEN)

    def turn_on_styles(descriptor: int) -> bool:
        """Have a console understand escape sequences; return whether it does (SetConsoleMode)."""
        kernel32 = ctypes.windll.kernel32
        handle = kernel32.GetStdHandle(_STANDARD_HANDLES[descriptor])
        mode = ctypes.c_uint32()
        if not kernel32.GetConsoleMode(handle, ctypes.byref(mode)):
            return False
        return bool(kernel32.SetConsoleMode(handle, mode.value | _VIRTUAL_TERMINAL))

    @contextmanager
    def handling_console_events(handle: Callable[[int], bool]) -> Iterator[None]:
        """Have events of the console handled, in a thread of its own (SetConsoleCtrlHandler)."""
        handler = ctypes.WINFUNCTYPE(ctypes.c_bool, ctypes.c_uint32)(handle)
        ctypes.windll.kernel32.SetConsoleCtrlHandler(handler, True)
        try:
            yield
        finally:
            ctypes.windll.kernel32.SetConsoleCtrlHandler(handler, False)

else:
    import os

    def path_of(descriptor: int) -> str:
        """Return the path of an open file."""
        return os.path.realpath(f"/dev/fd/{descriptor}")

    def kind_of_disk(root: str) -> str:  # noqa: ARG001
        """Return an empty text, for unknown."""
        return ""

    def boot_number() -> int | None:
        """Return None, for unknown."""
        return None

    def hide(path: str) -> None:
        """Do nothing."""

    def turn_on_styles(descriptor: int) -> bool:  # noqa: ARG001
        """Return False: there is no console."""
        return False

    @contextmanager
    def handling_console_events(
        handle: Callable[[int], bool],  # noqa: ARG001
    ) -> Iterator[None]:
        """Do nothing: there are no such events."""
        yield
