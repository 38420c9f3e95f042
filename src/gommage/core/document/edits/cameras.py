"""Edits of the solved camera and of the planes in its scene."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.core.document.arrays import Array
from gommage.core.document.edits.changing import changed, in_shot, swapped
from gommage.core.document.edits.surfaces import in_surface
from gommage.core.document.records import Project, ScenePlane, Shot, SolvedCamera, Surface
from gommage.core.geometry import axis_turn
from gommage.errors import EditError

__all__ = ["nudge_plane", "set_camera", "set_ground", "stand_upright"]

Floats = NDArray[np.float64]
NO_PLANES: Mapping[str, ScenePlane] = {}
SEEN_EDGE_ON = 0.01
"""A plane whose normal is so nearly across the view is seen from its edge."""


def set_camera(
    project: Project, shot_id: str, camera: SolvedCamera | None, planes: Mapping[str, ScenePlane] = NO_PLANES
) -> Project:
    """Return the project with a shot's camera solved (None: not solved any more).

    Parameters
    ----------
    project : Project
    shot_id : str
    camera : SolvedCamera or None
    planes : mapping
        Scene planes as they lie in it, by their surfaces' ids: each solve has a scene of its own.

    Raises
    ------
    EditError
        If scene planes would lie in a scene that is gone, or in another one than they were made in.
    """

    def change(shot: Shot) -> Shot:
        left = [one for one in shot.surfaces if isinstance(one.how, ScenePlane) and one.id not in planes]
        if left and camera != shot.camera:
            gone = "without the solved camera" if camera is None else "in the new solve"
            raise EditError(f"{left[0].name} would lie nowhere {gone}. Remove it first.")
        surfaces = shot.surfaces
        for surface_id, plane in planes.items():
            surfaces = swapped(surfaces, changed(shot.surface(surface_id), how=plane))
        return changed(shot, surfaces=surfaces, camera=camera)

    return in_shot(project, shot_id, change)


def set_ground(project: Project, shot_id: str, surface_id: str) -> Project:
    """Return the project with a scene plane named the ground, by which the scene is level (empty: none is)."""

    def change(shot: Shot) -> Shot:
        if shot.camera is None:
            raise EditError("There is no solved camera in this shot: nothing to level.")
        if surface_id and not isinstance(shot.surface(surface_id).how, ScenePlane):
            raise EditError(f"{shot.surface(surface_id).name} is no plane of the solved scene.")
        return changed(shot, camera=changed(shot.camera, ground_id=surface_id))

    return in_shot(project, shot_id, change)


def nudge_plane(
    project: Project, shot_id: str, surface_id: str, lean_deg: float = 0.0, swing_deg: float = 0.0, away: float = 0.0
) -> Project:
    """Return the project with a scene plane tilted about the middle of its outline, or moved along the view.

    Parameters
    ----------
    project : Project
    shot_id, surface_id : str
    lean_deg, swing_deg : float
        About the line across the home frame, and about the line down it.
    away : float
        By what share of its distance it is moved away; below 0: nearer.
    """

    def change(surface: Surface) -> Surface:
        plane, ray = _plane_and_middle(surface, _shot_of(project, shot_id).camera)
        assert isinstance(surface.how, ScenePlane)
        middle = ray / (plane @ ray) * (1 + away)
        turn = axis_turn(np.deg2rad([lean_deg, 0.0, 0.0])) @ axis_turn(np.deg2rad([0.0, swing_deg, 0.0]))
        normal = turn @ plane
        if not normal @ middle / np.linalg.norm(middle) > SEEN_EDGE_ON * np.linalg.norm(normal):
            raise EditError(f"{surface.name} would be seen from its edge.")
        return changed(surface, how=replace(surface.how, plane=Array(normal / (normal @ middle))))

    return in_surface(project, shot_id, surface_id, change)


def stand_upright(project: Project, shot_id: str, surface_id: str) -> Project:
    """Return the project with a scene plane turned about the middle of its outline until it stands on the ground.

    Raises
    ------
    EditError
        If no plane is the ground, or it lies as the ground does.
    """
    shot = _shot_of(project, shot_id)
    camera = shot.camera
    if camera is None or not camera.ground_id:
        raise EditError("Name a plane the ground first: upright is what stands on it.")
    ground = shot.surface(camera.ground_id)

    def change(surface: Surface) -> Surface:
        plane, ray = _plane_and_middle(surface, camera)
        assert isinstance(ground.how, ScenePlane)
        assert isinstance(surface.how, ScenePlane)
        up = ground.how.plane.values / np.linalg.norm(ground.how.plane.values)
        turn = camera.pose(surface.home_frame)[0] @ camera.pose(ground.home_frame)[0].T
        up = turn @ up
        normal = plane - (plane @ up) * up
        middle = ray / (plane @ ray)
        if not normal @ middle / np.linalg.norm(middle) > SEEN_EDGE_ON * np.linalg.norm(plane):
            raise EditError(f"{surface.name} lies as the ground does: it cannot be stood up.")
        return changed(surface, how=replace(surface.how, plane=Array(normal / (normal @ middle))))

    return in_surface(project, shot_id, surface_id, change)


def _shot_of(project: Project, shot_id: str) -> Shot:
    try:
        return project.shot(shot_id)
    except KeyError as error:
        raise EditError(f"There is no item {error.args[0]!r} in this project any more.") from error


def _plane_and_middle(surface: Surface, camera: SolvedCamera | None) -> tuple[Floats, Floats]:
    """Return a scene plane's numbers (3,), and the direction (3,) of the middle of its outline."""
    if not isinstance(surface.how, ScenePlane) or camera is None:
        raise EditError(f"{surface.name} is no plane of the solved scene.")
    lens, plane = camera.lens, surface.how.plane.values
    flat = (lens.straightened(surface.outline.mean(axis=0)) - (lens.middle_x, lens.middle_y)) / lens.focal_px
    ray = np.array([*flat, 1.0])
    if not plane @ ray > 0 or camera.is_nodal:
        raise EditError(f"{surface.name} is infinitely far: it cannot be tilted or moved.")
    return plane, ray
