"""The pen: jitter, a simulated one, tilt, recorded strokes sent as a tablet sends them."""

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from gommage.app.hands.pen import JITTER_PX, PenPoint, SimulatedPen, Steadied, read_points, simulated, write_points
from gommage.app.picture.pen_replay import replay
from tests.app.driving import at_view, move
from tests.app.painting import strokes, type_in
from tests.conftest import settle


def test_a_steadied_pen_trembles_less_and_never_lags():
    rng = np.random.default_rng(3)
    for px_a_step in (0.3, 2.0, 15.0):
        true = np.column_stack([np.arange(400) * px_a_step, 30 * np.sin(np.arange(400) * px_a_step / 80)])
        shaken = true + rng.normal(0, 0.5, true.shape)
        steadied = Steadied(shaken[0])
        found = np.array([steadied.move(point).copy() for point in shaken])
        behind = np.hypot(*(found - shaken).T)
        assert behind.max() < JITTER_PX
        across = [np.abs(np.diff(line[:, 1], n=2)).std() for line in (found, shaken)]
        assert across[0] < (0.75 if px_a_step < 10 else 1.0) * across[1]


def test_a_simulated_pen_is_light_when_fast_and_lands_lightly():
    pen = SimulatedPen()
    landing = pen.press(0, 0, 0.0)
    slow = [pen.move(step * 0.5, 0, step * 0.01) for step in range(1, 60)]
    fast = [pen.move(30 + step * 25, 0, 0.6 + step * 0.01) for step in range(60)]
    assert landing < 0.5 < slow[-1]
    assert slow == sorted(slow)
    assert fast[-1] < 0.5 * slow[-1]
    assert all(0 < one <= 1 for one in (*slow, *fast))


def test_recorded_strokes_are_written_and_read(tmp_path):
    recorded = (simulated([(10, 20), (60, 40)]), (PenPoint(0, 1, 2, 0.3, 10, -5),))
    write_points(tmp_path / "pen.json", recorded)
    assert read_points(tmp_path / "pen.json") == recorded
    (tmp_path / "other.json").write_text('[[{"x": 3}]]')
    with pytest.raises(ValueError, match="holds no strokes of a pen"):
        read_points(tmp_path / "other.json")


def test_a_replayed_pen_paints_with_its_pressure_or_its_tilt(painting):
    type_in(painting, "Source's frame", 1)
    way = simulated([(40, 50), (80, 52)], px_per_s=150)
    replay(painting.viewer, way, painting.stage.ground().view_from_frame)
    settle(painting)
    (stroke,) = strokes(painting)
    pressures = stroke.points.values[:, 2]
    assert pressures[0] == pytest.approx(way[0].pressure, abs=2e-3)
    assert pressures.max() == pytest.approx(max(point.pressure for point in way), abs=2e-3)
    painting.call("pen_tilts")
    tilted = tuple(PenPoint(point.at_s, point.x, point.y + 10, 1.0, 30, 0) for point in way)
    replay(painting.viewer, tilted, painting.stage.ground().view_from_frame)
    settle(painting)
    np.testing.assert_allclose(strokes(painting)[1].points.values[:, 2], 0.5, atol=0.01)


def test_a_mouse_presses_like_a_pen_where_that_is_wanted(painting):
    type_in(painting, "Source's frame", 1)
    painting.call("simulated_pen")
    assert painting.actions_by_id["simulated_pen"].isChecked()
    places = [at_view(painting, (x, 50)) for x in range(40, 80, 2)]
    QTest.mousePress(painting.viewer, Qt.MouseButton.LeftButton, pos=places[0])
    for place in places[1:]:
        QTest.qWait(4)
        move(painting.viewer, place)
    QTest.mouseRelease(painting.viewer, Qt.MouseButton.LeftButton, pos=places[-1])
    settle(painting)
    (stroke,) = strokes(painting)
    assert len(set(stroke.points.values[:, 2].tolist())) > 3
    painting.call("simulated_pen")
    QTest.mousePress(painting.viewer, Qt.MouseButton.LeftButton, pos=places[0])
    QTest.mouseRelease(painting.viewer, Qt.MouseButton.LeftButton, pos=places[0])
    settle(painting)
    assert strokes(painting)[1].points.values[0, 2] == 1
