"""Pieces of a picture laid into its hole, without steps where they meet."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from gommage.core.geometry import plain
from gommage.core.picture import Picture, Splines, sampled_at

__all__ = ["Offsets", "finer", "laid"]

Offsets = NDArray[np.int32] | NDArray[np.float32]
"""Rows and columns, (h, w, 2): whole ones of `Closed`, or repeats of a pattern with fractions."""
MOST_STEP, CYCLES = 0.04, 4
"""No step between two pieces is made up for by more than that: what differs more is an edge."""


def laid(
    picture: Picture, hole: NDArray[np.bool_], offsets: Offsets, check: Callable[[], None] = lambda: None
) -> tuple[Picture, Picture]:
    """Return a picture whose hole is closed by offsets, and what was added to make pieces meet, both (h, w, 3).

    P. Perez, M. Gangnet, A. Blake, Poisson image editing, SIGGRAPH 2003, doi:10.1145/882262.882269; each step is
    bounded, so that edges do not run.

    Parameters
    ----------
    picture : (h, w, 3) float32
        Encoded.
    hole : (h, w) bool
    offsets : (h, w, 2) int32 or float32
        At full size; pixels are read once, those of whole offsets as they are.
    check : callable
    """
    from gommage.core.fill.patchwork.kernels import corrected, steps_between  # compiled code is loaded late

    rows, columns = np.nonzero(hole)
    out = picture.copy()
    out[rows, columns] = _taken(picture, rows, columns, offsets[rows, columns])
    check()
    steps = steps_between(picture, plain(hole), offsets.astype(np.float32), np.float32(MOST_STEP))
    steps[~hole] = 0
    check()
    free = np.pad(hole, 1)
    added = corrected(np.pad(steps, ((1, 1), (1, 1), (0, 0))), free, CYCLES)[1:-1, 1:-1]
    out[rows, columns] += added[rows, columns]
    return out, np.ascontiguousarray(added)


def _taken(picture: Picture, rows: NDArray[np.intp], columns: NDArray[np.intp], offsets: Offsets) -> Picture:
    """Return what lies at an offset from each place, (N, 3)."""
    if np.issubdtype(offsets.dtype, np.integer):
        y, x = rows + offsets[:, 0].astype(np.intp), columns + offsets[:, 1].astype(np.intp)
        return np.asarray(picture[y, x])
    places = np.stack([columns + offsets[:, 1], rows + offsets[:, 0]], axis=1).astype(np.float64) + 0.5
    return sampled_at(Splines.of(picture), places)


def finer(
    offsets: NDArray[np.int32], level: int, hole: NDArray[np.bool_], is_taken: NDArray[np.bool_]
) -> NDArray[np.int32]:
    """Return offsets of a size so many times halved at full size: (h, w, 2); where they lead to nothing that may be
    taken, those of the nearest pixel.
    """
    if level == 0:
        return offsets
    out = np.zeros((*hole.shape, 2), np.int32)
    rows, columns = np.nonzero(hole)
    if not len(rows):
        return out
    coarse = offsets[rows >> level, columns >> level] << level
    good = _may_be_taken(is_taken, rows, columns, coarse) & (coarse != 0).any(axis=1)
    out[rows, columns] = coarse
    if good.any() and not good.all():
        from scipy.ndimage import distance_transform_edt

        top, left, bottom, right = rows.min(), columns.min(), rows.max() + 1, columns.max() + 1
        told = np.zeros((bottom - top, right - left), bool)  # the nearest pixel that is told lies within the hole's box
        told[rows[good] - top, columns[good] - left] = True
        nearest = distance_transform_edt(~told, return_distances=False, return_indices=True)
        box = out[top:bottom, left:right]
        near = box[nearest[0], nearest[1]][rows - top, columns - left]
        near[~_may_be_taken(is_taken, rows, columns, near)] = 0
        out[rows, columns] = near
    return out


def _may_be_taken(
    is_taken: NDArray[np.bool_], rows: NDArray[np.intp], columns: NDArray[np.intp], offsets: NDArray[np.int32]
) -> NDArray[np.bool_]:
    """Return for each place (N,) whether what lies at its offset (N, 2) may be taken."""
    y, x = rows + offsets[:, 0], columns + offsets[:, 1]
    found: NDArray[np.bool_] = (y >= 0) & (y < is_taken.shape[0]) & (x >= 0) & (x < is_taken.shape[1])
    found[found] = is_taken[y[found], x[found]]
    return found
