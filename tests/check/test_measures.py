"""Flicker and seam by figures that were made up: what they are, and what they leave alone."""

import numpy as np
import pytest

from gommage.core.check.measures import GRID, Sample, held_cells, measures, seam


def samples(levels, first=1001):
    """Return samples of frames whose cells all have a level."""
    return {first + k: Sample(0.0, np.full((GRID, GRID), float(level))) for k, level in enumerate(levels)}


def flicker(found):
    return [round(one.flicker_percent, 9) for one in measures(found)]


def test_light_that_changes_evenly_is_no_flicker():
    assert flicker(samples([1.0, 1.1, 1.2, 1.3, 1.4])) == [0, 0, 0, 0, 0]


def test_a_frame_that_is_off_flickers_by_as_much_and_its_neighbours_by_half():
    assert flicker(samples([1.0, 1.0, 1.02, 1.0, 1.0])) == [0, 1, 2, 1, 0]


def test_cells_that_are_not_covered_and_frames_without_neighbours_tell_nothing():
    found = samples([1.0, 1.04, 1.0])
    found[1002].cells[1:] = np.nan
    found[1010] = samples([2.0])[1001]
    assert flicker(found) == [0, 4, 0, 0]
    found[1002].cells[:] = np.nan
    assert flicker(found) == [0, 0, 0, 0]
    assert [one.frame for one in measures(found)] == [1001, 1002, 1003, 1010]


def test_the_worst_of_both_counts():
    (one,) = measures({1001: Sample(3.0, np.ones((GRID, GRID)))})
    assert (one.seam_percent, one.flicker_percent, one.worst) == (3.0, 0.0, 3.0)


def covered():
    matte = np.zeros((60, 80), np.float32)
    matte[20:40, 30:50] = 1
    return matte


@pytest.mark.parametrize("step", [0.0, 0.05, -0.1])
def test_a_seam_is_the_step_along_the_rim_in_per_cent_of_the_picture(step):
    matte, below = covered(), np.full((60, 80), 0.5, np.float32)
    found = seam(below * np.float32(1 + step), below, matte, np.ones_like(matte))
    assert found == pytest.approx(100 * abs(step), rel=1e-4)


def test_what_the_fill_does_not_have_and_what_is_small_makes_no_seam():
    matte, below = covered(), np.full((60, 80), 0.5, np.float32)
    fill = below.copy()
    fill[18, 33:36] = 2.0  # something small that passes
    assert seam(fill, below, matte, np.ones_like(matte)) == pytest.approx(0, abs=1e-4)
    assert seam(below * 2, below, matte, np.zeros_like(matte)) == 0.0


def test_a_seam_on_one_side_counts_as_that_side_does():
    """The worst quarter of the stretches is averaged: a step along one of four sides counts nearly in full."""
    matte, below = covered(), np.full((60, 80), 0.5, np.float32)
    fill = below.copy()
    fill[:20] *= np.float32(1.1)
    assert 7 < seam(fill, below, matte, np.ones_like(matte)) <= 10.1


def test_cells_are_the_inside_over_the_ring_around_it():
    matte, result = covered(), np.full((60, 80), 0.4, np.float32)
    still = np.full((40, 40), 0.2, np.float32)
    still[:10, :10] = 0.6
    whole = np.ones((40, 40), np.float32)
    whole[30:, 30:] = 0
    cells = held_cells(result, matte, still, whole)
    assert cells[0, 0] == pytest.approx(1.5)
    assert cells[1, 2] == pytest.approx(0.5)
    assert np.isnan(cells[3, 3])


def test_cells_are_the_mean_of_what_is_held_still_in_each_by_the_level_around():
    side = 4
    levels = np.arange(1.0, GRID * GRID + 1).reshape(GRID, GRID)
    still = np.kron(levels, np.ones((side, side)))
    result, matte = np.full((40, 40), 2.0, np.float32), np.zeros((40, 40), np.float32)
    matte[15:25, 15:25] = 1
    held = np.ones_like(still)
    np.testing.assert_allclose(held_cells(result, matte, still, held), levels / 2)
    held[:side, :side] = 0  # not covered
    held[:side, side : side + 2] = 0.5  # half of the next cell
    held[:side, 2 * side : 3 * side - 1] = 0  # all but a quarter of the one after it
    found = held_cells(result, matte, still, held)
    assert np.isnan(found[0, [0, 2]]).all()
    assert found[0, 1] == levels[0, 1] / 2
    assert np.isfinite(found).sum() == GRID * GRID - 2
