"""The event loop is not held: a journey through a short and a long shot, with a count of what the thread does."""

import os
import sys
from collections import Counter
from contextlib import contextmanager
from functools import wraps

import numpy as np
from msgspec.structs import replace
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from gommage.app import work as work_module
from gommage.core.document import Array, FrameRange, Pin, Project, Track, edits
from gommage.core.engine import Step
from gommage.core.follow import FollowStep
from tests.app.driving import ALT, CTRL, SHIFT, activate, at_view, click, move, press
from tests.conftest import settle, wait_until
from tests.engine.test_engine import clone, with_fix

SHORT, LONG = 60, 300
"""Frames."""
HELD = 9_000
"""Calls of functions that an event may make. The most of any is 5700, which take some 6 ms."""


class Watch:
    """Counts what the interface thread does between two moments at which the loop could rest.

    Calls are counted, not seconds: what other processes of the machine do does not count. How many milliseconds events
    take is measured by `python -m benchmarks.holding`.
    """

    def __init__(self):
        self.most = Counter[str]()
        """By the name of what was sent: what it did itself, and what a turn after it did (``after name``)."""
        self.calls, self._name = 0, "start"

    def __enter__(self):
        sys.setprofile(self._seen)
        return self

    def __exit__(self, *_):
        sys.setprofile(None)

    def _seen(self, frame, what, argument):
        self.calls += what in ("call", "c_call")

    def spent(self):
        """What has been spent so far."""
        return self.calls

    @contextmanager
    def event(self, name):
        """One event that is sent directly."""
        self._name = name
        with self._noted(name):
            yield

    @contextmanager
    def _noted(self, name):
        begun = self.spent()
        yield
        self.most[name] = max(self.most[name], self.spent() - begun)

    def watched(self, call):
        """Return a function that does the same, as an event."""

        @wraps(call)
        def noted(*arguments):
            with self._noted(call.__name__):
                call(*arguments)

        return noted

    def turn(self):
        """One turn of the event loop: what is done then counts for what was sent last."""
        with self._noted(f"after {self._name}"):
            QApplication.processEvents()


def lengthened(shot, folder, count):
    """Return the small shot over so many frames: the same pictures, under as many names."""
    for frame in range(1007, 1001 + count):
        (folder / f"wall.{frame}.exr").unlink(missing_ok=True)
        os.link(folder / f"wall.{1001 + frame % 6}.exr", folder / f"wall.{frame}.exr")
    frames = FrameRange(first=1001, last=1000 + count)
    matrices = np.repeat(np.eye(3)[None], count, axis=0)
    matrices[:, 0, 2] = 3 * np.sin(np.arange(count) / 40)
    track = Track(first_frame=1001, home_to_frame=Array(matrices), corner_slip_px=Array(np.full((count, 4), 0.1)),
                  certainty=Array(np.full(count, 0.9)), reasons=("",) * count)  # fmt: skip
    corners = shot.surfaces[0].corners
    pins = tuple(Pin(frame=f, home=Array(corners), placed=Array(corners + 1)) for f in range(1010, 1060, 10))
    surface = replace(shot.surfaces[0], track=track, pins=pins)
    return replace(shot, footage=replace(shot.footage, frames=frames), surfaces=(surface,))


def journey(window, watch):
    """Step, scrub, drag a vertex and a pin, paint, undo, choose, zoom: what a day is made of."""
    strip, viewer = window.strip, window.viewer
    for step, key in ((Step.FOLLOW, Qt.Key.Key_1), (Step.COVER, Qt.Key.Key_2), (Step.MATCH, Qt.Key.Key_4)):
        with watch.event(f"go to {step}"):
            press(window, key)
        settle(window, watch.turn)
        for _ in range(4):
            with watch.event(f"step in {step}"):
                press(window, Qt.Key.Key_F)
            settle(window, watch.turn)
    with watch.event("press on the strip"):
        QTest.mousePress(strip, Qt.MouseButton.LeftButton, pos=QPoint(int(strip.scale.middle(1020)), 60))
    for frame in range(1022, 1052, 5):
        with watch.event("scrub"):
            move(strip, QPoint(int(strip.scale.middle(frame)), 60))
        watch.turn()
    QTest.mouseRelease(strip, Qt.MouseButton.LeftButton, pos=QPoint(int(strip.scale.middle(1051)), 60))
    window.session.go_to(1001)
    settle(window, watch.turn)
    for key, points, name in (
        ((Qt.Key.Key_2,), [(60, 40), (58, 39), (55, 36)], "drag a vertex"),
        (((Qt.Key.Key_V, SHIFT), Qt.Key.Key_F), [(80, 60), (82, 61), (85, 63)], "drag a pin"),
    ):
        press(window, *key)
        settle(window, watch.turn)
        with watch.event(f"{name}: press"):
            QTest.mousePress(viewer, Qt.MouseButton.LeftButton, pos=at_view(window, points[0]))
        for point in points[1:]:
            with watch.event(f"{name}: move"):
                move(viewer, at_view(window, point))
            watch.turn()
        with watch.event(f"{name}: release"):
            QTest.mouseRelease(viewer, Qt.MouseButton.LeftButton, pos=at_view(window, points[-1]))
        settle(window, watch.turn)
        with watch.event(f"undo: {name}"):
            press(window, (Qt.Key.Key_Z, CTRL))
        settle(window, watch.turn)
    press(window, Qt.Key.Key_3, Qt.Key.Key_C)
    click(window, (30, 90), ALT)
    with watch.event("pen down"):
        QTest.mousePress(viewer, Qt.MouseButton.LeftButton, pos=at_view(window, (70, 50)))
    for x in range(71, 90, 4):
        with watch.event("pen move"):
            move(viewer, at_view(window, (x, 52)))
        watch.turn()
    with watch.event("pen up"):
        QTest.mouseRelease(viewer, Qt.MouseButton.LeftButton, pos=at_view(window, (90, 52)))
    settle(window, watch.turn)
    with watch.event("rename"):
        window.session.commit("Rename", edits.change_surface, "shot", "wall", name="Door")
    settle(window, watch.turn)
    press(window, (Qt.Key.Key_Z, CTRL), (Qt.Key.Key_Z, CTRL))
    settle(window, watch.turn)


def open_over(window, shot, folder, count):
    window.session.begin(Project.of(with_fix(lengthened(shot, folder, count), clone())))
    settle(window)
    activate(window)


def test_no_event_does_anything_for_each_frame_of_the_shot(window, own_shot, tmp_path):
    spent = []
    for count in (SHORT, LONG):
        open_over(window, own_shot, tmp_path / "plate", count)
        with Watch() as watch:
            journey(window, watch)
        spent.append(watch.most)
    short, long = spent
    more = Counter({name: long[name] - short[name] for name in long if not name.startswith("after ")})
    assert max(more.values()) < LONG - SHORT, more.most_common(5)
    assert max(long.values()) < HELD, long.most_common(5)


def test_what_a_running_follow_shows_costs_the_same_on_its_last_frames(window, own_shot, tmp_path, monkeypatch):
    def quickly(engine, shot, surface, start_frame, direction, frames, check):
        for frame in shot.footage.frames:
            check()
            yield FollowStep(frame, np.eye(3), np.full(4, 0.1), 1.0)

    monkeypatch.setattr(work_module, "follow_surface", quickly)
    spent, names = [], ("_show_follow", "_on_followed")
    for count in (500, 1500):
        open_over(window, own_shot, tmp_path / "plate", count)
        window.session.commit("Loose", edits.change_surface, "shot", "wall", track=None, pins=())
        settle(window)
        with Watch() as watch, monkeypatch.context() as during:
            for name in names:
                during.setattr(window.work, name, watch.watched(getattr(window.work, name)))
            press(window, Qt.Key.Key_1, (Qt.Key.Key_G, CTRL))
            wait_until(lambda: not window.work.is_busy)
        assert len(window.shot.surfaces[0].track.frames) == count
        spent.append(watch.most)
    short, long = spent
    assert long["_on_followed"] < short["_on_followed"] + 500, "a thousand frames more"
    assert 0 < long["_show_follow"] < 2 * short["_show_follow"], "as it comes, more or fewer parts are drawn anew"
