"""What is painted on, in tiles: a change costs its own tiles, everything else is shared with what was there before."""

from __future__ import annotations

import itertools
from collections.abc import Hashable, Iterator, Mapping
from functools import reduce
from typing import Any

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from gommage.core.cover import MatteAt
from gommage.core.document import Footage, FromFrame, PlateBase
from gommage.core.document.records import Record
from gommage.core.geometry import Window
from gommage.core.paint.riding import StrokeAt
from gommage.core.picture import Picture

__all__ = ["TILE_PX", "Canvas", "CanvasKey", "CutOut", "Place", "Tile", "places_of", "tiles_of", "window_of"]

TILE_PX = 64
"""Small enough that a stroke holds little beyond itself, large enough that a frame is some hundreds."""
Place = tuple[int, int]
_tokens = itertools.count(1)


class CutOut(Record, frozen=True):
    """A frame of any footage with its alpha, of which scribbles may have cut out a subject.

    `has_grain` tells whether it is freed of the shot's.
    """

    subject: MatteAt
    has_alpha: bool
    has_grain: bool


class CanvasKey(Record, frozen=True):
    """All that the pixels of a painted clean plate depend on.

    Attributes
    ----------
    window : Window
        Where it lies, in its own pixels: those of its home frame, times its scale.
    merged : tuple
        For what is merged of many frames, these as they lie on the home frame: `gommage.core.fill.choosing.DonorAt`.
    closing : record or None
        How what is covered on it, or what its base does not show, is closed: `gommage.core.fill.texture.Closing`.
    """

    footage: Footage
    home_frame: int
    base: PlateBase | CutOut
    window: Window
    strokes: tuple[StrokeAt, ...] = ()
    merged: tuple[Any, ...] = ()
    scale: float = 1.0
    closing: Any = None

    @property
    def untouched(self) -> CanvasKey:
        """The same plate before any stroke."""
        return replace(self, strokes=())

    @property
    def as_shot(self) -> CanvasKey:
        """What shows the same as the shot around the thing: the home frame without paint, or a picture as it is."""
        return replace(self, strokes=(), closing=None) if isinstance(self.base, FromFrame) else self


class Tile(Struct, frozen=True, eq=False, gc=False):
    """Pixels of one tile and how far paint covers them, never changed; `token` is no other tile's."""

    pixels: Picture
    cover: Picture
    token: int

    @staticmethod
    def of(pixels: Picture, cover: Picture) -> Tile:
        """Return a new tile of arrays that are its own."""
        return Tile(pixels, cover, next(_tokens))

    def alone(self) -> Tile:
        """Return the same tile, holding no memory but its own: tiles are cut from stacks, which stay as one."""
        return self if self.pixels.base is None else Tile(self.pixels.copy(), self.cover.copy(), self.token)

    def shows_as(self, other: Tile) -> bool:
        """Return whether both hold the same, to the bit."""
        return np.array_equal(self.pixels, other.pixels) and np.array_equal(self.cover, other.cover)


TILE_BYTES = TILE_PX * TILE_PX * 4 * 4
BLANK = 0
"""The token of a tile that nobody painted."""


def places_of(window: Window) -> Iterator[Place]:
    """Yield column and row of the tiles that a window touches."""
    if not window.is_empty:
        for row in range(window.top // TILE_PX, -(-window.bottom // TILE_PX)):
            for column in range(window.left // TILE_PX, -(-window.right // TILE_PX)):
                yield column, row


def window_of(place: Place) -> Window:
    """Return the window of a tile."""
    left, top = place[0] * TILE_PX, place[1] * TILE_PX
    return Window(left, top, left + TILE_PX, top + TILE_PX)


def tiles_of(window: Window) -> Iterator[tuple[Place, Window]]:
    """Yield the tiles that a window touches: column and row, and the tile's window."""
    return ((place, window_of(place)) for place in places_of(window))


class Canvas:
    """A picture, some of whose tiles were painted. Immutable: painting returns another canvas.

    Parameters
    ----------
    base : (H, W, 3) float32
        The picture before any stroke; shared, never changed.
    at : Window, optional
        Where it lies in the pixels that strokes are counted in; its first pixel is (0, 0) if left out.
    """

    __slots__ = ("_base", "_tiles", "bounds", "nbytes")

    def __init__(self, base: Picture, tiles: dict[Place, Tile] | None = None, at: Window | None = None) -> None:
        self._base = base
        self._tiles = tiles or {}
        self.bounds = at or Window.of(base.shape[1], base.shape[0])
        self.nbytes = 0 if tiles else base.nbytes
        """Memory that it holds: all of it while blank, else what it holds beyond another, see `counted`."""

    def read(self, window: Window) -> Picture:
        """Return the pixels of a window within the picture, (h, w, 3); not to be modified."""
        place = window.left // TILE_PX, window.top // TILE_PX
        if window.right <= (place[0] + 1) * TILE_PX and window.bottom <= (place[1] + 1) * TILE_PX:
            tile = self._tiles.get(place)
            return (
                self._base[window.within(self.bounds)] if tile is None else tile.pixels[window.within(window_of(place))]
            )
        if not any(place in self._tiles for place in places_of(window)):
            return self._base[window.within(self.bounds)]
        out = self._base[window.within(self.bounds)].copy()
        self.paste(out, window)
        return out

    def paste(self, out: Picture, window: Window) -> None:
        """Set the painted tiles of a window of a picture, (h, w, 3), in place."""
        inner = window & self.bounds
        for place in places_of(inner):
            tile = self._tiles.get(place)
            if tile is None:
                continue
            x, y = place[0] * TILE_PX, place[1] * TILE_PX
            left, right = max(x, inner.left), min(x + TILE_PX, inner.right)
            top, bottom = max(y, inner.top), min(y + TILE_PX, inner.bottom)
            of_tile = tile.pixels[top - y : bottom - y, left - x : right - x]
            out[top - window.top : bottom - window.top, left - window.left : right - window.left] = of_tile

    def stacked(self, places: list[Place]) -> tuple[Picture, Picture]:
        """Return pixels (n, side, side, 3) and cover (n, side, side) of some tiles, the caller's own.

        What lies beyond the picture is nothing.
        """
        pixels = np.empty((len(places), TILE_PX, TILE_PX, 3), np.float32)
        cover = np.empty((len(places), TILE_PX, TILE_PX), np.float32)
        for n, place in enumerate(places):
            tile = self._tiles.get(place)
            if tile is not None:
                pixels[n], cover[n] = tile.pixels, tile.cover
                continue
            at = window_of(place)
            inside = at & self.bounds
            if inside != at:
                pixels[n] = 0
            pixels[n][inside.within(at)] = self._base[inside.within(self.bounds)]
            cover[n] = 0
        return pixels, cover

    def cover(self, window: Window) -> Picture:
        """Return how far paint covers a window within the picture, (h, w) 0 to 1."""
        out = np.zeros((window.height, window.width), np.float32)
        for place, at in tiles_of(window):
            if place in self._tiles:
                shared = at & window
                out[shared.within(window)] = self._tiles[place].cover[shared.within(at)]
        return out

    def token(self, place: Place) -> int:
        """Return what stands for a tile's content: equal only where the pixels are."""
        tile = self._tiles.get(place)
        return BLANK if tile is None else tile.token

    def content(self, window: Window) -> Hashable:
        """Return what stands for a window's content: equal only where the pixels are."""
        return tuple((place, self._tiles[place].token) for place in places_of(window) if place in self._tiles)

    def painted_in(self, window: Window) -> Window:
        """Return what of a window was painted on, in whole tiles."""
        found = [window_of(place) for place in places_of(window) if place in self._tiles]
        return reduce(Window.__or__, found, Window(0, 0, 0, 0)) & window & self.bounds

    def over(self, tiles: dict[Place, Tile]) -> Canvas:
        """Return a canvas of these tiles, and no others, over the same base."""
        return Canvas(self._base, tiles, self.bounds)

    def with_tiles(self, tiles: Mapping[Place, Tile]) -> Canvas:
        """Return the canvas with some tiles in place of its own."""
        return Canvas(self._base, {**self._tiles, **tiles}, self.bounds)

    def with_pixels(self, window: Window, pixels: Picture, cover: Picture) -> Canvas:
        """Return the canvas with a window of it painted over, and paint covering it so far."""
        return self.with_tiles(self.tiles_with(window, pixels, cover, list(places_of(window))))

    def tiles_with(self, window: Window, pixels: Picture, cover: Picture, places: list[Place]) -> dict[Place, Tile]:
        """Return some tiles with a window of the canvas painted over."""
        tiles, covers = self.stacked(places)
        for n, place in enumerate(places):
            at = window_of(place)
            shared = at & window
            tiles[n][shared.within(at)] = pixels[shared.within(window)]
            covers[n][shared.within(at)] = cover[shared.within(window)]
        return {place: Tile.of(tiles[n], covers[n]) for n, place in enumerate(places)}

    def counted(self, tiles: int) -> Canvas:
        """Return the canvas, its memory counted as that of so many tiles: those that it shares with no other."""
        self.nbytes = tiles * TILE_BYTES
        return self

    def whole(self) -> Picture:
        """Return all of it: (H, W, 3) float32; not to be modified."""
        return self.read(self.bounds)
