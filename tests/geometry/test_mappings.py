"""Mappings, fits, windows, cameras: there and back, composed in order, told apart by their keys."""

import numpy as np
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from gommage.core.geometry import (
    IDENTITY,
    Camera,
    FieldMapping,
    Window,
    around,
    box_of,
    composed,
    fitted,
    from_matrix,
    growth,
    monotone_cubic,
    scaling,
    shift,
    spanning,
    square_on,
    then,
    turning,
)

POINTS = np.array([[0.0, 0.0], [10.0, 5.0], [-3.0, 40.0], [120.0, 80.0]])
EXACT = 1e-9  # a few multiplications of doubles

small = st.floats(-50, 50)
plain_mappings = st.builds(
    lambda dx, dy, turn, factor, lean: composed(
        scaling(factor), turning(turn), shift(dx, dy), from_matrix([[1, 0, 0], [0, 1, 0], [lean, 0, 1]])
    ),
    small, small, st.floats(-3, 3), st.floats(0.2, 5), st.floats(-1e-3, 1e-3),
)  # fmt: skip


def bent():
    """A mapping that is no matrix: a sheet that waves."""
    return FieldMapping(
        "bent",
        lambda p: p + np.stack([np.zeros_like(p[..., 1]), 4 * np.sin(p[..., 0] / 20)], axis=-1),
        lambda p: p - np.stack([np.zeros_like(p[..., 1]), 4 * np.sin(p[..., 0] / 20)], axis=-1),
    )


@given(plain_mappings)
def test_there_and_back(mapping):
    there = mapping(POINTS)
    known = np.isfinite(there).all(axis=1)
    np.testing.assert_allclose(mapping.inverse()(there[known]), POINTS[known], atol=1e-6)
    assert then(mapping, mapping.inverse()).matrix == pytest.approx(np.eye(3), abs=1e-6)


@given(plain_mappings, plain_mappings)
def test_then_does_the_first_first(one, other):
    np.testing.assert_allclose(then(one, other)(POINTS), other(one(POINTS)), rtol=1e-6, atol=1e-6, equal_nan=True)


@pytest.mark.parametrize("order", [(0, 1, 2), (1, 0, 2), (2, 1, 0)])
def test_fields_compose_with_matrices_in_any_order(order):
    steps = [shift(3, -2), bent(), scaling(0.5)]
    chosen = [steps[index] for index in order]
    wanted = POINTS
    for step in chosen:
        wanted = step(wanted)
    whole = composed(*chosen)
    assert whole.matrix is None
    np.testing.assert_allclose(whole(POINTS), wanted, atol=EXACT)
    np.testing.assert_allclose(whole.inverse()(wanted), POINTS, atol=EXACT)


def test_keys_tell_mappings_apart_and_equal_ones_together():
    assert shift(1, 2) == shift(1, 2)
    assert hash(shift(1, 2)) == hash(shift(1, 2))
    assert shift(1, 2) != shift(1, 2.0001)
    assert from_matrix(2 * np.eye(3)) == IDENTITY, "the scale of a matrix means nothing"
    assert from_matrix(-0.0 * np.eye(3) + np.eye(3)) == IDENTITY
    assert bent() == bent()
    assert then(bent(), shift(1, 0)) != then(shift(1, 0), bent())
    assert then(IDENTITY, bent()) == bent()


def test_a_field_of_places_is_the_mapping_at_pixel_centres():
    window = Window(3, 5, 7, 8)
    for mapping in (shift(1, 2), bent()):
        field = mapping.field(window)
        assert field.shape == (3, 4, 2)
        np.testing.assert_allclose(field[1, 2], mapping(np.array([5.5, 6.5])))


@pytest.mark.parametrize("matrix", [np.full((3, 3), np.nan), np.eye(2), np.full((3, 3), np.inf)])
def test_what_is_no_matrix_is_refused(matrix):
    with pytest.raises(ValueError, match="needs a finite matrix"):
        from_matrix(matrix)


def test_what_folds_the_plane_has_no_way_back():
    with pytest.raises(ValueError, match="no way back"):
        scaling(0.0).inverse()


def test_scaling_may_differ_across_and_down():
    np.testing.assert_allclose(scaling(2, 3)(np.array([5.0, 7.0])), (10, 21))
    np.testing.assert_allclose(scaling(2)(np.array([5.0, 7.0])), (10, 14))


@given(st.floats(0.1, 8), st.floats(-3, 3))
def test_growth_is_the_scale_wherever_it_is_even(factor, turn):
    assert growth(composed(scaling(factor), turning(turn)), np.array([30.0, 20.0])) == pytest.approx(factor, rel=1e-4)


def test_the_rim_of_a_window_spans_what_it_becomes():
    window = Window(0, 0, 40, 30)
    seen = spanning(bent(), window, 16)
    inside = bent().field(window).reshape(-1, 2)
    assert (inside.min(axis=0) >= seen.min(axis=0) - 0.2).all()
    assert (inside.max(axis=0) <= seen.max(axis=0) + 0.2).all()
    assert around(seen, 1).grown(1).height >= window.height


# -- fits -------------------------------------------------------------------------------------------------------


def test_points_that_lie_nowhere_ask_for_nothing():
    """Behind the camera a point has no place; the others decide, and with none nothing moves."""
    source = np.array([[0.0, 0], [10, 0], [10, 10], [0, 10]])
    target = source + (3, 4)
    target[2] = np.nan
    np.testing.assert_allclose(fitted(source, target)[:2, 2], (3, 4), atol=EXACT)
    np.testing.assert_array_equal(fitted(source, np.full((4, 2), np.nan)), np.eye(3))


def test_square_on_makes_a_rectangle_of_the_mean_sides():
    corners = np.array([[0.0, 0.0], [100, 10], [95, 70], [5, 80]])
    seen = from_matrix(square_on(corners))(corners)
    (left, top), (right, bottom) = seen[0], seen[2]
    np.testing.assert_allclose(seen, [[left, top], [right, top], [right, bottom], [left, bottom]], atol=1e-6)
    np.testing.assert_allclose(seen.mean(axis=0), corners.mean(axis=0), atol=1e-6)
    sides = np.hypot(*(np.roll(corners, -1, axis=0) - corners).T)
    assert right - left == pytest.approx((sides[0] + sides[2]) / 2)


def test_boxes_run_round_from_the_top_left():
    np.testing.assert_array_equal(box_of(POINTS, 1.0), [[-4, -1], [121, -1], [121, 81], [-4, 81]])


@given(st.lists(st.floats(-100, 100), min_size=2, max_size=7))
@example([0.0, 0.0, 1.1125369292536007e-308])
def test_a_curve_meets_its_values_and_never_overshoots(values):
    at = np.arange(len(values)) * 10.0
    wanted = np.arange(-20, at[-1] + 20)
    found = monotone_cubic(at, np.array(values), wanted)
    np.testing.assert_allclose(monotone_cubic(at, np.array(values), at), values, atol=1e-7)
    assert found.min() >= min(values) - 1e-7
    assert found.max() <= max(values) + 1e-7
    np.testing.assert_allclose(found[wanted < 0], values[0])
    np.testing.assert_allclose(found[wanted > at[-1]], values[-1])


# -- windows ----------------------------------------------------------------------------------------------------


@given(st.integers(-40, 40), st.integers(-40, 40), st.integers(1, 60), st.integers(1, 60))
def test_windows_scale_outwards(left, top, width, height):
    window = Window(left, top, left + width, top + height)
    half = window.scaled(0.5)
    assert half.left * 2 <= window.left
    assert half.right * 2 >= window.right
    assert (half.scaled(2) & window) == window
    assert window.aligned(8).left % 8 == window.aligned(8).bottom % 8 == 0
    assert (window.aligned(8) & window) == window


def test_what_windows_share_and_where_it_lies():
    one, other = Window(0, 0, 10, 10), Window(6, 4, 20, 9)
    assert (one & other) == Window(6, 4, 10, 9)
    assert (one | other) == Window(0, 0, 20, 10)
    assert (one & Window(50, 50, 60, 60)).is_empty
    picture = np.arange(100).reshape(10, 10)
    shared = one & other
    np.testing.assert_array_equal(picture[shared.within(one)], picture[4:9, 6:10])


@given(st.floats(-0.2, 0.2), st.floats(-0.2, 0.2), st.floats(-0.5, 0.5), st.floats(2, 9))
def test_a_camera_sees_a_sheet_where_the_pinhole_says(yaw, pitch, roll, distance):
    """Each point of the sheet, turned into the camera's axes by hand and divided by its depth."""
    camera = Camera(800.0, (320.0, 240.0), yaw, pitch, roll, np.array([0.1, -0.2, 0.0]))
    corner, across, down = np.array([-1.0, -1.0, distance]), np.array([0.01, 0, 0]), np.array([0, 0.01, 0.002])
    seen = camera.sees_plane(corner, across, down)(POINTS)
    scene = corner + POINTS[:, :1] * across + POINTS[:, 1:] * down - camera.position
    x, y, z = scene.T
    x, z = np.cos(yaw) * x + np.sin(yaw) * z, -np.sin(yaw) * x + np.cos(yaw) * z
    y, z = np.cos(pitch) * y - np.sin(pitch) * z, np.sin(pitch) * y + np.cos(pitch) * z
    x, y = np.cos(roll) * x - np.sin(roll) * y, np.sin(roll) * x + np.cos(roll) * y
    np.testing.assert_allclose(seen, np.column_stack([320 + 800 * x / z, 240 + 800 * y / z]), rtol=1e-6, atol=1e-6)
