"""What a cover hides on a frame, and its surroundings."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.cover import MatteAt, reach_of
from gommage.core.document import Footage
from gommage.core.fill.choosing import COVERED
from gommage.core.fill.gathering import RING_GAP_PX, RING_WIDTH_PX
from gommage.core.fill.scene import Scene
from gommage.core.geometry import Window
from gommage.core.picture import Picture

__all__ = ["RIM_PX", "Hole", "hidden_by", "wider"]

Mask = NDArray[np.bool_]
RIM_PX = 9
"""So far around a hole is filled as well: seams are told by it."""
MOST_PIXELS = 1_500_000


@dataclass(frozen=True, slots=True)
class Hole:
    """The hole on the frame, and its surroundings.

    `wide` is the window of `frame`, `hole` and `known`, `window` that of what is filled: `wanted` there, the hole and
    the rim that seams are told by.
    """

    wide: Window
    frame: Picture
    hole: Mask
    known: Mask
    window: Window
    wanted: Mask

    def bands(self) -> Iterator[Hole]:
        """Yield it in bands, from the top down: what is gathered of a very large hole at once would not fit."""
        window, rows = self.window, max(MOST_PIXELS // max(self.window.width, 1), 64)
        for top in range(window.top, window.bottom, rows):
            band = Window(window.left, top, window.right, min(top + rows, window.bottom))
            wanted = np.ascontiguousarray(self.wanted[band.within(window)])
            yield replace(self, window=band, wanted=wanted)

    @classmethod
    def of(cls, footage: Footage, frame: int, cover: MatteAt, others: tuple[MatteAt, ...], scene: Scene) -> Hole:
        """Return what a cover hides on a frame; `others` are what else does not show the background there."""
        bounds = footage.bounds.scaled(scene.scale)
        reach = reach_of(cover, footage.bounds).scaled(scene.scale)
        wide, window = reach.grown(RING_GAP_PX + RING_WIDTH_PX) & bounds, reach.grown(RIM_PX) & bounds
        matte = scene.matte(footage, cover, wide)
        hole = matte > COVERED
        side = 2 * RIM_PX + 1
        wanted = cv2.dilate((matte[window.within(wide)] > 0).view(np.uint8), np.ones((side, side), np.uint8))
        known = ~hole & ~hidden_by(others, footage, scene, wide)
        return cls(wide, scene.plate(footage, frame, wide), hole, known, window, wanted.view(bool))


def hidden_by(mattes: tuple[MatteAt, ...], footage: Footage, scene: Scene, window: Window) -> Mask:
    """Return where any of some mattes is, grown by a pixel."""
    found: Mask = np.zeros((window.height, window.width), bool)
    if not mattes:
        return found
    for matte in mattes:
        found |= scene.matte(footage, matte, window) > COVERED
    return cv2.dilate(found.view(np.uint8), np.ones((3, 3), np.uint8)).view(bool)


def wider(mask: Mask, by_px: int) -> Mask:
    """Return a mask grown by so many pixels."""
    side = 2 * by_px + 1
    return cv2.dilate(mask.view(np.uint8), np.ones((side, side), np.uint8)).view(bool)
