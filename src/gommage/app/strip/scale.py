"""Where frames lie on the strip."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

__all__ = ["LEFT", "RIGHT", "Scale"]

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

    def cells(
        self, first: int, values: NDArray[np.float64], worst: str = "low"
    ) -> Iterator[tuple[float, float, float]]:
        """Yield cells to draw values in: left, width, value; NaN values have none.

        Where frames are narrow a cell is a pixel wide and shows the worst of its frames, the lowest or the highest.
        """
        if not len(values):
            return
        if self.per_frame >= NARROW_PX:
            for index in np.flatnonzero(np.isfinite(values)):
                left = self.x(first + int(index))
                if LEFT - self.per_frame < left < self.width:
                    yield left, self.per_frame - 0.6, float(values[index])
            return
        columns = np.floor(self.x(first) + np.arange(len(values)) * self.per_frame).astype(int)
        take = np.nanmin if worst == "low" else np.nanmax
        for column in range(max(columns[0], LEFT), min(columns[-1] + 1, self.width - RIGHT)):
            low, high = np.searchsorted(columns, (column, column + 1))
            here = values[low : max(high, low + 1)]
            if np.isfinite(here).any():
                yield float(column), 1.0, float(take(here[np.isfinite(here)]))
