"""A picture with a hole in ever smaller sizes, as patches are compared in them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.geometry import Points
from gommage.core.picture import Picture, luminance

__all__ = ["HALF", "Level", "pyramid_of"]

Mask = NDArray[np.bool_]
HALF = 3
"""Half the side of a patch, its middle left aside; so wide is the margin around a level."""
SLOPE_SHARE = 0.5
"""What slopes of luma count beside colours."""
GUIDE_REACH_PX, GUIDE_SHARE = 24.0, 0.6
"""Along guides the distance to them counts up to so far away, and so much."""
MOST_LEVELS = 8


@dataclass(frozen=True, slots=True)
class Level:
    """One size of a picture with a hole, a margin of `HALF` pixels around it.

    Attributes
    ----------
    picture : (h, w, 3) float32
    hole : (h, w) bool
    is_source : (h, w) bool
        Middles of patches that may be taken: all of them known, and to be taken from.
    places : (N, 2) int32
        Row and column of the middles of patches that touch the hole.
    depth : (h, w) float32
        How far each pixel lies in the hole.
    guides : (h, w, G) float32
    """

    picture: Picture
    hole: Mask
    is_source: Mask
    places: NDArray[np.int32]
    depth: Picture
    guides: Picture

    def features_of(self, picture: Picture) -> Picture:
        """Return what patches of a picture are compared by: (h, w, F)."""
        luma = np.ascontiguousarray(luminance(picture)) * np.float32(SLOPE_SHARE)
        slopes = [cv2.Sobel(luma, cv2.CV_32F, x, y, ksize=1) for x, y in ((1, 0), (0, 1))]
        return np.ascontiguousarray(np.dstack([picture, *slopes, self.guides]), np.float32)


def pyramid_of(
    picture: Picture, hole: Mask, is_taken: Mask, guides: Sequence[Points], thickness_px: int
) -> list[Level]:
    """Return a picture at full size and ever halved, until its hole is no thicker than so many pixels."""
    levels = []
    for number in range(MOST_LEVELS):
        scaled = [guide / 2**number for guide in guides]
        levels.append(_level(picture, hole, is_taken, scaled))
        if 2 * levels[-1].depth.max() <= thickness_px or min(hole.shape) < 8 * HALF:
            break
        picture, hole, is_taken = _halved(picture, hole, is_taken)
    return levels


def _level(picture: Picture, hole: Mask, is_taken: Mask, guides: Sequence[Points]) -> Level:
    def widened(array: NDArray[np.generic], border: int, value: float = 0.0) -> NDArray[np.generic]:
        return cv2.copyMakeBorder(array, HALF, HALF, HALF, HALF, border, value=value)

    height, width = hole.shape
    distances = [_distance_to(guide, width, height) for guide in guides]
    wide = widened(hole.view(np.uint8), cv2.BORDER_REPLICATE).astype(bool)
    side = np.ones((2 * HALF + 1, 2 * HALF + 1), np.uint8)
    whole = cv2.erode(np.pad((is_taken & ~hole).view(np.uint8), HALF), side).astype(bool)
    touching = cv2.dilate(wide.view(np.uint8), side).astype(bool)
    touching[:HALF], touching[-HALF:], touching[:, :HALF], touching[:, -HALF:] = False, False, False, False
    inside = cv2.distanceTransform(np.pad(hole.view(np.uint8), 1, mode="edge"), cv2.DIST_L2, 5)[1:-1, 1:-1]
    return Level(
        picture=widened(picture, cv2.BORDER_REPLICATE),  # type: ignore[arg-type]
        hole=wide,
        is_source=whole,
        places=np.argwhere(touching).astype(np.int32),
        depth=widened(inside, cv2.BORDER_REPLICATE),  # type: ignore[arg-type]
        guides=widened(np.dstack(distances), cv2.BORDER_REPLICATE).reshape(*wide.shape, -1)  # type: ignore[arg-type]
        if distances
        else np.zeros((*wide.shape, 0), np.float32),
    )


def _halved(picture: Picture, hole: Mask, is_taken: Mask) -> tuple[Picture, Mask, Mask]:
    """Return means of what is known of each four pixels; where half of them are not, the hole goes on."""
    height, width = hole.shape
    size = (width + 1) // 2, (height + 1) // 2

    def smaller(array: NDArray[np.generic]) -> Picture:
        even = cv2.copyMakeBorder(array, 0, height % 2, 0, width % 2, cv2.BORDER_REPLICATE)
        return cv2.resize(even, size, interpolation=cv2.INTER_AREA)

    known = (~hole).astype(np.float32)
    share = smaller(known)
    mean = smaller(picture * known[..., None]) / np.maximum(share, 1e-6)[..., None]
    return mean.astype(np.float32), share < 0.5, (smaller(is_taken.astype(np.float32)) > 0.99)


def _distance_to(line: Points, width: int, height: int) -> Picture:
    """Return the signed distance of each pixel (h, w) to a line that goes on straight beyond its ends, in shares of how
    far that counts.
    """
    far = 4.0 * (width + height)
    ends = [line[0] - _unit(line[1] - line[0]) * far, line[-1] + _unit(line[-1] - line[-2]) * far]
    points = np.vstack([ends[0], line, ends[1]])
    x, y = np.meshgrid(np.arange(width) + 0.5, np.arange(height) + 0.5)
    least, signed = np.full((height, width), np.inf), np.zeros((height, width))
    for first, second in pairwise(points):
        along = second - first
        length = max(float(along @ along), 1e-9)
        share = np.clip(((x - first[0]) * along[0] + (y - first[1]) * along[1]) / length, 0, 1)
        off_x, off_y = x - first[0] - share * along[0], y - first[1] - share * along[1]
        apart = np.hypot(off_x, off_y)
        side = np.sign(along[0] * (y - first[1]) - along[1] * (x - first[0]))
        nearer = apart < least
        least[nearer], signed[nearer] = apart[nearer], (side * apart)[nearer]
    reach = np.clip(signed / GUIDE_REACH_PX, -1, 1)
    return np.asarray(reach * GUIDE_SHARE, np.float32)


def _unit(vector: Points) -> Points:
    return vector / max(float(np.hypot(*vector)), 1e-9)
