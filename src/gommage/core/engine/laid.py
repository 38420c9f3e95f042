"""What a fix lays on a frame."""

from __future__ import annotations

from dataclasses import dataclass
from functools import reduce
from operator import or_

import numpy as np

from gommage.core.geometry import Window
from gommage.core.match import Light
from gommage.core.picture import Picture

__all__ = ["Laid", "Patch", "composite", "whole_of"]


@dataclass(frozen=True, slots=True)
class Patch:
    """What a fix lays on a frame.

    Attributes
    ----------
    window : Window
        In pixels of its scale.
    pixels : (h, w, 3) float32
        Scene-linear.
    alpha : (h, w) float32
    lights : tuple of Light
        What the match found, for each layer of the fill.
    """

    window: Window
    pixels: Picture
    alpha: Picture
    lights: tuple[Light, ...]

    @property
    def nbytes(self) -> int:
        """What it takes of memory."""
        return self.pixels.nbytes + self.alpha.nbytes + 500 * len(self.lights)

    @property
    def light(self) -> Light:
        """The light of the first layer."""
        return self.lights[0]


@dataclass(frozen=True, slots=True)
class Laid:
    """A fill with a margin around the cover, lit, without grain: what measurements look at.

    `window` is the cover's, `wide` that of the arrays.
    """

    window: Window
    wide: Window
    pixels: Picture
    alpha: Picture
    valid: Picture
    below: Picture


def whole_of(patches: tuple[Patch, ...]) -> Patch | None:
    """Return the patches of a fix as one; None of none."""
    if len(patches) < 2:
        return patches[0] if patches else None
    window = reduce(or_, (one.window for one in patches))
    pixels = np.zeros((window.height, window.width, 3), np.float32)
    alpha = np.zeros((window.height, window.width), np.float32)
    for one in patches:
        inside = one.window.within(window)
        pixels[inside], alpha[inside] = one.pixels, one.alpha
    return Patch(window, pixels, alpha, patches[0].lights)


def composite(out: Picture, window: Window, patch: Patch) -> None:
    """Lay a patch over a window of the picture, in place; where alpha is 0 nothing is touched."""
    from gommage.core.paint.kernels import lay_over  # compiled code is loaded late

    shared = patch.window & window
    if shared.is_empty:
        return
    inside = shared.within(patch.window)
    lay_over(out[shared.within(window)], patch.pixels[inside], patch.alpha[inside])
