"""What other frames show, brought together: alike in place and light, and none of what is only on some of them."""

import numpy as np
import pytest

from gommage.core.fill.gathering import GAMMA, gathered, left_over_motion, lit_alike, ring_of
from gommage.core.geometry import IDENTITY, Window, from_matrix, shift
from gommage.core.picture import resample
from tests.conftest import texture

HEIGHT, WIDTH = 120, 160
WALL = texture(HEIGHT + 40, WIDTH + 40, seed=12)
WINDOW = Window(20, 20, 20 + WIDTH, 20 + HEIGHT)
HOLE = np.zeros((HEIGHT, WIDTH), bool)
HOLE[45:80, 60:105] = True
EVERYWHERE = np.ones((HEIGHT, WIDTH), bool)
RING = ring_of(HOLE, EVERYWHERE)
GRAIN = 0.01


def wall(by=IDENTITY):
    return resample(WALL, by, WINDOW).pixels


def grained(picture, seed):
    return picture + np.random.default_rng(seed).normal(0, GRAIN, picture.shape).astype(np.float32)


def test_a_ring_leaves_out_the_hole_its_edge_and_what_is_not_known():
    known = EVERYWHERE.copy()
    known[:, 110:] = False
    ring = ring_of(HOLE, known)
    assert not ring[HOLE].any()
    assert not ring[44, 70]
    assert ring[38, 70]
    assert not ring[60, 112]
    assert not ring[10, 70]


@pytest.mark.parametrize(
    "by",
    [
        shift(0.3, -0.2),
        shift(-0.6, 0.4),
        from_matrix(np.array([[1.002, 0.001, -0.1], [-0.001, 0.999, 0.2], [0, 0, 1]])),
    ],
)
def test_left_over_motion_is_found_whatever_the_light(by):
    """To a fiftieth of a pixel with grain on both, from the ring alone."""
    donor, frame = grained(wall(), 1) * 0.8, grained(wall(by), 2)
    found = left_over_motion(donor, frame, RING, 1.0)
    corners = np.array([[60.5, 45.5], [104.5, 45.5], [104.5, 79.5], [60.5, 79.5]])
    wanted = by(corners + 20) - 20
    assert np.abs(found(corners) - wanted).max() < 0.05


def test_what_is_too_far_is_not_left_over():
    assert left_over_motion(wall(), wall(shift(2.5, 0)), RING, 1.0) is IDENTITY
    assert left_over_motion(wall(), wall(shift(0.3, 0)), RING, 0.0) is IDENTITY
    assert left_over_motion(wall(), wall(shift(0.3, 0)), np.zeros_like(RING), 1.0) is IDENTITY


def test_light_is_a_factor_and_a_slope():
    slope = np.exp(np.linspace(-0.3, 0.2, WIDTH, dtype=np.float32))[None, :, None] * np.array(
        [0.8, 1.0, 1.2], np.float32
    )
    frame = grained(wall() * slope, 3)
    lit = lit_alike(grained(wall(), 4), frame, RING)
    ratio = lit[HOLE].mean(axis=0) / (wall() * slope)[HOLE].mean(axis=0)
    np.testing.assert_allclose(ratio, 1, atol=0.01)
    left = (lit / np.maximum(wall() * slope, 0.05))[45:80, 60:105].mean(axis=(0, 2))
    assert abs(left[:5].mean() - left[-5:].mean()) < 0.02


def test_light_is_not_told_by_what_moved():
    frame = wall().copy()
    frame[:52] = 2.0  # a third of the ring is something else
    lit = lit_alike(wall() * 0.7, frame, RING)
    assert lit[HOLE].mean() / wall()[HOLE].mean() == pytest.approx(1, abs=0.02)


def test_the_average_is_of_those_that_agree():
    """A thing that stands on three of nine donors is not in it; grain is less by the count that it tells."""
    sigma = (GRAIN * GAMMA * 0.4 ** (GAMMA - 1),) * 3
    donors = [grained(wall(), 10 + n) for n in range(9)]
    for n in (1, 4, 6):
        donors[n] = donors[n].copy()
        donors[n][50:70, 70:90] = (1.5, 0.1, 0.1)
    clean = [EVERYWHERE.copy() for _ in donors]
    clean[0][:, :80] = False
    out = gathered(donors, clean, [-4, -3, -2, -1, 1, 2, 3, 4, 5], sigma)
    off = out.pixels - wall()
    assert np.abs(off[50:70, 70:90]).max() < 6 * GRAIN
    free = np.s_[5:40, 90:150]
    assert off[free].std() == pytest.approx(GRAIN / np.sqrt(out.count[free].mean()), rel=0.15)
    assert abs(off[free].mean()) < GRAIN / 5
    assert out.count[free].mean() > 6
    assert set(np.unique(out.nearest)) <= set(range(9))


def test_where_none_is_clean_there_is_nothing():
    clean = [EVERYWHERE.copy() for _ in range(3)]
    for one in clean:
        one[30:40, 30:40] = False
    out = gathered([wall()] * 3, clean, [-1, 1, 2], (0.01, 0.01, 0.01))
    assert (out.count[30:40, 30:40] == 0).all()
    assert (out.nearest[30:40, 30:40] == -1).all()
    np.testing.assert_allclose(out.pixels[50:60, 50:60], wall()[50:60, 50:60], rtol=1e-4)
