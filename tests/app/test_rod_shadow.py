"""The shadow of a swaying rod on a painted sky, borrowed away from beside through the real window; by truth."""

import numpy as np
import pytest
from PySide6.QtCore import Qt

from gommage.core.document import Borrow, Project, Shot
from gommage.demo.filming import with_grain
from gommage.demo.moth import SHADOW_FIRST, SHADOW_FRAMES
from tests import shots
from tests.app.counting import Hand
from tests.app.driving import ALT, SHIFT
from tests.conftest import settle, wait_until

pytestmark = pytest.mark.whole
MOST_ACTIONS, BETTER_DB, COVERED = 9, 5.0, 0.6


@pytest.fixture(scope="session")
def rod_shadow():
    return shots.shot("rod shadow")


def test_a_shadow_is_borrowed_away(window, rod_shadow):
    window.session.begin(Project.of(Shot(id="shadow", name="Shadow", footage=rod_shadow.footage)))
    settle(window)
    window.call("fit_view")
    settle(window)
    hand = Hand(window, "rod's shadow")
    hand.frame(1012)
    foot, tip = rod_shadow.line(window.desk.frame)
    hand.key("draw along a wire", (Qt.Key.Key_I, SHIFT))
    for share in (0.56, 1.0):
        hand.click("click along the shadow", foot + share * (tip - foot))
    hand.key("follow it", (Qt.Key.Key_L, ALT))
    wait_until(lambda: not window.work.is_busy)
    settle(window)
    hand.key("borrow", (Qt.Key.Key_K, SHIFT))  # the place that fits best on all frames is found by itself
    wait_until(lambda: isinstance(window.shot.fixes[0].fill, Borrow) and window.session.jobs.is_idle())
    settle(window)
    assert hand.count <= MOST_ACTIONS

    rows = [figures(window, rod_shadow, frame) for frame in range(SHADOW_FIRST, SHADOW_FIRST + SHADOW_FRAMES)]
    before, after, limit, covered = np.mean(rows, axis=0)
    assert after > before + BETTER_DB
    assert covered > COVERED  # the rest lies behind and beside the roofs, where nothing was clicked
    hand.note(
        f"Borrow a rod's shadow away over {SHADOW_FRAMES} frames",
        ("where the shadow is covered, mean of frames", "before", "borrowed", "oracle", "of the shadow covered"),
        [("sky and hills", f"{before:.1f} dB", f"{after:.1f} dB", f"{limit:.1f} dB", f"{covered:.0%}")],
    )


def figures(window, shot, frame):
    """Return the PSNR of the plate, the result and an oracle where the shadow is covered, and how much of it is."""
    engine = window.session.engine
    shadow = shot.shaded(frame) > 0.05
    inside = shadow & (engine.matte(window.shot, window.shot.fixes[0].cover, frame) > 0.5)
    truth, bare = shot.clean(frame), shot.clean(frame, grain=False)
    shown = engine.plate(shot.footage, frame), engine.result(window.shot, frame), with_grain(bare, (99, frame))
    found = [float(-10 * np.log10(((one - truth)[inside] ** 2).mean())) for one in shown]
    return *found, inside.sum() / shadow.sum()
