"""Following against known motions: real-looking texture moved by matrices, with what goes wrong in shots."""

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from gommage.core.document import (
    Array,
    Channel,
    FrameRange,
    Matte,
    MotionModel,
    Pin,
    PlaneFollow,
    ShapeKey,
    Surface,
)  # fmt: skip
from gommage.core.follow import Direction, Surroundings, follow_plane, stretches, with_step
from gommage.core.follow.align import align, make_pyramid, make_template
from gommage.core.follow.masks import polygon_mask
from gommage.core.follow.sight import choose_sight, noise_of
from gommage.core.follow.sparse import features_of, start_from_features, start_from_neighbour
from gommage.core.geometry import Window, apply_matrix, from_matrix
from gommage.core.picture import luminance, resample
from gommage.errors import Cancelled, FollowError, FootageError, FrameMissingError
from tests.conftest import placed_as, rectangle, shape_of, texture

SIZE = Window.of(320, 240)
FRAMES = FrameRange(first=1010, last=1015)
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
    picture, _ = resample(PLATE, from_matrix(OFFSET @ np.linalg.inv(home_to_frame)), SIZE)
    picture = picture * light[0] + light[1]
    return (picture + grain * np.random.default_rng(seed).standard_normal(picture.shape)).astype(np.float32)


def corner_error(found, true, corners=AREA):
    return float(np.hypot(*(apply_matrix(found, corners) - apply_matrix(true, corners)).T).mean())


def template_of(picture, area=AREA):
    return make_template(picture, polygon_mask([area], SIZE), area if len(area) == 4 else None)


def aligned(true, start=None, motion=MotionModel.PERSPECTIVE, frame=None, home_seed=None, grain=0.0, **film):
    home = filmed(np.eye(3)) if home_seed is None else filmed(np.eye(3), grain=grain, seed=home_seed)
    template = template_of(home)
    picture = filmed(true, grain=grain, **film) if frame is None else frame
    return align(template, make_pyramid(picture, len(template.levels)), np.eye(3) if start is None else start, motion)


MOTIONS = {
    MotionModel.SHIFT: around_centre(shift=(5.3, -3.7)),
    MotionModel.SHIFT_SCALE: around_centre(shift=(-2, 3), scale=1.05),
    MotionModel.SHIFT_TURN: around_centre(shift=(3, 3), turn_deg=-4),
    MotionModel.SIMILARITY: around_centre(shift=(4, 2), turn_deg=3, scale=1.04),
    MotionModel.AFFINE: around_centre(shift=(3, 1), turn_deg=-2, scale=0.97, shear=0.03),
    MotionModel.PERSPECTIVE: around_centre(shift=(-4, 3), turn_deg=2, scale=1.03, perspective=(2e-4, -1e-4)),
}


@pytest.mark.parametrize("motion", MotionModel)
def test_each_motion_is_found_by_its_model(motion):
    true = MOTIONS[motion]
    found = aligned(true, motion=motion)
    assert corner_error(found.matrix, true) < CLEAN_TOLERANCE_PX
    assert found.correlation > 0.999


@given(
    st.tuples(st.floats(-6, 6), st.floats(-6, 6)), st.floats(-4, 4), st.floats(0.93, 1.07),
    st.tuples(st.floats(-2e-4, 2e-4), st.floats(-2e-4, 2e-4)),
)  # fmt: skip
@settings(max_examples=15)
def test_any_small_motion_is_found(shift, turn, scale, perspective):
    true = around_centre(shift=shift, turn_deg=turn, scale=scale, perspective=perspective)
    assert corner_error(aligned(true).matrix, true) < CLEAN_TOLERANCE_PX


def test_no_motion_is_exact():
    assert corner_error(aligned(np.eye(3)).matrix, np.eye(3)) < 1e-3


@pytest.mark.parametrize("motion", [MotionModel.PERSPECTIVE, MotionModel.SHIFT])
def test_grain_costs_what_slip_says(motion):
    """Over many grains, 63 of a hundred corners lie within one slip and 98 within two, if slip is what it says."""
    true = MOTIONS[motion]
    runs = [aligned(true, motion=motion, grain=0.03, seed=seed, home_seed=500 + seed) for seed in range(40)]
    off = np.array([np.hypot(*(apply_matrix(r.matrix, AREA) - apply_matrix(true, AREA)).T) for r in runs])
    share = off / np.array([run.corner_slip_px for run in runs])
    assert off.max() < 4 * GRAINY_TOLERANCE_PX  # grain half as strong again, and the worst of 160 corners
    assert 0.7 < np.sqrt((share**2).mean()) < 1.3  # 160 corners, but 40 grains: a tenth off by chance
    assert 0.45 < (share < 1).mean() < 0.9
    assert (share < 2).mean() > 0.9


def test_a_hole_and_an_odd_shape_make_a_template():
    ring = polygon_mask([AREA], SIZE) & (1 - polygon_mask([rectangle(130, 90, 190, 150)], SIZE))
    template = make_template(filmed(np.eye(3)), ring)
    true = MOTIONS[MotionModel.AFFINE]
    found = align(template, make_pyramid(filmed(true), len(template.levels)), np.eye(3), MotionModel.AFFINE)
    assert corner_error(found.matrix, true) < CLEAN_TOLERANCE_PX
    inside = template.levels[0].points
    assert not ((inside > (131, 91)) & (inside < (189, 149))).all(axis=1).any()


def test_a_window_of_the_frame_gives_what_the_whole_gives():
    true = MOTIONS[MotionModel.SHIFT]
    template = template_of(filmed(np.eye(3)))
    levels = len(template.levels)
    whole = align(template, make_pyramid(filmed(true), levels), np.eye(3), MotionModel.SHIFT)
    part = make_pyramid(filmed(true), levels, window=Window(61, 33, 270, 213))
    np.testing.assert_allclose(align(template, part, np.eye(3), MotionModel.SHIFT).matrix, whole.matrix, atol=1e-3)


def test_light_that_slopes_over_the_area_does_not_move_the_plane():
    true = MOTIONS[MotionModel.SIMILARITY]
    slope = np.linspace(0.7, 1.3, 320, dtype=np.float32)[None, :, None]
    found = aligned(true, frame=filmed(true) * slope)
    assert corner_error(found.matrix, true) < 2 * CLEAN_TOLERANCE_PX


def test_motion_blur_does_not_move_the_plane():
    """Frames blurred by 9 px in all directions: the middle stays, and what the blur costs is told."""
    middles, shares = [], []
    for turn in np.linspace(0, np.pi, 8, endpoint=False):
        way = 9 * np.array([np.cos(turn), np.sin(turn)])
        shutter = [around_centre(shift=np.array((4, 2)) + way * t) for t in np.linspace(-0.5, 0.5, 9)]
        blurred = np.mean([filmed(moment) for moment in shutter], axis=0).astype(np.float32)
        true = around_centre(shift=(4, 2))
        found = aligned(true, frame=blurred)
        off = apply_matrix(found.matrix, AREA) - apply_matrix(true, AREA)
        middles.append(off.mean(axis=0))
        shares.append(np.hypot(*off.T).mean() / found.slip_px)
    assert np.abs(np.mean(middles, axis=0)).max() < 0.0125 * 9  # what chance leaves of one texture's own lopsidedness
    assert max(shares) < 2.5


def test_the_channel_with_most_texture_over_grain_is_taken():
    rng = np.random.default_rng(0)
    picture = np.full((96, 96, 3), 0.4, np.float32)
    picture[..., 2] += texture(96, 96, seed=4)[..., 0] - 0.4
    picture += 0.01 * rng.standard_normal(picture.shape).astype(np.float32)
    mask = np.ones((96, 96), np.uint8)
    assert choose_sight(picture, mask).weights[2] > 0.95
    assert choose_sight(picture, mask, Channel.GREEN).weights == (0.0, 1.0, 0.0)
    grey = np.repeat(texture(96, 96, seed=4)[..., :1], 3, axis=2)
    grey = grey + 0.01 * rng.standard_normal((96, 96, 3)).astype(np.float32)
    assert choose_sight(grey, mask).weights == pytest.approx((1 / 3, 1 / 3, 1 / 3), abs=0.01)


def test_noise_is_measured_and_filtered_as_far_as_it_needs():
    rng = np.random.default_rng(1)
    mask = np.ones((128, 128), np.uint8)
    soft = texture(128, 128, seed=2, fine=4.0)
    for deviation in (0.005, 0.05):
        grainy = soft + deviation * rng.standard_normal(soft.shape).astype(np.float32)
        assert noise_of(np.ascontiguousarray(grainy[..., 1]), mask) == pytest.approx(deviation, rel=0.2)
    calm, rough = choose_sight(soft, mask), choose_sight(grainy, mask)
    assert calm.sigma_px < rough.sigma_px


@pytest.mark.parametrize("light", [(0.6, 0.0), (1.4, 0.02), (0.9, 0.1)])
def test_light_changes_do_not_move_the_plane(light):
    true = MOTIONS[MotionModel.SIMILARITY]
    assert corner_error(aligned(true, light=light).matrix, true) < CLEAN_TOLERANCE_PX


def test_an_occluder_without_keep_out_is_voted_out():
    true = MOTIONS[MotionModel.SIMILARITY]
    frame = filmed(true)
    frame[70:140, 150:215] = texture(70, 65, seed=99, fine=1.0)
    found = aligned(true, frame=frame)
    assert corner_error(found.matrix, true) < EDGE_TOLERANCE_PX
    assert found.agreeing < 0.95


def test_half_outside_is_followed_by_what_is_left():
    true = around_centre(shift=(165, 0))
    found = aligned(true, start=around_centre(shift=(160, 1)))
    assert corner_error(found.matrix, true) < EDGE_TOLERANCE_PX
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


def riding(*shapes):
    return Matte.of(*shapes, surface_id="s")


def surface_of(home=1010, areas=None, pins=(), **fields):
    areas = areas or riding(shape_of(AREA, home, "area"))
    return Surface(id="s", name="Wall", home_frame=home, how=PlaneFollow(areas=areas, **fields), pins=pins)


def follow(matrices, read=None, surface=None, start=1010, **options):
    """Follow from the frame in the middle; `matrices` maps frames to true motions."""
    frames = FrameRange(first=min(matrices), last=max(matrices))
    reader = read or (lambda frame: filmed(matrices[frame], grain=0.01, seed=frame))
    steps = list(follow_plane(reader, surface or surface_of(), frames, start, **options))
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
        assert corner_error(track.row(frame), true) < GRAINY_TOLERANCE_PX
    np.testing.assert_array_equal(track.row(1010), np.eye(3))
    assert track.before == ""
    assert track.after == ""


def test_one_way_only():
    track, _ = follow(path(range(-3, 4)), direction=Direction.FORWARDS)
    assert (track.frames.first, track.frames.last) == (1010, 1013)


def test_forty_pixels_a_frame():
    matrices = {1010 + k: around_centre(shift=(0, 40 * k)) for k in (-1, 0, 1)}
    track, _ = follow(matrices)
    for frame, true in matrices.items():
        assert corner_error(track.row(frame), true) < GRAINY_TOLERANCE_PX


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
    assert corner_error(track.row(1012), matrices[1012]) < 1.0  # laid between its neighbours
    assert track.certainty.values[2] == 0
    assert corner_error(track.row(1013), matrices[1013]) < CLEAN_TOLERANCE_PX


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
        with_step(track, type(steps[0])(1030, np.eye(3), np.zeros(4), 1.0))
    assert with_step(None, type(steps[0])(1030, None, np.zeros(4), 0.0, ended="gone")) is None


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
            follow_plane(
                lambda f: filmed(matrices[f]), surface_of(), FrameRange(first=1010, last=1015), 1010, check=check
            )
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
        template_of(frame, area)


def test_luminance_is_that_of_rec_709():
    assert luminance(np.array([[[1, 0, 0], [0, 1, 0], [0, 0, 1]]], np.float32)).ravel() == pytest.approx(
        [0.2126, 0.7152, 0.0722]
    )


# -- masks, stations, pins, returns ---------------------------------------------------------------------------


def test_a_keep_out_holds_what_voting_cannot():
    """A pattern as strong as the plane's own, on two thirds of the area, is believed unless it is kept out."""
    matrices = path(range(5))
    patch = texture(90, 130, seed=77, fine=1.5)

    def read(frame):
        picture = filmed(matrices[frame]).copy()
        picture[75:165, 95:225] = patch
        return picture

    keep_out = Matte.of(shape_of(rectangle(93, 73, 227, 167), 1010, "out"))
    track, _ = follow(matrices, read, surface_of(keep_outs=keep_out))
    assert track.frames.last == 1014
    for frame, true in matrices.items():
        assert corner_error(track.row(frame), true) < EDGE_TOLERANCE_PX


def test_something_dark_that_hides_half_does_not_pull_the_plane():
    """A leg passes: the area is hidden by up to a half, without a keep-out."""
    matrices = {1010 + k: around_centre(shift=(1.0 * k, 0)) for k in range(10)}

    def read(frame):
        picture = filmed(matrices[frame], grain=0.01, seed=frame).copy()
        left = 20 + 14 * (frame - 1010)
        picture[:, left : left + 76] = 0.03
        return picture

    start = {1010: filmed(np.eye(3), grain=0.01, seed=1)}
    track, _ = follow(matrices, lambda frame: start.get(frame, read(frame)))
    assert track.frames.last == 1019
    assert any("partly hidden" in reason for reason in track.reasons)
    for frame, true in matrices.items():
        assert corner_error(track.row(frame), true) < 1.0  # pulled along it would be off by tens


def test_what_is_in_front_is_left_out_where_that_is_wanted():
    matrices = path(range(4))
    patch = texture(90, 130, seed=77, fine=1.5)

    def read(frame):
        picture = filmed(matrices[frame]).copy()
        picture[75:165, 95:225] = patch
        return picture

    rest = Surroundings(in_front=lambda frame, mapping, window: polygon_mask([rectangle(93, 73, 227, 167)], window))
    track, _ = follow(matrices, read, surroundings=rest)
    assert corner_error(track.row(1013), matrices[1013]) < EDGE_TOLERANCE_PX


def test_an_area_that_stays_put_follows_what_passes_through_it():
    """A road under a car: the area stays, the road moves on by three times the area's width."""
    matrices = {1010 + k: around_centre(shift=(12.0 * k, 0)) for k in range(-9, 10)}
    stays = Matte.of(shape_of(rectangle(110, 60, 210, 180), 1010, "area"))
    track, _ = follow(matrices, surface=surface_of(areas=stays))
    assert (track.frames.first, track.frames.last) == (1001, 1019)
    ends = rectangle(110, 60, 210, 180)
    for frame in (1001, 1005, 1015, 1019):
        assert corner_error(track.row(frame), matrices[frame], ends) < 1.0  # several templates on: errors add up
        assert (
            np.sqrt((track.corner_slip_px.values[frame - 1001] ** 2).mean())
            > corner_error(track.row(frame), matrices[frame], ends) / 4
        )


def test_several_areas_hold_better_than_one():
    small = [rectangle(95, 65, 130, 100), rectangle(190, 140, 225, 175)]
    areas = [shape_of(points, 1010, str(k)) for k, points in enumerate(small)]
    matrices = path(range(4))
    one, _ = follow(matrices, surface=surface_of(areas=riding(areas[0])))
    both, _ = follow(matrices, surface=surface_of(areas=riding(*areas)))
    assert corner_error(both.row(1013), matrices[1013]) < corner_error(one.row(1013), matrices[1013])
    assert corner_error(both.row(1013), matrices[1013]) < 2 * EDGE_TOLERANCE_PX


def test_a_keyed_area_looks_only_where_it_is_on_each_frame():
    """From the third frame on the right half is covered by something else; the area is keyed to leave it."""
    matrices = path(range(6))
    keys = (
        ShapeKey.of(1010, AREA), ShapeKey.of(1011, AREA),
        ShapeKey.of(1012, rectangle(90, 60, 150, 180)),
    )  # fmt: skip

    def read(frame):
        picture = filmed(matrices[frame]).copy()
        if frame >= 1012:
            picture[:, 170:] = texture(240, 150, seed=31, fine=1.5)
        return picture

    areas = riding(replace(shape_of(AREA, 1010, "area"), keys=keys))
    track, _ = follow(matrices, read, surface_of(areas=areas))
    assert corner_error(track.row(1015), matrices[1015]) < 2 * EDGE_TOLERANCE_PX


def test_too_little_texture_is_followed_more_simply_and_said():
    """Grey with one soft spot: there is nothing that could tell perspective."""
    rows, columns = np.mgrid[0:240, 0:320]
    matrices = {1010 + k: around_centre(shift=(2.0 * k, k)) for k in range(5)}

    def read(frame):
        x, y = apply_matrix(matrices[frame], np.array([150.0, 110.0]))
        spot = np.exp(-((columns + 0.5 - x) ** 2 + (rows + 0.5 - y) ** 2) / 2 / 6**2)
        grain = 0.02 * np.random.default_rng(frame).standard_normal((240, 320))
        return np.repeat((0.3 + 0.2 * spot + grain)[..., None], 3, axis=2).astype(np.float32)

    track, _ = follow(matrices, read)
    assert track.frames.last == 1014
    assert any("too little texture for perspective" in reason for reason in track.reasons)
    middle = np.array([[150.0, 110.0]])
    off = apply_matrix(track.row(1014), middle) - apply_matrix(matrices[1014], middle)
    assert np.hypot(*off.T).max() < 1.0


def test_what_comes_back_is_found_again():
    matrices = {1010 + k: around_centre(shift=(260.0 * np.sin(k / 12 * np.pi), 0)) for k in range(13)}
    track, _ = follow(matrices)
    assert track.frames.last == 1022
    assert track.after == ""
    assert not placed_as(surface_of(), track).is_placed(1016)
    assert corner_error(track.row(1022), matrices[1022]) < EDGE_TOLERANCE_PX


def test_from_a_pin_on_frames_are_compared_with_the_pinned_one():
    """A pin says that the plane lies 3 px lower than was thought: what follows from there keeps to that."""
    matrices = path(range(8))
    first, _ = follow(matrices)
    lower = np.array([0.0, 3.0])
    pin = Pin(frame=1013, home=Array(AREA), placed=Array(apply_matrix(matrices[1013], AREA) + lower))
    surface = surface_of(pins=(pin,))
    known = first.part(FrameRange(first=1010, last=1013))
    rest = Surroundings(placed=placed_as(surface, known), measured=placed_as(surface_of(), known))
    again, _ = follow(matrices, surface=surface, start=1013, direction=Direction.FORWARDS, surroundings=rest)
    correction = np.linalg.inv(known.row(1013)) @ rest.placed.home_to_frame(1013).matrix
    wanted = apply_matrix(matrices[1017], apply_matrix(np.linalg.inv(matrices[1013]), pin.placed.values))
    found = apply_matrix(again.row(1017) @ correction, AREA)
    assert np.hypot(*(found - wanted).T).max() < EDGE_TOLERANCE_PX
    assert again.frames.first == 1014


def test_a_mapping_s_stretch_is_told():
    points = np.array([[10.0, 20.0], [100.0, 50.0]])
    np.testing.assert_allclose(stretches(np.diag([2.0, 0.5, 1.0]), points), [[2.0, 0.5]] * 2)
    turned = around_centre(turn_deg=30, scale=1.5)
    np.testing.assert_allclose(stretches(turned, points), [[1.5, 1.5]] * 2)


def test_more_accurate_than_the_library_s_own_alignment():
    """Against OpenCV's ECC on the same grainy frames, from the same start."""
    ours, theirs = [], []
    home = luminance(filmed(np.eye(3), grain=0.02, seed=100))
    mask = np.zeros(home.shape, np.uint8)
    cv2.fillPoly(mask, [AREA.astype(np.int32)], 255)
    template = template_of(home)
    for seed in range(6):
        true = around_centre(shift=(3 + seed, -2), turn_deg=1, perspective=(1e-4, 0))
        frame = luminance(filmed(true, grain=0.02, seed=seed))
        found = align(template, make_pyramid(frame, len(template.levels)), np.eye(3), MotionModel.PERSPECTIVE)
        ours.append(corner_error(found.matrix, true))
        start = np.eye(3, dtype=np.float32)
        start[0, 2] = 3 + seed
        stop = (cv2.TERM_CRITERIA_COUNT | cv2.TERM_CRITERIA_EPS, 100, 1e-6)
        _, other = cv2.findTransformECC(home, frame, start, cv2.MOTION_HOMOGRAPHY, stop, mask, 5)
        half = np.array([[1, 0, 0.5], [0, 1, 0.5], [0, 0, 1.0]])
        theirs.append(corner_error(half @ other @ np.linalg.inv(half), true))
    assert np.mean(ours) < np.mean(theirs)
