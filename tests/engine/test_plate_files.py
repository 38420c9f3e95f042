"""Clean plates out to a picture editor and back in register, whoever edited them."""

import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.document import FromPicture, Merged, Painting, placement
from gommage.core.engine import find_plate, stamp_of, write_plate
from gommage.core.picture import read_picture
from gommage.core.picture.stills import read_still
from gommage.core.picture.writing import write_still
from gommage.demo.editor import paint_dot
from gommage.errors import FootageError, RenderError
from tests.engine.test_engine import clone, with_fix

DOT = (0.9, 0.1, 0.1)


@pytest.fixture
def shot(small_shot):
    return with_fix(small_shot, clone())


def test_a_plate_goes_out_with_its_paint_and_says_where_it_belongs(engine, shot, tmp_path):
    path, plate = tmp_path / "wall.exr", shot.clean_plates[0]
    write_plate(engine, shot, plate, path)
    raw = read_still(path)
    assert raw.pixels.dtype == np.float16
    assert raw.attributes["gommage:homeFrame"] == plate.home_frame
    np.testing.assert_allclose(read_picture(path), engine.painted(shot, plate), rtol=1e-3, atol=1e-4)
    found = find_plate(engine, shot, path)
    assert (found.home_frame, found.surface_id, found.window, found.is_told) == (
        plate.home_frame, plate.surface_id, None, True,
    )  # fmt: skip


@pytest.mark.parametrize("forgets", [False, True])
def test_what_was_painted_elsewhere_is_on_every_frame(engine, shot, tmp_path, forgets):
    """Whether the editor keeps metadata or not: the plate knows its file."""
    path, plate = tmp_path / "wall.exr", shot.clean_plates[0]
    write_plate(engine, shot, plate, path)
    base = FromPicture(path=str(path), is_watched=True, stamp=stamp_of(path))
    out = replace(shot, clean_plates=(replace(plate, base=base, painting=Painting()),))
    for frame in (1001, 1004):
        np.testing.assert_allclose(engine.result(out, frame), engine.result(shot, frame), rtol=0.02, atol=0.01)
    paint_dot(path, 75.5, 55.5, 4, DOT, forgets=forgets)
    assert stamp_of(path) != base.stamp
    saved = replace(out, clean_plates=(replace(plate, base=replace(base, stamp=stamp_of(path)), painting=Painting()),))
    for frame in (1001, 1004):
        changed = np.abs(engine.result(saved, frame) - engine.result(out, frame)).max(axis=2) > 0.1
        rows, columns = np.nonzero(changed)
        assert 20 < changed.sum() < 80
        there = placement(saved, saved.surfaces[0]).home_to_frame(frame)(np.array([[75.5, 55.5]]))[0]
        np.testing.assert_allclose([columns.mean() + 0.5, rows.mean() + 0.5], there, atol=1.0)


def test_without_metadata_the_frame_is_proposed(engine, shot, tmp_path):
    frame = engine.plate(shot.footage, 1004)
    write_still(tmp_path / "wall.1003.exr", frame, bits=32)
    named = find_plate(engine, shot, tmp_path / "wall.1003.exr")
    assert (named.home_frame, named.is_told, named.why) == (1003, False, "as its name says")
    write_still(tmp_path / "wall-final.exr", frame * np.float32(1.3), bits=32)
    alike = find_plate(engine, shot, tmp_path / "wall-final.exr")
    assert (alike.home_frame, alike.is_told) == (1004, False)
    assert alike.why == "it looks like that frame"


def test_a_merged_plate_keeps_its_window_and_what_no_frame_shows(engine, shot, tmp_path):
    path, plate = tmp_path / "merged.exr", shot.clean_plates[0]
    large = replace(plate, base=Merged(), window=(-64, -64, 192, 192), painting=Painting())
    merged = replace(shot, clean_plates=(large,))
    write_plate(engine, merged, large, path)
    raw = read_still(path)
    assert raw.pixels.shape == (256, 256, 3)
    assert raw.alpha.min() == 0
    assert raw.alpha.max() == 1
    found = find_plate(engine, merged, path)
    assert (found.window, found.home_frame, found.is_told) == ((-64, -64, 192, 192), large.home_frame, True)
    base = FromPicture(path=str(path))
    back = replace(shot, clean_plates=(replace(large, base=base),))
    np.testing.assert_allclose(engine.result(back, 1003), engine.result(merged, 1003), rtol=0.03, atol=0.01)


def test_what_the_shot_is_made_of_is_not_written_over(engine, shot, tmp_path):
    path = tmp_path / "source.exr"
    write_still(path, engine.plate(shot.footage, 1001), bits=32)
    other = replace(shot.clean_plates[0], id="other", name="Other", base=FromPicture(path=str(path)))
    both = replace(shot, clean_plates=(*shot.clean_plates, other))
    with pytest.raises(RenderError, match="would overwrite a clean plate's picture"):
        write_plate(engine, both, shot.clean_plates[0], path)
    with pytest.raises(RenderError, match=r"nowhere\.exr could not be written"):
        write_plate(engine, shot, shot.clean_plates[0], tmp_path / "missing" / "nowhere.exr")


def test_a_picture_of_another_size_is_refused(engine, shot, tmp_path):
    write_still(tmp_path / "small.exr", np.zeros((50, 40, 3), np.float32), bits=32)
    with pytest.raises(FootageError, match="small.exr is 40 x 50, the shot is 160 x 120"):
        find_plate(engine, shot, tmp_path / "small.exr")
