"""Blur that new pixels lack: found where it is known, and nowhere else."""

import cv2
import numpy as np
import pytest

from gommage.core.match import NO_BLUR, Beside, Blur, blur_lacking, blurred
from tests.conftest import texture

SHARP = texture(160, 240, seed=4, fine=1.2)
EVERYWHERE = np.ones(SHARP.shape[:2], bool)
AROUND = EVERYWHERE.copy()
AROUND[26:-26, 26:-26] = False
GRAIN = 0.02
FOUND_PX = 0.35  # the steps that are tried are so far apart at these lengths, and a parabola lies between them


def grainy(picture, seed, deviation=GRAIN):
    return picture + np.float32(deviation) * np.random.default_rng(seed).standard_normal(picture.shape, np.float32)


def beside(frame, fill=SHARP):
    return [Beside(fill, frame, EVERYWHERE, AROUND)]


@pytest.mark.parametrize("passing", [(8.0, 3.0), (0.0, -14.0), (20.0, 0.0)])
def test_motion_blur_is_found_along_the_way(passing):
    true = Blur(0.45 * passing[0], 0.45 * passing[1])
    found = blur_lacking(beside(grainy(blurred(SHARP, EVERYWHERE, true), 1)), passing)
    assert found.along_px == pytest.approx(true.along_px, abs=FOUND_PX + 0.05 * true.along_px)
    assert found.round_px < 0.5


@pytest.mark.parametrize("round_px", [0.6, 1.2, 2.0])
def test_a_lens_out_of_focus_is_found(round_px):
    frame = grainy(cv2.GaussianBlur(SHARP, (0, 0), round_px), 2)
    found = blur_lacking(beside(frame), (0.0, 0.0))
    assert found.round_px == pytest.approx(round_px, abs=FOUND_PX / 2)
    assert (found.x, found.y) == (0, 0)


@pytest.mark.parametrize("seed", range(8))
def test_what_is_as_sharp_as_the_frame_stays_so(seed):
    """Its own grain is no reason: blur would make the two more alike by taking that away."""
    assert not blur_lacking(beside(grainy(SHARP, seed)), (9.0, 4.0))
    average = grainy(SHARP, 100 + seed, GRAIN * np.sqrt(0.25))
    assert not blur_lacking(beside(grainy(SHARP, seed), average), (9.0, 4.0), 0.25)


def test_what_is_less_sharp_than_the_frame_is_left_alone():
    soft = cv2.GaussianBlur(SHARP, (0, 0), 1.5)
    assert not blur_lacking(beside(grainy(SHARP, 3), soft), (6.0, 0.0))


@pytest.mark.parametrize("true_px", [0.0, 1.2])
def test_what_the_fill_shows_elsewhere_is_no_reason(true_px):
    """Where it was filmed somebody stood before the wall: soft, that would be more like the frame."""
    stood = SHARP.copy()
    stood[:70, 60:150] = 0.15 * texture(70, 90, seed=9, fine=1.0)
    frame = grainy(blurred(SHARP, EVERYWHERE, Blur(round_px=true_px)) if true_px else SHARP, 6)
    found = blur_lacking(beside(frame, stood), (0.0, 0.0))
    assert found.round_px == pytest.approx(true_px, abs=FOUND_PX / 2)


def test_a_blank_wall_tells_nothing():
    flat = np.full_like(SHARP, 0.3)
    assert not blur_lacking(beside(grainy(flat, 5), flat), (10.0, 0.0))
    few = np.zeros_like(AROUND)
    few[:10, :10] = True
    assert blur_lacking([Beside(SHARP, SHARP, EVERYWHERE, few)], (10.0, 0.0)) is NO_BLUR


def test_blur_spreads_what_is_shown_alone():
    shown = EVERYWHERE.copy()
    shown[:, 120:] = False
    fill = np.where(shown[..., None], np.full_like(SHARP, 0.5), np.float32(9.0))
    soft = blurred(fill, shown, Blur(6.0, 2.0, 1.0))
    np.testing.assert_allclose(soft[:, :120], 0.5, rtol=1e-5)
    np.testing.assert_array_equal(soft[:, 120:], 9.0)


def test_a_blur_keeps_brightness_and_scales():
    blur = Blur(5.0, -2.0, 0.8)
    assert blur.kernel.sum() == pytest.approx(1, abs=1e-5)
    assert blur.scaled(0.5) == Blur(2.5, -1.0, 0.4)
    assert max(blur.kernel.shape) // 2 <= blur.reach_px + 3
    assert not NO_BLUR
    assert NO_BLUR.reach_px == 0
