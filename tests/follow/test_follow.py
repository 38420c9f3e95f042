"""Following against known motions: real-looking texture moved by matrices, with what goes wrong in shots."""

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gommage.core.document import Frames, MotionModel, Surface
from gommage.core.follow import Direction, follow_plane, luminance, with_step
from gommage.core.follow.align import align, make_pyramid, make_template
from gommage.core.follow.sparse import features_of, start_from_features, start_from_neighbour
from gommage.core.picture import Window, apply_matrix, warp
from gommage.errors import Cancelled, FollowError, FootageError, FrameMissingError
from tests.conftest import rectangle, shape_of, texture

SIZE = Window.of(320, 240)
AREA = rectangle(90, 60, 230, 180)
CLEAN_TOLERANCE_PX = 0.01  # grainless: what spline interpolation itself leaves, 0.003 measured
GRAINY_TOLERANCE_PX = 0.06  # 2 % grain on 140 x 120 px of soft texture
EDGE_TOLERANCE_PX = 0.15  # a third of the area seen, or light and blur changed


def around_centre(*, shift=(0, 0), turn_deg=0.0, scale=1.0, shear=0.0, perspective=(0.0, 0.0)):
    """Return a matrix about the middle of the picture."""
    cos, sin = np.cos(np.deg2rad(turn_deg)), np.sin(np.deg2rad(turn_deg))
    inner = np.array(
        [[cos * scale, -sin * scale + shear, shift[0]], [sin * scale, cos * scale, shift[1]], [*perspective, 1]]
    )
    to_centre = np.array([[1, 0, -160], [0, 1, -120], [0, 0, 1.0]])
    return np.linalg.inv(to_centre) @ inner @ to_centre


PLATE = texture(480, 560, seed=1, fine=1.5)
OFFSET = np.array([[1, 0, 120], [0, 1, 120], [0, 0, 1.0]])


def filmed(home_to_frame, grain=0.0, seed=0, light=(1.0, 0.0)):
    """Return a frame: a large painting moved by a matrix, resampled once, with grain."""
    picture, _ = warp(PLATE, OFFSET @ np.linalg.inv(home_to_frame), SIZE)
    picture = picture * light[0] + light[1]
    return (picture + grain * np.random.default_rng(seed).standard_normal(picture.shape)).astype(np.float32)


def corner_error(found, true, corners=AREA):
    return float(np.hypot(*(apply_matrix(found, corners) - apply_matrix(true, corners)).T).mean())


def aligned(true, start=None, motion=MotionModel.PERSPECTIVE, frame=None, **film):
    template = make_template(luminance(filmed(np.eye(3))), AREA)
    picture = filmed(true, **film) if frame is None else frame
    return align(
        template, make_pyramid(luminance(picture), len(template.levels)), np.eye(3) if start is None else start, motion
    )


MOTIONS = {
    MotionModel.SHIFT: around_centre(shift=(5.3, -3.7)),
    MotionModel.SIMILARITY: around_centre(shift=(4, 2), turn_deg=3, scale=1.04),
    MotionModel.AFFINE: around_centre(shift=(3, 1), turn_deg=-2, scale=0.97, shear=0.03),
    MotionModel.PERSPECTIVE: around_centre(shift=(-4, 3), turn_deg=2, scale=1.03, perspective=(2e-4, -1e-4)),
}


@pytest.mark.parametrize("motion", MotionModel)
def test_each_motion_is_found_by_its_model(motion):
    true = MOTIONS[motion]
    found = aligned(true, motion=motion)
    assert corner_error(found.home_to_frame, true) < CLEAN_TOLERANCE_PX
    assert found.correlation > 0.999


@given(
    st.tuples(st.floats(-6, 6), st.floats(-6, 6)), st.floats(-4, 4), st.floats(0.93, 1.07),
    st.tuples(st.floats(-2e-4, 2e-4), st.floats(-2e-4, 2e-4)),
)  # fmt: skip
@settings(max_examples=15, deadline=None)
def test_any_small_motion_is_found(shift, turn, scale, perspective):
    true = around_centre(shift=shift, turn_deg=turn, scale=scale, perspective=perspective)
    assert corner_error(aligned(true).home_to_frame, true) < CLEAN_TOLERANCE_PX


def test_no_motion_is_exact():
    assert corner_error(aligned(np.eye(3)).home_to_frame, np.eye(3)) < 1e-3


def test_grain_costs_what_slip_says():
    """The figure of slip must be of the size of the error: within a factor of two over many grains."""
    true = MOTIONS[MotionModel.PERSPECTIVE]
    runs = [aligned(true, grain=0.02, seed=seed) for seed in range(12)]
    errors = np.array([corner_error(run.home_to_frame, true) for run in runs])
    assert errors.max() < GRAINY_TOLERANCE_PX
    ratio = np.mean([run.slip_px for run in runs]) / np.sqrt((errors**2).mean())
    assert 0.5 < ratio < 3.5  # white grain has less in common between neighbours than the film grain it is set for


@pytest.mark.parametrize("light", [(0.6, 0.0), (1.4, 0.02), (0.9, 0.1)])
def test_light_changes_do_not_move_the_plane(light):
    true = MOTIONS[MotionModel.SIMILARITY]
    assert corner_error(aligned(true, light=light).home_to_frame, true) < CLEAN_TOLERANCE_PX


def test_an_occluder_without_keep_out_is_voted_out():
    true = MOTIONS[MotionModel.SIMILARITY]
    frame = filmed(true)
    frame[70:140, 150:215] = texture(70, 65, seed=99, fine=1.0)
    found = aligned(true, frame=frame)
    assert corner_error(found.home_to_frame, true) < EDGE_TOLERANCE_PX
    assert found.agreeing < 0.95


def test_half_outside_is_followed_by_what_is_left():
    true = around_centre(shift=(165, 0))
    found = aligned(true, start=around_centre(shift=(160, 1)))
    assert corner_error(found.home_to_frame, true) < EDGE_TOLERANCE_PX
    assert 0.2 < found.visible < 0.6


def test_features_give_a_start_across_a_large_jump():
    true = around_centre(shift=(70, -45), turn_deg=18, scale=1.12)
    home, frame = luminance(filmed(np.eye(3))), luminance(filmed(true))
    start = start_from_features(features_of(home, AREA), features_of(frame))
    assert corner_error(start, true) < 2.0  # a start: the alignment takes over from there
    assert start_from_features(features_of(np.zeros((240, 320), np.float32)), features_of(frame)) is None


def test_a_neighbour_gives_a_start():
    true = around_centre(shift=(22, 9), turn_deg=2)
    home, frame = luminance(filmed(np.eye(3))), luminance(filmed(true))
    assert corner_error(start_from_neighbour(home, frame, AREA, np.eye(3)), true) < 2.0
    blank = np.zeros((240, 320), np.float32)
    assert start_from_neighbour(blank, blank, AREA, np.eye(3)) is None


# -- through a shot -----------------------------------------------------------------------------------------


def surface_of(home=1010, motion=MotionModel.PERSPECTIVE):
    return Surface(id="s", name="Wall", home_frame=home, area=shape_of(AREA, home), motion=motion)


def follow(matrices, read=None, **options):
    """Follow from the frame in the middle; `matrices` maps frames to true motions."""
    frames = Frames(first=min(matrices), last=max(matrices))
    reader = read or (lambda frame: filmed(matrices[frame], grain=0.01, seed=frame))
    steps = list(follow_plane(reader, surface_of(), frames, 1010, **options))
    track = None
    for step in steps:
        track = with_step(track, step)
    return track, steps


def path(offsets):
    return {1010 + k: around_centre(shift=(6.0 * k, 2 * k), turn_deg=0.8 * k) for k in offsets}


def test_both_ways_from_the_home_frame():
    matrices = path(range(-5, 6))
    track, _ = follow(matrices)
    assert (track.frames.first, track.frames.last) == (1005, 1015)
    for frame, true in matrices.items():
        assert corner_error(track.matrix(frame), true) < GRAINY_TOLERANCE_PX
    np.testing.assert_array_equal(track.matrix(1010), np.eye(3))
    assert track.before == ""
    assert track.after == ""


def test_one_way_only():
    track, _ = follow(path(range(-3, 4)), direction=Direction.FORWARDS)
    assert (track.frames.first, track.frames.last) == (1010, 1013)


def test_forty_pixels_a_frame():
    matrices = {1010 + k: around_centre(shift=(0, 40 * k)) for k in (-1, 0, 1)}
    track, _ = follow(matrices)
    for frame, true in matrices.items():
        assert corner_error(track.matrix(frame), true) < GRAINY_TOLERANCE_PX


def test_it_ends_where_the_plane_leaves_and_says_so():
    matrices = {1010 + k: around_centre(shift=(55.0 * k, 0)) for k in range(8)}
    track, _ = follow(matrices)
    assert 1012 <= track.frames.last <= 1015
    assert track.after == "the plane has left the picture"


def test_it_ends_where_the_picture_is_another():
    cut = {1010 + k: around_centre(shift=(2.0 * k, 0)) for k in range(8)}

    def read(frame):
        return texture(240, 320, seed=frame) if frame > 1013 else filmed(cut[frame])

    track, _ = follow(cut, read)
    assert track.frames.last == 1013
    assert track.after == "the area is not recognised any more"


def test_a_missing_frame_is_bridged():
    matrices = path(range(6))

    def read(frame):
        if frame == 1012:
            raise FrameMissingError("Frame 1012 is missing.", "x", 1012)
        return filmed(matrices[frame])

    track, _ = follow(matrices, read)
    assert track.frames.last == 1015
    assert corner_error(track.matrix(1012), matrices[1012]) < 1.0  # laid between its neighbours
    assert track.certainty.values[2] == 0
    assert corner_error(track.matrix(1013), matrices[1013]) < CLEAN_TOLERANCE_PX


def test_a_missing_home_frame_is_an_error():
    def read(frame):
        raise FrameMissingError("Frame 1010 is missing.", "x", 1010)

    with pytest.raises(FootageError, match="1010 is missing"):
        follow(path(range(3)), read)


def test_redoing_a_stretch_keeps_the_rest():
    matrices = path(range(6))
    track, steps = follow(matrices)
    again = with_step(track, steps[3])
    np.testing.assert_array_equal(again.home_to_frame.values, track.home_to_frame.values)
    with pytest.raises(ValueError, match="does not touch"):
        with_step(track, type(steps[0])(1030, np.eye(3), 0.0, 1.0))
    assert with_step(None, type(steps[0])(1030, None, 0.0, 0.0, "gone")) is None


def test_it_stops_when_asked():
    calls = 0

    def check():
        nonlocal calls
        calls += 1
        if calls > 4:
            raise Cancelled

    matrices = path(range(6))
    with pytest.raises(Cancelled):
        list(
            follow_plane(lambda f: filmed(matrices[f]), surface_of(), Frames(first=1010, last=1015), 1010, check=check)
        )


@pytest.mark.parametrize(
    ("area", "picture", "words"),
    [
        (rectangle(400, 10, 450, 60), None, "too small or outside"),
        (rectangle(10, 10, 14, 14), None, "too small or outside"),
        (AREA, np.full((240, 320, 3), 0.5, np.float32), "is blank"),
        (np.array([[10.0, 10], [60, 60], [61, 61]]), None, "too few pixels"),
    ],
)
def test_hopeless_areas_are_refused_in_words(area, picture, words):
    frame = filmed(np.eye(3)) if picture is None else picture
    with pytest.raises(FollowError, match=words):
        make_template(luminance(frame), area)


def test_luminance_is_that_of_rec_709():
    assert luminance(np.array([[[1, 0, 0], [0, 1, 0], [0, 0, 1]]], np.float32)).ravel() == pytest.approx(
        [0.2126, 0.7152, 0.0722]
    )


@pytest.mark.slow
def test_more_accurate_than_the_library_s_own_alignment():
    """Against OpenCV's ECC on the same grainy frames, from the same start."""
    ours, theirs = [], []
    home = luminance(filmed(np.eye(3), grain=0.02, seed=100))
    mask = np.zeros(home.shape, np.uint8)
    cv2.fillPoly(mask, [AREA.astype(np.int32)], 255)
    template = make_template(home, AREA)
    for seed in range(6):
        true = around_centre(shift=(3 + seed, -2), turn_deg=1, perspective=(1e-4, 0))
        frame = luminance(filmed(true, grain=0.02, seed=seed))
        found = align(template, make_pyramid(frame, len(template.levels)), np.eye(3), MotionModel.PERSPECTIVE)
        ours.append(corner_error(found.home_to_frame, true))
        start = np.eye(3, dtype=np.float32)
        start[0, 2] = 3 + seed
        stop = (cv2.TERM_CRITERIA_COUNT | cv2.TERM_CRITERIA_EPS, 100, 1e-6)
        _, other = cv2.findTransformECC(home, frame, start, cv2.MOTION_HOMOGRAPHY, stop, mask, 5)
        half = np.array([[1, 0, 0.5], [0, 1, 0.5], [0, 0, 1.0]])
        theirs.append(corner_error(half @ other @ np.linalg.inv(half), true))
    assert np.mean(ours) < np.mean(theirs)
