"""Light and grain: recovered where they are known."""

import cv2
import numpy as np
import pytest

from gommage.core.check import held_cells, measures, seam
from gommage.core.check.measures import Sample
from gommage.core.fill import Layer, PlateAt, PlatesAt, fill_from_plates, plate_weights
from gommage.core.geometry import Window, shift
from gommage.core.match import (
    Grain,
    Light,
    add_grain,
    apply_light,
    grain_field,
    match_light,
    measure_grain,
    steadied,
    without_grain,
)
from gommage.core.match.grain import _size, gaussian_lags
from gommage.core.match.light import _moments, ring_around
from gommage.core.picture import Splines, halved
from tests.conftest import texture

GRAIN = Grain((4e-6, 4e-6, 6e-6), (1.5e-4, 1.2e-4, 2e-4), gaussian_lags(0.55))
FILL = texture(120, 150, seed=8)
MATTE = np.zeros((120, 150), np.float32)
MATTE[40:80, 50:100] = 1
VALID = np.ones_like(MATTE)
GAIN_TOLERANCE = 0.002  # grain averages out over some 5,000 pixels of ring


def gains():
    v, u = np.mgrid[-1:1:120j, -1:1:150j]
    return np.stack([0.8 + 0.05 * u, 0.7 - 0.04 * v, 1.1 + 0 * u], axis=-1).astype(np.float32)


def test_a_light_that_varies_over_the_window_is_found():
    below = FILL * gains()
    light = match_light(FILL, below, MATTE, VALID)
    assert light.trusted
    np.testing.assert_allclose(apply_light(FILL, light)[MATTE > 0], below[MATTE > 0], rtol=0.01)
    assert light.stops == pytest.approx(np.log2([0.8, 0.7, 1.1]), abs=0.01)


def test_grain_does_not_bias_the_light():
    noisy_fill = add_grain(FILL, GRAIN, (1,))
    noisy_below = add_grain(FILL * np.float32(0.75), GRAIN, (2,))
    light = match_light(noisy_fill, noisy_below, MATTE, VALID)
    np.testing.assert_allclose(light.coefficients[:, 0], 0.75, atol=GAIN_TOLERANCE)


def test_a_passer_by_in_the_ring_has_no_vote():
    below = FILL * np.float32(0.75)
    below[30:95, 102:112] = 2.0
    light = match_light(FILL, below, MATTE, VALID)
    np.testing.assert_allclose(light.coefficients[:, 0], 0.75, atol=GAIN_TOLERANCE)


def test_light_is_looked_at_in_an_area_instead():
    below = FILL * np.float32(0.75)
    below[:, 75:] = FILL[:, 75:] * np.float32(1.5)  # another wall, under another light
    area = np.zeros(MATTE.shape, bool)
    area[30:90, 5:60] = True
    light = match_light(FILL, below, MATTE, VALID, area=area)
    np.testing.assert_allclose(light.coefficients[:, 0], 0.75, atol=GAIN_TOLERANCE)
    under = match_light(FILL, below, MATTE, VALID, area=MATTE > 0)
    assert not under.trusted  # never under the cover


def light_of(gain, error):
    return Light(np.array([[gain, 0.0, 0.0]] * 3), Window.of(9, 9), error=error)


def test_a_light_that_few_pixels_tell_is_steadied():
    """Twelve hundred frames of a slow change, told with an error of 1 %: three quarters of the error goes."""
    rng, error = np.random.default_rng(6), 0.01
    true = 0.8 + 0.1 * np.sin(np.arange(1200) / 200)
    told = true * (1 + error * rng.standard_normal(1200))
    steady = [
        steadied(light_of(told[at], error), {by: light_of(told[at + by], error) for by in (-2, -1, 1, 2)})
        for at in range(2, 1198)
    ]
    left = np.array([one.coefficients[0, 0] for one in steady]) - true[2:1198]
    assert left.std() < 0.62 * (told - true).std()
    assert light_of(1, error).needs_others
    assert not light_of(1, 0.0005).needs_others


def test_a_lantern_that_flickers_is_not_steadied():
    lantern = {by: light_of(1.0 + 0.1 * (-1) ** by, 0.003) for by in (-2, -1, 1, 2)}
    assert steadied(light_of(1.1, 0.003), lantern).coefficients[0, 0] == pytest.approx(1.1, abs=0.003)
    flash = {by: light_of(1.0, 0.003) for by in (-2, -1, 1, 2)}
    assert steadied(light_of(1.3, 0.003), flash).coefficients[0, 0] == pytest.approx(1.3, abs=0.003)
    alone = light_of(0.9, 0.01)
    assert steadied(alone, {1: light_of(1.0, 0.01)}) is alone
    assert steadied(alone, {by: Light.none(Window.of(9, 9)) for by in (-1, 1)}) is alone


def test_without_a_ring_nothing_is_claimed():
    light = match_light(FILL, FILL, MATTE, np.zeros_like(VALID))
    assert not light.trusted
    np.testing.assert_allclose(apply_light(FILL, light), FILL, rtol=1e-6)
    np.testing.assert_array_equal(Light.none(Window.of(9, 9)).coefficients[:, 0], 1)


def test_a_light_reads_the_same_in_any_window():
    light = match_light(FILL, FILL * gains(), MATTE, VALID)
    whole = apply_light(FILL, light)
    window = Window(30, 20, 90, 70)
    np.testing.assert_allclose(apply_light(FILL[window.slices], light, window), whole[window.slices], rtol=1e-6)


def test_ring_lies_round_the_matte():
    ring = ring_around(MATTE, 2, 5)
    assert not ring[MATTE > 0].any()
    assert ring[36, 70]
    assert not ring[39, 70]
    assert not ring[30, 70]


# -- grain --------------------------------------------------------------------------------------------------


def test_added_grain_has_the_deviation_that_was_asked_for():
    for level in (0.05, 0.4, 1.5):
        flat = np.full((200, 200, 3), level, np.float32)
        grainy = add_grain(flat, GRAIN, (3,))
        np.testing.assert_allclose(grainy.std(axis=(0, 1)), GRAIN.deviation(flat)[0, 0], rtol=0.03)
        half = add_grain(flat, GRAIN, (3,), amount=0.5)
        np.testing.assert_allclose(half - flat, (grainy - flat) * 0.5, atol=1e-6)
    np.testing.assert_array_equal(add_grain(flat, GRAIN, (3,)), grainy)
    assert (add_grain(flat, GRAIN, (4,)) != grainy).any()


def test_grain_is_measured_apart_from_texture():
    """Rough paper that all frames share is not taken for grain."""
    paper = texture(160, 160, seed=9, fine=0.8)
    frames = [add_grain(paper * np.float32(1 + 0.02 * k), GRAIN, (k,)) for k in range(7)]
    found = measure_grain(frames[3], frames[:3] + frames[4:], np.ones((160, 160), bool))
    level = np.full((1, 3), 0.4, np.float32)
    np.testing.assert_allclose(found.deviation(level), GRAIN.deviation(level), rtol=0.12)
    assert found.size_px == pytest.approx(GRAIN.size_px, abs=0.1)
    assert np.abs(np.array(found.correlation) - np.eye(3)).max() < 0.1


def test_grain_of_any_spectrum_is_measured_and_laid_again():
    """Grain that is coarser across than down, and rings, as a scanner or a sharpened film leaves it."""
    kernel = np.zeros((5, 7), np.float32)
    kernel[2, 1:6] = (-0.25, 0.5, 1.0, 0.5, -0.25)
    kernel[1, 2:5] = kernel[3, 2:5] = 0.15
    kernel /= np.sqrt((kernel**2).sum())
    paper, rng = texture(240, 240, seed=9, fine=0.8), np.random.default_rng(4)

    def grainy():
        white = rng.standard_normal((240, 240, 3)).astype(np.float32)
        return paper + np.float32(0.02) * cv2.filter2D(white, -1, kernel)

    frames = [grainy() for _ in range(7)]
    found = measure_grain(frames[3], frames[:3] + frames[4:], np.ones((240, 240), bool))
    laid = grain_field(found, (1,), Window(0, 0, 400, 400))
    true = cv2.filter2D(np.random.default_rng(5).standard_normal((400, 400, 3)).astype(np.float32), -1, kernel)
    assert laid.std() == pytest.approx(1, abs=0.02)
    for down, across in ((0, 1), (0, 2), (0, 3), (1, 0), (1, 1), (2, 0)):
        one, other = (
            float((field[down:, across:] * field[: 400 - down, : 400 - across]).mean()) for field in (laid, true)
        )
        assert one == pytest.approx(other, abs=0.04), (down, across)


def test_too_little_to_measure_is_said():
    flat = np.full((40, 40, 3), 0.4, np.float32)
    assert measure_grain(flat, [flat], np.ones((40, 40), bool)) is None
    assert measure_grain(flat, [flat, flat], np.zeros((40, 40), bool)) is None


def test_footage_without_grain_has_none():
    """A picture drawn by a program that never changes: nothing to measure, and no number that is none."""
    drawn = cv2.GaussianBlur(np.random.default_rng(1).random((160, 160, 3)).astype(np.float32), (0, 0), 3)
    assert measure_grain(drawn, [drawn] * 4, np.ones((160, 160), bool)) is None


def test_grain_is_taken_off_and_texture_stays():
    clean = texture(120, 120, seed=10, fine=2.5)
    grainy = add_grain(clean, GRAIN, (5,))
    freed = without_grain(grainy, GRAIN)
    before, after = ((grainy - clean) ** 2).mean(), ((freed - clean) ** 2).mean()
    assert after < before / 2.5
    tiny = grainy[:5, :5]
    assert without_grain(tiny, GRAIN) is tiny


def test_grain_is_the_same_in_any_window():
    whole = grain_field(GRAIN, (1, 2), Window(0, 0, 300, 200))
    window = Window(100, 90, 180, 150)
    np.testing.assert_array_equal(grain_field(GRAIN, (1, 2), window), whole[window.slices])
    assert whole.std() == pytest.approx(1, abs=0.02)
    seen = add_grain(FILL, GRAIN, (1, 2), at=Window(5, 5, 155, 125))
    np.testing.assert_allclose(seen - FILL, whole[5:125, 5:155] * GRAIN.deviation(FILL), atol=1e-6)


def test_freeing_from_grain_is_the_same_in_any_window():
    grainy = add_grain(FILL, GRAIN, (7,))
    whole = without_grain(grainy, GRAIN)
    piece = without_grain(grainy[21:101, 30:130], GRAIN, at=(30, 21))
    np.testing.assert_array_equal(piece[16:-16, 16:-16], whole[37:85, 46:114])


def test_grain_of_a_smaller_picture_is_known():
    flat = np.full((400, 400, 3), 0.4, np.float32)
    for level in (1, 2):
        small = halved(add_grain(flat, GRAIN, (8,)), level)
        expected = GRAIN.averaged(level).deviation(small)[0, 0]
        np.testing.assert_allclose(small.std(axis=(0, 1)), expected, rtol=0.06)  # few thousand pixels, weakly related


# -- fill ---------------------------------------------------------------------------------------------------


def test_plates_are_strongest_near_home():
    assert plate_weights((1010, 1020), 1005) == (1, 0)
    assert plate_weights((1010, 1020), 1010) == (1, 0)
    assert plate_weights((1010, 1020), 1015) == (0.5, 0.5)
    assert plate_weights((1010, 1020), 1030) == (0, 1)
    assert plate_weights((1020, 1010, 1040), 1025) == (0.75, 0, 0.25)
    with pytest.raises(ValueError, match="no plate"):
        plate_weights((), 1)


class Scene:
    """A scene with one plate, to be asked by a recipe."""

    scale = 1.0

    def known(self, canvas, window, level):
        return None

    def prepared(self, canvas, window, level):
        place = window & Window.of(150, 120)
        return Splines.of(FILL[place.slices], place) if not place.is_empty else Splines.of(FILL[:8, :8])


def test_a_carried_plate_lands_where_the_surface_is():
    def layer(dx, dy, window) -> Layer:
        plate = PlateAt(canvas=None, frame_from_plate=shift(dx, dy), weight=1.0)
        (found,) = fill_from_plates(PlatesAt(plates=(plate,)), Scene(), window).layers
        return found

    found = layer(10.0, -5.0, Window(60, 30, 100, 60))
    np.testing.assert_allclose(found.pixels, FILL[35:65, 50:90], atol=2e-3)  # the rim of the piece that was prepared
    np.testing.assert_allclose(found.pixels[8:-8, 8:-8], FILL[43:57, 58:82], atol=2e-5)
    assert found.valid.all()
    assert not layer(200, 0, Window(0, 0, 20, 20)).valid.any()


# -- check --------------------------------------------------------------------------------------------------


def luminance_of(picture):
    return np.ascontiguousarray(picture.mean(axis=2))


def test_seam_is_the_step_at_the_rim():
    below = luminance_of(FILL)
    assert seam(below, below, MATTE, VALID) == 0
    assert seam(below * 1.05, below, MATTE, VALID) == pytest.approx(5, rel=0.2)
    tilted = below * (1 + 0.1 * np.linspace(-1, 1, 150, dtype=np.float32))
    assert 2 < seam(tilted, below, MATTE, VALID) < 10
    assert seam(below * 2, below, MATTE, np.zeros_like(VALID)) == 0


def test_flicker_finds_the_one_bad_frame():
    below = luminance_of(FILL)
    held, held_matte = np.full((60, 60), 0.4, np.float32), np.ones((60, 60), np.float32)
    samples = {}
    for frame in range(1001, 1010):
        blip = 1.06 if frame == 1005 else 1.0
        samples[frame] = Sample(0.0, held_cells(below, MATTE, held * np.float32(blip), held_matte))
    figures = measures(samples)
    worst = max(figures, key=lambda one: one.worst)
    assert worst.frame == 1005
    assert worst.flicker_percent == pytest.approx(6 * 0.4 / below[ring_around(MATTE)].mean(), rel=0.01)
    assert figures[0].flicker_percent == 0
    assert figures[6].flicker_percent == pytest.approx(0, abs=1e-6)


def test_a_light_says_how_unsure_it_is():
    """By what share it may be off: less the more pixels told it, more the noisier they are."""

    def error(noise, valid=VALID):
        below = 0.75 * FILL + np.random.default_rng(4).normal(0, noise, FILL.shape)
        return match_light(FILL, below.astype(np.float32), MATTE, valid).error

    half = VALID.copy()
    half[:, 75:] = 0
    assert error(0.04) == pytest.approx(2 * error(0.02), rel=0.05)
    assert error(0.02, half) == pytest.approx(np.sqrt(2) * error(0.02), rel=0.1)
    level = float((0.75 * FILL)[ring_around(MATTE)].mean(axis=0).min())
    pixels = int(ring_around(MATTE).sum())
    assert error(0.02) == pytest.approx(0.02 / level * np.sqrt(4 / pixels), rel=0.15), "neighbours tell alike"


def test_beside_on_one_side_alone_their_mean_is_expected_not_where_their_line_leads():
    told = {by: light_of(1.0 + 0.02 * by, 0.05) for by in (1, 2)}
    expected = steadied(light_of(1.0, 0.5), told).coefficients[0, 0]
    assert expected == pytest.approx(1.03, abs=0.012), "drawn out, the line would say 1.00"
    both = {by: light_of(1.0 + 0.02 * by, 0.05) for by in (-2, 1, 2)}
    assert steadied(light_of(1.2, 0.5), both).coefficients[0, 0] < 1.03


def test_a_ring_along_a_line_tells_no_slope_across_it():
    rng = np.random.default_rng(3)
    along, across = np.linspace(-1, 1, 400), 1e-3 * rng.standard_normal(400)
    basis = np.column_stack([np.ones(400), along, across])
    source = rng.uniform(0.3, 0.5, (400, 3))
    target = source * (1.1 + 0.05 * along)[:, None] + 0.01 * rng.standard_normal((400, 3))
    found = _moments(source**2, source * target, basis)
    assert np.abs(found[:, 0] - 1.1).max() < 0.02
    assert np.abs(found[:, 2]).max() < 0.05, "a chance correlation across the line, not a slope of many"


@pytest.mark.parametrize("size_px", [0.5, 0.9, 1.4])
def test_the_size_of_grain_is_told_by_how_its_neighbours_agree(size_px):
    assert _size(gaussian_lags(size_px)) == pytest.approx(size_px, abs=0.02)
