"""The sheet: a surface on many frames side by side, held still, so that a slip shows at a glance."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from gommage.core.document import Shot, placement
from gommage.core.engine.evaluate import Engine
from gommage.core.engine.views import SURROUND
from gommage.core.geometry import Mapping, Points, Window, composed, scaling, shift, then
from gommage.core.picture import Filter, resample
from gommage.core.picture.colour import DEFAULT_DISPLAY, Display, show
from gommage.errors import FootageError

__all__ = ["Sheet", "SheetRequest", "sheet_key", "sheet_of", "sheet_pixels"]

GAP_PX = 6
MARGIN_SHARE = 0.12
"""Of the region's size, this much is shown around it."""


@dataclass(frozen=True, slots=True)
class SheetRequest:
    """Everything that a sheet depends on; `size_wh` in pixels of the screen."""

    shot: Shot
    surface_id: str
    size_wh: tuple[int, int]
    display: Display = DEFAULT_DISPLAY


@dataclass(frozen=True, slots=True)
class Sheet:
    """How a sheet is laid out: frames row by row, cells of one size.

    Attributes
    ----------
    frames : tuple of int
    columns : int
    cell_wh : tuple of int
        A cell's size in pixels, the gap not counted.
    """

    frames: tuple[int, ...]
    columns: int
    cell_wh: tuple[int, int]

    def place(self, index: int) -> tuple[int, int]:
        """Return the first pixel (x, y) of a cell."""
        width, height = self.cell_wh
        return GAP_PX + index % self.columns * (width + GAP_PX), GAP_PX + index // self.columns * (height + GAP_PX)

    def frame_at(self, x: float, y: float) -> int | None:
        """Return the frame whose cell a place is in, or None."""
        width, height = self.cell_wh
        column, row = int(x - GAP_PX / 2) // (width + GAP_PX), int(y - GAP_PX / 2) // (height + GAP_PX)
        index = row * self.columns + column
        return self.frames[index] if 0 <= column < self.columns and 0 <= index < len(self.frames) else None


def sheet_of(request: SheetRequest) -> Sheet:
    """Return the layout that shows all frames on which a surface is placed, as large as there is room."""
    shot = request.shot
    surface = shot.surface(request.surface_id)
    placed = placement(shot, surface)
    frames: tuple[int, ...] = ()
    if placed is not None:
        frames = tuple(frame for frame in placed.frames if placed.is_placed(frame))
    box = surface.outline.max(axis=0) - surface.outline.min(axis=0)
    aspect = float(box[0] / max(box[1], 1.0))
    width, height = request.size_wh
    best = Sheet(frames, 1, (8, 8))
    for columns in range(1, max(len(frames), 1) + 1):
        rows = -(-max(len(frames), 1) // columns)
        wide, high = (width - GAP_PX) / columns - GAP_PX, (height - GAP_PX) / rows - GAP_PX
        wide = min(wide, high * aspect)
        if wide > best.cell_wh[0]:
            best = Sheet(frames, columns, (int(wide), max(int(wide / aspect), 4)))
    return best


def sheet_key(request: SheetRequest) -> Hashable:
    """Return the request as a cache key."""
    surface = request.shot.surface(request.surface_id)
    placed = placement(request.shot, surface)
    return ("sheet", request.shot.footage, placed, surface.outline.tobytes(), request.size_wh, request.display)


def sheet_pixels(engine: Engine, request: SheetRequest, check: Callable[[], None] = lambda: None) -> NDArray[np.uint8]:
    """Return the sheet's pixels, (h, w, 4) uint8, of the plate; `check` is called before each frame."""
    return engine.cache.get_or_make(sheet_key(request), lambda: _drawn(engine, request, check), check)


def _drawn(engine: Engine, request: SheetRequest, check: Callable[[], None]) -> NDArray[np.uint8]:
    shot, layout = request.shot, sheet_of(request)
    surface = shot.surface(request.surface_id)
    placed = placement(shot, surface)
    out = np.full((request.size_wh[1], request.size_wh[0], 4), SURROUND, np.uint8)
    out[..., 3] = 255
    home_from_cell = _cell_from_home(surface.outline, layout.cell_wh).inverse()
    cell = Window.of(*layout.cell_wh)
    for index, frame in enumerate(layout.frames):
        check()
        assert placed is not None
        try:
            picture = engine.plate(shot.footage, frame, check)
        except FootageError:
            continue  # its cell stays empty
        frame_from_cell = then(home_from_cell, placed.home_to_frame(frame))
        seen = resample(picture, frame_from_cell, cell, filter=Filter.LOOK).pixels
        x, y = layout.place(index)
        out[y : y + layout.cell_wh[1], x : x + layout.cell_wh[0]] = show(seen, request.display)
    return out


def _cell_from_home(outline: Points, cell_wh: tuple[int, int]) -> Mapping:
    low, high = outline.min(axis=0), outline.max(axis=0)
    margin = (high - low) * MARGIN_SHARE
    low, high = low - margin, high + margin
    scale = min(cell_wh[0] / (high[0] - low[0]), cell_wh[1] / (high[1] - low[1]))
    middle = (low + high) / 2
    return composed(shift(*-middle), scaling(scale), shift(cell_wh[0] / 2, cell_wh[1] / 2))
