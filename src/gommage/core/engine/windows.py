"""Where fixes are made: fills each place on its own, strokes where they are."""

from __future__ import annotations

from gommage.core.cover import pieces_of, tiles_of
from gommage.core.engine.inputs import RING_PX, FixInputs
from gommage.core.engine.matching import BY_NAME
from gommage.core.geometry import Window
from gommage.core.paint import Canvas
from gommage.core.picture import scale_of

__all__ = ["part_of", "windows_of"]

SCATTERED, TILE_PX = 0.3, 96
"""A cover whose pieces are less of its window than this is filled piece by piece; lines are filled in squares of so
many pixels of their level."""


def windows_of(inputs: FixInputs, level: int) -> list[Window]:
    """Return where a fill is made on its own: around all of a cover, or of what is scattered around each piece."""
    footage, scale = inputs.footage, scale_of(level)
    whole: tuple[Window, ...] = (inputs.cover_window,)
    is_of_lines = BY_NAME[inputs.fill_kind].is_of_lines
    tiles = tiles_of(inputs.cover, footage.bounds, TILE_PX << level) if is_of_lines else None
    if tiles is not None and not inputs.is_joined:
        whole = tiles
    elif not BY_NAME[inputs.fill_kind].is_whole:
        pieces = pieces_of(inputs.cover, footage.bounds, RING_PX)
        if sum(one.area for one in pieces) < SCATTERED * whole[0].area:
            whole = pieces
    return [one.scaled(scale) & footage.bounds.scaled(scale) for one in whole]


def part_of(inputs: FixInputs, canvas: Canvas, window: Window, level: int) -> Window:
    """Return the part of a window in which a fix whose strokes are on a canvas does something."""
    return (inputs.untouched.cover_window.scaled(scale_of(level)) & window) | canvas.painted_in(window)
