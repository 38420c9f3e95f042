"""Records refuse what cannot be, and answer questions about frames."""

import numpy as np
import pytest

from gommage.core.document import Array, Frames, Shape, ShapeKey, Stroke, Tool, Track
from tests.conftest import rectangle, shape_of


def test_arrays_are_copied_frozen_and_compared_by_content():
    values = np.zeros((2, 2))
    array = Array(values)
    values[0, 0] = 5
    assert array.values[0, 0] == 0
    assert array == Array([[0, 0], [0, 0]])
    assert hash(array) == hash(Array(np.zeros((2, 2))))
    assert array != Array([0, 0, 0, 0])
    with pytest.raises(ValueError, match="read-only"):
        array.values[0, 0] = 1
    with pytest.raises(AttributeError, match="frozen"):
        array.values = values


def test_frames_count_both_ends():
    frames = Frames(first=1001, last=1003)
    assert list(frames) == [1001, 1002, 1003]
    assert len(frames) == 3
    assert 1003 in frames
    assert 1004 not in frames
    with pytest.raises(ValueError, match="1002 to 1001"):
        Frames(first=1002, last=1001)


def test_shape_moves_linearly_between_keys_and_rests_outside():
    first, last = rectangle(0, 0, 4, 4), rectangle(8, 0, 12, 4)
    shape = Shape(id="s", keys=(ShapeKey(frame=10, points=Array(first)), ShapeKey(frame=14, points=Array(last))))
    np.testing.assert_array_equal(shape.points_at(3), first)
    np.testing.assert_allclose(shape.points_at(11), first + (2, 0))
    np.testing.assert_array_equal(shape.points_at(14), last)
    np.testing.assert_array_equal(shape.points_at(99), last)


@pytest.mark.parametrize(
    ("make", "words"),
    [
        (lambda: ShapeKey(frame=1, points=Array([[0, 0], [1, 1]])), "at least 3 points"),
        (lambda: ShapeKey(frame=1, points=Array([[0, 0], [1, np.nan], [2, 2]])), "finite"),
        (lambda: Shape(id="s", keys=()), "at least one key"),
        (lambda: Shape(id="s", keys=(shape_of(rectangle(0, 0, 1, 1), 5).keys[0],) * 2), "order of their frames"),
        (lambda: Stroke(id="s", tool=Tool.CLONE, points=Array([[0, 0, 1]]), size_px=0), "size above 0"),
        (lambda: Stroke(id="s", tool=Tool.CLONE, points=Array([[0, 0]]), size_px=1), "x, y, pressure"),
        (
            lambda: Track(
                first_frame=1,
                home_to_frame=Array(np.eye(3)[None]),
                corner_slip_px=Array([[0] * 4]),
                certainty=Array([1]),
                reasons=(),
            ),
            "a matrix, four slips, a certainty and a reason a frame",
        ),
    ],
)
def test_what_cannot_be_is_refused(make, words):
    with pytest.raises(ValueError, match=words):
        make()


def test_track_names_the_frames_it_has():
    track = Track(
        first_frame=1005,
        home_to_frame=Array(np.stack([np.eye(3)] * 2)),
        corner_slip_px=Array([[0] * 4, [1] * 4]),
        certainty=Array([1, 1]),
        reasons=("", ""),
    )
    assert (track.frames.first, track.frames.last) == (1005, 1006)
    with pytest.raises(ValueError, match="1004 was not followed"):
        track.matrix(1004)
