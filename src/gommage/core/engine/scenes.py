"""The shot as a fill's recipe sees it."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Mapping
from typing import Any

from gommage.core.cover import MatteAt
from gommage.core.document import Footage
from gommage.core.engine.cache import Cache
from gommage.core.fill.scene import Kept
from gommage.core.geometry import Window
from gommage.core.paint import Canvas, CanvasKey
from gommage.core.picture import Picture, Splines, scale_of

__all__ = ["ShotScene"]

Check = Callable[[], None]


class ShotScene:
    """The shot at one level; see `gommage.core.fill.Scene`.

    Parameters
    ----------
    cache : Cache
    pictures : Pictures
    level : int
    freed : callable
        Returns the grain that clean plates are freed of, or None; it is asked for when there is any.
    in_hand : mapping
    check : callable
        Raises `Cancelled` to stop.
    """

    def __init__(
        self, cache: Cache, pictures: Any, level: int, freed: Callable[[], Any], in_hand: Mapping[Any, Canvas],
        check: Check,
    ) -> None:  # fmt: skip
        self._cache, self._pictures, self._level, self._freed = cache, pictures, level, freed
        self._in_hand, self._check = in_hand, check

    @property
    def scale(self) -> float:
        """Pixels a pixel of the frame."""
        return scale_of(self._level)

    def known(self, canvas: CanvasKey, window: Window, level: int) -> Picture | None:
        """Return where what is painted on shows anything, over the window that `prepared` gives; None: everywhere."""
        in_hand = self._in_hand.get(canvas)
        return self._pictures.known(canvas, window, level, in_hand, self._check)

    def plate(self, footage: Footage, frame: int, window: Window) -> Picture:
        """Return a window of a frame of the plate."""
        return self._pictures.plate(footage, frame, self._level, self._check)[window.slices]

    def ahead(self, footage: Footage, frames: list[int]) -> None:
        """Begin to read frames of the plate that will be asked for."""
        self._pictures.ahead(footage, frames, self._level, self._check)

    def matte(self, footage: Footage, matte: MatteAt, window: Window) -> Picture:
        """Return a window of a matte."""
        return self._pictures.matte(footage, matte, window, self.scale, self._check)

    def kept(self, name: Hashable, make: Callable[[], Kept]) -> Kept:
        """Return what is found under a name at this scale."""
        return self._cache.get_or_make(("scene", name, self._level), make, self._check)

    def prepared(self, canvas: CanvasKey, window: Window, level: int) -> Splines:
        """Return what is painted on, ready to be resampled."""
        in_hand = self._in_hand.get(canvas)
        return self._pictures.splines(canvas, window, level, self._freed(), in_hand, self._check)
