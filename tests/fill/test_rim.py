"""Markers on what is smooth, closed from their rims: against the clean picture, beside OpenCV's two ways."""

import cv2
import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.document import Fix, Footage, FrameRange, GrainMatch, Match, Matte, Rim, Shot, Softness
from gommage.core.engine import Engine, inputs_at
from gommage.core.engine.laid import composite
from gommage.core.fill.rim import EVENNESS, found_evenness
from gommage.core.geometry import Window
from gommage.core.picture.writing import write_still
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
        chosen.append({found_evenness(one, scene) for one in inputs})
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
