"""The line that a shape's vertices stand for."""

from __future__ import annotations

import numpy as np

from gommage.core.document.records import Shape, VertexKind
from gommage.core.geometry import Points

__all__ = ["outline", "outline_at"]

SEGMENTS = 12
"""Straight pieces a curved side is drawn with."""


def outline_at(shape: Shape, frame: int) -> Points:
    """Return a shape's outline on a frame as a polygon, (M, 2) in pixels of what it rides on."""
    return outline(shape.vertices_at(frame), shape.kinds)


def outline(vertices: Points, kinds: tuple[VertexKind, ...]) -> Points:
    """Return a closed shape's outline as a polygon.

    Between corners sides are straight. Through smooth vertices runs a closed centripetal Catmull-Rom curve, which has
    no loops and no overshoot; a vertex with handles has a curve of its own on either side.

    Parameters
    ----------
    vertices : (N, 2) or (N, 8) float64
        Places; with handles in columns 2 to 5.
    kinds : tuple of VertexKind
        One a vertex.

    Returns
    -------
    (M, 2) float64

    References
    ----------
    C. Yuksel, S. Schaefer, J. Keyser, Parameterization and applications of Catmull-Rom curves, Computer-Aided Design
    43(7), 2011, doi:10.1016/j.cad.2010.08.008; written as cubic Bezier pieces.
    """
    points = vertices[:, :2]
    if all(kind is VertexKind.CORNER for kind in kinds) or len(points) < 3:
        return points
    arriving, leaving = _handles(vertices, kinds)
    ends, next_arriving = np.roll(points, -1, axis=0), np.roll(arriving, -1, axis=0)
    share = np.linspace(0, 1, SEGMENTS, endpoint=False)[None, :, None]
    first, second = points + leaving, ends + next_arriving
    pieces = (
        (1 - share) ** 3 * points[:, None]
        + 3 * (1 - share) ** 2 * share * first[:, None]
        + 3 * (1 - share) * share**2 * second[:, None]
        + share**3 * ends[:, None]
    )
    return pieces.reshape(-1, 2)


def _handles(vertices: Points, kinds: tuple[VertexKind, ...]) -> tuple[Points, Points]:
    """Return the handles of each vertex, (N, 2) before and after it, counted from it."""
    points = vertices[:, :2]
    before, after = np.roll(points, 1, axis=0), np.roll(points, -1, axis=0)
    near = np.maximum(np.hypot(*(points - before).T), 1e-9)[:, None] ** 0.5
    far = np.maximum(np.hypot(*(after - points).T), 1e-9)[:, None] ** 0.5
    speed = (points - before) / near - (after - before) / (near + far) + (after - points) / far
    is_smooth = np.array([kind is VertexKind.SMOOTH for kind in kinds])[:, None]
    arriving, leaving = np.where(is_smooth, -speed * near / 3, 0.0), np.where(is_smooth, speed * far / 3, 0.0)
    if vertices.shape[1] > 2:
        has_handles = np.array([kind is VertexKind.HANDLES for kind in kinds])[:, None]
        arriving = np.where(has_handles, vertices[:, 2:4], arriving)
        leaving = np.where(has_handles, vertices[:, 4:6], leaving)
    return arriving, leaving
