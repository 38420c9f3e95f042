"""Dirt and marks that find themselves, against where they were drawn."""

import cv2
import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.cover.dirt import dirt_frame, dirt_on
from gommage.core.cover.marks import Example, marks_by_lines, marks_on
from gommage.core.document import Array, Drawn, Fix, Footage, FrameRange, Matte, MattePart, Shot, Still, Surface
from gommage.core.engine import Engine, found_dirt, found_marks, found_scratches, part_of
from gommage.core.picture.writing import write_still
from gommage.errors import Cancelled, EditError, GommageError
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


def test_frames_that_share_memory_tell_the_same_as_frames_of_their_own(reel):
    engine, shot = reel
    gone = replace(shot.footage, missing=(1005,))
    for one, missing in ((shot, ()), (replace(shot, footage=gone), (1005,))):
        own = {frame: dirt_frame(engine.plate(shot.footage, frame)) for frame in FRAMES if frame not in missing}
        expected = []
        for frame in own:
            before, after = own.get(frame - 1), own.get(frame + 1)
            if before is None or after is None:
                before, after = (after, own.get(frame + 2)) if before is None else (before, own.get(frame - 2))
            expected += [(frame, score) for _, score, _ in dirt_on(before, own[frame], after, 4.0)]
        assert [(found.frame, found.score) for found in found_dirt(engine, one)] == expected


def test_looking_for_dirt_can_be_called_off_and_keeps_plates_alone(reel):
    shot, engine, asked = reel[1], Engine(10**9), []

    def check():
        asked.append(1)
        if len(asked) > 6:
            raise Cancelled

    with pytest.raises(Cancelled):
        found_dirt(engine, shot, check=check)
    assert found_dirt(engine, shot)
    # What frames are made ready with, as large as a plate, must not push plates out of the memory.
    plates = len(FRAMES) * WIDTH * HEIGHT * 3 * 4
    assert plates <= engine.cache.held_bytes < 1.1 * plates


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


def test_coarse_grain_is_no_dirt():
    """Grain of scans is coarser than a pixel, and what neighbouring pixels tell of it is a third of what there is."""
    rng, sheet = np.random.default_rng(4), paper()

    def filmed(number, size_px):
        grain = cv2.GaussianBlur(rng.normal(0, 1, (HEIGHT, WIDTH, 1)).astype(np.float32), (0, 0), size_px)[..., None]
        grain *= 0.015 / grain.std()
        picture = sheet[number : number + HEIGHT, 3 * number : 3 * number + WIDTH] + grain
        if number == 1:
            cv2.circle(picture, (150, 120), 4, (0.03, 0.03, 0.03), -1, cv2.LINE_AA)
        return dirt_frame(np.maximum(picture, 0).astype(np.float32))

    for size_px in (0.6, 1.2, 2.0):
        found = dirt_on(*[filmed(number, size_px) for number in range(3)], 4.0)
        assert len(found) <= 4  # hundreds, when the spread is told by neighbouring pixels alone
        surest = max(found, key=lambda one: one[1])
        assert np.hypot(*(surest[0].mean(axis=0) - (150, 120))) < 2.0


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


def drawn_over(sheet, line, colour):
    """Lay a smooth colour within an outline, its edge a little darker, as that of tape is."""
    fine = np.zeros((8 * HEIGHT, 8 * WIDTH), np.uint8)
    points = np.round(8 * line - 0.5).astype(np.int32)
    for value, lay in ((colour, lambda: cv2.fillPoly(fine, [points], 255)),
                       (0.6 * np.float32(colour), lambda: cv2.polylines(fine, [points], True, 255, 10))):  # fmt: skip
        fine[:] = 0
        lay()
        share = cv2.resize(fine, (WIDTH, HEIGHT), interpolation=cv2.INTER_AREA)[..., None] / np.float32(255)
        sheet += share * (np.float32(value) - sheet)


def test_light_tape_on_light_paper_is_found_by_its_rim_and_covered_exactly():
    """Of the paper's own colour, turned, larger, under less light: to half a pixel."""
    arms = np.array([(-7, -24), (7, -24), (7, -7), (24, -7), (24, 7), (7, 7), (7, 24), (-7, 24), (-7, 7), (-24, 7),
                     (-24, -7), (-7, -7)], float)  # fmt: skip
    sheet, turn, middle = cv2.GaussianBlur(paper(6)[:HEIGHT, :WIDTH], (0, 0), 3), np.deg2rad(9), (260.3, 140.8)
    tone = sheet.reshape(-1, 3).mean(axis=0)
    turned = 1.12 * arms @ np.array([[np.cos(turn), np.sin(turn)], [-np.sin(turn), np.cos(turn)]]) + middle
    drawn_over(sheet, arms + (80.0, 90.0), tone)
    drawn_over(sheet, turned, 0.85 * tone)
    example = Example(np.ascontiguousarray(sheet[54:126, 44:116]), 1.1 * arms + 36.0)
    (own, clear), (other, next_clear), *rest = marks_by_lines(
        sheet, np.ones((HEIGHT, WIDTH), bool), example, np.array([44, 54])
    )
    assert own.mean(axis=0) == pytest.approx((80, 90), abs=0.3)
    off = np.hypot(*(other - 1.1 * (turned - middle) - middle).T)
    assert off.max() < 0.5
    assert next_clear > 8
    assert clear > next_clear > 1.3 * max((one[1] for one in rest), default=0)


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


def dotted(folder, places, by_colour):
    """Dots of tape on plaster before a camera that stands, followed as one still surface; one is drawn round."""
    sheet = cv2.GaussianBlur(paper(7), (0, 0), 2)
    for (x, y), colour in zip(places, by_colour, strict=True):
        fine = np.zeros((8 * sheet.shape[0], 8 * sheet.shape[1]), np.uint8)
        cv2.circle(fine, (8 * x, 8 * y), 60, 255, -1)
        share = cv2.resize(fine, sheet.shape[1::-1], interpolation=cv2.INTER_AREA)[..., None] / np.float32(255)
        sheet += share * (np.float32(colour) - sheet)
    for frame in range(1001, 1006):
        seen = sheet[:HEIGHT, :WIDTH] + np.random.default_rng(frame).normal(0, 0.006, (HEIGHT, WIDTH, 3))
        write_still(folder / f"wall.{frame}.exr", np.maximum(seen, 0).astype(np.float16), bits=16)
    footage = Footage(path=str(folder / "wall.####.exr"), frames=FrameRange(first=1001, last=1005), width=WIDTH,
                      height=HEIGHT, colour_space="Linear Rec.709 (sRGB)")  # fmt: skip
    wall = Surface(id="wall", name="Wall", home_frame=1001, how=Still(corners=Array(rectangle(0, 0, WIDTH, HEIGHT))))
    x, y = places[0]
    round_it = rectangle(x - 10, y - 10, x + 10, y + 10)
    part = MattePart(id="x", source=Drawn(shape=shape_of(round_it, 1001, "x"), surface_id="wall"))
    fix = Fix(id="f", name="Marks", surface_id="wall", cover=Matte(parts=(part,)))
    return Shot(id="shot", name="Wall", footage=footage, surfaces=(wall,), fixes=(fix,))


def on_places(found, places):
    """Return for each place whether something that was found lies on it."""
    middles = [one.keys[0][1].mean(axis=0) for one in found]
    return [any(np.hypot(*(middle - place)) < 3 for middle in middles) for place in places]


RED, GREEN = (0.6, 0.08, 0.06), (0.09, 0.26, 0.06)
"""About as bright as each other."""


def test_small_marks_that_stand_close_are_all_found(tmp_path):
    """Dots of 15 px, 24 px apart: none is taken for the example itself."""
    places = [(100 + 24 * (n % 4), 80 + 24 * (n // 4)) for n in range(12)]
    shot, engine = dotted(tmp_path, places, [RED] * 12), Engine(10**9)
    found = [one for one in found_marks(engine, shot, shot.fixes[0], shot.fixes[0].cover.parts[0], 1001)
             if one.score >= 60]  # fmt: skip
    assert on_places(found, places) == [False] + [True] * 11
    assert len(found) == 11


def test_marks_of_another_colour_are_others(tmp_path):
    """Green dots are as bright as the red one that was drawn round, and as round."""
    places = [(60 + 70 * (n % 4), 60 + 60 * (n // 4)) for n in range(12)]
    shot, engine = dotted(tmp_path, places, [RED, GREEN] * 6), Engine(10**9)
    found = [one for one in found_marks(engine, shot, shot.fixes[0], shot.fixes[0].cover.parts[0], 1001)
             if one.score >= 60]  # fmt: skip
    assert on_places(found, places) == [False, False] + [True, False] * 5


def test_a_mark_that_something_held_out_hides_nearly_always_is_found(tmp_path):
    """A board stands before four of the dots on four of five frames: what shows them is the one frame beside."""
    places = [(60 + 70 * (n % 4), 60 + 60 * (n // 4)) for n in range(12)]
    shot, engine = dotted(tmp_path, places, [RED] * 12), Engine(10**9)
    board = rectangle(20, 150, 320, 210)
    rows, columns = slice(150, 210), slice(20, 320)
    for frame in range(1002, 1006):
        picture = engine.plate(shot.footage, frame).copy()
        picture[rows, columns] = np.float32((0.2, 0.15, 0.1))
        write_still(tmp_path / f"wall.{frame}.exr", picture.astype(np.float16), bits=16)
    later = (FrameRange(first=1002, last=1005),)
    held = Matte(parts=(MattePart(id="board", source=Drawn(shape=shape_of(board, 1002)), frames=later),))
    for hold_outs, seen in ((Matte(), [True] * 7 + [False] * 4), (held, [True] * 11)):
        fix = replace(shot.fixes[0], hold_outs=hold_outs)
        found = found_marks(Engine(10**9), replace(shot, fixes=(fix,)), fix, fix.cover.parts[0], 1001)
        assert on_places([one for one in found if one.score >= 60], places)[1:] == seen


def test_a_surface_none_of_whose_frames_can_be_read_is_said_in_words(tmp_path):
    shot, engine = dotted(tmp_path, [(100, 100)], [RED]), Engine(10**9)
    for path in tmp_path.glob("*.exr"):
        path.write_bytes(b"no picture")
    with pytest.raises(GommageError):
        found_marks(engine, shot, shot.fixes[0], shot.fixes[0].cover.parts[0], 1001)
