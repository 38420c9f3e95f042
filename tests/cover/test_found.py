"""Dirt and marks that find themselves, against where they were drawn."""

import cv2
import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.cover.dirt import dirt_frame, dirt_on
from gommage.core.cover.marks import Example, marks_on
from gommage.core.document import Array, Drawn, Fix, Footage, FrameRange, Matte, MattePart, Shot, Still, Surface
from gommage.core.engine import Engine, found_dirt, found_marks, found_scratches, part_of
from gommage.core.picture.writing import write_still
from gommage.errors import EditError
from tests.conftest import rectangle, shape_of

WIDTH, HEIGHT, FRAMES, GRAIN = 400, 260, range(1001, 1013), 0.012
DUST = {1003: [(120, 90, 5), (300, 200, 3)], 1006: [(210, 60, 7)], 1009: [(60, 220, 4), (350, 40, 6)]}
HAIR = {1007: [(90, 120), (110, 132), (128, 150), (135, 172)]}


def paper(seed=2):
    rng = np.random.default_rng(seed)
    rough = [cv2.GaussianBlur(rng.normal(0, 1, (HEIGHT + 40, WIDTH + 80)), (0, 0), size) * size for size in (2, 9, 30)]
    tone = 0.3 * np.exp(0.25 * sum(rough))
    return np.repeat(tone[..., None], 3, axis=2).astype(np.float32) * np.float32([1.0, 0.95, 0.85])


@pytest.fixture(scope="module")
def reel(tmp_path_factory):
    """A reel: the camera moves by three pixels a frame; specks and a hair on single frames, a scratch that wanders."""
    folder, sheet = tmp_path_factory.mktemp("reel"), paper()
    for frame in FRAMES:
        by = 3 * (frame - FRAMES[0])
        picture = sheet[by // 2 : by // 2 + HEIGHT, by : by + WIDTH].copy()
        for x, y, radius in DUST.get(frame, ()):
            cv2.circle(picture, (x, y), radius, (0.03, 0.03, 0.03), -1, cv2.LINE_AA)
        if frame in HAIR:
            cv2.polylines(picture, [np.array(HAIR[frame])], False, (0.02, 0.02, 0.02), 2, cv2.LINE_AA)
        if frame >= 1004:
            x = 250 + 1.5 * np.sin(frame)
            picture[:, round(x) - 1 : round(x) + 1] = 0.9
        picture += np.random.default_rng(frame).normal(0, GRAIN, picture.shape).astype(np.float32)
        write_still(folder / f"reel.{frame}.exr", np.maximum(picture, 0).astype(np.float16), bits=16)
    footage = Footage(path=str(folder / "reel.####.exr"), frames=FrameRange(first=1001, last=1012), width=WIDTH,
                      height=HEIGHT, colour_space="Linear Rec.709 (sRGB)")  # fmt: skip
    return Engine(10**9), Shot(id="shot", name="Reel", footage=footage)


def test_dirt_of_single_frames_is_found_and_little_else(reel):
    """All of it, covered whole; nothing that moves with the picture."""
    engine, shot = reel
    found = [one for one in found_dirt(engine, shot) if one.score > 7]
    wanted = [(frame, x, y) for frame, specks in DUST.items() for x, y, _ in specks]
    wanted += [(frame, *np.mean(points, axis=0)) for frame, points in HAIR.items()]
    for frame, x, y in wanted:
        here = [one for one in found if one.frame == frame]
        assert any(cv2.pointPolygonTest(one.outline_on(frame).astype(np.float32), (float(x), float(y)), True) > -6
                   for one in here), (frame, x, y)  # fmt: skip
    beside = [one for one in found if abs(one.outline_on(one.frame)[:, 0].mean() - 250) > 12]  # the scratch comes in
    assert len(beside) <= len(wanted) + 1
    assert any(one.words == "hair" for one in found)


def test_a_scratch_is_followed_from_where_it_begins(reel):
    engine, shot = reel
    (scratch,) = found_scratches(engine, shot)
    part = part_of(scratch)
    frames = [key.frame for key in part.source.shape.keys]
    assert frames[0] in range(1003, 1007)
    assert frames[-1] == 1012
    for key in part.source.shape.keys:
        inside = key.points[(key.points[:, 1] > 5) & (key.points[:, 1] < HEIGHT - 5)]
        assert np.abs(inside[:, 0] - round(250 + 1.5 * np.sin(key.frame))).max() < 1.0


def test_a_frame_without_neighbours_tells_nothing():
    luma = dirt_frame(paper()[:HEIGHT, :WIDTH])
    assert dirt_on(None, luma, None, 4.0) == []
    assert dirt_on(luma, luma, luma, 4.0) == []


# -- marks --------------------------------------------------------------------------------------------------

CROSSES = [(60, 60), (180, 50), (320, 80), (110, 180), (250, 190), (340, 220)]


def crossed(folder, frames=range(1001, 1005), by=4):
    """Crosses of tape on paper that moves on."""
    sheet = paper(5)
    for x, y in CROSSES:
        for ends in (((x - 9, y - 9), (x + 9, y + 9)), ((x - 9, y + 9), (x + 9, y - 9))):
            cv2.line(sheet, *ends, (0.6, 0.05, 0.05), 5, cv2.LINE_AA)
    for frame in frames:
        off = by * (frame - frames[0])
        picture = sheet[:HEIGHT, off : off + WIDTH] + np.random.default_rng(frame).normal(0, 0.01, (HEIGHT, WIDTH, 3))
        write_still(folder / f"wall.{frame}.exr", np.maximum(picture, 0).astype(np.float16), bits=16)
    footage = Footage(path=str(folder / "wall.####.exr"), frames=FrameRange(first=frames[0], last=frames[-1]),
                      width=WIDTH, height=HEIGHT, colour_space="Linear Rec.709 (sRGB)")  # fmt: skip
    x, y = CROSSES[0]
    part = MattePart(id="x", source=Drawn(shape=shape_of(rectangle(x - 14, y - 14, x + 14, y + 14), 1001, "x")))
    return Shot(id="shot", name="Wall", footage=footage, fixes=(Fix(id="f", name="Marks", cover=Matte(parts=(part,))),))


def test_marks_that_look_like_one_are_found_where_they_are():
    sheet = paper(5)[:HEIGHT, :WIDTH]
    cv2.circle(sheet, (200, 120), 8, (0.7, 0.1, 0.1), -1)
    cv2.circle(sheet, (320, 60), 11, (0.7, 0.1, 0.1), -1)
    angle = np.linspace(0, 2 * np.pi, 12, endpoint=False)
    outline = 14.5 + 10 * np.column_stack([np.cos(angle), np.sin(angle)])
    found = marks_on(sheet, Example(np.ascontiguousarray(sheet[106:135, 186:215]), outline))
    (x, y, look, alike), second = found[0], found[1]
    assert (x, y) == pytest.approx((200.5, 120.5), abs=1.0)
    assert look[0] == 1.0
    assert alike > 0.98
    assert second[:2] == pytest.approx((320.5, 60.5), abs=1.5)
    assert second[2][0] == pytest.approx(11 / 8, abs=0.25)


def test_what_is_as_light_as_clouds_is_told_by_its_edges():
    """A light mark beside clouds and half on them, that are nearly as light."""
    sky = np.full((HEIGHT, WIDTH, 3), (0.25, 0.4, 0.6), np.float32)
    for x, y in ((60, 70), (230, 60), (330, 190), (110, 215), (220, 150)):
        cv2.ellipse(sky, (x, y), (55, 24), 0, 0, 360, (0.62, 0.6, 0.55), -1, cv2.LINE_AA)
    sky = cv2.GaussianBlur(sky, (0, 0), 2.0)
    arms = np.array([(-6, -20), (6, -20), (6, -6), (20, -6), (20, 6), (6, 6), (6, 20), (-6, 20), (-6, 6), (-20, 6),
                     (-20, -6), (-6, -6)], float)  # fmt: skip
    at = [(100, 60), (320, 60), (300, 170), (160, 200)]
    for place in at:
        line = (arms + place).astype(np.int32)
        cv2.fillPoly(sky, [line], (0.72, 0.7, 0.64), cv2.LINE_AA)
        cv2.polylines(sky, [line], True, (0.3, 0.28, 0.25), 1, cv2.LINE_AA)
    sky += np.random.default_rng(8).normal(0, 0.006, sky.shape).astype(np.float32)
    x, y = at[0]
    example = Example(np.ascontiguousarray(sky[y - 28 : y + 28, x - 28 : x + 28]), arms * 1.15 + 28.0)
    found = [one for one in marks_on(sky, example) if one[3] > 0.6]
    for place in at:
        assert min(np.hypot(one[0] - place[0], one[1] - place[1]) for one in found) < 3.0
    assert len(found) <= len(at) + 4  # tips of clouds; by colours alone it is all of their rims


def test_one_example_finds_the_others_on_all_frames(tmp_path):
    """Without a surface, frame by frame, linked: each cross once, keyed on each frame, the example with them."""
    shot, engine = crossed(tmp_path), Engine(10**9)
    found = [one for one in found_marks(engine, shot, shot.fixes[0], shot.fixes[0].cover.parts[0], 1001)
             if one.score > 62]  # fmt: skip
    assert len(found) == len(CROSSES)
    for one in found:
        assert [frame for frame, _ in one.keys] == list(range(1001, 1005))
        for frame, line in one.keys:
            by = 4 * (frame - 1001)
            assert min(np.hypot(*(line.mean(axis=0) - (x - by, y))) for x, y in CROSSES) < 1.5
        part = part_of(one)
        assert part.frames[0].first == 1001


def test_on_a_surface_they_are_there_for_the_whole_shot(tmp_path):
    shot, engine = crossed(tmp_path, by=0), Engine(10**9)
    corners = rectangle(0, 0, WIDTH, HEIGHT)
    surface = Surface(id="wall", name="Wall", home_frame=1001, how=Still(corners=Array(corners)))
    part = shot.fixes[0].cover.parts[0]
    part = replace(part, source=replace(part.source, surface_id="wall"))
    fix = replace(shot.fixes[0], surface_id="wall", cover=Matte(parts=(part,)))
    shot = replace(shot, surfaces=(surface,), fixes=(fix,))
    found = [one for one in found_marks(engine, shot, fix, part, 1001) if one.score > 62]
    assert len(found) == len(CROSSES) - 1  # the example itself is there already
    assert all(one.is_lasting and one.surface_id == "wall" for one in found)
    line = replace(part, source=replace(part.source, shape=replace(part.source.shape, is_closed=False)))
    with pytest.raises(EditError, match="Draw round one"):
        found_marks(engine, shot, fix, line, 1001)
