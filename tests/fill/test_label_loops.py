"""Labels that cost least, against all there are."""

from itertools import product

import numpy as np
import pytest

from gommage.core.fill.patchwork.label_kernels import FAR, labelled, least_cost, neighbours

LABELS, VALUES = 3, 2


def a_task(node, seed):
    """What labels cost and show at some pixels."""
    rng, count = np.random.default_rng(seed), int(node.max()) + 1
    unary = rng.random((count, LABELS)).astype(np.float32)
    shown = rng.normal(0, 0.6, (count, VALUES, LABELS)).astype(np.float32)
    return neighbours(node.astype(np.int32)), unary, shown


def found_by(near, unary, shown, turns=20):
    told = np.zeros((len(unary), 4, LABELS), np.float32)
    squared = (shown**2).sum(axis=1)
    for half in (0, 1) * turns:
        least_cost(near, unary, shown, squared, told, half, 0, len(unary))
    return labelled(near, unary, shown, told)


def cost_of(labels, near, unary, shown):
    total = float(unary[np.arange(len(labels)), labels].sum())
    for n, (right, below, _, _) in enumerate(near):
        for other in (right, below):
            if other >= 0:
                apart = shown[[n, other]][:, :, labels[n]] - shown[[n, other]][:, :, labels[other]]
                total += float((apart**2).sum())
    return total


def least_of_all(near, unary, shown):
    return min(cost_of(np.array(one), near, unary, shown) for one in product(range(LABELS), repeat=len(unary)))


def test_neighbours_are_right_below_left_and_above():
    node = np.array([[0, 1, -1], [2, -1, 3], [4, 5, 6]])
    near = neighbours(node.astype(np.int32))
    np.testing.assert_array_equal(near[0], [1, 2, -1, -1])
    np.testing.assert_array_equal(near[3], [-1, 6, -1, -1])
    np.testing.assert_array_equal(near[5], [6, -1, 4, -1])
    np.testing.assert_array_equal(near[6], [-1, -1, 5, 3])


@pytest.mark.parametrize("seed", range(6))
@pytest.mark.parametrize("node", [np.arange(7)[None], np.arange(7)[:, None]], ids=["row", "column"])
def test_along_a_line_the_least_is_found(node, seed):
    """Without circles what is told is exact."""
    task = a_task(node, seed)
    assert cost_of(found_by(*task), *task) == pytest.approx(least_of_all(*task), abs=1e-4)


@pytest.mark.parametrize("seed", range(4))
def test_over_an_area_it_is_nearly_the_least(seed):
    node = np.arange(8).reshape(2, 4)
    task = a_task(node, 10 + seed)
    assert cost_of(found_by(*task), *task) <= 1.05 * least_of_all(*task)


def test_a_label_that_a_pixel_cannot_have_is_not_taken():
    near, unary, shown = a_task(np.arange(9).reshape(3, 3), 3)
    unary[4, :2] = FAR
    assert found_by(near, unary, shown)[4] == 2
