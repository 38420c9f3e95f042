"""Seam and flicker of a fix, in per cent of the picture's own level, with no truth needed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.match.light import ring_around
from gommage.core.picture import Picture

__all__ = ["FrameMeasures", "Sample", "held_cells", "measures", "seam"]

BAND_PX = 8
STRETCH_PX = 24
LEAST_PIXELS = 40
GRID = 4
"""Cells each way in which the inside is watched for flicker: large, so that grain averages out."""


@dataclass(frozen=True, slots=True)
class Sample:
    """What is measured on one frame by itself.

    Attributes
    ----------
    seam_percent : float
        How far the new pixels are off the picture along the cover's rim.
    cells : (4, 4) float64
        Mean luminance of the inside, cell by cell in the held-still region, over that of the ring around the cover;
        NaN where a cell is not covered.
    """

    seam_percent: float
    cells: NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class FrameMeasures:
    """The figures of one frame on the check lane."""

    frame: int
    seam_percent: float
    flicker_percent: float

    @property
    def worst(self) -> float:
        """The greater of the two."""
        return max(self.seam_percent, self.flicker_percent)


def seam(fill: Picture, below: Picture, matte: Picture, valid: Picture) -> float:
    """Return the step that an eye would see along the cover's rim, in per cent of the picture's level.

    Just outside the cover, fill and picture show the same place. Their difference there, as the median of each
    stretch of the rim (so that something small that passes does not count), is the step; the worst quarter of the
    stretches is averaged.

    Parameters
    ----------
    fill, below : (h, w) float32
        Luminance of the fill as it is laid, before grain, and of what lies below.
    matte : (h, w) float32
    valid : (h, w) float32
        Above 0.5 where the fill has pixels.
    """
    rim = ring_around(matte, 0, BAND_PX) & (valid > 0.5)
    if rim.sum() < LEAST_PIXELS:
        return 0.0
    stretch = _stretches(matte, rim)
    difference = (fill - below)[rim]
    steps = [
        float(np.median(difference[stretch == index]))
        for index in range(int(stretch.max()) + 1)
        if (stretch == index).sum() >= LEAST_PIXELS
    ]
    worst = np.sort(np.square(steps))[-max(len(steps) // 4, 1) :] if steps else np.zeros(1)
    return 100 * float(np.sqrt(worst.mean())) / max(float(below[rim].mean()), 1e-4)


def _stretches(matte: Picture, rim: NDArray[np.bool_]) -> NDArray[np.int64]:
    """Return for each pixel of the rim (in row order) on which stretch along the cover's outline it lies."""
    from scipy.spatial import cKDTree  # loaded late: it would cost the start of the program a third of a second

    outlines, _ = cv2.findContours((matte > 0).astype(np.uint8), cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_NONE)
    parts, begin = [], 0
    for points in outlines:
        count = max(round(len(points) / STRETCH_PX), 1)
        parts.append(begin + np.arange(len(points)) * count // len(points))
        begin += count
    rows, columns = np.nonzero(rim)
    _, nearest = cKDTree(np.concatenate(outlines)[:, 0]).query(np.column_stack([columns, rows]))
    stretch: NDArray[np.int64] = np.concatenate(parts)[nearest]
    return stretch


def held_cells(result: Picture, matte: Picture, held_still: Picture, held_matte: Picture) -> NDArray[np.float64]:
    """Return the brightness of the inside, cell by cell, over that of the ring; see `Sample`.

    Parameters
    ----------
    result, matte : (h, w) float32
        Luminance of the result around the cover, and the cover.
    held_still, held_matte : (g, k) float32
        The same in the region held still.
    """
    ring = ring_around(matte)
    around_level = max(float(result[ring].mean()) if ring.any() else float(result.mean()), 1e-4)
    within = held_matte > 0.95
    height, width = held_still.shape
    rows = np.arange(height)[:, None] * GRID // height
    columns = np.arange(width)[None, :] * GRID // width
    cell = (rows * GRID + columns)[within]
    count = np.bincount(cell, minlength=GRID * GRID)
    mean = np.bincount(cell, held_still[within], GRID * GRID) / np.maximum(count, 1)
    enough = count >= 0.4 * height * width / GRID**2
    return np.where(enough, mean / around_level, np.nan).reshape(GRID, GRID)


def measures(samples: Mapping[int, Sample]) -> tuple[FrameMeasures, ...]:
    """Return the figures of all frames that were sampled, in order.

    Flicker is how far a frame's cells lie from the middle of their neighbours' (second difference), in per cent; grain
    alone gives some tenths of a per cent.
    """
    out = []
    for frame, sample in sorted(samples.items()):
        before, after = samples.get(frame - 1), samples.get(frame + 1)
        flicker = 0.0
        if before is not None and after is not None:
            bend = sample.cells - (before.cells + after.cells) / 2
            known = bend[np.isfinite(bend)]
            if len(known):
                flicker = 100 * float(np.sqrt((known**2).mean()))
        out.append(FrameMeasures(frame, sample.seam_percent, flicker))
    return tuple(out)
