"""Lines drawn by hand, as a few curves."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from gommage.core.document import VertexKind
from gommage.core.geometry import Points, lengths_along

__all__ = ["FIT_TOLERANCE_PX", "fitted_line"]

FIT_TOLERANCE_PX = 0.5
"""So near to the drawn line the curves stay."""
STEP_SHARE = 2.0
"""Of the tolerance: so finely a drawn line is looked at, no matter how fast it was drawn."""
CORNER_DEG, CORNER_REACH = 50.0, 12.0
"""A turn sharper than this, over so many tolerances to both sides, is a corner."""
NEWTON_STEPS = 6
Floats = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class _Piece:
    """A fitted curve over points `first` to `last`: its control points (4, 2), and its greatest distance there."""

    first: int
    last: int
    control: Floats
    worst: float
    worst_at: int


def fitted_line(
    points: Points, tolerance_px: float = FIT_TOLERANCE_PX, *, is_closed: bool = True, steps_px: float = 0.0
) -> tuple[Floats, tuple[VertexKind, ...]]:
    """Return the vertices of a line with handles that stays near a drawn one, with few of them.

    Parameters
    ----------
    points : (N, 2) float64
        A drawn line; of a closed one the last point leads back to the first.
    tolerance_px : float
    is_closed : bool
    steps_px : float
        How coarsely the pen tells its places: between corners the line is freed of such steps first.

    Returns
    -------
    vertices : (M, 8) float64
        See `ShapeKey`.
    kinds : tuple of VertexKind

    Raises
    ------
    ValueError
        If there are fewer than three points apart.

    Notes
    -----
    Curves are fitted by least squares with the drawn line's tangents at their ends, their parameters improved by
    Newton steps, and split where they are farthest off; neighbours that one curve can stand for are then joined.

    References
    ----------
    P. J. Schneider, An algorithm for automatically fitting digitized curves, in: Graphics Gems, 1990, pp. 612-626.
    """
    line = np.vstack([points, points[:1]]) if is_closed else np.asarray(points, np.float64)
    line = _evenly(line, tolerance_px * STEP_SHARE)
    if len(line) < 4 or np.ptp(line, axis=0).max() < 2 * tolerance_px:
        raise ValueError("a drawn line needs three points apart at least")
    reach = max(round(CORNER_REACH / STEP_SHARE), 2)
    corners = _corners(line, reach, is_closed=is_closed)
    if is_closed and corners:  # begun at a corner, it closes there
        line = np.vstack([line[corners[0] : -1], line[: corners[0] + 1]])
        corners = [index - corners[0] for index in corners]
    joints = sorted({0, len(line) - 1, *corners})
    if steps_px > 0:
        line = _steadied(line, joints, steps_px / (tolerance_px * STEP_SHARE), is_ring=is_closed and not corners)
    closes_smoothly = is_closed and not corners
    tangents = _Tangents(line, reach, frozenset(joints) if not closes_smoothly else frozenset(), closes_smoothly)
    pieces: list[_Piece] = []
    for first, last in pairwise(joints):
        pieces += _joined(_split(tangents, first, last, tolerance_px), tangents, tolerance_px)
    return _vertices(pieces, is_closed=is_closed)


def _evenly(points: Points, step: float) -> Floats:
    """Return a line's points at even distances, its first and last among them."""
    flat = np.asarray(points, np.float64)
    ways = np.hypot(*np.diff(flat, axis=0).T)
    flat = flat[np.concatenate([[True], ways > 1e-9])]
    along = lengths_along(flat)
    at = np.linspace(0, along[-1], max(int(np.ceil(along[-1] / step)), 1) + 1)
    return np.column_stack([np.interp(at, along, flat[:, 0]), np.interp(at, along, flat[:, 1])])


def _steadied(line: Floats, joints: list[int], sigma: float, *, is_ring: bool) -> Floats:
    """Return a line averaged along itself between joints, which stay where they are; `sigma` counts points."""
    from scipy.ndimage import gaussian_filter1d

    if is_ring:
        ring = gaussian_filter1d(line[:-1], sigma, axis=0, mode="wrap")
        return np.vstack([ring, ring[:1]])
    out = line.copy()
    for first, last in pairwise(joints):
        piece = line[first : last + 1]
        turned = np.vstack([2 * piece[0] - piece[:0:-1], piece, 2 * piece[-1] - piece[-2::-1]])  # about its ends
        smooth = gaussian_filter1d(turned, sigma, axis=0, mode="nearest")
        out[first : last + 1] = smooth[len(piece) - 1 : 2 * len(piece) - 1]
    return out


def _corners(line: Floats, reach: int, *, is_closed: bool) -> list[int]:
    """Return where a line turns sharply, each such place once."""
    count = len(line) - 1
    if count < 2 * reach + 1:
        return []
    index = np.arange(count) if is_closed else np.arange(reach, count - reach + 1)
    before, after = (index - reach) % count if is_closed else index - reach, index + reach
    after = after % count if is_closed else after
    one, other = line[index] - line[before], line[after] - line[index]
    turn = np.abs(np.arctan2(one[:, 0] * other[:, 1] - one[:, 1] * other[:, 0], (one * other).sum(axis=1)))
    found: list[int] = []
    left = turn.copy()
    while left.size and left.max() > np.deg2rad(CORNER_DEG):
        best = int(np.argmax(left))
        found.append(int(index[best]))
        gap = np.abs(index - index[best])
        left[np.minimum(gap, count - gap if is_closed else gap) <= 2 * reach] = 0
    return sorted(found)


class _Tangents:
    """A drawn line and which way it runs at its points: seen on one side only at its ends and corners."""

    def __init__(self, line: Floats, reach: int, joints: frozenset[int], is_ring: bool) -> None:
        self.line, self._reach, self._joints, self._is_ring = line, reach, joints, is_ring

    def at(self, index: int, first: int, last: int, way: int) -> Floats:
        """Return the direction at a point of the piece from `first` to `last`, along it (1) or against it (-1)."""
        line, reach, count = self.line, self._reach, len(self.line) - 1
        if index not in self._joints and (self._is_ring or 0 < index < count):
            lows, highs = index - reach, index + reach
            low, high = (lows % count, highs % count) if self._is_ring else (max(lows, 0), min(highs, count))
            along = line[high] - line[low]
        else:
            near = min(reach, last - first)
            other = index + near if index == first else index - near
            along = (line[other] - line[index]) * (1 if index == first else -1)
        return np.asarray(way * along / max(float(np.hypot(*along)), 1e-12), np.float64)


def _fit(tangents: _Tangents, first: int, last: int) -> _Piece:
    from gommage.core.cover.kernels import fit_curve  # compiled: loaded late

    line = tangents.line[first : last + 1]
    start, end = tangents.at(first, first, last, 1), tangents.at(last, first, last, -1)
    control, worst, at = fit_curve(line, start, end, NEWTON_STEPS if len(line) > 3 else 0)
    return _Piece(first, last, control, worst, first + min(max(at, 1), len(line) - 2))


def _split(tangents: _Tangents, first: int, last: int, tolerance: float) -> list[_Piece]:
    waiting, done = [(first, last)], []
    while waiting:
        one, other = waiting.pop()
        piece = _fit(tangents, one, other)
        if piece.worst <= tolerance or other - one < 3:
            done.append(piece)
        else:
            waiting += [(piece.worst_at, other), (one, piece.worst_at)]
    return sorted(done, key=lambda piece: piece.first)


def _joined(pieces: list[_Piece], tangents: _Tangents, tolerance: float) -> list[_Piece]:
    """Return pieces of which neighbours that one curve can stand for are one."""
    out = pieces[:1]
    for piece in pieces[1:]:
        both = _fit(tangents, out[-1].first, piece.last)
        if both.worst <= tolerance:
            out[-1] = both
        else:
            out.append(piece)
    return out


def _vertices(pieces: list[_Piece], *, is_closed: bool) -> tuple[Floats, tuple[VertexKind, ...]]:
    count = len(pieces) if is_closed else len(pieces) + 1
    vertices = np.zeros((count, 8))
    for index, piece in enumerate(pieces):
        following = (index + 1) % count
        vertices[index, :2] = piece.control[0]
        vertices[index, 4:6] = piece.control[1] - piece.control[0]
        vertices[following, :2] = piece.control[3]
        vertices[following, 2:4] = piece.control[2] - piece.control[3]
    return vertices, (VertexKind.HANDLES,) * count
