"""Records refuse what cannot be, and answer questions about frames."""

import numpy as np
import pytest

from gommage.core.document import (
    NOT_SEEN,
    Array,
    Brush,
    Ease,
    FrameRange,
    Frames,
    Key,
    Keys,
    Pin,
    Shape,
    ShapeKey,
    Stroke,
    Track,
    VertexKind,
    is_within,
    outline,
    value_at,
)
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
    frames = FrameRange(first=1001, last=1003)
    assert list(frames) == [1001, 1002, 1003]
    assert len(frames) == 3
    assert 1003 in frames
    assert 1004 not in frames
    with pytest.raises(ValueError, match="1002 to 1001"):
        FrameRange(first=1002, last=1001)


def test_shape_moves_linearly_between_keys_and_rests_outside():
    first, last = rectangle(0, 0, 4, 4), rectangle(8, 0, 12, 4)
    keys = (ShapeKey.of(10, first), ShapeKey.of(14, last))
    shape = Shape(id="s", keys=keys, kinds=(VertexKind.CORNER,) * 4)
    np.testing.assert_array_equal(shape.points_at(3), first)
    np.testing.assert_allclose(shape.points_at(11), first + (2, 0))
    np.testing.assert_array_equal(shape.points_at(14), last)
    np.testing.assert_array_equal(shape.points_at(99), last)
    held = Shape(id="s", keys=keys, kinds=shape.kinds, ease=Ease.HELD)
    np.testing.assert_array_equal(held.points_at(13), first)
    smooth = Shape(id="s", keys=keys, kinds=shape.kinds, ease=Ease.SMOOTH)
    np.testing.assert_allclose(smooth.points_at(12), first + (4, 0))
    np.testing.assert_allclose(smooth.points_at(11), shape.points_at(11))  # two keys alone are straight


def test_open_ends_mean_from_here_on_and_up_to_here():
    assert 5 in Frames(first=5)
    assert 4 not in Frames(first=5)
    assert 5 in Frames(last=5)
    assert 6 not in Frames(last=5)
    whole = FrameRange(first=1, last=9)
    assert Frames(first=7).within(whole) == FrameRange(first=7, last=9)
    assert Frames(first=20).within(whole) is None
    assert is_within((), 123)
    assert [is_within((Frames(last=2), Frames(first=5, last=6)), f) for f in (2, 3, 5, 7)] == [True, False, True, False]


def test_a_keyed_number_goes_from_key_to_key():
    keys = Keys(keys=(Key(frame=10, value=0, ease=Ease.STRAIGHT), Key(frame=14, value=4), Key(frame=18, value=8)))
    assert [value_at(keys, frame) for frame in (3, 10, 11, 14, 16, 99)] == [0, 0, 1, 4, 6, 8]
    assert value_at(keys, 15) < 5, "smooth from the second key on"
    assert value_at(2.5, 7) == 2.5
    with pytest.raises(ValueError, match="order of their frames"):
        Keys(keys=(Key(frame=2, value=1), Key(frame=1, value=1)))


def test_a_line_through_smooth_vertices_and_corners():
    square = rectangle(0, 0, 20, 20)
    rounded = outline(square, (VertexKind.SMOOTH,) * 4)
    radius = np.hypot(*(rounded - 10).T)
    assert radius.max() == pytest.approx(np.hypot(10, 10))
    assert radius.min() > 10
    np.testing.assert_array_equal(outline(square, (VertexKind.CORNER,) * 4), square)
    mixed = outline(square, (VertexKind.CORNER, VertexKind.CORNER, VertexKind.SMOOTH, VertexKind.SMOOTH))
    np.testing.assert_array_equal(mixed[:2], square[:2])  # between two corners the side is straight: one piece
    assert mixed[:, 1].max() > 20


@pytest.mark.parametrize(
    ("make", "words"),
    [
        (lambda: ShapeKey.of(1, [[0, 0]]), "at least 2 vertices"),
        (lambda: ShapeKey.of(1, [[0, 0], [1, np.nan], [2, 2]]), "finite"),
        (lambda: Shape(id="s", keys=(), kinds=()), "at least one key"),
        (lambda: Shape.of("s", 1, [[0, 0], [1, 1]]), "at least 3 vertices"),
        (
            lambda: Shape(
                id="s", keys=(shape_of(rectangle(0, 0, 1, 1), 5).keys[0],) * 2, kinds=(VertexKind.CORNER,) * 4
            ),
            "order of their frames",
        ),
        (lambda: Brush(size_px=0), "a size and spacing above 0"),
        (lambda: Stroke(id="s", points=Array([[0, 0]])), "x, y, pressure"),
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
        track.row(1004)


def test_anything_like_an_array_will_do_where_records_hold_one():
    points = [[1.0, 2.0, 1.0], [3.0, 4.0, 0.5]]
    assert Stroke(id="s", points=points) == Stroke(id="s", points=Array(points))
    assert Pin(frame=1, home=np.array([[1, 2]]), placed=[[3, 4]]).placed == Array([[3.0, 4.0]])
    with pytest.raises(ValueError, match="points must be numbers"):
        Stroke(id="s", points=[[1.0], [2.0, 3.0]])


def test_a_track_has_no_row_where_the_surface_was_not_seen():
    track = Track(
        first_frame=1001, home_to_frame=[np.eye(3)] * 3, corner_slip_px=[[0.1] * 4] * 3, certainty=[1, 0, 1],
        reasons=("", NOT_SEEN, ""),
    )  # fmt: skip
    with pytest.raises(ValueError, match="not seen on frame 1002"):
        track.row(1002)
    assert track.row(1003).tolist() == np.eye(3).tolist()
