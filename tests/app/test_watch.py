"""The event loop is not held: a journey through a long shot, with a stop-watch on the interface thread."""

import os
import time
from contextlib import contextmanager

import numpy as np
import pytest
from msgspec.structs import replace
from PySide6.QtCore import QAbstractEventDispatcher, QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from gommage.app import work as work_module
from gommage.core.document import Array, FrameRange, Pin, Project, Track, edits
from gommage.core.engine import Step
from gommage.core.follow import FollowStep
from tests.app.driving import ALT, CTRL, SHIFT, activate, at_view, click, move, press
from tests.conftest import settle, wait_until
from tests.engine.test_engine import clone, with_fix
from tests.yardstick import least

HELD = 4.0
"""What an event may take, in yardsticks: 30 ms where one takes 7.5."""
COUNT = 1000


class Watch:
    """Measures the processor time of the interface thread between two moments at which the loop could rest.

    Processor time of the one thread, not time on the wall: what other processes of the machine do does not count.
    """

    def __init__(self):
        self.worst_ms, self.where, self._began, self._name = 0.0, "", None, "start"
        dispatcher = QAbstractEventDispatcher.instance()
        dispatcher.awake.connect(self._awake)
        dispatcher.aboutToBlock.connect(self._about_to_block)

    def _awake(self):
        self._began = time.thread_time()

    def _about_to_block(self):
        if self._began is not None:
            self._note(time.thread_time() - self._began)
        self._began = None

    def _note(self, seconds):
        if seconds * 1000 > self.worst_ms:
            self.worst_ms, self.where = seconds * 1000, self._name

    @contextmanager
    def event(self, name):
        """One event that is sent directly."""
        self._name, self._began = name, None
        begun = time.thread_time()
        yield
        self._note(time.thread_time() - begun)


@pytest.fixture
def long_shot(own_shot, tmp_path):
    """The small shot over a thousand frames: the same pictures, under a thousand names."""
    folder = tmp_path / "plate"
    for frame in range(1007, 1001 + COUNT):
        os.link(folder / f"wall.{1001 + frame % 6}.exr", folder / f"wall.{frame}.exr")
    frames = FrameRange(first=1001, last=1000 + COUNT)
    matrices = np.repeat(np.eye(3)[None], COUNT, axis=0)
    matrices[:, 0, 2] = 3 * np.sin(np.arange(COUNT) / 40)
    track = Track(first_frame=1001, home_to_frame=Array(matrices), corner_slip_px=Array(np.full((COUNT, 4), 0.1)),
                  certainty=Array(np.full(COUNT, 0.9)), reasons=("",) * COUNT)  # fmt: skip
    corners = own_shot.surfaces[0].corners
    pins = tuple(Pin(frame=f, home=Array(corners), placed=Array(corners + 1)) for f in range(1100, 2000, 200))
    surface = replace(own_shot.surfaces[0], track=track, pins=pins)
    return replace(own_shot, footage=replace(own_shot.footage, frames=frames), surfaces=(surface,))


def journey(window, watch):
    """Step, scrub, drag a vertex and a pin, paint, undo, choose, zoom: what a day is made of."""
    strip, viewer = window.strip, window.viewer
    for step, key in ((Step.FOLLOW, Qt.Key.Key_1), (Step.COVER, Qt.Key.Key_2), (Step.MATCH, Qt.Key.Key_4)):
        with watch.event(f"go to {step}"):
            press(window, key)
        settle(window)
        for _ in range(4):
            with watch.event(f"step in {step}"):
                press(window, Qt.Key.Key_F)
            settle(window)
    with watch.event("press on the strip"):
        QTest.mousePress(strip, Qt.MouseButton.LeftButton, pos=QPoint(int(strip.scale.middle(1300)), 60))
    for frame in range(1310, 1400, 15):
        with watch.event("scrub"):
            move(strip, QPoint(int(strip.scale.middle(frame)), 60))
        QApplication.processEvents()
    QTest.mouseRelease(strip, Qt.MouseButton.LeftButton, pos=QPoint(int(strip.scale.middle(1395)), 60))
    window.session.go_to(1001)
    settle(window)
    for key, points, name in (
        ((Qt.Key.Key_2,), [(60, 40), (58, 39), (55, 36)], "drag a vertex"),
        (((Qt.Key.Key_V, SHIFT), Qt.Key.Key_F), [(80, 60), (82, 61), (85, 63)], "drag a pin"),
    ):
        press(window, *key)
        settle(window)
        with watch.event(f"{name}: press"):
            QTest.mousePress(viewer, Qt.MouseButton.LeftButton, pos=at_view(window, points[0]))
        for point in points[1:]:
            with watch.event(f"{name}: move"):
                move(viewer, at_view(window, point))
            QApplication.processEvents()
        with watch.event(f"{name}: release"):
            QTest.mouseRelease(viewer, Qt.MouseButton.LeftButton, pos=at_view(window, points[-1]))
        settle(window)
        with watch.event(f"undo: {name}"):
            press(window, (Qt.Key.Key_Z, CTRL))
        settle(window)
    press(window, Qt.Key.Key_3, Qt.Key.Key_C)
    click(window, (30, 90), ALT)
    with watch.event("pen down"):
        QTest.mousePress(viewer, Qt.MouseButton.LeftButton, pos=at_view(window, (70, 50)))
    for x in range(71, 90, 4):
        with watch.event("pen move"):
            move(viewer, at_view(window, (x, 52)))
        QApplication.processEvents()
    with watch.event("pen up"):
        QTest.mouseRelease(viewer, Qt.MouseButton.LeftButton, pos=at_view(window, (90, 52)))
    settle(window)
    with watch.event("rename"):
        window.session.commit("Rename", edits.change_surface, "shot", "wall", name="Door")
    settle(window)
    press(window, (Qt.Key.Key_Z, CTRL), (Qt.Key.Key_Z, CTRL))
    settle(window)


def open_long(window, shot):
    window.session.begin(Project.of(with_fix(shot, clone())))
    settle(window)
    activate(window)


def test_nothing_holds_the_event_loop_on_a_shot_of_a_thousand_frames(window, long_shot):
    open_long(window, long_shot)
    journey(window, Watch())  # the first time classes are loaded and icons drawn
    where = []

    def worst_ms():
        watch = Watch()
        journey(window, watch)
        where.append(watch.where)
        return watch.worst_ms

    worst = least(worst_ms, HELD)
    assert worst < HELD, f"{where} held the loop for {worst:.1f} yardsticks"


def test_a_running_follow_does_not_hold_it_either(window, long_shot, monkeypatch):
    open_long(window, long_shot)

    def quickly(engine, shot, surface, start_frame, direction, frames, check):
        for frame in range(1001, 1001 + COUNT):
            check()
            yield FollowStep(frame, np.eye(3), np.full(4, 0.1), 1.0)

    monkeypatch.setattr(work_module, "follow_surface", quickly)

    def worst_ms():
        window.session.commit("Loose", edits.change_surface, "shot", "wall", track=None, pins=())
        settle(window)
        watch = Watch()
        press(window, Qt.Key.Key_1, (Qt.Key.Key_G, CTRL))
        wait_until(lambda: not window.work.is_busy)
        settle(window)
        assert len(window.shot.surfaces[0].track.frames) == COUNT
        return watch.worst_ms

    limit = 2 * HELD  # a step of history at the end
    worst = least(worst_ms, limit)
    assert worst < limit, f"the loop was held for {worst:.1f} yardsticks"
