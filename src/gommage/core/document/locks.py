"""Who has a project open: so that two windows do not overwrite each other's work."""

from __future__ import annotations

import contextlib
import fcntl
import getpass
import os
import socket
import time
from pathlib import Path

from gommage.core.disk import read_file
from gommage.core.document.store import decoded, encoded
from gommage.errors import ProjectInUseError

__all__ = ["ProjectLock"]

NAME = ".open"
LARGEST = 4096


class ProjectLock:
    """Held while a project is open; the system takes it back when the process ends, however it ends.

    Where a folder cannot be written, or its file system knows no locks, nobody holds it and nothing is in the way.

    Parameters
    ----------
    folder : Path
        The project's.
    takes_over : bool
        Whether to take it from who has it; that one sees it before its next save, by `is_mine`.

    Raises
    ------
    ProjectInUseError
        If somebody has it open and it is not to be taken over.
    """

    def __init__(self, folder: Path, *, takes_over: bool = False) -> None:
        self.folder = folder
        self._path = folder / NAME
        self._descriptor = -1
        if takes_over:
            with contextlib.suppress(OSError):
                self._path.unlink()
        try:
            while self._descriptor < 0:
                self._take()
        except BlockingIOError as error:
            self._close()
            raise ProjectInUseError(f"{folder.name} is open in another Gommage{self._who()}.") from error
        except OSError:
            self._close()

    def _take(self) -> None:
        flags = os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
        self._descriptor = os.open(self._path, flags, 0o666)
        fcntl.flock(self._descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        if not self.is_mine():  # it was given back between the two lines above
            self._close()
            return
        os.ftruncate(self._descriptor, 0)
        os.write(self._descriptor, encoded(_holder()))

    def _who(self) -> str:
        try:
            holder = decoded(read_file(self._path, LARGEST))
            return f": {holder['user']} on {holder['host']}, process {holder['process']}, since {holder['since']}"
        except (OSError, ValueError, LookupError, TypeError):
            return ""

    def is_mine(self) -> bool:
        """Whether nobody has taken it over; True as well where there are no locks."""
        if self._descriptor < 0:
            return True
        try:
            return os.path.samestat(os.stat(self._path, follow_symlinks=False), os.fstat(self._descriptor))
        except OSError:
            return os.fstat(self._descriptor).st_nlink > 0  # out of reach, or gone

    def release(self) -> None:
        """Give it back."""
        if self._descriptor >= 0 and self.is_mine():
            with contextlib.suppress(OSError):
                self._path.unlink()
        self._close()

    def _close(self) -> None:
        if self._descriptor >= 0:
            os.close(self._descriptor)
        self._descriptor = -1


def _holder() -> dict[str, object]:
    try:
        user = getpass.getuser()
    except (OSError, KeyError):
        user = "somebody"
    return {
        "user": user, "host": socket.gethostname(), "process": os.getpid(), "since": time.strftime("%Y-%m-%d %H:%M"),
    }  # fmt: skip
