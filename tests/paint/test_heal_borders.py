"""The border of a healed stroke, looked at pixel by pixel: no larger steps than the untouched picture has there."""

import numpy as np
import pytest
from benchmarks.healing import border_ratios

from gommage.core.picture import read_picture


@pytest.fixture(scope="module")
def plate(demo):
    return read_picture(demo.plate_path, demo.footage.colour_space)


@pytest.mark.parametrize("thing", [None, 0.0, 1.5])
def test_a_border_shows_by_no_step(plate, thing):
    """Also beside half of a thing that is still there. A fifth more than the picture itself has is not seen."""
    hard = border_ratios(plate, 0.0, thing, dabs=24)
    soft = border_ratios(plate, 0.5, thing, dabs=24, seed=1)
    assert np.median(hard) < 1.2
    assert np.quantile(hard, 0.9) < 1.7  # of 24, two or three on next to no texture, where a step is of grain alone
    assert np.quantile(soft, 0.9) < 1.05
