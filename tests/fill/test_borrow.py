"""What is borrowed, from beside and from other frames, against what was there."""

import cv2
import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.document import (
    Array,
    Borrow,
    Fix,
    Footage,
    FrameOffset,
    FrameRange,
    GrainMatch,
    Key,
    Keys,
    Match,
    Matte,
    PinnedFrame,
    Place,
    Shot,
    Softness,
    Still,
    Surface,
)
from gommage.core.engine import Engine
from gommage.core.picture.writing import write_still
from tests.conftest import rectangle, shape_of

WIDTH, HEIGHT, STEP = 320, 200, 40


def papers():
    """A print that repeats after 40 px both ways: what is borrowed from one repeat away is what was there."""
    rng = np.random.default_rng(1)
    tile = cv2.GaussianBlur(np.tile(rng.random((STEP, STEP, 3)).astype(np.float32), (3, 3, 1)), (0, 0), 1.5)
    return np.tile(tile[STEP : 2 * STEP, STEP : 2 * STEP], (HEIGHT // STEP, WIDTH // STEP, 1)) * 0.6 + 0.2


def filmed(folder, spots=((150, 90),), shade=None, frames=1, **fields):
    """The print with dark spots of 14 px, covered; light falls off to the right if it is asked for."""
    picture = papers()
    if shade is not None:
        picture = picture * np.linspace(1, shade, WIDTH, dtype=np.float32)[None, :, None]
    for frame in range(1001, 1001 + frames):
        dirty = picture.copy()
        if frame == 1001:
            for x, y in spots:
                cv2.circle(dirty, (x, y), 7, (0.02, 0.02, 0.02), -1)
        write_still(folder / f"print.{frame}.exr", dirty, bits=32)
    footage = Footage(path=str(folder / "print.####.exr"), frames=FrameRange(first=1001, last=1000 + frames),
                      width=WIDTH, height=HEIGHT, colour_space="Linear Rec.709 (sRGB)")  # fmt: skip
    shapes = [shape_of(rectangle(x - 10, y - 10, x + 10, y + 10), 1001, f"s{n}") for n, (x, y) in enumerate(spots)]
    fix = Fix(id="f", name="Spots", cover=Matte.of(*shapes, softness=Softness(outwards_px=2.0)), fill=Borrow(),
              match=Match(grain=GrainMatch(amount=0.0)))  # fmt: skip
    return Shot(id="shot", name="Print", footage=footage, fixes=(replace(fix, **fields),)), picture


def with_places(shot, *places, **fields):
    return replace(shot, fixes=(replace(shot.fixes[0], fill=Borrow(places=places, **fields)),))


def test_a_repeat_away_is_what_was_there_to_the_bit(tmp_path):
    """By whole pixels, nothing lit: copied, not resampled."""
    shot, clean = filmed(tmp_path)
    engine = Engine(10**8)
    result = engine.result(with_places(shot, Place(dx=2 * STEP, dy=-STEP), is_lit=False), 1001)
    inside = engine.laid_matte(shot, 1001) > 0.999
    np.testing.assert_array_equal(result[inside], clean[inside])
    outside = engine.laid_matte(shot, 1001) == 0
    np.testing.assert_array_equal(result[outside], engine.plate(shot.footage, 1001)[outside])


def test_each_part_has_its_own_place_and_its_own_light(tmp_path):
    """Under light that falls off to .4, each from one repeat to the left: within a hundredth of what was there."""
    spots = ((90, 50), (210, 130), (270, 90))
    shot, clean = filmed(tmp_path, spots, shade=0.4)
    engine = Engine(10**8)
    places = [Place(part_id=f"s{n}", dx=-STEP, dy=STEP * (n - 1)) for n in range(3)]
    inside = engine.laid_matte(shot, 1001) > 0.999
    lit = engine.result(with_places(shot, *places), 1001)
    assert np.abs(lit - clean)[inside].mean() < 0.01
    plain = engine.result(with_places(shot, *places, is_lit=False), 1001)
    assert np.abs(plain - clean)[inside].mean() > 2 * np.abs(lit - clean)[inside].mean()


def test_turned_enlarged_and_mirrored_about_the_middle(tmp_path):
    """Half a turn and a mirror about the same middle, done twice as large: the middle stays where it is."""
    shot, clean = filmed(tmp_path)
    engine = Engine(10**8)
    place = Place(dx=STEP, turn_deg=180.0, scale=2.0, is_mirrored=True)
    result = engine.result(with_places(shot, place, is_lit=False), 1001)
    # A mirror left to right and half a turn are a mirror upside down.
    for by_x, by_y in ((0, 0), (4, 2), (-4, 6)):
        here = result[90 + by_y, 150 + by_x]
        there = clean[int(90 - by_y / 2), int(150 + STEP + by_x / 2)]
        assert np.abs(here - there).max() < 0.15  # twice as large: between pixels


def test_keys_move_it_over_time_and_another_frame_lends(tmp_path):
    shot, clean = filmed(tmp_path, frames=4)
    engine = Engine(10**8)
    inside = engine.laid_matte(shot, 1001) > 0.999
    for time in (FrameOffset(frames=2), PinnedFrame(frame=1004)):
        result = engine.result(with_places(shot, Place(time=time), is_lit=False), 1001)
        np.testing.assert_array_equal(result[inside], clean[inside])
    keyed = Keys(keys=(Key(frame=1001, value=float(STEP)), Key(frame=1003, value=3.0 * STEP)))
    result = engine.result(with_places(shot, Place(dx=keyed), is_lit=False), 1003)
    np.testing.assert_array_equal(result[inside], clean[inside])
    assert np.abs(engine.result(with_places(shot, Place(dx=keyed), is_lit=False), 1002) - clean)[inside].max() < 1e-6
    beyond = with_places(shot, Place(time=FrameOffset(frames=9)), is_lit=False)
    np.testing.assert_array_equal(engine.result(beyond, 1001), engine.plate(shot.footage, 1001))


def test_along_a_surface_it_is_counted_there(tmp_path):
    """On one that stands still and is seen as it is, it is the same whether it runs along it or not."""
    shot, clean = filmed(tmp_path)
    corners = np.array([[0, 0], [WIDTH, 0], [WIDTH, HEIGHT], [0, HEIGHT]], float)
    surface = Surface(id="wall", name="Wall", home_frame=1001, how=Still(corners=Array(corners)))
    shot = replace(shot, surfaces=(surface,), fixes=(replace(shot.fixes[0], surface_id="wall"),))
    engine = Engine(10**8)
    inside = engine.laid_matte(shot, 1001) > 0.999
    for along in (True, False):
        result = engine.result(with_places(shot, Place(dx=STEP, runs_along=along), is_lit=False), 1001)
        np.testing.assert_array_equal(result[inside], clean[inside])


@pytest.mark.parametrize("place", [Place(dx=5000.0), Place(dy=-5000.0, scale=0.3)])
def test_what_lies_out_of_the_picture_is_not_laid(tmp_path, place):
    shot, _ = filmed(tmp_path)
    engine = Engine(10**8)
    np.testing.assert_array_equal(engine.result(with_places(shot, place), 1001), engine.plate(shot.footage, 1001))
