"""Mattes: area, edges and keys against geometry."""

import numpy as np
import pytest

from gommage.core.cover import cover_matte, outline
from gommage.core.document import Array, Cover, Shape, ShapeKey
from gommage.core.picture import Window, translation
from tests.conftest import rectangle, shape_of

BOUNDS = Window.of(200, 150)


def matte_of(cover, frame=1001, matrix=None):
    window, matte = cover_matte(cover, frame, np.eye(3) if matrix is None else matrix, BOUNDS)
    whole = np.zeros((BOUNDS.height, BOUNDS.width), np.float32)
    whole[window.slices] = matte
    return whole


def square(softness=1.0, grow=0.0, **shape):
    return Cover(shapes=(shape_of(rectangle(50, 40, 90, 80), **shape),), softness_px=softness, grow_px=grow)


def test_inside_is_full_and_the_edge_falls_outside_the_line():
    matte = matte_of(square(softness=10))
    assert (matte[40:80, 50:90] == 1).all()
    row = matte[60, 90:102]
    assert (np.diff(row) <= 0).all()
    distance = np.arange(12) + 0.5
    fall = np.clip(1 - distance / 10, 0, 1)
    np.testing.assert_allclose(row, fall * fall * (3 - 2 * fall), atol=1e-5)
    assert matte[60, 101] == 0


def test_grow_moves_the_edge():
    grown, shrunk = matte_of(square(grow=5)), matte_of(square(grow=-5))
    assert grown[60, 94] == 1
    assert grown[60, 97] == 0
    assert shrunk[60, 84] == 1
    assert shrunk[60, 88] == 0


def test_shapes_unite():
    two = Cover(
        shapes=(shape_of(rectangle(10, 10, 30, 30)), shape_of(rectangle(20, 20, 50, 50), shape_id="b")), softness_px=1
    )
    matte = matte_of(two)
    assert matte[15, 15] == matte[45, 45] == matte[25, 25] == 1
    assert matte[45, 15] == 0


def test_it_rides_on_the_surface_and_follows_its_keys():
    shape = Shape(
        id="s",
        keys=(
            ShapeKey(frame=1001, points=Array(rectangle(50, 40, 90, 80))),
            ShapeKey(frame=1003, points=Array(rectangle(70, 40, 110, 80))),
        ),
    )
    cover = Cover(shapes=(shape,), softness_px=1)
    np.testing.assert_array_equal(
        matte_of(cover, 1001, translation(7, 3)), np.roll(matte_of(cover, 1001), (3, 7), (0, 1))
    )
    np.testing.assert_array_equal(matte_of(cover, 1002), np.roll(matte_of(cover, 1001), 10, 1))


def test_a_rounded_square_is_between_its_circles():
    points = outline(rectangle(0, 0, 20, 20), is_smooth=True)
    radius = np.hypot(*(points - 10).T)
    assert radius.max() == pytest.approx(np.hypot(10, 10))
    assert radius.min() > 10
    np.testing.assert_array_equal(outline(rectangle(0, 0, 20, 20), is_smooth=False), rectangle(0, 0, 20, 20))


def test_a_crossed_shape_is_filled_where_it_winds():
    bow = np.array([[10, 10], [60, 60], [60, 10], [10, 60.0]])
    matte = matte_of(Cover(shapes=(shape_of(bow),), softness_px=1))
    assert matte[30, 18] == 1
    assert matte[30, 52] == 1
    assert matte[14, 35] == 0


def test_nothing_where_there_is_nothing():
    assert cover_matte(Cover(), 1001, np.eye(3), BOUNDS) is None
    assert cover_matte(square(), 1001, translation(500, 0), BOUNDS) is None
    behind = np.array([[1, 0, 0], [0, 1, 0], [0, 0, -1.0]])
    assert cover_matte(square(), 1001, behind, BOUNDS) is None


def test_partly_outside_is_cut_at_the_rim():
    window, matte = cover_matte(square(softness=8), 1001, translation(-70, 0), BOUNDS)
    assert window.left == 0
    assert matte.shape == (window.height, window.width)
