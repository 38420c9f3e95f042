"""Marks of one look, found from one example: by its colours and by its edges together."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.geometry import Points
from gommage.core.picture import Picture, encoded

__all__ = ["LOOKS", "Example", "Look", "marks_on"]

Look = tuple[float, float]
TURNS_DEG, SCALES = (0.0, -12.0, 12.0, -24.0, 24.0, -36.0, 36.0), (1.0, 0.8, 1.25)
LOOKS: tuple[Look, ...] = tuple((by, turn) for turn in TURNS_DEG for by in SCALES)
"""Marks are looked for so much larger, turned by so many degrees."""
MARK_SIDE_PX = 24
"""Marks are looked for where they are about so large."""
LEAST_ALIKE, LEAST_CONTRAST = 0.4, 0.35
OUTLINE_SHARE, EDGE_BLUR_PX, FLATTEST, STEEP = 0.12, 1.0, 1e-5, 2.5
"""Edges are compared inside of an outline and so far beyond it, as a share of the mark, where brightness changes by so
many times what it does as a rule."""
APART = 0.8


@dataclass(frozen=True, slots=True, eq=False)
class Example:
    """A mark as it is seen on a frame.

    Attributes
    ----------
    picture : (h, w, 3) float32
        Scene-linear, with a little of what is around it.
    outline : (N, 2) float64
        What was drawn round it, in pixels of that.
    """

    picture: Picture
    outline: Points

    @property
    def size_px(self) -> float:
        """How large it is, across its lesser side."""
        return max(float(np.ptp(self.outline, axis=0).min()), 1.0)


def marks_on(
    picture: Picture, example: Example, looks: Sequence[Look] = LOOKS
) -> list[tuple[float, float, Look, float]]:
    """Return where a picture looks like an example: middle x, y, by how much larger and turned, and how alike, 0 to 1.

    Alike is the root of the product of two: how colours go together with those of the example, and how the directions
    do in which brightness changes in it, however much it does. By colours alone light paper before light clouds is like
    any cloud; by edges alone any corner is like any other.

    Parameters
    ----------
    picture : (h, w, 3) float32
        Scene-linear.
    example : Example
    looks : sequence of (float, float)
        By how much larger, and turned by how many degrees, it is looked for.

    References
    ----------
    C. Steger, Similarity Measures for Occlusion, Clutter, and Illumination Invariant Object Recognition, DAGM 2001,
    doi:10.1007/3-540-45404-7_20.
    """
    scale = min(MARK_SIDE_PX / example.size_px, 1.0)
    small, mark = _smaller(picture, scale), _smaller(example.picture, scale)
    colours, which = _best(_by_colours(small, mark, looks), small)
    edges, edges_which = _best(_by_edges(small, mark, _within(example, mark), looks), small)
    near = cv2.dilate(np.maximum(colours, 0), np.ones((3, 3), np.uint8))  # both need not peak on the very same pixel
    alike = np.sqrt(near * np.maximum(edges, 0))
    reach = round(APART * max(mark.shape[:2]))
    peaks = (alike == cv2.dilate(alike, np.ones((reach, reach), np.uint8))) & (alike > LEAST_ALIKE)
    found = []
    for row, column in np.argwhere(peaks):
        look = looks[edges_which[row, column]]
        contrasts = (_contrast(small, _as_seen(mark, *one), row, column) for one in {look, looks[which[row, column]]})
        if max(contrasts) < LEAST_CONTRAST:
            continue
        x, y = column + 0.5 + _peak(alike[row], column), row + 0.5 + _peak(alike[:, column], row)
        found.append((float(x / scale), float(y / scale), look, min(float(alike[row, column]), 1.0)))
    return sorted(found, key=lambda one: -one[3])


def _smaller(picture: Picture, scale: float) -> Picture:
    size = [max(round(one * scale), 1) for one in picture.shape[1::-1]]
    return cv2.resize(encoded(picture), size, interpolation=cv2.INTER_AREA)


def _within(example: Example, mark: Picture) -> Picture:
    """Return where an example is itself, at the size of its smaller picture: (h, w), 0 to 1."""
    inside = np.zeros(example.picture.shape[:2], np.uint8)
    line = np.round(example.outline - 0.5).astype(np.int32)
    cv2.fillPoly(inside, [line], 255)
    cv2.polylines(inside, [line], True, 255, max(round(OUTLINE_SHARE * example.size_px), 3))
    return cv2.resize(inside, mark.shape[1::-1], interpolation=cv2.INTER_AREA).astype(np.float32) / np.float32(255)


def _best(ones: Iterator[tuple[int, Picture]], picture: Picture) -> tuple[Picture, NDArray[np.int32]]:
    """Return how alike each place of a picture is in that look in which it is most, and which that is."""
    size = picture.shape[:2]
    best, which = np.full(size, -1.0, np.float32), np.zeros(size, np.int32)
    for number, alike in ones:
        top, left = ((whole - part + 1) // 2 for whole, part in zip(size, alike.shape, strict=True))
        place = slice(top, top + alike.shape[0]), slice(left, left + alike.shape[1])
        better = np.isfinite(alike) & (alike > best[place])
        best[place][better] = alike[better]
        which[place][better] = number
    return best, which


def _by_colours(picture: Picture, mark: Picture, looks: Sequence[Look]) -> Iterator[tuple[int, Picture]]:
    """Yield by numbers of looks how colours go together with those of a mark."""
    for number, look in enumerate(looks):
        one = _as_seen(mark, *look)
        if one.shape[0] <= picture.shape[0] and one.shape[1] <= picture.shape[1]:
            yield number, cv2.matchTemplate(picture, one, cv2.TM_CCOEFF_NORMED)


def _by_edges(picture: Picture, mark: Picture, inside: Picture, looks: Sequence[Look]) -> Iterator[tuple[int, Picture]]:
    """Yield by numbers of looks how directions of brightness go together with those inside a mark."""
    ways = _slopes(picture)
    steep = np.hypot(*ways)
    calm = np.float32(np.median(steep) + FLATTEST)
    across, down = (np.ascontiguousarray(way / (steep + calm)) for way in ways)
    for number, look in enumerate(looks):
        own, weight = _slopes(_as_seen(mark, *look)), _as_seen(inside, *look)
        size = np.hypot(*own)
        weight = np.where(size > STEEP * calm, weight / (size + calm), np.float32(0))
        x, y = (way * weight for way in own)
        total = float((x * x + y * y).sum())
        if total <= 0 or x.shape[0] > picture.shape[0] or x.shape[1] > picture.shape[1]:
            continue
        found = cv2.matchTemplate(across, x, cv2.TM_CCORR) + cv2.matchTemplate(down, y, cv2.TM_CCORR)
        yield number, found / np.float32(total)


def _slopes(picture: Picture) -> tuple[Picture, Picture]:
    """Return how brightness changes across and down, (h, w) each."""
    grey = cv2.GaussianBlur(picture.mean(axis=2), (0, 0), EDGE_BLUR_PX)
    return cv2.Scharr(grey, cv2.CV_32F, 1, 0) / 32, cv2.Scharr(grey, cv2.CV_32F, 0, 1) / 32


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
