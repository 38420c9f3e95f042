"""How fast surfaces pass: donors that are blurred more by it are put off."""

from __future__ import annotations

import math
from functools import lru_cache

import numpy as np

from gommage.core.document import Shot, mappings_of

__all__ = ["SHUTTER", "excess_px", "passing_on"]

Passing = tuple[float, float]
SHUTTER = 0.5
"""For how long a shutter is open as a rule, as a share of a frame."""
WAY_STEP_PX = 0.5
"""A way is told no finer: frames beside one that is corrected a little stay as they are."""


@lru_cache(maxsize=8192)
def passing_on(shot: Shot, surface_id: str, frame: int) -> Passing:
    """Return how a surface passes on a frame, in pixels a frame at the middle of what it was followed by."""
    mapping_of = mappings_of(shot)
    middle = np.asarray(shot.surface(surface_id).outline, np.float64).mean(axis=0)
    found = [(at, mapping) for at in (frame - 1, frame, frame + 1) if (mapping := mapping_of(surface_id, at))]
    if len(found) < 2:
        return 0.0, 0.0
    (first, before), (last, after) = found[0], found[-1]
    way = (after(middle) - before(middle)) / (last - first)
    x, y = (np.round(way / WAY_STEP_PX) * WAY_STEP_PX).tolist()
    return (x, y) if np.isfinite(x + y) else (0.0, 0.0)


def excess_px(donor: Passing, frame: Passing) -> float:
    """Return how much longer than the frame's own blur a donor's is in its worst direction, in pixels."""
    across, down = donor[0] ** 2 - frame[0] ** 2, donor[1] ** 2 - frame[1] ** 2
    both = donor[0] * donor[1] - frame[0] * frame[1]
    worst = (across + down) / 2 + math.hypot((across - down) / 2, both)  # of the matrix (across, both; both, down)
    return SHUTTER * math.sqrt(max(worst, 0.0))
