"""Small covers without any surface: each piece from the frame beside that fits best, in place and light."""

import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.document import Donors, DonorSide, Fix, Footage, FrameRange, Frames, Matte, Shot, Softness
from gommage.core.engine import Engine
from gommage.core.fill import RECIPES
from gommage.core.geometry import Window, shift
from gommage.core.picture import resample
from gommage.core.picture.writing import write_still
from tests.conftest import rectangle, shape_of, texture

WIDTH, HEIGHT, GRAIN = 200, 140, 0.01
FRAMES = range(1001, 1010)
DIRTY = 1005
WALL = texture(220, 320, seed=21, fine=1.3)
SPECKS = ((40.0, 30.0), (120.0, 70.0), (170.0, 110.0))


def clean(frame):
    """A wall that unsteadily drifts behind the gate, under a lamp that flickers; its right part goes another way."""
    step = frame - 1001
    x, y = 1.7 * step + 0.6 * (-1) ** step, 0.8 * np.sin(step)
    window = Window(0, 0, WIDTH, HEIGHT)
    left = resample(WALL, shift(30 + x, 20 + y), window).pixels
    right = resample(WALL, shift(60 - x, 30), window).pixels
    picture = np.where((np.arange(WIDTH) < 145)[None, :, None], left, right)
    return (picture * (1 + 0.08 * (-1) ** step)).astype(np.float32)


@pytest.fixture(scope="module")
def shot(tmp_path_factory):
    folder = tmp_path_factory.mktemp("dust")
    for frame in FRAMES:
        picture = clean(frame) + np.random.default_rng(frame).normal(0, GRAIN, (HEIGHT, WIDTH, 3))
        if frame == DIRTY:
            for x, y in SPECKS:
                picture[int(y) - 4 : int(y) + 5, int(x) - 5 : int(x) + 6] = 0.03
        write_still(folder / f"reel.{frame}.exr", picture.astype(np.float16), bits=16)
    footage = Footage(path=str(folder / "reel.####.exr"), frames=FrameRange(first=FRAMES[0], last=FRAMES[-1]),
                      width=WIDTH, height=HEIGHT, colour_space="Linear Rec.709 (sRGB)")  # fmt: skip
    shapes = [shape_of(rectangle(x - 7, y - 6, x + 8, y + 7), DIRTY, f"speck{n}") for n, (x, y) in enumerate(SPECKS)]
    fix = Fix(id="dust", name="Dust", cover=Matte.of(*shapes, softness=Softness()), fill=Donors(),
              frames=(Frames(first=DIRTY, last=DIRTY),))  # fmt: skip
    return Shot(id="shot", name="Reel", footage=footage, fixes=(fix,))


def error_on(shot, engine, x, y):
    where = np.s_[int(y) - 4 : int(y) + 5, int(x) - 5 : int(x) + 6]
    return (engine.result(shot, DIRTY) - clean(DIRTY))[where]


@pytest.mark.parametrize("speck", SPECKS)
def test_each_piece_is_in_place_and_light(shot, speck):
    """As clean as a frame with grain of its own: within a fifth, half of it for what lies between pixels."""
    off = error_on(shot, Engine(10**9), *speck)
    assert off.std() < 1.25 * GRAIN
    assert abs(off.mean()) < 0.005


def test_it_keeps_a_frames_own_grain(shot):
    off = np.stack([error_on(shot, Engine(10**9), *speck) for speck in SPECKS])
    assert off.std() > 0.7 * GRAIN


def test_nothing_outside_the_cover_is_touched(shot):
    engine = Engine(10**9)
    covered = engine.laid_matte(shot, DIRTY) > 0
    np.testing.assert_array_equal(engine.result(shot, DIRTY)[~covered], engine.plate(shot.footage, DIRTY)[~covered])
    np.testing.assert_array_equal(engine.result(shot, 1004), engine.plate(shot.footage, 1004))


def test_dirt_on_the_next_frame_is_not_taken(shot):
    """What is covered there too comes from a frame farther away."""
    fix = replace(shot.fixes[0], frames=(Frames(first=DIRTY - 1, last=DIRTY + 1),))
    still = replace(shot, fixes=(fix,))
    for speck in SPECKS:
        assert error_on(still, Engine(10**9), *speck).std() < 1.6 * GRAIN


def test_frames_that_cannot_be_read_or_are_not_there_give_nothing(shot):
    gone = replace(shot, footage=replace(shot.footage, missing=(1004, 1006)))
    assert error_on(gone, Engine(10**9), *SPECKS[0]).std() < 1.6 * GRAIN
    fix = replace(shot.fixes[0], fill=Donors(side=DonorSide.BEFORE, frames=(Frames(last=1000),)))
    none = replace(shot, fixes=(fix,))
    np.testing.assert_array_equal(Engine(10**9).result(none, DIRTY), Engine(10**9).plate(shot.footage, DIRTY))


def test_the_donor_map_knows_the_frames_beside(shot):
    seen = Engine(10**9).elsewhere(shot, shot.fixes[0], DIRTY, 1.0)
    assert set(seen.frame[seen.hole].tolist()) <= {1004, 1006}
    assert seen.share == 1
    assert Donors in RECIPES
