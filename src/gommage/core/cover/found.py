"""Things that find themselves: dirt of single frames, marks of one look."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.document import MattePart
from gommage.core.geometry import Points
from gommage.core.picture import Picture, encoded, luminance

__all__ = ["LOOKS", "Found", "Look", "dirt_on", "marks_on"]

Mask = NDArray[np.bool_]
FLOW_SCALE, FLOW_EVEN_PX = 0.5, 9
"""Motion is found at half size, and evened out by a median: what is on one frame alone has none."""
NEAR_PX, BORDER_PX = 1, 3
"""What neighbours show so far around counts as shown there."""
SPREAD_BLOCK_PX = 64
GROWN_SHARE, LEAST_AREA_PX, RIM_PX = 0.45, 4, 2.0
"""What stands out by that share of what the middle of it must belongs to it; so much is covered around it."""
MOST_AREA_SHARE = 0.02
"""Larger pieces are no dirt: a cut, a flash."""
Look = tuple[float, float]
TURNS_DEG, SCALES = (0.0, -12.0, 12.0, -24.0, 24.0, -36.0, 36.0), (1.0, 0.8, 1.25)
LOOKS: tuple[Look, ...] = tuple((by, turn) for turn in TURNS_DEG for by in SCALES)
"""Marks are looked for so much larger, turned by so many degrees."""
MARK_SIDE_PX = 24
"""Marks are looked for where they are about so large."""
LEAST_ALIKE, LEAST_CONTRAST, MOST_CONTRAST = 0.45, 0.5, 2.0


@dataclass(frozen=True, slots=True, eq=False)
class Found:
    """Something that was found.

    Attributes
    ----------
    keys : tuple of (int, (N, 2) float64)
        Its outline on frames, in pixels of what it rides on; between them it goes from one to the next.
    score : float
        How clearly: dirt in spreads of the grain, marks in hundredths of a likeness.
    words : str
        What it is.
    surface_id : str
        What it rides on; empty: the pixels of the frame.
    is_lasting : bool
        Whether it is there on all frames; otherwise from its first key to its last.
    part : MattePart or None
        What covers it, if that is more than an outline.
    """

    keys: tuple[tuple[int, Points], ...]
    score: float
    words: str
    surface_id: str = ""
    is_lasting: bool = False
    part: MattePart | None = None

    @property
    def frame(self) -> int:
        """The frame on which it is listed."""
        return self.keys[0][0]

    def is_on(self, frame: int) -> bool:
        """Return whether it is there on a frame."""
        return self.is_lasting or self.keys[0][0] <= frame <= self.keys[-1][0]

    def outline_on(self, frame: int) -> Points:
        """Return its outline on a frame."""
        return min(self.keys, key=lambda key: abs(key[0] - frame))[1]


# -- dirt ---------------------------------------------------------------------------------------------------


def encoded_luma(picture: Picture) -> Picture:
    """Return the luma (h, w) of a scene-linear picture as the eye would see it."""
    return encoded(np.ascontiguousarray(luminance(picture)))


def dirt_on(
    before: Picture | None, here: Picture, after: Picture | None, least: float
) -> list[tuple[Points, float, str]]:
    """Return what is on a frame alone: outlines (N, 2), by how many spreads of the grain they stand out, and words.

    A pixel stands out by as much as it lies outside of all that both neighbours, brought along the motion, show around
    its place. M. Nadenau, S. Mitra, Blotch and scratch detection in image sequences based on rank ordered differences,
    1997, doi:10.1007/978-1-4471-0923-1_3.

    Parameters
    ----------
    before, here, after : (h, w) float32
        Encoded luma; of a first or last frame one neighbour is None, and what stands out counts half.
    least : float
    """
    beside = [_range_of(here, other) for other in (before, after) if other is not None]
    if not beside:
        return []
    low = np.minimum.reduce([one[0] for one in beside])
    high = np.maximum.reduce([one[1] for one in beside])
    out = np.asarray(np.maximum(here - high, 0) - np.maximum(low - here, 0), np.float32)
    out = cv2.GaussianBlur(out, (3, 3), 0.7)
    spread = _spread_of(here)
    clear = np.abs(out) / spread * (1.0 if len(beside) > 1 else 0.5)
    seeds, wide = clear > least, (clear > GROWN_SHARE * least).view(np.uint8)
    count, labels, boxes, _ = cv2.connectedComponentsWithStats(cv2.morphologyEx(wide, cv2.MORPH_CLOSE, _disc(2)))
    strongest = np.zeros(count, np.float32)
    np.maximum.at(strongest, labels[seeds], clear[seeds])
    found = []
    for number in np.flatnonzero(strongest[1:]) + 1:
        left, top, width, height, area = boxes[number].tolist()
        if area < LEAST_AREA_PX or area > MOST_AREA_SHARE * here.size:
            continue
        outline = _outline_of(labels[top : top + height, left : left + width] == number, (left, top))
        is_long = max(width, height) > 3 * area / max(width, height)
        found.append((outline, float(strongest[number]), "hair" if is_long and max(width, height) > 16 else "speck"))
    return found


def _range_of(here: Picture, other: Picture) -> tuple[Picture, Picture]:
    """Return the least and the most that a neighbour shows around each place, brought along the motion."""
    size = tuple(round(one * FLOW_SCALE) for one in (here.shape[1], here.shape[0]))
    small = [_bytes_of(cv2.resize(one, size, interpolation=cv2.INTER_AREA)) for one in (here, other)]
    dis = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_ULTRAFAST)
    flow = dis.calc(small[0], small[1], None)
    even = np.dstack([cv2.medianBlur(np.ascontiguousarray(flow[..., k]), 5) for k in range(2)])
    even = cv2.blur(even, (FLOW_EVEN_PX, FLOW_EVEN_PX)) / np.float32(FLOW_SCALE)
    even = cv2.resize(even, (here.shape[1], here.shape[0]), interpolation=cv2.INTER_LINEAR)
    x, y = np.meshgrid(np.arange(here.shape[1], dtype=np.float32), np.arange(here.shape[0], dtype=np.float32))
    brought = cv2.remap(other, x + even[..., 0], y + even[..., 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    brought = cv2.GaussianBlur(brought, (3, 3), 0.7)
    side = np.ones((2 * NEAR_PX + 1, 2 * NEAR_PX + 1), np.uint8)
    low, high = cv2.erode(brought, side), cv2.dilate(brought, side)
    there_x, there_y = x + even[..., 0], y + even[..., 1]
    height, width = other.shape
    # What comes into the picture, or leaves it, is on no neighbour either, and no dirt.
    away = (
        (there_x < BORDER_PX) | (there_y < BORDER_PX) | (there_x > width - BORDER_PX) | (there_y > height - BORDER_PX)
    )
    low[away], high[away] = -np.inf, np.inf
    return low, high


def _bytes_of(picture: Picture) -> NDArray[np.uint8]:
    return np.clip(picture * 255, 0, 255).astype(np.uint8)


def _spread_of(picture: Picture) -> Picture:
    """Return how far grain spreads around each place, from differences of neighbouring pixels: (h, w)."""
    fine = np.abs(picture - cv2.blur(picture, (3, 3)))
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


# -- marks --------------------------------------------------------------------------------------------------


def marks_on(
    picture: Picture, example: Picture, size_wh: tuple[float, float], looks: Sequence[Look] = LOOKS
) -> list[tuple[float, float, Look, float]]:
    """Return where a picture looks like an example: middle x, y, by how much larger and turned, and how alike, 0 to 1.

    Parameters
    ----------
    picture, example : (h, w, 3) float32
        Scene-linear; the example with a little of what is around it.
    size_wh : tuple of float
        Of the example, in pixels.
    looks : sequence of (float, float)
        By how much larger, and turned by how many degrees, it is looked for.
    """
    scale = min(MARK_SIDE_PX / max(min(size_wh), 1.0), 1.0)
    small, mark = (
        cv2.resize(encoded(one), None, fx=scale, fy=scale, interpolation=cv2.INTER_AREA) for one in (picture, example)
    )
    best = np.full(small.shape[:2], -1.0, np.float32)
    which = np.zeros(small.shape[:2], np.int32)
    for number, (by, turn) in enumerate(looks):
        one = _as_seen(mark, by, turn)
        high, wide = one.shape[:2]
        if high > small.shape[0] or wide > small.shape[1]:
            continue
        alike = cv2.matchTemplate(small, one, cv2.TM_CCOEFF_NORMED)
        top, left = high // 2, wide // 2
        part = best[top : top + alike.shape[0], left : left + alike.shape[1]]
        better = np.isfinite(alike) & (alike > part)
        part[better] = alike[better]
        which[top : top + alike.shape[0], left : left + alike.shape[1]][better] = number
    reach = round(0.8 * max(mark.shape[:2]))
    peaks = (best == cv2.dilate(best, np.ones((reach, reach), np.uint8))) & (best > LEAST_ALIKE)
    found = []
    for row, column in np.argwhere(peaks):
        if (
            not LEAST_CONTRAST
            < _contrast(small, _as_seen(mark, *looks[which[row, column]]), row, column)
            < MOST_CONTRAST
        ):
            continue
        x, y = column + 0.5 + _peak(best[row], column), row + 0.5 + _peak(best[:, column], row)
        found.append((float(x / scale), float(y / scale), looks[which[row, column]], float(best[row, column])))
    return sorted(found, key=lambda one: -one[3])


def _contrast(picture: Picture, mark: Picture, row: int, column: int) -> float:
    """Return how much of a mark's contrast a picture has at a place, as far as it has its look."""
    high, wide = mark.shape[:2]
    top, left = row - high // 2, column - wide // 2
    there = picture[max(top, 0) : top + high, max(left, 0) : left + wide]
    if there.shape != mark.shape:
        return 0.0
    own, other = (one - one.mean(axis=(0, 1)) for one in (mark, there))
    return float((own * other).sum() / max(float((own * own).sum()), 1e-9))


def _as_seen(mark: Picture, by: float, turn_deg: float) -> Picture:
    """Return an example larger and turned; what comes in at its corners goes on as its rim."""
    high, wide = mark.shape[:2]
    if turn_deg:
        matrix = cv2.getRotationMatrix2D(((wide - 1) / 2, (high - 1) / 2), -turn_deg, 1.0)
        mark = cv2.warpAffine(mark, matrix, (wide, high), flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    return cv2.resize(mark, None, fx=by, fy=by, interpolation=cv2.INTER_AREA if by < 1 else cv2.INTER_LINEAR)


def _peak(values: NDArray[np.floating], at: int) -> float:
    """Return how far beside the largest value a curve is largest."""
    if not 0 < at < len(values) - 1:
        return 0.0
    before, here, after = (float(one) for one in values[at - 1 : at + 2])
    bent = before - 2 * here + after
    return float(np.clip(0.5 * (before - after) / bent, -0.5, 0.5)) if bent < 0 else 0.0
