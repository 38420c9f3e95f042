"""Kills of the real window while one paints in it."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np

from benchmarks.durability.kills import Kills
from gommage.core.document import store
from gommage.core.document.recovery import left_behind, recover
from gommage.errors import ProjectError

__all__ = ["window_kills"]

SLOWEST_START_S = 60.0


def window_kills(root: Path, count: int, seed: int = 0) -> Kills:
    """Kill a window at random moments of painting, renaming, undoing and saving."""
    kills, rng = Kills(), np.random.default_rng(seed)
    for number in range(count):
        folder = root / f"window{number}"
        command = [sys.executable, "-m", "benchmarks.durability.window_kills", str(folder), str(number)]
        with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True) as process:
            assert process.stdout is not None
            process.stdout.readline()  # it works
            time.sleep(float(rng.uniform(0.05, 2.0)))
            process.send_signal(signal.SIGKILL)
            told = int((process.stdout.read().split() or ["0"])[-1])
        kills.count += 1
        kills.edits += told
        fault = _judged(folder, told)
        if fault:
            kills.faults.append(f"run {number}: {fault}")
        shutil.rmtree(folder, ignore_errors=True)
    return kills


def _judged(folder: Path, told: int) -> str:
    """Return what is wrong after a kill: every edit counts one up in the name of a shot."""
    try:
        saved = store.load(folder / "p.gommage").shots[1].name
        crashes = left_behind([folder / "journals"])
        found = recover(crashes[0].folder) if crashes else None
    except ProjectError as error:
        return str(error)
    names = [saved, found.project.shots[1].name if found is not None else ""]
    kept = max((int(name) for name in names if name.isdigit()), default=0)
    is_whole = found is None or not found.lost
    return "" if kept >= told - 1 and is_whole else f"{told} edits were told of, {kept} are there"


def main(folder: str, seed: str) -> None:
    """Work in a window, and tell of every edit once it is done."""
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    from benchmarks.durability.soak import Soak
    from gommage.core.document import edits

    where = Path(folder)
    where.mkdir(parents=True)
    soak = Soak(where, int(seed))
    session = soak._window.session
    sys.stdout.write("0\n")
    for number in range(1, 100_000):
        session.commit("Count", edits.change_shot, "other", name=str(number))
        sys.stdout.write(f"{number}\n")
        sys.stdout.flush()
        if number % 3 == 0:
            soak.paint()
        elif number % 7 == 0:
            soak.drag_vertex()
        elif number % 25 == 0:
            soak.save()


if __name__ == "__main__":
    main(*sys.argv[1:])
