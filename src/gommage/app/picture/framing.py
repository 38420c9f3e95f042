"""How a picture lies in the viewport: which of it is in the middle, how large, how turned."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from gommage.core.geometry import FlatView, Mapping, composed, look_turn, scaling, shift, turning

__all__ = ["Framing"]

SMALLEST_ZOOM, LARGEST_ZOOM = 0.05, 40.0
FIRST_ANGLE_DEG, WIDEST_DEG, NARROWEST_DEG = 95.0, 140.0, 4.0
"""Across the viewport, of a panorama in which one looks round."""
LEAST_LEVEL = 0.15
"""Near the poles a drag across turns no faster than this makes it."""
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
    sphere_wh : tuple of int
        The size of a panorama in which one looks round; 0: a flat picture. `level` (9 numbers) takes its directions to
        level ones.
    """

    width: int = 1
    height: int = 1
    x: float = 0.0
    y: float = 0.0
    zoom: float = 1.0
    aspect: float = 1.0
    turn_deg: float = 0.0
    sphere_wh: tuple[int, int] = (0, 0)
    level: tuple[float, ...] = ()

    @property
    def is_round(self) -> bool:
        """Whether one looks round in a panorama: x and y are the place of it, level, that is in the middle."""
        return self.sphere_wh[0] > 0

    @property
    def angle_deg(self) -> float:
        """How much of a panorama is seen across the viewport."""
        focal = self.zoom * self.sphere_wh[0] / (2 * np.pi)
        return float(2 * np.rad2deg(np.arctan(self.width / 2 / max(focal, 1e-6))))

    @property
    def view_from_picture(self) -> Mapping:
        """Where places of the picture lie in the viewport."""
        return _mapping(self)

    def fitted(self, width: int, height: int) -> Framing:
        """Return the view of the whole of a picture of that size, turned as it is; of a panorama, straight ahead."""
        if self.is_round:
            x, y = self.sphere_wh[0] / 2, self.sphere_wh[1] / 2
            return replace(self, x=x, y=y, zoom=self._zoom_of(FIRST_ANGLE_DEG), turn_deg=0.0)
        cos, sin = (abs(float(one(np.deg2rad(self.turn_deg)))) for one in (np.cos, np.sin))
        wide, high = width * self.aspect, height
        across, down = wide * cos + high * sin, wide * sin + high * cos
        zoom = min((self.width - 2 * RIM_PX) / across, (self.height - 2 * RIM_PX) / down)
        return replace(self, x=width / 2, y=height / 2, zoom=_within(zoom))

    def _zoom_of(self, angle_deg: float) -> float:
        """Return the zoom at which a panorama is seen over an angle across."""
        focal = max(self.width, 1) / 2 / np.tan(np.deg2rad(angle_deg) / 2)
        return float(focal * 2 * np.pi / self.sphere_wh[0])

    def around(self, x: float, y: float, zoom: float) -> Framing:
        """Return the view with a place in the middle, at a zoom."""
        if self.is_round:
            wide, high = self.sphere_wh
            least, most = self._zoom_of(WIDEST_DEG), self._zoom_of(NARROWEST_DEG)
            return replace(self, x=x % wide, y=float(np.clip(y, 0, high)), zoom=float(np.clip(zoom, least, most)))
        return replace(self, x=x, y=y, zoom=_within(zoom))

    def zoomed(self, zoom: float, at: tuple[float, float] | None = None) -> Framing:
        """Return the view at another zoom; what is under a point of the viewport stays, or what is in its middle."""
        if self.is_round:
            return self.around(self.x, self.y, zoom)
        return self._with_fixed(replace(self, zoom=_within(zoom)), at)

    def turned(self, turn_deg: float, at: tuple[float, float] | None = None) -> Framing:
        """Return the view turned to an angle; what is under a point of the viewport stays."""
        angle = (turn_deg + 180.0) % 360.0 - 180.0
        return self._with_fixed(replace(self, turn_deg=angle), at)

    def panned(self, by_x: float, by_y: float) -> Framing:
        """Return the view moved, so that the picture goes by so many pixels of the viewport."""
        x, y = self._place(self.width / 2 - by_x, self.height / 2 - by_y)
        if self.is_round:
            return self._looked_by(by_x, by_y)
        return replace(self, x=x, y=y)

    def _looked_by(self, by_x: float, by_y: float) -> Framing:
        """Return the view of a panorama dragged by pixels of the viewport: round, up or down as far as the poles."""
        turn = np.deg2rad(self.turn_deg)
        across, down = by_x * np.cos(turn) + by_y * np.sin(turn), by_y * np.cos(turn) - by_x * np.sin(turn)
        level = max(float(np.cos((self.y / self.sphere_wh[1] - 0.5) * np.pi)), LEAST_LEVEL)
        return self.around(self.x - across / self.zoom / level, self.y - down / self.zoom, self.zoom)

    def _place(self, x: float, y: float) -> tuple[float, float]:
        """Return the place of the picture under a point of the viewport."""
        found = self.view_from_picture.inverse()(np.array([x, y]))
        return float(found[0]), float(found[1])

    def _with_fixed(self, other: Framing, at: tuple[float, float] | None) -> Framing:
        if at is None or self.is_round:
            return other
        wanted, found = self._place(*at), other._place(*at)
        return replace(other, x=other.x + wanted[0] - found[0], y=other.y + wanted[1] - found[1])


def _within(zoom: float) -> float:
    return float(np.clip(zoom, SMALLEST_ZOOM, LARGEST_ZOOM))


@lru_cache(maxsize=64)
def _mapping(framing: Framing) -> Mapping:
    if framing.is_round:
        size = framing.sphere_wh
        level = np.array(framing.level).reshape(3, 3) if framing.level else np.eye(3)
        turn = look_turn(framing.x, framing.y, size, framing.turn_deg) @ level
        return FlatView(size, turn, framing.zoom * size[0] / (2 * np.pi), (framing.width / 2, framing.height / 2))
    wide, high = framing.zoom * framing.aspect, framing.zoom
    to_middle = framing.width / 2 - wide * framing.x, framing.height / 2 - high * framing.y
    plain = composed(scaling(wide, high), shift(*to_middle))
    if framing.turn_deg == 0:
        return plain
    x, y = framing.width / 2, framing.height / 2
    return composed(plain, shift(-x, -y), turning(np.deg2rad(framing.turn_deg)), shift(x, y))
