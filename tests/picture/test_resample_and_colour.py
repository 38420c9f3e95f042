"""Resampling against known shifts; colour against the formula and against OpenColorIO itself."""

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gommage.core.geometry import (
    IDENTITY,
    FieldMapping,
    Window,
    apply_matrix,
    around,
    composed,
    from_matrix,
    scaling,
    shift,
)
from gommage.core.picture import Filter, Splines, colour, resample
from tests.conftest import texture

FLOAT_STEP = 2e-5  # rounding of a 21-tap filter and 16 weights in float32, on values near 1
SPLINE_ERROR = 0.004  # a cubic spline on waves of 10 px and longer (cubic: (pi/5)^4 / 384 of the amplitude, both axes)


def waves(height, width, dx=0.0, dy=0.0):
    y, x = np.mgrid[0:height, 0:width] + 0.5
    picture = 0.5 + 0.2 * np.sin((x + dx) * 2 * np.pi / 10) + 0.2 * np.cos((y + dy) * 2 * np.pi / 12)
    return np.repeat(picture[..., None], 3, axis=2).astype(np.float32)


def test_identity_changes_nothing():
    picture = texture(40, 50)
    out, inside = resample(picture, IDENTITY, Window.of(50, 40))
    np.testing.assert_array_equal(out, picture)
    assert (inside == 1).all()


@pytest.mark.parametrize(("dx", "dy"), [(0.5, 0.0), (0.25, -0.4), (3.3, 2.7)])
def test_a_known_shift_is_recovered(dx, dy):
    out, _ = resample(waves(60, 60), shift(dx, dy), Window(10, 10, 50, 50))
    np.testing.assert_allclose(out, waves(60, 60, dx, dy)[10:50, 10:50], atol=SPLINE_ERROR)


def test_whole_pixels_are_copied_bit_for_bit():
    picture = texture(40, 50)
    out, inside = resample(picture, shift(7, -3), Window(-2, 10, 20, 30))
    np.testing.assert_array_equal(out[:, 2:], picture[7:27, 7:27])
    np.testing.assert_array_equal(out[:, 0], picture[7:27, 5])
    assert inside.all()
    beyond, inside = resample(picture, shift(40, 0), Window.of(20, 10))
    assert inside[:, :10].all()
    assert not inside[:, 10:].any()
    np.testing.assert_array_equal(beyond[:, 15], picture[:10, 49])


def test_windows_tile_the_whole():
    picture = texture(40, 60)
    mapping = composed(from_matrix(np.diag([0.9, 1.1, 1.0])), shift(1.3, -0.7))
    splines = Splines.of(picture)
    whole, _ = resample(splines, mapping, Window.of(60, 40))
    for window in (Window(0, 0, 30, 40), Window(30, 0, 60, 40)):
        np.testing.assert_array_equal(resample(splines, mapping, window).pixels, whole[window.slices])


def test_a_piece_that_was_cut_out_is_read_like_the_whole():
    picture, place = texture(80, 90), Window(20, 15, 80, 70)
    mapping = composed(from_matrix(np.diag([0.9, 1.1, 1.0])), shift(12.3, 9.7))
    window = Window(30, 25, 50, 40)
    whole = resample(picture, mapping, window).pixels
    piece = resample(picture[place.slices], mapping, window, at=place).pixels
    np.testing.assert_allclose(piece, whole, atol=FLOAT_STEP)


@pytest.mark.parametrize("kind", Filter)
@pytest.mark.parametrize("zoom", [0.4, 1.07, 3.5])
def test_a_field_is_read_like_its_matrix(kind, zoom):
    """A mapping without a matrix gives the same pixels as one with it."""
    picture = texture(90, 120)
    matrix = composed(scaling(1 / zoom), shift(3.2, 5.1))
    field = FieldMapping("same", matrix, matrix.inverse())
    window = Window.of(60, 40)
    one, other = (resample(picture, mapping, window, filter=kind) for mapping in (matrix, field))
    np.testing.assert_allclose(one.pixels, other.pixels, atol=2e-2 if kind is Filter.LOOK and zoom < 1 else 1e-3)
    assert (one.inside == other.inside).mean() > 0.99


def test_outside_is_marked_and_behind_the_camera_too():
    _, inside = resample(texture(20, 20), shift(15.5, 0), Window.of(20, 20))
    assert inside[:, :4].all()
    assert not inside[:, 6:].any()
    beyond = from_matrix(np.array([[1, 0, 0], [0, 1, 0], [-1.0, 0, 0.5]]))
    assert not resample(texture(20, 20), beyond, Window.of(20, 20)).inside.any()


def test_a_smaller_picture_is_averaged_not_picked():
    checks = np.indices((200, 200)).sum(axis=0) % 2
    picture = np.repeat(checks[..., None], 3, axis=2).astype(np.float32)
    for kind in Filter:
        out, _ = resample(picture, scaling(4.0), Window(5, 5, 45, 45), filter=kind)
        np.testing.assert_allclose(out, 0.5, atol=0.02)


def test_points_behind_the_camera_are_nan():
    matrix = np.array([[1, 0, 0], [0, 1, 0], [-0.1, 0, 1.0]])
    moved = apply_matrix(matrix, np.array([[5.0, 5.0], [20.0, 5.0]]))
    np.testing.assert_allclose(moved[0], [10, 10])
    assert np.isnan(moved[1]).all()


@pytest.mark.parametrize("zoom", [0.1, 0.3, 0.55, 1.0, 1.7, 4.0])
def test_a_view_keeps_places_and_brightness(zoom):
    picture = np.zeros((200, 300, 3), np.float32)
    cv2.circle(picture, (149, 99), 40, (0.8, 0.8, 0.8), -1)
    size = round(300 * zoom), round(200 * zoom)
    seen = resample(picture, scaling(1 / zoom), Window.of(*size), filter=Filter.LOOK).pixels
    assert seen.mean() == pytest.approx(picture.mean(), rel=0.03)  # the rim of the disc falls on other pixels
    rows, columns = np.nonzero(seen[..., 0] > 0.4)
    assert columns.mean() + 0.5 == pytest.approx(149.5 * zoom, abs=0.51)
    assert rows.mean() + 0.5 == pytest.approx(99.5 * zoom, abs=0.51)


def test_around_and_window_algebra():
    window = around(np.array([[1.2, 3.7], [8.9, 4.0]]), 1)
    assert window == Window(0, 2, 10, 5)
    assert window & Window.of(5, 5) == Window(0, 2, 5, 5)
    assert (window | Window(0, 0, 1, 1)) == Window(0, 0, 10, 5)
    assert (Window(3, 3, 3, 9) | window) == window
    assert (window & Window(50, 50, 60, 60)).is_empty
    assert Window(4, 4, 6, 6).within(Window(1, 2, 9, 9)) == (slice(2, 4), slice(3, 5))


def srgb(linear):
    return np.where(linear <= 0.0031308, linear * 12.92, 1.055 * np.maximum(linear, 1e-9) ** (1 / 2.4) - 0.055)


def test_display_curve_is_srgb_to_a_level():
    ramp = np.repeat(np.linspace(0, 1, 2000, dtype=np.float32)[None, :, None], 3, axis=2)
    shown = colour.show(ramp)[0, :, 0].astype(float)
    # half a level of rounding, and the table's steps of 0.2 % (a third of a level at the top)
    np.testing.assert_allclose(shown, srgb(ramp[0, :, 0]) * 255, atol=0.9)


def test_exposure_and_gamma_push_the_display_only():
    grey = np.full((1, 1, 3), 0.1, np.float32)
    brighter = colour.show(grey, colour.Display(exposure_stops=1))[0, 0, 0]
    assert abs(int(brighter) - srgb(0.2) * 255) < 1
    lifted = colour.show(grey, colour.Display(gamma=2.0))[0, 0, 0]
    assert abs(int(lifted) - np.sqrt(srgb(0.1)) * 255) < 1
    assert (grey == np.float32(0.1)).all()


def test_the_baked_tone_map_is_near_opencolorio():
    device, name = next(pair for pair in colour.views() if "SDR" in pair[1])
    picture = texture(32, 32).clip(0.01, 4)
    baked = colour.show(picture, colour.Display(device, name))[..., 2::-1].astype(float)
    exact = colour._displayed(picture, device, name).clip(0, 1) * 255
    assert np.abs(baked - exact).mean() < 1.0  # a level: what a 49-point table can do


def test_odd_values_do_not_break_the_display():
    wild = np.array([[[np.inf, -np.inf, -5], [1e30, 1e-30, -0.0], [65504, 0, 1]]], np.float32)
    shown = colour.show(wild)
    assert shown[0, 0].tolist()[:3] == [0, 0, 255]
    assert shown.shape == (1, 3, 4)


@given(st.integers(0, 65535), st.sampled_from([colour.SRGB, colour.CAMERA_VIDEO, "ACEScct", colour.SCENE_LINEAR]))
@settings(max_examples=60)
def test_stored_integers_survive_decode_and_encode(level, space):
    pixels = np.full((1, 1, 3), level, np.uint16)
    back = colour.encode(colour.decode(pixels, space), space, np.dtype(np.uint16))
    assert np.abs(back.astype(int) - level).max() <= 1  # float32 through a log curve keeps 16 bits to one step


def test_spaces_that_mix_channels_go_the_long_way():
    pixels = np.array([[[200, 100, 50]]], np.uint8)
    direct = colour.decode(pixels.astype(np.float32) / 255, "ACEScg")
    np.testing.assert_allclose(colour.decode(pixels, "ACEScg"), direct, rtol=1e-5)
    assert colour.decode(pixels, "ACEScg")[0, 0, 0] > 200 / 255


def test_an_unknown_space_is_a_sentence():
    from gommage.errors import FootageError

    with pytest.raises(FootageError, match="'Nowhere' is not in the colour configuration"):
        colour.decode(np.zeros((1, 1, 3), np.float32), "Nowhere")


@pytest.mark.parametrize(
    ("suffix", "is_float", "transfer", "space"),
    [
        (".exr", True, "", colour.SCENE_LINEAR),
        (".dpx", False, "Printing density", "ADX10"),
        (".dpx", False, "Linear", colour.SCENE_LINEAR),
        (".cin", False, "", "ADX10"),
        (".png", False, "", colour.SRGB),
    ],
)
def test_guesses(suffix, is_float, transfer, space):
    assert colour.guess_colour_space(suffix, is_float=is_float, transfer=transfer) == space
    assert space in colour.colour_spaces() or space == colour.SRGB
