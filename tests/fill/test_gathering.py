"""What other frames show, brought together: alike in place and light, and none of what is only on some of them."""

import numpy as np
import pytest

from gommage.core.fill.gathering import ENOUGH, Stack, left_over_motion, light_between, ring_of, ring_points
from gommage.core.geometry import IDENTITY, FieldMapping, Window, from_matrix, shift
from gommage.core.picture import Splines, resample, sampled_at
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


def motion(donor, frame, ring=RING, most_px=1.0):
    """The left-over motion between two pictures of the same window, and the ring it is told by."""
    points = ring_points(frame, WINDOW, ring)
    clean = np.ones(len(points), bool)
    return left_over_motion(points, donor, WINDOW, IDENTITY, clean, most_px), points


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
    """To a twentieth of a pixel with grain on both, from the ring alone."""
    found, _ = motion(grained(wall(), 1) * 0.8, grained(wall(by), 2))
    corners = np.array([[80.5, 65.5], [124.5, 65.5], [124.5, 99.5], [80.5, 99.5]])
    assert np.abs(found(corners) - by(corners)).max() < 0.05


def test_where_the_ring_tells_nothing_no_motion_is_made_up():
    """An even wall with grain: the motion stays far below what grain alone would make of it."""
    even = np.full((HEIGHT, WIDTH, 3), 0.4, np.float32)
    found, points = motion(grained(even, 1), grained(even, 2))
    assert np.abs(found(points.points) - points.points).max() < 0.5


def test_what_is_too_far_is_not_left_over():
    assert motion(wall(), wall(shift(2.5, 0)))[0] is IDENTITY
    assert motion(wall(), wall(shift(0.3, 0)), most_px=0.0)[0] is IDENTITY
    assert motion(wall(), wall(shift(0.3, 0)), np.zeros_like(RING))[0] is IDENTITY


def light(donor, frame):
    """What a donor is multiplied with, (H, W, 3)."""
    ring = ring_points(frame, WINDOW, RING)
    found = light_between(ring, sampled_at(donor, ring.points, WINDOW), np.ones(len(ring), bool))
    across, down = found.factors(WINDOW)
    return across[None] * down[:, None]


def test_light_is_a_factor_and_a_slope():
    slope = np.exp(np.linspace(-0.3, 0.2, WIDTH, dtype=np.float32))[None, :, None] * np.array(
        [0.8, 1.0, 1.2], np.float32
    )
    found = light(grained(wall(), 4), grained(wall() * slope, 3))
    np.testing.assert_allclose((found / slope)[HOLE].mean(axis=0), 1, atol=0.01)
    assert np.abs((found / slope)[45:80, 60:105].mean(axis=0) - 1).max() < 0.02


def test_light_is_not_told_by_what_moved():
    frame = wall().copy()
    frame[:52] = 2.0  # a third of the ring is something else
    np.testing.assert_allclose(light(wall() * 0.7, frame)[HOLE], 1 / 0.7, rtol=0.03)


def test_where_too_little_can_be_compared_no_light_is_told():
    ring = ring_points(wall(), WINDOW, RING)
    few = np.zeros(len(ring), bool)
    few[:20] = True
    assert light_between(ring, ring.shown, few) is None


def stacked(donors, blocked, frames_away):
    stack = Stack(WINDOW, EVERYWHERE)
    for donor, mask, away in zip(donors, blocked, frames_away, strict=True):
        stack.take(Splines.of(donor, WINDOW), IDENTITY, WINDOW, (WINDOW, mask), None, away)
    return stack


NOWHERE = np.zeros_like(EVERYWHERE)


def test_the_average_is_of_those_that_agree():
    """A thing that stands on two of eight donors is not in it; grain is less by the count that it tells."""
    donors = [grained(wall(), 10 + n) for n in range(ENOUGH)]
    for n in (1, 4):
        donors[n] = donors[n].copy()
        donors[n][50:70, 70:90] = (1.5, 0.1, 0.1)
    blocked = [NOWHERE.copy() for _ in donors]
    blocked[0][:, :80] = True
    out = stacked(donors, blocked, [-4, -3, -2, -1, 1, 2, 3, 4]).gathered()
    off = out.pixels - wall()
    assert np.abs(off[50:70, 70:90]).max() < 6 * GRAIN
    free = np.s_[5:40, 90:150]
    assert off[free].std() == pytest.approx(GRAIN / np.sqrt(out.count[free].mean()), rel=0.15)
    assert abs(off[free].mean()) < GRAIN / 5
    assert out.count[free].mean() > 6
    assert out.count[20:, :79].mean() < out.count[free].mean() - 0.5


def test_a_field_takes_as_a_matrix_does():
    """What has no matrix goes by the place of each pixel; the values are the same."""
    by = shift(0.4, -0.7)
    field = FieldMapping("by", lambda points: points + (0.4, -0.7), lambda points: points - (0.4, -0.7))
    outcomes = []
    for mapping in (by, field):
        stack = Stack(WINDOW, EVERYWHERE)
        stack.take(Splines.of(wall(), WINDOW), mapping, WINDOW, (WINDOW, NOWHERE), None, 1)
        outcomes.append(stack.gathered())
    np.testing.assert_allclose(outcomes[0].pixels, outcomes[1].pixels, atol=1e-6)
    np.testing.assert_array_equal(outcomes[0].count, outcomes[1].count)
    assert outcomes[0].count[0].max() == 0, "beyond the donor there is nothing to take"


def test_where_none_is_clean_there_is_nothing():
    blocked = NOWHERE.copy()
    blocked[30:40, 30:40] = True
    stack = stacked([wall()] * 3, [blocked] * 3, (-1, 1, 2))
    out = stack.gathered()
    assert (out.count[30:40, 30:40] == 0).all()
    np.testing.assert_allclose(out.pixels[50:60, 50:60], wall()[50:60, 50:60], rtol=2e-3)
    full = stacked([wall()] * (ENOUGH + 1), [NOWHERE] * (ENOUGH + 1), range(1, ENOUGH + 2))
    assert full.lacking.is_empty
    assert stack.lacking == WINDOW
