"""Patterns that repeat exactly, by fractions of a pixel."""

import numpy as np
import pytest

from gommage.core.fill.patchwork import laid, repeated
from gommage.core.fill.patchwork.repeats import _between

SIDE, GRAIN = 420, 0.01
SIDES = np.array([[46.37, 3.21], [-2.83, 41.62]])
"""Two repeats, rows and columns."""
OFF_PX = 0.05
"""A repeat is told from a hundred thousand pixels, each to some tenths: some hundredths, times up to five repeats."""
SMOOTHED = 1.25
"""What is closed differs from the truth without grain by the grain that is taken along, and by little more."""


def pattern(seed, sides=SIDES):
    """Return a picture that repeats by two sides, smooth between pixels, its light sloping, with grain and without."""
    rng = np.random.default_rng(seed)
    rows, columns = np.mgrid[:SIDE, :SIDE]
    u, v = np.linalg.inv(sides).T @ np.stack([rows.ravel(), columns.ravel()])
    out = np.full((3, SIDE * SIDE), 0.5)
    for _ in range(24):
        i, j = rng.integers(-3, 4, 2)
        wave = 2 * np.pi * (i * u + j * v) + rng.uniform(0, 6, (3, 1))
        out += rng.uniform(0.01, 0.06, (3, 1)) * np.cos(wave)
    clean = np.ascontiguousarray(out.T.reshape(SIDE, SIDE, 3), np.float32)
    return clean, clean + rng.normal(0, GRAIN, clean.shape).astype(np.float32)


def hole_in_the_middle(reach=60):
    hole = np.zeros((SIDE, SIDE), bool)
    middle = SIDE // 2
    hole[middle - reach : middle + reach, middle - reach : middle + reach] = True
    return hole


@pytest.mark.parametrize("seed", [3, 11])
def test_a_hole_in_a_pattern_is_closed_by_whole_repeats(seed):
    clean, grainy = pattern(seed)
    hole = hole_in_the_middle()
    shown = np.where(hole[..., None], np.float32(0.1), grainy)
    offsets = repeated(shown, hole, ~hole)
    assert offsets is not None
    counts = offsets[hole] @ np.linalg.inv(SIDES)
    assert np.abs((counts - np.round(counts)) @ SIDES).max() < 5 * OFF_PX
    closed = laid(shown, hole, offsets)[0]
    assert np.sqrt(((closed - clean)[hole] ** 2).mean()) < SMOOTHED * GRAIN
    np.testing.assert_array_equal(closed[~hole], shown[~hole])


def test_light_over_a_pattern_does_not_hide_it():
    grainy = pattern(5)[1]
    light = np.linspace(0.6, 1.1, SIDE, dtype=np.float32)[:, None, None]
    hole = hole_in_the_middle()
    offsets = repeated(np.ascontiguousarray(grainy * light), hole, ~hole)
    assert offsets is not None
    counts = offsets[hole] @ np.linalg.inv(SIDES)
    assert np.abs((counts - np.round(counts)) @ SIDES).max() < 5 * OFF_PX


def test_nothing_is_taken_from_where_it_must_not_be():
    grainy = pattern(7)[1]
    hole = hole_in_the_middle(40)
    taken = ~hole
    taken[:, : SIDE // 2] = False
    offsets = repeated(grainy, hole, taken)
    assert offsets is not None
    rows, columns = np.nonzero(hole)
    there = np.round(np.stack([rows, columns], axis=1) + offsets[hole]).astype(int)
    assert taken[there[:, 0], there[:, 1]].all()


def test_what_only_looks_like_a_pattern_is_left_to_patches():
    rng = np.random.default_rng(4)
    bricks = np.kron(rng.uniform(0.2, 0.8, (21, 14)), np.ones((20, 30))).astype(np.float32)
    bricks[::20], bricks[:, ::30] = 0.1, 0.1  # joints repeat, what is between them does not
    picture = np.ascontiguousarray(np.repeat(bricks[..., None], 3, axis=2))
    hole = np.zeros(bricks.shape, bool)
    hole[150:260, 150:260] = True
    assert repeated(picture, hole, ~hole) is None
    noise = rng.normal(0.5, 0.1, (SIDE, SIDE, 3)).astype(np.float32)
    assert repeated(noise, hole_in_the_middle(), ~hole_in_the_middle()) is None
    assert repeated(np.full((30, 30, 3), 0.5, np.float32), np.eye(30, dtype=bool), ~np.eye(30, dtype=bool)) is None


def test_between_four_pixels_a_ramp_is_itself():
    down, across = np.mgrid[0:6, 0:9].astype(np.float32)
    ramp = np.stack([2 * down + across, down, across], axis=-1)
    found = _between(ramp, np.array([0, 3]), np.array([5, 7]), np.array([0.25, 0.5]))
    np.testing.assert_allclose(found, [[6.0, 0.25, 5.5], [14.0, 3.25, 7.5]], atol=1e-6)
