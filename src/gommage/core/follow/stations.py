"""Frames that others are aligned with, and where a plane was found by them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from gommage.core.follow.align import Alignment, Template
from gommage.core.geometry import Matrix, Points, Window, apply_matrix
from gommage.core.picture import Picture, luminance

__all__ = ["LEAST_VISIBLE", "SURE", "Found", "OpenedFrame", "Station", "stretches"]

SURE = 0.80
"""Correlation above which the first start is taken as it is."""
LEAST_VISIBLE = 0.12
"""Share of the area that must be in the picture."""


@dataclass(frozen=True, slots=True)
class Station:
    """A frame that others are aligned with: its template, and where home is on it."""

    frame: int
    template: Template
    home_to_station: Matrix
    corner_slip_px: NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Found:
    """Where the plane is on a frame, and with what it was compared."""

    home_to_frame: Matrix
    alignment: Alignment
    corner_slip_px: NDArray[np.float64]
    station: Station

    @property
    def slip_px(self) -> float:
        return float(np.sqrt((self.corner_slip_px**2).mean()))

    @property
    def is_sure(self) -> bool:
        one = self.alignment
        return one.correlation >= SURE and one.visible > LEAST_VISIBLE and one.agreeing > 0.5

    @property
    def score(self) -> float:
        return self.alignment.correlation * self.alignment.visible

    @property
    def agreement(self) -> float:
        return self.alignment.correlation * self.alignment.agreeing


class OpenedFrame:
    """One frame's pictures, made as they are asked for."""

    def __init__(self, picture: Picture) -> None:
        self.picture = picture
        self.bounds = Window.of(picture.shape[1], picture.shape[0])
        self._light: Picture | None = None

    @property
    def light(self) -> Picture:
        """The luminance of the whole frame."""
        if self._light is None:
            self._light = luminance(self.picture)
        return self._light


def stretches(matrix: Matrix, points: Points) -> Points:
    """Return by how much a mapping stretches around points (N, 2): the greater and the lesser factor, (N, 2).

    The singular values of the mapping's derivative. Points behind the camera give 0.
    """
    x, y = np.asarray(points, float).T
    depth = matrix[2, 0] * x + matrix[2, 1] * y + matrix[2, 2]
    moved = apply_matrix(matrix, points)
    with np.errstate(divide="ignore", invalid="ignore"):
        derivative = (matrix[None, :2, :2] - moved[:, :, None] * matrix[None, 2:, :2]) / depth[:, None, None]
    derivative[~np.isfinite(derivative).all(axis=(1, 2))] = 0.0
    return np.linalg.svd(derivative, compute_uv=False)
