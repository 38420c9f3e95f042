"""Large motion and loss: a start for the alignment from matched features."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.geometry import Matrix, Points
from gommage.core.picture import Picture

__all__ = ["Features", "features_of", "start_from_features", "start_from_neighbour"]

HALVED_FROM_PX = 480
Keypoints = tuple[Points, NDArray[np.float32]]


class Features:
    """Features of the home frame inside the area: (N, 2) positions and their descriptors."""

    def __init__(self, positions: Points, descriptors: NDArray[np.float32] | None) -> None:
        self.positions = positions
        self.descriptors = descriptors


def _eight_bit(luminance: Picture) -> NDArray[np.uint8]:
    """Return luminance as 8 bit with its own range, since feature finders want that."""
    top = max(float(np.percentile(luminance[::4, ::4], 99.5)), 1e-6)
    return (np.sqrt(np.clip(luminance / top, 0, 1)) * 255).astype(np.uint8)


def features_of(luminance: Picture, area: Points | None = None) -> Features:
    """Return the features of a frame, inside an outline if one is given.

    They are found at half the size of a large picture: the alignment that they start needs them to some pixels.

    References
    ----------
    D. Lowe, Distinctive Image Features from Scale-Invariant Keypoints, IJCV 60(2), 2004.
    """
    factor = 2 if min(luminance.shape) >= HALVED_FROM_PX else 1
    if factor > 1:
        luminance = cv2.resize(luminance, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA)
    mask = None
    if area is not None:
        mask = np.zeros(luminance.shape, np.uint8)
        cv2.fillPoly(mask, [np.round(area / factor).astype(np.int32)], 255)
    points, descriptors = cv2.SIFT.create(nfeatures=1500, contrastThreshold=0.02).detectAndCompute(
        _eight_bit(luminance), mask
    )
    return Features((np.array([p.pt for p in points]).reshape(-1, 2) + 0.5) * factor, descriptors)


def start_from_features(home: Features, frame: Features) -> Matrix | None:
    """Return a home_to_frame that most matching features agree on, or None.

    References
    ----------
    D. Barath et al., MAGSAC++, a fast, reliable and accurate robust estimator, CVPR 2020.
    """
    if home.descriptors is None or frame.descriptors is None or len(frame.positions) < 8 or len(home.positions) < 8:
        return None
    matches = cv2.BFMatcher(cv2.NORM_L2).knnMatch(home.descriptors, frame.descriptors, k=2)
    good = [pair[0] for pair in matches if len(pair) == 2 and pair[0].distance < 0.78 * pair[1].distance]
    if len(good) < 8:
        return None
    source = home.positions[[match.queryIdx for match in good]]
    target = frame.positions[[match.trainIdx for match in good]]
    return _agreed(source, target, 8)


def start_from_neighbour(
    neighbour: Picture, frame: Picture, neighbour_area: Points, home_to_neighbour: Matrix
) -> Matrix | None:
    """Return a home_to_frame by following corners from a neighbouring frame, or None.

    Parameters
    ----------
    neighbour, frame : (H, W) float32
        Luminance.
    neighbour_area : (N, 2) float64
        The area's outline on the neighbour.
    """
    mask = np.zeros(neighbour.shape, np.uint8)
    cv2.fillPoly(mask, [np.round(neighbour_area).astype(np.int32)], 255)
    before, after = _eight_bit(neighbour), _eight_bit(frame)
    corners = cv2.goodFeaturesToTrack(before, 300, 0.01, 6, mask=mask)
    if corners is None or len(corners) < 6:
        return None
    found, ok, _ = cv2.calcOpticalFlowPyrLK(before, after, corners, None, winSize=(21, 21), maxLevel=5)
    back, back_ok, _ = cv2.calcOpticalFlowPyrLK(after, before, found, None, winSize=(21, 21), maxLevel=5)
    kept = (ok[:, 0] > 0) & (back_ok[:, 0] > 0) & (np.abs(back - corners).max(axis=(1, 2)) < 1.0)
    if kept.sum() < 6:
        return None
    step, _ = cv2.estimateAffine2D(corners[kept, 0], found[kept, 0], ransacReprojThreshold=2.0)
    if step is None:
        return None
    shift = np.vstack([step, [0, 0, 1.0]])
    # the library's integer centres cancel but for the linear part
    half = np.array([0.5, 0.5])
    shift[:2, 2] += half - shift[:2, :2] @ half
    return shift @ home_to_neighbour


def _agreed(source: Points, target: Points, least: int) -> Matrix | None:
    matrix, inliers = cv2.findHomography(source, target, cv2.USAC_MAGSAC, 3.0, confidence=0.999, maxIters=3000)
    if matrix is None or inliers is None or int(inliers.sum()) < least or not np.isfinite(matrix).all():
        return None
    return matrix / matrix[2, 2]
