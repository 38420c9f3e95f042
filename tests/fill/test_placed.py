"""Pictures that are laid on a surface, against the same picture warped by other means."""

import cv2
import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.document import (
    Array,
    Blend,
    Fix,
    Footage,
    FrameOffset,
    FrameRange,
    GrainMatch,
    Match,
    Matte,
    PinnedFrame,
    Placed,
    Project,
    Scribbled,
    ScribbleMark,
    Shot,
    Softness,
    Still,
    Surface,
    edits,
    store,
)
from gommage.core.document.records import MattePart
from gommage.core.engine import Engine, find_picture, near_frame, picture_stamp
from gommage.core.fill.placed import corners_seen
from gommage.core.picture.writing import write_still
from gommage.errors import EditError, FootageError
from tests.conftest import rectangle, shape_of

WIDTH, HEIGHT = 320, 200
LINEAR = "Linear Rec.709 (sRGB)"
QUAD = np.array([[60.0, 40.0], [250.0, 55.0], [240.0, 170.0], [75.0, 160.0]])
NO_GRAIN = Match(grain=GrainMatch(amount=0.0))


def noise(seed, width=WIDTH, height=HEIGHT, blur=3.0):
    rng = np.random.default_rng(seed)
    picture = cv2.GaussianBlur(rng.random((height, width, 3)).astype(np.float32), (0, 0), blur)
    return (picture - picture.min()) / np.ptp(picture) * 0.7 + 0.1


def shot_on(folder, picture, frames=3):
    for frame in range(1001, 1001 + frames):
        write_still(folder / f"wall.{frame}.exr", picture, bits=32)
    footage = Footage(path=str(folder / "wall.####.exr"), frames=FrameRange(first=1001, last=1000 + frames),
                      width=WIDTH, height=HEIGHT, colour_space=LINEAR)  # fmt: skip
    return Shot(id="s", name="Wall", footage=footage)


def laid(shot, fill, *, match=NO_GRAIN, **fields):
    """The shot with one fix that is a picture: what it reaches over is covered, as the window does it."""
    shot = replace(shot, fixes=(Fix(id="f", name="Poster", match=match, **fields),))
    project = edits.lay_picture(Project(shots=(shot,)), "s", "f", fill, "outline", 1001)
    return project.shot("s")


def still(path, picture, corners=QUAD, colour_space=LINEAR, **fields):
    footage = Footage(path=str(path), frames=FrameRange(first=1, last=1), width=picture.shape[1],
                      height=picture.shape[0], colour_space=colour_space, keep_alpha=True)  # fmt: skip
    return Placed(corners=Array(np.array(corners, float)), footage=footage, time=PinnedFrame(frame=1), **fields)


def warped(picture, corners, size=(WIDTH, HEIGHT), finer=8):
    """A picture in a quad by OpenCV at eight times the size, averaged down: sharp, with exact edges."""
    height, width = picture.shape[:2]
    source = np.array([[0, 0], [width, 0], [width, height], [0, height]], np.float32) - 0.5
    matrix = cv2.getPerspectiveTransform(source, (np.array(corners) * finer - 0.5).astype(np.float32))
    large = cv2.warpPerspective(picture, matrix, (size[0] * finer, size[1] * finer), flags=cv2.INTER_CUBIC)
    return cv2.resize(large, size, interpolation=cv2.INTER_AREA)


def psnr(one, other, where):
    return -10 * np.log10(np.mean((one - other)[where] ** 2))


@pytest.fixture
def wall(tmp_path):
    picture = noise(1)
    return shot_on(tmp_path, picture), picture


@pytest.mark.parametrize("kind", ["associated", "straight"])
def test_a_picture_lies_in_its_corners_with_its_alpha(tmp_path, wall, kind):
    shot, below = wall
    picture = noise(2, 240, 150)
    alpha = np.zeros((150, 240), np.float32)
    cv2.circle(alpha, (120, 75), 60, 1.0, -1)
    alpha = cv2.GaussianBlur(alpha, (0, 0), 4)
    if kind == "associated":
        path = tmp_path / "poster.exr"
        write_still(path, picture * alpha[..., None], alpha=alpha, bits=32)
        fill = still(path, picture)
    else:  # colours whole, encoded, as picture editors save them
        from gommage.core.picture.colour import encode

        path, space = tmp_path / "poster.png", "sRGB Encoded Rec.709 (sRGB)"
        stored = encode(picture, space, np.dtype("uint16"))
        write_still(path, stored, alpha=np.round(alpha * 65535).astype(np.uint16), bits=16, is_straight=True)
        fill = still(path, picture, colour_space=space)
    shot = laid(shot, fill)
    result = Engine().result(shot, 1002)
    share = warped(alpha, QUAD)[..., None]
    truth = below + warped(picture * alpha[..., None], QUAD) - below * share
    # 16 bits and two ways of interpolation: a thousandth of the range at most where it shows
    assert psnr(result, truth, share[..., 0] > 0) > 55
    np.testing.assert_array_equal(result[share[..., 0] == 0], below[share[..., 0] == 0])


def test_its_own_edge_is_as_exact_as_a_cover(tmp_path, wall):
    shot, below = wall
    picture = np.full((100, 100, 3), 0.9, np.float32)
    write_still(tmp_path / "card.exr", picture, bits=32)
    result = Engine().result(laid(shot, still(tmp_path / "card.exr", picture)), 1001)
    fine = np.zeros((HEIGHT * 16, WIDTH * 16), np.uint8)
    cv2.fillConvexPoly(fine, np.round(QUAD * 16 - 0.5).astype(np.int32), 255)
    share = cv2.resize(fine, (WIDTH, HEIGHT), interpolation=cv2.INTER_AREA)[..., None] / np.float32(255)
    truth = below * (1 - share) + 0.9 * share
    assert np.abs(result - truth).max() < 0.08  # of 0.8: the truth counts a pixel's area by 16 samples a side


def test_each_blend_meets_what_lies_below_in_linear_light(tmp_path, wall):
    shot, below = wall
    picture = noise(3)
    write_still(tmp_path / "wash.exr", picture, bits=32)
    whole = [[0, 0], [WIDTH, 0], [WIDTH, HEIGHT], [0, HEIGHT]]
    wanted = {
        Blend.OVER: picture, Blend.ADD: below + picture, Blend.MULTIPLY: below * picture,
        Blend.LIGHTER: np.maximum(below, picture), Blend.DARKER: np.minimum(below, picture),
    }  # fmt: skip
    for blend, truth in wanted.items():
        shown = Engine().result(laid(shot, still(tmp_path / "wash.exr", picture, whole, blend=blend)), 1001)
        np.testing.assert_allclose(shown, truth, atol=2e-4, err_msg=blend)  # the splines' own rounding


def test_what_shows_the_shot_is_brought_to_its_light_and_what_does_not_is_left(tmp_path, wall):
    shot, below = wall
    write_still(tmp_path / "patch.exr", below * 0.5, bits=32)
    whole = [[0, 0], [WIDTH, 0], [WIDTH, HEIGHT], [0, HEIGHT]]
    cover = Matte.of(shape_of(rectangle(100, 60, 180, 130), 1001, "c"))
    for is_of_shot, share in ((True, 1.0), (False, 0.5)):
        fill = still(tmp_path / "patch.exr", below, whole, is_of_shot=is_of_shot)
        result = Engine().result(laid(shot, fill, cover=cover), 1001)
        np.testing.assert_allclose(result[70:120, 110:170], below[70:120, 110:170] * share, atol=2e-3)


def test_a_subject_is_cut_out_by_scribbles_in_its_own_pixels(tmp_path, wall):
    shot, below = wall
    picture = np.full((150, 240, 3), (0.1, 0.4, 0.1), np.float32)
    truth = np.zeros((150, 240), np.float32)
    cv2.ellipse(truth, (120, 75), (70, 45), 20, 0, 360, 1.0, -1)
    picture[truth > 0] = (0.7, 0.15, 0.1)
    picture += np.random.default_rng(0).normal(0, 0.004, picture.shape).astype(np.float32)
    write_still(tmp_path / "bug.exr", picture, bits=32)
    inside = ScribbleMark(frame=1, points=Array(np.array([[90.0, 70.0], [150.0, 80.0]])))
    outside = ScribbleMark(
        frame=1, points=Array(np.array([[15.0, 15.0], [220.0, 12.0], [225.0, 140.0], [20.0, 142.0]])), is_inside=False
    )
    subject = Matte(parts=(MattePart(id="m", source=Scribbled(marks=(inside, outside))),))
    result = Engine().result(laid(shot, still(tmp_path / "bug.exr", picture, subject=subject)), 1001)
    share = warped(truth, QUAD)
    far = cv2.dilate((share > 0).view(np.uint8), np.ones((9, 9), np.uint8)) == 0
    np.testing.assert_allclose(result[far], below[far], atol=0.02)  # the edge is as soft as the cut finds it
    red = np.abs(result - (0.7, 0.15, 0.1)).max(axis=-1) < 0.1
    assert (red & (share > 0.5)).sum() / (red | (share > 0.5)).sum() > 0.97


def test_a_still_of_the_shots_size_lies_where_it_was_filmed_and_numbers_frame_on_frame(tmp_path, wall):
    shot, below = wall
    still_path = tmp_path / "touched.exr"
    write_still(still_path, below, bits=32)
    fill = find_picture(shot, None, "", still_path, 1002, lambda: None)
    assert (fill.is_of_shot, fill.time) == (True, PinnedFrame(frame=1))
    np.testing.assert_array_equal(fill.corners.values, shot.footage.bounds.corners)
    for frame in (1001, 1002):
        write_still(tmp_path / f"out.{frame}.exr", below * 0.3 + (frame - 1001) * 0.2, bits=32)
    fill = find_picture(shot, None, "", tmp_path / "out.1001.exr", 1001, lambda: None)
    assert (fill.runs_along, fill.time) == (False, FrameOffset())
    shot = laid(shot, replace(fill, is_of_shot=False))
    for frame, more in ((1001, 0.0), (1002, 0.2)):
        np.testing.assert_allclose(Engine().result(shot, frame), below * 0.3 + more, atol=2e-4)
    np.testing.assert_array_equal(Engine().result(shot, 1003), below)  # there is none for it


def test_another_picture_keeps_its_proportions_over_the_cover(tmp_path, wall):
    shot, _ = wall
    write_still(tmp_path / "sign.png", np.full((50, 100, 3), 200, np.uint8), bits=8)
    fix = Fix(id="f", name="F", cover=Matte.of(shape_of(rectangle(100, 60, 160, 120), 1001, "c")))
    fill = find_picture(shot, fix, "", tmp_path / "sign.png", 1001, lambda: None)
    wanted = [[70, 60], [190, 60], [190, 120], [70, 120]]  # 60 high like the cover, twice as wide, about its middle
    np.testing.assert_allclose(fill.corners.values, wanted, atol=1e-6)


def test_a_frame_of_the_shot_lies_in_register_along_its_surface(tmp_path):
    wide = noise(5, WIDTH + 60)
    for number in range(9):
        write_still(
            tmp_path / f"pan.{1001 + number}.exr",
            np.ascontiguousarray(wide[:, 3 * number : 3 * number + WIDTH]),
            bits=32,
        )
    footage = Footage(path=str(tmp_path / "pan.####.exr"), frames=FrameRange(first=1001, last=1009),
                      width=WIDTH, height=HEIGHT, colour_space=LINEAR)  # fmt: skip
    surface = Surface(id="w", name="Wall", home_frame=1001, how=Still(corners=Array(rectangle(40, 40, 280, 160))))
    shot = Shot(id="s", name="Pan", footage=footage, surfaces=(surface,))
    fill = near_frame(shot, "", 1001, 1005)
    cover = Matte.of(shape_of(rectangle(100, 60, 180, 130), 1001, "c"), softness=Softness())
    moved = replace(fill, corners=Array(footage.bounds.corners + [12.0, 0.0]))  # four frames of 3 px
    result = Engine().result(laid(shot, moved, cover=cover), 1001)
    np.testing.assert_allclose(result, wide[:, :WIDTH], atol=1e-3)
    np.testing.assert_allclose(corners_seen(moved, shot, "", 1001)[0], [12.0, 0.0], atol=1e-9)


def test_the_outline_that_it_covers_comes_along_until_it_is_reshaped(tmp_path, wall):
    shot, below = wall
    write_still(tmp_path / "card.exr", below, bits=32)
    project = Project(shots=(laid(shot, still(tmp_path / "card.exr", below)),))
    moved = edits.change_picture(project, "s", "f", corners=Array(QUAD + 7))
    part = moved.shot("s").fix("f").cover.parts[0]
    np.testing.assert_array_equal(part.source.shape.keys[0].vertices.values[:, :2], QUAD + 7)
    own = edits.change_part(
        moved, "s", part.id, source=replace(part.source, shape=shape_of(rectangle(1, 1, 9, 9), 1001, "o"))
    )
    still_own = edits.change_picture(own, "s", "f", corners=Array(QUAD))
    assert still_own.shot("s").fix("f").cover == own.shot("s").fix("f").cover


def test_what_no_picture_could_be_is_refused_in_words(tmp_path, wall):
    shot, below = wall
    write_still(tmp_path / "card.exr", below, bits=32)
    project = Project(shots=(laid(shot, still(tmp_path / "card.exr", below)),))
    with pytest.raises(EditError, match="corners are no quad"):
        edits.change_picture(project, "s", "f", corners=Array(np.array([[0.0, 0], [5, 5], [10, 10], [0, 10]])))
    drawn = Matte.of(shape_of(rectangle(1, 1, 9, 9), 1001, "d"))
    with pytest.raises(EditError, match="not scribbled"):
        edits.change_picture(project, "s", "f", subject=drawn)
    (tmp_path / "note.txt").write_text("no picture")
    with pytest.raises(FootageError, match=r"note\.txt"):
        find_picture(shot, None, "", tmp_path / "note.txt", 1001, lambda: None)


def test_its_file_is_stored_beside_the_project(tmp_path, wall):
    shot, below = wall
    write_still(tmp_path / "card.exr", below, bits=32)
    project = Project(shots=(laid(shot, still(tmp_path / "card.exr", below)),))
    store.save(project, tmp_path / "wall.gommage")
    assert '"../card.exr"' in (tmp_path / "wall.gommage" / "project.json").read_text()
    again = store.load(tmp_path / "wall.gommage")
    assert again.shot("s").fix("f") == project.shot("s").fix("f")


def test_another_state_of_a_file_is_another_picture_and_is_cut_anew(tmp_path, wall):
    """Its stamp is part of its footage: pixels and what scribbles cut of them come from the new file."""
    shot, below = wall
    picture = np.full((150, 240, 3), 0.1, np.float32)
    picture[40:110, 60:120] = 0.8
    write_still(tmp_path / "card.exr", picture, bits=32)
    inside = ScribbleMark(frame=1, points=Array(np.array([[80.0, 60.0], [100.0, 90.0]])))
    around = np.array([[20.0, 10.0], [220.0, 12.0], [222.0, 140.0], [15.0, 140.0]])
    outside = ScribbleMark(frame=1, points=Array(around), is_inside=False)
    subject = Matte(parts=(MattePart(id="m", source=Scribbled(marks=(inside, outside))),))
    whole = [[0, 0], [240, 0], [240, 150], [0, 150]]
    engine, fill = Engine(), still(tmp_path / "card.exr", picture, whole, subject=subject)
    before = engine.result(laid(shot, fill), 1001)
    np.testing.assert_allclose(before[70, 90], 0.8, atol=0.01)
    picture[40:110, 60:120], picture[55:95, 70:110] = 0.1, 0.5  # smaller, and of another tone
    write_still(tmp_path / "card.exr", picture, bits=32)
    again = replace(fill, footage=replace(fill.footage, stamp="new"))
    after = engine.result(laid(shot, again), 1001)
    np.testing.assert_allclose(after[70, 90], 0.5, atol=0.01)
    np.testing.assert_allclose(after[45, 65], below[45, 65], atol=0.02)  # cut away now, it was the card before


def test_the_stamp_of_numbered_pictures_is_theirs_alone(tmp_path, wall):
    for frame in (1001, 1002):
        write_still(tmp_path / f"out.{frame}.exr", wall[1], bits=32)
    footage = replace(wall[0].footage, path=str(tmp_path / "out.####.exr"))
    first = picture_stamp(footage)
    (tmp_path / "notes.txt").write_text("beside them")
    assert picture_stamp(footage) == first
    write_still(tmp_path / "out.1003.exr", wall[1], bits=32)
    assert picture_stamp(footage) != first
