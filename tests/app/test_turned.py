"""The picture turned on the desk: paint is where the hand put it, at any angle; what is stored is the same."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest

from gommage.app.picture.framing import Framing
from gommage.core.engine import Engine
from tests.app.driving import ALT, click, drag, press
from tests.conftest import settle


def test_a_framing_keeps_what_is_under_the_pen():
    framing = Framing(width=800, height=600, x=400, y=300, zoom=1.5, aspect=2.0, turn_deg=30.0)
    place = framing.view_from_picture.inverse()(np.array([200.0, 500.0]))
    for other in (framing.zoomed(4.0, (200, 500)), framing.turned(-75.0, (200, 500)), framing.zoomed(99.0, (200, 500))):
        np.testing.assert_allclose(other.view_from_picture(place), (200, 500), atol=1e-6)
    moved = framing.panned(30.0, -20.0)
    np.testing.assert_allclose(moved.view_from_picture(place), (230, 480), atol=1e-6)
    assert framing.turned(190.0).turn_deg == pytest.approx(-170)
    np.testing.assert_allclose(framing.view_from_picture(np.array([400.0, 300.0])), (400, 300))


@pytest.mark.parametrize("turn_deg", [0.0, 30.0, 90.0, -135.0])
def test_a_whole_picture_fits_at_any_angle(turn_deg):
    framing = Framing(width=800, height=500, turn_deg=turn_deg).fitted(1920, 1080)
    corners = framing.view_from_picture(np.array([[0, 0], [1920, 0], [1920, 1080], [0, 1080.0]]))
    assert (corners >= 11.9).all()
    assert (corners <= (788.1, 488.1)).all()
    assert min(corners[:, 0].min() - 12, corners[:, 1].min() - 12) == pytest.approx(0, abs=0.1)


def test_painting_on_a_turned_picture(painting):
    """Where the hand draws there is paint; the path that is stored is in the picture's pixels."""
    window = painting
    for _ in range(3):
        press(window, (Qt.Key.Key_W, ALT))
    settle(window)
    assert window.viewer.framing.turn_deg == pytest.approx(45)
    assert "+45°" in window.view_bar.zoom.text()
    click(window, (60, 40), ALT)
    settle(window)
    drag(window, [(70, 50), (90, 60), (100, 50)])
    settle(window)
    (stroke,) = window.shot.fixes[-1].touch_up.strokes
    found = stroke.points.values[:, :2]
    np.testing.assert_allclose(found[0], (70, 50), atol=0.6)
    np.testing.assert_allclose(found[-1], (100, 50), atol=0.6)
    assert (fixless(window) != window.session.engine.result(window.shot, window.desk.frame)).any()
    fresh = Engine(10**9).result(window.shot, window.desk.frame)
    np.testing.assert_allclose(window.session.engine.result(window.shot, window.desk.frame), fresh, atol=1e-6)
    outline = window.stage.ground().strokes[-1]
    np.testing.assert_allclose(outline.points[0, :2], window.viewer.view_from_picture()(np.array([70.0, 50.0])), atol=1)
    press(window, (Qt.Key.Key_E, ALT))
    assert window.viewer.framing.turn_deg == 0
    assert "°" not in window.view_bar.zoom.text()


def fixless(window):
    return window.session.engine.plate(window.shot.footage, window.desk.frame)


def test_pan_goes_with_the_hand_on_a_turned_picture(painting):
    viewer = painting.viewer
    viewer.turn_to(90.0)
    place = np.array([75.0, 55.0])
    was = viewer.view_from_picture()(place)
    QTest.mousePress(viewer, Qt.MouseButton.MiddleButton, pos=QPoint(100, 100))
    QTest.mouseMove(viewer, QPoint(140, 110))
    QTest.mouseRelease(viewer, Qt.MouseButton.MiddleButton, pos=QPoint(140, 110))
    np.testing.assert_allclose(viewer.view_from_picture()(place) - was, (40, 10), atol=1e-6)
