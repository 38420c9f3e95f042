"""An arm crosses a locked-off stage: cured frame after frame from two pinned frames, since none is clean everywhere."""

import numpy as np
import pytest
from PySide6.QtCore import Qt

from gommage.app.desk import Life
from gommage.core.document import Project, Shot
from gommage.demo.filming import with_grain
from gommage.demo.stage_hand import FIRST_FRAME, FRAMES, arm_line
from tests import shots
from tests.app.counting import Hand
from tests.app.driving import CTRL, SHIFT
from tests.conftest import settle

pytestmark = pytest.mark.whole
LAST = FIRST_FRAME + FRAMES - 1
TURN = 1016  # from here on the first frame is clean where the arm is, before it the last
BELOW_ORACLE_DB = 2.0
ACTIONS_A_FRAME = 4
LEVEL = 0.01


@pytest.fixture(scope="session")
def stage_hand():
    return shots.shot("stage hand")


def test_an_arm_is_cured_from_two_pinned_frames(window, stage_hand):
    window.session.begin(Project.of(Shot(id="hand", name="Stage hand", footage=stage_hand.footage)))
    settle(window)
    hand = Hand(window, "stage hand")
    hand.key("paint on the shot", (Qt.Key.Key_C, CTRL | SHIFT))
    hand.key("take the heal brush", Qt.Key.Key_V)
    hand.in_line("strokes live on their frame alone", "Frames of the next stroke", Life.THIS)
    hand.in_line("frame after frame", "Frame after frame", True)
    hand.in_line("a brush as wide as arm and shadow", "Size", 216)
    hand.in_line("a firm rim", "Softness", 12)
    hand.in_line("take from one frame always", "Source's time", "pinned")
    hand.in_line("the last frame", "Source's frame", LAST)
    hand.frame(FIRST_FRAME)
    hand.zoom(np.array([480.0, 270.0]), 0.6)
    for frame in range(FIRST_FRAME, LAST + 1):
        assert window.desk.frame == frame
        if frame == TURN:
            hand.in_line("the first frame", "Source's frame", FIRST_FRAME)
        line = arm_line(frame) + (16, 9)
        hand.drag("along arm and shadow", np.vstack([[line[0, 0], -30], line[::3]]))
    assert hand.count <= ACTIONS_A_FRAME * FRAMES

    mine, oracle, levels = [], [], []
    engine, shot = window.session.engine, window.shot
    for frame in range(FIRST_FRAME, LAST + 1, 3):
        inside = stage_hand.covered(frame) > 0.02
        truth, bare = stage_hand.clean(frame), stage_hand.clean(frame, grain=False)
        result = engine.result(shot, frame)
        mine.append(((result - truth)[inside] ** 2).mean())
        oracle.append(((with_grain(bare, (99, frame)) - truth)[inside] ** 2).mean())
        levels.append(abs(result[inside].mean() / truth[inside].mean() - 1))
    found, limit = (float(-10 * np.log10(np.mean(one))) for one in (mine, oracle))
    assert found > limit - BELOW_ORACLE_DB, (found, limit)
    assert max(levels) < LEVEL
    hand.note(
        f"Cure an arm and its shadow on {FRAMES} frames of a locked-off stage",
        ("in arm and shadow", "PSNR", "oracle", "level off by, worst frame"),
        [("all frames", f"{found:.1f} dB", f"{limit:.1f} dB", f"{max(levels):.2%}")],
    )
