"""Grain of a shot, measured on a surface near its home frame."""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.cover import MatteAt
from gommage.core.document import Footage
from gommage.core.engine.inputs import GrainInputs
from gommage.core.engine.pictures import Pictures
from gommage.core.fill import left_over_motion, ring_points
from gommage.core.geometry import IDENTITY, Window, around, shift, then
from gommage.core.match import Grain, measure_grain
from gommage.core.picture import Filter, Picture, luminance, resample
from gommage.errors import FootageError

__all__ = ["measured_grain"]

Check = Callable[[], None]
REACH_PX = 160
MOST_LEFT_PX = 1.5
LEAST_RESPONSE = 0.05
MOST_PIXELS, STRIP_PX = 300_000, 24


def measured_grain(pictures: Pictures, inputs: GrainInputs, check: Check) -> Grain | None:
    """Return the grain that frames near the home frame do not share there; None if there is too little to measure.

    What the follow has left of motion is taken out first: it would be taken for grain.
    """
    footage, bounds = inputs.footage, inputs.footage.bounds
    window = around(inputs.outline.values) & bounds
    if window.is_empty:
        return None
    pictures.ahead(footage, [inputs.home_frame, *(frame for frame, _ in inputs.neighbours)], 0, check)
    covered = [_covered(pictures, footage, mattes, check) for mattes in inputs.blocked]
    home = pictures.plate(footage, inputs.home_frame, 0, check)
    free = np.ones((window.height, window.width), bool)
    if covered:
        free &= ~covered[0][window.slices]
    points = ring_points(home[window.slices], window, free)
    strips = _strips(window)
    use = [free[strip.within(window)].copy() for strip in strips]
    neighbours = []
    reach = window.grown(REACH_PX) & bounds
    for number, (frame, mapping) in enumerate(inputs.neighbours, 1):
        check()
        try:
            picture = pictures.plate(footage, frame, 0, check)[reach.slices]
        except FootageError:
            continue  # the others tell enough
        if not inputs.is_placed:
            by = _moved(home[window.slices], pictures.plate(footage, frame, 0, check)[window.slices])
            if by is None:
                continue
            mapping = shift(*by)
        there = mapping(points.points)
        above, below = there > (reach.left, reach.top), there < (reach.right, reach.bottom)
        clean: NDArray[np.bool_] = np.asarray((above & below).all(axis=1))
        if covered:
            x, y = np.clip(there[clean].astype(int), 0, (bounds.width - 1, bounds.height - 1)).T
            clean[clean] = ~covered[number][y, x]
        left = left_over_motion(points, np.ascontiguousarray(picture), reach, mapping, clean, MOST_LEFT_PX)
        mapping = mapping if left is IDENTITY else then(left, mapping)
        hidden = covered[number][reach.slices].astype(np.float32) if covered and covered[number].any() else None
        brought = []
        for strip, here in zip(strips, use, strict=True):
            check()
            pixels, inside = resample(picture, mapping, strip, at=reach)
            here &= inside > 0.5
            if hidden is not None:
                here &= resample(hidden, mapping, strip, at=reach, filter=Filter.LOOK).pixels == 0
            brought.append(pixels)
        neighbours.append(np.concatenate(brought))
    shown = np.concatenate([home[strip.slices] for strip in strips])
    return measure_grain(shown, neighbours, np.concatenate(use), check)


def _moved(home: Picture, near: Picture) -> tuple[float, float] | None:
    """Return by how much a window of one frame is moved on another, (x, y), by the phase of their spectra; None if that
    is not clear.
    """
    faded = cv2.createHanningWindow((home.shape[1], home.shape[0]), cv2.CV_32F)
    (x, y), response = cv2.phaseCorrelate(luminance(home), luminance(near), faded)
    return (x, y) if response > LEAST_RESPONSE else None


def _strips(window: Window) -> list[Window]:
    """Return a window in strips that hold as many pixels as tell grain well: all of a small one, some of a large one,
    spread evenly, so that they see as much of light and dark.
    """
    count = -(-MOST_PIXELS // (window.width * STRIP_PX))
    if count * STRIP_PX >= window.height:
        return [window]
    tops = np.linspace(window.top, window.bottom - STRIP_PX, count).round().astype(int).tolist()
    return [Window(window.left, top, window.right, top + STRIP_PX) for top in tops]


def _covered(pictures: Pictures, footage: Footage, mattes: tuple[MatteAt, ...], check: Check) -> NDArray[np.bool_]:
    """Return where any of some mattes is on a frame, (H, W)."""
    found = np.zeros((footage.height, footage.width), bool)
    for matte in mattes:
        found |= pictures.matte(footage, matte, footage.bounds, 1.0, check) > 0
    return found
