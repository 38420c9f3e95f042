"""A stroke while it is in the hand: from the pen's points to pixels of the viewport."""

from __future__ import annotations

import threading
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from gommage.core.document import CleanPlate, Shot, Stroke
from gommage.core.engine.evaluate import Engine
from gommage.core.paint import StrokeInHand
from gommage.core.picture import Matrix, Window, apply_matrix, around, translation, view
from gommage.core.picture.colour import Display, show

__all__ = ["LiveStroke", "Shown"]


@dataclass(frozen=True, slots=True)
class Shown:
    """Pixels (h, w, 4) uint8 for a window of the viewport."""

    window: Window
    pixels: NDArray[np.uint8]


class LiveStroke:
    """Lay a stroke on a clean plate and show each bit of it.

    Parameters
    ----------
    engine : Engine
    shot : Shot
    plate : CleanPlate
        As it is before the stroke.
    stroke : Stroke
        Tool, size and source; its points are ignored.
    view_from_plate : (3, 3) float64
        Takes plate pixels to the viewport's.
    size_wh : tuple of int
        The viewport.
    display : Display
    """

    def __init__(
        self,
        engine: Engine,
        shot: Shot,
        plate: CleanPlate,
        stroke: Stroke,
        view_from_plate: Matrix,
        size_wh: tuple[int, int],
        display: Display,
    ) -> None:
        self._engine, self._shot, self._plate = engine, shot, plate
        self._stroke = stroke
        self._view_from_plate = view_from_plate
        self._viewport = Window.of(*size_wh)
        self._display = display
        self._hand: StrokeInHand | None = None
        self._lock = threading.Lock()

    def add(self, points: NDArray[np.float64]) -> Shown | None:
        """Lay more points (N, 3) and return what of the viewport changed, or None."""
        with self._lock:
            if self._hand is None:
                canvas = self._engine.canvas(self._shot, self._plate)
                untouched = self._engine.untouched(self._shot, self._plate)
                self._hand = StrokeInHand(canvas, untouched, self._stroke)
                self._painted = canvas.copy()
            laid = self._hand.add(points)
            if laid is None:
                return None
            self._painted[laid.window.slices] = laid.pixels
            return self._show(laid.window)

    def _show(self, changed: Window) -> Shown | None:
        box = np.array(
            [
                [changed.left, changed.top],
                [changed.right, changed.top],
                [changed.right, changed.bottom],
                [changed.left, changed.bottom],
            ],
            float,
        )
        corners = apply_matrix(self._view_from_plate, box)
        if not np.isfinite(corners).all():
            return None
        target = around(corners) & self._viewport
        if target.is_empty:
            return None
        height, width = self._painted.shape[:2]
        # A margin for the averaging of a reduced view, on the grid of its halvings.
        crop = changed.grown(32)
        crop = Window(crop.left // 32 * 32, crop.top // 32 * 32, -(-crop.right // 32) * 32, -(-crop.bottom // 32) * 32)
        crop = crop & Window.of(width, height)
        matrix = translation(-target.left, -target.top) @ self._view_from_plate @ translation(crop.left, crop.top)
        seen = view(self._painted[crop.slices], matrix, (target.width, target.height), outside=np.nan)
        off = np.isnan(seen[..., 0])
        seen[off] = 0.0
        pixels = show(seen, self._display)
        pixels[off, 3] = 0
        return Shown(target, pixels)
