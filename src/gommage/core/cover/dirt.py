"""Dirt of single frames: dust, hairs and specks that neither neighbour shows."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.geometry import Points
from gommage.core.picture import Picture

__all__ = ["DirtFrame", "dirt_frame", "dirt_on", "seen_luma"]

Mask = NDArray[np.bool_]
FLOW_SIDE_PX, FLOW_EVEN_PX = 480, 9
"""Motion is found on a picture about so wide, and evened out by a median: what is on one frame alone has none."""
NEAR_PX, BORDER_PX = 1, 3
"""What neighbours show so far around counts as shown there."""
SOFT_PX = 0.7
SPREAD_BLOCK_PX = 64
GROWN_SHARE, LEAST_AREA_PX, RIM_PX = 0.45, 4, 2.0
"""What stands out by that share of what the middle of it must belongs to it; so much is covered around it."""
MOST_AREA_SHARE = 0.02
"""Larger pieces are no dirt: a cut, a flash."""


@dataclass(frozen=True, slots=True, eq=False)
class DirtFrame:
    """A frame made ready: its luma (h, w) as the eye sees it, the least and the most around each place, and a small
    picture of it by which motion is found.
    """

    luma: Picture
    low: Picture
    high: Picture
    small: NDArray[np.uint8]


def seen_luma(picture: Picture) -> Picture:
    """Return the luma (h, w) of a scene-linear picture about as the eye sees it: the root of what is linear."""
    from gommage.core.cover.kernels import rooted_luma  # compiled code is loaded late

    out = np.empty(picture.shape[:2], np.float32)
    rooted_luma(np.ascontiguousarray(picture), out)
    return out


def dirt_frame(picture: Picture) -> DirtFrame:
    """Return a frame (h, w, 3), scene-linear, made ready to be compared with its neighbours."""
    luma = seen_luma(picture)
    soft = cv2.GaussianBlur(luma, (3, 3), SOFT_PX)
    side = np.ones((2 * NEAR_PX + 1, 2 * NEAR_PX + 1), np.uint8)
    scale = min(FLOW_SIDE_PX / luma.shape[1], 1.0)
    size = max(round(luma.shape[1] * scale), 16), max(round(luma.shape[0] * scale), 16)
    small = cv2.resize(luma, size, interpolation=cv2.INTER_AREA)
    seen = cv2.convertScaleAbs(small, alpha=255)
    return DirtFrame(luma, cv2.erode(soft, side), cv2.dilate(soft, side), seen)


def dirt_on(
    before: DirtFrame | None, here: DirtFrame, after: DirtFrame | None, least: float
) -> list[tuple[Points, float, str]]:
    """Return what is on a frame alone: outlines (N, 2), by how many spreads of the grain they stand out, and words.

    A pixel stands out by as much as it lies outside of all that both neighbours, brought along the motion, show around
    its place. M. Nadenau, S. Mitra, Blotch and scratch detection in image sequences based on rank ordered differences,
    1997, doi:10.1007/978-1-4471-0923-1_3.

    Parameters
    ----------
    before, here, after : DirtFrame
        The frame and its neighbours; of those that there are not None. With one alone it must stand out twice as much.
    least : float
    """
    from gommage.core.cover.kernels import standing_out

    beside = [other for other in (before, after) if other is not None]
    if not beside:
        return []
    (one, flow), (other, back) = ((two, _motion(here, two)) for two in (beside[0], beside[-1]))
    out = np.empty_like(here.luma)
    standing_out(here.luma, one.low, one.high, flow, other.low, other.high, back, BORDER_PX, out)
    out = cv2.GaussianBlur(out, (3, 3), SOFT_PX)
    clear = cv2.divide(np.abs(out, out=out), _spread_of(here.luma), scale=1.0 if len(beside) > 1 else 0.5)
    seeds = np.flatnonzero(cv2.compare(clear, least, cv2.CMP_GT))
    if not len(seeds):
        return []
    wide = cv2.compare(clear, GROWN_SHARE * least, cv2.CMP_GT)
    count, labels, boxes, _ = cv2.connectedComponentsWithStats(cv2.morphologyEx(wide, cv2.MORPH_CLOSE, _disc(2)))
    strongest = np.zeros(count, np.float32)
    np.maximum.at(strongest, labels.ravel()[seeds], clear.ravel()[seeds])
    found = []
    for number in np.flatnonzero(strongest[1:]) + 1:
        left, top, width, height, area = boxes[number].tolist()
        if area < LEAST_AREA_PX or area > MOST_AREA_SHARE * out.size:
            continue
        outline = _outline_of(labels[top : top + height, left : left + width] == number, (left, top))
        is_long = max(width, height) > 3 * area / max(width, height)
        found.append((outline, float(strongest[number]), "hair" if is_long and max(width, height) > 16 else "speck"))
    return found


def _motion(here: DirtFrame, other: DirtFrame) -> Picture:
    """Return where what a frame shows is on another: so many of its own pixels to the right and down, (h, w, 2), of
    blocks of some pixels each.
    """
    dis = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_ULTRAFAST)
    flow = dis.calc(here.small, other.small, None)
    even = np.dstack([cv2.medianBlur(np.ascontiguousarray(flow[..., k]), 5) for k in range(2)])
    even = cv2.blur(even, (FLOW_EVEN_PX, FLOW_EVEN_PX))[1::2, 1::2]
    scale = np.array([here.luma.shape[k] / here.small.shape[k] for k in (1, 0)], np.float32)
    return np.ascontiguousarray(even * scale)


def _spread_of(picture: Picture) -> Picture:
    """Return how far grain spreads around each place, from differences of neighbouring pixels: (h, w)."""
    fine = cv2.absdiff(picture, cv2.blur(picture, (3, 3)))
    height, width = picture.shape
    blocks = max(width // SPREAD_BLOCK_PX, 1), max(height // SPREAD_BLOCK_PX, 1)
    told = cv2.resize(fine, blocks, interpolation=cv2.INTER_AREA)  # what stands out itself is little of a block
    told = 1.3 * np.maximum(told, 0.25 * float(np.median(told)) + 1e-5)
    return cv2.resize(told, (width, height), interpolation=cv2.INTER_LINEAR)


def _disc(radius: int) -> NDArray[np.uint8]:
    return cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * radius + 1, 2 * radius + 1))


def _outline_of(mask: Mask, at: tuple[int, int]) -> Points:
    """Return a line around a mask and a rim around it, simple enough for a hand to change: (N, 2)."""
    pad = int(np.ceil(RIM_PX)) + 2
    grown = cv2.dilate(np.pad(mask.view(np.uint8), pad), _disc(round(RIM_PX)))
    lines, _ = cv2.findContours(grown, cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_NONE)
    line = max(lines, key=cv2.contourArea)
    simple = cv2.approxPolyDP(line, 0.7, closed=True)[:, 0].astype(np.float64)
    if len(simple) < 3:
        left, top, width, height = cv2.boundingRect(line)
        simple = np.array([[left, top], [left + width, top], [left + width, top + height], [left, top + height]], float)
    return simple + 0.5 + np.array(at) - pad
