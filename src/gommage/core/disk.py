"""How our files reach the disk, whole or not at all, and how files are read that anybody may have put there."""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
import secrets
import stat
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import BinaryIO

__all__ = ["PART", "WholeFile", "clear_left_overs", "read_file", "reason", "sync_folder", "whole_file", "write_whole"]

PART = ".part"
"""The end of the names of files that are being written."""
LONGEST_STEM = 160
"""Bytes of a file's own name that the name of its temporary begins with; file systems allow 255 in all."""


def reason(error: OSError, path: Path) -> str:
    """Return why a file or folder could not be read or written, in words that end no sentence."""
    folder = path if path.is_dir() else path.parent
    match error.errno:
        case errno.ENOSPC:
            return "the disk is full"
        case errno.EDQUOT:
            return "your share of the disk is used up"
        case errno.EFBIG:
            return "it grew larger than the system allows"
        case errno.EROFS:
            return f"{folder} is read-only"
        case errno.EACCES | errno.EPERM if folder.is_dir() and not os.access(folder, os.W_OK):
            return f"{folder} is read-only"
        case errno.ENAMETOOLONG:
            return "its name is too long"
        case _:
            return error.strerror or str(error)


# -- reading ----------------------------------------------------------------------------------------------------


def read_file(path: Path, most_bytes: int) -> bytes:
    """Return what is in a file.

    Raises
    ------
    OSError
        From the file system; also, without waiting, for what is not a plain file (a pipe, a device) and for a file that
        is larger than `most_bytes`.
    """
    descriptor = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_NOCTTY | os.O_CLOEXEC)
    with open(descriptor, "rb") as file:
        status = os.fstat(descriptor)
        if stat.S_ISDIR(status.st_mode):
            raise IsADirectoryError(errno.EISDIR, os.strerror(errno.EISDIR), str(path))
        if not stat.S_ISREG(status.st_mode):
            raise OSError(errno.EINVAL, "it is a pipe or a device, not a file", str(path))
        if status.st_size > most_bytes:
            sizes = f"{status.st_size // 2**20} MB, and {most_bytes // 2**20} MB are the most"
            raise OSError(errno.EINVAL, f"it is too large ({sizes})", str(path))
        return file.read(most_bytes)


# -- writing ----------------------------------------------------------------------------------------------------


class WholeFile:
    """A file that is written under a random name of its own and takes its name when it is whole.

    Parameters
    ----------
    path : Path
        Its folder must exist. What is there is replaced; a link is replaced, never followed.

    Attributes
    ----------
    file : BinaryIO
        To be written to.

    Raises
    ------
    OSError
        From the file system.
    """

    def __init__(self, path: Path) -> None:
        self._path = path
        self._temporary = path.with_name(f".{_stem(path.name)}.{secrets.token_hex(8)}{PART}")
        flags = os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
        self.file: BinaryIO = open(os.open(self._temporary, flags, 0o666), "w+b", buffering=0)  # noqa: SIM115
        # a file system without locks takes left-overs of a living process for those of a dead one, and no more
        with contextlib.suppress(OSError):
            fcntl.flock(self.file, fcntl.LOCK_EX | fcntl.LOCK_NB)

    def keep(self) -> None:
        """Give it its name, once all of it is on the disk; what was there before stays if that fails."""
        try:
            os.fsync(self.file.fileno())
            os.replace(self._temporary, self._path)
        except BaseException:
            self.drop()
            raise
        self.file.close()
        sync_folder(self._path.parent)

    def drop(self) -> None:
        """Throw it away."""
        self.file.close()
        with contextlib.suppress(OSError):
            os.unlink(self._temporary)


@contextlib.contextmanager
def whole_file(path: Path) -> Iterator[BinaryIO]:
    """Give a file to write to; it takes its name at the end, and is thrown away if anything fails."""
    whole = WholeFile(path)
    try:
        yield whole.file
    except BaseException:
        whole.drop()
        raise
    whole.keep()


def write_whole(path: Path, data: bytes | memoryview) -> None:
    """Write a file so that, whatever happens, either the old or the new one is there whole.

    Raises
    ------
    OSError
        From the file system; the old file is then untouched.
    """
    with whole_file(path) as file:
        rest = memoryview(data)
        while rest:
            rest = rest[os.write(file.fileno(), rest) :]


def sync_folder(folder: Path) -> None:
    """Have the names in a folder reach the disk, where its file system can be told to."""
    with contextlib.suppress(OSError):
        descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        try:
            os.fsync(descriptor)
        finally:
            os.close(descriptor)


def _stem(name: str) -> str:
    """Return what of a file's name is in the name of its temporary."""
    return name.encode(errors="surrogateescape")[:LONGEST_STEM].decode(errors="ignore")


def clear_left_overs(folder: Path, names: Iterable[str]) -> None:
    """Remove what was left of files when the process that wrote them was killed; what is being written stays."""
    stems = {_stem(name) for name in names}
    with contextlib.suppress(OSError), os.scandir(folder) as entries:
        parts = [one for one in entries if one.name.startswith(".") and one.name.endswith(PART)]
        for one in parts:
            if one.name[1:].rsplit(".", 2)[0] in stems:
                with contextlib.suppress(OSError):
                    _unlink_unheld(one.path)


def _unlink_unheld(name: str) -> None:
    if not stat.S_ISREG(os.lstat(name).st_mode):
        return
    descriptor = os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        os.unlink(name)
    finally:
        os.close(descriptor)
