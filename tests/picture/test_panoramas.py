"""Pictures of all directions: whole over seam and poles, looked at flat, written back where there is alpha alone."""

import numpy as np
import pytest

from gommage.core.geometry import FlatView, Window, directions_of, look_turn
from gommage.core.picture.footage import is_panorama, probe
from gommage.core.picture.panoramas import flat_view, wrapped, written_back
from gommage.core.picture.resample import Filter, resample
from gommage.core.picture.writing import write_still

WHOLE = (480, 240)
SIZE = (160, 160)


def painted(rays):
    """Return a smooth picture of directions (..., 3), as it would be whatever projection shows it."""
    x, y, z = np.moveaxis(rays, -1, 0)
    return np.stack([0.5 + 0.3 * np.sin(3 * x + y), 0.5 + 0.3 * np.cos(4 * y - z), 0.5 + 0.3 * np.sin(2 * z - 3 * y)],
                    axis=-1).astype(np.float32)  # fmt: skip


def centres(width, height):
    y, x = np.mgrid[0:height, 0:width] + 0.5
    return np.stack([x, y], axis=-1)


@pytest.fixture(scope="module")
def panorama():
    picture = painted(directions_of(centres(*WHOLE), WHOLE))
    picture.setflags(write=False)
    return picture


def looking(x, y, focal=140.0, roll=0.0):
    return FlatView(WHOLE, look_turn(x, y, WHOLE, roll), focal, (SIZE[0] / 2, SIZE[1] / 2))


@pytest.mark.parametrize(("x", "y"), [(240, 120), (0, 120), (479, 60), (100, 240), (300, 0), (7, 233)])
def test_flat_views_are_whole_over_seam_and_poles(panorama, x, y):
    view = looking(x, y, roll=13.0)
    seen = flat_view(panorama, view, Window.of(*SIZE))
    true = painted(directions_of(view.inverse()(centres(*SIZE)), WHOLE))
    assert np.abs(seen - true).max() < 2e-3, "a cubic spline of a smooth picture; a seam would be off by 0.1"
    part = flat_view(panorama, view, Window(40, 30, 90, 100))
    assert np.abs(part - seen[30:100, 40:90]).max() < 2e-4


def test_a_window_over_the_sides_and_a_pole_goes_on(panorama):
    over = wrapped(panorama, Window(470, 236, 500, 250))
    assert np.array_equal(over[:4, :10], panorama[236:, 470:])
    assert np.array_equal(over[:4, 10:], panorama[236:, :20])
    assert np.array_equal(over[4, 0], panorama[239, (470 + 240) % 480]), "past the pole, at the opposite longitude"
    assert np.array_equal(wrapped(panorama, Window(3, 4, 9, 9)), panorama[4:9, 3:9])


@pytest.mark.parametrize(("x", "y"), [(240, 120), (2, 130), (130, 240), (130, 5)])
def test_what_is_written_back_is_where_it_was_seen(panorama, x, y):
    view = looking(x, y)
    flat = flat_view(panorama, view, Window.of(*SIZE))
    at = Window(30, 40, 120, 130)
    rows, columns = np.mgrid[0 : at.height, 0 : at.width]
    alpha = (np.hypot(rows - 45, columns - 45) < 40).astype(np.float32)
    back = written_back(np.ascontiguousarray(flat[at.slices]), alpha, at, view, WHOLE)
    covered = np.zeros((240, 480), np.float32)
    for window, pixels, share in back:
        assert window & Window.of(*WHOLE) == window
        assert not covered[window.slices].any(), "no pixel of the panorama lies in two blocks"
        covered[window.slices] = share
        inside = share > 0.99
        if inside.any():
            assert np.abs(pixels - panorama[window.slices])[inside].max() < 4e-3
    angles = np.arccos(
        np.clip(directions_of(centres(*WHOLE), WHOLE) @ directions_of(np.array([x, y], float), WHOLE), -1, 1)
    )
    assert (covered[angles < 0.2] > 0.99).mean() > 0.9, "whole in the middle, whatever the seam"
    assert covered[angles > 0.6].max() == 0.0


def test_nothing_is_made_where_there_is_no_alpha(panorama):
    view = looking(240, 120)
    assert (
        written_back(
            np.ones((20, 20, 3), np.float32), np.zeros((20, 20), np.float32), Window(9, 9, 29, 29), view, WHOLE
        )
        == []
    )


def test_the_screen_looks_over_the_seam(panorama):
    view = looking(0, 120, focal=60.0)
    pixels, inside = resample(panorama, view.inverse(), Window.of(*SIZE), filter=Filter.LOOK)
    true = painted(directions_of(view.inverse()(centres(*SIZE)), WHOLE))
    assert inside.all()
    assert np.abs(pixels - true).max() < 0.02, "straight between neighbours"


def test_files_say_that_they_are_panoramas(tmp_path, panorama):
    assert is_panorama({"GPano:ProjectionType": "Equirectangular"}, 400, 200)
    assert not is_panorama({"GPano:ProjectionType": "equirectangular"}, 400, 300)
    assert not is_panorama({}, 400, 200)
    for number, attributes in enumerate(({"textureformat": "LatLong Environment"}, {})):
        folder = tmp_path / str(number)
        folder.mkdir()
        write_still(folder / "round.1001.exr", panorama.astype(np.float16), bits=16, attributes=attributes)
        report = probe(folder / "round.1001.exr")
        assert report.footage.is_panorama == (number == 0)
