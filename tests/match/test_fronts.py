"""What passes in front of a cover keeps its own colour at its edge, with no fringe of what is taken away."""

import cv2
import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.document import (
    Array,
    Brush,
    Fix,
    Footage,
    FrameRange,
    FromFile,
    GrainMatch,
    Match,
    Matte,
    MattePart,
    Painted,
    Painting,
    Project,
    Rim,
    Shot,
    Still,
    Stroke,
    Surface,
    Tool,
    edits,
)
from gommage.core.engine import Engine
from gommage.core.geometry import Window
from gommage.core.match.fronts import FRONT_REACH_PX, front_edges
from gommage.core.picture.writing import write_still
from tests.conftest import rectangle, shape_of

WIDTH, HEIGHT, GRAIN = 200, 140, 0.004
WALL, TAPE, HAIR = (np.array(one, np.float32) for one in ((0.4, 0.5, 0.6), (0.7, 0.1, 0.05), (0.15, 0.09, 0.05)))


def strands(softness_px):
    """Strands of hair, some too thin to hide anything whole: how far they are in front, (h, w)."""
    held = np.zeros((HEIGHT * 4, WIDTH * 4), np.float32)
    for x, wide in ((60, 16.0), (100, 2.0), (140, 1.0)):
        cv2.line(held, (4 * x, 0), (4 * x + 60, 4 * HEIGHT), 1.0, round(4 * wide), cv2.LINE_AA)
    return cv2.GaussianBlur(cv2.resize(held, (WIDTH, HEIGHT), interpolation=cv2.INTER_AREA), (0, 0), softness_px)


def seen(held, behind, seed=1):
    share = held[..., None]
    grain = np.random.default_rng(seed).normal(0, GRAIN, (HEIGHT, WIDTH, 3))
    return (share * HAIR + (1 - share) * behind + grain).astype(np.float32)


def taped():
    """The wall with a bar of tape across it."""
    picture = np.tile(WALL, (HEIGHT, WIDTH, 1))
    picture[50:90] = TAPE
    return picture


@pytest.mark.parametrize("softness_px", [0.7, 1.5, 3.0])
def test_the_share_of_what_is_in_front_is_told_from_what_is_behind(softness_px):
    """Laid with the edges it is as if the new had been there; without, a fifth of the tape's colour is left."""
    held, wall = strands(softness_px), np.tile(WALL, (HEIGHT, WIDTH, 1))
    plate, share = seen(held, taped()), held[..., None]
    mixed = (held > 0.05) & (held < 0.95)
    mixed[:56], mixed[84:] = False, False
    truth = share * HAIR + (1 - share) * wall
    before = plate * share + wall * (1 - share)
    after = before + front_edges(plate, held)
    off = [np.abs(one - truth)[mixed].mean(axis=0).max() for one in (before, after)]
    assert off[0] > 0.04
    assert off[1] < 0.012  # three times the grain
    assert np.abs((after - truth)[mixed].mean(axis=0)).max() < 0.01


def test_where_the_new_is_what_was_there_edges_stay_as_they_are():
    held, wall = strands(1.0), np.tile(WALL, (HEIGHT, WIDTH, 1))
    plate, share = seen(held, wall), held[..., None]
    mixed = (held > 0.05) & (held < 0.95)
    off = (plate * share + wall * (1 - share) + front_edges(plate, held) - plate)[mixed]
    assert np.abs(off.mean(axis=0)).max() < 0.003  # by mixing alone it grows paler by a tenth
    assert np.sqrt((off**2).mean()) < 2.5 * GRAIN


def test_nothing_is_added_where_nothing_is_mixed_or_known():
    held = strands(1.0)
    edges = front_edges(seen(held, taped()), held)
    assert not edges[(held == 0) | (held == 1)].any()
    everywhere = np.full_like(held, 0.5)  # neither is seen alone anywhere
    assert not front_edges(seen(everywhere, taped()), everywhere).any()


def test_a_part_of_a_picture_tells_the_same():
    held = strands(1.0)
    plate, part = seen(held, taped()), Window(50, 40, 130, 100)
    wide = part.grown(FRONT_REACH_PX + 10) & Window.of(WIDTH, HEIGHT)
    whole, cut = front_edges(plate, held), front_edges(plate[wide.slices].copy(), held[wide.slices].copy())
    np.testing.assert_allclose(cut[part.within(wide)], whole[part.slices], atol=1e-5)


# -- in a shot ----------------------------------------------------------------------------------------------


@pytest.fixture
def hairy(tmp_path):
    """A bar of tape on a wall behind hair, covered and held out by a file, and the truth without the tape."""
    held = strands(1.0)
    write_still(tmp_path / "plate.1001.exr", seen(held, taped()), bits=32)
    write_still(tmp_path / "hair.1001.exr", np.repeat(held[..., None], 3, axis=2), bits=32)
    footage = Footage(path=str(tmp_path / "plate.####.exr"), frames=FrameRange(first=1001, last=1001), width=WIDTH,
                      height=HEIGHT, colour_space="Linear Rec.709 (sRGB)")  # fmt: skip
    wall = Surface(id="wall", name="Wall", home_frame=1001,
                   how=Still(corners=Array(rectangle(0, 0, WIDTH, HEIGHT))))  # fmt: skip
    hair = MattePart(id="hair", source=FromFile(path=str(tmp_path / "hair.####.exr"), channel="R"))
    fix = Fix(id="tape", name="Tape", cover=Matte.of(shape_of(rectangle(-20, 44, WIDTH + 20, 96), 1001, "t")),
              fill=Rim(), hold_outs=Matte(parts=(hair,)), match=Match(grain=GrainMatch(amount=0.0)))  # fmt: skip
    shot = Shot(id="shot", name="Hair", footage=footage, surfaces=(wall,), fixes=(fix,))
    return Project(shots=(shot,)), held, held[..., None] * HAIR + (1 - held[..., None]) * WALL


def test_hair_before_a_mark_keeps_its_colour(hairy):
    project, held, truth = hairy
    engine, shot = Engine(10**8), project.shots[0]
    result = engine.result(shot, 1001)
    mixed = (held > 0.05) & (held < 0.95)
    mixed[:54], mixed[86:] = False, False
    assert np.abs((result - truth)[mixed].mean(axis=0)).max() < 0.008
    assert np.abs(result - truth)[mixed].mean() < 0.012
    outside = engine.laid_matte(shot, 1001) == 0
    np.testing.assert_array_equal(result[outside], engine.plate(shot.footage, 1001)[outside])
    part = Window(90, 30, 170, 110)
    np.testing.assert_allclose(Engine(10**8).result(shot, 1001, part), result[part.slices], atol=1e-5)


def test_it_does_so_at_half_size_and_half_opaque(hairy):
    project, held, truth = hairy
    engine = Engine(10**8)
    small = engine.result(project.shots[0], 1001, scale=0.5)
    truth_small = cv2.resize(truth, small.shape[1::-1], interpolation=cv2.INTER_AREA)
    held_small = cv2.resize(held, small.shape[1::-1], interpolation=cv2.INTER_AREA)
    mixed = (held_small > 0.05) & (held_small < 0.95)
    mixed[:28], mixed[42:] = False, False
    assert np.abs((small - truth_small)[mixed].mean(axis=0)).max() < 0.02
    half = edits.change_fix(project, "shot", "tape", opacity=0.5).shots[0]
    whole, plate = engine.result(project.shots[0], 1001), engine.plate(half.footage, 1001)
    np.testing.assert_allclose(engine.result(half, 1001), (whole + plate) / 2, atol=1e-5)


def test_what_lies_below_is_what_edges_are_told_by(hairy):
    """The tape is gone already below: another fix on top leaves the edges as they are there."""
    project, held, truth = hairy
    shot = project.shots[0]
    again = replace(shot.fixes[0], id="again", name="Again")
    engine, twice = Engine(10**8), replace(shot, fixes=(shot.fixes[0], again))
    mixed = (held > 0.05) & (held < 0.95)
    mixed[:54], mixed[86:] = False, False
    assert np.abs((engine.result(twice, 1001) - truth)[mixed].mean(axis=0)).max() < 0.01


def test_paint_over_a_mark_leaves_hair_before_it_as_it_is(hairy):
    project, held, truth = hairy
    shot, engine = project.shots[0], Engine(10**8)
    brush = Brush(tool=Tool.COLOUR, size_px=60.0, softness=0.0, pressure=(), colour=tuple(map(float, WALL)))
    stroke = Stroke(id="s", points=Array([[-20, 70, 1.0], [WIDTH + 20, 70, 1.0]]), brush=brush)
    painted = Fix(id="painted", name="Painted", fill=Painted(), touch_up=Painting(strokes=(stroke,)),
                  hold_outs=shot.fixes[0].hold_outs)  # fmt: skip
    shot = replace(shot, fixes=(painted,))
    result, mixed = engine.result(shot, 1001), (held > 0.05) & (held < 0.95)
    mixed[:54], mixed[86:] = False, False
    assert np.abs((result - truth)[mixed].mean(axis=0)).max() < 0.008
    plate = engine.plate(shot.footage, 1001)
    np.testing.assert_array_equal(result[:36], plate[:36])  # unpainted, edges and all
    wanted = plate.copy()
    for patch in engine.all_patches(shot, 1001):
        region = wanted[patch.window.slices]
        region += (patch.pixels - region) * patch.alpha[..., None]
    np.testing.assert_allclose(result, wanted, atol=1e-5)
