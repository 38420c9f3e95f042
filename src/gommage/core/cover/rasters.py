"""Rasterise mattes: full inside the line, falling to nothing over the soft edge."""

from __future__ import annotations

import numpy as np

from gommage.core.cover.parts import MatteAt, PartAt
from gommage.core.document import Combine
from gommage.core.geometry import Points, Window, around
from gommage.core.picture import Picture

__all__ = ["matte_pixels", "reach_of"]

HARDEST_EDGE_PX = 1.0
"""No edge is harder than a pixel: that would be jagged."""


def reach_of(matte: MatteAt, bounds: Window) -> Window:
    """Return the smallest window that holds all of a matte within the picture; empty where nothing is covered."""
    reached = Window(0, 0, 0, 0)
    for part in matte.parts:
        if part.combine is Combine.ADD and part.is_inverted:
            return bounds
        if part.combine is Combine.ADD:
            margin = max(part.outwards_px, HARDEST_EDGE_PX) + max(part.grow_px, 0.0) + 1
            reached = reached | (around(part.outline.values, margin) & bounds)
    return reached


def matte_pixels(matte: MatteAt, window: Window, scale: float = 1.0) -> Picture:
    """Return a window of a matte, parts put together in reading order.

    Parameters
    ----------
    matte : MatteAt
    window : Window
        In pixels of the picture at that scale. A window of the matte equals the matte of the window.
    scale : float
        Pixels wanted a pixel of the frame.

    Returns
    -------
    (h, w) float32, 0 to 1
    """
    out = np.zeros((window.height, window.width), np.float32)
    for part in matte.parts:
        one = _part(part, window, scale)
        if part.is_inverted:
            one = 1 - one
        if part.combine is Combine.ADD:
            np.maximum(out, one, out=out)
        else:
            np.minimum(out, 1 - one if part.combine is Combine.SUBTRACT else one, out=out)
    return out


def _part(part: PartAt, window: Window, scale: float) -> Picture:
    out = np.zeros((window.height, window.width), np.float32)
    inwards, outwards = part.inwards_px * scale, max(part.outwards_px * scale, HARDEST_EDGE_PX)
    points: Points = part.outline.values * scale
    near = around(points, outwards + max(part.grow_px * scale, 0.0) + 1) & window
    if not near.is_empty:
        out[near.within(window)] = _edge(points, near, inwards, outwards, part.grow_px * scale)
    return out


def _edge(points: Points, window: Window, inwards: float, outwards: float, grow: float) -> Picture:
    from gommage.core.cover.kernels import inside, nearest_outline  # compiled code is loaded late

    within = np.zeros((window.height, window.width), np.float32)
    inside(points, window.left, window.top, within)
    reach = max(inwards, outwards) + abs(grow) + 1
    squared = np.full(within.shape, reach * reach, np.float32)
    nearest_outline(points, window.left, window.top, reach, squared)
    outside_by = np.sqrt(squared) * np.where(within > 0, -1, 1) - grow
    fall = np.clip((outwards - outside_by) / (inwards + outwards), 0, 1)
    return (fall * fall * (3 - 2 * fall)).astype(np.float32)
