"""Shapes pushed, drawn by hand and laid along their edge again."""

import cv2
import numpy as np
import pytest

from gommage.core.cover import snapping
from gommage.core.cover.freehand import FIT_TOLERANCE_PX, fitted_line
from gommage.core.cover.kernels import coverage
from gommage.core.cover.reshaping import filled_in, moved_together, pulled, smoothed, swollen, weights_within
from gommage.core.cover.snapping import snapped
from gommage.core.document import VertexKind
from gommage.core.document.outlines import sampled
from gommage.core.geometry import shift
from tests.conftest import texture

HEIGHT, WIDTH = 300, 400
SMOOTH = VertexKind.SMOOTH


def ring(count, radius=60.0, middle=(200.0, 150.0)):
    angle = np.arange(count) * 2 * np.pi / count
    vertices = np.zeros((count, 8))
    vertices[:, :2] = middle + radius * np.column_stack([np.cos(angle), np.sin(angle)])
    return vertices


def far_from(line, points):
    """Return how far each point is from a closed polygon."""
    ends = np.roll(line, -1, axis=0) - line
    away = points[:, None] - line[None]
    share = np.clip((away * ends).sum(-1) / np.maximum((ends**2).sum(-1), 1e-12), 0, 1)
    return np.hypot(*np.moveaxis(away - share[..., None] * ends, -1, 0)).min(axis=1)


# -- soft reshape -------------------------------------------------------------------------------------------


def test_what_is_near_is_taken_along_and_the_rest_stays():
    vertices = ring(16)
    after = pulled(vertices, vertices[0, :2], np.array([10.0, 0.0]), 50.0)
    by = np.hypot(*(after - vertices)[:, :2].T)
    assert by[0] == 10
    assert by[8] == 0
    assert by[0] > by[1] > by[2] > 0
    assert weights_within(vertices[:1, :2], vertices[0, :2], 9.0) == 1


def test_swelling_and_smoothing():
    vertices = ring(16)
    middle = np.array([200.0, 150.0])
    assert np.hypot(*(swollen(vertices, middle, 200.0, 0.2)[:, :2] - middle).T).min() > 60
    assert np.hypot(*(swollen(vertices, middle, 200.0, -0.2)[:, :2] - middle).T).max() < 60
    dented = vertices.copy()
    dented[0, :2] += (25, 0)
    better = smoothed(dented, dented[0, :2], 30.0, 1.0, is_closed=True)
    np.testing.assert_allclose(better[0, :2], (vertices[1] + vertices[15])[:2] / 2, atol=1e-9)
    np.testing.assert_array_equal(better[1:], dented[1:])


def test_vertices_come_where_the_reach_needs_them():
    square = np.zeros((4, 8))
    square[:, :2] = [[0, 0], [100, 0], [100, 100], [0, 100]]
    places = filled_in(square, (VertexKind.CORNER,) * 4, np.array([50.0, 0.0]), 30.0, is_closed=True)
    assert places == sorted(places, reverse=True)
    assert all(0 < place < 1 for place in places)
    x = np.array(places) * 100
    assert np.abs(np.diff(x)).max() <= 15 + 1e-9
    assert filled_in(ring(64), (SMOOTH,) * 64, np.array([200.0, 150.0]), 20.0, is_closed=True) == []


def test_chosen_vertices_move_with_their_handles():
    vertices = ring(8)
    vertices[:, 2:6] = 3
    after = moved_together(vertices, (1, 2), shift(5, -2))
    np.testing.assert_allclose(after[[1, 2], :2], vertices[[1, 2], :2] + (5, -2))
    np.testing.assert_allclose(after[:, 2:], vertices[:, 2:])
    np.testing.assert_array_equal(after[[0, 3]], vertices[[0, 3]])


# -- freehand -----------------------------------------------------------------------------------------------


def wavy(count=400):
    angle = np.linspace(0, 2 * np.pi, count, endpoint=False)
    radius = 90 + 24 * np.sin(3 * angle)
    return np.column_stack([200 + radius * np.cos(angle), 150 + radius * np.sin(angle)])


@pytest.mark.parametrize(
    ("drawn", "most"),
    [(ring(300)[:, :2], 6), (wavy(), 16), (np.array([[10, 10], [110, 10], [110, 90], [10, 90.0]]), 4)],
    ids=["circle", "waves", "corners"],
)
def test_a_drawn_line_becomes_few_curves_near_it(drawn, most):
    vertices, kinds = fitted_line(drawn)
    assert len(kinds) <= most
    line, _ = sampled(vertices, kinds)
    assert far_from(line, drawn).max() < FIT_TOLERANCE_PX
    assert far_from(drawn, line).max() < FIT_TOLERANCE_PX


def test_an_open_line_keeps_its_ends():
    drawn = np.column_stack([np.linspace(10, 200, 60), 50 + 30 * np.sin(np.linspace(0, 5, 60))])
    vertices, kinds = fitted_line(drawn, is_closed=False)
    np.testing.assert_allclose(vertices[[0, -1], :2], drawn[[0, -1]])
    assert len(kinds) < 8


def test_the_steps_of_a_coarse_pen_are_not_drawn():
    drawn = np.round(wavy())
    assert len(fitted_line(drawn, steps_px=2.0)[1]) < len(fitted_line(drawn)[1]) / 2
    line, _ = sampled(*fitted_line(drawn, steps_px=2.0))
    assert far_from(line, wavy()).mean() < 0.3


def test_a_dot_is_no_line():
    with pytest.raises(ValueError, match="three points"):
        fitted_line(np.array([[5, 5], [5.1, 5], [5, 5.1]]))


# -- a key that proposes itself -----------------------------------------------------------------------------


def thing(middle, swell, light=1.0):
    """Return a picture of a thing on a ground, and the thing's true outline."""
    angle = np.linspace(0, 2 * np.pi, 400, endpoint=False)
    radius = 60 + 9 * np.sin(3 * angle) + swell * np.cos(2 * angle)
    line = np.column_stack([middle[0] + radius * np.cos(angle), middle[1] + radius * np.sin(angle)])
    inside = np.zeros((HEIGHT, WIDTH), np.float32)
    coverage(line, 0, 0, inside)
    ground = texture(HEIGHT, WIDTH, 1) * 0.4 + 0.2
    front = np.roll(texture(HEIGHT, WIDTH, 2), (middle[1] - 150, middle[0] - 200), (0, 1)) * 0.3
    picture = ground * (1 - inside[..., None]) + front * inside[..., None]
    grain = np.random.default_rng(middle[0]).normal(0, 0.01, picture.shape)
    return (cv2.GaussianBlur(picture, (0, 0), 0.8) * light + grain).astype(np.float32), line


@pytest.mark.parametrize(("middle", "swell", "light"), [((204, 151), 2.0, 1.0), ((207, 147), 5.0, 0.7)])
def test_an_outline_finds_the_edge_that_it_was_drawn_on(middle, swell, light):
    first, outline = thing((200, 150), 0.0)
    vertices = np.zeros((16, 8))
    vertices[:, :2] = outline[::25]
    kinds = (SMOOTH,) * 16
    drawn_off = far_from(outline, sampled(vertices, kinds)[0]).mean()
    second, true_line = thing(middle, swell, light)
    for drawn_on in (None, (vertices, first)):
        found, certainty = snapped(vertices, kinds, second, 14.0, drawn_on=drawn_on)
        off = far_from(true_line, sampled(found, kinds)[0])
        assert off.mean() < drawn_off + 0.35  # the vertices drawn by hand are no nearer than drawn_off themselves
        assert off.max() < 1.6
        assert certainty > 0.5


def test_nothing_is_sure_where_there_is_no_edge():
    first, outline = thing((200, 150), 0.0)
    vertices = np.zeros((16, 8))
    vertices[:, :2] = outline[::25]
    plain = (np.full_like(first, 0.3) + np.random.default_rng(0).normal(0, 0.01, first.shape)).astype(np.float32)
    _, certainty = snapped(vertices, (SMOOTH,) * 16, plain, 14.0, drawn_on=(vertices, first))
    assert certainty < 0.4


def test_an_open_line_is_laid_along_its_edge():
    picture = np.where(np.arange(HEIGHT)[:, None, None] < 120, 0.1, 0.6) * np.ones((HEIGHT, WIDTH, 3))
    vertices = np.zeros((5, 8))
    vertices[:, 0], vertices[:, 1] = np.linspace(40, 360, 5), 126
    found, _ = snapped(vertices, (SMOOTH,) * 5, picture.astype(np.float32), 12.0, is_closed=False)
    np.testing.assert_allclose(found[:, 1], 120, atol=0.3)


def test_the_ends_of_an_open_line_stay_while_it_is_smoothed():
    vertices = ring(8)[:5]
    vertices[2, :2] += (0, 9)
    after = smoothed(vertices, vertices[2, :2], 400.0, 1.0, is_closed=False)
    np.testing.assert_array_equal(after[[0, -1]], vertices[[0, -1]])
    assert (np.abs(after[1:-1, :2] - vertices[1:-1, :2]).max(axis=1) > 0.5).all()
    closed = smoothed(vertices, vertices[2, :2], 400.0, 1.0, is_closed=True)
    assert (np.abs(closed[[0, -1], :2] - vertices[[0, -1], :2]).max(axis=1) > 0.5).all()


def test_the_best_place_lies_between_steps_by_a_parabola():
    """In pixels, and not beside the first and last step, where a neighbour is wanting."""
    steps, peaks = np.arange(9.0), np.array([4.3, 3.6, 2.0])
    worth = 1 - 0.02 * (steps[None] - peaks[:, None]) ** 2
    path = worth.argmax(axis=1)
    np.testing.assert_allclose(path + snapping._between_steps(worth, path) / snapping.STEP_PX, peaks, atol=1e-9)
    at_rim = 1 - 0.02 * (steps[None] - np.array([[0.0], [8.0]])) ** 2
    np.testing.assert_array_equal(snapping._between_steps(at_rim, at_rim.argmax(axis=1)), [0, 0])
