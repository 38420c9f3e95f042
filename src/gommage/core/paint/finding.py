"""Where a brush could take its pixels from: places whose surroundings are like those of the place to be painted."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.picture import Picture

__all__ = ["Candidate", "Other", "best_sources"]

Mask = NDArray[np.bool_]
RING_SHARE, LEAST_RING_PX = 0.8, 6
"""How wide the surroundings are that are compared, in radii; and at least."""
LEAST_KNOWN = 24
"""So many pixels of the surroundings must be known."""
SMALL_RADIUS_PX = 14
"""Places are searched on a smaller picture in which the brush is about so large, and then found exactly."""
FAR_SHARE = 0.3
"""How much worse a place at the end of the search may be held to be than one beside the brush."""
SAME = 1.6
"""What differs inside the brush by no more than this times what differs around it shows the same thing once more."""
SLIPS = tuple((dy, dx) for dy in range(-2, 3) for dx in range(-2, 3))
"""A frame that is brought into register may be off by so much: the thing is then looked for there as well."""
LEAST_NOISE = 2e-3
"""Of the level: so much two pictures always differ."""
SHAPE_GAP_PX, SHAPE_RING_PX = 1, 9
"""Around a cover, so far off its edge its surroundings begin, and so wide they are."""
DIFFERS, CROSSED, CALM = 0.1, 0.5, 2.0
"""How dear another brightness is; and what crosses a place that varies by more than so many times its surroundings."""


@dataclass(frozen=True, slots=True)
class Candidate:
    """A place that pixels could be taken from.

    Attributes
    ----------
    dx, dy : int
        To the right and down from the brush, in pixels.
    frame : int
    mismatch : float
        How far surroundings differ, light left aside: root of the mean square over the level.
    """

    dx: int
    dy: int
    frame: int
    mismatch: float


@dataclass(frozen=True, slots=True, eq=False)
class Other:
    """Another frame in register with the one that is painted on: pixels (H, W, 3), and where they may be taken."""

    frame: int
    picture: Picture
    allowed: Mask


def best_sources(
    picture: Picture, allowed: Mask, at: tuple[int, int], radius: float, frame: int,
    others: Sequence[Other] = (), count: int = 6, shape: Mask | None = None,
) -> tuple[Candidate, ...]:  # fmt: skip
    """Return where pixels for a brush could come from, the best first.

    Parameters
    ----------
    picture : (H, W, 3) float32
        The brush's surroundings; what it spans is how far places are looked for.
    allowed : (H, W) bool
        Where pixels may be taken and believed: neither the thing that is removed nor what is in front of it.
    at : (x, y)
        The middle of the brush, in pixels of the picture.
    radius : float
        Of the brush, in pixels.
    frame : int
        Of the picture.
    others : sequence of Other
        Other frames in register with it, of the same window.
    count : int
        How many at most.
    shape : (2 K + 1, 2 K + 1) bool, optional
        What is to be covered, in place of a round brush, with room for what is around it; `radius` is how far its
        inside is from its edge.

    Notes
    -----
    Surroundings are compared without their mean colours, so that a change of light does not matter. Another frame that
    shows the very same inside the brush is left out: the thing is there as well. Places that are lighter or darker, or
    that something crosses which is not around the brush, are dearer.

    The search by masked correlation is that of D. Padfield, Masked Object Registration in the Fourier Domain, IEEE
    Transactions on Image Processing 21 (2012), with the sum of squared differences; filling a place by the piece whose
    surroundings fit is that of A. Criminisi, P. Perez, K. Toyama, Region Filling and Object Removal by Exemplar-Based
    Image Inpainting, IEEE Transactions on Image Processing 13 (2004).
    """
    if shape is None:
        half = int(np.ceil(radius + max(RING_SHARE * radius, LEAST_RING_PX)))
        ring, disc = _ring_and_disc(half, radius)
    else:
        half, disc, ring = shape.shape[0] // 2, shape, _around(shape, SHAPE_GAP_PX, SHAPE_RING_PX)
    cut = _cut(picture, allowed, at, half)
    if cut is None:
        return ()
    here, known = cut
    weight = (ring & known).astype(np.float32)
    if weight.sum() < LEAST_KNOWN:
        return ()
    level = float(np.abs(here[weight > 0]).mean()) + 1e-6
    found = [
        one
        for other in others
        if (one := _in_other(other, here, weight, disc, at, half, level)) is not None
    ]  # fmt: skip
    found += _beside(picture, allowed, here, weight, disc, at, half, radius, frame, level, count)
    return tuple(sorted(found, key=lambda one: one.mismatch))[:count]


def _ring_and_disc(half: int, radius: float) -> tuple[Mask, Mask]:
    y, x = np.mgrid[-half : half + 1, -half : half + 1]
    away = np.hypot(x, y)
    return (away > radius) & (away <= half), away <= radius


def _around(shape: Mask, gap: int, wide: int) -> Mask:
    """Return the surroundings of a shape: from a gap off its edge on, so wide."""
    near, far = (
        cv2.dilate(shape.astype(np.uint8), cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * by + 1, 2 * by + 1)))
        for by in (gap, gap + wide)
    )
    return (far > 0) & (near == 0)


def _cut(picture: Picture, allowed: Mask, at: tuple[int, int], half: int) -> tuple[Picture, Mask] | None:
    """Return the square around a place, (2 half + 1)²; what is beyond the picture is not allowed."""
    x, y = at
    height, width = allowed.shape
    if not (0 <= x < width and 0 <= y < height):
        return None
    rows, columns = np.arange(y - half, y + half + 1), np.arange(x - half, x + half + 1)
    inside = ((rows >= 0) & (rows < height))[:, None] & ((columns >= 0) & (columns < width))[None]
    grid = np.ix_(np.clip(rows, 0, height - 1), np.clip(columns, 0, width - 1))
    return picture[grid], allowed[grid] & inside


def _spread(difference: Picture, weight: Picture) -> float:
    """Return the root of the mean square of a difference (h, w, 3) around its mean colour."""
    mean = (difference * weight[..., None]).sum(axis=(0, 1)) / weight.sum()
    return float(np.sqrt((((difference - mean) ** 2) * weight[..., None]).sum() / weight.sum() / 3))


def _in_other(
    other: Other, here: Picture, weight: Picture, disc: Mask, at: tuple[int, int], half: int, level: float
) -> Candidate | None:
    """Return the same place on another frame as a candidate, if it is known there and shows something else."""
    cut = _cut(other.picture, other.allowed, at, half)
    if cut is None or not cut[1][disc].all():
        return None
    there, known = cut
    shared = weight * known
    if shared.sum() < LEAST_KNOWN:
        return None
    if any(_shows_the_same(np.roll(there, by, (0, 1)), here, shared, disc, level) for by in SLIPS):
        return None
    return Candidate(0, 0, other.frame, _spread(there - here, shared) / level)


def _shows_the_same(there: Picture, here: Picture, weight: Picture, disc: Mask, level: float) -> bool:
    """Return whether two pictures differ no more inside the brush than around it."""
    difference = there - here
    offset = (difference * weight[..., None]).sum(axis=(0, 1)) / weight.sum()
    inside = float(np.sqrt(((difference - offset)[disc] ** 2).mean()))
    return inside <= SAME * max(_spread(difference, weight), LEAST_NOISE * level)


def _beside(
    picture: Picture, allowed: Mask, here: Picture, weight: Picture, disc: Mask, at: tuple[int, int], half: int,
    radius: float, frame: int, level: float, count: int,
) -> list[Candidate]:  # fmt: skip
    """Return the best places of the same picture, no two of them nearer than a radius."""
    free = allowed & ~_laid(disc, at, half, allowed.shape)  # what is painted over is not taken again
    factor = max(int(radius // SMALL_RADIUS_PX), 1)
    if factor > 1:
        size = picture.shape[1] // factor, picture.shape[0] // factor
        small = cv2.resize(picture, size, interpolation=cv2.INTER_AREA)
        small_free = cv2.resize(free.astype(np.float32), size, interpolation=cv2.INTER_AREA) > 0.999
        small_half = half // factor
        small_disc = _smaller(disc, small_half)
        ring = _smaller(weight > 0, small_half) & ~small_disc
        cut = _cut(small, small_free, (at[0] // factor, at[1] // factor), small_half)
        if cut is None:
            return []
        small_weight = (ring & cut[1]).astype(np.float32)
        if small_weight.sum() < LEAST_KNOWN / 2:
            return []
        coarse = _searched(small, small_free, cut[0], small_weight, small_disc, (at[0] // factor, at[1] // factor))
        places = [(px * factor, py * factor) for px, py in _lowest(coarse, radius / factor, small_half, count)]
    else:
        places = _lowest(_searched(picture, free, here, weight, disc, at), radius, half, count)
    found = []
    for place in places:
        fine = _refined(picture, free, here, weight, disc, place, half, 2 * factor if factor > 1 else 0)
        if fine is not None:
            cost, px, py = fine
            away = np.hypot(px - at[0], py - at[1]) / max(picture.shape[:2])
            mismatch = float(np.sqrt(max(cost, 0.0)) / level)
            found.append(Candidate(px - at[0], py - at[1], frame, mismatch * (1 + FAR_SHARE * float(away))))
    return found


def _costs(picture: Picture, free: Mask, here: Picture, weight: Picture, disc: Mask) -> NDArray[np.float64]:
    """Return for each place of a picture how far its surroundings are off, as a mean square; infinite where not free.

    The result is (H - 2 half, W - 2 half).
    """
    total, inside = weight.sum(), disc.astype(np.float32)
    area, out = float(inside.sum()), np.zeros(0, np.float64)
    for channel in range(3):
        plain = np.ascontiguousarray(picture[..., channel])
        middle = float(plain.mean())
        plain = plain - middle  # small numbers: float32 sums of squares stay exact enough
        mean = (here[..., channel] * weight).sum() / total
        template = ((here[..., channel] - mean) * weight).astype(np.float32)
        squares, sums, mixed, square_in, sum_in = (
            cv2.matchTemplate(one, kernel, cv2.TM_CCORR).astype(np.float64)
            for one, kernel in (
                (plain * plain, weight), (plain, weight), (plain, template), (plain * plain, inside), (plain, inside),
            )
        )  # fmt: skip
        own = float((template * (here[..., channel] - mean)).sum())
        cost = (squares - sums**2 / total - 2 * mixed + own) / total / 3
        there = sums / total
        cost += DIFFERS * (there + middle - mean) ** 2 / 3
        varies = square_in / area - 2 * there * sum_in / area + there**2
        cost += CROSSED * np.maximum(varies - CALM * own / total, 0) / 3
        out = cost if channel == 0 else out + cost
    blocked = cv2.matchTemplate((~free).astype(np.float32), disc.astype(np.float32), cv2.TM_CCORR)
    out[blocked > 0.5] = np.inf
    return out


def _laid(disc: Mask, at: tuple[int, int], half: int, shape: tuple[int, ...]) -> Mask:
    """Return where in a picture a shape around a place is, (H, W)."""
    out: Mask = np.zeros((shape[0] + 2 * half, shape[1] + 2 * half), bool)
    out[at[1] : at[1] + 2 * half + 1, at[0] : at[0] + 2 * half + 1] = disc
    return out[half : half + shape[0], half : half + shape[1]]


def _smaller(mask: Mask, half: int) -> Mask:
    """Return a mask at another size, (2 half + 1)²: all that any of it touches."""
    side = 2 * half + 1
    return cv2.resize(mask.astype(np.float32), (side, side), interpolation=cv2.INTER_AREA) > 0.25


def _searched(
    picture: Picture, free: Mask, here: Picture, weight: Picture, disc: Mask, at: tuple[int, int]
) -> NDArray[np.float64]:
    """Return the costs of all places, those far from the brush a little dearer."""
    side = len(disc)
    if picture.shape[0] < side or picture.shape[1] < side:
        return np.full((0, 0), np.inf)
    costs = _costs(picture, free, here, weight, disc)
    y, x = np.ogrid[: costs.shape[0], : costs.shape[1]]
    away = np.hypot(x + side // 2 - at[0], y + side // 2 - at[1]) / max(picture.shape[:2])
    return np.maximum(costs, 0) * (1 + FAR_SHARE * away) ** 2


def _lowest(costs: NDArray[np.float64], radius: float, half: int, count: int) -> list[tuple[int, int]]:
    """Return the places (x, y) of the least costs, no two of them nearer than a radius."""
    left = costs.copy()
    found: list[tuple[int, int]] = []
    y, x = np.ogrid[: costs.shape[0], : costs.shape[1]]
    while len(found) < count and left.size and np.isfinite(left.min()):
        row, column = np.unravel_index(int(left.argmin()), left.shape)
        found.append((int(column) + half, int(row) + half))
        left[np.hypot(x - column, y - row) < max(radius, 2)] = np.inf
    return found


def _refined(
    picture: Picture, free: Mask, here: Picture, weight: Picture, disc: Mask, place: tuple[int, int], half: int,
    reach: int,
) -> tuple[float, int, int] | None:  # fmt: skip
    """Return the least cost near a place, and where that is."""
    x, y = place
    left, top = max(x - half - reach, 0), max(y - half - reach, 0)
    window = (slice(top, y + half + reach + 1), slice(left, x + half + reach + 1))
    near, near_free = picture[window], free[window]
    if min(near.shape[0], near.shape[1]) < len(disc):
        return None
    costs = _costs(np.ascontiguousarray(near), near_free, here, weight, disc)
    if not np.isfinite(costs.min()):
        return None
    row, column = np.unravel_index(int(costs.argmin()), costs.shape)
    return float(costs[row, column]), left + half + int(column), top + half + int(row)
