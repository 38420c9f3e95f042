"""What is painted on, in tiles: a change costs its own tiles, everything else is shared with what was there before."""

from __future__ import annotations

import itertools
from collections.abc import Hashable, Iterator
from dataclasses import dataclass

import numpy as np

from gommage.core.document import Footage, FromFrame, PlateBase
from gommage.core.document.records import Record
from gommage.core.geometry import Window
from gommage.core.paint.riding import StrokeAt
from gommage.core.picture import Picture

__all__ = ["TILE_PX", "Canvas", "CanvasKey", "tiles_of"]

TILE_PX = 128
Place = tuple[int, int]
_tokens = itertools.count()


class CanvasKey(Record, frozen=True):
    """All that the pixels of a painted clean plate depend on."""

    footage: Footage
    home_frame: int
    base: PlateBase
    strokes: tuple[StrokeAt, ...] = ()

    @property
    def untouched(self) -> CanvasKey:
        """The same plate before any stroke."""
        return CanvasKey(footage=self.footage, home_frame=self.home_frame, base=self.base)

    @property
    def as_shot(self) -> CanvasKey:
        """What shows the same as the shot around the thing: the home frame without paint, or a picture as it is."""
        return self.untouched if isinstance(self.base, FromFrame) else self


@dataclass(frozen=True, slots=True)
class Tile:
    """Pixels of one tile and how far paint covers them, never changed; `token` is no other tile's."""

    pixels: Picture
    cover: Picture
    token: int


def tiles_of(window: Window) -> Iterator[tuple[Place, Window]]:
    """Yield the tiles that a window touches: column and row, and the tile's window."""
    whole = window.aligned(TILE_PX)
    for top in range(whole.top, whole.bottom, TILE_PX):
        for left in range(whole.left, whole.right, TILE_PX):
            yield (left // TILE_PX, top // TILE_PX), Window(left, top, left + TILE_PX, top + TILE_PX)


class Canvas:
    """A picture, some of whose tiles were painted. Immutable: painting returns another canvas.

    Parameters
    ----------
    base : (H, W, 3) float32
        The picture before any stroke; shared, never changed.
    """

    __slots__ = ("_base", "_tiles", "bounds", "nbytes")

    def __init__(self, base: Picture, tiles: dict[Place, Tile] | None = None) -> None:
        self._base = base
        self._tiles = tiles or {}
        self.bounds = Window.of(base.shape[1], base.shape[0])
        self.nbytes = 0 if tiles else base.nbytes
        """Memory that it holds: all of it while blank, else what it holds beyond another, see `counted_after`."""

    def read(self, window: Window) -> Picture:
        """Return the pixels of a window within the picture, (h, w, 3); not to be modified."""
        painted = [(place, tile) for place, tile in tiles_of(window) if place in self._tiles]
        if not painted:
            return self._base[window.slices]
        if len(painted) == 1 and painted[0][1] & window == window:
            place, tile = painted[0]
            return self._tiles[place].pixels[window.within(tile)]
        out = self._base[window.slices].copy()
        for place, tile in painted:
            shared = tile & window
            out[shared.within(window)] = self._tiles[place].pixels[shared.within(tile)]
        return out

    def cover(self, window: Window) -> Picture:
        """Return how far paint covers a window within the picture, (h, w) 0 to 1."""
        out = np.zeros((window.height, window.width), np.float32)
        for place, tile in tiles_of(window):
            if place in self._tiles:
                shared = tile & window
                out[shared.within(window)] = self._tiles[place].cover[shared.within(tile)]
        return out

    @property
    def touched(self) -> Window:
        """The window of all that was painted on, in whole tiles."""
        out = Window(0, 0, 0, 0)
        for column, row in self._tiles:
            left, top = column * TILE_PX, row * TILE_PX
            out = out | Window(left, top, left + TILE_PX, top + TILE_PX)
        return out & self.bounds

    def with_pixels(self, window: Window, pixels: Picture, cover: Picture) -> Canvas:
        """Return the canvas with a window of it painted over, and paint covering it so far."""
        tiles = dict(self._tiles)
        for place, tile in tiles_of(window):
            inside = tile & self.bounds
            mine = self._tiles.get(place)
            fresh = np.empty((TILE_PX, TILE_PX, 3), np.float32)
            covered = np.zeros((TILE_PX, TILE_PX), np.float32)
            if mine is not None:
                fresh[:], covered[:] = mine.pixels, mine.cover
            else:
                fresh[inside.within(tile)] = self._base[inside.slices]
            shared = inside & window
            fresh[shared.within(tile)] = pixels[shared.within(window)]
            covered[shared.within(tile)] = cover[shared.within(window)]
            tiles[place] = Tile(fresh, covered, next(_tokens))
        return Canvas(self._base, tiles)

    def counted_after(self, before: Canvas) -> Canvas:
        """Return the canvas, its memory counted as what it holds beyond another."""
        fresh = sum(tile is not before._tiles.get(place) for place, tile in self._tiles.items())
        self.nbytes = fresh * TILE_PX * TILE_PX * 4 * 4
        return self

    def content(self, window: Window) -> Hashable:
        """Return a key of a window's content: equal only where the pixels are."""
        return tuple((place, self._tiles[place].token) for place, _ in tiles_of(window) if place in self._tiles)

    def whole(self) -> Picture:
        """Return all of it: (H, W, 3) float32; not to be modified."""
        return self.read(self.bounds)
