"""Where on a frame a follow looks: mattes of its areas and of what is kept out, pixel by pixel."""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.document import Combine, Drawn, Matte, MattePart, is_within, outline_at
from gommage.core.geometry import Mapping, Points, Window

__all__ = ["Mask", "Undrawn", "changes", "matte_mask", "polygon_mask", "without"]

Mask = NDArray[np.uint8]
"""1 inside, 0 elsewhere, (h, w)."""
Undrawn = Callable[[MattePart, int, Mapping, Window], Mask]
"""Gives the mask of a part that is not drawn, on a frame, where home pixels are on it, over a window."""
AROUND_PX = 8
"""So far around a point is taken to belong to it."""


def polygon_mask(outlines: list[Points], window: Window) -> NDArray[np.uint8]:
    """Return 1 inside any of the outlines (N, 2), 0 elsewhere, over a window: (h, w) uint8."""
    mask = np.zeros((window.height, window.width), np.uint8)
    for points in outlines:
        known = points[np.isfinite(points).all(axis=1)]
        if len(known) >= 3:
            local = np.clip(known - (window.left + 0.5, window.top + 0.5), -1e5, 1e5)
            cv2.fillPoly(mask, [np.round(local * 16).astype(np.int32)], 1, shift=4)
    return mask


def without(mask: NDArray[np.uint8], points: Points) -> NDArray[np.uint8]:
    """Return a mask (h, w) without what lies around points (N, 2) of it: squares of `AROUND_PX` to each side."""
    out = np.zeros_like(mask)
    out[points[:, 1].astype(np.intp), points[:, 0].astype(np.intp)] = 1
    return mask & (1 - cv2.dilate(out, np.ones((2 * AROUND_PX + 1,) * 2, np.uint8)))


def matte_mask(
    matte: Matte, frame: int, home_to_frame: Mapping, window: Window, undrawn: Undrawn | None = None
) -> Mask:
    """Return 1 inside a matte of a surface that is where it is taken to be, its parts in reading order, (h, w) uint8.

    Parameters
    ----------
    matte : Matte
        Of its areas, or of its keep-outs: what rides does so on this surface.
    frame : int
    home_to_frame : Mapping
    window : Window
        In pixels of the frame.
    undrawn : callable, optional
        Without it parts that are not drawn are nothing.
    """
    mask = np.zeros((window.height, window.width), np.uint8)
    for part in matte.parts:
        if not part.is_on or not is_within(part.frames, frame):
            continue
        if isinstance(part.source, Drawn):
            line = outline_at(part.source.shape, frame)
            one = polygon_mask([home_to_frame(line) if part.source.surface_id else line], window)
        elif undrawn is not None:
            one = undrawn(part, frame, home_to_frame, window)
        else:
            continue
        if part.is_inverted is not (part.combine is Combine.SUBTRACT):
            one = 1 - one
        mask = mask | one if part.combine is Combine.ADD else mask & one
    return mask


def changes(part: MattePart) -> bool:
    """Return whether a part may be another one on other frames than where its surface takes it."""
    drawn = part.source
    return not isinstance(drawn, Drawn) or not drawn.surface_id or len(drawn.shape.keys) > 1
