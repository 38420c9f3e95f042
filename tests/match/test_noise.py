"""Noise that grain is made of: even over the plane, and the same wherever it is looked at from."""

import numpy as np
import pytest

from gommage.core.match.kernels import grained, white_noise

SIDE = 512
SURE = 5 / SIDE
"""Five deviations of a mean, or a correlation, of so many numbers."""


def noise(seed=7, left=0, top=0, width=SIDE, height=SIDE):
    out = np.empty((height, width, 3), np.float32)
    white_noise(np.uint64(seed), left, top, out)
    return out


def test_it_is_as_good_as_normal():
    values = noise()
    assert np.abs(values.mean(axis=(0, 1))).max() < SURE
    np.testing.assert_allclose(values.std(axis=(0, 1)), 1, atol=SURE)
    normal = [0.6827, 0.9545, 0.9973]
    within = [float((np.abs(values) < deviations).mean()) for deviations in (1, 2, 3)]
    np.testing.assert_allclose(within, normal, atol=0.01)  # a sum of eight even ones has slightly short tails


@pytest.mark.parametrize("step", [(0, 1), (1, 0), (1, 1), (0, 2), (3, 0), (-1, 1)])
def test_neighbours_have_nothing_to_do_with_each_other(step):
    values = noise()
    other = np.roll(values, step, axis=(0, 1))
    assert abs(float((values * other).mean())) < SURE


def test_nor_have_channels_nor_seeds_that_are_next_to_each_other():
    values, next_one = noise(), noise(8)
    for first, second in ((0, 1), (1, 2), (0, 2)):
        assert abs(float((values[..., first] * values[..., second]).mean())) < SURE
    assert abs(float((values * next_one).mean())) < SURE


@pytest.mark.parametrize(("left", "top"), [(0, 0), (100, 37), (-50, -300), (-(2**20), 2**20)])
def test_each_place_of_the_plane_has_its_own_whatever_the_window(left, top):
    whole = noise(left=left, top=top, width=60, height=40)
    np.testing.assert_array_equal(noise(left=left + 13, top=top + 9, width=20, height=15), whole[9:24, 13:33])
    assert not np.array_equal(noise(left=left + 1, top=top, width=60, height=40), whole)


def test_grain_is_as_strong_as_its_level_asks_for_times_its_share():
    rng = np.random.default_rng(2)
    picture = rng.uniform(-0.1, 1.5, (9, 7, 3)).astype(np.float32)
    field = rng.normal(0, 1, picture.shape).astype(np.float32)
    floor, slope = np.float32([1e-5, 2e-5, 3e-5]), np.float32([1e-4, 2e-4, 3e-4])
    share = rng.random((9, 7)).astype(np.float32)
    out = np.empty_like(picture)
    grained(picture, field, floor, slope, np.float32(0.7), share, out)
    wanted = picture + field * np.sqrt(floor + slope * np.maximum(picture, 0)) * 0.7 * share[..., None]
    np.testing.assert_allclose(out, wanted, rtol=1e-5)
