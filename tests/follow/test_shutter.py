"""Motion blur: its kernel, the shutter that explains it, and which frames it makes unlike."""

import numpy as np
import pytest

from gommage.core.follow.shutter import best_shutter, blurred_along, is_blurred, line_kernel, passings
from gommage.core.geometry import Window, translation


@pytest.mark.parametrize("motion", [(8.0, 0.0), (0.0, -5.5), (6.0, 3.0), (0.4, 0.1)])
def test_a_line_has_the_motions_length_and_does_not_shift(motion):
    kernel = line_kernel(np.array(motion))
    y, x = np.mgrid[: kernel.shape[0], : kernel.shape[1]] - kernel.shape[0] // 2
    assert kernel.sum() == pytest.approx(1)
    assert ((kernel * x).sum(), (kernel * y).sum()) == pytest.approx((0, 0), abs=1e-5)
    along = (x * motion[0] + y * motion[1]) / np.hypot(*motion)
    # Of a line of length L the variance is L squared over 12; laying it between pixels adds at most a quarter or so.
    assert (kernel * along**2).sum() == pytest.approx(np.hypot(*motion) ** 2 / 12, abs=0.3)


def test_only_the_window_is_blurred():
    picture = np.random.default_rng(0).random((40, 60)).astype(np.float32)
    window = Window(20, 10, 40, 30)
    soft = blurred_along(picture, np.array([6.0, 0.0]), window)
    outside = np.ones(picture.shape, bool)
    outside[window.slices] = False
    assert (soft[outside] == picture[outside]).all()
    assert soft[window.slices].std() < 0.6 * picture[window.slices].std()
    assert blurred_along(picture, np.zeros(2), window) is picture


def test_frames_that_move_alike_are_blurred_alike():
    """Steady motion, then it stops: only frames that move otherwise than home does are worth another look."""
    places = {frame: translation(10.0 * min(frame, 6), 0) for frame in range(10)}
    found = passings(places, dict.fromkeys(range(1, 10), 0), np.array([50.0, 50.0]))
    assert [one.frame for one in found] == [6, 7, 8, 9]  # 6: half of it
    assert found[-1].here_px == pytest.approx([0, 0])
    assert found[-1].blur(0.5)[0] == pytest.approx([5, 0])
    back = {frame: translation(10.0 * abs(frame), 0) for frame in range(-5, 6)}
    away = passings(back, {4: -4}, np.array([50.0, 50.0]))
    assert not away, "blur does not know which way it went"


@pytest.mark.parametrize("share", [0.08, 0.25, 0.47, 0.9])
def test_the_shutter_is_where_the_mismatch_is_least(share):
    assert best_shutter(lambda tried: 0.001 + (tried - share) ** 2) == pytest.approx(share, abs=0.01)


def test_blur_that_explains_little_is_not_believed():
    assert best_shutter(lambda tried: 1.0 + 0.1 * (tried - 0.5) ** 2) == 0.0
    assert best_shutter(lambda tried: 1.0 + tried) == 0.0
    assert not is_blurred(lambda tried: 1.0 + tried)
    assert is_blurred(lambda tried: 0.1 + (tried - 0.5) ** 2)
