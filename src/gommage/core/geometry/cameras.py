"""Cameras, and how flat things move before them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from gommage.core.geometry.lenses import Lens
from gommage.core.geometry.mappings import Mapping, from_matrix
from gommage.core.geometry.windows import Matrix, Points

__all__ = ["Camera", "Pose", "axis_turn", "plane_grid", "plane_motion"]

Pose = tuple[NDArray[np.float64], NDArray[np.float64]]
"""A turn (3, 3) and a move (3,): a point of the scene lies at ``turn @ point + move`` before the camera."""


def axis_turn(vectors: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return the turns (..., 3, 3) about axes (..., 3) by their lengths in radians (O. Rodrigues' formula)."""
    angle = np.linalg.norm(vectors, axis=-1)[..., None, None]
    x, y, z = np.moveaxis(np.asarray(vectors, np.float64), -1, 0)
    zero = np.zeros_like(x)
    cross = np.stack([zero, -z, y, z, zero, -x, -y, x, zero], axis=-1).reshape(*x.shape, 3, 3)
    cross = cross / np.maximum(angle, 1e-12)
    out: NDArray[np.float64] = np.eye(3) + np.sin(angle) * cross + (1 - np.cos(angle)) * (cross @ cross)
    return out


def plane_grid(lens: Lens, plane: NDArray[np.float64], outline: Points, lines: int, steps: int) -> NDArray[np.float64]:
    """Return the lines of a square grid that lies on a plane and reaches over an outline, as they are seen.

    Parameters
    ----------
    lens : Lens
    plane : (3,) float64
        Inverse depth of a direction (x, y, 1); not infinitely far.
    outline : (N, 2) float64
        Pixels; what lies beyond the plane's horizon does not count.
    lines, steps : int
        How many lines along the longer side, and points a line.

    Returns
    -------
    (L, steps, 2) float64
        Pixels; NaN behind the camera.
    """
    flat = (lens.straightened(outline) - (lens.middle_x, lens.middle_y)) / lens.focal_px
    rays = np.column_stack([flat, np.ones(len(flat))])
    inverse = rays @ plane
    there = rays[inverse > 0] / inverse[inverse > 0, None]
    normal = plane / np.linalg.norm(plane)
    across = np.array([1.0, 0.0, 0.0]) - normal[0] * normal
    across /= max(float(np.linalg.norm(across)), 1e-9)
    axes = np.stack([across, np.cross(normal, across)])
    origin = plane / (plane @ plane)
    places = (there - origin) @ axes.T
    low, high = places.min(axis=0), places.max(axis=0)
    step = float((high - low).max()) / (lines - 1)
    first, last = np.floor(low / step) * step, np.ceil(high / step) * step
    u, v = (np.arange(a, b + step / 2, step) for a, b in zip(first, last, strict=True))
    along = [np.linspace(one[0], one[-1], steps) for one in (u, v)]
    grid = [np.column_stack([np.full(steps, x), along[1]]) for x in u]
    grid += [np.column_stack([along[0], np.full(steps, y)]) for y in v]
    points = origin + np.stack(grid) @ axes
    depth = points[..., 2:]
    seen = np.where(depth > 1e-9, points[..., :2] / np.where(depth > 1e-9, depth, 1.0), np.nan)
    return lens.bent(seen * lens.focal_px + (lens.middle_x, lens.middle_y))


def plane_motion(lens: Lens, home: Pose, there: Pose, plane: NDArray[np.float64]) -> Matrix:
    """Return the motion (3, 3) of a plane's straight pixels, home to another frame; its sign counts.

    Parameters
    ----------
    lens : Lens
    home, there : Pose
        Of the camera on both frames.
    plane : (3,) float64
        Inverse depth on the home frame, linear in the direction (x, y, 1).
    """
    turn = there[0] @ home[0].T
    move = there[1] - turn @ home[1]
    inner = lens.inner
    motion: Matrix = inner @ (turn + np.outer(move, plane)) @ np.linalg.inv(inner)
    return motion


@dataclass(frozen=True, slots=True)
class Camera:
    """A camera without distortion: x right, y down, z into the picture.

    Attributes
    ----------
    focal_px : float
    centre_xy : tuple of float
        The principal point, in pixels.
    yaw_rad, pitch_rad, roll_rad : float
        How it is turned: first about y, then x, then z.
    position : (3,) float64
        In units of the scene.
    """

    focal_px: float
    centre_xy: tuple[float, float]
    yaw_rad: float
    pitch_rad: float
    roll_rad: float
    position: NDArray[np.floating[Any]]

    def sees_plane(
        self, corner: NDArray[np.floating[Any]], across: NDArray[np.floating[Any]], down: NDArray[np.floating[Any]]
    ) -> Mapping:
        """Return where pixels of a sheet are in the picture.

        Parameters
        ----------
        corner : (3,) float64
            Where the sheet's pixel position (0, 0) is in the scene.
        across, down : (3,) float64
            By what one pixel of the sheet to the right, and down, moves on in the scene.
        """
        plane = np.column_stack([across, down, corner - self.position])
        x, y = self.centre_xy
        inner = np.array([[self.focal_px, 0, x], [0, self.focal_px, y], [0, 0, 1.0]])
        return from_matrix(inner @ self._turn() @ plane)

    def _turn(self) -> NDArray[np.float64]:
        yaw, pitch, roll = self.yaw_rad, self.pitch_rad, self.roll_rad
        turn_y = np.array([[np.cos(yaw), 0, np.sin(yaw)], [0, 1, 0], [-np.sin(yaw), 0, np.cos(yaw)]])
        turn_x = np.array([[1, 0, 0], [0, np.cos(pitch), -np.sin(pitch)], [0, np.sin(pitch), np.cos(pitch)]])
        turn_z = np.array([[np.cos(roll), -np.sin(roll), 0], [np.sin(roll), np.cos(roll), 0], [0, 0, 1]])
        return turn_z @ turn_x @ turn_y
