"""What may be wrong with mattes is said in words; what is fine is not."""

import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.document import Array, Combine, Drawn, Fix, Frames, Matte, MattePart, ShapeKey, Softness
from gommage.core.engine.doubts import doubts_of
from tests.conftest import rectangle, shape_of

INSIDE, ASIDE = rectangle(60, 40, 90, 70), rectangle(110, 80, 130, 100)


def part(name, points, combine=Combine.ADD, surface_id="wall", **fields):
    return MattePart(id=name, source=Drawn(shape=shape_of(points, shape_id=name), surface_id=surface_id),
                     combine=combine, **fields)  # fmt: skip


def fix_of(*cover, hold_outs=(), **fields):
    return Fix(id="f", name="Nail", surface_id="wall", cover=Matte(parts=cover, softness=Softness(outwards_px=2)),
               hold_outs=Matte(parts=hold_outs), **fields)  # fmt: skip


def said(shot, fix):
    return [words for words, _ in doubts_of(replace(shot, fixes=(fix,)), fix)]


def test_nothing_is_said_of_what_is_fine(small_shot):
    hole = part("b", rectangle(70, 50, 80, 60), Combine.SUBTRACT)
    held = part("h", rectangle(80, 60, 100, 90), frames=(Frames(first=1002),))
    assert said(small_shot, fix_of(part("a", INSIDE), hole, hold_outs=(held,))) == []


@pytest.mark.parametrize(
    ("fix", "words"),
    [
        (fix_of(part("a", rectangle(0, 0, 40, 40))), "reaches beyond the area of Wall"),
        (fix_of(part("a", INSIDE), hold_outs=(part("h", ASIDE),)), "hold-out Shape 1 hides nothing"),
        (
            fix_of(part("a", INSIDE), part("b", INSIDE, Combine.SUBTRACT)),
            "Shape 2 takes away all that the cover had before it; they cancel",
        ),
        (fix_of(part("a", INSIDE, Combine.SUBTRACT)), "takes away from nothing"),
        (
            fix_of(part("a", INSIDE), part("b", INSIDE, frames=(Frames(first=1005),)), frames=(Frames(last=1003),)),
            "Shape 2 exists on frames alone on which the fix does not live",
        ),
    ],
)
def test_what_may_be_wrong_is_said(small_shot, fix, words):
    found = said(small_shot, fix)
    assert any(words in one for one in found), found


def test_a_key_where_the_shape_is_off(small_shot):
    one = part("a", INSIDE, frames=(Frames(last=1003),))
    keys = (*one.source.shape.keys, ShapeKey.of(1005, INSIDE + 1))
    keyed = replace(one, source=replace(one.source, shape=replace(one.source.shape, keys=keys)))
    assert any("has a key on frame 1005, where it is off" in words for words in said(small_shot, fix_of(keyed)))


def test_a_cover_that_is_tighter_than_its_motion(small_shot):
    surface = small_shot.surfaces[0]
    fast = np.repeat(np.eye(3)[None], len(small_shot.footage.frames), axis=0)
    fast[:, 0, 2] = 40.0 * np.arange(len(fast))
    moving = replace(surface, track=replace(surface.track, home_to_frame=Array(fast)))
    shot = replace(small_shot, surfaces=(moving,))
    assert any("blur may reach 10 px beyond the line" in words for words in said(shot, fix_of(part("a", INSIDE))))
    shut = fix_of(part("a", INSIDE, softness=Softness(shutter_deg=180)))
    assert not any("blur" in words for words in said(shot, shut))
