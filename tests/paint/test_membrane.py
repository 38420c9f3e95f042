"""A membrane against Laplace's equation, solved by SciPy."""

import cv2
import numpy as np
import pytest
from scipy.sparse import lil_matrix
from scipy.sparse.linalg import spsolve

from gommage.core.paint.membrane import membrane

SIDE = 48


def hole(kind):
    free = np.zeros((SIDE, SIDE), bool)
    if kind == "round":
        y, x = np.mgrid[:SIDE, :SIDE]
        free[np.hypot(x - 25, y - 22) < 15] = True
    elif kind == "thin":
        free[10:38, 20:24] = True
    else:  # two that share nothing, and a single pixel
        free[5:15, 5:20], free[25:44, 18:40], free[2, 45] = True, True, True
    return free


def hung(values, free):
    """Laplace's equation within a hole, a value for each channel."""
    places = np.argwhere(free)
    number = {tuple(at): n for n, at in enumerate(places)}
    matrix, known = lil_matrix((len(places), len(places))), np.zeros((len(places), values.shape[2]))
    for n, (row, column) in enumerate(places):
        for at in ((row - 1, column), (row + 1, column), (row, column - 1), (row, column + 1)):
            matrix[n, n] += 1
            if at in number:
                matrix[n, number[at]] = -1
            else:
                known[n] += values[at]
    out = values.copy()
    out[free] = spsolve(matrix.tocsr(), known)
    return out


@pytest.mark.parametrize("kind", ["round", "thin", "several"])
def test_it_hangs_as_laplace_s_equation_says(kind):
    """Coarse to fine, a few sweeps each: to a hundredth or so of how far the rim's values are apart."""
    values, free = cv2.GaussianBlur(np.random.default_rng(1).random((SIDE, SIDE, 4), np.float32), (0, 0), 2), hole(kind)
    values = (values - values.min()) / np.ptp(values)
    values[free] = 1e6  # what was there is not looked at
    found = values.copy()
    membrane(found, free)
    np.testing.assert_array_equal(found[~free], values[~free])
    off = np.abs(found - hung(values, free))[free][:, :3]
    assert off.max() < 0.015
    assert off.mean() < 0.003


def test_a_slope_goes_on_through_a_hole():
    y, x = np.mgrid[:SIDE, :SIDE].astype(np.float32)
    values, free = np.stack([x, y, x - 2 * y, np.ones_like(x)], axis=2), hole("round")
    found = np.where(free[..., None], np.float32(0), values)
    membrane(found, free)
    np.testing.assert_allclose(found[..., :3], values[..., :3], atol=0.3)  # of 48


def test_it_lies_between_what_it_hangs_on():
    values, free = np.random.default_rng(2).random((SIDE, SIDE, 4), np.float32), hole("several")
    membrane(values, free)
    assert values[free][:, :3].min() >= 0
    assert values[free][:, :3].max() <= 1
