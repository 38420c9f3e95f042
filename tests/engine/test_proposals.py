"""What a fresh cover is proposed to be filled from, on small shots of which the answer is known."""

import cv2
import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.document import (
    Array,
    Borrow,
    Donors,
    Drawn,
    Fix,
    Footage,
    FrameRange,
    Frames,
    Matte,
    MattePart,
    Project,
    Rim,
    Shape,
    ShapeKey,
    Shot,
    Softness,
    Span,
    Still,
    Surface,
    Texture,
    Track,
    VertexKind,
    edits,
)
from gommage.core.engine import Engine, first_look, proposed_fills
from gommage.core.picture.writing import write_still
from tests.conftest import plane, rectangle, shape_of, texture

WIDTH, HEIGHT, FRAMES = 240, 160, FrameRange(first=1001, last=1010)
MIDDLE = rectangle(100, 60, 140, 100)


def shot_of(folder, picture_of, by=0.0, surface=True):
    """A shot of which each frame is given, grainy, with a wall that moves by so many pixels a frame."""
    rng = np.random.default_rng(4)
    for frame in FRAMES:
        picture = picture_of(frame) + rng.normal(0, 0.006, (HEIGHT, WIDTH, 3))
        write_still(folder / f"s.{frame}.exr", np.maximum(picture, 0).astype(np.float16), bits=16)
    footage = Footage(path=str(folder / "s.####.exr"), frames=FRAMES, width=WIDTH, height=HEIGHT,
                      colour_space="Linear Rec.709 (sRGB)")  # fmt: skip
    matrices = np.repeat(np.eye(3)[None], len(FRAMES), axis=0)
    matrices[:, 0, 2] = by * np.arange(len(FRAMES))
    track = Track(first_frame=1001, home_to_frame=Array(matrices), corner_slip_px=Array(np.zeros((len(FRAMES), 4))),
                  certainty=Array(np.ones(len(FRAMES))), reasons=("",) * len(FRAMES))  # fmt: skip
    wall = Surface(id="wall", name="Wall", home_frame=1001, how=plane(rectangle(4, 4, 200, 150)), track=track)
    return Shot(id="shot", name="Small", footage=footage, surfaces=(wall,) if surface else ())


def covered(shot, *shapes, surface_id="wall", **fields):
    cover = Matte.of(*shapes, surface_id=surface_id, softness=Softness(outwards_px=2.0))
    fix = Fix(id="f", name="F", surface_id=surface_id, cover=cover, **fields)
    return edits.add_fix(Project(shots=(shot,)), "shot", fix).shots[0]


def proposed(shot, frame=1005):
    return proposed_fills(Engine(), shot, shot.fixes[0], frame)


def kinds(proposals):
    return [type(one.fill) for one in proposals]


def passing(seed, by):
    """A texture that passes, wide enough."""
    wide = texture(HEIGHT, WIDTH + 140, seed=seed, fine=1.5)
    return lambda frame: wide[:, 90 - by * (frame - 1001) : 90 - by * (frame - 1001) + WIDTH]


def test_a_mark_that_rides_on_texture_is_closed_with_texture(tmp_path):
    shot = covered(shot_of(tmp_path, passing(1, 2), by=2.0), shape_of(MIDDLE))
    proposals = proposed(shot)
    assert kinds(proposals)[0] is Texture
    assert kinds(proposals)[-2:] == [Borrow, Rim]
    assert "texture" in proposals[0].why.lower()


def test_what_other_frames_show_comes_first(tmp_path):
    shot = shot_of(tmp_path, passing(2, 8), by=8.0)
    still = covered(shot, shape_of(MIDDLE), surface_id="")  # it stays in the picture while the wall passes by
    shot = replace(still, fixes=(replace(still.fixes[0], surface_id="wall"),))
    first = proposed(shot)[0]
    assert first.fill == Donors(surface_ids=("wall",))
    assert "Other frames show" in first.why


def test_on_a_plain_wall_the_rim_comes_first_where_no_frame_shows_it(tmp_path):
    slow = np.linspace(0.3, 0.5, WIDTH)[None, :, None] * np.ones((HEIGHT, 1, 3))
    shot = covered(shot_of(tmp_path, lambda frame: slow), shape_of(MIDDLE))
    assert kinds(proposed(shot))[0] is Rim


@pytest.mark.parametrize("has_surface", [True, False])
def test_what_is_on_one_frame_alone_is_taken_from_its_neighbours(tmp_path, has_surface):
    shot = shot_of(tmp_path, passing(3, 2), by=2.0, surface=has_surface)
    on = (Frames(first=1005, last=1005),)
    shot = covered(shot, shape_of(MIDDLE, 1005), surface_id="wall" if has_surface else "", frames=on)
    first = proposed(shot)[0]
    assert first.fill == Donors(surface_ids=("wall",) if has_surface else ())
    assert "frame or two" in first.why


def test_a_line_is_closed_from_its_sides(tmp_path):
    shot = shot_of(tmp_path, passing(4, 0))
    line = np.hstack([np.array([[20.0, 30.0], [220.0, 90.0]]), np.zeros((2, 6))])
    shape = Shape(id="w", keys=(ShapeKey(frame=1001, vertices=Array(line)),), kinds=(VertexKind.CORNER,) * 2,
                  is_closed=False)  # fmt: skip
    part = MattePart(id="w", source=Drawn(shape=shape), grow_px=3.0)
    shot = replace(shot, fixes=(Fix(id="f", name="Wire", cover=Matte(parts=(part,))),))
    assert kinds(proposed(shot))[0] is Span


@pytest.mark.parametrize(("by", "first"), [(12.0, Donors), (0.0, Span)])
def test_of_a_thin_line_that_sways_before_what_is_followed_other_frames_tell_more(tmp_path, by, first):
    shot = shot_of(tmp_path, passing(8, 0))
    ends = np.array([[20.0, 20.0], [220.0, 40.0]])
    keys = tuple(ShapeKey(frame=frame, vertices=Array(np.hstack([ends + (0, by * (frame - 1001)), np.zeros((2, 6))])))
                 for frame in (FRAMES.first, FRAMES.last))  # fmt: skip
    shape = Shape(id="w", keys=keys, kinds=(VertexKind.CORNER,) * 2, is_closed=False)
    part = MattePart(id="w", source=Drawn(shape=shape), grow_px=2.0)
    shot = replace(shot, fixes=(Fix(id="f", name="Wire", cover=Matte(parts=(part,))),))
    found = proposed(shot)
    assert kinds(found)[0] is first
    assert Span in kinds(found)[:2]
    if first is Donors:
        assert found[0].fill.surface_ids == ("wall",)
        assert "closed from both sides" in found[0].why


def test_without_a_surface_nothing_is_carried(tmp_path):
    shot = covered(shot_of(tmp_path, passing(5, 3), surface=False), shape_of(MIDDLE), surface_id="")
    assert kinds(proposed(shot)) == [Borrow, Rim]
    locked = Surface(id="all", name="All", home_frame=1001, how=Still(corners=Array(rectangle(0, 0, WIDTH, HEIGHT))))
    assert Texture in kinds(proposed(replace(shot, surfaces=(locked,))))


def test_where_nothing_is_covered_nothing_is_proposed(tmp_path):
    shot = covered(shot_of(tmp_path, passing(6, 2), by=2.0), shape_of(rectangle(900, 900, 950, 950)))
    assert proposed(shot) == ()


def test_no_kind_is_proposed_twice_and_each_can_be_looked_at(tmp_path):
    def spotted(frame):
        picture = passing(7, 2)(frame).copy()
        cv2.circle(picture, (120 + 2 * (frame - 1001), 80), 14, (0.9, 0.1, 0.1), -1)
        return picture

    shot = covered(shot_of(tmp_path, spotted, by=2.0), shape_of(MIDDLE))
    proposals = proposed(shot)
    assert len(set(kinds(proposals))) == len(proposals)
    engine = Engine()
    for one in proposals:
        fix = first_look(shot.fixes[0], one.fill)
        assert fix.match.grain.amount == 0
        assert np.isfinite(engine.result(replace(shot, fixes=(fix,)), 1005)).all()
    texture_fix = first_look(shot.fixes[0], proposals[0].fill)
    red = engine.result(replace(shot, fixes=(texture_fix,)), 1005)[80, 128]
    assert red[0] - red[1] < 0.3  # the spot is gone at the first look already
