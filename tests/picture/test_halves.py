"""Half floats in and out: as NumPy does it, to the bit, and for every half that there is."""

import numpy as np

from gommage.core.picture.pixels import as_floats, as_halves


def test_every_half_becomes_its_float():
    halves = np.arange(65536, dtype=np.uint16).view(np.float16).reshape(64, -1, 1)
    floats = as_floats(halves)
    assert floats.dtype == np.float32
    np.testing.assert_array_equal(floats, halves.astype(np.float32))


def test_floats_are_rounded_to_the_nearest_half():
    rng = np.random.default_rng(0)
    values = rng.standard_normal((40, 50, 3)) * np.exp(rng.uniform(-20, 10, (40, 50, 3)))
    values = values.astype(np.float32)
    with np.errstate(over="ignore"):
        wanted = values.astype(np.float16)
    np.testing.assert_array_equal(as_halves(values).view(np.uint16), wanted.view(np.uint16))


def test_parts_of_a_picture_and_nothing_at_all():
    picture = np.arange(600, dtype=np.float16).reshape(10, 20, 3)
    np.testing.assert_array_equal(as_floats(picture[2:7, 3:9]), picture[2:7, 3:9].astype(np.float32))
    assert as_floats(picture[:0]).shape == (0, 20, 3)
    assert as_halves(np.zeros((0, 4, 3), np.float32)).shape == (0, 4, 3)
    out = as_floats(np.ones((2, 2, 3), np.float32))
    out[:] = 0  # it is a copy, one's own
