"""Compiled loops of closing with pieces, against the same written down plainly."""

import cv2
import numpy as np
import pytest

from gommage.core.fill.kernels import median_of
from gommage.core.fill.patchwork.kernels import best_offsets, compared, steps_between, voted

HALF, SIDE = 3, 40
RNG = np.random.default_rng


def a_hole():
    hole = np.zeros((SIDE, SIDE), bool)
    hole[15:22, 14:25] = True
    return hole


def patches_over(hole):
    """Middles of all patches that touch a hole."""
    touching = cv2.dilate(hole.view(np.uint8), np.ones((2 * HALF + 1,) * 2, np.uint8))
    return np.argwhere(touching).astype(np.int32)


def whole_patches(hole):
    """Where patches are that are known as a whole."""
    known = cv2.erode((~hole).view(np.uint8), np.ones((2 * HALF + 1,) * 2, np.uint8)).astype(bool)
    known[:HALF], known[-HALF:], known[:, :HALF], known[:, -HALF:] = False, False, False, False
    return known


def matched_by_chance(hole, seed):
    places, sources = patches_over(hole), np.argwhere(whole_patches(hole)).astype(np.int32)
    matches = np.zeros((SIDE, SIDE, 2), np.int32)
    matches[tuple(places.T)] = sources[RNG(seed).integers(0, len(sources), len(places))]
    return places, sources, matches


def around(at):
    row, column = at
    return slice(row - HALF, row + HALF + 1), slice(column - HALF, column + HALF + 1)


def test_patches_are_compared_by_all_their_squares_and_bad_matches_drawn_anew():
    hole, features = a_hole(), RNG(1).random((SIDE, SIDE, 5), np.float32)
    places, sources, matches = matched_by_chance(hole, 2)
    is_source, errors = whole_patches(hole), np.zeros((SIDE, SIDE), np.float32)
    into_the_hole = places[4]
    matches[tuple(into_the_hole)] = (18, 18)
    errors[tuple(places[7])] = -1  # not matched yet
    compared(features, places, sources, is_source, matches, errors, 0, len(places), 3)
    assert is_source[tuple(matches[tuple(places.T)].T)].all()
    for at in places[::5]:
        off = features[around(at)] - features[around(matches[tuple(at)])]
        assert errors[tuple(at)] == pytest.approx((off**2).sum(), rel=1e-5)


def test_each_pixel_is_the_mean_of_what_patches_over_it_say():
    hole, picture = a_hole(), RNG(3).random((SIDE, SIDE, 3), np.float32)
    places, _, matches = matched_by_chance(hole, 4)
    weights = RNG(5).random((SIDE, SIDE), np.float32)
    out = voted(picture, hole, places, matches, weights)
    np.testing.assert_array_equal(out[~hole], picture[~hole])
    for pixel in np.argwhere(hole)[::7]:
        over = [at for at in places if (np.abs(at - pixel) <= HALF).all()]
        said = np.array([picture[tuple(pixel + matches[tuple(at)] - at)] for at in over])
        counts = np.array([weights[tuple(at)] for at in over])
        assert len(over) == (2 * HALF + 1) ** 2
        np.testing.assert_allclose(out[tuple(pixel)], counts @ said / counts.sum(), rtol=1e-4)


def test_each_pixel_takes_the_offset_of_the_patch_over_it_that_costs_least():
    hole, costs = a_hole(), RNG(6).random((SIDE, SIDE), np.float32)
    places, _, matches = matched_by_chance(hole, 7)
    offsets = best_offsets(hole, places, matches, costs)
    assert not offsets[~hole].any()
    for pixel in np.argwhere(hole):
        over = [at for at in places if (np.abs(at - pixel) <= HALF).all()]
        best = min(over, key=lambda at: costs[tuple(at)])
        np.testing.assert_array_equal(offsets[tuple(pixel)], matches[tuple(best)] - best)


def stepped(picture, most=0.04):
    """What pieces taken from above and from below say of the seam between them, along the hole's middle column."""
    hole, offsets = a_hole(), np.zeros((SIDE, SIDE, 2), np.float32)
    offsets[hole] = (-10, 0)
    offsets[15:22, 19:25] = (10, 0)
    return hole, steps_between(
        picture.astype(np.float32), hole, np.where(hole[..., None], offsets, 0), np.float32(most)
    )


def test_a_pattern_that_repeats_has_no_steps():
    rows = np.sin(2 * np.pi * np.arange(SIDE) / 10)[:, None]  # the same ten rows away
    _, steps = stepped(np.repeat((0.5 + 0.2 * rows + np.zeros((SIDE, SIDE)))[..., None], 3, axis=2))
    np.testing.assert_allclose(steps, 0, atol=1e-6)


def test_what_differs_is_made_up_for_on_both_sides_and_never_by_more_than_most():
    picture = np.repeat(np.linspace(0.2, 0.3, SIDE)[:, None, None], SIDE, axis=1) + np.zeros(3)
    _, steps = stepped(picture)
    each = 20 * (0.1 / (SIDE - 1))  # pieces twenty rows apart
    assert each > 0.04
    np.testing.assert_allclose(np.abs(steps[16:21, 18:20]), 0.04, atol=1e-6)
    np.testing.assert_allclose(steps.sum(axis=(0, 1)), 0, atol=1e-5)
    _, gentle = stepped(picture, 1.0)
    np.testing.assert_allclose(np.abs(gentle[16:21, 18:20]), each, rtol=1e-3)


@pytest.mark.parametrize("count", [1, 2, 5, 8, 23])
def test_a_median_is_numpy_s_and_leaves_values_where_they_are(count):
    values = RNG(count).normal(size=24).astype(np.float32)
    before, ordered = values.copy(), np.empty(24, np.float32)
    assert median_of(values, ordered, count) == pytest.approx(float(np.median(before[:count])))
    np.testing.assert_array_equal(values, before)
