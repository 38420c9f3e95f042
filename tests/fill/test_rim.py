"""Markers on what is smooth, closed from their rims: against the clean picture, beside OpenCV's two ways."""

import cv2
import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.document import (
    Array,
    ByHand,
    Fix,
    Footage,
    FrameRange,
    GrainMatch,
    Match,
    Matte,
    Pin,
    Project,
    Rim,
    ShapeKey,
    Shot,
    Softness,
    Still,
    Surface,
    edits,
)
from gommage.core.engine import Engine, inputs_at
from gommage.core.engine.laid import composite
from gommage.core.fill.rim import EVENNESS, found_evenness
from gommage.core.fill.thin_plates import drawn, drawn_moved
from gommage.core.geometry import Window, turning
from gommage.core.picture.writing import write_still
from gommage.errors import EditError
from tests.conftest import rectangle, shape_of

WIDTH, HEIGHT, GRAIN = 480, 320, 0.01
FRAMES = range(1001, 1004)
PLACES = [(x, y) for y in (50, 130, 210, 280) for x in (60, 150, 240, 330, 420)]
SIDE = 40


def plain(frame):
    """A wall under even light that falls off to one side."""
    y, x = np.mgrid[:HEIGHT, :WIDTH].astype(np.float32)
    level = 0.4 + 0.0004 * x - 0.0003 * y
    return np.stack([level, 0.9 * level, 0.7 * level], axis=-1)


def shaded(frame):
    """The same, a soft shadow moving over it."""
    y, x = np.mgrid[:HEIGHT, :WIDTH].astype(np.float32)
    shade = 1 - 0.4 * np.exp(-(((x - 100 - 90 * (frame - 1001)) / 60) ** 2) - ((y - 150) / 90) ** 2)
    return plain(frame) * shade[..., None]


def folded(frame):
    """Cloth in folds of 70 px."""
    y, x = np.mgrid[:HEIGHT, :WIDTH].astype(np.float32)
    return plain(frame) * (1 + 0.2 * np.sin((x + 0.3 * y) * 2 * np.pi / 70))[..., None]


def marked(folder, of):
    rng = np.random.default_rng(3)
    for frame in FRAMES:
        picture = of(frame).copy()
        for x, y in PLACES:
            cv2.circle(picture, (x, y), SIDE // 2 - 2, (0.05, 0.5, 0.1), -1)
        picture += rng.normal(0, GRAIN, picture.shape).astype(np.float32)
        write_still(folder / f"wall.{frame}.exr", picture.astype(np.float16), bits=16)
    footage = Footage(path=str(folder / "wall.####.exr"), frames=FrameRange(first=FRAMES[0], last=FRAMES[-1]),
                      width=WIDTH, height=HEIGHT, colour_space="Linear Rec.709 (sRGB)")  # fmt: skip
    half = SIDE / 2
    shapes = [shape_of(rectangle(x - half, y - half, x + half, y + half), 1001, f"m{k}")
              for k, (x, y) in enumerate(PLACES)]  # fmt: skip
    fix = Fix(id="marks", name="Marks", cover=Matte.of(*shapes, softness=Softness(outwards_px=2.0)), fill=Rim(),
              match=Match(grain=GrainMatch(amount=0.0)))  # fmt: skip
    return Shot(id="shot", name="Wall", footage=footage, fixes=(fix,))


def psnr_in_cover(engine, shot, picture, frame, of):
    inside = engine.laid_matte(shot, frame) > 0.99
    return -10 * np.log10(float(((picture - of(frame))[inside] ** 2).mean()))


@pytest.mark.parametrize(("of", "least_db"), [(plain, 50.0), (shaded, 48.0), (folded, 33.0)])
def test_marks_are_closed_better_than_by_spreading(tmp_path, of, least_db):
    """Plain walls to below a tenth of the grain; cloth as far as it can be foretold; both of OpenCV's ways behind."""
    shot, engine = marked(tmp_path, of), Engine(10**9)
    for frame in (1001, 1003):
        found = psnr_in_cover(engine, shot, engine.result(shot, frame), frame, of)
        assert found > least_db
        plate = engine.plate(shot.footage, frame)
        hole = (engine.laid_matte(shot, frame) > 0).view(np.uint8)
        for way in (cv2.INPAINT_TELEA, cv2.INPAINT_NS):
            other = np.stack(
                [cv2.inpaint(np.ascontiguousarray(plate[..., c]), hole, 5, way) for c in range(3)], axis=-1
            )
            assert found > psnr_in_cover(engine, shot, other, frame, of) + 2


def test_evenness_is_found_once_for_the_shot(tmp_path):
    """Plain walls are smoothed much, folds little; on every frame by the same."""
    chosen = []
    for of in (plain, folded):
        folder = tmp_path / of.__name__
        folder.mkdir()
        shot, engine = marked(folder, of), Engine(10**9)
        inputs = [inputs_at(shot, shot.fixes[0], frame).fill for frame in FRAMES]
        assert {one.told_on for one in inputs} == {1002}
        scene = SceneOf(engine)
        chosen.append({found_evenness(one, scene) for one in inputs[::2]})
    assert all(len(one) == 1 and one <= set(EVENNESS) for one in chosen)
    assert max(chosen[1]) < min(chosen[0])


class SceneOf:
    """What `found_evenness` asks of a scene, given by an engine at full size."""

    scale = 1.0

    def __init__(self, engine):
        self._engine = engine

    def plate(self, footage, frame, window):
        return self._engine.plate(footage, frame)[window.slices]

    def matte(self, footage, matte, window):
        return self._engine.pictures.matte(footage, matte, window)

    def kept(self, name, make):
        return make()


def test_evenness_by_hand_is_what_is_used(tmp_path):
    shot, engine = marked(tmp_path, folded), Engine(10**9)
    (fix,) = shot.fixes
    results = []
    for evenness in (0.01, 300.0):
        by_hand = replace(shot, fixes=(replace(fix, fill=Rim(evenness=evenness)),))
        results.append(psnr_in_cover(engine, by_hand, engine.result(by_hand, 1002), 1002, folded))
    assert results[0] > results[1] + 3


def test_what_stands_beside_and_is_covered_or_held_out_is_no_surroundings(tmp_path):
    """A bright pole right beside a mark does not run into it once it is held out."""
    shot = marked(tmp_path, plain)
    x, y = PLACES[0]
    for frame in FRAMES:
        path = tmp_path / f"wall.{frame}.exr"
        picture = Engine(10**9).plate(shot.footage, frame).copy()
        picture[:, x + SIDE // 2 + 4 : x + SIDE // 2 + 16] = 3.0
        write_still(path, picture.astype(np.float16), bits=16)
    pole = Matte.of(shape_of(rectangle(x + SIDE / 2 + 3, 0, x + SIDE / 2 + 17, HEIGHT), 1001, "pole"),
                    softness=Softness())  # fmt: skip
    held = replace(shot, fixes=(replace(shot.fixes[0], hold_outs=pole),))
    where = np.s_[y - 15 : y + 15, x - 15 : x + 15]
    bled, kept = (np.abs(Engine(10**9).result(one, 1002) - plain(1002))[where].mean() for one in (shot, held))
    assert kept < 0.004
    assert bled > 5 * kept


def test_a_pixel_is_the_same_in_every_window_and_outside_nothing_changes(tmp_path):
    shot, engine = marked(tmp_path, shaded), Engine(10**9)
    whole = engine.result(shot, 1002)
    window = Window(100, 60, 300, 200)
    np.testing.assert_array_equal(engine.result(shot, 1002, window=window), whole[window.slices])
    untouched = engine.laid_matte(shot, 1002) == 0
    np.testing.assert_array_equal(whole[untouched], engine.plate(shot.footage, 1002)[untouched])


def test_a_cover_that_fills_the_picture_is_left_as_it_is(tmp_path):
    shot, engine = marked(tmp_path, plain), Engine(10**9)
    all_of_it = Matte.of(shape_of(rectangle(-5, -5, WIDTH + 5, HEIGHT + 5), 1001, "all"), softness=Softness())
    whole = replace(shot, fixes=(replace(shot.fixes[0], cover=all_of_it),))
    np.testing.assert_array_equal(engine.result(whole, 1002), engine.plate(shot.footage, 1002))


@pytest.mark.parametrize("of", [plain, shaded])
def test_the_shots_grain_is_laid_where_nothing_is_followed(tmp_path, of):
    """Measured around the marks on frames nearby: within a tenth of what was put on."""
    shot, engine = marked(tmp_path, of), Engine(10**9)
    shot = replace(shot, fixes=(replace(shot.fixes[0], match=Match()),))
    inside = engine.laid_matte(shot, 1002) > 0.99
    laid = (engine.result(shot, 1002) - of(1002))[inside].std()
    assert laid == pytest.approx(GRAIN, rel=0.1)


def test_scattered_covers_are_filled_piece_by_piece(tmp_path):
    """One patch a mark, and the same picture as of one patch around them all."""
    shot, engine = marked(tmp_path, shaded), Engine(10**9)
    cover = replace(shot.fixes[0].cover, parts=shot.fixes[0].cover.parts[::6])
    shot = replace(shot, fixes=(replace(shot.fixes[0], cover=cover),))
    patches = engine.all_patches(shot, 1002)
    assert len(patches) == len(cover.parts)
    assert max(one.window.area for one in patches) < 64**2
    whole = engine.patch(shot, shot.fixes[0], 1002)
    below, result = engine.plate(shot.footage, 1002).copy(), engine.result(shot, 1002)
    composite(below, shot.footage.bounds, whole)
    np.testing.assert_array_equal(below, result)
    near = Window(40, 30, 200, 180)
    np.testing.assert_array_equal(engine.result(shot, 1002, near), result[near.slices])


# -- steadied along a surface --------------------------------------------------------------------------------


def moving(folder, of, frames, light=lambda frame: 1.0, pole=lambda frame: None):
    """A wall that moves by two and a half pixels a frame with marks on it, followed; a pole may pass before it."""
    rng = np.random.default_rng(5)
    sheet = of(WIDTH + 3 * len(frames))
    for frame in frames:
        by = 2.5 * (frame - frames[0])
        shift = np.float32([[1, 0, -by], [0, 1, 0]])
        picture = light(frame) * cv2.warpAffine(sheet, shift, (WIDTH, HEIGHT), flags=cv2.INTER_CUBIC)
        for x, y in PLACES:
            cv2.circle(picture, (round(64 * (x - by)), round(64 * y)), 64 * 17, (0.05, 0.5, 0.1), -1, shift=6)
        if pole(frame) is not None:
            picture[:, pole(frame) : pole(frame) + 14] = 3.0
        picture += rng.normal(0, GRAIN, picture.shape).astype(np.float32)
        write_still(folder / f"wall.{frame}.exr", picture.astype(np.float16), bits=16)
    footage = Footage(path=str(folder / "wall.####.exr"), frames=FrameRange(first=frames[0], last=frames[-1]),
                      width=WIDTH, height=HEIGHT, colour_space="Linear Rec.709 (sRGB)")  # fmt: skip
    corners = rectangle(0, 0, WIDTH, HEIGHT)
    pins = tuple(Pin(frame=frame, home=Array(corners), placed=Array(corners - (2.5 * (frame - frames[0]), 0)))
                 for frame in frames[1:])  # fmt: skip
    wall = Surface(id="wall", name="Wall", home_frame=frames[0], how=ByHand(corners=Array(corners)), pins=pins)
    half = SIDE / 2
    shapes = [shape_of(rectangle(x - half, y - half, x + half, y + half), frames[0], f"m{k}")
              for k, (x, y) in enumerate(PLACES)]  # fmt: skip
    cover = Matte.of(*shapes, surface_id="wall", softness=Softness(outwards_px=2.0))
    passing = ()
    if pole(frames[0]) is not None:
        keys = tuple(
            ShapeKey.of(frame, rectangle(pole(frame) - 1, -5, pole(frame) + 15, HEIGHT + 5)) for frame in frames
        )
        passing = (replace(shape_of(rectangle(0, 0, 1, 1), frames[0], "pole"), keys=keys),)
    fix = Fix(id="marks", name="Marks", surface_id="wall", cover=cover, fill=Rim(), hold_outs=Matte.of(*passing),
              match=Match(grain=GrainMatch(amount=0.0)))  # fmt: skip
    return Shot(id="shot", name="Wall", footage=footage, surfaces=(wall,), fixes=(fix,)), sheet


def mottled(width):
    """Plaster in blotches of some pixels: what a rim tells of it trembles as its cells move over them."""
    rng = np.random.default_rng(8)
    blotches = cv2.GaussianBlur(rng.normal(0, 1, (HEIGHT, width)).astype(np.float32), (0, 0), 5)
    return (0.4 * np.exp(0.12 * blotches / blotches.std()))[..., None] * np.float32([1, 0.9, 0.7])


def in_marks(engine, shot, sheet, frame, light=1.0):
    """Return what is laid in whole marks on a frame, brought to where they are at first, and what truly is there."""
    by = 2.5 * (frame - shot.footage.frames.first)
    back = np.float32([[1, 0, by], [0, 1, 0]])
    laid = cv2.warpAffine(engine.result(shot, frame) / light, back, (WIDTH, HEIGHT), flags=cv2.INTER_LINEAR)
    inner = [np.s_[y - 14 : y + 14, x - 14 : x + 14] for x, y in PLACES]
    return [laid[one] for one in inner], [sheet[one] for one in inner]


def trembling(engine, shot, sheet, frames, light=lambda frame: 1.0):
    """Return by how much the middles of marks change from a frame to the next, root mean square, over their level."""
    levels = np.array([[one.mean() for one in in_marks(engine, shot, sheet, frame, light(frame))[0]]
                       for frame in frames])  # fmt: skip
    return float(np.sqrt((np.diff(levels, axis=0) ** 2).mean()) / levels.mean())


def test_a_followed_surface_steadies_what_grows_in(tmp_path):
    """On plaster marks tremble by a tenth of what each frame by itself makes of them, under light that changes."""
    frames, light = range(1001, 1012), lambda frame: 1 + 0.06 * ((frame - 1001) % 3)
    shot, sheet = moving(tmp_path, mottled, frames, light)
    alone = replace(shot, fixes=(replace(shot.fixes[0], fill=Rim(steadied_by=0)),))
    engine = Engine(10**9)
    inner = range(1004, 1009)
    steady = trembling(engine, shot, sheet, inner, light)
    assert steady < 0.1 * trembling(engine, alone, sheet, inner, light)


def test_what_something_in_front_hides_of_a_rim_is_told_by_frames_on_which_it_does_not(tmp_path):
    """A bright pole passes: marks beside it look as they do when it is far away, within half a part in a hundred."""
    frames = range(1001, 1033)
    shot, sheet = moving(tmp_path, mottled, frames, pole=lambda frame: 40 + 9 * (frame - 1001))
    alone = replace(shot, fixes=(replace(shot.fixes[0], fill=Rim(steadied_by=0)),))
    engine, changes = Engine(10**9), {}
    for name, one in (("steadied", shot), ("alone", alone)):
        levels = [[] for _ in PLACES]
        for frame in range(1006, 1019, 2):
            middle = 47 + 11.5 * (frame - 1001)
            for own, laid, (x, _) in zip(levels, in_marks(engine, one, sheet, frame)[0], PLACES, strict=True):
                if abs(x - middle) > 24:  # the pole is not before the mark itself
                    own.append(laid.mean())
        assert all(len(own) > 3 for own in levels)
        changes[name] = max(float(np.std(own) / np.mean(own)) for own in levels)
    assert changes["steadied"] < 0.005
    assert changes["alone"] > 5 * changes["steadied"]


def test_a_rim_is_steadied_by_frames_that_there_can_be(tmp_path):
    shot, _ = moving(tmp_path, mottled, range(1001, 1003))
    for wrong in (-1, 10**9):
        with pytest.raises(EditError, match="steadied by"):
            edits.change_fix(Project.of(shot), "shot", "marks", fill=Rim(steadied_by=wrong))


def test_a_frame_beside_that_cannot_be_read_is_passed_over(tmp_path):
    shot, sheet = moving(tmp_path, mottled, range(1001, 1008))
    whole = np.mean([one.mean() for one in in_marks(Engine(10**9), shot, sheet, 1004)[0]])
    broken = tmp_path / "wall.1005.exr"
    broken.write_bytes(broken.read_bytes()[:2000])
    without = np.mean([one.mean() for one in in_marks(Engine(10**9), shot, sheet, 1004)[0]])
    assert without == pytest.approx(whole, rel=0.005)


def test_on_a_surface_a_pixel_is_the_same_in_every_window(tmp_path):
    """At full size and at half, where the surface lies between pixels and a mark is cut by the border."""
    shot, _ = moving(tmp_path, mottled, range(1001, 1016))
    engine, window = Engine(10**9), Window(0, 10, 180, 150)
    whole = engine.result(shot, 1014)
    np.testing.assert_array_equal(Engine(10**9).result(shot, 1014, window=window), whole[window.slices])
    untouched = engine.laid_matte(shot, 1014) == 0
    np.testing.assert_array_equal(whole[untouched], engine.plate(shot.footage, 1014)[untouched])
    half = engine.result(shot, 1014, scale=0.5)
    smaller = whole.reshape(HEIGHT // 2, 2, WIDTH // 2, 2, 3).mean(axis=(1, 3))
    assert np.abs(half - smaller).mean() < 0.01  # a fiftieth: at half size a rim is twice as wide, and blotches small


@pytest.mark.parametrize(("x", "y"), [(0, 90), (WIDTH, 90), (105, HEIGHT), (105, 0)])
def test_a_mark_at_the_border_on_a_surface_that_stands_takes_nothing_from_beyond_it(tmp_path, x, y):
    """Half of the mark is outside; what is read there would be no pixel of the frame."""
    shot = marked(tmp_path, plain)
    still = Surface(id="wall", name="Wall", home_frame=1001, how=Still(corners=Array(rectangle(0, 0, WIDTH, HEIGHT))))
    cover = Matte.of(shape_of(rectangle(x - 12, y - 12, x + 12, y + 12), 1001, "m"), surface_id="wall",
                     softness=Softness())  # fmt: skip
    fix = replace(shot.fixes[0], surface_id="wall", cover=cover)
    shot, engine = replace(shot, surfaces=(still,), fixes=(fix,)), Engine(10**9)
    inside = engine.laid_matte(shot, 1002) > 0.99
    assert inside.any()
    np.testing.assert_allclose(engine.result(shot, 1002)[inside], plain(1002)[inside], atol=0.015)


def test_a_plane_through_knots_is_drawn_exactly_wherever_and_however_it_lies():
    step, plane = 8, np.array([[0.3, 0.02, -0.01], [0.5, -0.03, 0.04], [0.1, 0.0, 0.01]])
    at = step * (np.arange(9) - 1.5)
    x, y = np.meshgrid(at, at)
    knots = np.stack([a + b * x + c * y for a, b, c in plane], axis=2).astype(np.float32)
    wanted = np.zeros((40, 40), bool)
    wanted[4:36, 6:30] = True
    turned = turning(0.4)
    for back in (np.array([[1, 0, 3.0], [0, 1, 1.0]]), np.column_stack([turned.matrix[:2, :2], (8.3, 2.7)])):
        pixels, valid = np.zeros((30, 24, 3), np.float32), np.zeros((30, 24), np.float32)
        drawn_moved(knots, step, back, wanted, pixels, valid)
        columns, rows = np.meshgrid(np.arange(24) + 0.5, np.arange(30) + 0.5)
        there = np.einsum("kl,lhw->khw", back[:, :2], np.stack([columns, rows])) + back[:, 2, None, None]
        expected = np.stack([a + b * there[0] + c * there[1] for a, b, c in plane], axis=2)
        inside = (there[0] > 6.5) & (there[0] < 29.5) & (there[1] > 4.5) & (there[1] < 35.5)
        beyond = (there[0] < 5.0) | (there[0] > 31.0) | (there[1] < 3.0) | (there[1] > 37.0)
        assert inside.any()
        assert beyond.any()
        assert (valid[inside] == 1).all()
        assert not valid[beyond].any()
        # Catmull and Rom's cubics run through straight lines; what is left is rounding of values of about 1.
        assert np.abs(pixels - expected)[valid > 0].max() < 1e-5
        assert not pixels[valid == 0].any()
    whole, seen = np.zeros((30, 24, 3), np.float32), np.zeros((30, 24), np.float32)
    drawn(knots, step, 3, 5, np.ascontiguousarray(wanted[3:33, 5:29]), whole, seen)
    moved, seen_moved = np.zeros((30, 24, 3), np.float32), np.zeros((30, 24), np.float32)
    drawn_moved(knots, step, np.array([[1, 0, 5.0], [0, 1, 3.0]]), wanted, moved, seen_moved)
    assert (seen == seen_moved).all()
    assert np.abs(whole - moved).max() < 1e-6
