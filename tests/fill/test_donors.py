"""Filling from donor frames on a made-up pan whose truth is known: place, light, grain, and what no frame shows."""

import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.document import (
    Array,
    Donors,
    Fix,
    Footage,
    FrameRange,
    Frames,
    Matte,
    Shot,
    Softness,
    Surface,
    Track,
)
from gommage.core.engine import Engine
from gommage.core.fill import holes
from gommage.core.geometry import Window, shift
from gommage.core.picture import resample
from gommage.core.picture.writing import write_still
from tests.conftest import plane, rectangle, shape_of, texture

WIDTH, HEIGHT, FRAMES = 200, 140, FrameRange(first=1001, last=1024)
PAN, THING_PAN, GRAIN = 1.37, -5.0, 0.008
WALL = texture(HEIGHT + 20, WIDTH + 120, seed=21)
MIDDLE = 1012
LINEAR = "Linear Rec.709 (sRGB)"


def light(frame):
    return 0.97 ** (frame - FRAMES.first)


def clean(frame):
    by = PAN * (frame - FRAMES.first)
    return resample(WALL, shift(20 + by, 10), Window.of(WIDTH, HEIGHT)).pixels * np.float32(light(frame))


def thing_at(frame):
    left = 150 + THING_PAN * (frame - FRAMES.first)
    return left, 40.0, left + 24, 100.0


def track(shifts):
    matrices = np.repeat(np.eye(3)[None], len(shifts), axis=0)
    matrices[:, 0, 2] = shifts
    count = len(shifts)
    return Track(first_frame=FRAMES.first, home_to_frame=Array(matrices), corner_slip_px=Array(np.zeros((count, 4))),
                 certainty=Array(np.ones(count)), reasons=("",) * count)  # fmt: skip


def filmed(folder, off_px=0.0):
    """A wall, panned over, a red board that goes the other way; the follow of the wall may be off to and fro."""
    rng = np.random.default_rng(5)
    for frame in FRAMES:
        picture = clean(frame).copy()
        left, top, right, bottom = (round(one) for one in thing_at(frame))
        picture[top:bottom, max(left, 0) : right] = (0.7, 0.05, 0.05)
        picture += rng.normal(0, GRAIN, picture.shape).astype(np.float32)
        write_still(folder / f"pan.{frame}.exr", picture.astype(np.float16), bits=16)
    footage = Footage(path=str(folder / "pan.####.exr"), frames=FRAMES, width=WIDTH, height=HEIGHT, colour_space=LINEAR)
    steps = np.arange(len(FRAMES))
    wander = off_px * np.random.default_rng(3).choice([-1, 1], len(FRAMES))
    wall = Surface(id="wall", name="Wall", home_frame=1001, how=plane(rectangle(5, 5, 195, 135)),
                   track=track(-PAN * steps + wander))  # fmt: skip
    area = plane(rectangle(*thing_at(1001)), surface_id="board")
    board = Surface(id="board", name="Board", home_frame=1001, how=area, track=track(THING_PAN * steps))
    cover = Matte.of(shape_of(rectangle(148, 38, 176, 102), 1001, "cover"), surface_id="board", softness=Softness())
    fix = Fix(id="f", name="Board", surface_id="board", cover=cover, fill=Donors(surface_ids=("wall",)))
    return Shot(id="shot", name="Pan", footage=footage, surfaces=(wall, board), fixes=(fix,))


@pytest.fixture(scope="module")
def shot(tmp_path_factory):
    return filmed(tmp_path_factory.mktemp("donors"))


@pytest.fixture(scope="module")
def engine():
    return Engine(10**9)


def inner(frame):
    left, top, right, bottom = (int(one) for one in thing_at(frame))
    return np.s_[top:bottom, max(left, 0) : right]


def psnr(one, other):
    return -10 * np.log10(float(np.mean((one - other) ** 2)))


@pytest.mark.parametrize("frame", [1003, MIDDLE, 1022])
def test_the_board_is_gone_in_place_and_light(engine, shot, frame):
    """As good as the clean picture with grain of its own: within 1 dB."""
    result, where = engine.result(shot, frame), inner(frame)
    oracle = clean(frame) + np.random.default_rng(9).normal(0, GRAIN, clean(frame).shape)
    assert psnr(result[where], clean(frame)[where]) > psnr(oracle[where], clean(frame)[where]) - 1
    assert result[where].mean() == pytest.approx(clean(frame)[where].mean(), rel=0.005)
    plate = engine.plate(shot.footage, frame)
    left, top, right, bottom = (int(one) for one in thing_at(frame))
    outside = np.ones(plate.shape[:2], bool)
    outside[top - 4 : bottom + 4, max(left - 4, 0) : right + 4] = False
    np.testing.assert_array_equal(result[outside], plate[outside])


def test_grain_is_as_strong_and_new_on_each_frame(engine, shot):
    one, other = (engine.result(shot, frame)[inner(frame)] - clean(frame)[inner(frame)] for frame in (1011, 1012))
    for noise in (one, other):
        assert noise.std() == pytest.approx(GRAIN, rel=0.15)
    width = min(one.shape[1], other.shape[1])
    assert abs(np.corrcoef(one[:, :width].ravel(), other[:, :width].ravel())[0, 1]) < 0.2


def test_what_the_follow_left_is_taken_out(engine, tmp_path_factory):
    """A follow that is off by a third of a pixel, to and fro, costs little."""
    shaken = filmed(tmp_path_factory.mktemp("shaken"), off_px=0.3)
    where = inner(MIDDLE)
    found = psnr(engine.result(shaken, MIDDLE)[where], clean(MIDDLE)[where])
    (fix,) = shaken.fixes
    stiff = replace(shaken, fixes=(replace(fix, fill=replace(fix.fill, reach_px=0.0)),))
    assert found > psnr(engine.result(stiff, MIDDLE)[where], clean(MIDDLE)[where]) + 0.3
    oracle = clean(MIDDLE) + np.random.default_rng(9).normal(0, GRAIN, clean(MIDDLE).shape)
    assert found > psnr(oracle[where], clean(MIDDLE)[where]) - 1


def test_what_no_allowed_frame_shows_stays(engine, shot):
    (fix,) = shot.fixes
    near = (Frames(first=MIDDLE - 2, last=MIDDLE + 2),)
    narrow = replace(shot, fixes=(replace(fix, fill=replace(fix.fill, frames=near)),))
    result, plate = engine.result(narrow, MIDDLE), engine.plate(shot.footage, MIDDLE)
    left, top, right, bottom = (int(one) for one in thing_at(MIDDLE))
    middle = np.s_[top + 20 : bottom - 20, left + 9 : right - 9]
    np.testing.assert_allclose(result[middle], plate[middle], atol=1e-6)
    assert np.abs(result[top + 5, left + 1] - plate[top + 5, left + 1]).max() > 0.1, "its rim is seen on the next frame"


def test_at_half_size_it_is_the_same_fill(engine, shot):
    half = engine.result(shot, MIDDLE, scale=0.5)
    left, top, right, bottom = (int(one) // 2 for one in thing_at(MIDDLE))
    truth = clean(MIDDLE).reshape(HEIGHT // 2, 2, WIDTH // 2, 2, 3).mean(axis=(1, 3))
    off = (half - truth)[top + 2 : bottom - 2, left + 2 : right - 2]
    assert np.abs(off.mean()) < 0.003
    assert off.std() < GRAIN


def test_a_very_large_hole_is_filled_band_by_band(engine, shot, monkeypatch):
    """Next to the same: donors are chosen anew in each band."""
    whole, where = engine.result(shot, MIDDLE), inner(MIDDLE)
    monkeypatch.setattr(holes, "MOST_PIXELS", 64 * 34)
    banded = Engine(10**9).result(shot, MIDDLE)
    assert np.abs(banded - whole)[where].mean() < GRAIN / 4
    oracle = clean(MIDDLE) + np.random.default_rng(9).normal(0, GRAIN, clean(MIDDLE).shape)
    assert psnr(banded[where], clean(MIDDLE)[where]) > psnr(oracle[where], clean(MIDDLE)[where]) - 1


def test_a_donor_that_cannot_be_read_is_left_out(tmp_path):
    """Cut-off files beside the frame: the others fill it."""
    broken = filmed(tmp_path)
    for frame in (MIDDLE - 5, MIDDLE + 5):
        file = tmp_path / f"pan.{frame}.exr"
        file.write_bytes(file.read_bytes()[:900])
    where = inner(MIDDLE)
    result = Engine(10**9).result(broken, MIDDLE)
    oracle = clean(MIDDLE) + np.random.default_rng(9).normal(0, GRAIN, clean(MIDDLE).shape)
    assert psnr(result[where], clean(MIDDLE)[where]) > psnr(oracle[where], clean(MIDDLE)[where]) - 1


def test_what_nobody_covered_on_other_frames_is_told_from_the_wall(tmp_path):
    """The fix is there on some frames alone, and the board not covered on those before and after: at first the nearest
    frames show it, and then many more are asked.
    """
    shot = filmed(tmp_path)
    frames = (Frames(first=MIDDLE - 2, last=MIDDLE + 2),)
    short = replace(shot, fixes=(replace(shot.fixes[0], frames=frames),))
    for frame in (MIDDLE - 2, MIDDLE + 2):
        result, where = Engine(10**9).result(short, frame), inner(frame)
        red = result[where][..., 0] - result[where][..., 1]
        assert (red > 0.3).mean() < 0.01
        assert np.abs(result - clean(frame))[where].mean() < 0.03
