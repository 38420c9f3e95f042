"""Offsets that are common in a picture, put together so that a hole closes with few seams."""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.fill.patchwork.matching import improve
from gommage.core.fill.patchwork.pyramids import HALF, Level

__all__ = ["offsets_by_statistics"]

BEST_SHARE, MOST_LABELS = 0.6, 60
"""Of so many of the best matches the most frequent offsets are taken."""
LEAST_OFF_SHARE, LEAST_OFF_PX = 1 / 15, 4
"""A match is no nearer than that share of the picture's side."""
RING_PX, RING_WEIGHT, SLOPE_WEIGHT = 3, 2.0, 3.0
TURNS, PASSES, AT_ONCE = 5, 5, 1024
IMPOSSIBLE = 1e4


def offsets_by_statistics(level: Level, seed: int, check: Callable[[], None]) -> NDArray[np.int32] | None:
    """Return for each pixel of the hole the offset (row, column) of what is taken: (h, w, 2), or None if there are none
    that lead anywhere.
    """
    from gommage.core.fill.patchwork.kernels import labelled, least_cost, neighbours  # compiled code is loaded late

    labels = _common_offsets(level, seed, check)
    if len(labels) == 0:
        return None
    check()
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
    unary[~can] = IMPOSSIBLE
    squared = (shown**2).sum(axis=-1)
    apart = squared[:, :, None] + squared[:, None, :] - 2 * np.matmul(shown, shown.transpose(0, 2, 1))
    check()
    near, costs, unlike = neighbours(node), unary.astype(np.float32), np.maximum(apart, 0).astype(np.float32)
    told = np.zeros((len(rows), 4, len(labels)), np.float32)
    for half in (0, 1) * TURNS:
        for first in range(0, len(rows), AT_ONCE):
            check()
            least_cost(near, costs, unlike, told, half, first, min(first + AT_ONCE, len(rows)))
    found = labelled(near, costs, unlike, told)
    offsets = np.zeros((height, width, 2), np.int32)
    offsets[rows, columns] = labels[found]
    bad = ~can[np.arange(len(rows)), found]
    if bad[~is_known].any():
        first = can.argmax(axis=1)
        if not can.any(axis=1)[~is_known].all():
            return None
        offsets[rows[bad], columns[bad]] = labels[first[bad]]
    return offsets


def _guided(
    level: Level, rows: NDArray[np.intp], columns: NDArray[np.intp], shown: NDArray[np.floating]
) -> NDArray[np.floating] | float:
    """Return what it costs to take from elsewhere along a guide: (N, L)."""
    if not level.guides.shape[2]:
        return 0.0
    wanted = level.guides[rows, columns][:, None]
    return np.asarray(((shown[..., 5:] - wanted) ** 2).sum(axis=-1))


def _common_offsets(level: Level, seed: int, check: Callable[[], None]) -> NDArray[np.int64]:
    """Return the offsets (L, 2) by which what is known is most often like itself."""
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
    order = np.argsort(-counts[rows, columns], kind="stable")[:MOST_LABELS]
    return np.stack([rows[order] - height, columns[order] - width], axis=1)
