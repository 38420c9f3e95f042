"""Compiled loops of following against the same written down plainly."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as some
from scipy.ndimage import map_coordinates

from gommage.core.follow.kernels import (
    block_sums,
    deviation,
    likeness,
    likeness_of_tiles,
    normal_equations,
    selected,
)

NUMBERS = some.lists(some.floats(-1e6, 1e6), min_size=1, max_size=60)


@given(NUMBERS, some.data())
def test_a_value_of_a_rank_is_that_of_the_sorted_ones(numbers, data):
    rank = data.draw(some.integers(0, len(numbers) - 1))
    values = np.array([*numbers, np.nan, np.nan])  # what comes after the count is not looked at
    assert selected(values, len(numbers), rank) == sorted(numbers)[rank]
    assert sorted(values[: len(numbers)]) == sorted(numbers)


def test_a_deviation_is_that_of_most_values():
    values = np.random.default_rng(1).normal(3.0, 0.5, 4000)
    values[::10] = 1e6
    values[5::10] = np.nan
    spread, middle = deviation(values)
    assert middle == pytest.approx(3.0, abs=0.1)
    assert spread == pytest.approx(0.5, rel=0.2)  # a tenth of them far off shift it by an eighth
    assert deviation(np.full(9, np.nan)) == (1.0, 0.0)


def test_blocks_add_up_what_is_known_of_them():
    rng = np.random.default_rng(2)
    blocks, values, residual = rng.integers(0, 4, 300), rng.normal(size=300), rng.normal(0.2, 1.0, 300)
    residual[::7] = np.nan
    sums = np.full((5, 5), 9.0)
    block_sums(blocks, values, residual, 0.2, 1.5, sums)
    for block in range(5):
        here = (blocks == block) & np.isfinite(residual)
        off = np.clip(residual[here] - 0.2, -1.5, 1.5)
        wanted = [here.sum(), values[here].sum(), (values[here] ** 2).sum(), off.sum(), (off**2).sum()]
        np.testing.assert_allclose(sums[block], wanted, atol=1e-9)
    assert not sums[4].any()


def test_likeness_is_the_correlation_of_what_is_known_under_its_light():
    rng = np.random.default_rng(3)
    normalised, reference, light = rng.uniform(-1, 1, (500, 2)), rng.random(500), np.array([0.8, 0.1, 0.2, -0.1])
    lit = (light[0] + normalised @ light[2:4]) * reference + light[1]
    residual = rng.normal(0, 0.1, 500)
    residual[::9] = np.nan
    known = np.isfinite(residual)
    wanted = np.corrcoef(lit[known], (lit + residual)[known])[0, 1]
    assert likeness(normalised, reference, residual, light) == pytest.approx(wanted, abs=1e-9)
    assert likeness(normalised, reference, np.full(500, np.nan), light) == 0


def test_likeness_of_tiles_is_the_correlation_within_each_and_none_where_one_was_voted_out():
    rng = np.random.default_rng(5)
    tiles, normalised, reference = rng.integers(0, 12, 600), rng.uniform(-1, 1, (600, 2)), rng.random(600)
    light, residual = np.array([0.8, 0.1, 0.2, -0.1]), rng.normal(0, 0.2, 600)
    allowed, use = np.ones(600), np.ones(600)
    allowed[tiles == 3], use[tiles == 3] = 0, 0  # not looked at
    use[tiles == 5] = 0  # voted out
    residual[(tiles == 3) | (tiles == 5) | (tiles == 7)] = np.nan  # the last out of sight
    found = np.empty(12)
    known = likeness_of_tiles(tiles, normalised, reference, residual, light, allowed, use, found)
    lit = (light[0] + normalised @ light[2:4]) * reference
    wanted = [0.0 if tile == 5 else np.corrcoef(lit[tiles == tile], (lit + residual)[tiles == tile])[0, 1]
              for tile in range(12) if tile not in (3, 7)]  # fmt: skip
    np.testing.assert_allclose(found[:known], wanted, atol=1e-9)


def test_normal_equations_are_the_sums_they_stand_for():
    """Slopes times weights times slopes, written down plainly; what is off the frame or left out takes no part."""
    rng = np.random.default_rng(4)
    frame, points = rng.random((40, 50)).astype(np.float32), rng.uniform(-3, 52, (700, 2))
    matrix = np.array([[1.02, 0.03, -1.5], [-0.02, 0.98, 0.8], [1e-4, -2e-4, 1.0]])
    normalised, reference = (points - (25, 20)) / 20, rng.random(700)
    gradient, use, light, scale = rng.normal(size=(700, 2)), np.ones(700), np.array([0.9, 0.05, 0.1, -0.2]), 0.3
    use[::6] = 0
    active = np.array([0, 1, 2, 3, 6, 8, 9, 11])
    normal, right, residual = np.empty((8, 8)), np.empty(8), np.empty(700)
    count = normal_equations(frame, matrix, points, normalised, reference, gradient, use, active, light, scale, True,
                             normal, right, residual)  # fmt: skip
    u, v, w = matrix @ np.vstack([points.T, np.ones(700)])
    u, v = u / w - 0.5, v / w - 0.5
    on = (use > 0) & (u >= 1) & (u < 48) & (v >= 1) & (v < 38)
    assert count == on.sum() == np.isfinite(residual).sum()
    (p, q), gain = normalised.T, light[0] + normalised @ light[2:]
    off = map_coordinates(frame, [v, u], order=3, prefilter=False, mode="mirror") - gain * reference - light[1]
    np.testing.assert_allclose(residual[on], off[on], atol=1e-6)
    gx, gy = gradient.T * gain
    along = p * gx + q * gy
    slopes = np.array([gx, gy, p * gy - q * gx, along, p * gx - q * gy, q * gx + p * gy, -p * along, -q * along,
                       -reference, -np.ones(700), -reference * p, -reference * q])[active][:, on]  # fmt: skip
    weights = 1 / (1 + (off[on] / scale) ** 2)
    np.testing.assert_allclose(normal, (slopes * weights) @ slopes.T, rtol=1e-5, atol=1e-5)
    np.testing.assert_allclose(right, -(slopes * weights) @ off[on], rtol=1e-5, atol=1e-4)
