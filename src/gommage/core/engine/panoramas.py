"""Work on panoramas: flat views to work in, and how the camera turned."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.core.document import Array, Project, Shot, Sphere, TurnedView, edits, new_id
from gommage.core.engine.evaluate import Engine
from gommage.core.follow.scene import tracked, turned_camera
from gommage.core.geometry import FlatView, Matrix, axis_turn, look_turn
from gommage.errors import FollowError

__all__ = ["follow_sphere", "levelled_by", "look_view", "panorama_view", "sphere_followed"]

DENSITY = 1.75
"""A flat view is so many times as fine as the panorama in its middle: what is painted is written back once."""
MOST_SIDE, LEAST_SIDE = 3072, 256
POLES_SHARE = 0.12
"""So much of the picture at its top and foot is not looked at: features are drawn out there."""


def look_view(
    shot: Shot, x: float, y: float, focal_px: float, size_wh: tuple[float, float], roll_deg: float = 0.0
) -> FlatView:
    """Return how a viewport sees a panorama whose place (x, y), level, is in its middle.

    Parameters
    ----------
    shot : Shot
    x, y : float
        Pixels of the panorama as it would be if it were level.
    focal_px : float
    size_wh : tuple of float
        Of the viewport.
    roll_deg : float
    """
    whole = shot.footage.width, shot.footage.height
    middle = size_wh[0] / 2, size_wh[1] / 2
    return FlatView(whole, look_turn(x, y, whole, roll_deg) @ _level(shot), focal_px, middle)


def _level(shot: Shot) -> Matrix:
    return np.eye(3) if shot.sphere is None else shot.sphere.level.values


def panorama_view(
    shot: Shot, x: float, y: float, fov_deg: float, name: str, *, roll_deg: float = 0.0, rides: bool = True
) -> Shot:
    """Return a flat view of a panorama to work in, as a shot of its own.

    Parameters
    ----------
    shot : Shot
        The panorama.
    x, y : float
        What of it is in the middle, in pixels of the panorama as it would be if it were level.
    fov_deg : float
        How much it sees across and down.
    name : str
    roll_deg : float
    rides : bool
        Whether it stays on the same part of the scene where the camera's turn was followed.
    """
    footage, sphere = shot.footage, shot.sphere
    half = np.tan(np.deg2rad(fov_deg) / 2)
    focal = DENSITY * footage.width / (2 * np.pi)
    side = int(np.clip(2 * half * focal, LEAST_SIDE, MOST_SIDE)) // 8 * 8
    turns = sphere.turns if sphere is not None and rides else None
    turned = TurnedView(
        panorama_width=footage.width,
        panorama_height=footage.height,
        turn=Array(look_turn(x, y, (footage.width, footage.height), roll_deg) @ _level(shot)),
        focal_px=float(side / (2 * half)),
        first_frame=sphere.first_frame if sphere is not None and turns is not None else 0,
        camera_turns=turns,
    )
    own = replace(footage, width=side, height=side, is_panorama=False, turned=turned)
    return Shot(id=new_id(), name=name, footage=own)


def levelled_by(sphere: Sphere | None, pitch_deg: float, roll_deg: float) -> Sphere:
    """Return a sphere levelled by hand: tipped forward, and to the right."""
    sphere = sphere or Sphere.plain()
    by = axis_turn(np.deg2rad([pitch_deg, 0.0, 0.0])) @ axis_turn(np.deg2rad([0.0, 0.0, roll_deg]))
    return replace(sphere, level=Array(by @ sphere.level.values))


def follow_sphere(
    engine: Engine,
    shot: Shot,
    home_frame: int,
    told: Callable[[str, float], object] = lambda words, share: None,
    check: Callable[[], None] = lambda: None,
) -> Sphere:
    """Return the sphere of a panorama with how its camera turned, from what stands still in the picture.

    Raises
    ------
    FollowError
        If there is too little texture, or it is no panorama.
    """
    footage = shot.footage
    if not footage.is_panorama:
        raise FollowError(f"{shot.name} is no panorama: its camera does not turn about itself.")
    height, width = footage.height, footage.width
    hidden: NDArray[np.uint8] = np.zeros((height, width), np.uint8)
    rim = round(POLES_SHARE * height)
    hidden[:rim], hidden[height - rim :] = 1, 1
    tracks = tracked(
        lambda frame: None if frame in footage.missing else engine.plate(footage, frame, check), footage.frames,
        lambda frame: hidden,
        lambda share: told("Tracking features", 0.9 * share), check,
    )  # fmt: skip
    turns, errors = turned_camera(tracks, home_frame - footage.frames.first, (width, height), check)
    told("Turning", 1.0)
    sphere = shot.sphere or Sphere.plain()
    return replace(sphere, first_frame=footage.frames.first, turns=Array(turns), error_px=Array(errors),
                   home_frame=home_frame)  # fmt: skip


def sphere_followed(engine: Engine, project: Project, shot_id: str, home_frame: int) -> Project:
    """Return the project with the turn of a panorama's camera followed; see `follow_sphere`."""
    return edits.set_sphere(project, shot_id, follow_sphere(engine, project.shot(shot_id), home_frame))
