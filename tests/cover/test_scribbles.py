"""Mattes from scribbles: cut, corrected, carried; against made-up things of known outline."""

import cv2
import numpy as np
import pytest
from scipy.sparse import lil_matrix
from scipy.sparse.csgraph import dijkstra

from gommage.core.cover.kernels import coverage, geodesic
from gommage.core.cover.scribbles import Mark, carried, corrected, cut
from tests.conftest import texture

HEIGHT, WIDTH = 240, 320


def thing(middle, turn=0.0, radius=50.0):
    """Return a picture of a three-leaved thing on a ground of other colours, and its true matte."""
    angle = np.linspace(0, 2 * np.pi, 300, endpoint=False)
    far = radius * (1 + 0.25 * np.sin(3 * angle + turn))
    line = np.column_stack([middle[0] + far * np.cos(angle), middle[1] + far * np.sin(angle)])
    matte = np.zeros((HEIGHT, WIDTH), np.float32)
    coverage(line, 0, 0, matte)
    ground = texture(HEIGHT, WIDTH, 5, fine=4.0) * np.array([0.5, 0.8, 1.0])
    front = np.roll(texture(HEIGHT, WIDTH, 6, fine=4.0), (round(middle[1]), round(middle[0])), (0, 1)) * [
        1.0,
        0.45,
        0.3,
    ]
    matte = cv2.GaussianBlur(matte, (0, 0), 0.8)
    picture = ground * (1 - matte[..., None]) + front * matte[..., None]
    grain = np.random.default_rng(round(middle[0])).normal(0, 0.01, picture.shape)
    return (picture + grain).astype(np.float32), matte


def overlap(one, other):
    return float(np.minimum(one, other).sum() / np.maximum(one, other).sum())


def marks_of(middle):
    x, y = middle
    inside = Mark(np.array([[x - 25, y], [x, y + 5], [x + 25, y]], float), True)
    around = np.linspace(0, 2 * np.pi, 24)
    ring = np.column_stack([x + 95 * np.cos(around), y + 95 * np.sin(around)])
    return [inside, Mark(ring, False)]


def test_ways_over_edges_are_long():
    guide = np.zeros((20, 30, 3), np.float32)
    guide[:, 15:] = 1
    seeds = np.zeros((20, 30), np.uint8)
    seeds[10, 5] = 1
    far = geodesic(guide, seeds, 40.0)
    assert far[10, 14] == pytest.approx(9)
    assert far[10, 15] > 9 + 60
    assert far[3, 5] == pytest.approx(7)


def test_a_few_strokes_make_a_matte():
    picture, true = thing((160, 120))
    found = cut(picture, marks_of((160, 120)))
    assert overlap(found, true) > 0.96
    assert ((found > 0.05) & (found < 0.95)).any(), "its edge is soft"
    np.testing.assert_array_equal(found, cut(picture, marks_of((160, 120))))
    assert not cut(picture, marks_of((160, 120))[:1]).any(), "one kind alone says nothing"


def test_a_correction_changes_what_is_near_it_alone():
    picture, true = thing((160, 120))
    wrong = true.copy()
    wrong[100:140, 150:230] = 1  # something more at the right
    wrong[40:60, 20:40] = 1  # and something far away
    better = corrected(picture, wrong, [Mark(np.array([[222.0, 105], [222, 135]]), False)])
    assert overlap(better[:, 100:], true[:, 100:]) > overlap(wrong[:, 100:], true[:, 100:])
    assert better[50, 30] == 1


def test_a_matte_is_carried_and_tells_how_far_it_drifted():
    before, matte = thing((150, 118))
    held, drifts = matte, []
    for step in range(1, 6):
        after, true = thing((150 + 3 * step, 118 + step), 0.05 * step)
        moved = carried(before, held, after)
        before, held = after, moved.pixels
        drifts.append(moved.drift)
        assert overlap(held, true) > 0.95, step
    assert max(drifts) < 0.2
    other, _ = thing((150, 118), 0.0, radius=30.0)
    jumped = carried(before, held, other)
    assert jumped.drift > max(drifts)
    nothing = carried(before, np.zeros_like(held), after)
    assert not nothing.pixels.any()


def test_distances_along_ways_are_the_shortest():
    """Against Dijkstra's way on the same neighbours, where colours change softly; exactly, where they do not."""
    height, width = 21, 33
    seeds = np.zeros((height, width), np.uint8)
    seeds[8, 14] = 1
    flat = geodesic(np.zeros((height, width, 3), np.float32), seeds, 5.0)
    down, across = np.abs(np.arange(height) - 8)[:, None], np.abs(np.arange(width) - 14)[None]
    wanted = np.maximum(down, across) + (np.sqrt(2) - 1) * np.minimum(down, across)
    np.testing.assert_allclose(flat, wanted, rtol=1e-5)

    guide = cv2.GaussianBlur(np.random.default_rng(1).random((height, width, 3)).astype(np.float32), (0, 0), 4)
    weight, index = 30.0, np.arange(height * width).reshape(height, width)
    steps = lil_matrix((height * width,) * 2)
    for dr, dc in ((0, 1), (1, 0), (1, 1), (1, -1)):
        one = slice(0, height - dr), slice(max(-dc, 0), width - max(dc, 0))
        other = slice(dr, height), slice(max(dc, 0), width - max(-dc, 0))
        apart = ((guide[one] - guide[other]) ** 2).sum(axis=2)
        steps[index[one].ravel(), index[other].ravel()] = np.sqrt(dr**2 + dc**2 + weight**2 * apart).ravel()
    true = dijkstra(steps.tocsr(), directed=False, indices=index[8, 14]).reshape(height, width)
    found = geodesic(guide, seeds, weight)
    assert (found >= true - 1e-3).all()
    np.testing.assert_allclose(found, true, rtol=0.02)
