"""Marks of one look, found from one example: by its colours and by its edges together."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.geometry import Points
from gommage.core.picture import Picture, encoded

__all__ = ["LINE_SIDE_PX", "LOOKS", "Example", "Look", "marks_by_lines", "marks_on"]

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
LINE_SIDE_PX, LINE_BLUR_PX, SEARCH_BLUR_PX, LINE_CLIP = 48, 0.8, 0.7, 6.0
"""By their lines marks are looked for where they are about so large; they stand out by so many spreads at most."""
CALM = 1.0
"""Of an example's lines what stands out by fewer spreads is none."""
LEAST_CLEAR, MOST_FOUND = 4.5, 40
"""What agrees with an example's lines by fewer spreads is chance; of the rest so many are told."""
FIT_STEPS, FITS, FIT_BLURS_PX, FIT_FARTHEST = (0.04, 0.04, 0.06, 0.09), 5, (4.0, 2.0, 1.0, 0.0), (0.15, 0.15, 0.25, 0.3)
"""By so much of its size a mark is moved to begin with, made larger (a logarithm) and turned (radians) to fit it; how
often these are halved, on lines so softened, one after the other; so far away it is another mark."""
SAME_HUE, LEAST_SHARE = 0.12, 0.2
"""Shares of red, green and blue that are no farther apart are those of one colour; so much of a mark must have it: the
rest may be hidden on most frames."""
LEAST_FITTED, BY_CHANCE = 6.0, 0.25
"""What agrees by fewer spreads is told as it was found, with how well lines go together by chance."""


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


def marks_by_lines(
    sheet: Picture, known: NDArray[np.bool_], example: Example, at: Points, check: Callable[[], None] = lambda: None
) -> list[tuple[Points, float]]:
    """Return where lines in a picture go together with those of an example: the outline there, and how clear that is;
    the clearest first, the example itself among them. Clear is by how many spreads more they do than by chance, times
    how well, 0 to 1, once the outline is laid exactly.

    Lines are what is lighter or darker than both sides: rims of tape, pen strokes. They tell white tape from white
    paper where colours do not, and need a picture without grain.

    Parameters
    ----------
    sheet : (h, w, 3) float32
        Scene-linear, without grain: a mean over frames. The example is about `LINE_SIDE_PX` large in it.
    known : (h, w) bool
        Where it shows anything.
    example : Example
        From the same picture.
    at : (2,) float64
        Where its left and top are.
    check : callable
        Called for each look and each place.
    """
    colours = encoded(sheet)
    lines = _lines(colours.mean(axis=2))
    inner = cv2.erode(known.view(np.uint8), np.ones((7, 7), np.uint8)).view(bool)
    spread = 1.4826 * float(np.median(np.abs(lines[inner]))) + 1e-9 if inner.any() else 1.0
    lines = np.where(inner, np.clip(lines / spread, -LINE_CLIP, LINE_CLIP), 0).astype(np.float32)
    own_colours = encoded(example.picture)
    mark = own_colours.mean(axis=2)
    inside = _within(example, example.picture)
    soft = cv2.GaussianBlur(lines, (0, 0), SEARCH_BLUR_PX)  # turns and sizes that lie between those that are tried
    clear, which = np.zeros(lines.shape, np.float32), np.zeros(lines.shape, np.int32)
    for number, look in enumerate(LOOKS):
        check()
        own = np.clip(_lines(_as_seen(mark, *look)) / spread, -LINE_CLIP, LINE_CLIP) * _as_seen(inside, *look)
        own = np.sign(own) * np.maximum(np.abs(own) - CALM, 0)  # what is around the example is of no account
        own = cv2.GaussianBlur(own, (0, 0), SEARCH_BLUR_PX)
        if own.shape[0] > lines.shape[0] or own.shape[1] > lines.shape[1]:
            continue
        alike = np.nan_to_num(cv2.matchTemplate(soft, own, cv2.TM_CCOEFF_NORMED), posinf=0.0, neginf=0.0)
        alike[np.abs(alike) > 1] = 0  # where nothing is known
        alike /= 1.4826 * float(np.median(np.abs(alike))) + 1e-9
        top, left = ((whole - part + 1) // 2 for whole, part in zip(lines.shape, alike.shape, strict=True))
        place = slice(top, top + alike.shape[0]), slice(left, left + alike.shape[1])
        better = alike > clear[place]
        clear[place][better], which[place][better] = alike[better], number
    reach = max(round(APART * float(np.ptp(example.outline, axis=0).max())), 3)
    peaks = np.argwhere((clear == cv2.dilate(clear, np.ones((reach, reach), np.uint8))) & (clear > LEAST_CLEAR))
    found = []
    middle = example.outline.mean(axis=0)
    softened = [cv2.GaussianBlur(lines, (0, 0), blur_px) if blur_px else lines for blur_px in FIT_BLURS_PX]
    for row, column in sorted(peaks.tolist(), key=lambda one: -clear[one[0], one[1]])[:MOST_FOUND]:
        check()
        by, turn_deg = LOOKS[which[row, column]]
        pose = np.array([column + 0.5, row + 0.5, np.log(by), np.deg2rad(turn_deg)])
        alike_there = BY_CHANCE
        if clear[row, column] >= LEAST_FITTED:
            pose, alike_there = _fitted(softened, at, middle, inside > 0.5, example.size_px, pose)
            alike_there *= _of_one_colour(colours, own_colours, inside > 0.5, _to_place(pose, middle))
        found.append((_posed(example.outline, pose), float(clear[row, column]) * alike_there))
    return sorted(found, key=lambda one: -one[1])


def _fitted(
    softened: Sequence[Picture],
    at: Points,
    middle: Points,
    inside: NDArray[np.bool_],
    size: float,
    begun: NDArray[np.float64],
) -> tuple[NDArray[np.float64], float]:
    """Return a pose of an example (where its middle is, x, y, how much larger, as a logarithm, and how turned) moved so
    that lines there, softened less and less, go together best with its own, and how well they do, -1 to 1.
    """
    high, wide = inside.shape
    left, top = (round(float(one)) for one in at)
    best, least = begun, 0.0
    for soft in softened:
        own = soft[top : top + high, left : left + wide][inside]
        own = (own - own.mean()) / max(float(own.std()) * np.sqrt(own.size), 1e-6)

        def unlike(pose: NDArray[np.float64], soft: Picture = soft, own: Picture = own) -> float:
            step = _to_place(pose, middle)
            there = cv2.warpAffine(soft, step, (wide, high), flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP)[inside]
            there = there - there.mean()
            return -float((own * there).sum() / (np.sqrt((there * there).sum()) + 1e-6))

        least, steps = unlike(best), np.array(FIT_STEPS) * (size, size, 1, 1)
        for _ in range(FITS):
            for k, sign in ((k, sign) for k in range(4) for sign in (-1, 1)):
                tried = best.copy()
                tried[k] += sign * steps[k]
                is_near = (np.abs(tried - begun) <= np.array(FIT_FARTHEST) * (size, size, 1, 1)).all()
                while is_near and (error := unlike(tried)) < least:
                    best, least, tried = tried, error, tried.copy()
                    tried[k] += sign * steps[k]
                    is_near = (np.abs(tried - begun) <= np.array(FIT_FARTHEST) * (size, size, 1, 1)).all()
            steps /= 2
    return best, -least


def _of_one_colour(
    colours: Picture, own: Picture, inside: NDArray[np.bool_], step: NDArray[np.float64]
) -> float:  # fmt: skip
    """Return whether what lies at a place, see `_to_place`, has the colour of a mark, 0 to 1, however light it is; as
    far as it is the mark's own and nothing in front of most of it.
    """
    there = cv2.warpAffine(colours, step, own.shape[1::-1], flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP)
    paper = np.median(own[~inside], axis=0) if (~inside).any() else own.mean(axis=(0, 1))
    unlike = np.linalg.norm(own - paper, axis=2)
    is_mark = inside & (unlike > 0.5 * float(unlike[inside].max()))
    hues = [one[is_mark] / np.maximum(one[is_mark].sum(axis=1, keepdims=True), 1e-3) for one in (there, own)]
    apart = np.linalg.norm(hues[0] - np.median(hues[1], axis=0), axis=1)
    return min(float((apart < SAME_HUE).mean()) / LEAST_SHARE, 1.0)


def _posed(outline: Points, pose: NDArray[np.float64]) -> Points:
    """Return an outline as it lies elsewhere."""
    return pose[:2] + (outline - outline.mean(axis=0)) @ _turned(pose).T


def _turned(pose: NDArray[np.float64]) -> NDArray[np.float64]:
    cos, sin = np.exp(pose[2]) * np.cos(pose[3]), np.exp(pose[2]) * np.sin(pose[3])
    return np.array([[cos, -sin], [sin, cos]])


def _to_place(pose: NDArray[np.float64], middle: Points) -> NDArray[np.float64]:
    """Return what takes pixels of an example to those of the picture in which it lies so, (2, 3)."""
    step = np.column_stack([_turned(pose), pose[:2] - _turned(pose) @ middle])
    step[:, 2] += step[:, :2] @ (0.5, 0.5) - 0.5
    return step


def _lines(grey: Picture) -> Picture:
    """Return by how much each place is darker than what is around it: (h, w)."""
    return cv2.Laplacian(cv2.GaussianBlur(grey, (0, 0), LINE_BLUR_PX), cv2.CV_32F)


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
