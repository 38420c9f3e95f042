"""The line that a shape's vertices stand for."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from gommage.core.document.records import Shape, VertexKind
from gommage.core.geometry import Points, closed_monotone_cubic, monotone_cubic

__all__ = [
    "LINE_TOLERANCE_PX",
    "MOST_PIECES",
    "handles",
    "normals",
    "on_line",
    "outline",
    "outline_at",
    "sampled",
    "sides",
    "softness_along",
]

LINE_TOLERANCE_PX = 0.01
"""So near to the true curve its straight pieces stay: a pixel's coverage is off by less than a sixty-fourth then."""
MOST_PIECES = 512
"""Of one side."""


def outline_at(shape: Shape, frame: float) -> Points:
    """Return a shape's line on a frame as a polygon, (M, 2) in pixels of what it rides on."""
    return outline(shape.vertices_at(frame), shape.kinds, is_closed=shape.is_closed)


def outline(vertices: Points, kinds: tuple[VertexKind, ...], *, is_closed: bool = True) -> Points:
    """Return a shape's line as a polygon; see `sides` for how it runs, `sampled` for how near it is.

    Returns
    -------
    (M, 2) float64
    """
    return sampled(vertices, kinds, is_closed=is_closed)[0]


def sampled(
    vertices: Points, kinds: tuple[VertexKind, ...], *, is_closed: bool = True,
    tolerance_px: float = LINE_TOLERANCE_PX, least: int = 1,
) -> tuple[Points, NDArray[np.float64]]:  # fmt: skip
    """Return points on a shape's line, so many that straight pieces between them are near it.

    Parameters
    ----------
    vertices : (N, 2) or (N, 8) float64
    kinds : tuple of VertexKind
    is_closed : bool
    tolerance_px : float
        How far the pieces may be from the curve.
    least : int
        Pieces of each side at least, straight ones too: for what will be bent.

    Returns
    -------
    points : (M, 2) float64
    where : (M,) float64
        On which side, counted from 0, and how far along it, 0 to 1.
    """
    points = vertices[:, :2]
    if least == 1 and all(kind is VertexKind.CORNER for kind in kinds):
        return points, np.arange(len(points), dtype=np.float64)
    pieces = sides(vertices, kinds, is_closed=is_closed)
    bends = pieces[:, 2:] - 2 * pieces[:, 1:3] + pieces[:, :2]
    bend = np.sqrt((bends * bends).sum(axis=2).max(axis=1))
    # a cubic's straight pieces are off by at most an eighth of its second derivative, 6 bends, by their length squared
    counts = np.maximum(np.ceil(np.sqrt(0.75 / tolerance_px * bend)), least)
    counts = np.minimum(counts, MOST_PIECES).astype(np.int64)
    ends = np.cumsum(counts)
    side = np.repeat(np.arange(len(pieces)), counts)
    where = np.arange(len(side), dtype=np.float64)
    where -= np.repeat(ends - counts, counts)
    where /= counts[side]
    found = _between(pieces, side, where)
    where += side
    if is_closed:
        return found, where
    return np.concatenate([found, points[-1:]]), np.append(where, float(len(pieces)))


def on_line(
    vertices: Points, kinds: tuple[VertexKind, ...], where: NDArray[np.float64], *, is_closed: bool = True
) -> Points:
    """Return the points (M, 2) of a shape's line at places (M,) as `sampled` returns them."""
    pieces = sides(vertices, kinds, is_closed=is_closed)
    side = np.minimum(where.astype(np.int64), len(pieces) - 1)
    return _between(pieces, side, where - side)


def _between(pieces: NDArray[np.float64], side: NDArray[np.int64], share: NDArray[np.float64]) -> Points:
    """Return the points of sides, each at a share of its way."""
    start, first, second, end = (pieces[:, k] for k in range(4))
    slope, bend = 3 * (first - start), 3 * (second - 2 * first + start)
    powers = np.concatenate([start, slope, bend, end - start - slope - bend], axis=1)[side]
    t = share[:, None]
    found: Points = ((powers[:, 6:] * t + powers[:, 4:6]) * t + powers[:, 2:4]) * t + powers[:, :2]
    return found


def sides(vertices: Points, kinds: tuple[VertexKind, ...], *, is_closed: bool = True) -> NDArray[np.float64]:
    """Return the sides of a shape as cubic Bezier curves.

    Between corners sides are straight. Through smooth vertices runs a centripetal Catmull-Rom curve, which has no loops
    and no overshoot; a vertex with handles has a curve of its own on either side.

    Parameters
    ----------
    vertices : (N, 2) or (N, 8) float64
        Places; with handles in columns 2 to 5.
    kinds : tuple of VertexKind
        One a vertex.
    is_closed : bool
        Whether a side leads from the last vertex to the first.

    Returns
    -------
    (N or N - 1, 4, 2) float64

    References
    ----------
    C. Yuksel, S. Schaefer, J. Keyser, Parameterization and applications of Catmull-Rom curves, Computer-Aided Design
    43(7), 2011, doi:10.1016/j.cad.2010.08.008; written as cubic Bezier pieces.
    """
    points, (is_smooth, has_handles) = vertices[:, :2], _are(kinds)
    around = np.concatenate([points[-1:], points, points[:1]])
    if not is_closed:  # as though the line went on straight
        around[0], around[-1] = 2 * points[0] - points[1], 2 * points[-1] - points[-2]
    ways = around[1:] - around[:-1]
    starts, ends, chords = points, around[2:], ways[1:]
    first, second = chords / 3, -chords / 3  # between corners: straight, and run evenly
    if is_smooth.any() or has_handles.any():
        leaving, arriving = np.zeros_like(points), np.zeros_like(points)
        if is_smooth.any():
            spans = np.maximum(np.hypot(ways[:, 0], ways[:, 1]), 1e-9)[:, None] ** 0.5
            near, far = spans[:-1], spans[1:]
            speed = ways[:-1] / near - (ways[:-1] + ways[1:]) / (near + far) + ways[1:] / far
            leaving, arriving = np.where(is_smooth, speed * far / 3, 0.0), np.where(is_smooth, -speed * near / 3, 0.0)
        if has_handles.any() and vertices.shape[1] > 2:
            arriving = np.where(has_handles, vertices[:, 2:4], arriving)
            leaving = np.where(has_handles, vertices[:, 4:6], leaving)
        arriving = np.concatenate([arriving[1:], arriving[:1]])
        is_straight = ~np.hstack([leaving, arriving]).any(axis=1, keepdims=True)
        first, second = np.where(is_straight, first, leaving), np.where(is_straight, second, arriving)
    found = np.stack([starts, starts + first, ends + second, ends], axis=1)
    return found if is_closed else found[:-1]


def handles(vertices: Points, kinds: tuple[VertexKind, ...], *, is_closed: bool = True) -> tuple[Points, Points]:
    """Return the handles that each vertex has, or would have for the line to run as it does: (N, 2) before and after.

    Counted from the vertex; of a straight side a third of it.
    """
    pieces = sides(vertices, kinds, is_closed=is_closed)
    leaving, arriving = pieces[:, 1] - pieces[:, 0], pieces[:, 2] - pieces[:, 3]
    if is_closed:
        return np.roll(arriving, 1, axis=0), leaving
    none = np.zeros((1, 2))
    return np.concatenate([none, arriving]), np.concatenate([leaving, none])


@lru_cache(maxsize=4096)
def _are(kinds: tuple[VertexKind, ...]) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """Return which vertices are smooth, and which have handles: (N, 1) each."""
    smooth = np.array([[kind is VertexKind.SMOOTH] for kind in kinds])
    return smooth, np.array([[kind is VertexKind.HANDLES] for kind in kinds])


def softness_along(
    vertices: NDArray[np.float64], where: NDArray[np.float64], *, is_closed: bool = True
) -> NDArray[np.float64]:
    """Return how soft a line is inwards and outwards at places along it: smooth from vertex to vertex, no overshoot.

    Parameters
    ----------
    vertices : (N, 8) float64
    where : (M,) float64
        As `sampled` returns it.

    Returns
    -------
    (M, 2) float64
    """
    own, at = vertices[:, 6:8], np.arange(len(vertices), dtype=np.float64)
    return closed_monotone_cubic(own, where) if is_closed else monotone_cubic(at, own, where)


def normals(points: Points, *, is_closed: bool = True) -> Points:
    """Return the directions outwards at the points of a line: (M, 2) of length 1.

    Of an open line: to its left as it runs, with y downwards.
    """
    before, after = np.roll(points, 1, axis=0), np.roll(points, -1, axis=0)
    if not is_closed:
        before[0], after[-1] = points[0], points[-1]
    pieces = [after - points, points - before]
    one, other = (piece / np.maximum(np.hypot(*piece.T), 1e-12)[:, None] for piece in pieces)
    along = one + other
    out = np.column_stack([along[:, 1], -along[:, 0]])
    out /= np.maximum(np.hypot(*out.T), 1e-12)[:, None]
    x, y = points.T
    runs_back = is_closed and float(np.sum(x * np.roll(y, -1) - y * np.roll(x, -1))) < 0
    return -out if runs_back else out
