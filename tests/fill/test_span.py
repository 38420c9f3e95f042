"""Wires closed from both sides, against what was behind them."""

import cv2
import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.document import (
    Array,
    ClosedFrom,
    Donors,
    Drawn,
    Fix,
    Footage,
    FrameRange,
    Frames,
    GrainMatch,
    Match,
    Matte,
    MattePart,
    Shape,
    ShapeKey,
    Shot,
    Softness,
    Span,
    Still,
    Stretch,
    Surface,
    VertexKind,
)
from gommage.core.engine import Engine
from gommage.core.fill.recipes import RECIPES
from gommage.core.geometry import Window
from gommage.core.picture.writing import write_still
from tests.conftest import rectangle, shape_of

WIDTH, HEIGHT, GRAIN, ENCODING = 480, 200, 0.006, 1 / 2.2


def stripes(angle_deg):
    """Papers of two tones that meet along lines of an angle to the horizontal, encoded."""
    y, x = np.mgrid[:HEIGHT, :WIDTH].astype(np.float32)
    along = np.deg2rad(angle_deg)
    tone = 0.5 + 0.15 * np.tanh(6 * np.sin((x * np.sin(along) + y * np.cos(along)) / 28 * np.pi))
    return np.stack([tone, 0.9 * tone, 0.8 * tone], axis=-1)


def bow(y0, y1, sag, left=6, right=WIDTH - 6):
    """A wire that hangs: five points of it, smooth."""
    share = np.linspace(0, 1, 5)
    return np.column_stack([left + share * (right - left), y0 + (y1 - y0) * share + sag * 4 * share * (1 - share)])


def line_part(points, width_px, part_id="wire", widths=None):
    vertices = np.hstack([points, np.zeros((len(points), 6))])
    if widths is not None:
        vertices[:, 6] = np.asarray(widths) / 2
    shape = Shape(id=part_id, keys=(ShapeKey(frame=1001, vertices=Array(vertices)),), is_closed=False,
                  kinds=(VertexKind.SMOOTH,) * len(points))  # fmt: skip
    return MattePart(id=part_id, source=Drawn(shape=shape), grow_px=width_px / 2)


def shot_of(folder, encoded, parts, fill=None, grain=GRAIN, **fields):
    """The picture with a dark wire wherever the parts are, drawn by the matte itself, its edge a pixel soft."""
    footage = Footage(path=str(folder / "wire.####.exr"), frames=FrameRange(first=1001, last=1001), width=WIDTH,
                      height=HEIGHT, colour_space="Linear Rec.709 (sRGB)")  # fmt: skip
    fix = Fix(id="wire", name="Wire", cover=Matte(parts=tuple(parts), grow_px=1.2, softness=Softness(outwards_px=1.5)),
              fill=fill or Span(), match=Match(grain=GrainMatch(amount=0.0)))  # fmt: skip
    shot = Shot(id="shot", name="Wires", footage=footage, fixes=(replace(fix, **fields),))
    hard = Matte(parts=tuple(parts), softness=Softness(outwards_px=0.7))
    core = Engine(10**8).matte(shot, hard, 1001)[..., None]
    seen = encoded * (1 - core) + 0.12 * core
    seen = seen + np.random.default_rng(2).normal(0, grain, seen.shape)
    write_still(folder / "wire.1001.exr", (np.maximum(seen, 0) ** (1 / ENCODING)).astype(np.float32), bits=32)
    return shot


def encoded_result(engine, shot):
    return np.maximum(engine.result(shot, 1001), 0) ** ENCODING


def psnr(found, wanted, inside):
    return -10 * np.log10(float(((found - wanted)[inside] ** 2).mean()))


def by_spreading(engine, shot):
    plate = np.maximum(engine.plate(shot.footage, 1001), 0) ** ENCODING
    hole = (engine.laid_matte(shot, 1001) > 0).view(np.uint8)
    seen = (np.clip(plate, 0, 1) * 255).astype(np.uint8)
    return [cv2.inpaint(seen, hole, 3, way) / 255 for way in (cv2.INPAINT_TELEA, cv2.INPAINT_NS)]


@pytest.mark.parametrize("angle_deg", [90, 60, 45, 30])
def test_edges_go_through_at_any_angle(tmp_path, angle_deg):
    """Down to the grain, which the mean of both sides has less of; 8 dB and more ahead of spreading."""
    clean = stripes(angle_deg)
    shot, engine = shot_of(tmp_path, clean, [line_part(bow(80, 90, 15), 6)]), Engine(10**9)
    inside = engine.laid_matte(shot, 1001) > 0.9
    found = psnr(encoded_result(engine, shot), clean, inside)
    assert found > -20 * np.log10(GRAIN) - 2
    assert found > max(psnr(one, clean, inside) for one in by_spreading(engine, shot)) + 8


def test_the_rest_is_untouched_and_windows_agree(tmp_path):
    shot, engine = shot_of(tmp_path, stripes(45), [line_part(bow(80, 90, 15), 6)]), Engine(10**9)
    result, outside = engine.result(shot, 1001), engine.laid_matte(shot, 1001) == 0
    np.testing.assert_array_equal(result[outside], engine.plate(shot.footage, 1001)[outside])
    whole = engine.patch(shot, shot.fixes[0], 1001)
    assert whole.window.width > 400
    near = Window(150, 60, 260, 130)
    np.testing.assert_array_equal(Engine(10**9).result(shot, 1001, near), result[near.slices])


def test_a_line_is_as_wide_as_its_points_say(tmp_path):
    """From 4 px to 16: half of it is full to 8 px off the line at its thick end, to 2 px at the thin one."""
    part = line_part(bow(100, 100, 0), 0, widths=(4, 7, 10, 13, 16))
    shot, engine = shot_of(tmp_path, stripes(60), [part]), Engine(10**9)
    alpha = engine.laid_matte(shot, 1001)
    thin, thick = ((alpha[:, column] > 0.5).sum() for column in (20, WIDTH - 20))
    assert thin == pytest.approx(4 + 2.4 + 1.5, abs=1.5)
    assert thick == pytest.approx(16 + 2.4 + 1.5, abs=1.5)
    clean, inside = stripes(60), alpha > 0.9
    assert psnr(encoded_result(engine, shot), clean, inside) > 36  # a slant is told to half a pixel across 16 px


def test_wires_that_cross_take_nothing_from_each_other(tmp_path):
    parts = [line_part(bow(40, 160, 5), 5, "one"), line_part(bow(160, 40, 5), 5, "two")]
    clean = stripes(80)
    shot, engine = shot_of(tmp_path, clean, parts), Engine(10**9)
    inside = engine.laid_matte(shot, 1001) > 0.9
    result = encoded_result(engine, shot)
    assert psnr(result, clean, inside) > 34
    assert result[inside].min() > 0.2  # a wire is at 0.12


def test_a_stretch_is_closed_from_one_side_alone(tmp_path):
    """A wire along the border of a white and a dark field: from the left it becomes white, from the right dark."""
    y, _ = np.mgrid[:HEIGHT, :WIDTH]
    clean = np.where((y < 100)[..., None], 0.8, 0.3) * np.ones(3)
    part = line_part(bow(100, 100, 0), 6)
    engine = Engine(10**9)
    upper = Stretch(part_id="wire", first=0.0, last=0.5, closed_from=ClosedFrom.LEFT)
    shot = shot_of(tmp_path, clean, [part], Span(closed_from=ClosedFrom.RIGHT, stretches=(upper,)))
    result, inside = encoded_result(engine, shot), engine.laid_matte(shot, 1001) > 0.99
    assert result[:, 40:200][inside[:, 40:200]].min() > 0.7
    assert result[:, 280:440][inside[:, 280:440]].max() < 0.4


def test_nothing_is_taken_from_what_is_held_out(tmp_path):
    """A red post stands right beside the wire, held out: nothing red comes over."""
    clean = stripes(90)
    clean[104:, 200:280] = (0.9, 0.1, 0.1)
    post = Matte.of(shape_of(rectangle(200, 104, 280, HEIGHT), 1001, "post"))
    shot = shot_of(tmp_path, clean, [line_part(bow(100, 100, 0), 6)], hold_outs=post)
    engine = Engine(10**9)
    inside = engine.laid_matte(shot, 1001) > 0.9
    found = encoded_result(engine, shot)[inside]
    assert (found[:, 0] - found[:, 1]).max() < 0.2


def test_grain_that_the_mean_lacks_is_laid(tmp_path):
    """With the shot's grain, nothing followed: the fill has as much as the picture beside it, within a fifth."""
    flat = np.full((HEIGHT, WIDTH, 3), 0.5)
    shot = shot_of(tmp_path, flat, [line_part(bow(100, 100, 5), 8)], grain=0.02, match=Match())
    engine, beside = Engine(10**9), np.random.default_rng(7)
    picture = engine.plate(shot.footage, 1001)
    for frame in (1002, 1003, 1004):
        seen = 0.5 + beside.normal(0, 0.02, picture.shape)
        write_still(tmp_path / f"wire.{frame}.exr", (seen ** (1 / ENCODING)).astype(np.float32), bits=32)
    shot = replace(shot, footage=replace(shot.footage, frames=FrameRange(first=1001, last=1004)))
    inside = engine.laid_matte(shot, 1001) > 0.99
    assert encoded_result(engine, shot)[inside].std() == pytest.approx(0.02, rel=0.2)
    filled = RECIPES[Span].at(shot.fixes[0].fill, shot, shot.fixes[0], 1001)
    assert len(filled.lines) == 1


def swung(folder, clean, by_px, frames=range(1001, 1006), passing=None):
    """A wire that stands before a wall, or swings by so many pixels a frame, filled from other frames; what passes on
    some frames is given for these.
    """
    footage = Footage(path=str(folder / "wire.####.exr"), frames=FrameRange(first=frames[0], last=frames[-1]),
                      width=WIDTH, height=HEIGHT, colour_space="Linear Rec.709 (sRGB)")  # fmt: skip
    points = {frame: bow(80, 90, 15) + (0, by_px * (frame - frames[0])) for frame in frames}
    keys = tuple(ShapeKey(frame=frame, vertices=Array(np.hstack([line, np.zeros((len(line), 6))])))
                 for frame, line in points.items())  # fmt: skip
    shape = Shape(id="wire", keys=keys, kinds=(VertexKind.SMOOTH,) * 5, is_closed=False)
    part = MattePart(id="wire", source=Drawn(shape=shape), grow_px=3.0)
    wall = Surface(id="wall", name="Wall", home_frame=frames[0],
                   how=Still(corners=Array(rectangle(0, 0, WIDTH, HEIGHT))))  # fmt: skip
    fix = Fix(id="wire", name="Wire", cover=Matte(parts=(part,), grow_px=1.2, softness=Softness(outwards_px=1.5)),
              fill=Donors(surface_ids=("wall",)), match=Match(grain=GrainMatch(amount=0.0)))  # fmt: skip
    shot = Shot(id="shot", name="Wires", footage=footage, surfaces=(wall,), fixes=(fix,))
    hard = Matte(parts=(part,), softness=Softness(outwards_px=0.7))
    for frame in frames:
        core = Engine(10**8).matte(shot, hard, frame)[..., None]
        seen = (passing or {}).get(frame, clean) * (1 - core) + 0.12 * core
        seen = seen + np.random.default_rng(frame).normal(0, GRAIN, seen.shape)
        write_still(folder / f"wire.{frame}.exr", (np.maximum(seen, 0) ** (1 / ENCODING)).astype(np.float32), bits=32)
    return shot


def test_what_no_frame_shows_of_a_line_is_closed_from_both_sides(tmp_path):
    """A wire that stands is shown behind by no frame: other frames give what both sides do."""
    clean, engine = stripes(45), Engine(10**9)
    shot = swung(tmp_path, clean, 0.0)
    inside = engine.laid_matte(shot, 1001) > 0.9
    from_frames = encoded_result(engine, shot)
    sides = encoded_result(engine, replace(shot, fixes=(replace(shot.fixes[0], fill=Span()),)))
    np.testing.assert_allclose(from_frames[inside], sides[inside], atol=1e-5)
    assert psnr(from_frames, clean, inside) > -20 * np.log10(GRAIN) - 2
    bare = replace(shot, surfaces=(), fixes=(replace(shot.fixes[0], fill=Donors()),))  # with nothing followed as well
    assert psnr(encoded_result(engine, bare), clean, inside) > -20 * np.log10(GRAIN) - 2


def test_what_frames_show_of_a_line_is_taken_from_them_and_told_in_full(tmp_path):
    """A wire that swings by more than its width: everything is seen, however thin it is on a small picture."""
    rng = np.random.default_rng(4)  # of what lies behind the sides tell nothing
    clean = np.repeat(0.5 + 0.1 * np.clip(rng.normal(size=(HEIGHT, WIDTH, 1)), -2, 2), 3, axis=2)
    clean = cv2.GaussianBlur(clean, (0, 0), 1.2).astype(np.float32)
    engine, shot = Engine(10**9), swung(tmp_path, clean, 14.0)
    assert min(engine.shares_seen(shot, shot.fixes[0]).values()) > 0.999
    inside = engine.laid_matte(shot, 1003) > 0.9
    found = np.maximum(engine.result(shot, 1003), 0) ** ENCODING
    sides = replace(shot, fixes=(replace(shot.fixes[0], fill=Span()),))
    across = np.maximum(engine.result(sides, 1003), 0) ** ENCODING
    assert psnr(found, clean, inside) > -20 * np.log10(GRAIN) - 1
    assert psnr(found, clean, inside) > psnr(across, clean, inside) + 3


def test_what_passes_behind_a_line_is_not_taken_from_frames_on_which_it_is_elsewhere(tmp_path):
    """A post behind the wire on one frame alone: closed from its sides there, from other frames beside it."""
    rng = np.random.default_rng(6)
    clean = np.repeat(0.5 + 0.1 * np.clip(rng.normal(size=(HEIGHT, WIDTH, 1)), -2, 2), 3, axis=2)
    clean = cv2.GaussianBlur(clean, (0, 0), 1.2).astype(np.float32)
    with_post = clean.copy()
    with_post[:, 200:240] = 0.2 + 0.4 * (clean[:, 200:240] - 0.5)
    engine, shot = Engine(10**9), swung(tmp_path, clean, 14.0, passing={1003: with_post})
    inside = engine.laid_matte(shot, 1003) > 0.9
    found = np.maximum(engine.result(shot, 1003), 0) ** ENCODING
    post, beside = inside.copy(), inside.copy()
    post[:, :206], post[:, 234:] = False, False
    beside[:, 180:260] = False
    assert abs(float((found - with_post)[post].mean())) < 0.02  # the wall is lighter by 0.3
    assert psnr(found, with_post, beside) > -20 * np.log10(GRAIN) - 1


def test_what_is_covered_beside_a_line_stays_as_other_frames_show_it(tmp_path):
    """A board is covered as well, and something passes beside it: no span closes that, so nothing is taken away."""
    rng = np.random.default_rng(7)
    clean = np.repeat(0.5 + 0.1 * np.clip(rng.normal(size=(HEIGHT, WIDTH, 1)), -2, 2), 3, axis=2)
    clean = cv2.GaussianBlur(clean, (0, 0), 1.2).astype(np.float32)
    with_board = clean.copy()
    with_board[150:190, 296:336] = 0.05  # what passes, right beside
    with_board[150:180, 260:294] = 0.9  # what is covered
    shot = swung(tmp_path, clean, 6.0, passing={1003: with_board})
    board = Shape.of("board", 1003, rectangle(255, 145, 295, 185))
    part = MattePart(id="board", source=Drawn(shape=board), frames=(Frames(first=1003, last=1003),))
    fix = shot.fixes[0]
    shot = replace(shot, fixes=(replace(fix, cover=replace(fix.cover, parts=(*fix.cover.parts, part))),))
    found = np.maximum(Engine(10**9).result(shot, 1003), 0) ** ENCODING
    for columns in (slice(262, 288), slice(289, 293)):  # and where the passing thing is next to it
        assert np.abs(found[152:178, columns] - clean[152:178, columns]).mean() < 4 * GRAIN
