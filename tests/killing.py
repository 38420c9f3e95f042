"""A process that works on a journal or saves a project and kills itself at a chosen call of the system."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from pathlib import Path

from gommage.core.document.recovery import Recovered, left_behind, recover

STEPS = 140
"""More calls than the work of `main` makes."""
WATCHED = ("open", "write", "fsync", "fdatasync", "ftruncate", "replace", "rename", "unlink", "mkdir", "close")


def killed_journal(project: Path, root: Path, step: int) -> tuple[int | None, Recovered | None]:
    """Run `main` in a process that dies at a step.

    Returns
    -------
    reported : int or None
        How many strokes it had told to be written; None if its journal had not been begun.
    found : Recovered or None
        What its journal gives back.
    """
    run = subprocess.run(
        [sys.executable, "-m", "tests.killing", str(project), str(root), str(step)],
        stdout=subprocess.PIPE, text=True, check=False,
    )  # fmt: skip
    said = run.stdout.split()
    crashes = left_behind([root])
    found = recover(crashes[0].folder) if crashes and not crashes[0].fault else None
    if found is None and crashes:
        return (int(said[-1]) if said else None), None
    if not said or said[-1] == "0":
        return None, found  # nothing was promised yet
    return int(said[-1]), found


def die_at(step: int) -> None:
    """Kill this process without warning before its so many-th call that changes a file."""
    count = 0

    def watched(name):
        call = getattr(os, name)

        def counted(*arguments, **options):
            nonlocal count
            count += 1
            if count == step:
                os.kill(os.getpid(), signal.SIGKILL)
            return call(*arguments, **options)

        return counted

    for name in WATCHED:
        setattr(os, name, watched(name))


def main(project_folder: str, root: str, step: str) -> None:
    """Lay strokes, with a new base after every third, and tell of each once it is written."""
    from gommage.core.document import Array, Brush, Stroke, edits, store
    from gommage.core.document.journal import Base, Journal

    project = store.load(Path(project_folder))
    if not project.shots[0].clean_plates:
        raise SystemExit("the project has no clean plate")
    plate = project.shots[0].clean_plates[0].id
    had = len(project.shots[0].clean_plates[0].painting.strokes)
    die_at(int(step))
    journal = Journal(Path(root) / "j", Base(project))
    for edited in range(1, 13):
        stroke = Stroke(id=f"s{edited}", points=Array([[edited, 2.0, 1.0]]), brush=Brush(size_px=4.0))
        project = edits.add_stroke(project, "shot", plate, stroke)
        journal.record(project)
        sys.stdout.write(f"{had + edited}\n")
        sys.stdout.flush()
        if edited % 3 == 0:
            journal.rebase(Base(project, edits=edited))


if __name__ == "__main__":
    main(*sys.argv[1:])
