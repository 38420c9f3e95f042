"""The brushes: what each lays where its mask is."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

import cv2
import numpy as np

from gommage.core.document import Blend, Brush, Tones, Tool
from gommage.core.geometry import Window, plain
from gommage.core.paint.healing import RIM_PX, heal
from gommage.core.picture import Picture

__all__ = ["BLENDS", "TOOLS", "Brushing", "Ground"]

SOFTEN_SHARE = 1 / 6
"""A soften brush at full strength blurs by so much of its size."""
SHARPEN_PX, SHARPEN_MOST = 1.2, 2.0
"""A sharpen brush adds what a blur of so many pixels takes away, at full strength so many times."""
MOST_STOPS = 1.0
"""A lighten or darken brush at full strength."""
TONES = Tones.ALL, Tones.SHADOWS, Tones.MIDDLE, Tones.HIGHLIGHTS
GREY = 0.18
"""Scene-linear: half of what lies between black and white, as it is seen."""
WEIGHTS = np.array([0.2126, 0.7152, 0.0722], np.float32)


class Ground(Protocol):
    """What a brush may look at. Windows may reach beyond the picture by a little: its rim is continued."""

    brush: Brush

    def below(self, window: Window) -> Picture:
        """Return the canvas as it was before the stroke."""
        ...

    def left_out(self, window: Window) -> Picture | None:
        """Return where there are no surroundings that a source could be fitted to, (h, w) 0 to 1; None: nowhere."""
        ...

    def bare(self, window: Window) -> Picture:
        """Return the canvas before all strokes."""
        ...

    def filmed(self, window: Window) -> Picture:
        """Return the untouched plate."""
        ...

    def source(self, window: Window) -> Picture:
        """Return what the stroke's source shows there."""
        ...

    @property
    def bounds(self) -> Window:
        """The window of the whole canvas."""
        ...


@dataclass(frozen=True, slots=True)
class Brushing:
    """A brush.

    Attributes
    ----------
    lay : callable
        Gives for the ground, a window and the stroke's mask (h, w) there the pixels (h, w, 3) that show through it.
    is_whole : bool
        Whether all of the stroke changes with each new piece of it.
    takes_source : bool
        Whether its pixels come from somewhere else.
    has_strength : bool
        Whether it changes what is there, by its strength.
    takes_away : bool
        Whether it takes paint away.
    drags : bool
        Whether each dab moves what the ones before it left.
    """

    lay: Callable[[Ground, Window, Picture], Picture]
    is_whole: bool = False
    takes_source: bool = False
    has_strength: bool = False
    takes_away: bool = False
    drags: bool = False


def _clone(ground: Ground, window: Window, mask: Picture) -> Picture:
    return ground.source(window)


def _heal(ground: Ground, window: Window, mask: Picture) -> Picture:
    wide = window.grown(RIM_PX) & ground.bounds
    inner = window.within(wide)
    whole = np.zeros((wide.height, wide.width), np.float32)
    whole[inner] = mask
    return heal(ground.below(wide), ground.source(wide), whole, ground.left_out(wide))[inner]


def _restore(ground: Ground, window: Window, mask: Picture) -> Picture:
    return ground.filmed(window)


def _erase(ground: Ground, window: Window, mask: Picture) -> Picture:
    return ground.bare(window)


def _blurred(ground: Ground, window: Window, sigma_px: float) -> Picture:
    reach = int(np.ceil(3 * sigma_px))
    wide = window.grown(reach + 1) & ground.bounds
    taps = 2 * reach + 1, 2 * reach + 1
    blurred = cv2.GaussianBlur(ground.below(wide), taps, sigma_px, borderType=cv2.BORDER_REFLECT)
    found: Picture = blurred[window.within(wide)]
    return found


def _soften(ground: Ground, window: Window, mask: Picture) -> Picture:
    sigma = ground.brush.strength * ground.brush.size_px * SOFTEN_SHARE
    return _blurred(ground, window, sigma) if sigma > 0.1 else ground.below(window)


def _sharpen(ground: Ground, window: Window, mask: Picture) -> Picture:
    below = ground.below(window)
    more = np.float32(ground.brush.strength * SHARPEN_MOST)
    return below + (below - _blurred(ground, window, SHARPEN_PX)) * more


def _lit(ground: Ground, window: Window, mask: Picture, stops: float) -> Picture:
    from gommage.core.paint.kernels import lit  # compiled code is loaded late

    brush = ground.brush
    below, mask = (plain(one, np.float32) for one in (ground.below(window), mask))
    return lit(below, mask, np.float32(stops * brush.strength), TONES.index(brush.tones), GREY, WEIGHTS)


def _lighten(ground: Ground, window: Window, mask: Picture) -> Picture:
    return _lit(ground, window, mask, MOST_STOPS)


def _darken(ground: Ground, window: Window, mask: Picture) -> Picture:
    return _lit(ground, window, mask, -MOST_STOPS)


def _colour(ground: Ground, window: Window, mask: Picture) -> Picture:
    return np.broadcast_to(np.array(ground.brush.colour, np.float32), (window.height, window.width, 3))


TOOLS: dict[Tool, Brushing] = {
    Tool.CLONE: Brushing(_clone, takes_source=True),
    Tool.HEAL: Brushing(_heal, is_whole=True, takes_source=True),  # a membrane hangs on the whole rim
    Tool.RESTORE: Brushing(_restore),
    Tool.ERASE: Brushing(_erase, takes_away=True),
    Tool.SMEAR: Brushing(_restore, drags=True, has_strength=True),
    Tool.SOFTEN: Brushing(_soften, has_strength=True),
    Tool.SHARPEN: Brushing(_sharpen, has_strength=True),
    Tool.LIGHTEN: Brushing(_lighten, has_strength=True),
    Tool.DARKEN: Brushing(_darken, has_strength=True),
    Tool.COLOUR: Brushing(_colour),
}
"""By the tool's name."""

BLENDS: dict[Blend, Callable[[Picture, Picture], Picture]] = {
    Blend.OVER: lambda below, new: new,
    Blend.ADD: np.add,
    Blend.MULTIPLY: np.multiply,
    Blend.LIGHTER: np.maximum,
    Blend.DARKER: np.minimum,
}
"""How new pixels meet those below, in linear light."""
