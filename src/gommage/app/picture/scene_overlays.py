"""What is drawn over the picture of the solved scene and of lattices."""

from __future__ import annotations

from itertools import pairwise

import numpy as np

from gommage.app.hands.ground import Ground
from gommage.core.document import ScenePlane, Surface
from gommage.core.geometry import Mapping, Points, plane_grid

__all__ = ["horizon", "lattice", "lattice_of", "scene_points"]

LATTICE_LINES = 9
CURVED_STEPS = 16
HORIZON_STEPS = 24
SURE_PX = (0.0, 0.15, 0.35, np.inf)
"""Between which errors solved points are as sure as each other."""


def scene_points(ground: Ground) -> tuple[Points, ...]:
    """Return the points of the solved scene that are on the frame, by how sure they are."""
    camera = ground.shot.camera if ground.shot is not None else None
    if camera is None or not ground.desk.shows_points:
        return ()
    places, which = camera.seen_points(ground.frame)
    errors = camera.point_error_px.values[which]
    shares = [(errors >= low) & (errors < high) for low, high in pairwise(SURE_PX)]
    return tuple(ground.view_from_frame(places[chosen]) for chosen in shares)


def horizon(ground: Ground) -> Points | None:
    """Return the horizon of the ground in the viewport, where the picture shows it."""
    shot = ground.shot
    camera = shot.camera if shot is not None else None
    if shot is None or camera is None or not camera.ground_id or not camera.is_solved(ground.frame):
        return None
    plane = shot.surface(camera.ground_id)
    assert isinstance(plane.how, ScenePlane)
    turn = camera.pose(ground.frame)[0] @ camera.pose(plane.home_frame)[0].T
    a, b, c = turn @ plane.how.plane.values
    lens, bounds = camera.lens, shot.footage.bounds
    x = np.linspace(bounds.left, bounds.right, HORIZON_STEPS)
    if abs(b) < abs(a):
        return None
    flat = (x - lens.middle_x) / lens.focal_px
    line = np.column_stack([x, lens.middle_y - lens.focal_px * (a * flat + c) / b])
    return ground.view_from_frame(lens.bent(line))


def lattice_of(ground: Ground, surface: Surface, to_view: Mapping) -> tuple[Points, ...]:
    """Return the grid on a surface: on a plane of the solved scene it lies as the plane does."""
    camera = ground.shot.camera if ground.shot is not None else None
    if not isinstance(surface.how, ScenePlane) or camera is None or not surface.how.plane.values.any():
        return lattice(surface.outline, to_view)
    lines = plane_grid(camera.lens, surface.how.plane.values, surface.outline, LATTICE_LINES, CURVED_STEPS)
    return tuple(to_view(lines))


def lattice(points: Points, to_view: Mapping) -> tuple[Points, ...]:
    """Return the lines of a grid over a shape's box on its surface, as the viewport sees them."""
    low, high = points.min(axis=0), points.max(axis=0)
    step = max(high - low) / (LATTICE_LINES - 1)
    low, high = low - step, high + step
    across = np.arange(low[0], high[0] + step / 2, step)
    down = np.arange(low[1], high[1] + step / 2, step)
    count = 2 if to_view.matrix is not None else CURVED_STEPS
    along_x, along_y = np.linspace(low[0], across[-1], count), np.linspace(low[1], down[-1], count)
    lines = [np.column_stack([np.full(count, x), along_y]) for x in across]
    lines += [np.column_stack([along_x, np.full(count, y)]) for y in down]
    return tuple(to_view(np.stack(lines)))
