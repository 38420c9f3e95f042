"""The walk backstage, some frames of it, solved: planes laid and polished, what rides on them, what proposes itself."""

from itertools import pairwise

import cv2
import numpy as np
import pytest
from msgspec.structs import replace

from gommage.core.document import (
    Array,
    CleanPlate,
    Fix,
    FrameRange,
    Matte,
    Pin,
    Plates,
    Project,
    ScenePlane,
    Shape,
    Shot,
    Softness,
    Still,
    Surface,
    edits,
    placement,
)
from gommage.core.document.records import FromPicture
from gommage.core.engine import (
    Engine,
    find_pieces,
    laid_plane,
    picked_plane,
    polish_planes,
    solve_camera,
    summarised,
)
from gommage.core.engine.solving import _hidden
from gommage.core.follow.exchange import read_track, write_track
from gommage.demo.backstage_job import AREAS, HOME
from gommage.errors import Cancelled, FollowError
from tests import shots
from tests.conftest import rectangle, shape_of

_, PART = shots.SHOTS["backstage"]
FRAMES = FrameRange(first=PART[0], last=PART[-1])


@pytest.fixture(scope="module")
def shot(walk) -> Shot:
    return Shot(id="theatre", name="Backstage", footage=walk.footage)


@pytest.fixture(scope="module")
def own_engine() -> Engine:
    return Engine(1 << 30)


@pytest.fixture(scope="module")
def solved_project() -> Project:
    project = shots.solved_walk()
    camera = project.shots[0].camera
    for name in ("floor", "parlour"):
        plane = laid_plane(camera, HOME, np.array(AREAS[name], float), name)
        project = edits.add_surface(project, "theatre", Surface(id=name, name=name, home_frame=HOME, how=plane))
    return project


def errors_of(project, walk, name):
    """Return by how much a plane is off, mean px over its outline on the frames of the part."""
    surface = project.shots[0].surface(name)
    low, high = surface.outline.min(axis=0), surface.outline.max(axis=0)
    x, y = (np.linspace(a, b, 6) for a, b in zip(low, high, strict=True))
    grid = np.stack(np.meshgrid(x, y), axis=-1).reshape(-1, 2)
    placed, means = placement(project.shots[0], surface), []
    for frame in range(FRAMES.first, FRAMES.last + 1, 5):
        true = walk.moved(name, grid, frame, HOME)
        inside = ((true > 0) & (true < (960, 540))).all(axis=1)
        means.append(np.hypot(*(placed.home_to_frame(frame)(grid) - true)[inside].T).mean())
    return float(np.mean(means))


def test_planes_lie_as_the_true_ones_and_closer_once_polished(own_engine, solved_project, walk):
    before = {name: errors_of(solved_project, walk, name) for name in ("floor", "parlour")}
    assert before["parlour"] < 0.1
    better, was, now = polish_planes(own_engine, solved_project.shots[0])
    assert now < was
    after = better.edit(solved_project, "theatre")
    assert errors_of(after, walk, "floor") < min(0.1, before["floor"])
    assert errors_of(after, walk, "parlour") < 0.1
    placed = placement(after.shots[0], after.shots[0].surface("floor"))
    assert 0.005 < placed.slip_px.mean() < 0.1, "what it tells of itself"
    assert not placed.is_flat


def test_a_plane_through_clicked_points_is_that_of_the_area(solved_project):
    camera = solved_project.shots[0].camera
    places, which = camera.seen_points(HOME)
    errors = camera.point_error_px.values[which]
    on_wall = (places[:, 0] > 735) & (places[:, 1] < 170) & (errors < np.median(errors))
    wall = places[on_wall]
    corners = np.array([wall[(wall * way).sum(axis=1).argmax()] for way in ((-1, -1), (1, -1), (1, 1), (-1, 1))])
    picked = picked_plane(camera, HOME, corners + 0.6, reach_px=3.0)
    assert picked is not None
    area = solved_project.shots[0].surface("parlour").how.plane.values
    rays = (corners - (480, 270)) / camera.lens.focal_px
    depths = np.column_stack([rays, np.ones(4)])
    assert depths @ picked.plane.values == pytest.approx(depths @ area, rel=0.02)
    assert picked_plane(camera, HOME, corners + 40.0, reach_px=3.0) is None, "beside the points an area is meant"


def test_what_is_covered_or_moves_by_itself_is_not_looked_at(own_engine, solved_project):
    shot = solved_project.shots[0]
    cover = Matte.of(shape_of(rectangle(100, 100, 180, 160), HOME, "cover"))
    moving = Surface(id="man", name="Man", home_frame=HOME, how=Still(corners=Array(rectangle(500, 50, 560, 200))),
                     moves_by_itself=True)  # fmt: skip
    busy = replace(shot, fixes=(Fix(id="f", name="F", cover=cover),), surfaces=(*shot.surfaces, moving))
    mask = _hidden(own_engine, busy, HOME, lambda: None)
    assert mask[130, 140]
    assert mask[120, 530]
    assert not mask[300, 300]
    assert _hidden(own_engine, shot, HOME, lambda: None) is None


def test_a_solve_can_be_called_off_and_refuses_what_it_cannot(own_engine, shot, solved_project):
    def stop():
        raise Cancelled

    with pytest.raises(Cancelled):
        solve_camera(own_engine, shot, FrameRange(first=1040, last=1050), check=stop)
    with pytest.raises(FollowError, match="no scene plane to polish"):
        polish_planes(own_engine, shot)
    with pytest.raises(FollowError, match="at least three solved points"):
        laid_plane(solved_project.shots[0].camera, HOME, rectangle(1, 1, 3, 3), "Speck")
    with pytest.raises(FollowError, match="where the camera is not solved"):
        laid_plane(solved_project.shots[0].camera, 1001, rectangle(1, 1, 300, 300), "Early")


def test_a_plate_on_a_scene_plane_takes_a_crate_away(own_engine, solved_project, walk):
    """A clean plate that was painted elsewhere, carried along the floor through the lens."""
    plate = CleanPlate(id="plate", name="Floor", surface_id="floor", home_frame=HOME)
    outline = walk.crate_outline(1, HOME)
    cover = Matte.of(Shape.of("crate", HOME, outline.mean(axis=0) + 1.15 * (outline - outline.mean(axis=0))),
                     surface_id="floor", softness=Softness(outwards_px=4.0))  # fmt: skip
    painted = replace(plate, base=FromPicture(path=str(walk.folder / "clean" / f"clean.{HOME}.exr")))
    fix = Fix(id="crate", name="Crate", surface_id="floor", cover=cover, fill=Plates(plate_ids=("plate",)))
    project = edits.add_fix(edits.add_clean_plate(solved_project, "theatre", painted), "theatre", fix)
    shot = project.shots[0]
    for frame in (1044, HOME, 1056):
        result, clean = own_engine.result(shot, frame), walk.clean(frame)
        alpha = own_engine.laid_matte(shot, frame)
        inside = alpha > 0.9
        assert inside.sum() > 3000
        mse = ((result - clean)[inside] ** 2).mean()
        assert -10 * np.log10(mse) > 37, "the crate itself is at 18 dB; grain alone at 42.9"
        plate_pixels = own_engine.plate(shot.footage, frame)
        assert np.array_equal(result[alpha == 0], plate_pixels[alpha == 0])
        if frame == HOME:
            # softness lies outside the line, and nothing of the plane cuts it
            assert ((alpha > 0.02) & (alpha < 0.98)).sum() > 500


def test_pins_files_and_lists_know_scene_planes(own_engine, solved_project, tmp_path):
    shot = solved_project.shots[0]
    floor = shot.surface("floor")
    corners = floor.corners
    there = placement(shot, floor).home_to_frame(1060)(corners)
    pin = Pin(frame=1060, home=corners, placed=there + (3.0, -1.0))
    pinned = edits.set_pin(solved_project, "theatre", "floor", pin)
    placed = placement(pinned.shots[0], pinned.shots[0].surface("floor"))
    assert np.abs(placed.home_to_frame(1060)(corners) - (there + (3.0, -1.0))).max() < 1e-6
    assert np.abs(placed.home_to_frame(HOME)(corners) - corners).max() < 1e-6
    path = tmp_path / "floor.json"
    write_track(path, floor, placement(shot, floor), (960, 540))
    track = read_track(path, floor, FRAMES)
    assert np.abs(track.mapping(1060)(corners) - there).max() < 0.01, "files hold where the corners go"
    known = summarised(shot, {}).surfaces["floor"]
    assert known.first == FRAMES.first
    assert 0 < known.worst_px < 0.5


def test_a_new_solve_is_another_scene_for_every_plane(own_engine, solved_project, shot):
    known = solved_project.shots[0].camera.lens
    stages, few = [], FrameRange(first=HOME - 5, last=HOME + 5)
    again = solve_camera(
        own_engine, solved_project.shots[0], few, known, told=lambda words, share: stages.append(share)
    )
    assert stages == sorted(stages)
    assert set(again.planes) == {"floor", "parlour"}
    after = again.edit(solved_project, "theatre")
    assert isinstance(after.shots[0].surface("floor").how, ScenePlane)
    assert summarised(after.shots[0], {}, summarised(solved_project.shots[0], {})).surfaces["floor"].is_known


# -- surfaces that propose themselves -----------------------------------------------------------------------


def test_round_a_crate_the_floor_comes_first(own_engine, shot, walk):
    outline = walk.crate_outline(0, HOME)
    thing = outline.mean(axis=0) + 1.2 * (outline - outline.mean(axis=0))
    pieces = find_pieces(own_engine, shot, HOME, thing)
    mask = np.zeros((540, 960), np.uint8)
    cv2.fillPoly(mask, [np.round(pieces[0].outline).astype(np.int32)], 1)
    floor = walk.piece_corners("floor", HOME)
    assert floor.shape == (4, 2)
    assert mask[440:530, 300:420].mean() > 0.9, "the boards before the crate"
    assert mask[40:160, 100:240].mean() < 0.1, "not the painted wood"
    assert pieces[0].trust_px < 1.0
    assert pieces[0].share > 0.5
    assert HOME in pieces[0].frames


def test_over_the_picture_flats_and_floor_are_told_apart(own_engine, shot):
    pieces = find_pieces(own_engine, shot, HOME)
    assert len(pieces) >= 2
    assert all(one.share > two.share for one, two in pairwise(pieces))
    assert sum(piece.share for piece in pieces) <= 1.0 + 1e-6
