"""What is known of a thing that found itself: dirt, a scratch, a mark."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from gommage.core.document import MattePart
from gommage.core.geometry import Points

__all__ = ["Found"]

Mask = NDArray[np.bool_]


@dataclass(frozen=True, slots=True, eq=False)
class Found:
    """Something that was found.

    Attributes
    ----------
    keys : tuple of (int, (N, 2) float64)
        Its outline on frames, in pixels of what it rides on; between them it goes from one to the next.
    score : float
        How clearly: dirt in spreads of the grain, marks in hundredths of a likeness.
    words : str
        What it is.
    surface_id : str
        What it rides on; empty: the pixels of the frame.
    is_lasting : bool
        Whether it is there on all frames; otherwise from its first key to its last.
    part : MattePart or None
        What covers it, if that is more than an outline.
    """

    keys: tuple[tuple[int, Points], ...]
    score: float
    words: str
    surface_id: str = ""
    is_lasting: bool = False
    part: MattePart | None = None

    @property
    def frame(self) -> int:
        """The frame on which it is listed."""
        return self.keys[0][0]

    def is_on(self, frame: int) -> bool:
        """Return whether it is there on a frame."""
        return self.is_lasting or self.keys[0][0] <= frame <= self.keys[-1][0]

    def outline_on(self, frame: int) -> Points:
        """Return its outline on a frame."""
        return min(self.keys, key=lambda key: abs(key[0] - frame))[1]
