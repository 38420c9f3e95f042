"""The edges of what is held out of fixes: kept as they are, without a fringe of what was behind."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterator
from typing import Any

import numpy as np

from gommage.core.engine.cache import Cache
from gommage.core.engine.inputs import FixInputs
from gommage.core.engine.pictures import Pictures
from gommage.core.geometry import Window
from gommage.core.match.fronts import FRONT_REACH_PX, front_edges
from gommage.core.picture import Picture, scale_of

__all__ = ["Fronts"]

Check = Callable[[], None]
TILE_PX = 128
LEAST_LEFT = 1e-3
"""Where less of new pixels is laid there are no edges."""


class Fronts:
    """What edges of hold-outs add to fixes, tile by tile of the frame.

    Parameters
    ----------
    cache : Cache
    pictures : Pictures
    composited : callable
        Returns a window of a frame with fixes laid on it.
    """

    def __init__(self, cache: Cache, pictures: Pictures, composited: Callable[..., Picture]) -> None:
        self._cache, self._pictures, self._composited = cache, pictures, composited

    def edges(self, inputs: FixInputs, held: Picture, window: Window, level: int, check: Check) -> Picture | None:
        """Return what edges add where a fix covers all, (h, w, 3); None: nothing. See `match.fronts`.

        `held` (h, w) is how far what is in front covers the window.
        """
        if not _is_mixed(held):
            return None
        out: Picture = np.zeros((window.height, window.width, 3), np.float32)
        for tile, name in _tiles(inputs, window, level):
            found = self._cache.get_or_make(name, lambda tile=tile: self._tile(inputs, tile, level, check), check)  # type: ignore[misc]
            shared = tile & window
            out[shared.within(window)] = found[shared.within(tile)]
        return out

    def are_there(self, inputs: FixInputs, held: Picture, window: Window, level: int) -> bool:
        """Return whether edges over a window are in the cache."""
        return not _is_mixed(held) or all(name in self._cache for _, name in _tiles(inputs, window, level))

    def kept(self, inputs: FixInputs, pixels: Picture, window: Window, level: int, check: Check) -> Picture:
        """Return new pixels that, laid as far as nothing is in front, leave its edges as they are."""
        if not inputs.hold_outs.parts:
            return pixels
        held = self._held(inputs, window, level, check)
        edges = self.edges(inputs, held, window, level, check)
        return pixels if edges is None else pixels + edges / np.maximum(1 - held, np.float32(LEAST_LEFT))[..., None]

    def _held(self, inputs: FixInputs, window: Window, level: int, check: Check) -> Picture:
        return self._pictures.matte(inputs.footage, inputs.hold_outs, window, scale_of(level), check)

    def _tile(self, inputs: FixInputs, tile: Window, level: int, check: Check) -> Picture:
        check()
        scale, out = scale_of(level), np.zeros((tile.height, tile.width, 3), np.float32)
        held = self._held(inputs, tile, level, check)
        rows, columns = np.nonzero((held > 0) & (held < 1))
        if not len(rows):
            return out
        mixed = Window(int(columns.min()), int(rows.min()), int(columns.max()) + 1, int(rows.max()) + 1)
        mixed = mixed.shifted(tile.left, tile.top)
        wide = mixed.grown(round(FRONT_REACH_PX * scale) + 2) & inputs.footage.bounds.scaled(scale)
        below = self._composited(inputs.footage, inputs.frame, wide, level, inputs.below, check=check)
        held = self._held(inputs, wide, level, check)
        out[mixed.within(tile)] = front_edges(below, held, scale)[mixed.within(wide)]
        return out


def _is_mixed(held: Picture) -> bool:
    return bool(((held > 0) & (held < 1)).any())


def _tiles(inputs: FixInputs, window: Window, level: int) -> Iterator[tuple[Window, Hashable]]:
    """Yield the tiles that a window meets, and their names."""
    bounds = inputs.footage.bounds.scaled(scale_of(level))
    near = window & bounds
    name: tuple[Any, ...] = ("front", inputs.footage, inputs.frame, inputs.below, inputs.hold_outs, level)
    for top in range(near.top // TILE_PX * TILE_PX, near.bottom, TILE_PX):
        for left in range(near.left // TILE_PX * TILE_PX, near.right, TILE_PX):
            tile = Window(left, top, left + TILE_PX, top + TILE_PX) & bounds
            yield tile, (*name, tile)
