"""Lenses and panoramas: there and back, composed, and where nothing is."""

import numpy as np
import pytest

from gommage.core.geometry import (
    FlatView,
    Lens,
    ThroughLens,
    Window,
    axis_turn,
    composed,
    directions_of,
    growth,
    look_turn,
    places_of_directions,
    plane_grid,
    plane_motion,
    scaling,
    shift,
    then,
    turning,
)

LENS = Lens(1000.0, 480.0, 270.0, -0.08, 0.015)
RNG = np.random.default_rng(4)
PLACES = RNG.uniform(0, [960, 540], (400, 2))
WHOLE = (720, 360)


def test_what_a_lens_bends_it_straightens():
    bent = LENS.bent(PLACES)
    assert 8 < np.abs(bent - PLACES).max() < 20, "a barrel of some pixels in the corners"
    assert np.abs(LENS.straightened(bent) - PLACES).max() < 1e-9
    assert np.array_equal(Lens(900.0, 480.0, 270.0).bent(PLACES), PLACES)


def test_where_the_lens_folds_the_picture_back_there_is_nothing():
    strong = Lens(400.0, 480.0, 270.0, -0.4)
    far = np.array([[480.0 + 3000, 270.0]])
    assert np.isnan(strong.bent(far)).all()
    assert np.isnan(strong.straightened(far)).all()


def test_motions_through_one_lens_are_composed_without_its_bend():
    motion = np.array([[1.02, 0.03, 5.0], [-0.02, 0.98, -3.0], [2e-5, -1e-5, 1.0]])
    one, other = ThroughLens(LENS, motion), ThroughLens(LENS, np.linalg.inv(motion))
    both = then(one, other)
    assert isinstance(both, ThroughLens)
    assert np.abs(both(PLACES) - PLACES).max() < 1e-8
    assert np.abs(one.inverse()(one(PLACES)) - PLACES).max() < 1e-8
    assert one != other
    assert one == ThroughLens(LENS, 3 * motion), "a matrix that is larger by a factor moves points alike"
    mixed = then(one, scaling(0.5))
    assert np.abs(mixed(PLACES) - one(PLACES) / 2).max() < 1e-9
    assert np.abs(one.field(Window(3, 4, 9, 8))[1, 2] - one(np.array([5.5, 5.5]))).max() < 1e-12


def test_a_plane_moves_as_its_points_are_seen():
    plane = np.array([0.02, -0.05, 0.2])
    turn = axis_turn(np.array([0.05, -0.1, 0.02]))
    home, pose = (np.eye(3), np.zeros(3)), (turn, np.array([0.3, -0.1, 0.2]))
    flat = (PLACES - (480, 270)) / 1000
    rays = np.column_stack([flat, np.ones(len(flat))])
    points = rays / (rays @ plane)[:, None]
    seen = points @ pose[0].T + pose[1]
    wanted = LENS.bent(seen[:, :2] / seen[:, 2:] * 1000 + (480, 270))
    ahead = seen[:, 2] > 0.1
    moved = ThroughLens(LENS, plane_motion(LENS, home, pose, plane))(LENS.bent(PLACES))
    assert ahead.sum() > 100
    assert np.nanmax(np.abs(moved - wanted)[ahead]) < 1e-6


def test_a_grid_lies_on_its_plane_in_squares():
    plane = np.array([0.0, 0.5, 0.05])  # a floor
    outline = np.array([[200, 400], [800, 400], [800, 530], [200, 530.0]])
    lines = plane_grid(Lens(1000.0, 480.0, 270.0), plane, outline, 5, 9)
    flat = (lines - (480, 270)) / 1000
    rays = np.concatenate([flat, np.ones((*flat.shape[:-1], 1))], axis=-1)
    points = rays / (rays @ plane)[..., None]
    along = [line for line in points if np.isfinite(line).all()]
    steps = [np.linalg.norm(line[1:] - line[:-1], axis=1) for line in along]
    assert len(along) >= 6
    assert all(np.ptp(step) < 1e-9 * step.mean() + 1e-9 for step in steps), "even steps on the plane"


def looking(x, y, roll=0.0, focal=150.0):
    return FlatView(WHOLE, look_turn(x, y, WHOLE, roll), focal, (100.0, 80.0))


@pytest.mark.parametrize(("x", "y", "roll"), [(360, 180, 0), (3, 170, 20), (400, 360, 0), (100, 0, -35)])
def test_a_flat_view_there_and_back(x, y, roll):
    view = looking(x, y, roll)
    middle = view.inverse()(np.array([100.0, 80.0]))
    assert np.abs(directions_of(middle, WHOLE) - directions_of(np.array([x, y], float), WHOLE)).max() < 1e-9
    places = RNG.uniform(0, [200, 160], (300, 2))
    there = view.inverse()(places)
    assert (there >= 0).all()
    assert (there <= WHOLE).all()
    assert np.abs(view(there) - places).max() < 1e-8
    field = view.inverse().field(Window(5, 7, 60, 50))
    assert np.abs(field[3, 4] - view.inverse()(np.array([9.5, 10.5]))).max() < 1e-9


def test_a_flat_view_scales_and_shifts_as_one():
    view, places = looking(200, 300), RNG.uniform(0, [200, 160], (50, 2))
    seen = view.inverse()(places)
    larger = then(view, composed(scaling(2), shift(3, 4)))
    assert isinstance(larger, FlatView)
    assert np.abs(larger(seen) - (places * 2 + (3, 4))).max() < 1e-9
    smaller = then(view.inverse(), scaling(0.25))
    assert isinstance(smaller, FlatView)
    assert np.abs(smaller(places) - seen / 4).max() < 1e-9
    assert growth(view, np.array([10.0, 10.0])) == pytest.approx(2 * np.pi * 150 / 720)
    turned = then(view, turning(0.1))
    assert not isinstance(turned, FlatView)
    assert turned.wraps
    behind = view(places_of_directions(-directions_of(seen[:1], WHOLE), WHOLE))
    assert np.isnan(behind).all()
