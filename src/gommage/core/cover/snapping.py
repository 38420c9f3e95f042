"""A key that proposes itself: an outline drawn along an edge is laid along that edge again on another frame."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from gommage.core.document import VertexKind
from gommage.core.document.outlines import normals, on_line, sampled
from gommage.core.geometry import Points, lengths_along
from gommage.core.picture import Picture

__all__ = ["PROFILE_PX", "profiles", "snapped"]

SPACING_PX = 3.0
"""Along the line, so far apart it looks for its edge."""
STEP_PX = 0.5
"""Across the line, so finely it looks."""
PROFILE_PX = 6.0
"""So far to both sides an edge is known by what lies there."""
LEAST_REACH_PX = 3.0
"""The second look reaches so far at least."""
NEARER = 0.05
"""Of equal edges the nearest: what the farthest is worth less."""
ROUNDS, OUTVOTED_PX = 6, 1.5
"""Points that disagree with all others by more than this lose their vote, in so many rounds."""
MOST, APART, OUTVOTED_FROM_PX = 0.6, 2.0, (0.4, 4.0)
"""Then points lose their vote that are so many times farther off than most, within these bounds."""
STIFF_WHOLE = 0.05
"""What it costs a shape as a whole to bend."""
STIFFNESS = 0.2
"""What it costs to leave the neighbours' way, for a pixel squared, where a perfect edge is worth 1."""
STAYING = 0.1
"""What it costs a vertex to leave where the whole came to lie."""
BENDING = 0.02
"""What it costs a vertex to leave its neighbours' way; weak, for vertices that little is seen at."""
Floats = NDArray[np.float64]


def profiles(picture: Picture, line: Points, across: Points, reach_px: float) -> Floats:
    """Return what lies across a line: (N, K, 3), from `reach_px` inside to as far outside, each `STEP_PX`.

    Parameters
    ----------
    picture : (H, W, 3) float32
        Scene-linear; looked at by its cube root, as eyes do.
    line, across : (N, 2) float64
        Places, in pixels of the picture, and directions outwards.
    reach_px : float
    """
    import cv2

    away = np.arange(-round(reach_px / STEP_PX), round(reach_px / STEP_PX) + 1) * STEP_PX
    places = (line[:, None] + away[None, :, None] * across[:, None] - 0.5).astype(np.float32)
    across_px, down_px = places[..., 0], places[..., 1]
    seen = cv2.remap(picture, across_px, down_px, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    return np.asarray(cv2.GaussianBlur(np.cbrt(np.maximum(seen, 0)), (5, 1), 1.0), np.float64)


def snapped(
    vertices: Floats,
    kinds: tuple[VertexKind, ...],
    picture: Picture,
    reach_px: float,
    *,
    is_closed: bool = True,
    drawn_on: tuple[Floats, Picture] | None = None,
) -> tuple[Floats, float]:
    """Return vertices laid along the nearest consistent edge, and how sure that is.

    Parameters
    ----------
    vertices : (N, 8) float64
        In pixels of the picture.
    kinds : tuple of VertexKind
    picture : (H, W, 3) float32
        Scene-linear.
    reach_px : float
        So far from the line an edge is looked for.
    is_closed : bool
    drawn_on : (vertices, picture), optional
        The same shape where it was drawn by hand: its edge is known by what lay on both sides of it there. Without it
        any strong edge will do.

    Returns
    -------
    vertices : (N, 8) float64
        Handles and softness as they were.
    certainty : float
        0 to 1: how well what was found agrees with the edge that was looked for.

    Notes
    -----
    Each point of the line looks along its normal; a way through all that is smooth and worth the most is found by
    dynamic programming. Twice the shape is moved to it as a whole that bends, then its vertices are, each by what is
    found beside it.

    References
    ----------
    A. A. Amini, T. E. Weymouth, R. C. Jain, Using dynamic programming for solving variational problems in vision,
    IEEE TPAMI 12(9), 1990, doi:10.1109/34.57681.
    """
    moved, certainty = vertices, 0.0
    finest = max(reach_px / 3, LEAST_REACH_PX)
    for reach, lay in ((reach_px, _as_one), (reach_px / 2, _as_one), (finest, _laid)):
        looked = _look(moved, kinds, picture, reach, drawn_on, is_closed=is_closed)
        moved, certainty = lay(moved, looked, is_closed=is_closed), float(np.median(looked.sure))
    return moved, certainty


@dataclass(frozen=True, slots=True)
class _Looked:
    """What a line found: at places on it (N,), at points (N, 2), across (N, 2), how far away (N,), how surely (N,)."""

    where: Floats
    line: Points
    across: Points
    away: Floats
    sure: Floats


def _look(
    vertices: Floats, kinds: tuple[VertexKind, ...], picture: Picture, reach_px: float,
    drawn_on: tuple[Floats, Picture] | None, *, is_closed: bool,
) -> _Looked:  # fmt: skip
    line, where = _evenly(vertices, kinds, is_closed=is_closed)
    across = normals(line, is_closed=is_closed)
    seen = profiles(picture, line, across, reach_px + PROFILE_PX)
    if drawn_on is None:
        worth = _edges(seen)
    else:
        there = on_line(drawn_on[0], kinds, where, is_closed=is_closed)
        known = profiles(drawn_on[1], there, normals(there, is_closed=is_closed), PROFILE_PX)
        worth = _likeness(seen, known)
    away = (np.arange(worth.shape[1]) - worth.shape[1] // 2) * STEP_PX
    worth = worth - NEARER * (away / max(reach_px, STEP_PX)) ** 2
    path = _best_way(worth, is_closed=is_closed)
    sure = np.clip(worth[np.arange(len(path)), path], 0, 1)
    return _Looked(where, line, across, away[path] + _between_steps(worth, path), sure)


def _between_steps(worth: Floats, path: NDArray[np.int64]) -> Floats:
    """Return how far beside its step the best place is, by the parabola through it and its neighbours, in pixels."""
    inner = np.clip(path, 1, worth.shape[1] - 2)
    rows = np.arange(len(path))
    low, here, high = worth[rows, inner - 1], worth[rows, inner], worth[rows, inner + 1]
    bend = low - 2 * here + high
    by = np.where(bend < -1e-9, 0.5 * (low - high) / np.where(bend == 0, 1, bend), 0.0)
    return np.asarray(np.where(inner == path, np.clip(by, -0.5, 0.5), 0.0) * STEP_PX, np.float64)


def _as_one(vertices: Floats, looked: _Looked, *, is_closed: bool) -> Floats:
    """Return vertices moved as something that bends as a whole: what single points found wrongly is outvoted.

    The movement is a polynomial of the place, of the second degree; its coefficients are found by least squares with
    Cauchy weights. So points on straight sides, that see what is across them alone, tell of the ends together.
    """
    middle, spread = looked.line.mean(axis=0), max(float(np.ptp(looked.line, axis=0).max()) / 2, 1.0)
    basis = _powers((looked.line - middle) / spread)
    rows = np.hstack([looked.across[:, :1] * basis, looked.across[:, 1:] * basis])
    stiff = np.diag(np.tile([0.0, 1, 1, 3, 3, 3], 2)) * STIFF_WHOLE * np.sqrt(len(rows))
    trust = np.maximum(looked.sure, 0.02)
    weights = trust
    found = np.zeros(rows.shape[1])
    for _ in range(ROUNDS):
        root = np.sqrt(weights)[:, None]
        system = np.vstack([rows * root, stiff])
        found = np.linalg.lstsq(system, np.concatenate([looked.away * root[:, 0], np.zeros(len(stiff))]), rcond=None)[0]
        off = looked.away - rows @ found
        weights = trust / (1 + (off / OUTVOTED_PX) ** 2)
    at = _powers((vertices[:, :2] - middle) / spread)
    out = vertices.copy()
    out[:, 0] += at @ found[: at.shape[1]]
    out[:, 1] += at @ found[at.shape[1] :]
    return out


def _powers(points: Points) -> Floats:
    x, y = points.T
    return np.column_stack([np.ones(len(x)), x, y, x * x, x * y, y * y])


def _evenly(vertices: Floats, kinds: tuple[VertexKind, ...], *, is_closed: bool) -> tuple[Points, Floats]:
    """Return points evenly along a shape's line, and where on it they are."""
    line, where = sampled(vertices, kinds, is_closed=is_closed, least=8)
    if is_closed:
        line, where = np.vstack([line, line[:1]]), np.append(where, float(len(vertices)))
    along = lengths_along(line)
    count = max(int(along[-1] / SPACING_PX), 8)
    at = np.interp(np.linspace(0, along[-1], count, endpoint=not is_closed), along, where)
    return on_line(vertices, kinds, at, is_closed=is_closed), at


def _edges(seen: Floats) -> Floats:
    """Return how strong an edge is at each place, 0 to 1, by its slope across the line."""
    margin = round(PROFILE_PX / STEP_PX)
    slope = np.linalg.norm(np.gradient(seen, axis=1), axis=2)[:, margin:-margin]
    strong = max(float(np.quantile(slope, 0.98)), 1e-6)
    return np.asarray(np.minimum(slope / strong, 1.0), np.float64)


def _likeness(seen: Floats, known: Floats) -> Floats:
    """Return how like what lies across the line at each place is to what lay there where it was drawn, up to 1."""
    count = known.shape[1]
    pieces = np.lib.stride_tricks.sliding_window_view(seen, count, axis=1)  # (N, K, 3, count)
    wanted = np.moveaxis(known, 1, 2)[:, None]
    taper = np.hanning(count + 2)[1:-1] ** 0.5
    mean = [(one * taper).sum(axis=(-1), keepdims=True) / taper.sum() for one in (pieces, wanted)]
    own, other = pieces - mean[0], wanted - mean[1]
    product = (own * other * taper).sum(axis=(-1, -2))
    power = (own * own * taper).sum(axis=(-1, -2)), (other * other * taper).sum(axis=(-1, -2))
    floor = 1e-4 * count
    alike = product / np.sqrt((power[0] + floor) * (power[1] + floor))
    apart = ((mean[0] - mean[1]) ** 2).sum(axis=(-1, -2)) * 4
    return np.asarray(alike - apart, np.float64)


def _best_way(worth: Floats, *, is_closed: bool) -> NDArray[np.int64]:
    """Return which place each point takes: (N,)."""
    count, places = worth.shape
    apart = (np.arange(places)[:, None] - np.arange(places)[None]) * STEP_PX
    cost = STIFFNESS * apart**2 / SPACING_PX
    laps = 2 if is_closed else 1  # a ring is run twice: the second lap begins where the first ends
    best, came = worth[0].copy(), np.zeros((laps * count, places), np.int64)
    for n in range(1, laps * count):
        total = best[None, :] - cost
        came[n] = np.argmax(total, axis=1)
        best = total[np.arange(places), came[n]] + worth[n % count]
    path = np.zeros(laps * count, np.int64)
    path[-1] = int(np.argmax(best))
    for n in range(laps * count - 1, 0, -1):
        path[n - 1] = came[n][path[n]]
    if not is_closed:
        return path
    middle = path[count // 2 : count // 2 + count]  # a lap that is bound at both of its ends
    return np.roll(middle, count // 2)


def _laid(vertices: Floats, looked: _Looked, *, is_closed: bool) -> Floats:
    """Return vertices moved so that the line comes to lie where its points found it, as well as it can be done."""
    count, where, across, away, sure = len(vertices), looked.where, looked.across, looked.away, looked.sure
    side = np.minimum(where.astype(np.int64), count - 1)
    share = where - side
    share = share * share * (3 - 2 * share)
    following = (side + 1) % count if is_closed else np.minimum(side + 1, count - 1)
    # where nearly all came to lie right together, what is far off is another edge; else the shape has parts of its own
    outvoted = float(np.clip(APART * np.quantile(np.abs(looked.away), MOST), *OUTVOTED_FROM_PX))
    weight = np.sqrt(np.maximum(sure, 0.02) / (1 + (away / outvoted) ** 2))
    rows = np.zeros((len(where), count, 2))
    rows[np.arange(len(where)), side] += ((1 - share) * weight)[:, None] * across
    rows[np.arange(len(where)), following] += (share * weight)[:, None] * across
    # neighbours keep together: what is not seen at one is taken from those beside it
    pairs = [(n, (n + 1) % count) for n in range(count if is_closed else count - 1)]
    bound = np.zeros((2 * len(pairs), count, 2))
    for row, (one, other) in enumerate(pairs):
        for axis in range(2):
            bound[2 * row + axis, one, axis], bound[2 * row + axis, other, axis] = 1, -1
    a_share = len(where) / count
    stay = np.sqrt(STAYING * a_share) * np.eye(2 * count)
    system = np.vstack([
        rows.reshape(len(where), -1), np.sqrt(BENDING * a_share) * bound.reshape(len(bound), -1), stay
    ])  # fmt: skip
    wanted = np.concatenate([away * weight, np.zeros(len(system) - len(where))])
    by = np.linalg.lstsq(system, wanted, rcond=None)[0].reshape(count, 2)
    out = vertices.copy()
    out[:, :2] += by
    return out
