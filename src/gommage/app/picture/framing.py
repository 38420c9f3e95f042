"""How a picture lies in the viewport: which of it is in the middle, how large, how turned."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from gommage.core.geometry import Mapping, composed, scaling, shift, turning

__all__ = ["Framing"]

SMALLEST_ZOOM, LARGEST_ZOOM = 0.05, 40.0
RIM_PX = 12
"""So much is free around a picture that is shown as a whole."""


class Framing(Struct, frozen=True):
    """A view of a picture; every change of it is another one.

    Attributes
    ----------
    width, height : int
        Of the viewport, in its pixels.
    x, y : float
        The place of the picture that is in the middle.
    zoom : float
        Viewport pixels a picture pixel, down the picture.
    aspect : float
        How many times as wide as high pixels are shown.
    turn_deg : float
        How far the picture is turned, from x towards y: clockwise.
    """

    width: int = 1
    height: int = 1
    x: float = 0.0
    y: float = 0.0
    zoom: float = 1.0
    aspect: float = 1.0
    turn_deg: float = 0.0

    @property
    def view_from_picture(self) -> Mapping:
        """Where places of the picture lie in the viewport."""
        return _mapping(self)

    def fitted(self, width: int, height: int) -> Framing:
        """Return the view of the whole of a picture of that size, turned as it is."""
        cos, sin = (abs(float(one(np.deg2rad(self.turn_deg)))) for one in (np.cos, np.sin))
        wide, high = width * self.aspect, height
        across, down = wide * cos + high * sin, wide * sin + high * cos
        zoom = min((self.width - 2 * RIM_PX) / across, (self.height - 2 * RIM_PX) / down)
        return replace(self, x=width / 2, y=height / 2, zoom=_within(zoom))

    def around(self, x: float, y: float, zoom: float) -> Framing:
        """Return the view with a place in the middle, at a zoom."""
        return replace(self, x=x, y=y, zoom=_within(zoom))

    def zoomed(self, zoom: float, at: tuple[float, float] | None = None) -> Framing:
        """Return the view at another zoom; what is under a point of the viewport stays, or what is in its middle."""
        return self._with_fixed(replace(self, zoom=_within(zoom)), at)

    def turned(self, turn_deg: float, at: tuple[float, float] | None = None) -> Framing:
        """Return the view turned to an angle; what is under a point of the viewport stays."""
        angle = (turn_deg + 180.0) % 360.0 - 180.0
        return self._with_fixed(replace(self, turn_deg=angle), at)

    def panned(self, by_x: float, by_y: float) -> Framing:
        """Return the view moved, so that the picture goes by so many pixels of the viewport."""
        x, y = self._place(self.width / 2 - by_x, self.height / 2 - by_y)
        return replace(self, x=x, y=y)

    def _place(self, x: float, y: float) -> tuple[float, float]:
        """Return the place of the picture under a point of the viewport."""
        found = self.view_from_picture.inverse()(np.array([x, y]))
        return float(found[0]), float(found[1])

    def _with_fixed(self, other: Framing, at: tuple[float, float] | None) -> Framing:
        if at is None:
            return other
        wanted, found = self._place(*at), other._place(*at)
        return replace(other, x=other.x + wanted[0] - found[0], y=other.y + wanted[1] - found[1])


def _within(zoom: float) -> float:
    return float(np.clip(zoom, SMALLEST_ZOOM, LARGEST_ZOOM))


@lru_cache(maxsize=64)
def _mapping(framing: Framing) -> Mapping:
    wide, high = framing.zoom * framing.aspect, framing.zoom
    to_middle = framing.width / 2 - wide * framing.x, framing.height / 2 - high * framing.y
    plain = composed(scaling(wide, high), shift(*to_middle))
    if framing.turn_deg == 0:
        return plain
    x, y = framing.width / 2, framing.height / 2
    return composed(plain, shift(-x, -y), turning(np.deg2rad(framing.turn_deg)), shift(x, y))
