"""Spots against known motions: each number of them, hidden ones, odd ones, re-aimed ones, patterns taken anew."""

import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.document import FrameRange, MotionModel, PointsFollow, Spot, Surface
from gommage.core.follow import Direction, Surroundings, aimed, choose_pattern, detect_spots, follow_points, spots_near
from gommage.core.follow.points import motion_of_spots
from gommage.core.follow.steps import with_spots, with_step
from gommage.core.geometry import apply_matrix, from_matrix
from gommage.errors import FollowError, FrameMissingError
from tests.conftest import rectangle, texture
from tests.follow.test_follow import around_centre, filmed

PLACES = np.array([[110.0, 80.0], [210.0, 85.0], [205.0, 160.0], [112.0, 155.0], [160.0, 120.0]])
SPOT_TOLERANCE_PX = 0.08  # 21 px of soft texture, shrunk and turned a little, 1 % grain


def surface_of(count=4, places=PLACES, **fields):
    spots = tuple(Spot(id=str(k), x=float(x), y=float(y)) for k, (x, y) in enumerate(places[:count]))
    return Surface(id="p", name="Points", home_frame=1010, how=PointsFollow(spots=spots, **fields))


def follow(matrices, surface, read=None, start=1010, direction=Direction.BOTH, rest=None):
    reader = read or (lambda frame: filmed(matrices[frame], grain=0.01, seed=frame))
    frames = FrameRange(first=min(matrices), last=max(matrices))
    for step in follow_points(reader, surface, frames, start, direction, surroundings=rest):
        surface = with_spots(replace(surface, track=with_step(surface.track, step)), step)
    return surface


def off(surface, matrices, frame, points=PLACES):
    found, true = apply_matrix(surface.track.row(frame), points), apply_matrix(matrices[frame], points)
    return np.hypot(*(found - true).T)


MOTIONS = {
    1: lambda k: around_centre(shift=(5.0 * k, -2 * k)),
    2: lambda k: around_centre(shift=(4.0 * k, k), turn_deg=1.0 * k, scale=1 + 0.01 * k),
    3: lambda k: around_centre(shift=(3.0 * k, k), turn_deg=0.6 * k, shear=0.006 * k),
    4: lambda k: around_centre(shift=(3.0 * k, -k), turn_deg=0.5 * k, perspective=(2e-5 * k, -1e-5 * k)),
    5: lambda k: around_centre(shift=(3.0 * k, -k), turn_deg=0.5 * k, perspective=(2e-5 * k, -1e-5 * k)),
}


@pytest.mark.parametrize("count", MOTIONS)
def test_each_number_of_spots_gives_its_motion(count):
    matrices = {1010 + k: MOTIONS[count](k) for k in range(-4, 5)}
    done = follow(matrices, surface_of(count))
    assert (done.track.frames.first, done.track.frames.last) == (1006, 1014)
    for frame in matrices:
        assert off(done, matrices, frame, PLACES[:count]).max() < SPOT_TOLERANCE_PX
    path = done.how.spots[0].path
    assert path.first_frame == 1006
    assert (path.certainty.values > 0.8).all()


def test_motion_follows_the_number_of_spots():
    assert [motion_of_spots(n, None) for n in (1, 2, 3, 4, 9)] == [
        MotionModel.SHIFT, MotionModel.SIMILARITY, MotionModel.AFFINE, MotionModel.PERSPECTIVE, MotionModel.PERSPECTIVE,
    ]  # fmt: skip
    assert motion_of_spots(5, MotionModel.SHIFT) is MotionModel.SHIFT
    assert motion_of_spots(1, MotionModel.AFFINE) is MotionModel.SHIFT


def test_the_error_that_is_told_is_about_the_error_there_is():
    ratios = []
    for seed in range(6):
        matrices = {1010 + k: MOTIONS[4](k) for k in range(3)}
        films = {f: filmed(matrices[f], grain=0.02, seed=f + 100 * seed) for f in matrices}
        done = follow(matrices, surface_of(5), films.__getitem__)
        for frame in (1011, 1012):
            off_corners = off(done, matrices, frame, done.corners)
            ratios += list(off_corners / done.track.corner_slip_px.values[frame - 1010])
    assert 0.3 < np.sqrt(np.mean(np.square(ratios))) < 2.0


def test_a_spot_that_leaps_is_looked_for_further_away():
    """A jolt of 70 px, on the first frame after home: nothing tells of it beforehand."""
    matrices = {
        1010: around_centre(),
        1011: around_centre(shift=(58.0, -40.0)),
        1012: around_centre(shift=(60.0, -41.0)),
    }
    places = np.array([[110.0, 120.0], [150.0, 150.0]])
    done = follow(matrices, surface_of(2, places))
    assert off(done, matrices, 1012, places).max() < SPOT_TOLERANCE_PX


def test_a_hidden_spot_gets_its_place_from_the_others():
    matrices = {1010 + k: MOTIONS[4](k) for k in range(6)}

    def read(frame):
        picture = filmed(matrices[frame]).copy()
        if frame in (1012, 1013):
            x, y = apply_matrix(matrices[frame], PLACES[4]).astype(int)
            picture[y - 22 : y + 22, x - 22 : x + 22] = 0.2
        return picture

    done = follow(matrices, surface_of(5), read)
    path = done.how.spots[4].path
    assert path.certainty.values[2] == path.certainty.values[3] == 0
    assert path.certainty.values[5] > 0.8, "it is seen again"
    assert np.hypot(*(path.positions.values[3] - apply_matrix(matrices[1013], PLACES[4]))) < 0.2
    assert done.track.reasons[2] == "1 of 5 spots hidden"


def test_a_spot_that_contradicts_the_others_is_not_believed():
    """One spot sits on something that moves by itself."""
    matrices = {1010 + k: MOTIONS[4](k) for k in range(4)}
    patch = texture(40, 40, seed=55, fine=1.0)

    def read(frame):
        picture = filmed(matrices[frame]).copy()
        shift = 6 * (frame - 1010)
        picture[100:140, 140 + shift : 180 + shift] = patch
        return picture

    done = follow(matrices, surface_of(5), read)
    assert off(done, matrices, 1013, PLACES[:4]).max() < SPOT_TOLERANCE_PX


def test_a_spot_is_aimed_at_another_feature_without_a_jump():
    matrices = {1010 + k: MOTIONS[1](k) for k in range(8)}
    first = follow(matrices, surface_of(1))
    place = first.how.spots[0].path.positions.values[4]
    other = apply_matrix(matrices[1014], PLACES[4])
    aim = aimed(first.how.spots[0], 1014, other, place)
    spot = replace(first.how.spots[0], aims=(aim,))
    again = follow(matrices, replace(first, how=PointsFollow(spots=(spot,)), track=None))
    path = again.how.spots[0].path.positions.values
    true = np.array([apply_matrix(matrices[1010 + k], PLACES[0]) for k in range(8)])
    assert np.hypot(*(path - true).T).max() < 2 * SPOT_TOLERANCE_PX  # what the first feature was off is kept


@pytest.mark.parametrize("hidden", [(1013,), (1013, 1014)])
def test_while_all_are_hidden_the_surface_is_laid_between(hidden):
    matrices = {1010 + k: MOTIONS[1](k) for k in range(8)}

    def read(frame):
        return np.full((240, 320, 3), 0.3, np.float32) if frame in hidden else filmed(matrices[frame])

    done = follow(matrices, surface_of(2), read)
    assert done.track.frames.last == 1017
    assert done.track.reasons[3] == "laid between its neighbours"
    assert done.how.spots[0].path.certainty.values[3] == 0
    assert off(done, matrices, 1013, PLACES[:2]).max() < 0.5


def test_it_ends_where_all_are_hidden_for_long():
    matrices = {1010 + k: MOTIONS[1](k) for k in range(8)}

    def read(frame):
        return np.full((240, 320, 3), 0.3, np.float32) if frame > 1012 else filmed(matrices[frame])

    done = follow(matrices, surface_of(2), read)
    assert done.track.frames.last == 1012
    assert done.track.after == "no spot is seen any more"


@pytest.mark.parametrize("count", [1, 2])
def test_slip_holds_what_few_spots_cannot_tell_of_a_turning_plane(count):
    """The plane turns away: the spots stay right, but what lies between and around them is not told by them."""
    matrices = {1010 + k: MOTIONS[4](2 * k) for k in range(8)}
    done = follow(matrices, surface_of(count))
    corners = done.corners
    slips = done.track.corner_slip_px.values
    errors = np.array([off(done, matrices, frame, corners) for frame in matrices])
    assert errors[1:].max() > 4 * SPOT_TOLERANCE_PX, "otherwise this shows nothing"
    assert (errors[1:] < 4 * slips[1:]).all()
    assert np.sqrt((errors[1:] ** 2).mean()) > 0.3 * np.sqrt((slips[1:] ** 2).mean()), "and it does not cry wolf"


def test_a_missing_frame_is_stepped_over():
    matrices = {1010 + k: MOTIONS[2](k) for k in range(5)}

    def read(frame):
        if frame == 1012:
            raise FrameMissingError("Frame 1012 is missing.", "x", 1012)
        return filmed(matrices[frame])

    done = follow(matrices, surface_of(2), read)
    assert off(done, matrices, 1014, PLACES[:2]).max() < SPOT_TOLERANCE_PX


def test_one_spot_is_held_while_the_camera_turns_about_it():
    matrices = {1010 + k: around_centre(turn_deg=8.0 * k, scale=1.02**k) for k in range(10)}
    done = follow(matrices, surface_of(1, np.array([[160.0, 120.0]])))
    path = done.how.spots[0].path
    assert (path.certainty.values > 0).all()
    assert np.hypot(*(path.positions.values - (160, 120)).T).max() < 4 * SPOT_TOLERANCE_PX  # it looks quite another


def test_patterns_are_taken_anew_where_that_is_wanted():
    """The texture turns into another one bit by bit: fresh patterns go on looking alike, kept ones do not."""
    one, other = (texture(240, 320, seed=seed, fine=1.5) - 0.4 for seed in (8, 9))
    matrices = {1010 + k: np.eye(3) for k in range(6)}

    def read(frame):
        angle = np.deg2rad(15.0 * (frame - 1010))
        return (0.4 + np.cos(angle) * one + np.sin(angle) * other).astype(np.float32)

    fresh, kept = (
        follow(matrices, surface_of(1, is_refreshed=is_refreshed), read).how.spots[0].path
        for is_refreshed in (True, False)
    )
    assert len(fresh.certainty) == 6
    assert len(kept.certainty) < 6, "what is kept is not recognised any more"
    assert np.hypot(*(fresh.positions.values[-1] - PLACES[0])) < 4  # what it was aimed at is gone by then


def test_riding_spots_are_looked_for_where_they_are_carried():
    """The carrier jumps by 60 px a frame, further than any search goes."""
    matrices = {1010 + k: around_centre(shift=(0, 0) if k == 0 else (-60.0, 20)) for k in range(2)}
    rest = Surroundings(carried=lambda frame: from_matrix(matrices[frame]))
    done = follow(matrices, replace(surface_of(2, PLACES[1:3]), rides_on="other"), rest=rest)
    assert done.track.frames.last == 1011
    np.testing.assert_allclose(done.track.row(1011), np.eye(3), atol=0.2)


def test_patterns_are_as_large_as_their_texture_needs():
    fine, coarse = texture(120, 120, seed=1, fine=1.0), texture(120, 120, seed=1, fine=6.0)
    grain = 0.01 * np.random.default_rng(0).standard_normal((120, 120, 3)).astype(np.float32)
    assert choose_pattern(fine + grain, 60, 60) < choose_pattern(coarse + grain, 60, 60)
    with pytest.raises(FollowError, match="outside the picture"):
        choose_pattern(fine, 500, 500)


def test_good_spots_are_found_inside_and_apart():
    outline = rectangle(60, 50, 250, 190)
    found = detect_spots(filmed(np.eye(3)), outline, 10)
    assert 5 <= len(found) <= 10
    assert ((found > (58, 48)) & (found < (252, 192))).all()
    apart = np.hypot(*(found[:, None] - found[None]).transpose(2, 0, 1)) + 99 * np.eye(len(found))
    assert apart.min() >= 8
    assert len(detect_spots(np.full((50, 50, 3), 0.4, np.float32), rectangle(5, 5, 45, 45))) == 0
    near = spots_near(filmed(np.eye(3)), surface_of(1), 6)
    assert 1 <= len(near) <= 6
    assert np.hypot(*(near - PLACES[0]).T).min() > 8


def test_nothing_to_follow_is_refused_in_words():
    blank = np.full((240, 320, 3), 0.4, np.float32)
    with pytest.raises(FollowError, match="is blank"):
        list(follow_points(lambda f: blank, surface_of(1), FrameRange(first=1010, last=1012), 1010))
