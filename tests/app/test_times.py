"""From which frame something is taken, told in two ways; a quad under the hand."""

import numpy as np
import pytest

from gommage.app.hands.picture import dragged
from gommage.app.steps.fill.times import told_time
from gommage.core.document import FrameOffset, PinnedFrame

QUAD = np.array([[0.0, 0], [40, 0], [40, 20], [0, 20]])


@pytest.mark.parametrize(
    ("time", "is_pinned", "number", "wanted"),
    [
        (FrameOffset(frames=2), False, 5, FrameOffset(frames=5)),
        (PinnedFrame(frame=1003), True, 1009, PinnedFrame(frame=1009)),
        (FrameOffset(frames=2), True, 2, PinnedFrame(frame=1012)),  # on 1010 it shows what it showed
        (PinnedFrame(frame=1003), False, 1003, FrameOffset(frames=-7)),
    ],
)
def test_telling_it_the_other_way_changes_nothing_on_the_frame(time, is_pinned, number, wanted):
    assert told_time(time, is_pinned, number, 1010) == wanted


def at(*xy):
    return np.array(xy, float)


def test_each_grip_moves_what_it_is_on():
    np.testing.assert_array_equal(dragged(QUAD, None, at(5, 5), at(8, 4), is_even=False), QUAD + (3, -1))
    corner = dragged(QUAD, 2, at(40, 20), at(50, 30), is_even=False)
    np.testing.assert_array_equal(corner, [[0, 0], [40, 0], [50, 30], [0, 20]])
    for grip, held in ((4, (0, 1)), (5, (1, 2)), (6, (2, 3)), (7, (3, 0))):
        moved = dragged(QUAD, grip, at(0, 0), at(1, 2), is_even=False)
        assert [k for k in range(4) if (moved[k] != QUAD[k]).any()] == sorted(held)


def test_evenly_a_corner_enlarges_and_the_knob_turns_by_steps():
    larger = dragged(QUAD, 2, at(40, 20), at(80, 40), is_even=True)
    np.testing.assert_allclose(larger, QUAD * 2)
    np.testing.assert_allclose(dragged(QUAD, 2, at(40, 20), at(-900, -900), is_even=True), QUAD * 0.01)  # never through
    middle = QUAD.mean(axis=0)
    turned = dragged(QUAD, 8, middle + (0, -30), middle + (29, 1), is_even=True)  # nearly a quarter
    np.testing.assert_allclose(turned[0], middle + (10, -20), atol=1e-9)
