"""Kills: a forked process works on a journal and saves, and dies at a chosen call or at a random moment."""

from __future__ import annotations

import os
import shutil
import signal
import struct
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from benchmarks.durability.subjects import stroke
from gommage.core.document import Project, edits, store
from gommage.core.document.journal import Base, Journal
from gommage.core.document.recovery import left_behind, recover
from gommage.errors import ProjectError

__all__ = ["Kills", "aimed_kills", "kill", "random_kills", "steps_of"]

WATCHED = ("open", "write", "fsync", "fdatasync", "ftruncate", "replace", "rename", "unlink", "mkdir", "close")
"""What changes a file, or what a file's change waits for."""
STROKES, SAVE_EVERY = 12, 3


@dataclass
class Kills:
    """What kills did: how many, how many edits had been told of, and what went wrong, in words."""

    count: int = 0
    edits: int = 0
    faults: list[str] = field(default_factory=list)


def work(project: Project, root: Path, tell: Callable[[int], None], strokes: int = STROKES) -> None:
    """Lay strokes, save after every third as the window does, and tell of each once it is written."""
    folder, plate = root / "job.gommage", project.shots[0].clean_plates[0]
    had = len(plate.painting.strokes)
    journal = Journal(root / "journals" / "j", Base(project, str(folder)))
    fingerprint = ""
    for number in range(1, strokes + 1):
        project = edits.add_stroke(project, project.shots[0].id, plate.id, stroke(had + number - 1))
        journal.record(project)
        tell(number)
        if number % SAVE_EVERY == 0:
            fingerprint = store.save(project, folder, fingerprint)
            journal.rebase(Base(project, str(folder), fingerprint))


def die_at(step: int, count: list[int]) -> None:
    """Kill this process without warning before its so many-th call that is watched; 0 only counts."""

    def watched(name: str) -> Callable[..., object]:
        call = getattr(os, name)

        def counted(*arguments: object, **options: object) -> object:
            count[0] += 1
            if count[0] == step:
                os.kill(os.getpid(), signal.SIGKILL)
            return call(*arguments, **options)

        return counted

    for name in WATCHED:
        setattr(os, name, watched(name))


def _forked(act: Callable[[Callable[[int], None]], None]) -> tuple[int, int]:
    """Run something in a process of its own that tells numbers; return its id and where they come out."""
    out, into = os.pipe()
    child = os.fork()
    if child:
        os.close(into)
        return child, out
    send = os.write
    try:
        act(lambda number: send(into, struct.pack("<i", number)) and None)
    finally:
        os._exit(0)


def _told(child: int, out: int) -> int:
    """Wait for the process to end; return the last number that it told."""
    with os.fdopen(out, "rb") as numbers:
        data = numbers.read()
    os.waitpid(child, 0)
    whole = len(data) // 4
    return struct.unpack(f"<{whole}i", data[: 4 * whole])[-1] if whole else 0


def steps_of(project: Project, root: Path) -> int:
    """Return how many watched calls the work makes."""
    count = [0]

    def act(tell: Callable[[int], None]) -> None:
        die_at(0, count)
        work(project, root, lambda number: None)
        tell(count[0])

    steps = _told(*_forked(act))
    shutil.rmtree(root, ignore_errors=True)
    return steps


def kill(project: Project, root: Path, step: int) -> tuple[int, str]:
    """Let the work die at a step; return how many edits it told of, and what is wrong afterwards."""

    def act(tell: Callable[[int], None]) -> None:
        die_at(step, [0])
        work(project, root, tell)

    told = _told(*_forked(act))
    return told, judged(project, root, told)


def judged(project: Project, root: Path, told: int) -> str:
    """Return what of the told edits is lost or doubled after a kill, empty if nothing is."""
    had = len(project.shots[0].clean_plates[0].painting.strokes)
    folder, journals = root / "job.gommage", root / "journals"
    saved = -1
    if (folder / store.FILE_NAME).exists():
        try:
            saved = len(store.load(folder).shots[0].clean_plates[0].painting.strokes) - had
        except ProjectError as error:
            return f"the saved project cannot be read: {error}"
    crashes = left_behind([journals])
    if len(crashes) > 1 or any(one.fault for one in crashes):
        return f"{len(crashes)} journals, {[one.fault for one in crashes]}"
    journalled = -1
    if crashes:
        try:
            found = recover(crashes[0].folder)
        except ProjectError as error:
            return str(error)
        ids = [one.id for one in found.project.shots[0].clean_plates[0].painting.strokes]
        if len(ids) != len(set(ids)) or found.lost:
            return f"doubled, or {found.lost} lines lost: {ids}"
        journalled = len(ids) - had
    kept = max(saved, journalled, 0)
    if not told <= kept <= told + 1:
        return f"{told} edits were told of, {kept} are there"
    return ""


def aimed_kills(project: Project, root: Path, count: int) -> Kills:
    """Kill at every watched call in turn, over and over."""
    kills, steps = Kills(), steps_of(project, root / "count")
    for number in range(count):
        step = number % steps + 1
        told, fault = kill(project, root / "run", step)
        kills.count += 1
        kills.edits += told
        if fault:
            kills.faults.append(f"at step {step}: {fault}")
        shutil.rmtree(root / "run", ignore_errors=True)
    return kills


def random_kills(project: Project, root: Path, count: int, seed: int = 0) -> Kills:
    """Kill at random moments, whatever is being done."""
    kills, rng = Kills(), np.random.default_rng(seed)
    for number in range(count):
        child, out = _forked(lambda tell: work(project, root / "run", tell, 100_000))
        time.sleep(float(rng.uniform(0.005, 0.25)))
        os.kill(child, signal.SIGKILL)
        told = _told(child, out)
        fault = judged(project, root / "run", told)
        kills.count += 1
        kills.edits += told
        if fault:
            kills.faults.append(f"run {number}: {fault}")
        shutil.rmtree(root / "run", ignore_errors=True)
    return kills
