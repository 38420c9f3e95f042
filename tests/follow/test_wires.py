"""Wires that find themselves and are followed, against where they were drawn."""

from itertools import pairwise

import cv2
import numpy as np
import pytest

from gommage.core.document import (
    Drawn,
    Fix,
    Footage,
    FrameRange,
    Matte,
    MattePart,
    Project,
    Shape,
    ShapeKey,
    Shot,
    edits,
    outline,
)
from gommage.core.document import VertexKind as Kind
from gommage.core.engine import Engine, follow_line, snapped_line, with_line
from gommage.core.engine.doubts import doubts_of
from gommage.core.follow.wires import find_wire, wire_again
from gommage.core.picture.writing import write_still
from gommage.errors import EditError, FollowError
from tests.conftest import rectangle, shape_of

WIDTH, HEIGHT, GRAIN, GAMMA = 560, 260, 0.008, 2.2


def scenery(seed=5):
    """Rough paper with edges of other papers on it, encoded."""
    rng = np.random.default_rng(seed)
    picture = cv2.GaussianBlur(rng.normal(0, 1, (HEIGHT, WIDTH + 80, 3)).astype(np.float32), (0, 0), 3) * 0.25 + 0.5
    for _ in range(14):
        at, size = rng.integers(0, (WIDTH + 80, HEIGHT)), rng.integers(30, 110, 2)
        tone = rng.uniform(0.3, 0.7, 3)
        cv2.rectangle(picture, tuple(map(int, at)), tuple(map(int, at + size)), tone.tolist(), -1)
    return np.clip(cv2.GaussianBlur(picture, (0, 0), 0.8), 0, 1)


def hanging(y0, y1, sag, left=8, right=WIDTH - 8):
    """Many points along a wire."""
    u = np.linspace(0, 1, 800)
    return np.column_stack([left + u * (right - left), y0 + (y1 - y0) * u + sag * 4 * u * (1 - u)])


def drawn(picture, line, width_px, tone, seed=0):
    """The picture with a wire, its edge smooth, with grain; scene-linear."""
    big = np.zeros((4 * HEIGHT, 4 * WIDTH), np.uint8)
    cv2.polylines(big, [np.round((line * 4 - 0.5) * 16).astype(np.int32)], False, 255, round(4 * width_px),
                  cv2.LINE_AA, 4)  # fmt: skip
    share = cv2.resize(big, (WIDTH, HEIGHT), interpolation=cv2.INTER_AREA)[..., None] / 255
    seen = picture[:, :WIDTH] * (1 - share) + np.float32(tone) * share
    seen = seen + np.random.default_rng(seed).normal(0, GRAIN, seen.shape)
    return (np.clip(seen, 0, None) ** GAMMA).astype(np.float32)


def off(points, line):
    """By how much a line misses another: mean and most, across it."""
    kinds = (Kind.SMOOTH,) * len(points)
    found = outline(np.hstack([points, np.zeros((len(points), 6))]), kinds, is_closed=False)
    found = np.vstack([np.linspace(one, two, 8) for one, two in pairwise(found)])
    found = found[(found[:, 0] > 16) & (found[:, 0] < WIDTH - 16)]
    by = np.abs(np.interp(found[:, 0], line[:, 0], line[:, 1]) - found[:, 1])
    return by.mean(), by.max()


@pytest.mark.parametrize(("width_px", "tone"), [(2, 0.1), (3, 0.1), (3, 0.95), (6, 0.15)])
def test_two_clicks_near_a_wire_find_it(width_px, tone):
    """Clicks up to 3 px off, a sag that they do not tell: within .3 px of it, and about as wide as it is."""
    line = hanging(70, 120, 30)
    picture = drawn(scenery(), line, width_px, tone)
    clicks = line[[4, -5]] + np.random.default_rng(1).uniform(-3, 3, (2, 2))
    wire = find_wire(picture, clicks)
    assert off(wire.points, line)[0] < 0.3
    assert wire.width_px == pytest.approx(width_px, abs=1.0)


def test_a_coloured_wire_as_light_as_what_is_behind_it_is_found():
    line = hanging(90, 100, 12)
    grey = np.full((HEIGHT, WIDTH + 80, 3), 0.5) + 0.02 * scenery(3)
    picture = drawn(grey, line, 3, (0.62, 0.45, 0.5))
    assert off(find_wire(picture, line[[4, -5]] + 2).points, line)[0] < 0.4


def test_where_there_is_none_none_is_found():
    flat = np.full((HEIGHT, WIDTH, 3), 0.3) + np.random.default_rng(2).normal(0, 0.01, (HEIGHT, WIDTH, 3))
    wire = find_wire(flat.astype(np.float32), np.array([[20.0, 80.0], [500.0, 120.0]]))
    assert wire is None or wire.contrast.mean() < 0.01


def test_it_is_found_again_and_said_where_it_is_not():
    line, paper = hanging(70, 120, 30), scenery()
    wire = find_wire(drawn(paper, line, 3, 0.1), line[[4, -5]])
    moved = hanging(74, 116, 33)
    again = wire_again(drawn(paper[:, 3:], moved, 3, 0.1, 1), wire, wire.points)
    assert not again.doubt
    assert off(again.points, moved)[0] < 0.3
    gone = (np.clip(paper[:, :WIDTH], 0, 1) ** GAMMA).astype(np.float32)
    lost = wire_again(gone, again, again.points)
    assert lost.doubt
    np.testing.assert_array_equal(lost.points, again.points)


# -- over a shot --------------------------------------------------------------------------------------------

FRAMES, HIDDEN = range(1001, 1013), (1006, 1007)


def swinging(frame):
    return hanging(70 + 4 * np.sin(0.6 * (frame - 1001)), 120 - 1.5 * (frame - 1001), 30)


@pytest.fixture(scope="module")
def filmed(tmp_path_factory):
    """A wire that swings before papers that drift; on two frames something hides it."""
    folder, paper = tmp_path_factory.mktemp("wire"), scenery()
    for frame in FRAMES:
        picture = drawn(paper[:, 2 * (frame - 1001) :], swinging(frame), 3, 0.1, frame)
        if frame in HIDDEN:
            picture[40:200] = 0.2 + 0.01 * np.random.default_rng(frame).normal(0, 1, (160, WIDTH, 3))
        write_still(folder / f"wire.{frame}.exr", picture.astype(np.float16), bits=16)
    footage = Footage(path=str(folder / "wire.####.exr"), frames=FrameRange(first=1001, last=1012), width=WIDTH,
                      height=HEIGHT, colour_space="Linear Rec.709 (sRGB)")  # fmt: skip
    ends = swinging(1001)[[4, -5]] + (1.5, -2.0)
    shape = Shape(id="line", keys=(ShapeKey.of(1001, ends),), kinds=(Kind.SMOOTH,) * 2, is_closed=False)
    part = MattePart(id="line", source=Drawn(shape=shape))
    shot = Shot(id="shot", name="Wire", footage=footage, fixes=(Fix(id="f", name="Wire", cover=Matte(parts=(part,))),))
    return Engine(10**9), Project(shots=(shot,))


def test_a_line_is_followed_and_what_is_hidden_is_told(filmed):
    engine, project = filmed
    shot = project.shots[0]
    part = snapped_line(engine, shot, shot.fixes[0].cover.parts[0], 1001)
    assert part.grow_px == pytest.approx(2.5, abs=1.2)
    steps = tuple(follow_line(engine, shot, part, 1001))
    assert {step.frame for step in steps if step.key is None} == set(HIDDEN)
    missed = [off(step.key.points, swinging(step.frame))[0] for step in steps if step.key is not None]
    assert np.mean(missed) < 0.25
    assert max(missed) < 0.5
    snapped = edits.change_part(project, "shot", "line", source=part.source, grow_px=part.grow_px)
    after = with_line(snapped, "shot", "line", steps)
    keys = after.shots[0].fixes[0].cover.shapes[0].keys
    assert [key.frame for key in keys] == [frame for frame in FRAMES if frame not in HIDDEN]
    assert any("1006 to 1007" in words for words, _ in doubts_of(after.shots[0], after.shots[0].fixes[0]))


def test_a_key_by_hand_is_kept_and_gone_on_from(filmed):
    engine, project = filmed
    shot = project.shots[0]
    part = snapped_line(engine, shot, shot.fixes[0].cover.parts[0], 1001)
    shape = part.source.shape
    line = swinging(1008)
    at = np.linspace(0, len(line) - 1, len(shape.kinds)).astype(int)
    snapped = edits.change_part(project, "shot", "line", source=part.source, grow_px=part.grow_px)
    keyed = edits.set_shape_key(snapped, "shot", "line", ShapeKey.of(1008, line[at]))
    steps = tuple(follow_line(engine, keyed.shots[0], keyed.shots[0].fixes[0].cover.parts[0], 1001))
    after = with_line(keyed, "shot", "line", steps).shots[0].fixes[0].cover.shapes[0]
    assert not after.key_at(1008).is_measured
    assert off(after.key_at(1010).points, swinging(1010))[0] < 0.3


def test_what_is_no_line_is_refused_in_words(filmed):
    engine, project = filmed
    shot = project.shots[0]
    area = MattePart(id="a", source=Drawn(shape=shape_of(rectangle(10, 10, 60, 60), 1001, "a")))
    with pytest.raises(EditError, match="open line"):
        snapped_line(engine, shot, area, 1001)
    far = Shape(id="x", keys=(ShapeKey.of(1001, [[-900.0, -900.0], [-700.0, -800.0]]),), kinds=(Kind.SMOOTH,) * 2,
                is_closed=False)  # fmt: skip
    with pytest.raises(FollowError, match="out of the picture"):
        snapped_line(engine, shot, MattePart(id="x", source=Drawn(shape=far)), 1001)


@pytest.mark.parametrize("lower_end", [910.0, 878.0])
def test_a_wire_clicked_some_way_from_the_border_goes_on_where_it_is_seen_to(tmp_path, lower_end):
    """Twenty pixels are the width of a fingertip in a viewer; a wire that ends there is left as long as it is."""
    rng = np.random.default_rng(2)
    picture = 0.5 + 0.1 * cv2.GaussianBlur(rng.normal(0, 1, (900, 900, 3)).astype(np.float32), (0, 0), 3)
    u = np.linspace(-10, lower_end, 500)
    line = np.column_stack([120 + 0.06 * u + 12 * np.sin(u / 300), u])
    big = np.zeros((1800, 1800), np.uint8)
    cv2.polylines(big, [np.round(2 * line).astype(np.int32)], False, 255, 6, cv2.LINE_AA)
    share = cv2.resize(big, (900, 900), interpolation=cv2.INTER_AREA)[..., None] / np.float32(255)
    seen = picture + share * (0.1 - picture) + rng.normal(0, GRAIN, picture.shape)
    write_still(tmp_path / "one.1001.exr", (np.clip(seen, 0, None) ** GAMMA).astype(np.float16), bits=16)
    footage = Footage(path=str(tmp_path / "one.####.exr"), frames=FrameRange(first=1001, last=1001), width=900,
                      height=900, colour_space="Linear Rec.709 (sRGB)")  # fmt: skip
    ends = line[[np.abs(u - 8).argmin(), np.abs(u - 878).argmin()]]
    shape = Shape(id="line", keys=(ShapeKey.of(1001, ends),), kinds=(Kind.SMOOTH,) * 2, is_closed=False)
    part = snapped_line(
        Engine(10**9), Shot(id="s", name="W", footage=footage), MattePart(id="line", source=Drawn(shape=shape)), 1001
    )
    points = part.source.shape.keys[0].points
    assert points[0, 1] < 0  # eight pixels: it leaves the picture whatever is seen
    assert (points[-1, 1] > 900) == (lower_end > 900)
