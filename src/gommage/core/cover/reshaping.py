"""Shapes as something soft: vertices pushed, swollen and smoothed within a reach, and moved together by a box."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from gommage.core.document import VertexKind
from gommage.core.document.outlines import sampled
from gommage.core.geometry import Mapping, Points

__all__ = ["filled_in", "moved_together", "pulled", "smoothed", "swollen", "weights_within"]

Vertices = NDArray[np.float64]


def weights_within(points: Points, at: Points, radius: float) -> NDArray[np.float64]:
    """Return how far points (N, 2) feel a round influence: 1 in its middle, 0 at its rim and beyond, flat at both."""
    share = np.minimum(np.hypot(*(points - at).T) / max(radius, 1e-9), 1.0)
    felt: NDArray[np.float64] = (1 - share * share) ** 2
    return felt


def _carried(vertices: Vertices, by: Points, stretch: NDArray[np.float64] | None = None) -> Vertices:
    out = vertices.copy()
    out[:, :2] += by
    if stretch is not None:
        out[:, 2:6] *= stretch[:, None]
    return out


def pulled(vertices: Vertices, at: Points, by: Points, radius: float) -> Vertices:
    """Return vertices (N, 8) of which those near a place are taken along by a movement (2,)."""
    return _carried(vertices, weights_within(vertices[:, :2], at, radius)[:, None] * by)


def swollen(vertices: Vertices, at: Points, radius: float, amount: float) -> Vertices:
    """Return vertices (N, 8) of which those near a place move away from it, by a share `amount` of their distance.

    That is felt in the middle, less farther out. Less than 0 draws them in.
    """
    felt = amount * weights_within(vertices[:, :2], at, radius)
    return _carried(vertices, felt[:, None] * (vertices[:, :2] - at), 1 + felt)


def smoothed(vertices: Vertices, at: Points, radius: float, amount: float, *, is_closed: bool) -> Vertices:
    """Return vertices (N, 8) of which those near a place move between their neighbours, by a share `amount`."""
    points = vertices[:, :2]
    before, after = np.roll(points, 1, axis=0), np.roll(points, -1, axis=0)
    felt = amount * weights_within(points, at, radius)
    if not is_closed:
        felt[[0, -1]] = 0
    near, far = np.hypot(*(points - before).T), np.hypot(*(after - points).T)
    share = (near / np.maximum(near + far, 1e-9))[:, None]
    return _carried(vertices, felt[:, None] * (before + share * (after - before) - points))


def moved_together(vertices: Vertices, chosen: Iterable[int], mapping: Mapping) -> Vertices:
    """Return vertices (N, 8) of which the chosen ones are moved, with their handles."""
    out, index = vertices.copy(), np.array(sorted(set(chosen)), np.int64)
    points = vertices[index, :2]
    out[index, :2] = mapping(points)
    for columns in (slice(2, 4), slice(4, 6)):
        out[index, columns] = mapping(points + vertices[index, columns]) - out[index, :2]
    return out


def filled_in(
    vertices: Vertices, kinds: tuple[VertexKind, ...], at: Points, radius: float, *, is_closed: bool
) -> list[float]:
    """Return where a line needs vertices for an influence to bend it: places as `outlines.sampled` counts them.

    Within the reach no two vertices are farther apart than half of it then. In falling order, so that each may be
    inserted in turn.
    """
    points, where = sampled(vertices, kinds, is_closed=is_closed, least=16)
    near = np.hypot(*(points - at).T) < radius
    found = []
    for side in np.unique(where[near].astype(np.int64)):
        along = points[(where >= side) & (where <= side + 1)]
        length = np.hypot(*np.diff(along, axis=0).T).sum()
        count = int(np.ceil(length / (radius / 2)))
        shares = np.arange(1, count) / count
        for share in shares[::-1]:
            place = points[np.argmin(np.abs(where - (side + share)))]
            if np.hypot(*(place - at)) < radius:
                found.append(float(side + share))
    return sorted(found, reverse=True)
