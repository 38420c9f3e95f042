"""Motions of many frames at once: (N, 3, 3) matrices and what is done with them."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from gommage.core.geometry.windows import Matrix

__all__ = ["carried_stack", "fitted_stack", "identity_stack", "moved", "normal", "relative_stack"]

Stack = NDArray[np.float64]
AnyPoints = NDArray[np.floating[Any]]


def identity_stack(count: int) -> Stack:
    """Return that nothing moves, `count` times."""
    return np.repeat(np.eye(3)[None], count, axis=0)


def normal(matrices: Stack) -> Stack:
    """Return matrices (..., 3, 3) scaled so that their last number is 1."""
    return matrices / matrices[..., 2:, 2:]


def carried_stack(under: Stack, under_at_home: Matrix, own: Stack) -> Stack:
    """Return motions relative to a carrier as motions in the picture: ``P_t inverse(P_home) R_t``."""
    return normal(under @ np.linalg.inv(under_at_home) @ own)


def relative_stack(under: Stack, under_at_home: Matrix, placed: Stack) -> Stack:
    """Return motions in the picture as motions relative to a carrier: the way back of `carried_stack`."""
    carried = under @ np.linalg.inv(under_at_home)
    return normal(np.linalg.inv(carried) @ placed)


def fitted_stack(source: AnyPoints, targets: AnyPoints) -> Stack:
    """Return the matrices that take four points (4, 2) exactly to others, for each of (N, 4, 2)."""
    count = len(targets)
    x, y = np.broadcast_to(source[:, 0], (count, 4)), np.broadcast_to(source[:, 1], (count, 4))
    u, v = targets[..., 0], targets[..., 1]
    zero, one = np.zeros((count, 4)), np.ones((count, 4))
    left = np.concatenate([
        np.stack([x, y, one, zero, zero, zero, -u * x, -u * y], axis=-1),
        np.stack([zero, zero, zero, x, y, one, -v * x, -v * y], axis=-1),
    ], axis=1)  # fmt: skip
    right = np.concatenate([u, v], axis=1)
    try:
        solved = np.linalg.solve(left, right[..., None])[..., 0]
    except np.linalg.LinAlgError:  # corners in one line: the least motion that does what can be done
        solved = np.stack([np.linalg.lstsq(one, other, rcond=None)[0] for one, other in zip(left, right, strict=True)])
    return np.concatenate([solved, np.ones((count, 1))], axis=1).reshape(count, 3, 3)


def moved(matrices: Stack, points: AnyPoints) -> NDArray[np.float64]:
    """Return points (..., K, 2) moved by a matrix (3, 3) or by one of (N, 3, 3) each; nothing is behind the camera."""
    matrices = np.asarray(matrices)
    out = points @ np.swapaxes(matrices[..., :2], -1, -2) + matrices[..., None, :, 2]
    result: NDArray[np.float64] = out[..., :2] / out[..., 2:]
    return result
