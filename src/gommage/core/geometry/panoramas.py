"""Panoramas: pictures of all directions by longitude and latitude (equirectangular), and flat views of them."""

from __future__ import annotations

from collections.abc import Hashable
from concurrent.futures import ThreadPoolExecutor
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from gommage.core.geometry.cameras import axis_turn
from gommage.core.geometry.mappings import Mapping
from gommage.core.geometry.plain import plain
from gommage.core.geometry.windows import Matrix, Points, Window

__all__ = ["FlatView", "directions_of", "look_turn", "places_of_directions"]

HALVES = 2


def look_turn(x: float, y: float, size_wh: tuple[float, float], roll_deg: float = 0.0) -> Matrix:
    """Return the turn (3, 3) from a panorama's directions to those of a view whose middle is at a place of it.

    Directions are x right, y down, z into the picture; the panorama's middle is z.
    """
    yaw, pitch = (x / size_wh[0] - 0.5) * 2 * np.pi, (y / size_wh[1] - 0.5) * np.pi
    about_y, about_x = axis_turn(np.array([0.0, -yaw, 0.0])), axis_turn(np.array([pitch, 0.0, 0.0]))
    turn: Matrix = axis_turn(np.array([0.0, 0.0, np.deg2rad(roll_deg)])) @ about_x @ about_y
    return turn


def directions_of(points: Points, size_wh: tuple[float, float]) -> NDArray[np.float64]:
    """Return the directions of length 1 (..., 3) of places (..., 2) of a panorama."""
    around = (points[..., 0] / size_wh[0] - 0.5) * 2 * np.pi
    down = (points[..., 1] / size_wh[1] - 0.5) * np.pi
    level = np.cos(down)
    return np.stack([level * np.sin(around), np.sin(down), level * np.cos(around)], axis=-1)


def places_of_directions(rays: NDArray[np.float64], size_wh: tuple[float, float]) -> NDArray[np.float64]:
    """Return the places (..., 2) of a panorama in which directions (..., 3) are seen."""
    x, y, z = np.moveaxis(rays, -1, 0)
    around, down = np.arctan2(x, z), np.arctan2(y, np.hypot(x, z))
    return np.stack([(around / (2 * np.pi) + 0.5) * size_wh[0], (down / np.pi + 0.5) * size_wh[1]], axis=-1)


@lru_cache(maxsize=1)
def _threads() -> ThreadPoolExecutor:
    return ThreadPoolExecutor(HALVES, "field")


class FlatView(Mapping):
    """From a panorama's pixels to those of a flat view of it; NaN for what lies behind.

    Parameters
    ----------
    size_wh : tuple of float
        Of the panorama, in pixels: twice as wide as high.
    turn : (3, 3) float64
        From its directions to those of the view.
    focal_px : float
    middle_xy : tuple of float
        The view's middle, in pixels of the view.
    is_back : bool
        Whether it is the way back: from the view's pixels to the panorama's, 0 to its width.
    """

    __slots__ = ("_focal", "_is_back", "_key", "_middle", "_size", "_turn")

    def __init__(
        self,
        size_wh: tuple[float, float],
        turn: Matrix,
        focal_px: float,
        middle_xy: tuple[float, float],
        is_back: bool = False,
    ) -> None:
        own = np.array(turn, np.float64)
        own.setflags(write=False)
        self._size, self._turn, self._focal, self._middle, self._is_back = size_wh, own, focal_px, middle_xy, is_back
        self._key = ("flat view", size_wh, own.tobytes(), focal_px, middle_xy, is_back)

    @property
    def key(self) -> Hashable:
        return self._key

    @property
    def matrix(self) -> None:
        return None

    @property
    def wraps(self) -> bool:
        """A panorama goes on at its other side."""
        return True

    @property
    def enlargement(self) -> float:
        """In the middle of the view, against the panorama's horizon."""
        share = 2 * np.pi * self._focal / self._size[0]
        return float(1 / share if self._is_back else share)

    @property
    def _sides(self) -> tuple[float, float]:
        """The panorama's size, as the compiled loops take it."""
        return float(self._size[0]), float(self._size[1])

    @property
    def numbers(self) -> NDArray[np.float64]:
        """Focal length and middle, as the compiled loops take them."""
        return np.array([self._focal, *self._middle])

    def __call__(self, points: Points) -> Points:
        from gommage.core.geometry.kernels import panorama_places, view_places  # compiled: loaded late

        flat = plain(np.asarray(points, np.float64).reshape(-1, 2))
        out = np.empty_like(flat)
        run, turn = (panorama_places, self._turn.T) if self._is_back else (view_places, self._turn)
        run(flat, plain(turn), self.numbers, *self._sides, out)
        return out.reshape(np.shape(points))

    def field(self, window: Window) -> NDArray[np.float64]:
        """Return where each pixel's centre of a window lies: (h, w, 2) float64."""
        if not self._is_back:
            return super().field(window)
        from gommage.core.geometry.kernels import panorama_rows  # compiled: loaded late

        out = np.empty((window.height, window.width, 2))
        turn, cuts = plain(self._turn.T), np.linspace(0, window.height, HALVES + 1).astype(int)

        def of_rows(half: int) -> None:
            low, high = int(cuts[half]), int(cuts[half + 1])
            panorama_rows(window.left, window.top + low, turn, self.numbers, *self._sides, out[low:high])

        list(_threads().map(of_rows, range(HALVES)))
        return out

    def scaled(self, factor: float) -> FlatView:
        """Return the same between pictures that are both smaller, or larger."""
        size, middle = (self._size[0] * factor, self._size[1] * factor), self._middle
        return FlatView(size, self._turn, self._focal * factor, (middle[0] * factor, middle[1] * factor), self._is_back)

    def inverse(self) -> FlatView:
        """Return the way back."""
        return FlatView(self._size, self._turn, self._focal, self._middle, not self._is_back)

    def followed_by(self, other: Mapping) -> Mapping | None:
        """Return both as one where the other one scales and shifts alone."""
        matrix = other.matrix
        if matrix is None or matrix[0, 1] or matrix[1, 0] or matrix[2, 0] or matrix[2, 1]:
            return None
        across, down, dx, dy = matrix[0, 0], matrix[1, 1], matrix[0, 2], matrix[1, 2]
        if self._is_back:
            if dx or dy:
                return None
            size = self._size[0] * float(across), self._size[1] * float(down)
            return FlatView(size, self._turn, self._focal, self._middle, is_back=True)
        if abs(across - down) > 1e-12 * abs(across):
            return None
        middle = float(across * self._middle[0] + dx), float(down * self._middle[1] + dy)
        return FlatView(self._size, self._turn, self._focal * float(across), middle)
