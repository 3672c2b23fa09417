"""Zip archives (PKWARE, APPNOTE 6.3), those beyond 4 GiB and encrypted ones included."""

from __future__ import annotations

import stat
import zipfile
import zlib
from collections.abc import Generator, Iterator
from contextlib import contextmanager

from willow_cart.access.inside import moment_of_member, path_of_member
from willow_cart.archives.members import Damaged, Member, Readable, Sort

_UNIX = 3
_ENCRYPTED = 1
_AES = 99


def members_of_zip(path: str, password: bytes | None) -> Generator[Member]:
    """The members of a zip archive, in the order of its contents.

    Args:
        path: where it lies.
        password: of its encrypted members; None for none.

    Raises:
        Damaged: it cannot be read.
    """
    with _reading(), _open(path) as archive:
        for info in archive.infolist():
            opener = _Opener(archive, info, password)
            yield Member(path_of_member(info), _sort_of(info), moment_of_member(info), "", opener)


def is_encrypted(info: zipfile.ZipInfo) -> bool:
    """Whether a password is needed for a member."""
    return bool(info.flag_bits & _ENCRYPTED)


def _open(path: str) -> zipfile.ZipFile:
    archive = zipfile.ZipFile(path)
    if not any(info.compress_type == _AES for info in archive.infolist()):
        return archive
    archive.close()
    import pyzipper  # encryption by AES, which the standard library lacks; few need it

    aes: zipfile.ZipFile = pyzipper.AESZipFile(path)
    return aes


def _sort_of(info: zipfile.ZipInfo) -> Sort:
    mode = stat.S_IFMT(info.external_attr >> 16) if info.create_system == _UNIX else 0
    if path_of_member(info).endswith("/") or mode == stat.S_IFDIR:
        return Sort.FOLDER
    if mode == stat.S_IFLNK:
        return Sort.LINK
    return Sort.FILE if mode in (0, stat.S_IFREG) else Sort.DEVICE


class _Opener:
    """Opens a member, and has what goes wrong in it told in one way."""

    def __init__(
        self, archive: zipfile.ZipFile, info: zipfile.ZipInfo, password: bytes | None
    ) -> None:
        self._archive = archive
        self._info = info
        self._password = password
        self._file: Readable | None = None

    def __call__(self) -> _Opener:
        if is_encrypted(self._info) and self._password is None:
            raise Damaged("it is encrypted; name its password with --archive-password env:NAME")
        with _reading():
            self._file = self._archive.open(self._info, pwd=self._password)
        return self

    def read(self, size: int) -> bytes:
        assert self._file is not None, "it is open"
        with _reading():
            return self._file.read(size)


@contextmanager
def _reading() -> Iterator[None]:
    try:
        yield
    except NotImplementedError:
        raise Damaged("it is packed in a way that is not known here") from None
    except EOFError:
        raise Damaged("it ends too soon") from None
    except RuntimeError as error:
        if "password" not in str(error).lower():
            raise
        raise Damaged("its password is another one") from None
    except (zipfile.BadZipFile, zlib.error, ValueError) as error:
        raise Damaged(f"it cannot be unpacked: {str(error).rstrip('.').lower()}") from None
    except OSError as error:
        if error.errno is not None:
            raise
        raise Damaged(f"it cannot be unpacked: {error}") from None
    except Exception as error:
        if not type(error).__name__.endswith("BadZipFile"):  # that of the AES module is its own
            raise
        raise Damaged(f"it cannot be unpacked: {str(error).rstrip('.').lower()}") from None
