"""Where surfaces are: measured, carried by others, corrected by pins."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from gommage.core.document import (
    NOT_SEEN,
    Array,
    ByHand,
    Matte,
    Pin,
    PlaneFollow,
    Shape,
    Still,
    Surface,
    Track,
    edits,
    placement,
)
from gommage.core.geometry import IDENTITY, fitted, moved
from tests.conftest import plane, rectangle

CORNERS = rectangle(20, 20, 120, 90)
EXACT = 1e-9  # a handful of 3x3 products


def shifts(by, first=1001):
    matrices = np.repeat(np.eye(3)[None], len(by), axis=0)
    matrices[:, :2, 2] = by
    return Track(first_frame=first, home_to_frame=Array(matrices), corner_slip_px=Array(np.full((len(by), 4), 0.1)),
                 certainty=Array(np.ones(len(by))), reasons=("",) * len(by))  # fmt: skip


def with_surfaces(shot, *surfaces):
    return replace(shot, surfaces=surfaces)


def surface(name="wall", track=None, **fields):
    return Surface(id=name, name=name, home_frame=1001, how=plane(CORNERS, surface_id=name), track=track, **fields)


def corners_at(shot, one, frame):
    return placement(shot, one).home_to_frame(frame)(CORNERS)


def pin(frame, by, corners=CORNERS):
    return Pin(frame=frame, home=Array(corners), placed=Array(corners + by))


def test_without_pins_it_is_what_was_measured(small_shot):
    one = surface(track=shifts([(k, 0) for k in range(6)]))
    placed = placement(with_surfaces(small_shot, one), one)
    np.testing.assert_array_equal(placed.matrices, one.track.home_to_frame.values)
    assert placed.as_track() == one.track
    assert placement(small_shot, surface()) is None


def test_the_same_surface_gives_the_same_object(small_shot):
    one = surface(track=shifts([(k, 0) for k in range(6)]), pins=(pin(1004, (3, 1)),))
    shot = with_surfaces(small_shot, one)
    assert placement(shot, one) is placement(shot, one)


def test_a_pin_is_exact_on_its_frame_and_spreads_smoothly(small_shot):
    measured = shifts([(2.0 * k, 0) for k in range(6)])
    one = surface(track=measured, pins=(pin(1004, (6 + 3, 1.5)),))
    shot = with_surfaces(small_shot, one)
    np.testing.assert_allclose(corners_at(shot, one, 1004), CORNERS + (9, 1.5), atol=EXACT)
    np.testing.assert_allclose(corners_at(shot, one, 1001), CORNERS, atol=EXACT)
    off = [corners_at(shot, one, 1001 + k)[0, 0] - CORNERS[0, 0] - 2.0 * k for k in range(6)]
    assert (np.diff(off) > -EXACT).all()
    assert off[4] == pytest.approx(3)
    assert off[5] == pytest.approx(3), "after the last pin the correction stays"
    assert placement(shot, one).slip_px[3] != 0.1


def test_own_points_correct_as_much_as_they_tell(small_shot):
    own = np.array([[30.0, 30.0], [90.0, 40.0], [60.0, 80.0], [100.0, 85.0]])
    for count in (1, 2, 3, 4):
        placed = own[:count] + np.arange(2 * count).reshape(count, 2) * 0.7
        one = surface(track=shifts([(0, 0)] * 6),
                      pins=(Pin(frame=1003, home=Array(own[:count]), placed=Array(placed)),))  # fmt: skip
        mapping = placement(with_surfaces(small_shot, one), one).home_to_frame(1003)
        np.testing.assert_allclose(mapping(own[:count]), placed, atol=1e-8)
        if count < 4:
            np.testing.assert_allclose(mapping.matrix[2], (0, 0, 1), atol=1e-12)


def test_a_pin_beyond_what_was_followed_carries_it_there(small_shot):
    one = surface(track=shifts([(k, 0) for k in range(3)]), pins=(pin(1006, (10, 0)),))
    placed = placement(with_surfaces(small_shot, one), one)
    assert (placed.frames.first, placed.frames.last) == (1001, 1006)
    np.testing.assert_allclose(placed.home_to_frame(1006)(CORNERS), CORNERS + (10, 0), atol=EXACT)
    assert placed.reasons[4] == "placed by hand"
    assert placed.certainty[4] == 0


def test_still_and_by_hand_need_no_follow(small_shot):
    still = Surface(id="s", name="S", home_frame=1001, how=Still(corners=Array(CORNERS)))
    hand = Surface(id="h", name="H", home_frame=1001, how=ByHand(corners=Array(CORNERS)), pins=(pin(1005, (8, 0)),))
    shot = with_surfaces(small_shot, still, hand)
    assert placement(shot, still).home_to_frame(1006) == IDENTITY
    np.testing.assert_allclose(corners_at(shot, hand, 1005), CORNERS + (8, 0), atol=EXACT)
    halfway = corners_at(shot, hand, 1003)[0, 0] - CORNERS[0, 0]
    assert 2 < halfway < 6
    assert set(placement(shot, hand).reasons) == {""}


def test_a_surface_rides_on_another(small_shot):
    below = surface("below", shifts([(5.0 * k, k) for k in range(6)]))
    rider = surface("rider", shifts([(0, 2.0 * k) for k in range(6)]), rides_on="below")
    shot = with_surfaces(small_shot, below, rider)
    np.testing.assert_allclose(corners_at(shot, rider, 1004), CORNERS + (15, 3 + 6), atol=EXACT)
    assert placement(shot, rider).slip_px[2] == pytest.approx(np.hypot(0.1, 0.1))
    loose = with_surfaces(small_shot, surface("below"), rider)
    assert placement(loose, rider) is None


@pytest.mark.parametrize(("first", "count"), [(1001, 6), (1001, 3), (1002, 3), (1003, 4)])
def test_a_track_on_some_frames_rides_on_a_longer_one_without_a_jump(small_shot, first, count):
    from gommage.core.document import Project

    below = surface("below", shifts([(5.0 * k, k) for k in range(6)]))
    home = Surface(id="rider", name="rider", home_frame=first, how=plane(CORNERS, surface_id="rider"),
                   track=shifts([(1.0 * k, -k) for k in range(count)], first=first))  # fmt: skip
    project = Project.of(with_surfaces(small_shot, below, home))
    riding = edits.set_rides_on(project, "shot", "rider", "below").shots[0]
    rider = riding.surface("rider")
    assert (rider.track.frames.first, len(rider.track.frames)) == (first, count)
    for frame in range(first, first + count):
        np.testing.assert_allclose(
            corners_at(riding, rider, frame), corners_at(project.shots[0], home, frame), atol=1e-9
        )


def test_riding_begins_and_ends_without_a_jump(small_shot):
    from gommage.core.document import Project

    below = surface("below", shifts([(5.0 * k, k) for k in range(6)]))
    free = surface("rider", shifts([(1.0 * k, 0) for k in range(6)]))
    project = Project.of(with_surfaces(small_shot, below, free))
    riding = edits.set_rides_on(project, "shot", "rider", "below").shots[0]
    for frame in range(1001, 1007):
        np.testing.assert_allclose(
            corners_at(riding, riding.surface("rider"), frame), corners_at(project.shots[0], free, frame), atol=1e-9
        )
    moved_on = edits.change_surface(
        Project.of(riding), "shot", "below", track=shifts([(7.0 * k, k) for k in range(6)])
    ).shots[0]
    by = corners_at(moved_on, moved_on.surface("rider"), 1006) - corners_at(riding, riding.surface("rider"), 1006)
    np.testing.assert_allclose(by, np.full((4, 2), (10.0, 0.0)), atol=1e-9)
    again = edits.set_rides_on(Project.of(riding), "shot", "rider", "").shots[0]
    np.testing.assert_allclose(
        corners_at(again, again.surface("rider"), 1005), corners_at(riding, riding.surface("rider"), 1005), atol=1e-9
    )


def test_what_is_not_seen_is_not_placed(small_shot):
    track = shifts([(k, 0) for k in range(6)])
    track = replace(track, reasons=("", "", NOT_SEEN, NOT_SEEN, "", ""))
    one = surface(track=track)
    placed = placement(with_surfaces(small_shot, one), one)
    assert [placed.is_placed(frame) for frame in range(1001, 1008)] == [True, True, False, False, True, True, False]


def test_the_correction_of_a_frame_is_told(small_shot):
    track = shifts([(0, 0)] * 6)
    one, plain = surface(track=track, pins=(pin(1003, (4, 0)),)), surface(track=track)
    corrected = placement(with_surfaces(small_shot, one), one).correction(1006)
    np.testing.assert_allclose(corrected(CORNERS), CORNERS + (4, 0), atol=EXACT)
    assert placement(with_surfaces(small_shot, plain), plain).correction(1003) == IDENTITY


def test_one_frame_is_what_all_frames_are(small_shot):
    """A frame that is asked for by itself lies where the arrays of all frames have it, pins and carrier included."""
    below = surface("below", shifts([(5.0 * k, k) for k in range(6)]), pins=(pin(1003, (11, 3)),))
    rider = surface("rider", shifts([(0, 2.0 * k) for k in range(6)]), rides_on="below", pins=(pin(1005, (25, 9)),))
    shot = with_surfaces(small_shot, below, rider)
    for one in (below, rider):
        placed = placement(shot, one)
        for row, frame in enumerate(placed.frames):
            np.testing.assert_allclose(placed.home_to_frame(frame).matrix, placed.matrices[row], atol=EXACT)
            np.testing.assert_allclose(
                moved(placed.matrices[row], CORNERS), placed.home_to_frame(frame)(CORNERS), atol=1e-7
            )


@given(st.integers(1, 4), st.integers(0, 1000))
def test_fitted_points_land_where_they_should(count, seed):
    rng = np.random.default_rng(seed)
    source = rectangle(0, 0, 60, 40)[:count] + rng.uniform(-5, 5, (count, 2))
    target = source + rng.uniform(-6, 6, (count, 2))
    np.testing.assert_allclose(moved(fitted(source, target), source), target, atol=1e-6)


def test_an_area_of_four_corners_on_a_line_is_pinned_by_its_box(small_shot):
    """A triangle with a fourth vertex on one of its sides spans no quadrilateral."""
    area = Matte.of(Shape.of("area", 1001, [[0, 0], [10, 0], [20, 0], [0, 30]]), surface_id="wall")
    pin = Pin(frame=1003, home=[[5, 5]], placed=[[8, 6]])
    surface = replace(small_shot.surfaces[0], how=PlaneFollow(areas=area), pins=(pin,))
    shot = replace(small_shot, surfaces=(surface,))
    np.testing.assert_allclose(placement(shot, surface).home_to_frame(1003)(np.array([5.0, 5.0])), (8, 6), atol=1e-9)
    assert surface.corners.tolist() == [[0, 0], [20, 0], [20, 30], [0, 30]]
