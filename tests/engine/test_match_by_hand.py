"""Light, edge and blur by hand: what the numbers do to pixels, keyed over frames."""

import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.document import GrainMatch, Key, Keys, LightMatch, Softness
from gommage.core.match import NO_GRADE, Grade, graded
from tests.engine.test_engine import clone, with_fix

GREY = np.full((4, 4, 3), 0.18, np.float32)


@pytest.mark.parametrize(
    ("grade", "wanted"),
    [
        (Grade(exposure_stops=1.0), (0.36, 0.36, 0.36)),
        (Grade(temperature=0.5), (0.18 * 2**0.5, 0.18, 0.18 / 2**0.5)),
        (Grade(tint=1.0), (0.18, 0.09, 0.18)),
        (Grade(gain=0.5), (0.09, 0.09, 0.09)),
        (Grade(lift=0.1), (0.18 * 0.9 + 0.1,) * 3),
        (Grade(contrast=2.0), (0.18, 0.18, 0.18)),
        (Grade(contrast=2.0, exposure_stops=1.0), (0.72, 0.72, 0.72)),
        (Grade(saturation=0.0), (0.18, 0.18, 0.18)),
    ],
)
def test_what_a_number_does(grade, wanted):
    np.testing.assert_allclose(graded(GREY, grade)[0, 0], wanted, rtol=1e-5)


def test_saturation_keeps_the_luminance():
    red = np.full((2, 2, 3), (0.5, 0.1, 0.1), np.float32)
    grey = graded(red, Grade(saturation=0.0))
    np.testing.assert_allclose(grey[0, 0], 0.2126 * 0.5 + 0.7874 * 0.1, rtol=1e-4)
    assert graded(red, NO_GRADE) is red
    assert (graded(np.full((2, 2, 3), -0.01, np.float32), Grade(contrast=1.5)) == np.float32(-0.01)).all()


def changed(shot, **fields):
    (fix,) = shot.fixes
    return replace(shot, fixes=(replace(fix, match=replace(fix.match, **fields)),))


@pytest.fixture
def shot(small_shot):
    return changed(with_fix(small_shot, clone()), grain=GrainMatch(amount=0.0))


def test_light_by_hand_is_keyed_over_frames(engine, shot):
    gain = Keys(keys=(Key(frame=1001, value=1.0), Key(frame=1005, value=0.5)))
    dimmed = changed(shot, light=LightMatch(gain=gain))
    for frame, wanted in ((1001, 1.0), (1003, 0.75), (1005, 0.5)):
        patches = [engine.patch(one, one.fixes[0], frame) for one in (dimmed, shot)]
        solid = patches[0].alpha > 0.99
        ratio = patches[0].pixels[solid].mean() / patches[1].pixels[solid].mean()
        assert ratio == pytest.approx(wanted, rel=1e-3)


def test_an_edge_of_its_own_leaves_the_cover(engine, shot):
    hard = changed(shot, edge=Softness())
    soft = changed(shot, edge=Softness(outwards_px=12.0))
    partly = [((one.alpha > 0.02) & (one.alpha < 0.98)).sum()
              for one in (engine.patch(shot, shot.fixes[0], 1003) for shot in (hard, soft))]  # fmt: skip
    assert partly[0] < partly[1] / 3
    (fix,) = hard.fixes
    assert fix.cover == shot.fixes[0].cover


def test_blur_is_the_same_in_every_window(engine, shot):
    soft = changed(shot, sharpness_px=2.0)
    whole = engine.result(soft, 1003)
    sharp = engine.result(shot, 1003)
    patch = engine.patch(soft, soft.fixes[0], 1003)
    inside = np.zeros(whole.shape[:2], bool)
    inside[patch.window.slices] = patch.alpha > 0.99

    def fine(picture):
        return np.abs(np.diff(picture.mean(axis=2), axis=1))[inside[:, 1:]].mean()

    assert fine(whole) < 0.8 * fine(sharp)
    small = engine.result(soft, 1003, window=patch.window)
    np.testing.assert_allclose(small, whole[patch.window.slices], atol=1e-6)
