"""Frames that others are aligned with, and where a plane was found by them."""

from __future__ import annotations

from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.follow.align import Alignment, Template
from gommage.core.geometry import Matrix, Points, Window, apply_matrix
from gommage.core.picture import Picture, luminance

__all__ = [
    "LEAST_VISIBLE",
    "SURE",
    "Found",
    "OpenedFrame",
    "Station",
    "are_apart",
    "fused",
    "keeps_shape",
    "stretches",
    "with_rest",
]

SURE = 0.80
"""Correlation above which the first start is taken as it is."""
LEAST_VISIBLE = 0.12
"""Share of the area that must be in the picture."""
LARGEST_STRETCH = 1.5
"""By how much a plane may grow or shrink, along any direction, from one followed frame to the next."""
FUSED_SLIP_PX = 1.35
"""What a second template tells is taken below this error."""
APART_PX, APART_SLIPS = 0.5, 4.0
"""Two places are apart if that is more than the first, and than so many slips of the one that is asked."""


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
    def station_to_frame(self) -> Matrix:
        """What takes pixels of its station to the frame's."""
        return self.home_to_frame @ np.linalg.inv(self.station.home_to_station)

    def at(self, points: Points) -> Points:
        """Return where points of the home frame are (N, 2)."""
        return apply_matrix(self.home_to_frame, points)

    @property
    def score(self) -> float:
        return self.alignment.correlation * self.alignment.visible

    @property
    def agreement(self) -> float:
        return self.alignment.correlation * self.alignment.agreeing

    def or_better(self, other: Found) -> Found:
        """Return the one of two that scores more."""
        return other if other.score > self.score else self


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


def keeps_shape(here: Matrix, last: Matrix, points: Points) -> bool:
    """Return whether a plane kept about its shape since the last frame: a lost one often folds into a line."""
    points = np.vstack([points, points.mean(axis=0, keepdims=True)])
    with np.errstate(divide="ignore", invalid="ignore"):
        change = np.median(stretches(here, points), axis=0) / np.median(stretches(last, points), axis=0)
    return bool((change > 1 / LARGEST_STRETCH).all() and (change < LARGEST_STRETCH).all())


def are_apart(one: Found, other: Found, corners: Points) -> bool:
    """Return whether a place of corners (4, 2) is farther from another than that one may be off."""
    apart = np.hypot(*(one.at(corners) - other.at(corners)).T).max()
    return bool(apart > max(APART_PX, APART_SLIPS * other.slip_px))


def with_rest(one: Found, other: Found, corners: Points, explained: float, most_px: float) -> Found:
    """Return a place whose slip holds what another tells against it.

    It may be off by its distance from the other, as far as so many slips of that one do not explain it, and by no more
    than `most_px` of that.
    """
    apart = np.hypot(*(one.at(corners) - other.at(corners)).T)
    rest = np.sqrt(np.maximum(np.nan_to_num(apart) ** 2 - (explained * other.corner_slip_px) ** 2, 0.0))
    rest = np.minimum(rest, most_px)
    return replace(one, corner_slip_px=np.hypot(one.corner_slip_px, np.nan_to_num(rest)))


def fused(one: Found, other: Found, corners: Points) -> Found:
    """Put together what two stations tell, each corner by its errors; one that is not recognised is left out."""
    if (
        other.alignment.correlation < SURE
        or other.alignment.visible < LEAST_VISIBLE
        or not other.slip_px < FUSED_SLIP_PX
    ):
        return one
    if not one.is_sure or not np.isfinite(one.slip_px):
        return other
    places = [found.at(corners) for found in (one, other)]
    if not all(np.isfinite(place).all() for place in places):
        return one
    precision = [1 / np.maximum(found.corner_slip_px, 1e-4)[:, None] ** 2 for found in (one, other)]
    mean = (places[0] * precision[0] + places[1] * precision[1]) / (precision[0] + precision[1])
    matrix = cv2.getPerspectiveTransform(corners.astype(np.float32), mean.astype(np.float32)).astype(float)
    slip = 1 / np.sqrt(precision[0] + precision[1])[:, 0]
    surer = one if one.slip_px < other.slip_px else other
    return Found(matrix / matrix[2, 2], surer.alignment, slip, surer.station)
