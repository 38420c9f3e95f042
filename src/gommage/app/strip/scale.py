"""Where frames lie on the strip."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QRectF
from PySide6.QtGui import QColor, QPainter

__all__ = ["LEFT", "RIGHT", "Cells", "Scale"]

LEFT, RIGHT = 62, 10
NARROW_PX = 3.0
"""Frames narrower than this are drawn together, pixel by pixel: with gaps between they would be stripes."""


@dataclass(frozen=True, slots=True)
class Scale:
    """Frames `start` to `end` (not included) over a width in pixels."""

    start: float
    end: float
    width: int

    @property
    def per_frame(self) -> float:
        """Pixels a frame."""
        return (self.width - LEFT - RIGHT) / (self.end - self.start)

    def x(self, frame: float) -> float:
        """Return where a frame begins."""
        return LEFT + (frame - self.start) * self.per_frame

    def middle(self, frame: int) -> float:
        """Return where the middle of a frame is."""
        return self.x(frame + 0.5)

    def frame(self, x: float) -> int:
        """Return the frame at a place."""
        return int(np.floor(self.start + (x - LEFT) / max(self.per_frame, 1e-9)))

    def spans(self, frames: NDArray[np.int64]) -> list[tuple[float, float]]:
        """Return where runs of rising frames begin and end; gaps narrower than a pixel are not seen."""
        seen = frames[(frames > self.start - 1) & (frames < self.end)]
        if not len(seen):
            return []
        gap = max(1.0, 1.0 / max(self.per_frame, 1e-9))
        runs = np.split(seen, np.flatnonzero(np.diff(seen) > gap) + 1)
        return [(self.x(float(run[0])), self.x(float(run[-1]) + 1)) for run in runs]

    def cells(self, first: int, values: NDArray[np.float64], worst: str = "low") -> Cells:
        """Return cells to draw values in; NaN values have none.

        Where frames are narrow a cell is a pixel wide and shows the worst of its frames, the lowest or the highest.
        """
        if self.per_frame >= NARROW_PX:
            lefts, width = self.x(first) + np.arange(len(values)) * self.per_frame, self.per_frame - 0.6
        elif self.per_frame >= 1:
            low, high = self.x(first), self.x(first + len(values))
            lefts, width = np.arange(np.ceil(max(low, LEFT)), min(high, self.width - RIGHT)), 1.0
            values = values[np.minimum((lefts - low) / self.per_frame, len(values) - 1).astype(int)]
        else:
            columns = np.floor(self.x(first) + np.arange(len(values)) * self.per_frame)
            starts = np.flatnonzero(np.diff(columns, prepend=-np.inf))
            take = np.fmin if worst == "low" else np.fmax
            lefts, width = columns[starts], 1.0
            values = take.reduceat(values, starts) if len(starts) else values
        seen = np.isfinite(values) & (lefts > LEFT - max(self.per_frame, 1)) & (lefts < self.width - RIGHT)
        return Cells(lefts[seen], width, values[seen])


@dataclass(frozen=True, slots=True)
class Cells:
    """Cells side by side: where each begins (N,), how wide all are, and their values (N,)."""

    lefts: NDArray[Any]
    width: float
    values: NDArray[np.float64]

    def draw_bars(
        self, painter: QPainter, box: QRectF, heights: NDArray[Any], chosen: NDArray[np.bool_], colour: QColor
    ) -> None:
        """Draw bars on the floor of a box, as high as is said, of the cells that are chosen."""
        floor, width = box.bottom(), self.width
        for left, height in zip(self.lefts[chosen].tolist(), heights[chosen].tolist(), strict=True):
            painter.fillRect(QRectF(left, floor - height, width, height), colour)
