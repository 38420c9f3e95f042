"""Long use: the real window, offscreen, is painted in, edited, played, saved and reopened at random, by real events.

``python -m benchmarks.durability.soak MINUTES FOLDER`` prints a line of JSON every so often: memory, threads, handles.
"""

from __future__ import annotations

import ctypes
import gc
import json
import os
import sys
import threading
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path

os.environ["QT_QPA_PLATFORM"] = "offscreen"

import numpy as np
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from benchmarks.durability.subjects import subject
from benchmarks.durability.window import Host, settle
from gommage.app.main_window import MainWindow
from gommage.core.document import edits, store
from gommage.core.engine import Look, RenderTarget, Step

__all__ = ["Soak"]

SAMPLE_S = 10.0
MOST_STEPS = 400
"""After so many edits the project is saved and opened again: history is kept for ever, and grows by right."""


class Soak:
    """One who works at random."""

    def __init__(self, folder: Path, seed: int = 0) -> None:
        self._rng = np.random.default_rng(seed)
        self._folder = folder
        self._host = Host(folder)
        self._target = folder / "p.gommage"
        store.save(subject(folder / "plate"), self._target)
        self._window.projects.open_project(self._target)
        settle(self._window)
        self.done: Counter[str] = Counter()
        self._acts: tuple[tuple[int, Callable[[], None]], ...] = (
            (30, self.paint), (6, self.undo), (4, self.redo), (12, self.drag_vertex), (12, self.step_frames),
            (3, self.play), (6, self.look), (4, self.zoom), (6, self.rename), (2, self.add_fix), (2, self.remove_fix),
            (2, self.pin), (2, self.save), (1, self.measure), (1, self.follow), (1, self.render),
        )  # fmt: skip

    @property
    def _window(self) -> MainWindow:
        return self._host.window

    def run(self, minutes: float) -> list[str]:
        """Work for so long; return the errors that nobody expected."""
        began = last = time.monotonic()
        weights = np.array([weight for weight, _ in self._acts], float)
        while time.monotonic() - began < 60 * minutes:
            act = self._acts[self._rng.choice(len(self._acts), p=weights / weights.sum())][1]
            act()
            self.done[act.__name__] += 1
            if self._rng.random() < 0.2:
                settle(self._window)
            else:
                QApplication.processEvents()
            if len(self._window.session.history.steps) > MOST_STEPS:
                self.reopen()
            if time.monotonic() - last > SAMPLE_S:
                last = time.monotonic()
                print(json.dumps(self.sample(last - began)), flush=True)
        settle(self._window)
        return self._host.faults

    def sample(self, seconds: float) -> dict[str, float]:
        """Return memory, threads and handles as they are now."""
        settle(self._window)
        gc.collect()
        ctypes.CDLL(None).malloc_trim(0)  # what is free is not held
        with open("/proc/self/status", encoding="ascii") as lines:
            held = next(int(line.split()[1]) for line in lines if line.startswith("VmRSS"))
        return {
            "seconds": round(seconds), "resident_mb": held // 1024, "threads": threading.active_count(),
            "handles": len(os.listdir("/proc/self/fd")), "acts": sum(self.done.values()),
            "faults": len(self._host.faults),
        }  # fmt: skip

    # -- what is done ---------------------------------------------------------------------------------------

    def _place(self) -> QPoint:
        viewer = self._window.viewer
        middle = viewer.rect().center()
        spread = self._rng.normal(0, 60, 2)
        return middle + QPoint(int(spread[0]), int(spread[1]))

    def _drag(self, places: list[QPoint], modifiers: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        viewer = self._window.viewer
        QTest.mousePress(viewer, Qt.MouseButton.LeftButton, modifiers, places[0])
        for place in places[1:]:
            at = QPointF(place)
            event = QMouseEvent(QMouseEvent.Type.MouseMove, at, QPointF(viewer.mapToGlobal(at)),
                                Qt.MouseButton.NoButton, Qt.MouseButton.LeftButton, modifiers)  # fmt: skip
            QApplication.sendEvent(viewer, event)
            if self._rng.random() < 0.3:
                QApplication.processEvents()
        QTest.mouseRelease(viewer, Qt.MouseButton.LeftButton, modifiers, places[-1])

    def _key(self, key: Qt.Key, modifiers: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        QTest.keyClick(self._window.viewer, key, modifiers)

    def paint(self) -> None:
        self._key(Qt.Key.Key_3)
        self._window.session.set_desk(tool="clone", look=Look.CLEAN_PLATE if self._rng.random() < 0.5 else Look.RESULT)
        QTest.mouseClick(self._window.viewer, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.AltModifier, self._place())
        start = self._place()
        self._drag([start + QPoint(4 * step, 2 * step) for step in range(int(self._rng.integers(2, 12)))])

    def drag_vertex(self) -> None:
        self._key(Qt.Key.Key_2)
        place = self._place()
        self._drag([place, place + QPoint(3, 2), place + QPoint(9, 5)])

    def undo(self) -> None:
        self._window.session.undo()

    def redo(self) -> None:
        self._window.session.redo()

    def step_frames(self) -> None:
        frames = self._window.shot.footage.frames
        self._window.session.go_to(int(self._rng.integers(frames.first, frames.last + 1)))

    def play(self) -> None:
        self._window.call("play")
        end = time.monotonic() + 0.7
        while time.monotonic() < end:
            QApplication.processEvents()
            time.sleep(0.002)
        self._window.call("play")

    def look(self) -> None:
        looks = (Look.RESULT, Look.PLATE, Look.MATTE, Look.CLEAN_PLATE, Look.SHEET)
        self._window.session.set_desk(
            look=looks[self._rng.integers(len(looks))], has_lattice=bool(self._rng.random() < 0.3),
            is_steady=bool(self._rng.random() < 0.2), has_wipe=bool(self._rng.random() < 0.1),
            step=list(Step)[self._rng.integers(len(Step))],
        )  # fmt: skip

    def zoom(self) -> None:
        if self._rng.random() < 0.5:
            self._window.views.fit_view()
        else:
            self._window.viewer.zoom_to(float(self._rng.uniform(0.7, 6)))

    def rename(self) -> None:
        fix_id = self._window.desk.fix_id
        if fix_id:
            name = f"Nail {self._rng.integers(1000)}"
            self._window.session.commit("Rename", edits.change_fix, "shot", fix_id, name=name)

    def add_fix(self) -> None:
        if len(self._window.shot.fixes) < 6:
            self._window.items.new_fix()

    def remove_fix(self) -> None:
        if len(self._window.shot.fixes) > 2:
            self._window.session.commit("Remove", edits.remove_fixes, "shot", (self._window.shot.fixes[-1].id,))

    def pin(self) -> None:
        self._key(Qt.Key.Key_1)
        self._key(Qt.Key.Key_W)
        place = self._place()
        self._drag([place, place + QPoint(4, 1)])

    def save(self) -> None:
        self._window.projects.save()
        settle(self._window)

    def measure(self) -> None:
        self._window.work.measure()
        settle(self._window, lambda: not self._window.work.is_busy)

    def follow(self) -> None:
        from gommage.core.follow import Direction

        self._window.session.set_desk(surface_id="wall")
        self._window.work.follow(Direction.BOTH)
        settle(self._window, lambda: not self._window.work.is_busy)

    def render(self) -> None:
        frames = self._window.shot.footage.frames
        self._window.work.render(range(frames.first, frames.first + 2), RenderTarget(self._folder / "out"))
        settle(self._window, lambda: not self._window.work.is_busy)

    def reopen(self) -> None:
        self.save()
        self._window.projects.open_project(self._target)
        settle(self._window)
        shot = self._window.shot
        strokes = [(plate, one.id) for plate in shot.clean_plates for one in plate.painting.strokes[6:]]
        for plate in shot.clean_plates:
            ids = tuple(one for holder, one in strokes if holder is plate)
            if ids:
                self._window.session.commit("Wipe", edits.remove_strokes, "shot", plate.id, ids)
        self.save()
        self._window.projects.open_project(self._target)
        settle(self._window)


def main(minutes: str, folder: str) -> None:
    """Work for so many minutes."""
    where = Path(folder)
    where.mkdir(parents=True, exist_ok=True)
    soak = Soak(where)
    faults = soak.run(float(minutes))
    print(json.dumps({"done": dict(soak.done), "faults": faults[:5]}), flush=True)
    soak._window.session.saved = soak._window.session.project
    soak._window.close()
    os._exit(0)


if __name__ == "__main__":
    main(*sys.argv[1:])
