"""The follow on planes whose motion is known, each with one trouble: a few frames of `gommage bench follow`."""

from dataclasses import replace
from functools import cache

import numpy as np
import pytest

from gommage.core.document import FrameRange
from gommage.demo.trials import HOME, TRIALS, judged, limit_of, seen

BY_NAME = {trial.name: trial for trial in TRIALS}


def few(name, last=5):
    """A trial on fewer frames, all of them after home."""
    return replace(BY_NAME[name], frames=FrameRange(first=HOME, last=HOME + last))


LIMITS = {
    "something in front, unmarked": (2.5, 0.08),
    "textured, turning": (2.0, 0.03),
    "a shadow across": (3.0, 0.06),  # without slow light a good deal of the texture is gone too
    "weak texture, strong grain": (2.0, 0.6),
    "50 px a frame, little blur": (2.0, 0.03),
    "handheld, shutter half open": (4.0, 0.1),
}
"""By trial: how many limits the mean error may be, and how many px the worst one."""
FIRST, *OTHERS = LIMITS


@cache
def followed(name):
    return judged(few(name), with_ecc=False)


@pytest.mark.parametrize("name", [FIRST, *(pytest.param(name, marks=pytest.mark.whole) for name in OTHERS)])
def test_a_plane_is_followed_near_the_limit(name):
    most_limits, most_px = LIMITS[name]
    figures = followed(name)
    assert figures.frames == figures.possible, figures.reasons
    assert figures.mean_px < most_limits * figures.limit_px
    assert figures.worst_px < most_px
    assert figures.within_two > 0.9
    assert figures.worst_slips < 4


def test_a_right_perspective_is_not_thrown_away_for_a_simpler_motion():
    assert not any("followed with" in reason for reason in followed(FIRST).reasons)


def test_the_motion_at_home_is_none_and_the_limit_grows_with_grain():
    np.testing.assert_allclose(seen(), np.eye(3), atol=1e-12)
    trial = BY_NAME["textured, slow"]
    np.testing.assert_allclose(trial.truth(HOME), np.eye(3), atol=1e-9)
    grainy = replace(trial, grain=(0.02, 0.02, 0.02))
    assert limit_of(grainy, HOME + 3) == pytest.approx(2 * limit_of(trial, HOME + 3), rel=1e-6)
