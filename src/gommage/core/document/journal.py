"""The recovery journal: every edit reaches the disk at once.

A journal is a folder with `base.json` (a whole project) and `edits.jsonl`, to which each edit adds one short
line: only what changed, found by identity, since projects share all that did not. A lock tells whether the
process that writes it is still alive.

A line is a list of operations on the plain data of the project: ``{"at": path, "set": value}`` or
``{"at": path, "splice": [start, removed, items]}``.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import queue
import shutil
import threading
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any, BinaryIO

from msgspec import Struct
from msgspec.structs import fields

from gommage.core.document.records import Project
from gommage.core.document.store import decoded, encoded, from_plain, to_plain, write_atomically
from gommage.errors import ProjectError

__all__ = ["Journal", "JournalWriter", "Recovered", "abandoned", "differences", "recover"]

Operation = dict[str, Any]
BASE, EDITS, LOCK = "base.json", "edits.jsonl", "lock"


def differences(old: object, new: object, at: tuple[str | int, ...] = ()) -> list[Operation]:
    """Return the operations that turn one record's plain data into another's. Shared parts cost nothing."""
    if old is new:
        return []
    if isinstance(old, Struct) and type(old) is type(new):
        found: list[Operation] = []
        for field in fields(old):
            inside = differences(getattr(old, field.name), getattr(new, field.name), (*at, field.encode_name))
            found.extend(inside)
        return found
    if isinstance(old, tuple) and isinstance(new, tuple):
        return _tuple_differences(old, new, at)
    if old == new:
        return []
    return [{"at": list(at), "set": to_plain(new)}]


def _tuple_differences(old: tuple[Any, ...], new: tuple[Any, ...], at: tuple[str | int, ...]) -> list[Operation]:
    start = 0
    while start < min(len(old), len(new)) and old[start] is new[start]:
        start += 1
    tail = 0
    while tail < min(len(old), len(new)) - start and old[-1 - tail] is new[-1 - tail]:
        tail += 1
    before, after = old[start : len(old) - tail], new[start : len(new) - tail]
    if len(before) == len(after):
        found: list[Operation] = []
        for index, (one, other) in enumerate(zip(before, after, strict=True)):
            found.extend(differences(one, other, (*at, start + index)))
        return found
    return [{"at": list(at), "splice": [start, len(before), to_plain(after)]}]


def _apply(plain: Any, operation: Operation) -> Any:
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
        holder[last][start : start + removed] = items
    return plain


class Journal:
    """Write every edit of one open project to a folder of its own.

    Parameters
    ----------
    folder : Path
        Made if need be; it belongs to this journal alone.
    project : Project
        What the project is now.
    saved_at : str
        Path of the project's own folder, empty if it was never saved.

    Raises
    ------
    ProjectError
        If the folder cannot be written.
    """

    def __init__(self, folder: Path, project: Project, saved_at: str = "") -> None:
        self.folder = folder
        self._present = project
        self._syncing = threading.Event()
        try:
            folder.mkdir(parents=True, exist_ok=True)
            self._lock = (folder / LOCK).open("wb")
            fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
            self._edits: BinaryIO = (folder / EDITS).open("ab")
        except OSError as error:
            raise ProjectError(f"Recovery is off: {folder} could not be written ({error.strerror}).") from error
        self.rebase(project, saved_at)

    def rebase(self, project: Project, saved_at: str = "") -> None:
        """Begin anew from a project (after opening or saving)."""
        base = {"saved_at": saved_at, "project": project}
        try:
            write_atomically(self.folder / BASE, encoded(base))
            self._edits.truncate(0)
        except OSError as error:
            raise ProjectError(f"Recovery is off: {self.folder} could not be written ({error.strerror}).") from error
        self._present = project

    def record(self, project: Project) -> None:
        """Write what changed since the last call. Returns when the system has it; a thread syncs the disk."""
        operations = differences(self._present, project)
        if not operations:
            return
        try:
            self._edits.write(encoded(operations) + b"\n")
            self._edits.flush()
        except OSError as error:
            raise ProjectError(
                f"The last edit could not be written to the recovery journal: {error.strerror}. "
                f"It is in the open project; make room on the disk and save."
            ) from error
        self._present = project
        self._sync_soon()

    def _sync_soon(self) -> None:
        if self._syncing.is_set():
            return
        self._syncing.set()

        def sync() -> None:
            self._syncing.clear()
            with contextlib.suppress(OSError, ValueError):  # closed meanwhile: then nothing is left to sync
                os.fdatasync(self._edits.fileno())

        threading.Thread(target=sync, name="journal-sync", daemon=True).start()

    def close(self, *, keep: bool = False) -> None:
        """Stop writing; the folder goes unless it is to be kept."""
        self._edits.close()
        if not keep:
            shutil.rmtree(self.folder, ignore_errors=True)
        self._lock.close()


class JournalWriter:
    """Write a journal on a thread of its own, in order, so that no edit waits for the disk.

    Parameters
    ----------
    folder : Path
    project : Project
    saved_at : str
        As for `Journal`.
    failed : callable
        Called on the writer's thread with a sentence when something could not be written.
    """

    def __init__(
        self, folder: Path, project: Project, saved_at: str = "", failed: Callable[[str], None] = lambda words: None
    ) -> None:
        self.folder = folder
        self._failed = failed
        self._journal: Journal | None = None
        self._work: queue.SimpleQueue[Callable[[], None] | None] = queue.SimpleQueue()
        self._thread = threading.Thread(target=self._run, name="journal", daemon=True)
        self._thread.start()
        self._work.put(lambda: self._open(project, saved_at))

    def record(self, project: Project) -> None:
        """Write what changed; returns at once."""
        self._work.put(lambda: self._with(lambda journal: journal.record(project)))

    def rebase(self, project: Project, saved_at: str = "") -> None:
        """Begin anew from a project (after saving); returns at once."""
        self._work.put(lambda: self._with(lambda journal: journal.rebase(project, saved_at)))

    def flush(self, timeout_s: float = 10.0) -> bool:
        """Wait until all that was asked for is written; returns whether it is."""
        done = threading.Event()
        self._work.put(done.set)
        return done.wait(timeout_s)

    def close(self, *, keep: bool = False, timeout_s: float = 10.0) -> None:
        """Write what is left and stop; the folder goes unless it is to be kept."""
        self._work.put(lambda: self._with(lambda journal: journal.close(keep=keep)))
        self._work.put(None)
        self._thread.join(timeout_s)

    def _open(self, project: Project, saved_at: str) -> None:
        self._journal = Journal(self.folder, project, saved_at)

    def _with(self, act: Callable[[Journal], None]) -> None:
        if self._journal is not None:
            act(self._journal)

    def _run(self) -> None:
        while (act := self._work.get()) is not None:
            try:
                act()
            except ProjectError as error:
                self._failed(str(error))


@dataclass(frozen=True, slots=True)
class Recovered:
    """What a journal gave back: the project, where it had been saved, how many edits came after that."""

    project: Project
    saved_at: str
    edits: int


def recover(folder: Path) -> Recovered:
    """Read a journal. A last line that was cut off is left out.

    Raises
    ------
    ProjectError
        If the journal is damaged beyond that.
    """
    try:
        base = decoded((folder / BASE).read_bytes())
        lines = (folder / EDITS).read_bytes().split(b"\n")
        plain, count = base["project"], 0
        for line in lines[:-1]:
            for operation in decoded(line):
                plain = _apply(plain, operation)
            count += 1
        return Recovered(from_plain(plain), base["saved_at"], count)
    except (OSError, ValueError, KeyError, IndexError, TypeError) as error:
        raise ProjectError(f"The recovery journal {folder} is damaged ({error}).") from error


def abandoned(root: Path) -> list[Path]:
    """Return the journals below a folder that hold edits and whose process is gone, newest first."""
    found = []
    for folder in root.iterdir() if root.is_dir() else ():
        try:
            with (folder / LOCK).open("rb") as lock:
                fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
            if (folder / EDITS).stat().st_size:
                found.append(folder)
        except OSError:
            continue  # alive, or no journal
    return sorted(found, key=lambda folder: (folder / EDITS).stat().st_mtime, reverse=True)
