"""Merged clean plates: what all frames show of a wall, in one light, as far as any of them reaches."""

import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.document import (
    Array,
    Brush,
    CleanPlate,
    Donors,
    Frames,
    Merged,
    Painting,
    Plates,
    Project,
    Source,
    Stroke,
    Tool,
    edits,
)
from gommage.core.engine import Engine
from gommage.core.fill import canvas_key, merged_window
from gommage.core.geometry import Window, shift
from gommage.core.picture import resample
from gommage.errors import Cancelled
from tests.fill.test_donors import FRAMES, GRAIN, HEIGHT, MIDDLE, PAN, WALL, WIDTH, clean, filmed, inner, light, psnr

HOME = 1001


@pytest.fixture(scope="module")
def engine():
    return Engine(10**9)


@pytest.fixture(scope="module")
def shot(tmp_path_factory):
    shot = filmed(tmp_path_factory.mktemp("merged"))
    window = merged_window(shot, "wall", HOME)
    plate = CleanPlate(id="plate", name="Wall merged", surface_id="wall", home_frame=HOME, base=Merged(),
                       window=(window.left, window.top, window.right, window.bottom))  # fmt: skip
    return edits.add_clean_plate(Project.of(shot), shot.id, plate).shots[0]


def plate_of(shot):
    return shot.clean_plates[0]


def test_it_reaches_as_far_as_any_frame(shot):
    window = Window(*plate_of(shot).window)
    assert window.left <= 0
    assert window.top <= 0
    assert window.right >= WIDTH + PAN * (len(FRAMES) - 1)
    assert window.width < 2 * WIDTH


def test_the_board_is_left_out_and_the_light_is_the_home_frames(engine, shot):
    """Against the wall itself: within a half of one frame's grain, also where the home frame does not reach."""
    share = engine.merge(shot, plate_of(shot))
    key = canvas_key(shot, plate_of(shot))
    pixels, known = engine.pictures.merged(key)
    assert share == known.mean() > 0.6
    window = key.window
    truth = resample(WALL, shift(20, 10), window).pixels * np.float32(light(HOME))
    off = (pixels - truth)[known]
    assert off.std() < GRAIN / 2
    assert abs(off.mean()) < 0.002
    beyond = np.s_[20:HEIGHT, WIDTH - window.left + 5 : WIDTH - window.left + 20]
    assert known[beyond].any()
    assert np.abs((pixels - truth)[beyond][known[beyond]].mean()) < 0.004


def test_a_fix_is_filled_from_it(engine, shot):
    (fix,) = shot.fixes
    filled = replace(shot, fixes=(replace(fix, fill=Plates(plate_ids=("plate",))),))
    # Its grain is measured on the board, 24 x 60 px: that costs some tenths more.
    for frame in (1005, MIDDLE, 1020):
        where = inner(frame)
        oracle = clean(frame) + np.random.default_rng(9).normal(0, GRAIN, clean(frame).shape)
        found = psnr(engine.result(filled, frame)[where], clean(frame)[where])
        assert found > psnr(oracle[where], clean(frame)[where]) - 1.5


def few(shot):
    """The shot merged from two frames on which the board hides one place."""
    plate = plate_of(shot)
    from gommage.core.document import Frames

    narrow = replace(
        plate, base=Merged(frames=(Frames(first=MIDDLE, last=MIDDLE + 1),)), home_frame=MIDDLE, window=None
    )
    return replace(shot, clean_plates=(narrow,))


def test_what_no_frame_shows_stays_as_it_is_until_it_is_painted(engine, shot):
    narrow = few(shot)
    key = canvas_key(narrow, plate_of(narrow))
    known = engine.pictures.merged(key)[1]
    left, top, right, bottom = 97, 40, 112, 100
    assert not known[top + 10 : bottom - 10, left + 4 : right - 4].any()
    (fix,) = narrow.fixes
    filled = replace(narrow, fixes=(replace(fix, fill=Plates(plate_ids=("plate",))),))
    where = inner(MIDDLE)
    middle = (slice(where[0].start + 20, where[0].stop - 20), slice(where[1].start + 9, where[1].stop - 9))
    plate = engine.plate(shot.footage, MIDDLE)
    np.testing.assert_array_equal(engine.result(filled, MIDDLE)[middle], plate[middle])
    points = np.array([[(where[1].start + where[1].stop) / 2, y, 1.0] for y in (where[0].start, where[0].stop)])
    stroke = Stroke(id="s", points=Array(points), brush=Brush(tool=Tool.CLONE, size_px=40), source=Source(dx=45.0))
    painted = replace(plate_of(narrow), painting=Painting(strokes=(stroke,)))
    after = engine.result(replace(filled, clean_plates=(painted,)), MIDDLE)
    assert np.abs(after[middle] - plate[middle]).max() > 0.1


def test_the_rest_alone_is_taken_from_a_plate(engine, shot):
    """Donors where there are any, the plate where there are none."""
    (fix,) = shot.fixes
    near = (Frames(first=MIDDLE - 1, last=MIDDLE + 1),)
    alone = replace(fix, fill=Donors(surface_ids=("wall",), frames=near))
    both = replace(fix, fill=replace(alone.fill, rest_plate_ids=("plate",)))
    results = [engine.result(replace(shot, fixes=(one,)), MIDDLE) for one in (alone, both)]
    where = inner(MIDDLE)
    oracle = clean(MIDDLE) + np.random.default_rng(9).normal(0, GRAIN, clean(MIDDLE).shape)
    found = [psnr(result[where], clean(MIDDLE)[where]) for result in results]
    assert found[0] < 20
    assert found[1] > psnr(oracle[where], clean(MIDDLE)[where]) - 1


def test_merging_can_be_called_off(shot):
    def stop():
        raise Cancelled

    with pytest.raises(Cancelled):
        Engine(10**9).merge(shot, plate_of(shot), stop)
