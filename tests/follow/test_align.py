"""The alignment's parts: masks, small motions, what grain's slopes pass for, light that is held, steps of a follow."""

import cv2
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from gommage.core.document import NOT_SEEN, Array, FrameRange, MotionModel, PointsFollow, Spot, Surface, Track
from gommage.core.follow import Direction, FollowStep, Surroundings
from gommage.core.follow.align import (
    MOTIONS,
    SIMPLER,
    align,
    make_pyramid,
    make_template,
    motion_matrix,
)
from gommage.core.follow.masks import polygon_mask
from gommage.core.follow.sight import Sight, choose_sight, grain_of_slopes
from gommage.core.follow.steps import SpotFound, beginning, unseen, ways, with_spots, with_step
from gommage.core.geometry import Window, apply_matrix, from_matrix, translation
from gommage.core.picture import resample
from tests.conftest import placed_as, plane, rectangle, texture

SIZE = Window.of(200, 150)
AREA = rectangle(40, 30, 160, 120)
PAINTING = texture(260, 320, seed=21, fine=1.5)
CLEAN_TOLERANCE_PX = 0.01  # what spline interpolation itself leaves


def filmed(home_to_frame, grain=0.0, seed=0):
    picture, _ = resample(PAINTING, from_matrix(translation(60, 55) @ np.linalg.inv(home_to_frame)), SIZE)
    return (picture + grain * np.random.default_rng(seed).standard_normal(picture.shape)).astype(np.float32)


def template(picture=None, area=AREA, **fields):
    return make_template(filmed(np.eye(3)) if picture is None else picture, polygon_mask([area], SIZE), **fields)


def error(found, true):
    return float(np.hypot(*(apply_matrix(found, AREA) - apply_matrix(true, AREA)).T).max())


# -- motions ----------------------------------------------------------------------------------------------------


def test_every_motion_leads_to_a_shift_by_simpler_ones():
    for motion in MotionModel:
        steps = 0
        while motion in SIMPLER and steps < len(SIMPLER):
            simpler = SIMPLER[motion]
            assert set(MOTIONS[simpler]) < set(MOTIONS[motion])
            motion, steps = simpler, steps + 1
        assert motion is MotionModel.SHIFT
        assert steps <= 3


@given(st.floats(-0.2, 0.2), st.floats(-5, 5), st.floats(-5, 5))
def test_a_turn_alone_neither_grows_nor_shrinks(turn, dx, dy):
    matrix = motion_matrix(np.array([dx, dy, turn, 0, 0, 0, 0, 0]))
    assert np.linalg.det(matrix[:2, :2]) == pytest.approx(1)
    np.testing.assert_allclose(matrix[:2, 2], (dx, dy))


@pytest.mark.parametrize("motion", MotionModel)
def test_what_is_found_is_of_the_motion_that_was_asked_for(motion):
    """A frame that moved in all ways: each model finds the nearest of its own kind."""
    true = (
        translation(100, 75) @ motion_matrix(np.array([2, 1, 0.03, 0.02, 0.01, 0.01, 1e-4, 0])) @ translation(-100, -75)
    )
    parts = template()
    found = align(parts, make_pyramid(filmed(true), len(parts.levels)), np.eye(3), motion).matrix
    linear = found[:2, :2] / found[2, 2]
    if motion is not MotionModel.PERSPECTIVE:
        np.testing.assert_allclose(found[2, :2], 0, atol=1e-12)
    if motion is MotionModel.SHIFT:
        np.testing.assert_allclose(linear, np.eye(2), atol=1e-9)
    if motion is MotionModel.SHIFT_SCALE:
        np.testing.assert_allclose(linear, linear[0, 0] * np.eye(2), atol=1e-9)
    if motion is MotionModel.SHIFT_TURN:
        np.testing.assert_allclose(linear @ linear.T, np.eye(2), atol=1e-9)
    if motion is MotionModel.SIMILARITY:
        np.testing.assert_allclose(linear @ linear.T, np.linalg.det(linear) * np.eye(2), atol=1e-9)


def test_a_start_on_the_finest_level_alone_is_enough_when_it_is_near():
    true = translation(0.4, -0.3)
    parts = template()
    found = align(parts, make_pyramid(filmed(true), len(parts.levels)), np.eye(3), MotionModel.AFFINE, levels=1)
    assert error(found.matrix, true) < CLEAN_TOLERANCE_PX


# -- masks ------------------------------------------------------------------------------------------------------


def test_masks_hold_what_is_inside_and_at_most_the_rim():
    mask = polygon_mask([rectangle(2, 3, 6, 8)], Window.of(10, 10))
    assert mask[3:8, 2:6].all()
    assert not mask[:2].any()
    assert not mask[:, 8:].any()
    assert mask[4, 3] == 1
    assert mask[9, 9] == mask[0, 0] == 0


def test_masks_of_windows_and_of_points_behind_the_camera():
    whole = polygon_mask([rectangle(20, 20, 60, 50)], Window.of(100, 80))
    part = polygon_mask([rectangle(20, 20, 60, 50)], Window(10, 15, 70, 60))
    np.testing.assert_array_equal(part, whole[15:60, 10:70])
    behind = np.array([[20.0, 20], [np.nan, np.nan], [60, 50], [20, 50]])
    assert polygon_mask([behind], Window.of(100, 80)).any()
    assert not polygon_mask([behind[:2]], Window.of(100, 80)).any()
    half = np.array([[20.0, 20], [np.nan, 5.0], [60, 50], [20, 50]])
    np.testing.assert_array_equal(polygon_mask([half], Window.of(100, 80)), polygon_mask([behind], Window.of(100, 80)))


def test_only_what_is_allowed_is_looked_at():
    """The right half of the frame is another picture; with it left out the rest tells exactly."""
    true = translation(3, 2)
    frame = filmed(true).copy()
    frame[:, 100:] = texture(150, 100, seed=4, fine=1.5)
    parts = template()
    pyramid = make_pyramid(frame, len(parts.levels))
    found = align(parts, pyramid, np.eye(3), MotionModel.SHIFT, allowed=lambda points: points[:, 0] < 94)
    assert error(found.matrix, true) < 3 * CLEAN_TOLERANCE_PX
    assert found.agreeing > 0.9, "what may not be looked at cannot disagree"


# -- grain ------------------------------------------------------------------------------------------------------


def test_grain_s_slopes_are_told_by_filter_and_level():
    rng = np.random.default_rng(5)
    for sigma, level in ((0.6, 0), (1.3, 0), (0.6, 2)):
        picture = cv2.GaussianBlur(rng.standard_normal((400, 400)).astype(np.float32), (0, 0), sigma)
        for _ in range(level):
            picture = cv2.resize(picture, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA)
        slopes = cv2.Sobel(picture, cv2.CV_32F, 1, 0, ksize=3, scale=1 / 8)
        assert slopes.std() == pytest.approx(grain_of_slopes(sigma, level), rel=0.1)
    assert grain_of_slopes(1.3, 0) < grain_of_slopes(0.6, 0)


def test_a_blank_wall_of_grain_does_not_pass_for_texture():
    """Two frames of nothing but grain: what is found is chance, and it must not be called sure."""
    rng = np.random.default_rng(6)
    home, frame = ((0.4 + 0.02 * rng.standard_normal((150, 200, 3))).astype(np.float32) for _ in range(2))
    mask = polygon_mask([AREA], SIZE)
    sight = choose_sight(home, mask)
    parts = make_template(home, mask, AREA, sight)
    pyramid = make_pyramid(frame, len(parts.levels), sight)
    honest = align(parts, pyramid, np.eye(3), MotionModel.PERSPECTIVE)
    assert honest.slip_px > 2
    assert honest.correlation < 0.45
    blind = make_template(home, mask, AREA, Sight(sight.weights, sight.sigma_px, noise=0.0))
    naive = align(blind, make_pyramid(frame, len(blind.levels), sight), np.eye(3), MotionModel.PERSPECTIVE)
    assert honest.slip_px > 2 * naive.slip_px, "without knowing the grain it would look surer"


def test_more_grain_is_less_sure():
    slips = []
    for grain in (0.005, 0.02, 0.08):
        parts = template(filmed(np.eye(3), grain, 1))
        found = align(
            parts, make_pyramid(filmed(np.eye(3), grain, 2), len(parts.levels)), np.eye(3), MotionModel.AFFINE
        )
        slips.append(found.slip_px)
    assert slips == sorted(slips)


# -- light ------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("gain", "offset"), [(0.5, 0.0), (1.8, 0.05)])
def test_light_is_found_with_the_motion(gain, offset):
    true = translation(1.5, -2)
    parts = template()
    found = align(parts, make_pyramid(filmed(true) * gain + offset, len(parts.levels)), np.eye(3), MotionModel.AFFINE)
    assert found.gain == pytest.approx(gain, rel=0.02)
    assert found.offset == pytest.approx(offset, abs=0.02)
    assert error(found.matrix, true) < 2 * CLEAN_TOLERANCE_PX


def test_held_light_is_let_go_once_it_is_settled_what_disagrees():
    parts = template()
    pyramid = make_pyramid(filmed(np.eye(3)) * 0.8, len(parts.levels))
    found = align(parts, pyramid, np.eye(3), MotionModel.SHIFT, light=(1.0, 0.0))
    assert found.gain == pytest.approx(0.8, rel=0.03)


# -- steps ------------------------------------------------------------------------------------------------------


def test_ways_begin_beside_the_start():
    frames = FrameRange(first=1, last=5)
    assert [list(way) for way in ways(3, frames, Direction.BOTH)] == [[4, 5], [2, 1]]
    assert [list(way) for way in ways(3, frames, Direction.FORWARDS)] == [[4, 5]]
    assert [list(way) for way in ways(1, frames, Direction.BACKWARDS)] == [[]]


def step(frame, by=0.0, **fields):
    return FollowStep(frame, translation(by, 0), np.full(4, 0.1), 0.9, **fields)


def test_a_follow_begins_where_the_surface_is_known_else_at_home():
    surface = Surface(id="s", name="S", home_frame=3, how=plane(AREA, 3))
    track = with_step(with_step(None, step(3)), step(4))
    known = Surroundings(placed=placed_as(surface, track))
    assert beginning(surface, 4, known) == 4
    assert beginning(surface, 9, known) == 3
    assert beginning(surface, 9, Surroundings()) == 3


def test_tracks_grow_at_both_ends_and_are_mended_in_the_middle():
    track: Track | None = None
    for frame in (10, 11, 12, 9):
        track = with_step(track, step(frame, frame))
    assert track.frames == FrameRange(first=9, last=12)
    mended = with_step(track, step(11, 99.0, reason="partly hidden"))
    assert mended.row(11)[0, 2] == 99
    assert mended.reasons == ("", "", "partly hidden", "")
    np.testing.assert_array_equal(mended.row(12), track.row(12))
    ended = with_step(mended, FollowStep(13, None, np.full(4, np.inf), 0.0, ended="the plane has left the picture"))
    assert ended.after == "the plane has left the picture"
    assert with_step(ended, step(13)).after == ""


def test_what_is_not_seen_has_a_finite_slip_and_no_place():
    track = with_step(with_step(None, step(1)), unseen(2, np.eye(3)))
    assert track.reasons[1] == NOT_SEEN
    assert np.isfinite(track.corner_slip_px.values).all()
    assert not placed_as(Surface(id="s", name="S", home_frame=1, how=plane(AREA, 1)), track).is_placed(2)


def test_parts_of_a_track():
    track = None
    for frame in range(1, 6):
        track = with_step(track, step(frame, frame))
    part = replace(track, after="gone").part(FrameRange(first=2, last=5))
    assert (part.frames.first, part.after) == (2, "gone")
    assert track.part(FrameRange(first=2, last=3)).row(3)[0, 2] == 3
    with pytest.raises(ValueError, match="not within"):
        track.part(FrameRange(first=0, last=3))


def test_spots_keep_their_way_and_begin_anew_where_they_were_not():
    surface = Surface(id="p", name="P", home_frame=5, how=PointsFollow(spots=(Spot(id="a", x=1, y=2),)))
    for frame in (5, 6, 4, 6):
        surface = with_spots(surface, step(frame, spots={"a": SpotFound(frame, 2.0, 0.9)}))
    path = surface.how.spots[0].path
    assert (path.first_frame, path.positions.values[:, 0].tolist()) == (4, [4, 5, 6])
    far = with_spots(surface, step(50, spots={"a": SpotFound(50.0, 2.0, 0.9)})).how.spots[0].path
    assert (far.first_frame, len(far.certainty)) == (50, 1)
    other = Surface(id="s", name="S", home_frame=5, how=plane(AREA, 5))
    assert with_spots(other, step(5)) is other


def test_a_template_tells_corners_where_it_is_told_to():
    wide = rectangle(0, 0, 200, 150)
    near, far = (
        align(
            parts := template(filmed(np.eye(3), 0.02, 1), corners=corners),
            make_pyramid(filmed(np.eye(3), 0.02, 2), len(parts.levels)), np.eye(3), MotionModel.AFFINE,
        )
        for corners in (AREA, wide)
    )  # fmt: skip
    assert far.slip_px > 1.3 * near.slip_px, "beyond the area errors grow"
    assert Array(near.corner_slip_px).values.shape == (4,)
