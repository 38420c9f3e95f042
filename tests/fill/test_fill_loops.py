"""Compiled loops of filling against the same written down plainly."""

import numpy as np
import pytest
from scipy.ndimage import map_coordinates

from gommage.core.fill.kernels import average_of_those_that_agree, grain_seen, take, take_at
from gommage.core.fill.thin_plates import LEAST_FULL, cells_of, means_of_cells, put_under_light

WIDTH, HEIGHT, SLOTS = 21, 15, 3
DONOR = (30, 24)
"""Width and height of what donors show, cut out of a larger picture."""
AT = np.array([44, 10])
TURNED = np.array([[0.9, -0.15, 41.0], [0.2, 1.05, 8.0], [0.0015, -0.001, 1.0]])
LEFT, TOP = 3, 2


def donor(seed=1):
    return np.random.default_rng(seed).random((DONOR[1], DONOR[0], 3), np.float32)


def places_in(matrix):
    x, y = np.meshgrid(np.arange(LEFT, LEFT + WIDTH) + 0.5, np.arange(TOP, TOP + HEIGHT) + 0.5)
    u, v, w = np.einsum("ij,jhw->ihw", matrix, np.stack([x, y, np.ones_like(x)]))
    return np.stack([u / w, v / w], axis=2)


def read_at(coefficients, places):
    """Splines by SciPy, the rims continued by their nearest pixel."""
    u = np.clip(places[..., 0] - AT[0] - 0.5, 0, DONOR[0] - 1)
    v = np.clip(places[..., 1] - AT[1] - 0.5, 0, DONOR[1] - 1)
    return np.stack([map_coordinates(coefficients[..., c].astype(float), [v, u], order=3, mode="mirror",
                                     prefilter=False) for c in range(3)], axis=2)  # fmt: skip


def a_window(seed=2):
    """What pixels want, what of the donor is blocked, and the light between both."""
    rng = np.random.default_rng(seed)
    wanted, blocked = rng.random((HEIGHT, WIDTH)) < 0.7, rng.random((6, 9)) < 0.5
    light = rng.uniform(0.5, 2, (WIDTH, 3)).astype(np.float32), rng.uniform(0.5, 2, (HEIGHT, 3)).astype(np.float32)
    return wanted, blocked, np.array([AT[0] + 3, AT[1] + 4]), light


def empty_slots():
    return (np.zeros((HEIGHT, WIDTH, SLOTS, 3), np.float32), np.full((HEIGHT, WIDTH, SLOTS), -1, np.int16),
            np.zeros((HEIGHT, WIDTH), np.int64))  # fmt: skip


def may_be_taken(places, wanted, bounds, blocked, corner):
    """Which pixels get a value, one by one."""
    out = wanted.copy()
    for row, column in np.argwhere(wanted):
        u, v = places[row, column]
        if not (bounds[0] <= u < bounds[2] and bounds[1] <= v < bounds[3]):
            out[row, column] = False
            continue
        i, j = int(u) - corner[0], int(v) - corner[1]
        if 0 <= j < blocked.shape[0] and 0 <= i < blocked.shape[1] and blocked[j, i]:
            out[row, column] = False
    return out


@pytest.mark.parametrize("by_field", [False, True])
def test_donors_give_what_scipy_reads_where_it_may_be_taken(by_field):
    """Inside and at the rims; what is blocked, beyond the picture or not wanted gets nothing."""
    coefficients, bounds = donor(), np.array([AT[0] + 0.2, AT[1] + 0.3, AT[0] + 12.0, AT[1] + 14.0])
    wanted, blocked, corner, (across, down) = a_window()
    values, which, count = empty_slots()
    places = places_in(TURNED)
    if by_field:
        take_at(coefficients, AT, places, wanted, bounds, blocked, corner, across, down, 7, values, which, count)
    else:
        take(coefficients, AT, TURNED, LEFT, TOP, wanted, bounds, blocked, corner, across, down, 7, values, which,
             count)  # fmt: skip
    taken = may_be_taken(places, wanted, bounds, blocked, corner)
    assert 0.2 < taken.mean() < 0.6
    np.testing.assert_array_equal(count, taken)
    np.testing.assert_array_equal(which[..., 0], np.where(taken, 7, -1))
    wanted_values = read_at(coefficients, places) * across[None] * down[:, None]
    np.testing.assert_allclose(values[..., 0, :][taken], wanted_values[taken], rtol=2e-5, atol=2e-6)  # of float32
    assert not values[..., 1:, :].any()


def test_places_that_are_no_numbers_give_nothing():
    places, (wanted, blocked, corner, (across, down)) = places_in(TURNED), a_window()
    places[:, ::2] = np.nan
    values, which, count = empty_slots()
    take_at(donor(), AT, places, np.ones_like(wanted), np.array([0.0, 0, 500, 500]), blocked[:0], corner, across, down,
            0, values, which, count)  # fmt: skip
    assert not count[:, ::2].any()
    assert count[:, 1::2].all()


def test_no_more_is_taken_than_there_are_slots():
    wanted, blocked, corner, (across, down) = a_window()
    values, which, count = empty_slots()
    for number in range(SLOTS + 2):
        take(donor(number), AT, TURNED, LEFT, TOP, wanted, np.array([0.0, 0, 500, 500]), blocked[:0], corner, across,
             down, number, values, which, count)  # fmt: skip
    assert set(np.unique(count)) == {0, SLOTS}
    np.testing.assert_array_equal(which[wanted], np.tile(np.arange(SLOTS), (wanted.sum(), 1)))


# -- averages -----------------------------------------------------------------------------------------------

LIMITS, DEVIATIONS = np.array([0.03, 0.04, 0.05], np.float32), np.float32(2.5)


def drawn_values(slots=7, seed=3):
    """Values around a level with grain, some far off it, as many of each pixel as there happen to be."""
    rng = np.random.default_rng(seed)
    level = rng.uniform(0.05, 0.8, (HEIGHT, WIDTH, 1, 3))
    values = level + rng.normal(0, 0.02, (HEIGHT, WIDTH, slots, 3))
    values += (rng.random((HEIGHT, WIDTH, slots, 1)) < 0.2) * rng.uniform(-0.4, 0.6, (HEIGHT, WIDTH, slots, 3))
    which = rng.permuted(np.tile(np.arange(slots), (HEIGHT, WIDTH, 1)), axis=2).astype(np.int16)
    count = rng.integers(0, slots + 1, (HEIGHT, WIDTH))
    return np.maximum(values, 0).astype(np.float32), which, count, rng.uniform(0.2, 1, slots).astype(np.float32)


def average_plainly(values, which, weights):
    """One pixel's mean, how much that tells, and the share that agrees."""
    agrees = np.ones(len(values), bool)
    for c in range(3):
        one = values[:, c].astype(np.float64)
        for middle in (one.mean(), np.median(one)):
            limit = LIMITS[c] * 2 * np.sqrt(max(middle, 5e-4))
            off = np.abs(one - middle)
            if (off <= limit).all():
                break
        else:
            agrees &= off <= max(limit, DEVIATIONS * 1.4826 * np.median(off))
    own = weights[which]
    if not agrees.any():
        return values[own.argmax()], 1.0, 0.0
    own, kept = own[agrees], values[agrees]
    return own @ kept / own.sum(), own.sum() ** 2 / (own**2).sum(), agrees.mean()


def test_the_average_is_that_of_a_plain_loop():
    values, which, count, weights = drawn_values()
    mean, told_by, agreeing = average_of_those_that_agree(values, which, count, weights, LIMITS, DEVIATIONS)
    for row, column in np.ndindex(count.shape):
        known = count[row, column]
        if known == 0:
            assert not mean[row, column].any()
            assert told_by[row, column] == agreeing[row, column] == 0
            continue
        wanted = average_plainly(values[row, column, :known], which[row, column, :known], weights)
        np.testing.assert_allclose(mean[row, column], wanted[0], rtol=1e-4, atol=1e-5)
        assert told_by[row, column] == pytest.approx(wanted[1], rel=1e-4)
        assert agreeing[row, column] == pytest.approx(wanted[2], abs=1e-5)
    assert 0.02 < (agreeing[count > 2] < 1).mean() < 0.98


def test_grain_that_is_seen_is_the_median_spread_of_roots():
    values, _, count, _ = drawn_values()
    step, least = 2, 4
    index = np.arange(0, count.size, step)
    some = [values.reshape(-1, *values.shape[2:])[n, : count.flat[n]] for n in index if count.flat[n] >= least]
    roots = [np.sqrt(one.astype(np.float64)) for one in some]
    spreads = [np.median(np.abs(one - np.median(one, axis=0)), axis=0) for one in roots]
    np.testing.assert_allclose(grain_seen(values, count, least, step), 1.4826 * np.median(spreads, axis=0), rtol=1e-4)
    assert not grain_seen(values, count, values.shape[2] + 1, step).any()


# -- cells of rims ------------------------------------------------------------------------------------------

SIDE = 4


def a_rim(seed=4):
    """A ring with holes in it."""
    y, x = np.mgrid[:26, :31]
    apart = np.hypot(x - 15, y - 12)
    return (apart > 6) & (apart < 12) & (np.random.default_rng(seed).random(apart.shape) < 0.85)


def test_cells_hold_each_pixel_of_theirs_once():
    rim = a_rim()
    points, counts, pixels = cells_of(rim, SIDE)
    places = {}
    for row, column in np.argwhere(rim):
        places.setdefault((row // SIDE, column // SIDE), []).append((column + 0.5, row + 0.5))
    full = [np.array(places[key]) for key in sorted(places) if len(places[key]) >= LEAST_FULL * SIDE**2]
    assert 10 < len(full) < len(places)
    np.testing.assert_allclose(points, [one.mean(axis=0) for one in full])
    np.testing.assert_array_equal(counts, [len(one) for one in full])
    for cell, one in enumerate(full):
        found = pixels[pixels[:, 2] == cell]
        assert {(column + 0.5, row + 0.5) for row, column, _ in found} == set(map(tuple, one))


def a_frame(seed=5):
    return np.random.default_rng(seed).random((60, 70, 3), np.float32)


def mixed_of_four(frame, x, y):
    """Values at places by SciPy, centres of pixels at +0.5."""
    return np.stack([map_coordinates(frame[..., c].astype(float), [y - 0.5, x - 0.5], order=1) for c in range(3)], -1)


@pytest.mark.parametrize("step", [[[1, 0, 14], [0, 1, 9]], [[0.95, -0.2, 20.3], [0.15, 1.05, 6.8]]])
def test_means_of_cells_are_those_of_their_pixels_that_are_seen(step):
    frame, step = a_frame(), np.array(step, float)
    _, counts, pixels = cells_of(a_rim(), SIDE)
    hidden = np.zeros(frame.shape[:2], bool)
    hidden[20:26, 22:40] = True
    means, seen = np.empty((len(counts), 3)), np.empty(len(counts))
    means_of_cells(frame, hidden, pixels, np.array([0, len(pixels)]), step[None], np.ones(1, bool), means, seen)
    places = np.column_stack([pixels[:, 1] + 0.5, pixels[:, 0] + 0.5]) @ step[:, :2].T + step[:, 2]
    first = np.floor(places - 0.5).astype(int)
    corners = [(first + (across, down)) for across in (0, 1) for down in (0, 1)]
    is_whole = step[0, 0] == 1
    blocked = np.any([hidden[one[:, 1], one[:, 0]] for one in (corners[:1] if is_whole else corners)], axis=0)
    values = mixed_of_four(frame, *places.T)
    for cell in range(len(counts)):
        mine = (pixels[:, 2] == cell) & ~blocked
        assert seen[cell] == mine.sum()
        np.testing.assert_allclose(means[cell], values[mine].mean(axis=0) if mine.any() else 0, atol=1e-6)
    assert 0 < (seen < counts).sum() < len(counts)


def test_of_rims_that_are_not_wanted_nothing_is_looked_at():
    _, counts, pixels = cells_of(a_rim(), SIDE)
    both = np.vstack([pixels, pixels + [0, 0, len(counts)]]).astype(np.int32)
    means, seen = np.empty((2 * len(counts), 3)), np.empty(2 * len(counts))
    steps = np.array([[[1, 0, 14], [0, 1, 9]]] * 2, float)
    means_of_cells(a_frame(), np.zeros((0, 0), bool), both, np.array([0, len(pixels), len(both)]), steps,
                   np.array([False, True]), means, seen)  # fmt: skip
    assert not seen[: len(counts)].any()
    np.testing.assert_array_equal(seen[len(counts) :], counts)


def cells_under_light(slope, seed=6):
    """Means of a rim's cells on one frame, and the same on another under light that slopes."""
    rng = np.random.default_rng(seed)
    points, own = rng.uniform(0, 40, (30, 2)), rng.uniform(0.3, 0.34, (30, 3))
    shade = 1.4 + slope * (points[:, :1] - 20)
    return points, own, own / shade


@pytest.mark.parametrize("slope", [0.0, 0.004])
def test_light_of_another_frame_is_taken_back_even_where_it_slopes(slope):
    """To the hundredth that a plane is not a quotient of planes."""
    points, own, there = cells_under_light(slope)
    seen, own_seen = np.ones(30, bool), np.ones(30, bool)
    own_seen[:6] = False
    put_under_light(points, own, own_seen, there, seen, np.array([0, 30]), 0.1, 0.75)
    np.testing.assert_allclose(there, own, rtol=0.012)
    assert seen.all()


def test_of_a_rim_whose_light_is_not_told_nothing_is_seen():
    points, own, there = cells_under_light(0.0)
    seen, own_seen, before = np.ones(30, bool), np.ones(30, bool), there.copy()
    own_seen[1:15] = False  # of the first of two rims one cell is left
    put_under_light(points, own, own_seen, there, seen, np.array([0, 15, 30]), 0.1, 0.75)
    np.testing.assert_array_equal(seen, np.arange(30) >= 15)
    np.testing.assert_array_equal(there[:15], before[:15])
    np.testing.assert_allclose(there[15:], own[15:], rtol=1e-6)
