"""The recovery journal: every edit reaches the disk at once.

A journal is a folder with `base.json` (a whole project, and the name of the file of lines that belongs to it) and that
file, to which each edit adds one short line: only what changed, found by identity, since projects share all that did
not. A new base has a new file of lines, so that at no moment lines can meet a base they were not written for. A lock
tells whether the process that writes it is still alive. `recovery` reads it.

A line is a list of operations on the plain data of the project: ``{"at": path, "set": value}`` or
``{"at": path, "splice": [start, removed, items]}``.
"""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
import queue
import secrets
import shutil
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from msgspec import Struct
from msgspec.structs import fields

from gommage.core.disk import clear_left_overs, reason, sync_folder, write_whole
from gommage.core.document.records import Project
from gommage.core.document.store import encoded, to_plain

__all__ = ["BASE", "LOCK", "Base", "Journal", "JournalWriter", "differences"]

Operation = dict[str, Any]
BASE, LOCK = "base.json", "lock"
RETRY_S = 2.0
"""A journal that could not be written is tried again so often, and one that is not used is looked after."""


@dataclass(frozen=True, slots=True)
class Base:
    """What a journal's lines come on top of.

    Attributes
    ----------
    project : Project
    saved_at : str
        The project's own folder, empty if it was never saved.
    fingerprint : str
        Of the file there, as it was opened or saved; see `store.save`.
    continues : str
        The journal's folder from which this work was taken up, until the work is saved.
    edits : int
        How many unsaved edits are in the project already.
    """

    project: Project
    saved_at: str = ""
    fingerprint: str = ""
    continues: str = ""
    edits: int = 0


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


class Journal:
    """Write every edit of one open project to a folder of its own.

    Parameters
    ----------
    folder : Path
        Made if need be; it belongs to this journal alone.
    base : Base
        What the project is now.

    Attributes
    ----------
    present : Project
        The project as the disk has it.

    Raises
    ------
    OSError
        If it cannot be written; so do the methods. What is on the disk can be read again whatever fails.
    """

    def __init__(self, folder: Path, base: Base) -> None:
        self.folder = folder
        self._syncing = threading.Event()
        self._is_spoilt = False
        self._lines = self._end = -1
        self._name = ""
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        flags = os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC
        self._lock = os.open(folder / LOCK, flags, 0o600)
        try:
            fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
            self.rebase(base)
            sync_folder(folder.parent)
        except BaseException:
            self.close(keep=True)
            raise

    def rebase(self, base: Base) -> None:
        """Begin anew from a project (after opening or saving)."""
        name = f"edits-{secrets.token_hex(6)}.jsonl"
        flags = os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_APPEND | os.O_NOFOLLOW | os.O_CLOEXEC
        lines = os.open(self.folder / name, flags, 0o600)
        plain = {
            "saved_at": base.saved_at, "fingerprint": base.fingerprint, "continues": base.continues,
            "edits": base.edits, "lines": name, "project": base.project,
        }  # fmt: skip
        try:
            clear_left_overs(self.folder, [BASE])
            write_whole(self.folder / BASE, encoded(plain))  # from here on the old lines belong to nothing
        except BaseException:
            os.close(lines)
            with contextlib.suppress(OSError):
                os.unlink(self.folder / name)
            raise
        old, self._lines, self._end, self._name = self._lines, lines, 0, name
        self._base, self.present, self._count, self._is_spoilt = base, base.project, 0, False
        if old >= 0:
            os.close(old)
        for path in self.folder.glob("edits-*.jsonl"):
            if path.name != name:
                with contextlib.suppress(OSError):
                    path.unlink()

    @property
    def edits(self) -> int:
        """How many edits are in it that are not saved."""
        return self._base.edits + self._count

    def is_there(self) -> bool:
        """Whether its files are still where they were."""
        try:
            there = os.stat(self.folder / self._name)
            return os.path.samestat(there, os.fstat(self._lines)) and (self.folder / BASE).exists()
        except OSError:
            return False

    def record(self, project: Project) -> None:
        """Write what changed since the last call. Returns when the system has it; a thread syncs the disk."""
        if self._is_spoilt:
            self.rebase(replace(self._base, project=project, edits=self.edits + (project is not self.present)))
            return
        operations = differences(self.present, project)
        if not operations:
            return
        line = encoded(operations) + b"\n"
        written = 0
        try:
            while written < len(line):
                written += os.write(self._lines, line[written:])
        except OSError:
            self._is_spoilt = True  # a line that is half there would spoil the next one
            os.ftruncate(self._lines, self._end)
            self._is_spoilt = False
            raise
        self._end += len(line)
        self.present = project
        self._count += 1
        self._sync_soon()

    def _sync_soon(self) -> None:
        if self._syncing.is_set():
            return
        self._syncing.set()
        lines = os.dup(self._lines)  # a new base may close the old lines meanwhile

        def sync() -> None:
            self._syncing.clear()
            try:
                os.fdatasync(lines)
            except OSError:
                self._is_spoilt = True  # what the system held for the disk may be gone
            finally:
                os.close(lines)

        threading.Thread(target=sync, name="journal-sync", daemon=True).start()

    def close(self, *, keep: bool = False) -> None:
        """Stop writing; the folder goes unless it is to be kept."""
        if not keep:
            shutil.rmtree(self.folder, ignore_errors=True)
        for descriptor in (self._lines, self._lock):
            if descriptor >= 0:
                os.close(descriptor)
        self._lines = self._lock = -1


class JournalWriter:
    """Write a journal on a thread of its own, in order, so that no edit waits for the disk.

    What cannot be written is said once and tried again until it can; if the journal is taken away, another is begun.

    Parameters
    ----------
    roots : tuple of Path
        Where journals are kept: the first of them that can be written.
    base : Base
    told : callable
        Called on the writer's thread with a sentence, and whether it is about something that failed.
    """

    def __init__(
        self, roots: tuple[Path, ...], base: Base, told: Callable[[str, bool], None] = lambda words, is_fault: None
    ) -> None:
        self._roots = roots
        self._told = told
        self._journal: Journal | None = None
        self._base = base
        self._present = base.project
        self._is_behind = True
        self._has_base = True
        self._has_failed = False
        self._work: queue.SimpleQueue[Callable[[], None]] = queue.SimpleQueue()
        self._is_closing = False
        self._thread = threading.Thread(target=self._run, name="journal", daemon=True)
        self._thread.start()

    @property
    def folder(self) -> Path | None:
        """Where the journal is; None while there is none."""
        return self._journal.folder if self._journal is not None else None

    def record(self, project: Project) -> None:
        """Write what changed; returns at once."""
        self._work.put(lambda: self._take(project))

    def rebase(self, base: Base) -> None:
        """Begin anew from a project (after saving); returns at once."""
        self._work.put(lambda: self._take_base(base))

    def flush(self, timeout_s: float = 10.0) -> bool:
        """Wait until all that was asked for has been tried; returns whether it is written."""
        done = threading.Event()
        self._work.put(done.set)
        return done.wait(timeout_s) and not self._is_behind

    def close(self, *, keep: bool = False, timeout_s: float = 10.0) -> None:
        """Write what is left and stop; the folder goes unless it is to be kept."""
        self._work.put(lambda: self._stop(keep))
        self._thread.join(timeout_s)

    # -- on the thread --------------------------------------------------------------------------------------

    def _run(self) -> None:
        self._try_to(self._catch_up)
        while not self._is_closing:
            try:
                act = self._work.get(timeout=RETRY_S)
            except queue.Empty:
                act = self._look_after
            self._try_to(act)

    def _try_to(self, act: Callable[[], None]) -> None:
        try:
            act()
        except OSError as error:
            self._failed(error)

    def _take(self, project: Project) -> None:
        self._present, self._is_behind = project, True
        self._catch_up()

    def _take_base(self, base: Base) -> None:
        self._base, self._has_base = base, False
        self._take(base.project)

    def _look_after(self) -> None:
        if self._is_behind or self._journal is None or not self._journal.is_there():
            self._catch_up()

    def _catch_up(self) -> None:
        """Bring the disk to what the project is now."""
        lost = self._journal if self._journal is not None and not self._journal.is_there() else None
        if lost is not None:
            edits = lost.edits + (self._present is not lost.present)
            self._base = replace(self._base, project=self._present, edits=edits)
            self._journal = None
            lost.close(keep=True)
        if self._journal is None:
            self._journal = self._begun()
        elif not self._has_base:
            self._journal.rebase(self._base)
        self._has_base = True
        self._journal.record(self._present)
        self._is_behind = False
        if lost is not None:
            self._told(f"The recovery journal {lost.folder} was deleted. A new one is {self._journal.folder}.", True)
        elif self._has_failed:
            self._told("The recovery journal can be written again, and has everything.", False)
        self._has_failed = False

    def _begun(self) -> Journal:
        """Return a new journal in the first place that can be written."""
        fault: OSError = FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT))
        for root in self._roots:
            name = f"{time.strftime('%Y%m%d-%H%M%S')}-{os.getpid()}-{secrets.token_hex(3)}"
            try:
                root.mkdir(mode=0o700, parents=True, exist_ok=True)
                if root.lstat().st_uid != os.getuid() or root.is_symlink():
                    raise PermissionError(errno.EACCES, "it belongs to somebody else", str(root))
                return Journal(root / name, self._base)
            except OSError as error:
                fault = error
        raise fault

    def _failed(self, error: OSError) -> None:
        if not self._has_failed:
            where = self._journal.folder if self._journal is not None else self._roots[0]
            self._told(
                f"The recovery journal could not be written: {reason(error, where)}. "
                f"Your edits are in the open project alone; make room and save it.", True,
            )  # fmt: skip
        self._has_failed = True

    def _stop(self, keep: bool) -> None:
        self._is_closing = True
        if self._journal is not None:
            self._journal.close(keep=keep)
