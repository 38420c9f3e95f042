"""Pieces of a picture laid into its hole, without steps where they meet."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

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
    steps = steps_between(picture, hole, offsets.astype(np.float32), np.float32(MOST_STEP))
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
    height, width = hole.shape
    wide = np.repeat(np.repeat(offsets, 2**level, axis=0), 2**level, axis=1)[:height, :width] * 2**level
    rows, columns = np.nonzero(hole)
    there = wide[rows, columns] + np.stack([rows, columns], axis=1)
    inside = ((there >= 0) & (there < (height, width))).all(axis=1)
    there = np.clip(there, 0, (height - 1, width - 1))
    good = np.zeros((height, width), bool)
    good[rows, columns] = inside & is_taken[there[:, 0], there[:, 1]] & (wide[rows, columns] != 0).any(axis=1)
    if good.any():
        from scipy.ndimage import distance_transform_edt

        nearest = distance_transform_edt(~good, return_distances=False, return_indices=True)
        wide = wide[nearest[0], nearest[1]]
        there = wide[rows, columns] + np.stack([rows, columns], axis=1)
        inside = ((there >= 0) & (there < (height, width))).all(axis=1)
        inside[inside] = is_taken[there[inside, 0], there[inside, 1]]
        wide[rows[~inside], columns[~inside]] = 0
    out = np.zeros((height, width, 2), np.int32)
    out[rows, columns] = wide[rows, columns]
    return out
