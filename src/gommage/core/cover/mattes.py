"""Rasterise covers: full inside the drawn line, falling to nothing over the soft edge outside it."""

from __future__ import annotations

import numpy as np

from gommage.core.document import Cover, Shape
from gommage.core.picture import Matrix, Picture, Points, Window, apply_matrix, around

__all__ = ["cover_matte", "outline", "shape_outline_in_frame"]

SEGMENTS = 12
"""Straight pieces a smooth side is drawn with."""
HARDEST_EDGE_PX = 1.0
"""No edge is harder than a pixel: that would be jagged."""


def outline(points: Points, *, is_smooth: bool) -> Points:
    """Return a closed shape's outline as a polygon.

    A smooth shape is a closed centripetal Catmull-Rom curve through its vertices.

    Parameters
    ----------
    points : (N, 2) float64
        The vertices.
    is_smooth : bool

    Returns
    -------
    (M, 2) float64

    References
    ----------
    P. Barry and R. Goldman, A recursive evaluation algorithm for a class of Catmull-Rom splines, SIGGRAPH 1988.
    """
    if not is_smooth or len(points) < 3:
        return points
    p0, p1, p2, p3 = (np.roll(points, shift, axis=0) for shift in (1, 0, -1, -2))

    def knot(a: Points, b: Points) -> Points:
        return np.maximum(np.hypot(*(b - a).T), 1e-9)[:, None] ** 0.5

    t1 = knot(p0, p1)
    t2 = t1 + knot(p1, p2)
    t3 = t2 + knot(p2, p3)
    pieces = []
    for share in np.linspace(0, 1, SEGMENTS, endpoint=False):
        t = t1 + (t2 - t1) * share
        a1 = (t1 - t) / t1 * p0 + t / t1 * p1
        a2 = (t2 - t) / (t2 - t1) * p1 + (t - t1) / (t2 - t1) * p2
        a3 = (t3 - t) / (t3 - t2) * p2 + (t - t2) / (t3 - t2) * p3
        b1 = (t2 - t) / t2 * a1 + t / t2 * a2
        b2 = (t3 - t) / (t3 - t1) * a2 + (t - t1) / (t3 - t1) * a3
        pieces.append((t2 - t) / (t2 - t1) * b1 + (t - t1) / (t2 - t1) * b2)
    return np.stack(pieces, axis=1).reshape(-1, 2)


def shape_outline_in_frame(shape: Shape, frame: int, home_to_frame: Matrix) -> Points:
    """Return a shape's outline (M, 2) in a frame's pixels; points behind the camera are left out."""
    home = outline(shape.points_at(frame), is_smooth=shape.is_smooth)
    moved = apply_matrix(home_to_frame, home)
    return moved[np.isfinite(moved).all(axis=1)]


def cover_matte(cover: Cover, frame: int, home_to_frame: Matrix, bounds: Window) -> tuple[Window, Picture] | None:
    """Rasterise a cover on a frame.

    Parameters
    ----------
    cover : Cover
        Its shapes are united. `softness_px` and `grow_px` count pixels of the frame.
    frame : int
        Which keys.
    home_to_frame : (3, 3) float64
        Of the surface the cover rides on.
    bounds : Window
        The picture.

    Returns
    -------
    (Window, (h, w) float32) or None
        The smallest window that holds the matte, and the matte; None where nothing is covered.
    """
    soft = max(cover.softness_px, HARDEST_EDGE_PX)
    reach = soft + max(cover.grow_px, 0.0)
    outlines = [shape_outline_in_frame(shape, frame, home_to_frame) for shape in cover.shapes]
    outlines = [points for points in outlines if len(points) >= 3]
    if not outlines:
        return None
    window = around(np.vstack(outlines), reach + 1) & bounds
    if window.is_empty:
        return None
    matte = np.zeros((window.height, window.width), np.float32)
    for points in outlines:
        np.maximum(matte, _shape_matte(points, window, soft, cover.grow_px), out=matte)
    return (window, matte) if matte.any() else None


def _shape_matte(points: Points, window: Window, soft: float, grow: float) -> Picture:
    from gommage.core.cover.kernels import inside, nearest_outline  # compiled code is loaded late

    within = np.zeros((window.height, window.width), np.float32)
    inside(points, window.left, window.top, within)
    reach = soft + abs(grow) + 1
    squared = np.full(within.shape, reach * reach, np.float32)
    nearest_outline(points, window.left, window.top, reach, squared)
    outside_by = np.sqrt(squared) * np.where(within > 0, -1, 1) - grow
    fall = np.clip(1 - outside_by / soft, 0, 1)
    return (fall * fall * (3 - 2 * fall)).astype(np.float32)
