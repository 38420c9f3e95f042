"""Things that find themselves: what is known of each, and marks of one look."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.document import MattePart
from gommage.core.geometry import Points
from gommage.core.picture import Picture, encoded

__all__ = ["LOOKS", "Found", "Look", "marks_on"]

Mask = NDArray[np.bool_]
Look = tuple[float, float]
TURNS_DEG, SCALES = (0.0, -12.0, 12.0, -24.0, 24.0, -36.0, 36.0), (1.0, 0.8, 1.25)
LOOKS: tuple[Look, ...] = tuple((by, turn) for turn in TURNS_DEG for by in SCALES)
"""Marks are looked for so much larger, turned by so many degrees."""
MARK_SIDE_PX = 24
"""Marks are looked for where they are about so large."""
LEAST_ALIKE, LEAST_CONTRAST, MOST_CONTRAST = 0.45, 0.5, 2.0


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


# -- marks --------------------------------------------------------------------------------------------------


def marks_on(
    picture: Picture, example: Picture, size_wh: tuple[float, float], looks: Sequence[Look] = LOOKS
) -> list[tuple[float, float, Look, float]]:
    """Return where a picture looks like an example: middle x, y, by how much larger and turned, and how alike, 0 to 1.

    Parameters
    ----------
    picture, example : (h, w, 3) float32
        Scene-linear; the example with a little of what is around it.
    size_wh : tuple of float
        Of the example, in pixels.
    looks : sequence of (float, float)
        By how much larger, and turned by how many degrees, it is looked for.
    """
    scale = min(MARK_SIDE_PX / max(min(size_wh), 1.0), 1.0)
    small, mark = (
        cv2.resize(encoded(one), None, fx=scale, fy=scale, interpolation=cv2.INTER_AREA) for one in (picture, example)
    )
    best = np.full(small.shape[:2], -1.0, np.float32)
    which = np.zeros(small.shape[:2], np.int32)
    for number, (by, turn) in enumerate(looks):
        one = _as_seen(mark, by, turn)
        high, wide = one.shape[:2]
        if high > small.shape[0] or wide > small.shape[1]:
            continue
        alike = cv2.matchTemplate(small, one, cv2.TM_CCOEFF_NORMED)
        top, left = high // 2, wide // 2
        part = best[top : top + alike.shape[0], left : left + alike.shape[1]]
        better = np.isfinite(alike) & (alike > part)
        part[better] = alike[better]
        which[top : top + alike.shape[0], left : left + alike.shape[1]][better] = number
    reach = round(0.8 * max(mark.shape[:2]))
    peaks = (best == cv2.dilate(best, np.ones((reach, reach), np.uint8))) & (best > LEAST_ALIKE)
    found = []
    for row, column in np.argwhere(peaks):
        if (
            not LEAST_CONTRAST
            < _contrast(small, _as_seen(mark, *looks[which[row, column]]), row, column)
            < MOST_CONTRAST
        ):
            continue
        x, y = column + 0.5 + _peak(best[row], column), row + 0.5 + _peak(best[:, column], row)
        found.append((float(x / scale), float(y / scale), looks[which[row, column]], float(best[row, column])))
    return sorted(found, key=lambda one: -one[3])


def _contrast(picture: Picture, mark: Picture, row: int, column: int) -> float:
    """Return how much of a mark's contrast a picture has at a place, as far as it has its look."""
    high, wide = mark.shape[:2]
    top, left = row - high // 2, column - wide // 2
    there = picture[max(top, 0) : top + high, max(left, 0) : left + wide]
    if there.shape != mark.shape:
        return 0.0
    own, other = (one - one.mean(axis=(0, 1)) for one in (mark, there))
    return float((own * other).sum() / max(float((own * own).sum()), 1e-9))


def _as_seen(mark: Picture, by: float, turn_deg: float) -> Picture:
    """Return an example larger and turned; what comes in at its corners goes on as its rim."""
    high, wide = mark.shape[:2]
    if turn_deg:
        matrix = cv2.getRotationMatrix2D(((wide - 1) / 2, (high - 1) / 2), -turn_deg, 1.0)
        mark = cv2.warpAffine(mark, matrix, (wide, high), flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    return cv2.resize(mark, None, fx=by, fy=by, interpolation=cv2.INTER_AREA if by < 1 else cv2.INTER_LINEAR)


def _peak(values: NDArray[np.floating], at: int) -> float:
    """Return how far beside the largest value a curve is largest."""
    if not 0 < at < len(values) - 1:
        return 0.0
    before, here, after = (float(one) for one in values[at - 1 : at + 2])
    bent = before - 2 * here + after
    return float(np.clip(0.5 * (before - after) / bent, -0.5, 0.5)) if bent < 0 else 0.0
