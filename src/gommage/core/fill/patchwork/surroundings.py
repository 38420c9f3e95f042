"""What of a picture looks like something around its hole: nothing else is to be expected in it."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.picture import Picture, luminance

__all__ = ["like_surroundings"]

Mask = NDArray[np.bool_]
RING_PX, RING_SHARE = 24, 0.6
"""Surroundings are so wide, or that share of the hole's thickness if that is more."""
SIDE_PX, SAMPLES, MOST_LOOKED_AT = 7, 600, 100_000
UNLIKE, UNLIKE_MORE, QUANTILE = 0.03, 1.5, 0.98
"""What differs from all of the surroundings by more than this, or more than so many times what these differ among
themselves, is left out."""
LEAST_SHARE = 0.1
"""Where less than that would be left, all is taken."""


def like_surroundings(picture: Picture, hole: Mask, is_taken: Mask) -> Mask:
    """Return what may be taken from of what looks like something around a hole: (h, w) bool.

    Parameters
    ----------
    picture : (h, w, 3) float32
        Encoded.
    hole, is_taken : (h, w) bool
    """
    thickness = 2 * float(cv2.distanceTransform(np.pad(hole.view(np.uint8), 1), cv2.DIST_L2, 5).max())
    reach = max(RING_PX, round(RING_SHARE * thickness))
    ring = cv2.dilate(hole.view(np.uint8), np.ones((2 * reach + 1, 2 * reach + 1), np.uint8)).astype(bool) & is_taken
    if ring.sum() < SAMPLES // 4:
        return is_taken
    means = _means(picture, ~hole)
    rows, columns = np.nonzero(ring)
    step = max(len(rows) // SAMPLES, 1)
    samples = _looks(means[rows[::step], columns[::step]])
    own = _nearest(samples, samples, leaves_out_itself=True)
    most = max(UNLIKE, UNLIKE_MORE * float(np.quantile(own, QUANTILE)))
    height, width = hole.shape
    step = max(round(np.sqrt(hole.size / MOST_LOOKED_AT)), 1)  # neighbours look alike
    coarse = _nearest(_looks(means[::step, ::step].reshape(-1, 5)), samples) <= most
    shape = -(-height // step), -(-width // step)
    alike = np.repeat(np.repeat(coarse.reshape(shape), step, axis=0), step, axis=1)[:height, :width] & is_taken
    return alike if alike.sum() >= LEAST_SHARE * is_taken.sum() else is_taken


def _means(picture: Picture, known: Mask) -> Picture:
    """Return the means around each pixel of colour, luma squared and what is known, of what is known: (h, w, 5)."""
    values = np.empty((*known.shape, 5), np.float32)
    values[..., :3], values[..., 3], values[..., 4] = picture, luminance(picture) ** 2, 1
    values *= known[..., None]
    return cv2.blur(values, (SIDE_PX, SIDE_PX))


def _looks(means: Picture) -> Picture:
    """Return how neighbourhoods look, by mean colour and contrast, (N, 4), given means (N, 5)."""
    mean = means[:, :4] / np.maximum(means[:, 4:], 1e-3)
    contrast = np.sqrt(np.maximum(mean[:, 3] - luminance(mean[None, :, :3])[0] ** 2, 0))
    return np.column_stack([mean[:, :3], contrast]).astype(np.float32)


def _nearest(looks: Picture, samples: Picture, *, leaves_out_itself: bool = False) -> NDArray[np.float32]:
    """Return how unlike each look (N, 4) is to the sample (M, 4) that it is most like: (N,)."""
    from scipy.spatial import KDTree

    apart = np.asarray(KDTree(samples).query(looks, k=[2] if leaves_out_itself else [1])[0])
    return apart[:, 0].astype(np.float32)
