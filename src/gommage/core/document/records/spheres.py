"""How a panoramic camera stood: which way is up, and how it turned."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from gommage.core.document.arrays import Array
from gommage.core.document.records.base import Record, as_arrays

__all__ = ["Sphere"]


class Sphere(Record, frozen=True):
    """The sphere of all directions that a panoramic camera sees.

    Attributes
    ----------
    level : Array
        (3, 3) from the panorama's directions to level ones, in which y is straight down.
    first_frame : int
        Frame of the first row of the arrays.
    turns : Array or None
        (N, 3, 3) from directions as they lie on the home frame to those on each frame; None: it stands still.
    error_px : Array or None
        (N,) by how much features leave that, in pixels of the panorama.
    home_frame : int
    """

    level: Array
    first_frame: int = 0
    turns: Array | None = None
    error_px: Array | None = None
    home_frame: int = 0

    def __post_init__(self) -> None:
        as_arrays(self, "level", *(name for name in ("turns", "error_px") if getattr(self, name) is not None))
        turns = np.zeros((1, 3, 3)) if self.turns is None else self.turns.values
        errors = np.zeros(len(turns)) if self.error_px is None else self.error_px.values
        if self.level.values.shape != (3, 3) or turns.shape != (len(turns), 3, 3) or errors.shape != (len(turns),):
            raise ValueError(f"a sphere needs turns (N, 3, 3) and as many errors, got {turns.shape}, {errors.shape}")

    @classmethod
    def plain(cls) -> Sphere:
        """Return that of a camera that stands upright and still."""
        return cls(level=Array(np.eye(3)))

    @property
    def worst_px(self) -> float:
        """The largest error."""
        return 0.0 if self.error_px is None else float(self.error_px.values.max())

    def turn(self, frame: int) -> NDArray[np.float64]:
        """Return the turn (3, 3) of a frame; beyond the ends that of the end."""
        if self.turns is None:
            return np.eye(3)
        found: NDArray[np.float64] = self.turns.values[min(max(frame - self.first_frame, 0), len(self.turns) - 1)]
        return found
