"""Pieces of a picture laid into its hole, without steps where they meet."""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.picture import Picture

__all__ = ["laid"]

MOST_STEP, CYCLES = 0.04, 8
"""No step between two pieces is made up for by more than that: what differs more is an edge."""


def laid(
    picture: Picture, hole: NDArray[np.bool_], offsets: NDArray[np.int32], check: Callable[[], None] = lambda: None
) -> tuple[Picture, Picture]:
    """Return a picture whose hole is closed by offsets, and what was added to make pieces meet, both (h, w, 3).

    P. Perez, M. Gangnet, A. Blake, Poisson image editing, SIGGRAPH 2003, doi:10.1145/882262.882269; each step is
    bounded, so that edges do not run.

    Parameters
    ----------
    picture : (h, w, 3) float32
        Encoded.
    hole : (h, w) bool
    offsets : (h, w, 2) int32
        Of `Closed`, at full size.
    check : callable
    """
    from gommage.core.fill.patchwork.kernels import corrected, steps_between  # compiled code is loaded late

    rows, columns = np.nonzero(hole)
    out = picture.copy()
    out[rows, columns] = picture[rows + offsets[rows, columns, 0], columns + offsets[rows, columns, 1]]
    check()
    steps = steps_between(picture, hole, offsets, np.float32(MOST_STEP))
    steps[~hole] = 0
    check()
    free = np.pad(hole, 1)
    added = corrected(np.pad(steps, ((1, 1), (1, 1), (0, 0))), free, CYCLES)[1:-1, 1:-1]
    out[rows, columns] += added[rows, columns]
    return out, np.ascontiguousarray(added)


def finer(offsets: NDArray[np.int32], level: int, size_wh: tuple[int, int]) -> NDArray[np.int32]:
    """Return offsets of a size so many times halved at full size."""
    if level == 0:
        return offsets
    wide = cv2.resize(offsets.astype(np.float32), None, fx=2.0**level, fy=2.0**level, interpolation=cv2.INTER_NEAREST)
    width, height = size_wh
    return np.rint(wide[:height, :width] * 2**level).astype(np.int32)
