"""Two crates taken off the floor of a walk among set pieces through the real window, actions counted; by truth."""

import cv2
import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog

from gommage.core.document import Plates, Project, Shot, placement
from gommage.core.engine.plate_files import HOME as TOLD_HOME
from gommage.core.picture.writing import write_still
from gommage.demo.backstage_job import AREAS, HOME
from gommage.demo.filming import with_grain
from tests import shots
from tests.app.counting import Hand, densely
from tests.app.driving import ALT, SHIFT, activate
from tests.conftest import settle, wait_until

pytestmark = pytest.mark.journey
MOST_ACTIONS, MOST_BEHIND_DB, MOST_PX = 25, 1.5, 0.2
GROWN_PX = 8.0


def test_two_crates_are_taken_off_the_floor(window, tmp_path, monkeypatch):
    backstage = shots.shot("backstage")
    footage = backstage.footage
    painted = tmp_path / f"floor.{HOME}.exr"  # as it comes from a picture editor
    bare = backstage.clean(HOME, grain=False)
    write_still(painted, with_grain(bare, (7, HOME)).astype(np.float16), bits=16, attributes={TOLD_HOME: HOME})
    monkeypatch.setattr(QFileDialog, "getOpenFileName", staticmethod(lambda *_: (str(painted), "")))
    window.session.begin(Project.of(Shot(id="theatre", name="Backstage", footage=footage)))
    window.call("fit_view")
    activate(window)
    window.viewer.setFocus()
    settle(window)
    hand = Hand(window, "crates")
    hand.frame(HOME)
    hand.key("solve the camera", (Qt.Key.Key_K, ALT))
    wait_until(lambda: not window.work.is_busy and window.shot.camera is not None)
    hand.key("scene plane", (Qt.Key.Key_D, ALT))
    hand.in_line("draw freehand", "Freehand", None)
    hand.drag("draw round the floor", densely(np.array(AREAS["floor"], float), 12.0))
    wait_until(lambda: len(window.shot.surfaces) == 1)
    settle(window)
    hand.key("polish", (Qt.Key.Key_G, ALT))
    wait_until(lambda: not window.work.is_busy)
    settle(window)
    for index in range(2):
        hand.key(*(("a fix of its own", (Qt.Key.Key_S, SHIFT)) if index else ("step Cover", Qt.Key.Key_2)))
        hand.drag("draw round a crate", densely(swept(window, backstage, index, footage.frames), 5.0))
        hand.key("leave the proposal", Qt.Key.Key_Escape)
        window.call("plate_from_picture")
        hand.note_action("clean plate from a picture")
        hand.note_action("choose its file")
        wait_until(lambda count=index + 1: len(window.shot.clean_plates) == count)
        settle(window)
    assert hand.count <= MOST_ACTIONS
    assert window.shot.camera.median_px < MOST_PX
    assert [type(fix.fill) for fix in window.shot.fixes] == [Plates, Plates]

    rows = []
    for fix in window.shot.fixes:
        found, limit = np.mean([figures(window, backstage, fix, frame) for frame in list(footage.frames)[2::6]], axis=0)
        assert found > limit - MOST_BEHIND_DB
        rows.append((f"crate {len(rows) + 1}", f"{found:.1f} dB", f"{limit:.1f} dB"))
    hand.note(
        f"Take two crates off the floor over {len(footage.frames)} frames of a walk, the camera solved",
        ("where it is covered", "one clean plate", "oracle"), rows,
    )  # fmt: skip


def swept(window, shot, index, frames):
    """Return an outline round all that a crate hides of the floor over the walk, in pixels of the home frame."""
    floor = placement(window.shot, window.shot.surfaces[0])
    seen = [floor.home_to_frame(frame).inverse()(shot.crate_outline(index, frame)) for frame in list(frames)[::4]]
    hull = cv2.convexHull(np.vstack(seen).astype(np.float32))[:, 0].astype(float)
    away = hull - hull.mean(axis=0)
    return hull + away * (GROWN_PX / np.hypot(*away.T)[:, None])


def figures(window, shot, fix, frame):
    """Return the PSNR of the result and of an oracle where a fix covers a frame and nobody walks."""
    engine = window.session.engine
    inside = (engine.laid_matte(window.shot, frame, fix.id) > 0.5) & (shot.hand(frame) == 0)
    truth, bare = shot.clean(frame), shot.clean(frame, grain=False)
    shown = engine.result(window.shot, frame), with_grain(bare, (99, frame))
    return [float(-10 * np.log10(((one - truth)[inside] ** 2).mean())) for one in shown]
