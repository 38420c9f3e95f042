"""Compiled: what cameras, a lens and points see of each other, and their normal equations. Imported late."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

__all__ = ["costs", "normal_equations", "resect_normal", "residuals"]


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator, unused-ignore]
def _seen(turn: Any, move: Any, lens: Any, point: Any, out: Any) -> bool:
    """Set where a point (x, y, z, w) is seen (2,); False where it lies behind the camera."""
    x = turn[0, 0] * point[0] + turn[0, 1] * point[1] + turn[0, 2] * point[2] + point[3] * move[0]
    y = turn[1, 0] * point[0] + turn[1, 1] * point[1] + turn[1, 2] * point[2] + point[3] * move[1]
    z = turn[2, 0] * point[0] + turn[2, 1] * point[1] + turn[2, 2] * point[2] + point[3] * move[2]
    if z < 1e-6:
        return False
    u, v = x / z, y / z
    square = u * u + v * v
    factor = 1.0 + square * (lens[3] + lens[4] * square)
    out[0] = lens[1] + lens[0] * u * factor
    out[1] = lens[2] + lens[0] * v * factor
    return True


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator, unused-ignore]
def residuals(
    turns: Any, moves: Any, lens: Any, points: Any, camera_of: Any, point_of: Any, places: Any, out: Any
) -> None:
    """Set by how much each observation is off, (M, 2) pixels; NaN behind the camera."""
    there = np.empty(2)
    for index in range(len(camera_of)):
        if _seen(turns[camera_of[index]], moves[camera_of[index]], lens, points[point_of[index]], there):
            out[index, 0] = there[0] - places[index, 0]
            out[index, 1] = there[1] - places[index, 1]
        else:
            out[index, 0] = out[index, 1] = np.nan


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator, unused-ignore]
def costs(off: Any, weights: Any, scale: float) -> float:
    """Return the robust cost (Cauchy's) of residuals (M, 2); behind the camera costs as much as 30 scales off."""
    total = 0.0
    for index in range(len(off)):
        square = off[index, 0] ** 2 + off[index, 1] ** 2
        if np.isnan(square):
            square = 900.0 * scale * scale
        total += weights[index] * scale * scale * np.log1p(square / (scale * scale))
    return total


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator, unused-ignore]
def _slopes(
    turn: Any, move: Any, lens: Any, point: Any, across: Any, camera: Any, shared: Any, own: Any, there: Any
) -> bool:
    """Set the slopes of what is seen of a point.

    By the camera's turn and move (2, 6), by ln focal, first, second term (2, 3), and by the point's two angles and
    inverse distance (2, 3).
    """
    bx = turn[0, 0] * point[0] + turn[0, 1] * point[1] + turn[0, 2] * point[2]
    by = turn[1, 0] * point[0] + turn[1, 1] * point[1] + turn[1, 2] * point[2]
    bz = turn[2, 0] * point[0] + turn[2, 1] * point[1] + turn[2, 2] * point[2]
    w = point[3]
    x, y, z = bx + w * move[0], by + w * move[1], bz + w * move[2]
    if z < 1e-6:
        return False
    u, v = x / z, y / z
    square = u * u + v * v
    factor = 1.0 + square * (lens[3] + lens[4] * square)
    slope = 2.0 * (lens[3] + 2.0 * lens[4] * square)
    f = lens[0]
    there[0], there[1] = lens[1] + f * u * factor, lens[2] + f * v * factor
    # by direction (u, v), then by the point before the camera
    uu, uv, vv = f * (factor + u * u * slope), f * u * v * slope, f * (factor + v * v * slope)
    d00, d01, d02 = uu / z, uv / z, -(uu * u + uv * v) / z
    d10, d11, d12 = uv / z, vv / z, -(uv * u + vv * v) / z
    # a turn by (a, b, c): the point moves by its cross product
    camera[0, 0], camera[0, 1], camera[0, 2] = -d01 * bz + d02 * by, d00 * bz - d02 * bx, -d00 * by + d01 * bx
    camera[1, 0], camera[1, 1], camera[1, 2] = -d11 * bz + d12 * by, d10 * bz - d12 * bx, -d10 * by + d11 * bx
    camera[0, 3], camera[0, 4], camera[0, 5] = d00 * w, d01 * w, d02 * w
    camera[1, 3], camera[1, 4], camera[1, 5] = d10 * w, d11 * w, d12 * w
    shared[0, 0], shared[1, 0] = f * u * factor, f * v * factor
    shared[0, 1], shared[1, 1] = f * u * square, f * v * square
    shared[0, 2], shared[1, 2] = f * u * square * square, f * v * square * square
    for way in range(2):
        px = turn[0, 0] * across[way, 0] + turn[0, 1] * across[way, 1] + turn[0, 2] * across[way, 2]
        py = turn[1, 0] * across[way, 0] + turn[1, 1] * across[way, 1] + turn[1, 2] * across[way, 2]
        pz = turn[2, 0] * across[way, 0] + turn[2, 1] * across[way, 1] + turn[2, 2] * across[way, 2]
        own[0, way] = d00 * px + d01 * py + d02 * pz
        own[1, way] = d10 * px + d11 * py + d12 * pz
    own[0, 2] = d00 * move[0] + d01 * move[1] + d02 * move[2]
    own[1, 2] = d10 * move[0] + d11 * move[1] + d12 * move[2]
    return True


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator, unused-ignore]
def _invert3(m: Any, out: Any) -> None:
    a = m[1, 1] * m[2, 2] - m[1, 2] * m[2, 1]
    b = m[0, 2] * m[2, 1] - m[0, 1] * m[2, 2]
    c = m[0, 1] * m[1, 2] - m[0, 2] * m[1, 1]
    det = m[0, 0] * a + m[1, 0] * b + m[2, 0] * c
    out[0, 0], out[0, 1], out[0, 2] = a / det, b / det, c / det
    out[1, 0] = (m[1, 2] * m[2, 0] - m[1, 0] * m[2, 2]) / det
    out[1, 1] = (m[0, 0] * m[2, 2] - m[0, 2] * m[2, 0]) / det
    out[1, 2] = (m[0, 2] * m[1, 0] - m[0, 0] * m[1, 2]) / det
    out[2, 0] = (m[1, 0] * m[2, 1] - m[1, 1] * m[2, 0]) / det
    out[2, 1] = (m[0, 1] * m[2, 0] - m[0, 0] * m[2, 1]) / det
    out[2, 2] = (m[0, 0] * m[1, 1] - m[0, 1] * m[1, 0]) / det


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator, unused-ignore]
def normal_equations(
    turns: Any, moves: Any, lens: Any, points: Any, across: Any, camera_of: Any, starts: Any, places: Any, weights: Any,
    begin: int, end: int, scale: float, damping: float, turns_only: bool, reduced: Any, right: Any, diagonal: Any,
    inverses: Any, pulls: Any, links: Any,
) -> None:  # fmt: skip
    """Add to the normal equations of cameras and lens what points from `begin` on tell, points eliminated (Schur).

    Of the blocks between cameras those above the diagonal alone are set. Observations are sorted by point; `starts`
    (P + 1,) says where each point's begin. The unknowns are six a camera, then three of the lens; `diagonal` is theirs
    before points are eliminated. `inverses` (P, 3, 3), `pulls` (P, 3) and `links` (M + P, 3, 6) are what points are
    solved from afterwards: each observation's link with its camera, and, after all of them, each point's with the lens.
    """
    cameras = len(turns)
    first_shared = 6 * cameras
    camera, shared, own = np.empty((2, 6)), np.empty((2, 3)), np.empty((2, 3))
    there = np.empty(2)
    block, carried = np.empty((3, 3)), np.empty((3, 6))
    count = len(camera_of)
    for point in range(begin, end):
        low, high = starts[point], starts[point + 1]
        block[:] = 0.0
        pull = np.zeros(3)
        with_lens = np.zeros((3, 3))
        for index in range(low, high):
            links[index] = 0.0
            at = camera_of[index]
            if not _slopes(turns[at], moves[at], lens, points[point], across[point], camera, shared, own, there):
                continue
            if turns_only:
                camera[:, 3:] = 0.0
                own[:, 2] = 0.0
            off0, off1 = there[0] - places[index, 0], there[1] - places[index, 1]
            weight = weights[index] / (1.0 + (off0 * off0 + off1 * off1) / (scale * scale))
            base = 6 * at
            for i in range(6):
                for j in range(6):
                    reduced[base + i, base + j] += weight * (camera[0, i] * camera[0, j] + camera[1, i] * camera[1, j])
                for j in range(3):
                    value = weight * (camera[0, i] * shared[0, j] + camera[1, i] * shared[1, j])
                    reduced[base + i, first_shared + j] += value
                    reduced[first_shared + j, base + i] += value
                    links[index, j, i] = weight * (own[0, j] * camera[0, i] + own[1, j] * camera[1, i])
                diagonal[base + i] += weight * (camera[0, i] ** 2 + camera[1, i] ** 2)
                right[base + i] -= weight * (camera[0, i] * off0 + camera[1, i] * off1)
            for i in range(3):
                diagonal[first_shared + i] += weight * (shared[0, i] ** 2 + shared[1, i] ** 2)
                for j in range(3):
                    reduced[first_shared + i, first_shared + j] += weight * (
                        shared[0, i] * shared[0, j] + shared[1, i] * shared[1, j]
                    )
                    block[i, j] += weight * (own[0, i] * own[0, j] + own[1, i] * own[1, j])
                    with_lens[i, j] += weight * (own[0, i] * shared[0, j] + own[1, i] * shared[1, j])
                right[first_shared + i] -= weight * (shared[0, i] * off0 + shared[1, i] * off1)
                pull[i] -= weight * (own[0, i] * off0 + own[1, i] * off1)
        for i in range(3):
            block[i, i] += damping * block[i, i] + 1e-9
        if turns_only:
            block[2, 2] = 1.0
        inverse = inverses[point]
        _invert3(block, inverse)
        links[count + point] = 0.0
        for i in range(3):
            pulls[point, i] = pull[i]
            for j in range(3):
                links[count + point, i, j] = with_lens[i, j]
        # what the point takes away from its cameras and the lens
        for one in range(low, high):
            base = 6 * camera_of[one]
            for i in range(3):
                for j in range(6):
                    carried[i, j] = (
                        inverse[i, 0] * links[one, 0, j]
                        + inverse[i, 1] * links[one, 1, j]
                        + inverse[i, 2] * links[one, 2, j]
                    )
            for j in range(6):
                right[base + j] -= carried[0, j] * pull[0] + carried[1, j] * pull[1] + carried[2, j] * pull[2]
            for other in range(one, high):
                beyond = 6 * camera_of[other]
                for i in range(6):
                    for j in range(6):
                        reduced[base + i, beyond + j] -= (
                            carried[0, i] * links[other, 0, j]
                            + carried[1, i] * links[other, 1, j]
                            + carried[2, i] * links[other, 2, j]
                        )
            for i in range(6):
                for j in range(3):
                    value = (
                        carried[0, i] * with_lens[0, j]
                        + carried[1, i] * with_lens[1, j]
                        + carried[2, i] * with_lens[2, j]
                    )
                    reduced[base + i, first_shared + j] -= value
                    reduced[first_shared + j, base + i] -= value
        for i in range(3):
            for j in range(3):
                total = 0.0
                for k in range(3):
                    for m in range(3):
                        total += with_lens[k, i] * inverse[k, m] * with_lens[m, j]
                reduced[first_shared + i, first_shared + j] -= total
            total = 0.0
            for k in range(3):
                for m in range(3):
                    total += with_lens[k, i] * inverse[k, m] * pull[m]
            right[first_shared + i] -= total


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator, unused-ignore]
def resect_normal(
    turn: Any, move: Any, lens: Any, points: Any, places: Any, scale: float, turns_only: bool, normal: Any, right: Any
) -> float:
    """Set the normal equations (6, 6) of one camera among points that are known; returns the robust cost."""
    camera, shared, own = np.empty((2, 6)), np.empty((2, 3)), np.empty((2, 3))
    there, still = np.empty(2), np.zeros((2, 3))
    normal[:], right[:] = 0.0, 0.0
    cost = 0.0
    for index in range(len(points)):
        if not _slopes(turn, move, lens, points[index], still, camera, shared, own, there):
            cost += scale * scale * np.log1p(900.0)
            continue
        if turns_only:
            camera[:, 3:] = 0.0
        off0, off1 = there[0] - places[index, 0], there[1] - places[index, 1]
        square = (off0 * off0 + off1 * off1) / (scale * scale)
        weight = 1.0 / (1.0 + square)
        cost += scale * scale * np.log1p(square)
        for i in range(6):
            for j in range(6):
                normal[i, j] += weight * (camera[0, i] * camera[0, j] + camera[1, i] * camera[1, j])
            right[i] -= weight * (camera[0, i] * off0 + camera[1, i] * off1)
    return cost
