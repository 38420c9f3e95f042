"""One's last projects, each with its picture.

Kept beside the program's state, read and written beside the interface.
"""

from __future__ import annotations

import hashlib
import time
from dataclasses import dataclass
from pathlib import Path

import msgspec
import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from gommage.core.disk import read_file, write_whole
from gommage.core.document import store
from gommage.core.picture.writing import write_still
from gommage.errors import RenderError

__all__ = ["Recent", "RecentFiles"]

KEPT = 8
LARGEST_LIST = 2**20
FILE_NAME = "recent.json"


class _Entry(Struct, frozen=True):
    """A line of the file."""

    folder: str
    opened_s: float


@dataclass(frozen=True, slots=True)
class Recent:
    """A project that was open before: its folder, and its picture if there is one."""

    folder: Path
    picture: Path | None


class RecentFiles:
    """The list on disk. What cannot be read or written is left out: it is a convenience."""

    def __init__(self, root: Path) -> None:
        self._root = root

    def _entries(self) -> list[_Entry]:
        try:
            return msgspec.json.decode(read_file(self._root / FILE_NAME, LARGEST_LIST), type=list[_Entry])
        except (OSError, msgspec.MsgspecError, RecursionError):
            return []

    def _picture_of(self, folder: Path) -> Path:
        name = hashlib.sha256(str(folder).encode()).hexdigest()[:16]
        return self._root / "pictures" / f"{name}.png"

    def read(self) -> tuple[Recent, ...]:
        """Return the projects that are still there, the last one first."""
        found = []
        for entry in sorted(self._entries(), key=lambda one: -one.opened_s):
            folder, picture = Path(entry.folder), self._picture_of(Path(entry.folder))
            if (folder / store.FILE_NAME).is_file():
                found.append(Recent(folder, picture if picture.is_file() else None))
        return tuple(found)

    def note(self, folder: Path, picture: NDArray[np.uint8] | None = None) -> None:
        """Put a project first, with a picture (h, w, 4) as the screen has it."""
        folder = folder.absolute()
        others = [entry for entry in self._entries() if entry.folder != str(folder)]
        entries = [_Entry(str(folder), time.time()), *others][:KEPT]
        try:
            self._root.mkdir(parents=True, exist_ok=True)
            write_whole(self._root / FILE_NAME, msgspec.json.encode(entries))
            if picture is not None:
                path = self._picture_of(folder)
                path.parent.mkdir(parents=True, exist_ok=True)
                write_still(path, np.ascontiguousarray(picture[..., 2::-1]), bits=8)
        except (OSError, RenderError):
            return
