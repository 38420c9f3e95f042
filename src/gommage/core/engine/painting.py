"""A stroke while it is in the hand: from the pen's points to pixels of the viewport."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from gommage.core.document import Shot, Stroke
from gommage.core.engine.evaluate import Engine
from gommage.core.engine.inputs import frame_inputs
from gommage.core.engine.patches import MARGIN_OF_PAINT_PX
from gommage.core.engine.views import Look, ViewRequest, shown_pixels
from gommage.core.fill import canvas_key
from gommage.core.geometry import Mapping, Window, around, spanning, then
from gommage.core.paint import CanvasKey, StrokeInHand

__all__ = ["LiveStroke", "Shown"]

Check = Callable[[], None]


def _never() -> None:
    """Call nothing off."""


@dataclass(frozen=True, slots=True)
class Shown:
    """Pixels (h, w, 4) uint8 for a window of the viewport; the last number is 0 where there is no picture."""

    window: Window
    pixels: NDArray[np.uint8]


class LiveStroke:
    """Lay a stroke on a clean plate and show each bit of it, in whatever is looked at.

    Its methods are called one after the other, by one thread.

    Parameters
    ----------
    engine : Engine
    request : ViewRequest
        What the viewport shows, of the shot as it was before the stroke.
    plate_id : str
        The clean plate that is painted on.
    stroke : Stroke
        Brush and source; its points are ignored.
    """

    def __init__(self, engine: Engine, request: ViewRequest, plate_id: str, stroke: Stroke) -> None:
        self._engine, self._request, self._stroke = engine, request, stroke
        self._plate = request.shot.clean_plate(plate_id)
        self._key: CanvasKey = canvas_key(request.shot, self._plate)
        self._hand: StrokeInHand | None = None

    def add(self, points: NDArray[np.float64], check: Check = _never) -> Shown | None:
        """Lay more points (N, 3) and return what of the viewport changed, or None."""
        hand = self._begun(check)
        changed = hand.add(points)
        if changed is None:
            return None
        view_from_plate = self._view_from_plate()
        if view_from_plate is None:
            return None
        margin = 1 if self._request.look is Look.CLEAN_PLATE else MARGIN_OF_PAINT_PX
        seen = spanning(view_from_plate, changed.grown(margin), 4)
        part = around(seen, 1) & Window.of(*self._request.size_wh)
        if part.is_empty or not np.isfinite(seen).all():
            return None
        pixels = shown_pixels(self._engine, self._request, part, {self._key: hand.canvas}, check)
        return Shown(part, pixels)

    def _begun(self, check: Check) -> StrokeInHand:
        if self._hand is None:
            pictures = self._engine.pictures
            before, untouched = pictures.canvas(self._key, check), pictures.canvas(self._key.untouched, check)
            self._before = before
            self._hand = StrokeInHand(before, untouched, self._stroke)
        return self._hand

    def _view_from_plate(self) -> Mapping | None:
        """Return where the plate's pixels are in the viewport: as it is carried to the frame that is looked at."""
        request = self._request
        if request.look is Look.CLEAN_PLATE:
            return request.view_from_frame
        for inputs in frame_inputs(request.shot, request.frame):
            for plate in inputs.fill.plates:
                if plate.canvas == self._key:
                    return then(plate.frame_from_plate, request.view_from_frame)
        return None

    def finish(self, shot: Shot, check: Check = _never) -> None:
        """Keep the tiles that the hand saw, as those of the shot with the stroke committed."""
        hand = self._begun(check)
        key = canvas_key(shot, shot.clean_plate(self._plate.id))
        self._engine.pictures.keep_canvas(key, hand.canvas.counted_after(self._before))
