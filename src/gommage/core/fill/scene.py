"""What a fill's recipe may ask of the shot, and what it gives back."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from dataclasses import dataclass
from typing import Protocol, TypeVar

from gommage.core.cover import MatteAt
from gommage.core.document import Blend, Footage
from gommage.core.geometry import Window
from gommage.core.paint import CanvasKey
from gommage.core.picture import Picture, Splines

__all__ = ["Filled", "Layer", "Scene"]

Check = Callable[[], None]
Kept = TypeVar("Kept")
SCATTERED, PART_PX = 0.25, 64


class Scene(Protocol):
    """The shot as a recipe sees it, at one scale. Windows are in pixels of that scale."""

    @property
    def scale(self) -> float:
        """Pixels a pixel of the frame."""
        ...

    def prepared(self, canvas: CanvasKey, window: Window, level: int) -> Splines:
        """Return what is painted on, averaged down by so many halves (the window is counted in these pixels), ready to
        be resampled and freed of the grain that will be laid anew.
        """
        ...

    def known(self, canvas: CanvasKey, window: Window, level: int) -> Picture | None:
        """Return where what is painted on shows anything, over the window that `prepared` gives; None: everywhere."""
        ...

    def plate(self, footage: Footage, frame: int, window: Window) -> Picture:
        """Return a window of a frame of the plate, (h, w, 3); not to be modified."""
        ...

    def ahead(self, footage: Footage, frames: list[int]) -> None:
        """Begin to read frames of the plate that will be asked for, beside everything else."""
        ...

    def matte(self, footage: Footage, matte: MatteAt, window: Window) -> Picture:
        """Return a window of a matte, (h, w)."""
        ...

    def kept(self, name: Hashable, make: Callable[[], Kept]) -> Kept:
        """Return what is found under a name at this scale, made now if it is not there yet."""
        ...


@dataclass(frozen=True, slots=True)
class Layer:
    """New pixels of one origin.

    Attributes
    ----------
    pixels : (h, w, 3) float32
        As they come, not lit yet.
    valid : (h, w) float32
        1 where there are any.
    weight : float
        Its share of the fill; all layers' make 1.
    """

    pixels: Picture
    valid: Picture
    weight: float = 1.0


@dataclass(frozen=True, slots=True)
class Filled:
    """What a recipe gives: layers, each to be lit by itself and added up.

    Attributes
    ----------
    layers : tuple of Layer
    fresh_grain : (h, w) float32 or None
        How much of the frame's grain they lack, 0 to 1; None: all of it.
    shown : (h, w) float32 or None
        Where they show anything; elsewhere the picture stays as it is. None: everywhere.
    blend : Blend
        How they meet what lies below.
    """

    layers: tuple[Layer, ...]
    fresh_grain: Picture | None = None
    shown: Picture | None = None
    blend: Blend = Blend.OVER

    def parts(self, window: Window) -> list[Window]:
        """Return the window that it is over; of one that shows little here and there, parts that hold all of that."""
        if self.shown is None or (self.shown > 0).mean() > SCATTERED:
            return [window]
        squares = (
            Window(left, top, left + PART_PX, top + PART_PX) & window
            for top in range(window.top, window.bottom, PART_PX)
            for left in range(window.left, window.right, PART_PX)
        )
        return [part for part in squares if self.shown[part.within(window)].any()]
