"""Compiled loops over pixels against the same written down plainly, by other libraries."""

import numpy as np
import pytest
from scipy.ndimage import map_coordinates

from gommage.core.picture.kernels import apply_cube, apply_curve, sample_spline, sample_spline_at
from gommage.core.picture.ranks import median, selected

WIDTH, HEIGHT = 23, 17
TURNED = np.array([[0.9, -0.2, 3.0], [0.25, 1.1, -2.0], [0.002, -0.001, 1.0]])
LOW = 0x3C000000 >> 14
"""Where the tables of display begin on the number line: at 2^-7."""


def pixels(channels, seed=1):
    return np.random.default_rng(seed).random((HEIGHT, WIDTH, channels), np.float32)


def places_by(matrix, left, top, width, height):
    """Source positions of a window's pixels, (h, w, 2), pixel centres at +0.5."""
    x, y = np.meshgrid(np.arange(left, left + width) + 0.5, np.arange(top, top + height) + 0.5)
    u, v, w = np.einsum("ij,jhw->ihw", matrix, np.stack([x, y, np.ones_like(x)]))
    return np.stack([u / w, v / w], axis=2)


def plainly(coefficients, places):
    """Splines by SciPy, the rims continued by their nearest pixel."""
    u = np.clip(places[..., 0] - 0.5, 0, WIDTH - 1)
    v = np.clip(places[..., 1] - 0.5, 0, HEIGHT - 1)
    channels = range(coefficients.shape[2])
    return np.stack(
        [map_coordinates(coefficients[..., c].astype(float), [v, u], order=3, mode="mirror", prefilter=False)
         for c in channels], axis=2
    )  # fmt: skip


def inside_of(places):
    x, y = places[..., 0], places[..., 1]
    return ((x >= 0) & (x < WIDTH) & (y >= 0) & (y < HEIGHT)).astype(np.float32)


@pytest.mark.parametrize("channels", [1, 3, 4])
def test_splines_are_read_as_scipy_reads_them(channels):
    """Inside, at the rims, where four columns are not all there, and beyond them."""
    coefficients, (left, top, width, height) = pixels(channels), (-5, -4, 34, 26)
    out, inside = np.empty((height, width, channels), np.float32), np.empty((height, width), np.float32)
    sample_spline(coefficients, TURNED, left, top, out, inside)
    places = places_by(TURNED, left, top, width, height)
    np.testing.assert_allclose(out, plainly(coefficients, places), atol=2e-6)  # of float32
    np.testing.assert_array_equal(inside, inside_of(places))
    assert 0 < inside.mean() < 1


@pytest.mark.parametrize("channels", [1, 3])
def test_splines_read_at_places_are_those_of_the_matrix_and_nothing_where_there_is_none(channels):
    coefficients, places = pixels(channels, 2), places_by(TURNED, -5, -4, 34, 26)
    places[3, 5], places[7, 9] = np.nan, np.inf
    out, inside = np.empty((26, 34, channels), np.float32), np.empty((26, 34), np.float32)
    sample_spline_at(coefficients, places, out, inside)
    there = np.isfinite(places).all(axis=2)
    np.testing.assert_allclose(out[there], plainly(coefficients, np.where(np.isfinite(places), places, 0))[there],
                               atol=2e-6)  # fmt: skip
    assert not out[~there].any()
    assert not inside[~there].any()


def test_what_lies_behind_the_eye_of_a_perspective_is_nothing():
    matrix = np.array([[1.0, 0, 0], [0, 1, 0], [-0.1, 0, 1]])  # from x = 10 on
    out, inside = np.empty((5, 20, 3), np.float32), np.empty((5, 20), np.float32)
    sample_spline(pixels(3), matrix, 0, 0, out, inside)
    assert not inside[:, 10:].any()
    assert not out[:, 10:].any()
    assert np.isfinite(out).all()


def shown(picture, show, *tables):
    out = np.empty((*picture.shape[:2], 4), np.uint8)
    show(picture.view(np.int32), LOW, *tables, out)
    return out


def steps():
    """The numbers at which the tables' steps begin: sixteen octaves from 2^-7 on."""
    return (np.arange(LOW, LOW + 16 * 512, dtype=np.int32) << 14).view(np.float32)


def test_a_curve_shows_each_channel_by_itself_and_what_is_off_its_ends_as_these():
    curve = np.random.default_rng(3).integers(0, 256, (16 * 512, 3)).astype(np.uint8)
    numbers, picture = steps(), np.empty((7, 9, 3), np.float32)
    which = np.random.default_rng(4).integers(0, len(numbers), picture.shape)
    picture[:] = numbers[which] * np.float32(1.0005)  # somewhere within the step
    picture[0, 0], picture[0, 1] = (-1.0, 0.0, 1e-30), (1e30, np.inf, 1e9)
    which[0, 0], which[0, 1] = 0, len(curve) - 1
    out = shown(picture, apply_curve, curve)
    for channel in range(3):
        np.testing.assert_array_equal(out[..., 2 - channel], curve[which[..., channel], channel])
    assert (out[..., 3] == 255).all()


def test_a_cube_shows_what_is_even_in_it_exactly():
    """Tetrahedra mix whatever is even in red, green and blue to itself, wherever in the cube it lies."""
    count, mix = 5, np.array([[20.0, 7, 3], [5, 30, 4], [2, 9, 25]])
    axes = np.stack(np.meshgrid(*[np.arange(count)] * 3, indexing="ij"), axis=-1)
    cube = (axes @ mix.T + (10, 5, 40)).astype(np.float32)
    shaper = np.linspace(0, count - 1, 16 * 512).astype(np.float32)
    which = np.random.default_rng(5).integers(0, len(shaper), (11, 13, 3))
    which[0, :3] = [[0, 0, 0], [len(shaper) - 1] * 3, [0, len(shaper) - 1, 100]]
    out = shown(steps()[which], apply_cube, shaper, cube)
    wanted = shaper[which] @ mix.T + (10, 5, 40)
    np.testing.assert_allclose(out[..., 2::-1], wanted, atol=0.51)  # rounded to whole levels


@pytest.mark.parametrize("kind", [np.float32, np.float64])
def test_ranks_and_medians_are_those_of_numpy(kind):
    """Of odd and even counts, with values that are there twice, and of a part of what lies in the room."""
    rng = np.random.default_rng(3)
    for count in (1, 2, 3, 8, 31, 200):
        values = np.round(rng.normal(0, 3, count + 5), 1).astype(kind)
        wanted = np.sort(values[:count])
        assert median(values.copy(), count) == np.median(values[:count].astype(np.float64))
        for rank in {0, count // 3, count - 1}:
            assert selected(values.copy(), count, rank) == wanted[rank]
    assert np.isnan(median(np.empty(0, kind), 0))
