"""A tripod taken out of two panoramic clips through the real window, actions counted; by truth."""

import cv2
import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDoubleSpinBox, QPushButton

from gommage.core.document import Project, Shot, Texture
from gommage.demo.footlights_job import judged_panorama, tripod_outlines
from tests import shots
from tests.app.counting import Hand, densely
from tests.app.driving import SHIFT, activate, find
from tests.conftest import settle, wait_until

pytestmark = pytest.mark.journey
MOST_ACTIONS, MOST_BEHIND_DB = 8, 1.5
AT = 1008
ROUGH_PX = 61
"""A hand does not go into corners narrower than that."""


@pytest.fixture(scope="session", params=["footlights"] + ["footlights turned"] * shots.IS_WHOLE)
def footlights(request):
    return shots.shot(request.param)


def test_a_tripod_is_taken_out_of_a_panorama(window, footlights):
    name = "turned by hand" if footlights.is_turned else "standing"
    window.session.begin(Project.of(Shot(id="round", name="Footlights", footage=footlights.footage)))
    window.session.go_to(AT)
    activate(window)
    window.viewer.setFocus()
    settle(window)
    hand = Hand(window, f"tripod, {name}")
    if footlights.is_turned:
        hand.button("follow the turn", find(window.panel, QPushButton, "Follow the turn"))
        wait_until(lambda: window.shot.sphere is not None)
        settle(window)
        forward, right = tilt_of(footlights.turn(AT))
        hand.type_in("level the horizon", find(window.panel, QDoubleSpinBox, "Tip forward"), f"{forward:.2f}")
        hand.type_in("level the horizon", find(window.panel, QDoubleSpinBox, "Tip right"), f"{right:.2f}")
    hand.key("look straight down", (Qt.Key.Key_Down, SHIFT))
    hand.key("step Cover", Qt.Key.Key_2)
    hand.in_line("draw freehand", "Freehand", None)
    hand.drag("draw round tripod and shadow", densely(swept(window, footlights), 8.0))
    hand.key("fill with texture", (Qt.Key.Key_L, SHIFT))
    wait_until(lambda: window.shot.fixes and isinstance(window.shot.fixes[0].fill, Texture) and not window.work.is_busy)
    settle(window)
    assert hand.count <= MOST_ACTIONS

    figures = judged_panorama(window.session.engine, window.session.project, footlights, name)
    assert figures.psnr_db > figures.oracle_db - MOST_BEHIND_DB
    assert figures.changed_outside == 0
    hand.note(
        f"Take a tripod and its shadow out of a panorama, the camera {name}",
        ("where it is covered", "texture", "oracle", "pixels changed outside"),
        [("carpet", f"{figures.psnr_db:.1f} dB", f"{figures.oracle_db:.1f} dB", str(figures.changed_outside))],
    )


def swept(window, footlights):
    """Return an outline round tripod and shadow as they turn in the flat view, as a hand goes round them once."""
    turned, side = window.shot.footage.turned, window.shot.footage.width
    mask = np.zeros((side, side), np.uint8)
    for outline in tripod_outlines(window.session.project, window.shot.id, footlights):
        here = turned.view_from_panorama(AT, (side, side)).inverse()(outline)  # it turns with the camera
        for frame in footlights.footage.frames:
            seen = turned.view_from_panorama(frame, (side, side))(here)
            cv2.fillPoly(mask, [np.round(seen).astype(np.int32)], 1)
    mask = cv2.morphologyEx(mask, cv2.MORPH_CLOSE, np.ones((ROUGH_PX, ROUGH_PX), np.uint8))
    lines, _ = cv2.findContours(mask, cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_NONE)
    return max(lines, key=cv2.contourArea)[:, 0].astype(float)


def tilt_of(turn):
    """Return by how many degrees a camera has to be tipped forward and to the right to be level."""
    down = turn @ (0.0, 1.0, 0.0)
    return np.rad2deg(np.arctan2(-down[2], down[1])), np.rad2deg(np.arctan2(down[0], down[1]))
