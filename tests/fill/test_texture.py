"""Texture: holes in stills closed with pieces of the same picture, against what was there."""

import cv2
import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.document import (
    Array,
    CleanPlate,
    Combine,
    Drawn,
    Fix,
    Footage,
    FrameRange,
    GrainMatch,
    LightMatch,
    Match,
    Matte,
    MattePart,
    Merged,
    Plates,
    Shape,
    ShapeKey,
    Shot,
    Softness,
    Still,
    Surface,
    Texture,
    VertexKind,
)
from gommage.core.engine import Engine
from gommage.core.fill.patchwork import closed, finer, laid
from gommage.core.picture.writing import write_still
from tests.conftest import rectangle, shape_of

WIDTH, HEIGHT, ENCODING = 640, 400, 1 / 2.2
HOLE = (270, 150, 360, 230)


def bricks(width, height, seed=0, long=48, high=17):
    """A painted brick wall, encoded: bricks of their own shade, light mortar, roughness."""
    rng = np.random.default_rng(seed)
    y, x = np.mgrid[:height, :width].astype(np.float32)
    row = (y // high).astype(int)
    x = x + np.where(row % 2 == 1, long / 2, 0)
    shade = rng.normal(0, 0.06, (row.max() + 1, int(x.max() // long) + 1))
    joint = np.minimum(np.minimum(y % high, high - y % high), np.minimum(x % long, long - x % long)) < 1.7
    wall = np.float32([0.55, 0.3, 0.25]) * (1 + shade[row, (x // long).astype(int)])[..., None]
    wall = np.where(joint[..., None], 0.62, wall) + 0.02 * rng.normal(0, 1, (height, width, 1))
    return cv2.GaussianBlur(wall.astype(np.float32), (0, 0), 0.8)


def in_perspective():
    """The wall seen from the side: the picture, encoded, and where the corners of a rectangle on it lie."""
    flat = np.float32([[100, 60], [1100, 60], [1100, 700], [100, 700]])
    seen = np.float32([[40, 20], [600, 110], [600, 290], [40, 380]])
    matrix = np.diag([2.0, 2.0, 1.0]) @ cv2.getPerspectiveTransform(flat, seen)
    wide = cv2.warpPerspective(bricks(1200, 760), matrix, (2 * WIDTH, 2 * HEIGHT), borderMode=cv2.BORDER_REFLECT)
    return cv2.resize(wide, (WIDTH, HEIGHT), interpolation=cv2.INTER_AREA), seen.astype(float)


def filmed(folder, encoded, things=(HOLE,), frames=1, **fields):
    """A shot of a wall on which something hangs, covered a little larger than it is."""
    picture = encoded.copy()
    for left, top, right, bottom in things:
        picture[top:bottom, left:right] = (0.1, 0.7, 0.9)
    for frame in range(1001, 1001 + frames):
        write_still(folder / f"wall.{frame}.exr", (picture ** (1 / ENCODING)).astype(np.float16), bits=16)
    height, width = encoded.shape[:2]
    footage = Footage(path=str(folder / "wall.####.exr"), frames=FrameRange(first=1001, last=1000 + frames),
                      width=width, height=height, colour_space="Linear Rec.709 (sRGB)")  # fmt: skip
    shapes = [shape_of(rectangle(left - 3, top - 3, right + 3, bottom + 3), 1001, f"c{left}")
              for left, top, right, bottom in things]  # fmt: skip
    fix = Fix(id="sign", name="Sign", cover=Matte.of(*shapes, softness=Softness(outwards_px=2.0)), fill=Texture(),
              match=Match(light=LightMatch(is_measured=False), grain=GrainMatch(amount=0.0)))  # fmt: skip
    return Shot(id="shot", name="Wall", footage=footage, fixes=(replace(fix, **fields),))


def encoded_result(engine, shot, frame=1001):
    return np.maximum(engine.result(shot, frame), 0) ** ENCODING


def psnr(found, wanted, inside):
    return -10 * np.log10(float(((found - wanted)[inside] ** 2).mean()))


def by_spreading(engine, shot):
    """Both of OpenCV's ways."""
    plate = np.maximum(engine.plate(shot.footage, 1001), 0) ** ENCODING
    hole = (engine.laid_matte(shot, 1001) > 0).view(np.uint8)
    seen = (np.clip(plate, 0, 1) * 255).astype(np.uint8)
    return [cv2.inpaint(seen, hole, 5, way) / 255 for way in (cv2.INPAINT_TELEA, cv2.INPAINT_NS)]


def test_bricks_go_on_in_perspective(tmp_path):
    """5 dB ahead of spreading; without perspective well ahead of as they lie in the picture, where they change size."""
    wall, corners = in_perspective()
    surface = Surface(id="wall", name="Wall", home_frame=1001, how=Still(corners=Array(corners)))
    shot = replace(filmed(tmp_path, wall, surface_id="wall"), surfaces=(surface,))
    engine = Engine(10**9)
    inside = engine.laid_matte(shot, 1001) > 0.99
    found = encoded_result(engine, shot)
    assert psnr(found, wall, inside) > max(psnr(one, wall, inside) for one in by_spreading(engine, shot)) + 5
    as_it_lies = replace(shot, fixes=(replace(shot.fixes[0], fill=Texture(is_square_on=False)),))
    assert psnr(found, wall, inside) > psnr(encoded_result(engine, as_it_lies), wall, inside) + 2
    outside = engine.laid_matte(shot, 1001) == 0
    np.testing.assert_array_equal(engine.result(shot, 1001)[outside], engine.plate(shot.footage, 1001)[outside])


def test_proposals_differ_and_each_is_the_same_again(tmp_path):
    shot = filmed(tmp_path, bricks(320, 200), things=((120, 70, 170, 110),))
    found = []
    for proposal in (0, 1, 0):
        one = replace(shot, fixes=(replace(shot.fixes[0], fill=Texture(proposal=proposal)),))
        found.append(Engine(10**9).result(one, 1001))
    np.testing.assert_array_equal(found[0], found[2])
    assert (found[0] != found[1]).any()


def test_a_draft_shows_what_it_will_be_like(tmp_path):
    wall = bricks(WIDTH, HEIGHT)
    shot, engine = filmed(tmp_path, wall), Engine(10**9)
    draft = replace(shot, fixes=(replace(shot.fixes[0], fill=Texture(is_draft=True)),))
    inside = engine.laid_matte(shot, 1001) > 0.99
    spread = max(psnr(one, wall, inside) for one in by_spreading(engine, shot))
    assert psnr(encoded_result(engine, draft), wall, inside) > spread + 3


def part_of(points, combine=Combine.ADD, *, is_closed=True):
    key = ShapeKey.of(1001, points)
    shape = Shape(id=f"p{points[0]}", keys=(key,), kinds=(VertexKind.CORNER,) * len(points), is_closed=is_closed)
    return MattePart(id=shape.id, source=Drawn(shape=shape), combine=combine)


def test_pieces_come_from_where_they_may_alone(tmp_path):
    """A wall whose left half is reddish, whose right half greenish, with the hole on the border."""
    wall = bricks(WIDTH, HEIGHT)
    wall[:, WIDTH // 2 :] = wall[:, WIDTH // 2 :][..., [1, 0, 2]]
    shot, engine = filmed(tmp_path, wall), Engine(10**9)
    inside = engine.laid_matte(shot, 1001) > 0.99

    def redness(part):
        fill = Texture(take_from=Matte(parts=(part,)))
        found = encoded_result(engine, replace(shot, fixes=(replace(shot.fixes[0], fill=fill),)))[inside]
        coloured = found[np.abs(found[:, 0] - found[:, 1]) > 0.1]  # mortar is neither
        return (coloured[:, 0] > coloured[:, 1]).mean()

    left = rectangle(0, 0, WIDTH // 2 - 4, HEIGHT)
    assert redness(part_of(left)) > 0.99
    assert redness(part_of(left, Combine.SUBTRACT)) < 0.01


def test_an_edge_goes_through_along_its_guide():
    """Two papers meet at a line that rises within the hole and beside it; with the guide it is within two pixels."""
    rng = np.random.default_rng(4)
    height, width = 240, 360
    y, x = np.mgrid[:height, :width]
    edge = 150 - 0.35 * (x - 60)
    texture = cv2.GaussianBlur(rng.normal(0, 1, (height, width)).astype(np.float32), (0, 0), 1.5) * 0.25
    picture = np.where((y < edge)[..., None], np.float32([0.6, 0.6, 0.65]), np.float32([0.45, 0.4, 0.35]))
    picture = (picture + texture[..., None]).astype(np.float32)
    hole = np.zeros((height, width), bool)
    hole[60:160, 110:230] = True
    guide = np.array([[20.0, 164.0], [340.0, 52.0]])
    found = closed(picture, hole, ~hole, [guide])
    out, _ = laid(picture, hole, finer(found.offsets, found.level, hole, ~hole))
    upper = cv2.GaussianBlur(out[..., 2], (0, 0), 2) > 0.5
    off = [abs(upper[:, column].sum() - edge[0, column]) for column in range(115, 225, 5)]
    assert np.mean(off) < 3  # the texture itself hides where the edge is by a pixel or two
    assert np.max(off) < 8


def test_a_hole_at_the_border_and_one_that_nothing_may_close(tmp_path):
    wall = bricks(WIDTH, HEIGHT)
    shot, engine = filmed(tmp_path, wall, things=((0, 150, 60, 230),)), Engine(10**9)
    inside = engine.laid_matte(shot, 1001) > 0.99
    assert psnr(encoded_result(engine, shot), wall, inside) > 18
    nowhere = Texture(take_from=Matte(parts=(part_of(rectangle(5, 160, 40, 200)),)))  # all of it covered
    bare = replace(shot, fixes=(replace(shot.fixes[0], fill=nowhere),))
    np.testing.assert_allclose(engine.result(bare, 1001), engine.plate(shot.footage, 1001), atol=1e-5)


def test_what_no_frame_shows_of_a_merged_plate_is_closed(tmp_path):
    """A sign that never moves: all frames lack the same; the plate closes it with bricks of its own."""
    wall, corners = in_perspective()
    surface = Surface(id="wall", name="Wall", home_frame=1001, how=Still(corners=Array(corners)))
    shot = replace(filmed(tmp_path, wall, frames=3, surface_id="wall"), surfaces=(surface,))
    plate = CleanPlate(id="p", name="Merged", surface_id="wall", home_frame=1001, base=Merged(), rest=Texture())
    fix = replace(shot.fixes[0], fill=Plates(plate_ids=("p",)))
    whole = replace(shot, clean_plates=(plate,), fixes=(fix,))
    engine = Engine(10**9)
    inside = engine.laid_matte(whole, 1002) > 0.99
    spread = max(psnr(one, wall, inside) for one in by_spreading(engine, whole))
    assert psnr(encoded_result(engine, whole, 1002), wall, inside) > spread + 4
    bare = replace(whole, clean_plates=(replace(plate, rest=None),))
    np.testing.assert_allclose(engine.result(bare, 1002), engine.plate(shot.footage, 1002), atol=1e-5)


@pytest.mark.parametrize("proposal", [0, 1])
def test_offsets_lead_to_what_may_be_taken(proposal):
    wall = bricks(300, 200)
    hole = np.zeros((200, 300), bool)
    hole[70:130, 110:190] = True
    taken = ~hole
    taken[:, :40] = False
    found = closed(wall, hole, taken, proposal=proposal)
    rows, columns = np.nonzero(hole)
    there = found.offsets[rows, columns] + np.stack([rows, columns], axis=1)
    assert taken[there[:, 0], there[:, 1]].all()
    assert not found.offsets[~hole].any()
