"""Windows: rectangles of whole pixels; points, and the matrices that move them."""

from __future__ import annotations

from collections.abc import Sequence
from math import ceil, floor
from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

__all__ = ["Matrix", "Points", "Window", "apply_matrix", "around", "holding", "translation"]

Points = NDArray[np.floating[Any]]
"""(..., 2) float64 positions, x then y, pixel centres at +0.5."""
Matrix = NDArray[np.floating[Any]]
"""(3, 3) float64 mapping of homogeneous points."""
FARTHEST_PX = 1e8


class Window(Struct, frozen=True, gc=False):
    """Pixels with left <= x < right and top <= y < bottom."""

    left: int
    top: int
    right: int
    bottom: int

    @property
    def width(self) -> int:
        """Pixels across."""
        return max(self.right - self.left, 0)

    @property
    def height(self) -> int:
        """Pixels down."""
        return max(self.bottom - self.top, 0)

    @property
    def area(self) -> int:
        """How many pixels it has."""
        return self.width * self.height

    @property
    def is_empty(self) -> bool:
        """Whether there is no pixel in it."""
        return self.right <= self.left or self.bottom <= self.top

    @property
    def slices(self) -> tuple[slice, slice]:
        """Rows and columns, to index an array of the whole picture."""
        return slice(self.top, self.bottom), slice(self.left, self.right)

    @property
    def corners(self) -> Points:
        """Its corners (4, 2), round from the top left."""
        return np.array(
            [[self.left, self.top], [self.right, self.top], [self.right, self.bottom], [self.left, self.bottom]], float
        )

    def within(self, outer: Window) -> tuple[slice, slice]:
        """Return rows and columns that find this window in an array of the outer one."""
        return (
            slice(self.top - outer.top, self.bottom - outer.top),
            slice(self.left - outer.left, self.right - outer.left),
        )

    def grown(self, by: int) -> Window:
        """Return the window with a margin added on every side."""
        return Window(self.left - by, self.top - by, self.right + by, self.bottom + by)

    def shifted(self, dx: int, dy: int) -> Window:
        """Return the window moved."""
        return Window(self.left + dx, self.top + dy, self.right + dx, self.bottom + dy)

    def aligned(self, step: int) -> Window:
        """Return the smallest window that holds this one and whose sides lie on multiples of a step."""
        return Window(
            self.left // step * step,
            self.top // step * step,
            -(-self.right // step) * step,
            -(-self.bottom // step) * step,
        )

    def scaled(self, scale: float) -> Window:
        """Return the smallest window that holds this one in a picture of another scale."""
        return Window(
            int(np.floor(self.left * scale)),
            int(np.floor(self.top * scale)),
            int(np.ceil(self.right * scale)),
            int(np.ceil(self.bottom * scale)),
        )

    def __and__(self, other: Window) -> Window:
        """Return what both windows share (perhaps empty)."""
        return Window(
            max(self.left, other.left),
            max(self.top, other.top),
            min(self.right, other.right),
            min(self.bottom, other.bottom),
        )

    def __or__(self, other: Window) -> Window:
        """Return the smallest window that holds both."""
        if self.is_empty or other.is_empty:
            return other if self.is_empty else self
        return Window(
            min(self.left, other.left),
            min(self.top, other.top),
            max(self.right, other.right),
            max(self.bottom, other.bottom),
        )

    @classmethod
    def of(cls, width: int, height: int) -> Window:
        """Return the window of a whole picture."""
        return cls(0, 0, width, height)


NOWHERE = Window(0, 0, 0, 0)


def around(points: Points, margin: float = 0.0) -> Window:
    """Return the smallest window that holds all points and a margin in pixels around them.

    Points that are no numbers (behind the camera) are left out; with none left the window is empty.
    """
    flat = np.asarray(points, dtype=np.float64).reshape(-1, 2)
    if len(flat) and not np.isfinite(flat.sum()):
        flat = flat[np.isfinite(flat).all(axis=1)]
    if not len(flat):
        return NOWHERE
    return holding([*flat.min(axis=0).tolist(), *flat.max(axis=0).tolist()], margin)


def holding(box: Sequence[float], margin: float = 0.0) -> Window:
    """Return the smallest window that holds a box (left, top, right, bottom) and a margin around it.

    It ends where no picture reaches.
    """
    low = (floor(min(max(value - margin, -FARTHEST_PX), FARTHEST_PX)) for value in box[:2])
    high = (ceil(min(max(value + margin, -FARTHEST_PX), FARTHEST_PX)) for value in box[2:])
    return Window(*low, *high)


def apply_matrix(target_from_source: Matrix, points: Points) -> Points:
    """Return points (..., 2) moved by a 3x3 matrix; a point that falls behind the camera becomes NaN."""
    points = np.asarray(points, dtype=np.float64)
    moved = points @ target_from_source[:, :2].T + target_from_source[:, 2]
    depth = moved[..., 2:]
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(depth > 1e-9, moved[..., :2] / depth, np.nan)


def translation(dx: float, dy: float) -> Matrix:
    """Return the matrix that shifts by (dx, dy) pixels."""
    return np.array([[1.0, 0.0, dx], [0.0, 1.0, dy], [0.0, 0.0, 1.0]])
