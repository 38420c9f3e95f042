"""Two surfaces behind a thing, at different depths: each pixel from the one it belongs to; what is seen elsewhere."""

import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.document import (
    Donors,
    DonorSide,
    Fix,
    Footage,
    FrameRange,
    Frames,
    Matte,
    Project,
    Shot,
    Softness,
    Surface,
    edits,
)
from gommage.core.document.records import ShapeKey
from gommage.core.engine import Engine
from gommage.core.geometry import Window, shift
from gommage.core.picture import resample
from gommage.core.picture.writing import write_still
from tests.conftest import plane, rectangle, shape_of, texture
from tests.fill.test_donors import LINEAR, psnr, track

WIDTH, HEIGHT, FRAMES = 220, 140, FrameRange(first=1001, last=1030)
FAR, NEAR = 0.6, 2.2
"""By how much each goes to the left in a frame."""
EDGE, GRAIN, MIDDLE = 120, 0.006, 1015
SKY, HOUSE = texture(HEIGHT, WIDTH + 60, seed=31), texture(HEIGHT, WIDTH + 120, seed=32) * np.float32(0.6)
BOARD_PAN = 5.0


def clean(frame):
    """A house from `EDGE` on, on the first frame, before the sky."""
    steps = frame - FRAMES.first
    window = Window.of(WIDTH, HEIGHT)
    sky = resample(SKY, shift(FAR * steps, 0), window).pixels
    house = resample(HOUSE, shift(NEAR * steps, 0), window).pixels
    cover = np.clip(np.arange(WIDTH) + 1 - (EDGE - NEAR * steps), 0, 1).astype(np.float32)[None, :, None]
    return sky * (1 - cover) + house * cover


def board(frame):
    left = 10 + BOARD_PAN * (frame - FRAMES.first)
    return rectangle(left, 40, left + 20, 110)


@pytest.fixture(scope="module")
def shot(tmp_path_factory):
    folder, rng = tmp_path_factory.mktemp("planes"), np.random.default_rng(5)
    for frame in FRAMES:
        picture = clean(frame).copy()
        (left, top), _, (right, bottom), _ = board(frame).round().astype(int)
        picture[top:bottom, left:right] = (0.7, 0.05, 0.05)
        picture += rng.normal(0, GRAIN, picture.shape).astype(np.float32)
        write_still(folder / f"two.{frame}.exr", picture.astype(np.float16), bits=16)
    footage = Footage(path=str(folder / "two.####.exr"), frames=FRAMES, width=WIDTH, height=HEIGHT, colour_space=LINEAR)
    steps = np.arange(len(FRAMES))
    sky = Surface(
        id="sky",
        name="Sky",
        home_frame=1001,
        how=plane(rectangle(5, 5, 60, 135), surface_id="sky"),
        track=track(-FAR * steps),
    )
    extent = Matte.of(shape_of(rectangle(EDGE, -20, 600, 200), 1001, "extent"), surface_id="house")
    front = plane(rectangle(EDGE + 5, 5, 215, 135), surface_id="house")
    house = Surface(id="house", name="House", home_frame=1001, how=front, track=track(-NEAR * steps), extent=extent)
    shape = shape_of(board(1001) + np.array([[-2, -2], [2, -2], [2, 2], [-2, 2]]), 1001, "cover")
    last = board(FRAMES.last) + np.array([[-2, -2], [2, -2], [2, 2], [-2, 2]])
    shape = replace(shape, keys=(shape.keys[0], ShapeKey.of(FRAMES.last, last)),
                    ease="straight")  # fmt: skip
    fix = Fix(id="f", name="Board", cover=Matte.of(shape, softness=Softness()),
              fill=Donors(surface_ids=("sky", "house")))  # fmt: skip
    return Shot(id="shot", name="Two", footage=footage, surfaces=(sky, house), fixes=(fix,))


@pytest.fixture(scope="module")
def engine():
    return Engine(10**9)


def inner(frame):
    (left, top), _, (right, bottom), _ = board(frame).round().astype(int)
    return np.s_[top:bottom, left:right]


def with_fill(shot, **fields):
    (fix,) = shot.fixes
    return replace(shot, fixes=(replace(fix, fill=replace(fix.fill, **fields)),))


@pytest.mark.parametrize("frame", [1006, MIDDLE, 1018, 1027])
def test_each_pixel_comes_along_the_surface_it_belongs_to(engine, shot, frame):
    """On sky, across the edge of the house, on the house: within 1.8 dB of the clean picture with grain of its own
    (1.3 of them beside the edge, where few donors are clean; .3 are the chance of grain on so few pixels).

    On the edge itself all frames show a mix with something else behind; there it is no worse than a tenth.
    """
    rows, columns = inner(frame)
    result, oracle = engine.result(shot, frame), clean(frame)
    oracle = oracle + np.random.default_rng(9).normal(0, GRAIN, oracle.shape)
    edge = EDGE - NEAR * (frame - FRAMES.first)
    away = np.abs(np.arange(WIDTH) + 0.5 - edge) > 2.5
    where = np.s_[rows, np.arange(WIDTH)[columns][away[columns]]]
    assert psnr(result[where], clean(frame)[where]) > psnr(oracle[where], clean(frame)[where]) - 1.8
    across = np.s_[rows, np.arange(WIDTH)[columns][~away[columns]]]
    if away[columns].all():
        assert frame != MIDDLE
    else:
        assert np.abs(result[across] - clean(frame)[across]).mean() < 0.1 * clean(frame)[across].mean()
    if frame == 1018:
        alone = engine.result(with_fill(shot, surface_ids=("sky",)), frame)[where]
        assert psnr(alone, clean(frame)[where]) < psnr(result[where], clean(frame)[where]) - 6


def test_what_is_seen_elsewhere_is_told_without_a_picture(engine, shot):
    seen = engine.elsewhere(shot, shot.fixes[0], MIDDLE, 1.0)
    assert seen.share > 0.97
    inside = seen.hole & (seen.count > 0)
    assert set(np.unique(seen.frame[inside])) <= set(FRAMES) - {MIDDLE}
    assert seen.count[inside].min() >= 1
    assert set(np.unique(seen.plane[seen.hole])) == {0, 1}
    shares = engine.shares_seen(shot, shot.fixes[0])
    assert set(shares) == set(FRAMES)
    assert min(shares.values()) > 0.9


def test_bounds_an_artist_gives_are_kept(engine, shot):
    """Which frames, on which side, every how many."""
    (before,) = with_fill(shot, side=DonorSide.BEFORE).fixes
    assert engine.elsewhere(replace(shot, fixes=(before,)), before, MIDDLE, 1.0).frame.max() < MIDDLE
    few = with_fill(shot, frames=(Frames(first=1001, last=1004),))
    used = engine.elsewhere(few, few.fixes[0], MIDDLE, 1.0)
    assert set(np.unique(used.frame[used.count > 0])) <= {1001, 1002, 1003, 1004}
    every = with_fill(shot, step=5)
    fifth = engine.elsewhere(every, every.fixes[0], MIDDLE, 1.0)
    assert {(one - MIDDLE) % 5 for one in np.unique(fifth.frame[fifth.count > 0])} == {0}
    none = with_fill(shot, frames=(Frames(first=MIDDLE, last=MIDDLE),))
    assert engine.elsewhere(none, none.fixes[0], MIDDLE, 1.0) is None


def test_a_surface_that_goes_is_no_longer_filled_along(shot):
    project = edits.remove_surface(Project.of(shot), shot.id, "house")
    assert project.shots[0].fixes[0].fill.surface_ids == ("sky",)
