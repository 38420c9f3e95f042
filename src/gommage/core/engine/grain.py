"""Grain of a shot, measured on a surface near its home frame."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from gommage.core.cover import MatteAt
from gommage.core.document import Footage
from gommage.core.engine.inputs import GrainInputs
from gommage.core.engine.pictures import Pictures
from gommage.core.fill import left_over_motion, ring_points
from gommage.core.geometry import IDENTITY, around, then
from gommage.core.match import Grain, measure_grain
from gommage.core.picture import Filter, resample
from gommage.errors import FootageError

__all__ = ["measured_grain"]

Check = Callable[[], None]
REACH_PX = 160
MOST_LEFT_PX = 1.5


def measured_grain(pictures: Pictures, inputs: GrainInputs, check: Check) -> Grain | None:
    """Return the grain that frames near the home frame do not share there; None if there is too little to measure.

    What the follow has left of motion is taken out first: it would be taken for grain.
    """
    footage, bounds = inputs.footage, inputs.footage.bounds
    window = around(inputs.outline.values) & bounds
    if window.is_empty:
        return None
    covered = [_covered(pictures, footage, mattes, check) for mattes in inputs.blocked]
    home = pictures.plate(footage, inputs.home_frame, 0, check)[window.slices]
    use = np.ones((window.height, window.width), bool)
    if covered:
        use &= ~covered[0][window.slices]
    points = ring_points(home, window, use)
    neighbours = []
    reach = window.grown(REACH_PX) & bounds
    for number, (frame, mapping) in enumerate(inputs.neighbours, 1):
        check()
        try:
            picture = pictures.plate(footage, frame, 0, check)[reach.slices]
        except FootageError:
            continue  # the others tell enough
        there = mapping(points.points)
        above, below = there > (reach.left, reach.top), there < (reach.right, reach.bottom)
        clean: NDArray[np.bool_] = np.asarray((above & below).all(axis=1))
        if covered:
            x, y = np.clip(there[clean].astype(int), 0, (bounds.width - 1, bounds.height - 1)).T
            clean[clean] = ~covered[number][y, x]
        left = left_over_motion(points, np.ascontiguousarray(picture), reach, mapping, clean, MOST_LEFT_PX)
        mapping = mapping if left is IDENTITY else then(left, mapping)
        pixels, inside = resample(picture, mapping, window, at=reach)
        use &= inside > 0.5
        if covered and covered[number].any():
            hidden = covered[number][reach.slices].astype(np.float32)
            use &= resample(hidden, mapping, window, at=reach, filter=Filter.LOOK).pixels == 0
        neighbours.append(pixels)
    return measure_grain(home, neighbours, use, check)


def _covered(pictures: Pictures, footage: Footage, mattes: tuple[MatteAt, ...], check: Check) -> NDArray[np.bool_]:
    """Return where any of some mattes is on a frame, (H, W)."""
    found = np.zeros((footage.height, footage.width), bool)
    for matte in mattes:
        found |= pictures.matte(footage, matte, footage.bounds, 1.0, check) > 0
    return found
