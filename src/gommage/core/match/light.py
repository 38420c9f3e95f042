"""Light: brightness and colour of a fill, from the pixels around the cover."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.geometry import Window
from gommage.core.picture import Picture

__all__ = ["Light", "apply_light", "match_light", "ring_around", "steadied"]

RING_GAP_PX = 2
RING_WIDTH_PX = 18
ROUNDS = 4
REJECT = 3.0
"""Ring pixels further than so many deviations from the fit belong to something else (an edge, a passer-by)."""
LEAST_PIXELS = 200
FAR_PX = float("inf")
SURPRISE = 4.0
"""What differs by less than twice the error is no surprise."""
RELATED = 4.0
"""So many pixels side by side tell as much of light as one would."""
STEADY_ERROR = 0.002
"""A gain that may be off by more than this would be seen to flicker: the frames beside it have a say."""


NO_CHANGE = np.array([[1.0, 0.0, 0.0]] * 3)


@dataclass(frozen=True, slots=True)
class Light:
    """A gain a channel that varies linearly over a window: ``coefficients[c] @ (1, u, v)``.

    u and v run from -1 to 1 over the window that it was measured on, in pixels of its scale. `trusted` is False where
    too little could be compared; the gain is then 1. `error` is by what share the gain of the worst channel may be off.
    """

    coefficients: NDArray[np.float64]
    window: Window
    scale: float = 1.0
    trusted: bool = True
    error: float = 0.0

    @property
    def needs_others(self) -> bool:
        """Whether it is so unsure that the frames beside it should have a say."""
        return self.trusted and self.error > STEADY_ERROR

    @property
    def stops(self) -> tuple[float, float, float]:
        """The brightening in the window's middle for red, green, blue, in stops."""
        red, green, blue = (float(np.log2(max(gain, 1e-6))) for gain in self.coefficients[:, 0])
        return red, green, blue

    @classmethod
    def none(cls, window: Window) -> Light:
        """Return the light that changes nothing."""
        return cls(NO_CHANGE, window, trusted=False)


def _axes(measured: Window, window: Window, times: float = 1.0) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return u (w,) and v (h,) of a window's pixels, as they run over the window that was measured.

    `times` as many pixels of the one are a pixel of the other.
    """
    across, down = (
        np.arange(low, high) + 0.5 for low, high in ((window.left, window.right), (window.top, window.bottom))
    )
    u = (across * times - 0.5 - measured.left) / max(measured.width - 1, 1) * 2 - 1
    v = (down * times - 0.5 - measured.top) / max(measured.height - 1, 1) * 2 - 1
    return u, v


def _basis_on(ring: NDArray[np.bool_]) -> NDArray[np.float64]:
    height, width = ring.shape
    u, v = _axes(Window.of(width, height), Window.of(width, height))
    rows, columns = np.nonzero(ring)
    return np.stack([np.ones(len(rows)), u[columns], v[rows]], axis=-1)


def ring_around(matte: Picture, gap_px: float = RING_GAP_PX, width_px: float = RING_WIDTH_PX) -> NDArray[np.bool_]:
    """Return where a ring runs around a matte, a little off it."""
    touched = (matte > 0).astype(np.uint8)
    distance = cv2.distanceTransform(1 - touched, cv2.DIST_L2, 5)
    ring: NDArray[np.bool_] = (distance > gap_px) & (distance <= gap_px + width_px)
    return ring


def match_light(
    fill: Picture, below: Picture, matte: Picture, valid: Picture, window: Window | None = None, scale: float = 1.0,
    area: NDArray[np.bool_] | None = None,
) -> Light:  # fmt: skip
    """Return the gain that makes a fill as bright as the picture around the cover.

    Fill and picture show the same things on the ring, so the gain is their ratio there. It is found by the method
    of moments (sums of the picture against sums of the gained fill, each weighed with 1, u, v), which, unlike least
    squares, is not biased by the fill's grain. Pixels that do not fit are left out, in a few rounds.

    Parameters
    ----------
    fill, below : (h, w, 3) float32
        The carried fill and what lies below, scene-linear, over the same window.
    matte : (h, w) float32
        The cover.
    valid : (h, w) float32
        Above 0.5 where the fill has pixels.
    window : Window, optional
        Where the arrays lie in the frame.
    scale : float
        Of the arrays; the ring is as wide as on the frame.
    area : (h, w) bool, optional
        Where light is looked at in place of the ring; never under the cover. It may lie anywhere, so the gain is even:
        a slope told there would be drawn out over the cover.
    """
    place = window or Window.of(matte.shape[1], matte.shape[0])
    ring = ring_around(matte, RING_GAP_PX * scale, max(RING_WIDTH_PX * scale, 3) if area is None else FAR_PX)
    ring &= (valid > 0.5) if area is None else (valid > 0.5) & area
    least = max(LEAST_PIXELS * scale**2, 40)
    if ring.sum() < least:
        return Light.none(place)
    basis = _basis_on(ring)
    if area is not None:
        basis[:, 1:] = 0
    source, target = fill[ring].astype(np.float64), below[ring].astype(np.float64)
    keep: NDArray[np.bool_] = np.ones(len(basis), bool)
    coefficients = Light.none(place).coefficients
    for _ in range(ROUNDS):
        if keep.sum() < least:
            return Light.none(place)
        coefficients = _moments(source[keep], target[keep], basis[keep])
        residual = target - source * (basis @ coefficients.T)
        spread = 1.4826 * np.median(np.abs(residual[keep]), axis=0) + 1e-7
        keep = np.asarray((np.abs(residual) < REJECT * spread).all(axis=1))
    if (coefficients[:, 0] <= 0.02).any() or not np.isfinite(coefficients).all():
        return Light.none(place)
    bright = np.maximum(target[keep].mean(axis=0), 1e-6) if keep.any() else np.ones(3)
    error = float((spread / bright).max() * np.sqrt(RELATED / max(keep.sum(), 1)))
    return Light(coefficients, place, scale, error=error)


def steadied(light: Light, beside: Mapping[int, Light]) -> Light:
    """Return a light that does not flicker for want of pixels to tell it by.

    The line through the lights of the frames beside it says what is to be expected; the light is drawn there as far as
    it is unsure and they do not jump themselves (shrinkage: W. James and C. Stein, Estimation with Quadratic Loss,
    Berkeley Symposium 1, 1961). A lantern that flickers stays as it is: it does so by more than chance.

    Parameters
    ----------
    light : Light
    beside : mapping of int to Light
        By how many frames they come later; those that are not trusted do not count.
    """
    known = {by: one for by, one in beside.items() if one.trusted}
    if not light.trusted or len(known) < 2:
        return light
    at = np.array(list(known), np.float64)
    values = np.stack([one.coefficients for one in known.values()]).reshape(len(known), -1)
    line = min(at) < 0 < max(at)  # on one side alone a line would be drawn out
    design = np.column_stack([np.ones_like(at), at])[:, : 2 if line else 1]
    solved, *_ = np.linalg.lstsq(design, values, rcond=None)
    expected, left = solved[0], values - design @ solved
    own = light.coefficients.reshape(-1) - expected
    error = (light.error * light.coefficients[:, :1]).repeat(3, axis=1).reshape(-1) ** 2
    spread = np.maximum(own**2, (left**2).mean(axis=0))
    real = np.maximum(spread - SURPRISE * error, 0)
    steady = expected + own * real / np.maximum(real + error, 1e-30)
    return Light(steady.reshape(3, 3), light.window, light.scale, error=light.error)


def _moments(
    source: NDArray[np.float64], target: NDArray[np.float64], basis: NDArray[np.float64]
) -> NDArray[np.float64]:
    out = np.empty((3, 3))
    for channel in range(3):
        left = basis.T @ (basis * source[:, channel : channel + 1])
        # A light pull towards an even gain, for rings that lie along one line.
        left[1:, 1:] += np.eye(2) * 0.02 * abs(left[0, 0])
        out[channel] = np.linalg.solve(left + np.eye(3) * 1e-12, basis.T @ target[:, channel])
    return out


def apply_light(fill: Picture, light: Light, window: Window | None = None, scale: float = 1.0) -> Picture:
    """Return a fill (h, w, 3) under a light.

    `window` is where the fill lies in the frame, in pixels of `scale`; the window that the light was measured on if
    left out. A light that changes nothing gives the same array back.
    """
    if (light.coefficients == NO_CHANGE).all():
        return fill
    u, v = _axes(light.window, window, light.scale / scale) if window else _axes(light.window, light.window)
    out = np.empty_like(fill)
    for channel, (even, along, down) in enumerate(light.coefficients):
        gain = (even + down * v)[:, None] + (along * u)[None, :]
        out[..., channel] = fill[..., channel] * np.maximum(gain, 0).astype(np.float32)
    return out
