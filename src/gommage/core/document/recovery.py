"""Reading the journals that a crash left behind: all of them, each as far as it can be read."""

from __future__ import annotations

import contextlib
import copy
import fcntl
import os
import shutil
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from gommage.core.disk import read_file, reason
from gommage.core.document.journal import BASE, LOCK
from gommage.core.document.records import Project
from gommage.core.document.store import DAMAGED, LARGEST_FILE, decoded, from_plain
from gommage.errors import ProjectError

__all__ = ["LeftBehind", "Recovered", "left_behind", "recover", "throw_away"]

OLD_LINES = "edits.jsonl"
"""What the file of lines was called before each base had its own."""


@dataclass(frozen=True, slots=True)
class Recovered:
    """What a journal gave back.

    Attributes
    ----------
    project : Project
    saved_at, fingerprint, continues
        As in the journal's `Base`.
    edits : int
        How many edits of it were not saved.
    lost : int
        How many lines at its end could not be read.
    """

    project: Project
    saved_at: str
    fingerprint: str
    continues: str
    edits: int
    lost: int = 0


@dataclass(frozen=True, slots=True)
class LeftBehind:
    """A journal whose process is gone.

    Attributes
    ----------
    folder : Path
    name : str
        Of the project, or of its first shot if it was never saved; empty if it cannot be read.
    saved_at, continues
        As in the journal's `Base`.
    edited_s : float
        When the last edit was made, in seconds since 1970.
    edits : int
    fault : str
        Why nothing of it can be read; empty if it can.
    """

    folder: Path
    name: str
    saved_at: str
    continues: str
    edited_s: float
    edits: int
    fault: str = ""


@dataclass(frozen=True, slots=True)
class _Read:
    """A journal as it lies on the disk: its base, its whole lines, and where those are (nowhere: an empty path)."""

    base: dict[str, Any]
    lines: list[bytes]
    path: Path

    def text(self, name: str) -> str:
        """Return a text of the base, empty if there is none."""
        value = self.base.get(name)
        return value if isinstance(value, str) and "\0" not in value else ""

    @property
    def edits_before(self) -> int:
        """How many unsaved edits are in the base."""
        value = self.base.get("edits", 0)
        return value if isinstance(value, int) else 0


def _read(folder: Path) -> _Read:
    """Read a journal; a last line that was cut off is left out.

    Raises
    ------
    ProjectError
        If its base cannot be read.
    """
    try:
        base = decoded(read_file(folder / BASE, LARGEST_FILE))
        path = folder / os.path.basename(str(base.get("lines", OLD_LINES)))
        if not isinstance(base["project"], dict):
            raise TypeError("no project")
    except OSError as error:
        raise ProjectError(f"The recovery journal {folder} could not be read: {reason(error, folder)}.") from error
    except DAMAGED as error:
        raise ProjectError(f"The recovery journal {folder} is damaged: its {BASE} {_why(error)}.") from error
    try:
        text = read_file(path, LARGEST_FILE)
    except (OSError, ValueError):
        path, text = Path(), b""  # the base alone is better than nothing
    return _Read(base, text.split(b"\n")[:-1], path)


def _why(error: BaseException) -> str:
    return str(error) if type(error) is ValueError else "holds no project"


def recover(folder: Path) -> Recovered:
    """Read a journal, up to its last good line.

    Raises
    ------
    ProjectError
        If not even what its lines come on top of can be read.
    """
    read = _read(folder)
    readable = _operated(copy.deepcopy(read.base["project"]), read.lines)[1]
    low, high = 0, readable
    project = _project(read, high)
    if project is None:
        project = _project(read, 0)
        if project is None:
            from_plain(read.base["project"])  # says why
        while high - low > 1:  # each line left a whole project, so those that are good come first
            middle = (low + high) // 2
            found = _project(read, middle)
            low, high, project = (middle, high, found) if found is not None else (low, middle, project)
        high = low
    assert project is not None
    edits, lost = read.edits_before + high, len(read.lines) - high
    return Recovered(project, read.text("saved_at"), read.text("fingerprint"), read.text("continues"), edits, lost)


def _project(read: _Read, count: int) -> Project | None:
    """Return the project after so many lines, if it is one."""
    try:
        return from_plain(_operated(copy.deepcopy(read.base["project"]), read.lines[:count])[0])
    except ProjectError:
        return None


def _operated(plain: Any, lines: Iterable[bytes]) -> tuple[Any, int]:
    """Return plain data after lines of operations, and how many of those could be read; the data are changed."""
    count = 0
    for line in lines:
        try:
            for operation in decoded(line):
                plain = _apply(plain, operation)
        except DAMAGED:
            break
        count += 1
    return plain, count


def _apply(plain: Any, operation: dict[str, Any]) -> Any:
    if not operation["at"]:
        return operation["set"]
    *way, last = operation["at"]
    holder = plain
    for step in way:
        holder = holder[step]
    if "set" in operation:
        holder[last] = operation["set"]
    else:
        start, removed, items = operation["splice"]
        if not (0 <= start <= start + removed <= len(holder[last])):
            raise ValueError("a splice outside what is there")
        holder[last][start : start + removed] = items
    return plain


# -- finding ----------------------------------------------------------------------------------------------------


def left_behind(roots: Iterable[Path]) -> tuple[LeftBehind, ...]:
    """Return the journals below some folders whose process is gone, newest first, those that are damaged last.

    Those that hold no edit are removed. One whose work was taken up by another that is left behind, or alive, is not
    named: the other has all of it.
    """
    found, taken_up = [], set()
    for folder in _folders(roots):
        is_alive = _is_alive(folder)
        one = _described(folder)
        if one is None:
            continue
        if one.continues and not one.fault:
            taken_up.add(one.continues)
        if is_alive:
            continue
        if one.edits or one.fault:
            found.append(one)
        else:
            shutil.rmtree(folder, ignore_errors=True)
    found = [one for one in found if str(one.folder) not in taken_up]
    return tuple(sorted(found, key=lambda one: (bool(one.fault), -one.edited_s)))


def _folders(roots: Iterable[Path]) -> list[Path]:
    found: list[Path] = []
    for root in roots:
        with contextlib.suppress(OSError):
            found += root.iterdir()
    return found


def _is_alive(folder: Path) -> bool:
    try:
        descriptor = os.open(folder / LOCK, os.O_RDONLY | os.O_NONBLOCK | os.O_NOFOLLOW | os.O_CLOEXEC)
    except OSError:
        return False  # the lock is gone: nobody holds it
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return True
    except OSError:
        return False
    finally:
        os.close(descriptor)
    return False


def _described(folder: Path) -> LeftBehind | None:
    """Return what is to be said of a journal; None for what is none."""
    try:
        edited_s = (folder / BASE).stat().st_mtime
    except OSError:
        return None
    try:
        read = _read(folder)
    except ProjectError as error:
        return LeftBehind(folder, "", "", "", edited_s, 0, str(error))
    with contextlib.suppress(OSError):
        edited_s = max(edited_s, read.path.stat().st_mtime)
    saved_at, edits = read.text("saved_at"), read.edits_before + len(read.lines)
    fault = "" if edits or read.path.name else f"The edits of the recovery journal {folder} are gone."
    name = Path(saved_at).stem or _first_name(read.base["project"])
    return LeftBehind(folder, name, saved_at, read.text("continues"), edited_s, edits, fault)


def _first_name(plain: dict[str, Any]) -> str:
    try:
        return str(plain["shots"][0]["name"])[:80]
    except DAMAGED:
        return "untitled"


def throw_away(folder: Path, roots: Iterable[Path]) -> None:
    """Remove a journal that was left behind, and those below the same roots whose work it had taken up."""
    known = _folders(roots)
    while folder in known:
        known.remove(folder)
        try:
            before = Path(_read(folder).text("continues"))
        except ProjectError:
            before = Path()
        if not _is_alive(folder):
            shutil.rmtree(folder, ignore_errors=True)
        folder = before
