"""What new pixels are matched by, in the engine: sharpness found, joins, light away from what is no background."""

from pathlib import Path

import cv2
import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.cover import matte_at
from gommage.core.document import Donors, Fix, Frames, GrainMatch, LightMatch, Match, Matte
from gommage.core.engine import inputs_at
from gommage.core.engine.matching import _strips_around
from gommage.core.geometry import IDENTITY, Window
from gommage.core.picture.writing import write_still
from tests.conftest import cover_of, rectangle, shape_of, texture
from tests.engine.test_engine import with_fix

FOCUS_PX = 1.6


@pytest.fixture
def shot(small_shot):
    """A still camera whose lens goes out of focus on frame 1004, over fine texture; its plate is as it was on 1001."""
    base = texture(120, 160, seed=3, fine=0.9)
    for frame in small_shot.footage.frames:
        picture = cv2.GaussianBlur(base, (0, 0), FOCUS_PX) if frame >= 1004 else base
        noisy = picture + 0.004 * np.random.default_rng(frame).standard_normal(base.shape)
        write_still(Path(small_shot.footage.path.replace("####", str(frame))), noisy.astype(np.float16), bits=16)
    return with_fix(small_shot)


def matched(shot, **fields):
    (fix,) = shot.fixes
    return replace(shot, fixes=(replace(fix, match=replace(fix.match, **fields)),))


def inside(engine, shot, frame):
    patch = engine.patch(shot, shot.fixes[0], frame)
    solid = patch.alpha > 0.99
    return patch.pixels[solid] - engine.plate(shot.footage, frame)[patch.window.slices][solid]


def test_a_plate_is_as_soft_as_the_frame(engine, shot):
    """Nothing is painted: the plate in focus, brought to the frame that is not, is to be as that."""
    sharp, soft = (inside(engine, one, 1005).std() for one in (matched(shot, sharpness_px=0.0), shot))
    assert soft < sharp / 3
    (blur,) = engine.patches.matching.blurs(inputs_at(shot, shot.fixes[0], 1005))
    assert blur.round_px == pytest.approx(FOCUS_PX, abs=0.15)
    (none,) = engine.patches.matching.blurs(inputs_at(shot, shot.fixes[0], 1002))
    assert not none


def test_of_several_covers_sharpness_is_measured_around_each(engine, small_shot):
    """Between two covers somebody stood on the plate's frame: what is between them is around none of them."""
    base = texture(120, 160, seed=3, fine=0.9)
    for frame in small_shot.footage.frames:
        picture = base.copy()
        if frame == 1001:
            picture[:, 60:100] += 0.3 * np.random.default_rng(8).choice([-1, 1], (120, 40, 1))  # in a checked coat
        noisy = picture + 0.004 * np.random.default_rng(frame).standard_normal(base.shape)
        write_still(Path(small_shot.footage.path.replace("####", str(frame))), noisy.astype(np.float16), bits=16)
    shot = with_fix(small_shot)
    apart = [shape_of(rectangle(x, 50, x + 14, 66), shape_id=f"c{x}") for x in (16, 130)]
    shot = replace(shot, fixes=(replace(shot.fixes[0], cover=cover_of(*apart, softness=2)),))
    for frame in (1003, 1005):
        assert not engine.patches.matching.blurs(inputs_at(shot, shot.fixes[0], frame))[0]


def test_blur_that_is_found_is_the_same_in_every_window(engine, shot):
    patch = engine.patch(shot, shot.fixes[0], 1005)
    whole = engine.result(shot, 1005)
    part = engine.result(shot, 1005, window=patch.window)
    np.testing.assert_array_equal(part, whole[patch.window.slices])


def test_joined_pixels_meet_the_picture(engine, small_shot):
    """The plate is half a stop too bright and not lit: joined, nothing of that is left."""
    lit = with_fix(small_shot, is_lit=False, stops=0.5)
    apart, joined = (inside(engine, one, 1003) for one in (lit, matched(lit, is_joined=True)))
    assert np.abs(apart.mean()) > 0.1
    assert np.abs(joined.mean()) < 0.1 * np.abs(apart.mean())


def test_what_is_in_front_is_not_joined_to(engine, small_shot):
    """A pole before the cover's right side is nothing that new pixels should run into."""
    lit = matched(with_fix(small_shot), is_joined=True)
    for frame in small_shot.footage.frames:
        path = Path(small_shot.footage.path.replace("####", str(frame)))
        picture = engine.plate(small_shot.footage, frame).copy()
        picture[:, 88:100] = 3.0
        write_still(path, picture.astype(np.float16), bits=16)
    pole = cover_of(shape_of(rectangle(86, 0, 102, 120), shape_id="pole"), softness=0)
    held = replace(lit, fixes=(replace(lit.fixes[0], hold_outs=pole),))
    fresh = type(engine)(10**9)
    bled, kept = (fresh.result(one, 1003)[50:60, 74:84].mean() for one in (lit, held))
    true = fresh.plate(small_shot.footage, 1003)[50:60, 74:84].mean()
    assert abs(kept - true) < 0.02
    assert abs(bled - true) > 3 * abs(kept - true)


def test_light_is_not_looked_at_on_what_another_fix_covers(engine, small_shot):
    """A lamp beside the cover, removed by a fix of its own, has no say however large it is."""
    shot = with_fix(small_shot)
    for frame in (1003, 1004):
        picture = engine.plate(small_shot.footage, frame).copy()
        picture[20:95, 95:130] *= 1.6
        write_still(Path(small_shot.footage.path.replace("####", str(frame))), picture.astype(np.float16), bits=16)
    lamp = Fix(id="lamp", name="Lamp", surface_id="wall",
               cover=cover_of(shape_of(rectangle(92, 16, 134, 100), shape_id="lamp"), softness=0))  # fmt: skip
    fresh = type(engine)(10**9)
    light = fresh.patch(replace(shot, fixes=(shot.fixes[0], lamp)), shot.fixes[0], 1003).light
    np.testing.assert_allclose(light.coefficients[:, 0], 0.81, rtol=0.01)


def test_light_is_looked_at_where_one_says(engine, small_shot):
    shot = with_fix(small_shot)
    area = Matte.of(shape_of(rectangle(5, 5, 40, 115), shape_id="area"), surface_id="wall")
    there = replace(shot, fixes=(replace(shot.fixes[0], light_area=area),))
    picture = engine.plate(small_shot.footage, 1003).copy()
    picture[:, 45:] *= 1.3  # all around the cover, and not there
    write_still(Path(small_shot.footage.path.replace("####", "1003")), picture.astype(np.float16), bits=16)
    fresh = type(engine)(10**9)
    found = [fresh.patch(one, one.fixes[0], 1003).light.stops[1] for one in (shot, there)]
    assert found == pytest.approx([np.log2(0.81 * 1.3), np.log2(0.81)], abs=0.02)


def test_light_is_by_hand_from_a_frame_on(engine, small_shot):
    shot = with_fix(small_shot)
    by_hand = matched(shot, light=LightMatch(by_hand=(Frames(first=1004),)))
    for frame, same in ((1003, True), (1004, False)):
        results = [engine.result(one, frame) for one in (shot, by_hand)]
        assert np.array_equal(*results) is same
    assert inputs_at(by_hand, by_hand.fixes[0], 1003).is_lit
    assert not inputs_at(by_hand, by_hand.fixes[0], 1005).is_lit


def test_few_pixels_ask_the_frames_beside(engine, small_shot):
    """Around a cover of 8 px there are few; on a grainy frame the light of its neighbours counts."""
    small = Fix(id="dot", name="Dot", surface_id="wall", fill=with_fix(small_shot).fixes[0].fill,
                cover=cover_of(shape_of(rectangle(70, 50, 78, 58), shape_id="dot"), softness=0),
                match=Match(grain=GrainMatch(amount=0.0)))  # fmt: skip
    shot = replace(with_fix(small_shot), fixes=(small,))
    assert [by for by, _ in inputs_at(shot, small, 1003).beside] == [-2, -1, 1, 2]
    assert [by for by, _ in inputs_at(shot, small, 1001).beside] == [1, 2]
    assert inputs_at(with_fix(small_shot), with_fix(small_shot).fixes[0], 1003).beside == ()
    light = engine.patch(shot, small, 1003).light
    np.testing.assert_allclose(light.coefficients[:, 0], 0.81, rtol=0.01)


def test_a_fill_from_other_frames_is_not_joined_to_what_is_in_front(engine, small_shot):
    """What is held out is no rim for it either."""
    surfaces = ("wall",)
    pole = cover_of(shape_of(rectangle(86, 0, 102, 120), shape_id="pole"), softness=0)
    (fix,) = with_fix(small_shot).fixes
    donors = replace(fix, fill=Donors(surface_ids=surfaces), hold_outs=pole, frames=(Frames(first=1003, last=1003),))
    shot = replace(small_shot, fixes=(replace(donors, match=replace(donors.match, is_joined=True)),))
    assert inputs_at(shot, shot.fixes[0], 1003).not_light == (inputs_at(shot, shot.fixes[0], 1003).hold_outs,)
    plain = replace(shot, fixes=(donors,))
    assert inputs_at(plain, donors, 1003).not_light == ()


def test_of_many_pieces_of_a_cover_the_largest_are_looked_at():
    sides = [8, 30, 12, 26, 10, 34]
    shapes = [rectangle(300 * n + 100, 200, 300 * n + 100 + side, 200 + side) for n, side in enumerate(sides)]
    cover = Matte.of(*(shape_of(points, shape_id=str(n)) for n, points in enumerate(shapes)))
    at = matte_at(cover, 1001, lambda surface_id, frame: IDENTITY)
    strips = _strips_around(at, Window.of(2000, 600))
    assert len(strips) == 4 * 4
    looked = {n for n in range(len(sides)) for one in strips if one.left <= 300 * n + 100 <= one.right}
    assert looked == {1, 2, 3, 5}
