"""Solved cameras: from tracks with known truth to poses, lens and planes."""

import numpy as np
import pytest

from gommage.core.document import FrameRange
from gommage.core.follow.scene import (
    Tracks,
    fitted_plane,
    inverse_depths,
    read_lens,
    solved,
    tracked,
    turned_camera,
    write_lens,
)
from gommage.core.follow.scene.bundle import Observations, Scene, adjusted, resected, triangulated
from gommage.core.follow.scene.camera import key_rows
from gommage.core.follow.scene.motions import shared_motions
from gommage.core.geometry import (
    Lens,
    ThroughLens,
    apply_matrix,
    axis_turn,
    directions_of,
    places_of_directions,
    plane_motion,
)
from gommage.errors import FollowError
from tests.conftest import texture

SIZE, LENS = (960, 540), Lens(980.0, 480.0, 270.0, -0.06, 0.01)
NOISE_PX = 0.12
FLOOR, WALL = np.array([0.0, 0.62, 0.02]), np.array([0.02, 0.0, 0.11])
"""Planes of the scene: inverse depth of (x, y, 1) before the first camera."""


def walk(count, sideways=1.0):
    """Return turns and moves of a camera that walks past; sideways 0: it only turns."""
    s = np.linspace(0, 1, count)
    angles = np.column_stack([0.01 * np.sin(7 * s), 0.16 * s - 0.08, 0.01 * np.cos(5 * s)])
    turns = axis_turn(angles)
    places = sideways * np.column_stack([0.9 * s - 0.45, 0.03 * np.sin(9 * s), 0.3 * s])
    turns = turns @ turns[0].T
    places = places - places[0]
    return turns, -np.einsum("nij,nj->ni", turns, places)


def seen_by(turns, moves, points, lens=LENS):
    there = np.einsum("nij,pj->pni", turns, points) + moves
    flat = there[..., :2] / np.where(there[..., 2:] > 0.1, there[..., 2:], np.nan)
    return lens.bent(flat * lens.focal_px + (lens.middle_x, lens.middle_y))


def shot_of(count=24, sideways=1.0, movers=40, seed=1):
    """Return tracks of a scene of two planes and things between, its cameras, and which tracks move by themselves."""
    rng = np.random.default_rng(seed)
    turns, moves = walk(count, sideways)
    flat = (rng.uniform([-60, -20], [1060, 560], (700, 2)) - (480, 270)) / LENS.focal_px
    rays = np.column_stack([flat, np.ones(len(flat))])
    which = rng.integers(0, 3, len(flat))
    inverse = np.where(which == 0, rays @ FLOOR, np.where(which == 1, rays @ WALL, rng.uniform(0.1, 0.4, len(flat))))
    rays, inverse = rays[inverse > 0.03], inverse[inverse > 0.03]
    places = seen_by(turns, moves, rays / inverse[:, None])
    phase = rng.uniform(0, 6, (movers, 1, 1))  # to and fro: what moves evenly looks like something at another distance
    own = rng.uniform(6, 14, (movers, 1, 2)) * np.sin(0.9 * np.arange(count)[None, :, None] + phase)
    places = np.concatenate([places, places[:movers] + own])
    places += NOISE_PX * rng.standard_normal(places.shape)
    outside = (places < 4).any(axis=2) | (places > (956, 536)).any(axis=2)
    places[outside | ~np.isfinite(places[..., 0])] = np.nan
    starts = rng.integers(-count // 2, count, len(places))
    row = np.arange(count)
    places[
        (row[None] < starts[:, None]) | (row[None] >= starts[:, None] + rng.integers(8, count, len(places))[:, None])
    ] = np.nan
    is_mover = np.arange(len(places)) >= len(places) - movers
    kept = np.isfinite(places[..., 0]).sum(axis=1) >= 4
    return Tracks(1001, places[kept], SIZE), turns, moves, is_mover[kept]


@pytest.fixture(scope="module")
def moving():
    return shot_of()


@pytest.fixture(scope="module")
def camera(moving):
    stages = []
    found = solved(moving[0], None, lambda words, share: stages.append((words, share)))
    assert [share for _, share in stages] == sorted(share for _, share in stages), "progress only grows"
    return found


def test_a_walk_is_solved_with_its_lens(moving, camera):
    _, turns, _, is_mover = moving
    assert not camera.is_nodal
    assert abs(camera.lens.focal_px / LENS.focal_px - 1) < 0.01, "the issue's recipe reached 1 %"
    assert camera.median_px < 2 * NOISE_PX
    corner = np.array([[20.0, 20.0]])
    assert np.abs(camera.lens.straightened(corner) - LENS.straightened(corner)).max() < 1.5
    assert camera.moving >= 0.8 * is_mover.sum(), "what moves by itself is voted out"
    for row in (0, 12, 23):  # turns are told against the first frame: the scene may be turned as a whole
        true = turns[row] @ turns[5].T
        found = camera.turns.values[row] @ camera.turns.values[5].T
        angle = np.arccos(np.clip((np.trace(true.T @ found) - 1) / 2, -1, 1))
        assert angle * LENS.focal_px < 1.0


def test_planes_of_the_solved_scene_move_as_the_true_ones(moving, camera):
    _, turns, moves, _ = moving
    home = 1012
    places, which = camera.seen_points(home)
    flat = (LENS.straightened(places) - (480, 270)) / LENS.focal_px
    rays = np.column_stack([flat, np.ones(len(flat))])
    # the true plane before the home camera, from that before the first one
    turn, move = turns[11], moves[11]
    normal = turn @ FLOOR
    plane = normal / (1 + normal @ move)
    true_depth = 1 / (rays @ plane)
    directions, inverse = inverse_depths(*camera.pose(home), camera.points.values[which])
    scale = np.nanmedian(inverse * true_depth)
    on_floor = np.abs(inverse * true_depth / scale - 1) < 0.1
    fitted = fitted_plane(directions[on_floor], inverse[on_floor], np.ones(on_floor.sum()))
    assert fitted.on_it.mean() > 0.6
    grid = np.stack(np.meshgrid(np.linspace(200, 760, 5), np.linspace(420, 520, 4)), axis=-1).reshape(-1, 2)
    for row in (2, 20):
        true = ThroughLens(LENS, plane_motion(LENS, (turns[11], moves[11]), (turns[row], moves[row]), plane))(grid)
        motion = plane_motion(camera.lens, camera.pose(home), camera.pose(1001 + row), fitted.plane)
        off = np.hypot(*(ThroughLens(camera.lens, motion)(grid) - true).T)
        assert np.nanmean(off) < 0.3, "some 100 points of 0.12 px each, over half the shot"


def test_a_camera_that_only_turns_is_told_from_one_that_moves():
    tracks, turns, _, _ = shot_of(count=16, sideways=0.0, seed=3)
    camera = solved(tracks)
    assert camera.is_nodal
    assert np.all(camera.moves.values == 0)
    true, found = turns[12] @ turns[3].T, camera.turns.values[12] @ camera.turns.values[3].T
    assert np.arccos(np.clip((np.trace(true.T @ found) - 1) / 2, -1, 1)) * LENS.focal_px < 1.5


def test_a_lens_that_is_given_stays(moving):
    camera = solved(moving[0], LENS)
    assert camera.is_lens_given
    assert camera.lens == LENS
    assert camera.median_px < 2 * NOISE_PX


def test_what_cannot_be_solved_is_refused_in_words(moving):
    tracks = moving[0]
    with pytest.raises(FollowError, match="cut at frame 1009"):
        solved(Tracks(1001, tracks.places, SIZE, cuts=(1009,)))
    with pytest.raises(FollowError, match="too little texture"):
        solved(Tracks(1001, tracks.places[:10], SIZE))
    still = np.repeat(np.random.default_rng(0).uniform(50, 500, (200, 1, 2)), 12, axis=1)
    with pytest.raises(FollowError, match="stands still"):
        solved(Tracks(1001, still, SIZE))


def test_key_frames_are_apart_and_enough(moving):
    rows = key_rows(moving[0])
    assert rows[0] == 0
    assert rows[-1] == 23
    assert 8 <= len(rows) <= 14
    assert rows == sorted(set(rows))


def test_adjusting_comes_back_to_the_truth():
    """From poses, points and lens that are disturbed, without noise, to what they were: its slopes are right."""
    rng = np.random.default_rng(8)
    turns, moves = walk(8)
    points = np.column_stack([rng.uniform(-1.5, 1.5, (150, 2)), rng.uniform(2, 6, 150)])
    homogeneous = np.column_stack([points, np.ones(150)]) / np.linalg.norm(points, axis=1, keepdims=True)
    places = seen_by(turns, moves, points)
    seen = Observations.of(places)
    bad = Scene(
        axis_turn(0.003 * rng.standard_normal((8, 3))) @ turns, moves + 0.01 * rng.standard_normal((8, 3)),
        Lens(900.0, 480.0, 270.0), homogeneous * (1, 1, 1, 1.1),
    )  # fmt: skip
    bad.turns[0], bad.moves[0] = turns[0], moves[0]
    before = np.abs(bad.off(seen)).max()
    good, cost = adjusted(bad, seen, 960.0, scale_px=2.0, most=200)
    assert before > 5
    assert np.abs(good.off(seen)).max() < 0.01
    assert cost < 0.2, "what is left is the weak belief that lenses bend little"
    assert abs(good.lens.focal_px / LENS.focal_px - 1) < 0.002
    turn, move = resected(turns[3], moves[3] + 0.05, LENS, homogeneous, places[:, 4])
    assert np.abs(turn - turns[4]).max() < 1e-5
    assert np.abs(move - moves[4]).max() < 1e-5
    found, known = triangulated(turns, moves, LENS, places)
    assert known.all()
    assert np.abs(found[:, :3] / found[:, 3:] - points).max() < 1e-6


def test_a_point_seen_by_one_camera_alone_is_not_known():
    turns, moves = walk(3)
    places = np.full((1, 3, 2), np.nan)
    places[0, 1] = 300, 200
    assert not triangulated(turns, moves, LENS, places)[1].any()


def test_a_plane_ignores_what_stands_on_it_and_refuses_a_line():
    rng = np.random.default_rng(2)
    directions = rng.uniform(-0.4, 0.4, (120, 2))
    inverse = np.column_stack([directions, np.ones(120)]) @ FLOOR + 1e-4 * rng.standard_normal(120)
    inverse[:30] += 0.1
    fitted = fitted_plane(directions, inverse, np.ones(120))
    assert np.abs(fitted.plane - FLOOR).max() < 5e-4
    assert not fitted.on_it[:30].any()
    assert np.sqrt(np.diag(fitted.covariance)).max() < 1e-3
    line = np.column_stack([np.linspace(-0.4, 0.4, 20), np.zeros(20)])
    with pytest.raises(FollowError, match="on a line"):
        fitted_plane(line, np.ones(20), np.ones(20))
    with pytest.raises(FollowError, match="three solved points"):
        fitted_plane(line[:2], np.ones(2), np.ones(2))


def test_features_are_tracked_until_a_cut():
    base, other = texture(220, 300, seed=4), texture(220, 300, seed=9)

    def read(frame):
        by = 2 * (frame - 1001)
        return (base if frame < 1007 else other)[10:190, 40 - by if frame < 1007 else 20 :][:, :240]

    mask = np.zeros((180, 240), np.uint8)
    mask[:, :60] = 1
    tracks = tracked(read, FrameRange(first=1001, last=1010), lambda frame: mask, most=200)
    assert tracks.cuts == (1007,)
    known = np.isfinite(tracks.places[:, 0, 0]) & np.isfinite(tracks.places[:, 4, 0])
    step = tracks.places[known, 4] - tracks.places[known, 0]
    assert known.sum() > 40
    assert np.abs(np.median(step, axis=0) - (8, 0)).max() < 0.05
    assert np.nanmin(tracks.places[..., 0]) > 58, "what is hidden is not looked at"


def test_a_lens_goes_to_a_file_and_comes_back_for_other_sizes(tmp_path):
    path = tmp_path / "lens.json"
    write_lens(path, LENS, SIZE)
    assert read_lens(path, 960) == LENS
    assert read_lens(path, 1920) == LENS.scaled(2)
    path.write_text('{"format": "something else"}')
    with pytest.raises(FollowError, match="holds no lens"):
        read_lens(path, 960)
    with pytest.raises(FollowError, match="could not be read"):
        read_lens(tmp_path / "none.json", 960)


def test_a_panoramic_camera_is_followed_as_it_turns():
    rng, whole = np.random.default_rng(5), (2000, 1000)
    rays = rng.standard_normal((400, 3)) * (1, 0.5, 1)
    rays /= np.linalg.norm(rays, axis=1, keepdims=True)
    turns = axis_turn(np.column_stack([0.01 * np.arange(10), 0.04 * np.arange(10), -0.005 * np.arange(10)]))
    places = places_of_directions(np.einsum("nij,pj->pni", turns, rays), whole)
    places += 0.1 * rng.standard_normal(places.shape)
    places[:40] = places[:40, :1]  # a tripod turns with the camera
    places[40:200, 6:] = np.nan
    found, errors = turned_camera(Tracks(1001, places, whole), 2, whole)
    for row in range(10):
        off = np.einsum("ij,pj->pi", found[row] @ turns[2] @ turns[row].T, directions_of(places[200:, row], whole))
        assert np.linalg.norm(off - directions_of(places[200:, row], whole), axis=1).max() < 2e-4
    assert errors[2] < 0.3
    few = (np.arange(10)[None, :, None] < 5) | (np.arange(400)[:, None, None] >= 396)
    with pytest.raises(FollowError, match="too little of what was seen"):
        turned_camera(Tracks(1001, np.where(few, places, np.nan), whole), 2, whole)


def test_points_on_two_planes_share_two_motions_and_strays_none():
    rng = np.random.default_rng(8)
    points = rng.uniform((0, 0), (600, 400), (160, 2))
    ways = [np.array([[1.02, 0.01, 6.0], [-0.01, 1.01, -3.0], [2e-5, 0, 1]]),
            np.array([[0.98, 0, -9], [0.02, 1, 5], [0, 0, 1.0]])]  # fmt: skip
    is_right = points[:, 0] > 300
    places = [points]
    for _ in range(3):
        left, right = (apply_matrix(way, places[-1]) for way in ways)
        places.append(np.where(is_right[:, None], right, left))
    seen = np.stack(places, axis=1)
    strays = rng.choice(160, 20, replace=False)
    seen[strays, 1:] += rng.uniform(15, 40, (20, 3, 2))
    seen[:, 1:] += 0.05 * rng.standard_normal(seen[:, 1:].shape)
    found = shared_motions(seen, 0, [1, 2, 3], lambda: None)
    assert len(found) == 2
    kept = np.setdiff1d(np.arange(160), strays)
    for one in found:
        (side,) = np.unique(is_right[one.members])
        assert one.members[kept[is_right[kept] == side]].mean() > 0.9
        assert not one.members[strays].any()
