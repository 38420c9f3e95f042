"""Merged clean plates: what all frames show of a wall, in one light, as far as any of them reaches."""

import cv2
import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.document import (
    Array,
    Brush,
    CleanPlate,
    Donors,
    Fix,
    Footage,
    FrameRange,
    Frames,
    FromFrame,
    FromPicture,
    GrainMatch,
    Match,
    Matte,
    Merged,
    Painting,
    PinnedFrame,
    Plates,
    Project,
    Shot,
    Softness,
    Source,
    Stroke,
    Surface,
    Tool,
    Track,
    edits,
    placement,
)
from gommage.core.engine import Engine, find_plate, found_sources, write_plate
from gommage.core.fill import canvas_key, merged_window
from gommage.core.fill.merging import continued
from gommage.core.geometry import Window, from_matrix, shift
from gommage.core.picture import resample
from gommage.core.picture.writing import write_still
from gommage.errors import Cancelled, EditError
from tests.conftest import plane, rectangle, shape_of, texture
from tests.fill.test_donors import FRAMES, GRAIN, HEIGHT, MIDDLE, PAN, WALL, WIDTH, clean, filmed, inner, light, psnr

HOME = 1001


@pytest.fixture(scope="module")
def engine():
    return Engine(10**9)


@pytest.fixture(scope="module")
def shot(tmp_path_factory):
    shot = filmed(tmp_path_factory.mktemp("merged"))
    window = merged_window(shot, "wall", HOME)
    plate = CleanPlate(id="plate", name="Wall merged", surface_id="wall", home_frame=HOME, base=Merged(),
                       window=(window.left, window.top, window.right, window.bottom))  # fmt: skip
    return edits.add_clean_plate(Project.of(shot), shot.id, plate).shots[0]


def plate_of(shot):
    return shot.clean_plates[0]


def test_it_reaches_as_far_as_any_frame(shot):
    window = Window(*plate_of(shot).window)
    assert window.left <= 0
    assert window.top <= 0
    assert window.right >= WIDTH + PAN * (len(FRAMES) - 1)
    assert window.width < 2 * WIDTH


def test_the_board_is_left_out_and_the_light_is_the_home_frames(engine, shot):
    """Against the wall itself: within a half of one frame's grain, also where the home frame does not reach."""
    share = engine.merge(shot, plate_of(shot))
    key = canvas_key(shot, plate_of(shot))
    pixels, known = engine.pictures.merged(key)
    assert share == known.mean() > 0.6
    window = key.window
    truth = resample(WALL, shift(20, 10), window).pixels * np.float32(light(HOME))
    off = (pixels - truth)[known]
    assert off.std() < GRAIN / 2
    assert abs(off.mean()) < 0.002
    beyond = np.s_[20:HEIGHT, WIDTH - window.left + 5 : WIDTH - window.left + 20]
    assert known[beyond].any()
    assert np.abs((pixels - truth)[beyond][known[beyond]].mean()) < 0.004


def test_a_fix_is_filled_from_it(engine, shot):
    (fix,) = shot.fixes
    filled = replace(shot, fixes=(replace(fix, fill=Plates(plate_ids=("plate",))),))
    # Its grain is measured on the board, 24 x 60 px: that costs some tenths more.
    for frame in (1005, MIDDLE, 1020):
        where = inner(frame)
        oracle = clean(frame) + np.random.default_rng(9).normal(0, GRAIN, clean(frame).shape)
        found = psnr(engine.result(filled, frame)[where], clean(frame)[where])
        assert found > psnr(oracle[where], clean(frame)[where]) - 1.5


def few(shot):
    """The shot merged from two frames on which the board hides one place."""
    plate = plate_of(shot)
    narrow = replace(
        plate, base=Merged(frames=(Frames(first=MIDDLE, last=MIDDLE + 1),)), home_frame=MIDDLE, window=None
    )
    return replace(shot, clean_plates=(narrow,))


def test_what_no_frame_shows_stays_as_it_is_until_it_is_painted(engine, shot):
    narrow = few(shot)
    key = canvas_key(narrow, plate_of(narrow))
    known = engine.pictures.merged(key)[1]
    left, top, right, bottom = 97, 40, 112, 100
    assert not known[top + 10 : bottom - 10, left + 4 : right - 4].any()
    (fix,) = narrow.fixes
    filled = replace(narrow, fixes=(replace(fix, fill=Plates(plate_ids=("plate",))),))
    where = inner(MIDDLE)
    middle = (slice(where[0].start + 20, where[0].stop - 20), slice(where[1].start + 9, where[1].stop - 9))
    plate = engine.plate(shot.footage, MIDDLE)
    np.testing.assert_array_equal(engine.result(filled, MIDDLE)[middle], plate[middle])
    points = np.array([[(where[1].start + where[1].stop) / 2, y, 1.0] for y in (where[0].start, where[0].stop)])
    stroke = Stroke(id="s", points=Array(points), brush=Brush(tool=Tool.CLONE, size_px=40), source=Source(dx=45.0))
    painted = replace(plate_of(narrow), painting=Painting(strokes=(stroke,)))
    after = engine.result(replace(filled, clean_plates=(painted,)), MIDDLE)
    assert np.abs(after[middle] - plate[middle]).max() > 0.1


def test_what_no_frame_shows_is_continued_from_around_it(engine, shot):
    """It is striped on screen; beneath lies no black hole that a heal would be fitted to, or a spline would ring at."""
    narrow = few(shot)
    pixels, known = engine.pictures.merged(canvas_key(narrow, plate_of(narrow)))
    assert not known.all()
    level = pixels[known].mean()
    assert 0.5 * level < pixels[~known].min() < pixels[~known].max() < 2 * level
    alone = np.zeros((9, 7), bool)
    alone[2, 3] = True
    np.testing.assert_allclose(continued(np.full((9, 7, 3), 0.3, np.float32) * alone[..., None], alone), 0.3, rtol=1e-5)
    nothing = np.zeros((4, 4, 3), np.float32)
    assert continued(nothing, np.zeros((4, 4), bool)) is nothing


@pytest.mark.parametrize("scale", [1.0, 2.0])
def test_sources_are_found_on_a_merged_plate_where_they_are(engine, shot, scale):
    """A plate that is larger than the picture, and finer: a mark copied 30 px to the right is found there."""
    left, top = plate_of(shot).window[:2]
    own = at_scale(shot, scale)
    stroke = Stroke(id="s", points=Array([[40.0, 70.0, 1.0]]), brush=Brush(size_px=60), source=Source(dx=30.0, dy=8.0))
    twin = replace(plate_of(own), painting=Painting(strokes=(stroke,)))
    copied = replace(own, clean_plates=(twin,), fixes=())
    assert (left, top) != (0, 0) or twin.window[2] > WIDTH
    best = found_sources(engine, copied, "plate", HOME, (40.0, 70.0), 8.0)[0]
    assert (best.dx, best.dy, best.frame) == (30, 8, HOME)


def test_the_rest_alone_is_taken_from_a_plate(engine, shot):
    """Donors where there are any, the plate where there are none."""
    (fix,) = shot.fixes
    near = (Frames(first=MIDDLE - 1, last=MIDDLE + 1),)
    alone = replace(fix, fill=Donors(surface_ids=("wall",), frames=near))
    both = replace(fix, fill=replace(alone.fill, rest_plate_ids=("plate",)))
    results = [engine.result(replace(shot, fixes=(one,)), MIDDLE) for one in (alone, both)]
    where = inner(MIDDLE)
    oracle = clean(MIDDLE) + np.random.default_rng(9).normal(0, GRAIN, clean(MIDDLE).shape)
    found = [psnr(result[where], clean(MIDDLE)[where]) for result in results]
    assert found[0] < 20
    assert found[1] > psnr(oracle[where], clean(MIDDLE)[where]) - 1


def test_how_far_it_is_is_told_to_whoever_waits(shot):
    """A project that was opened merges its plates anew: the viewer says so while it waits."""
    engine, told = Engine(10**9), []
    engine.merge(shot, plate_of(shot), told=lambda share: told.append(engine.reading(shot.footage, HOME)))
    assert told[-1] == ("Merging a clean plate", 1.0)
    assert [share for _, share in told] == sorted(share for _, share in told)
    assert engine.reading(shot.footage, HOME) is None


def test_merging_can_be_called_off(shot):
    def stop():
        raise Cancelled

    with pytest.raises(Cancelled):
        Engine(10**9).merge(shot, plate_of(shot), stop)


# -- finer than the shot ------------------------------------------------------------------------------------


NEARER = 2.0
FAR, NEAR = 1001, 1012


@pytest.fixture(scope="module")
def nearing(tmp_path_factory):
    """A camera that comes nearer to a wall of fine texture, until it shows it twice as large; and the wall itself."""
    folder = tmp_path_factory.mktemp("nearing")
    wall = texture(400, 520, seed=6, fine=1.1)
    frames = range(FAR, NEAR + 1)
    sizes = np.geomspace(1, NEARER, len(frames))
    middle = np.array([130.0, 100.0])
    matrices = []
    for frame, size in zip(frames, sizes, strict=True):
        matrix = np.array([[size, 0, middle[0] * (1 - size)], [0, size, middle[1] * (1 - size)], [0, 0, 1.0]])
        matrices.append(matrix)
        seen = wall_on(wall, matrix)
        noisy = seen + np.random.default_rng(frame).normal(0, 0.004, seen.shape)
        write_still(folder / f"near.{frame}.exr", noisy.astype(np.float16), bits=16)
    footage = Footage(path=str(folder / "near.####.exr"), frames=FrameRange(first=FAR, last=NEAR), width=260,
                      height=200, colour_space="Linear Rec.709 (sRGB)")  # fmt: skip
    track = Track(first_frame=FAR, home_to_frame=Array(np.stack(matrices)), certainty=Array(np.ones(len(frames))),
                  corner_slip_px=Array(np.zeros((len(frames), 4))), reasons=("",) * len(frames))  # fmt: skip
    surface = Surface(id="wall", name="Wall", home_frame=FAR, how=plane(rectangle(5, 5, 255, 195)), track=track)
    plate = CleanPlate(id="plate", name="Wall merged", surface_id="wall", home_frame=FAR, base=Merged())
    cover = Matte.of(shape_of(rectangle(100, 70, 160, 130), FAR, "cover"), surface_id="wall", softness=Softness())
    match = Match(grain=GrainMatch(amount=0.0), sharpness_px=0.0)
    fix = Fix(id="f", name="Spot", surface_id="wall", cover=cover, fill=Plates(plate_ids=("plate",)), match=match,
              frames=(Frames(first=NEAR),))  # fmt: skip
    shot = Shot(id="shot", name="Nearing", footage=footage, surfaces=(surface,), fixes=(fix,), clean_plates=(plate,))
    return shot, wall


def wall_on(wall, matrix):
    """Return the wall, which is twice as fine as the first frame, as a frame shows it: each pixel a mean."""
    fine = NEARER * 2
    from_fine = np.array([[2 / fine, 0, 0], [0, 2 / fine, 0], [0, 0, 1.0]])
    window = Window.of(260 * 2, 200 * 2)
    twice = from_matrix(np.diag([2.0, 2.0, 1.0]) @ matrix @ from_fine)
    large = resample(wall, twice.inverse(), window).pixels
    return large.reshape(200, 2, 260, 2, 3).mean(axis=(1, 3))


def at_scale(shot, scale):
    return replace(shot, clean_plates=(replace(shot.clean_plates[0], scale=scale),))


def test_a_plate_of_twice_the_resolution_keeps_what_nearer_frames_show(nearing):
    """Home is far away; brought to the frame that is nearest, the plain plate is soft, the finer one is not."""
    shot, wall = nearing
    placed = placement(shot, shot.surfaces[0])
    truth = wall_on(wall, placed.home_to_frame(NEAR).matrix)
    engine, where = Engine(10**9), np.s_[70:130, 100:160]
    found = {}
    for scale in (1.0, 2.0):
        own = at_scale(shot, scale)
        key = canvas_key(own, plate_of(own))
        assert engine.pictures.canvas(key).bounds == Window.of(round(260 * scale), round(200 * scale))
        found[scale] = psnr(engine.result(own, NEAR)[where], truth[where])
    assert found[2.0] > found[1.0] + 4
    half = engine.result(at_scale(shot, 2.0), NEAR, scale=0.5)
    small = truth.reshape(100, 2, 130, 2, 3).mean(axis=(1, 3))
    assert psnr(half[35:65, 50:80], small[35:65, 50:80]) > 38


def test_strokes_on_a_finer_plate_lie_where_they_were_painted(nearing):
    shot, _ = nearing
    points = np.array([[110.0, 100.0, 1.0], [150.0, 100.0, 1.0]])
    stroke = Stroke(id="s", points=Array(points), brush=Brush(tool=Tool.COLOUR, size_px=12, colour=(1.0, 0.0, 0.0)))
    seen = []
    for scale in (1.0, 2.0):
        own = at_scale(shot, scale)
        painted = replace(plate_of(own), painting=Painting(strokes=(stroke,)))
        result = Engine(10**9).result(replace(own, clean_plates=(painted,)), NEAR)
        seen.append(np.argwhere(result[..., 0] - result[..., 1] > 0.5).mean(axis=0))
    np.testing.assert_allclose(seen[0], seen[1], atol=0.5)
    np.testing.assert_allclose(seen[0], (100, 130), atol=2)  # where exactly red outweighs the texture


def test_a_clone_on_a_finer_plate_takes_from_the_same_place(nearing):
    shot, _ = nearing
    points = np.array([[130.0, 100.0, 1.0]])
    beside = Stroke(id="s", points=Array(points), brush=Brush(size_px=40), source=Source(dx=40.0))
    other = replace(beside, source=Source(dx=40.0, time=PinnedFrame(frame=FAR)))
    for stroke in (beside, other):
        results = []
        for scale in (1.0, 2.0):
            own = at_scale(shot, scale)
            painted = replace(plate_of(own), painting=Painting(strokes=(stroke,)))
            results.append(Engine(10**9).result(replace(own, clean_plates=(painted,)), NEAR)[85:115, 115:145])
        blurred = [cv2.GaussianBlur(one, (0, 0), 2.0) for one in results]
        np.testing.assert_allclose(*blurred, atol=0.03)


def test_a_finer_plate_goes_out_and_comes_back(nearing, tmp_path):
    shot, _ = nearing
    engine, own = Engine(10**9), at_scale(shot, 2.0)
    path = tmp_path / "fine.exr"
    write_plate(engine, own, plate_of(own), path)
    found = find_plate(engine, own, path)
    assert (found.home_frame, found.surface_id, found.scale, found.is_told) == (FAR, "wall", 2.0, True)
    back = replace(plate_of(own), base=FromPicture(path=str(path)), scale=found.scale)
    results = [engine.result(replace(own, clean_plates=(one,)), NEAR) for one in (plate_of(own), back)]
    np.testing.assert_allclose(*results, atol=2e-3)  # half floats


def test_a_plate_of_a_frame_has_no_other_scale(nearing):
    shot, _ = nearing
    plain = replace(plate_of(shot), id="q", base=FromFrame(), scale=2.0)
    with pytest.raises(EditError, match="another scale"):
        edits.add_clean_plate(Project.of(shot), shot.id, plain)
