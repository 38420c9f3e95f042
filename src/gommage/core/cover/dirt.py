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
BORDER_PX = 3
"""So near to the border of its neighbours nothing is told."""
SPREAD_BLOCK_PX, DIFFERENCE_TO_SPREAD = 64, 1.4826 / 2**0.5
GROWN_SHARE, LEAST_AREA_PX, RIM_PX = 0.45, 4, 2.0
"""What stands out by that share of what the middle of it must belongs to it; so much is covered around it."""
MOST_AREA_SHARE, SEED = 0.02, 2
"""Larger pieces are no dirt: a cut, a flash."""


@dataclass(frozen=True, slots=True, eq=False)
class DirtFrame:
    """A frame made ready: its luma (h, w) as the eye sees it, the least and the most around each place, how far its
    grain spreads in blocks of it, and a small picture of it by which motion is found.
    """

    luma: Picture
    low: Picture
    high: Picture
    spread: Picture
    small: NDArray[np.uint8]


def seen_luma(picture: Picture, into: Picture | None = None) -> Picture:
    """Return the luma (h, w) of a scene-linear picture about as the eye sees it: the root of what is linear."""
    from gommage.core.cover.dirt_kernels import rooted_luma  # compiled code is loaded late

    out = np.empty(picture.shape[:2], np.float32) if into is None else into
    rooted_luma(np.ascontiguousarray(picture), out)
    return out


def dirt_frame(picture: Picture, instead: DirtFrame | None = None) -> DirtFrame:
    """Return a frame (h, w, 3), scene-linear, made ready to be compared with its neighbours.

    Given one as large that is of no more use its memory is taken: asking for new costs as much time as filling it.
    """
    from gommage.core.cover.dirt_kernels import ready  # compiled code is loaded late

    if instead is None:
        low, high, luma = np.empty((3, *picture.shape[:2]), np.float32)
    else:
        low, high, luma = instead.low, instead.high, instead.luma
    seen_luma(picture, luma)
    fine = np.empty([max(side // SPREAD_BLOCK_PX, 1) for side in luma.shape], np.float32)
    ready(luma, low, high, fine)
    spread = 1.3 * np.maximum(fine, 0.25 * float(np.median(fine)) + 1e-5)  # what stands out itself is little of a block
    scale = min(FLOW_SIDE_PX / luma.shape[1], 1.0)
    size = max(round(luma.shape[1] * scale), 16), max(round(luma.shape[0] * scale), 16)
    small = cv2.resize(luma, size, interpolation=cv2.INTER_AREA)
    seen = cv2.convertScaleAbs(small, alpha=255)
    return DirtFrame(luma, low, high, spread, seen)


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
    from gommage.core.cover.dirt_kernels import HUNDREDTHS, standing_out  # compiled code is loaded late

    beside = [other for other in (before, after) if other is not None]
    if not beside:
        return []
    (one, flow), (other, back) = ((two, _motion(here, two)) for two in (beside[0], beside[-1]))
    moved = [_moved_spread(here, one, flow), _moved_spread(here, other, back)]
    spread = np.maximum(here.spread, np.minimum(*moved)) * (1.0 if len(beside) > 1 else 2.0)
    spread = cv2.resize(spread, flow.shape[1::-1])
    clear, levels = np.empty(here.luma.shape, np.uint16), np.empty(here.luma.shape, np.uint8)
    if not standing_out(here.luma, one.low, one.high, flow, other.low, other.high, back,
                        spread, GROWN_SHARE * least, least, BORDER_PX, clear, levels):  # fmt: skip
        return []
    seeds = np.flatnonzero(levels == SEED)
    count, labels, boxes, _ = cv2.connectedComponentsWithStats(cv2.morphologyEx(levels, cv2.MORPH_CLOSE, _disc(2)))
    strongest = np.zeros(count, np.float32)
    np.maximum.at(strongest, labels.ravel()[seeds], clear.ravel()[seeds] / np.float32(HUNDREDTHS))
    found = []
    for number in np.flatnonzero(strongest[1:]) + 1:
        left, top, width, height, area = boxes[number].tolist()
        if area < LEAST_AREA_PX or area > MOST_AREA_SHARE * clear.size:
            continue
        outline = _outline_of(labels[top : top + height, left : left + width] == number, (left, top))
        is_long = max(width, height) > 3 * area / max(width, height)
        found.append((outline, float(strongest[number]), "hair" if is_long and max(width, height) > 16 else "speck"))
    return found


def _motion(here: DirtFrame, other: DirtFrame) -> NDArray[np.intp]:
    """Return where what a frame shows is on another: so many whole pixels to the right and down, (h, w, 2), of blocks
    of some pixels each.
    """
    dis = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_ULTRAFAST)
    flow = dis.calc(here.small, other.small, None)
    even = np.dstack([cv2.medianBlur(np.ascontiguousarray(flow[..., k]), 5) for k in range(2)])
    even = cv2.blur(even, (FLOW_EVEN_PX, FLOW_EVEN_PX))[2::4, 2::4]
    scale = np.array([here.luma.shape[k] / here.small.shape[k] for k in (1, 0)], np.float32)
    return np.floor(even * scale + 0.5).astype(np.intp)


def _moved_spread(here: DirtFrame, other: DirtFrame, flow: NDArray[np.intp]) -> Picture:
    """Return how far grain spreads in blocks of a frame, by what it differs from another: coarse grain, that of scans
    and of what is compressed, is not told by neighbouring pixels, and things that move on their own way differ as well.
    """
    from gommage.core.cover.dirt_kernels import differences

    found = np.empty_like(here.spread)
    differences(here.luma, other.luma, flow, found)
    return DIFFERENCE_TO_SPREAD * found


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
