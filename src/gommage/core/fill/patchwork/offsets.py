"""Offsets that are common in a picture, put together so that a hole closes with few seams."""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.fill.patchwork.matching import improve
from gommage.core.fill.patchwork.pyramids import HALF, Level
from gommage.core.fill.patchwork.repeats import likeness
from gommage.core.picture import luminance

__all__ = ["offsets_by_statistics"]

BEST_SHARE, MOST_LABELS = 0.6, 60
"""Of so many of the best matches the most frequent offsets are taken."""
LEAST_OFF_SHARE, LEAST_OFF_PX = 1 / 15, 4
"""A match is no nearer than that share of the picture's side."""
RING_PX, RING_WEIGHT, SLOPE_WEIGHT = 3, 2.0, 3.0
TURNS, PASSES, AT_ONCE = 5, 5, 1024
LEAST_ALIKE = 0.5
"""A pattern repeats where it correlates so well with itself."""


def offsets_by_statistics(level: Level, seed: int, check: Callable[[], None]) -> NDArray[np.int32] | None:
    """Return for each pixel of the hole the offset (row, column) of what is taken: (h, w, 2), or None if there are none
    that lead anywhere.
    """
    from gommage.core.fill.patchwork.label_kernels import (
        FAR,
        labelled,
        least_cost,
        neighbours,
    )  # compiled code is loaded late

    common = _common_offsets(level, seed, check)
    if len(common) == 0:
        return None
    check()
    labels = _reaching(common, level)
    ring = cv2.dilate(level.hole.view(np.uint8), np.ones((2 * RING_PX + 1, 2 * RING_PX + 1), np.uint8)).astype(bool)
    ring[:HALF], ring[-HALF:], ring[:, :HALF], ring[:, -HALF:] = False, False, False, False
    rows, columns = np.nonzero(ring)
    node = np.full(ring.shape, -1, np.int32)
    node[rows, columns] = np.arange(len(rows))
    height, width = ring.shape
    y, x = rows[:, None] + labels[:, 0], columns[:, None] + labels[:, 1]
    inside = (y >= 0) & (y < height) & (x >= 0) & (x < width)
    y, x = np.clip(y, 0, height - 1), np.clip(x, 0, width - 1)
    can = inside & level.is_source[y, x]
    if not can.any(axis=1).all():
        can |= inside & ~level.hole[y, x]
    features = level.features_of(level.picture)
    features = np.concatenate([features[..., :3], SLOPE_WEIGHT * features[..., 3:5], features[..., 5:]], axis=-1)
    shown = features[y, x]  # (N, L, F)
    own = features[rows, columns][:, None]
    is_known = ~level.hole[rows, columns]
    unary = np.where(is_known[:, None], RING_WEIGHT * ((shown - own) ** 2).sum(axis=-1), 0.0)
    unary = unary + _guided(level, rows, columns, shown)
    unary[~can] = FAR
    check()
    near, costs = neighbours(node), unary.astype(np.float32)
    squared, shown = (shown**2).sum(axis=-1), np.ascontiguousarray(shown.transpose(0, 2, 1))
    told = np.zeros((len(rows), 4, len(labels)), np.float32)
    for half in (0, 1) * TURNS:
        for first in range(0, len(rows), AT_ONCE):
            check()
            least_cost(near, costs, shown, squared, told, half, first, min(first + AT_ONCE, len(rows)))
    found = labelled(near, costs, shown, told)
    offsets = np.zeros((height, width, 2), np.int32)
    offsets[rows, columns] = labels[found]
    bad = ~can[np.arange(len(rows)), found]
    if bad[~is_known].any():
        first = can.argmax(axis=1)
        if not can.any(axis=1)[~is_known].all():
            return None
        offsets[rows[bad], columns[bad]] = labels[first[bad]]
    return offsets


def _reaching(common: NDArray[np.int64], level: Level) -> NDArray[np.int64]:
    """Return the most common of some offsets, and further ones for what lies so deep that none of these leads out.

    Where a pattern repeats, the nearest repeats are the most common; from the middle of a large hole they lead nowhere.
    """
    labels, rest = common[:MOST_LABELS], common[MOST_LABELS:]
    rows, columns = np.nonzero(level.hole)
    left = np.asarray(~_leads_out(level, rows, columns, labels).any(axis=1))
    more = list[NDArray[np.int64]]()
    for offset in rest:
        if not left.any() or len(more) >= MOST_LABELS:
            break
        served = _leads_out(level, rows[left], columns[left], offset[None])[:, 0]
        if served.any():
            more.append(offset)
            left[np.nonzero(left)[0][served]] = False
    return np.concatenate([labels, np.array(more, np.int64).reshape(-1, 2)])


def _leads_out(
    level: Level, rows: NDArray[np.intp], columns: NDArray[np.intp], offsets: NDArray[np.int64]
) -> NDArray[np.bool_]:
    """Return from which places (N,) which offsets (L, 2) lead to what may be taken, (N, L)."""
    height, width = level.hole.shape
    y, x = rows[:, None] + offsets[:, 0], columns[:, None] + offsets[:, 1]
    inside = (y >= 0) & (y < height) & (x >= 0) & (x < width)
    out: NDArray[np.bool_] = inside & level.is_source[np.clip(y, 0, height - 1), np.clip(x, 0, width - 1)]
    return out


def _guided(
    level: Level, rows: NDArray[np.intp], columns: NDArray[np.intp], shown: NDArray[np.floating]
) -> NDArray[np.floating] | float:
    """Return what it costs to take from elsewhere along a guide: (N, L)."""
    if not level.guides.shape[2]:
        return 0.0
    wanted = level.guides[rows, columns][:, None]
    return np.asarray(((shown[..., 5:] - wanted) ** 2).sum(axis=-1))


def _common_offsets(level: Level, seed: int, check: Callable[[], None]) -> NDArray[np.int64]:
    """Return the offsets (L, 2) by which what is known is often like itself, the most common first."""
    height, width = level.hole.shape
    places = np.argwhere(level.is_source).astype(np.int32)
    if len(places) < MOST_LABELS:
        return np.zeros((0, 2), np.int64)
    least_off = max(round(LEAST_OFF_SHARE * max(height, width)), LEAST_OFF_PX)
    matches, errors = np.zeros((height, width, 2), np.int32), np.full((height, width), -1, np.float32)
    features = level.features_of(level.picture)
    improve(features, places, level.is_source, matches, errors, PASSES, seed, check, least_off)
    check()
    y, x = places.T
    offsets, unlike = matches[y, x] - places, errors[y, x]
    far = np.abs(offsets).max(axis=1) >= least_off
    best = far & (unlike <= np.quantile(unlike[far], BEST_SHARE)) if far.any() else far
    offsets = offsets[best]
    if len(offsets) == 0:
        return np.zeros((0, 2), np.int64)
    counts = np.zeros((2 * height + 1, 2 * width + 1), np.float32)
    np.add.at(counts, (offsets[:, 0] + height, offsets[:, 1] + width), 1)
    np.add.at(counts, (height - offsets[:, 0], width - offsets[:, 1]), 1)
    counts = cv2.GaussianBlur(counts, (0, 0), np.sqrt(2.0))
    peaks = (counts == cv2.dilate(counts, np.ones((5, 5), np.uint8))) & (counts > 0)
    rows, columns = np.nonzero(peaks)
    order = np.argsort(-counts[rows, columns], kind="stable")
    common = np.stack([rows[order] - height, columns[order] - width], axis=1)
    return _once(np.concatenate([common, _repeats(level, least_off)]))


def _once(offsets: NDArray[np.int64]) -> NDArray[np.int64]:
    """Return offsets without those that were there before, in their order."""
    _, first = np.unique(offsets, axis=0, return_index=True)
    return offsets[np.sort(first)]


def _repeats(level: Level, least_off: int) -> NDArray[np.int64]:
    """Return the offsets (L, 2) by which a pattern repeats, the surest first.

    Peaks of what is known correlated with itself: where a repeat is no whole number of pixels, matches all go to the
    one far away that is nearest to one.
    """
    alike = likeness(luminance(level.picture), ~level.hole)
    middle = alike.shape[0] // 2, alike.shape[1] // 2
    alike[middle[0] - least_off + 1 : middle[0] + least_off, middle[1] - least_off + 1 : middle[1] + least_off] = 0
    peaks = (alike == cv2.dilate(alike, np.ones((5, 5), np.uint8))) & (alike > LEAST_ALIKE)
    rows, columns = np.nonzero(peaks)
    order = np.argsort(-alike[rows, columns], kind="stable")[: 2 * MOST_LABELS]
    return np.stack([rows[order] - middle[0], columns[order] - middle[1]], axis=1)
