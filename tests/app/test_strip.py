"""Where frames lie on the strip, and what is drawn of them at any length."""

import itertools

import numpy as np
import pytest
from PySide6.QtCore import QPoint

from gommage.app.strip.data import StripData
from gommage.app.strip.scale import LEFT, RIGHT, Scale
from gommage.app.strip.strip import FrameStrip
from gommage.core.engine import Step

WIDTH = 800
ROOM = WIDTH - LEFT - RIGHT


def scale_of(count):
    return Scale(1001, 1001 + count, WIDTH)


@pytest.mark.parametrize("count", [20, 300, 5000])
def test_a_frame_is_found_where_it_is(count):
    scale = scale_of(count)
    assert scale.x(1001) == LEFT
    assert scale.x(1001 + count) == pytest.approx(WIDTH - RIGHT)
    for frame in (1001, 1001 + count // 3, 1000 + count):
        assert scale.frame(scale.middle(frame)) == frame


@pytest.mark.parametrize("count", [20, 300, 700, 5000])
@pytest.mark.parametrize("worst", ["low", "high"])
def test_the_worst_frame_is_seen_at_any_length(count, worst):
    """One bad frame among thousands keeps a cell of its own; nothing is drawn where nothing was followed."""
    values = np.full(count, 0.8)
    bad = count // 2
    values[bad] = 0.1 if worst == "low" else 0.99
    values[: count // 10] = np.nan
    cells = scale_of(count).cells(1001, values, worst)
    assert np.isfinite(cells.values).all()
    at = np.argmin(cells.values) if worst == "low" else np.argmax(cells.values)
    assert cells.values[at] == values[bad]
    assert cells.lefts[at] == pytest.approx(scale_of(count).x(1001 + bad), abs=1 + cells.width)
    assert cells.lefts.min() >= scale_of(count).x(1001 + count // 10) - 1
    assert cells.lefts.max() < WIDTH - RIGHT


@pytest.mark.parametrize("count", [300, 700, 5000])
def test_narrow_cells_leave_no_stripes(count):
    cells = scale_of(count).cells(1001, np.full(count, 0.5))
    np.testing.assert_allclose(np.diff(cells.lefts), 1.0)
    assert len(cells.lefts) == pytest.approx(ROOM, abs=2)


def test_a_part_of_the_shot_shows_its_own_frames_alone():
    cells = Scale(1050, 1060, WIDTH).cells(1001, np.linspace(0, 1, 100))
    shown = np.linspace(0, 1, 100)[49:59]
    assert set(np.round(shown, 6)) <= set(np.round(cells.values, 6))
    assert len(cells.values) <= len(shown) + 2


def test_nothing_is_drawn_of_nothing():
    assert len(scale_of(100).cells(1001, np.zeros(0)).values) == 0
    assert len(scale_of(9000).cells(1001, np.zeros(0)).values) == 0


@pytest.mark.parametrize("step", list(Step))
def test_lanes_stay_within_the_strip_and_grow_where_one_works(qtbot, step):
    strip = FrameStrip()
    qtbot.addWidget(strip)
    strip.resize(WIDTH, strip.sizeHint().height())
    data = StripData(first=1001, last=1040, sure_from=1001, sure=np.full(40, 0.9), slips=np.zeros(40),
                     reasons=("",) * 40, figures={1003: 4.0}, span=(1001, 1040), keys=(1010,),
                     strokes={1020: 3}, step=step)  # fmt: skip
    strip.show_data(data)
    lanes = strip.lanes()
    assert [lane.name for lane, _ in lanes] == ["follow", "keys", "strokes", "check"]
    heights = {lane.name: box.height() for lane, box in lanes}
    grown = [lane.name for lane, _ in lanes if step in lane.steps]
    for name, height in heights.items():
        assert height >= 6
        if grown and name not in grown:
            assert height < min(heights[one] for one in grown)
    boxes = [box for _, box in lanes]
    assert all(upper.bottom() <= lower.top() for upper, lower in itertools.pairwise(boxes))
    assert boxes[-1].bottom() <= strip.height()
    image = strip.grab().toImage()
    middle = strip.scale.middle(1003)
    bar = QPoint(int(middle), int(boxes[-1].bottom()) - 2)
    beside = QPoint(int(strip.scale.middle(1008)), bar.y())
    assert image.pixelColor(bar) != image.pixelColor(beside)


def test_frames_on_which_the_camera_is_not_solved_are_drawn_as_none(qtbot):
    strip = FrameStrip()
    qtbot.addWidget(strip)
    strip.resize(WIDTH, strip.sizeHint().height())
    error_px = np.where(np.arange(40) % 2, -1.0, 0.1)  # every other frame is missing
    strip.show_data(StripData(first=1001, last=1040, camera_from=1001, camera=error_px, step=Step.FOLLOW))
    (box,) = [box for lane, box in strip.lanes() if lane.name == "camera"]
    image = strip.grab().toImage()
    solved, missing = (QPoint(int(strip.scale.middle(frame)), int(box.center().y())) for frame in (1001, 1002))
    assert image.pixelColor(solved) != image.pixelColor(missing)
