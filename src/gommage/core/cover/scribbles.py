"""Mattes from scribbles: a few strokes inside a thing and outside it, cut on one frame, carried to the next."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.geometry import Points
from gommage.core.picture import Picture

__all__ = ["Carried", "Mark", "carried", "corrected", "cut", "softened"]

LARGEST_SIDE = 960
"""At most so large a picture is cut; its edge is found finely afterwards."""
STROKE_PX = 5
"""So broad a scribble is, in pixels that are cut."""
CUT_ROUNDS, BAND_ROUNDS = 3, 1
COLOUR_WEIGHT = 40.0
"""By how many pixels of way a step of the whole range of colour counts."""
FREEZE_SHARE = 0.14
"""A correction changes nothing farther from it than this share of the picture's width."""
SPLIT_BAND_PX = 32
"""So far to both sides of where the ways to both kinds of scribbles are equal the first cut may move the edge."""
BAND_PX = 8
"""So far to both sides of a carried edge it is cut anew, in pixels that are cut."""
LOST_PX, NOWHERE_PX = 40, 1.5
"""So far from a carried edge what was nowhere a frame ago may be either; and by so much there and back may miss."""
EDGE_RADIUS, EDGE_EPSILON = 6, 1e-4
"""Of the guided filter that finds the soft edge."""
Check = Callable[[], None]
Bytes = NDArray[np.uint8]


def _never() -> None:
    """Call nothing off."""


@dataclass(frozen=True, slots=True)
class Mark:
    """A scribble: points (N, 2) in pixels of the picture, inside the thing or outside it."""

    points: Points
    is_inside: bool


@dataclass(frozen=True, slots=True)
class Carried:
    """A matte on the next frame: pixels (H, W) float32, and how far its edge was moved by what the frame shows.

    `drift` is the share of the band around the edge in which carrying and cutting disagree, 0 to 1.
    """

    pixels: Picture
    drift: float


def cut(picture: Picture, marks: Sequence[Mark], check: Check = _never) -> Picture:
    """Return what scribbles on one frame say is inside.

    Parameters
    ----------
    picture : (H, W, 3) float32
        Scene-linear.
    marks : sequence of Mark
        In the order in which they were drawn: those after the first inside and the first outside are corrections.
    check : callable

    Returns
    -------
    (H, W) float32, 0 to 1; nothing before there is a scribble of either kind

    Notes
    -----
    Colour models are not taken from the strokes, which hold few colours, but from the split of the picture by its
    geodesic distances to both sets of strokes; a graph cut with these models follows, of which those pieces are kept
    that hold a stroke. A correction leaves alone what lies far from it.

    References
    ----------
    A. Criminisi, T. Sharp, A. Blake, GeoS: geodesic image segmentation, ECCV 2008, doi:10.1007/978-3-540-88682-2_9.
    C. Rother, V. Kolmogorov, A. Blake, "GrabCut", ACM TOG 23(3), 2004, doi:10.1145/1015706.1015720.
    K. He, J. Sun, X. Tang, Guided image filtering, IEEE TPAMI 35(6), 2013, doi:10.1109/TPAMI.2012.213.
    """
    small, scale = _small(picture)
    first = _first_of_both(marks)
    if first is None:
        return np.zeros(picture.shape[:2], np.float32)
    known = _strokes(marks[: first + 1], small.shape[:2], scale)
    inside = _cut_anew(small, *known, check)
    for count in range(first + 1, len(marks)):
        check()
        known = _strokes(marks[: count + 1], small.shape[:2], scale)
        fresh = _cut_anew(small, *known, check)
        near = _near(marks[count], small.shape[:2], scale)
        inside = _with_strokes(np.where(near, fresh, inside), *known)
    return softened(picture, _with_strokes(_cut_again(small, inside, check), *known))


def corrected(picture: Picture, matte: Picture, marks: Sequence[Mark], check: Check = _never) -> Picture:
    """Return a matte (H, W) of a frame as scribbles on it correct it; what lies far from them stays."""
    small, scale = _small(picture)
    inside = (cv2.resize(matte, (small.shape[1], small.shape[0]), interpolation=cv2.INTER_AREA) > 0.5).astype(np.uint8)
    for mark in marks:
        check()
        inner, outer = _strokes([mark], small.shape[:2], scale)
        near = _near(mark, small.shape[:2], scale)
        mask = np.where(inside > 0, cv2.GC_PR_FGD, cv2.GC_PR_BGD).astype(np.uint8)
        mask[~near & (inside > 0)], mask[~near & (inside == 0)] = cv2.GC_FGD, cv2.GC_BGD
        mask[inner > 0], mask[outer > 0] = cv2.GC_FGD, cv2.GC_BGD
        inside = _graph_cut(small, mask, CUT_ROUNDS, check)
    return softened(picture, inside)


def _cut_again(small: Bytes, inside: Bytes, check: Check) -> Bytes:
    """Return a cut done once more in a band around its edge, where the colours on both sides are known by now."""
    mask = _band_mask(inside, BAND_PX)
    return _band_cut(small, mask, (mask != cv2.GC_BGD).astype(np.uint8), check) if inside.any() else inside


def _first_of_both(marks: Sequence[Mark]) -> int | None:
    """Return the number of the mark with which there is one of either kind."""
    kinds = [mark.is_inside for mark in marks]
    return max(kinds.index(True), kinds.index(False)) if {True, False} <= set(kinds) else None


def _small(picture: Picture) -> tuple[Bytes, float]:
    """Return a picture as eyes see it, small enough to be cut, and its scale."""
    scale = min(LARGEST_SIDE / max(picture.shape[:2]), 1.0)
    size = round(picture.shape[1] * scale), round(picture.shape[0] * scale)
    seen = picture if scale == 1 else cv2.resize(picture, size, interpolation=cv2.INTER_AREA)
    return np.ascontiguousarray(np.clip(np.cbrt(np.maximum(seen, 0)) * 255, 0, 255).astype(np.uint8)), scale


def _strokes(marks: Sequence[Mark], shape: tuple[int, int], scale: float) -> tuple[Bytes, Bytes]:
    """Return where strokes inside and strokes outside are: (h, w) each; later ones lie over earlier ones."""
    drawn = np.zeros(shape, np.uint8)
    for mark in marks:
        line = np.round(np.asarray(mark.points) * scale - 0.5).astype(np.int32)[:, None]
        cv2.polylines(drawn, [line], isClosed=False, color=1 if mark.is_inside else 2, thickness=STROKE_PX)
    return (drawn == 1).astype(np.uint8), (drawn == 2).astype(np.uint8)


def _near(mark: Mark, shape: tuple[int, int], scale: float) -> NDArray[np.bool_]:
    one, other = _strokes([mark], shape, scale)
    far = cv2.distanceTransform(1 - (one | other), cv2.DIST_L2, 5)
    return np.asarray(far < FREEZE_SHARE * shape[1], bool)


def _cut_anew(small: Bytes, inner: Bytes, outer: Bytes, check: Check) -> Bytes:
    from gommage.core.cover.kernels import geodesic  # compiled: loaded late

    guide = cv2.GaussianBlur(small, (0, 0), 1.0).astype(np.float32) / 255
    split = geodesic(guide, inner, COLOUR_WEIGHT) < geodesic(guide, outer, COLOUR_WEIGHT)
    check()
    mask = _band_mask(split.astype(np.uint8), SPLIT_BAND_PX)
    mask[inner > 0], mask[outer > 0] = cv2.GC_FGD, cv2.GC_BGD
    return _pieces(_graph_cut(small, mask, CUT_ROUNDS, check), inner)


def _band_mask(inside: Bytes, band: int) -> Bytes:
    """Return what is settled, and what is to be cut: a band around the edge of what is inside."""
    ring = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * band + 1,) * 2)
    mask = np.where(inside > 0, cv2.GC_PR_FGD, cv2.GC_PR_BGD).astype(np.uint8)
    mask[cv2.erode(inside, ring, borderValue=1) > 0] = cv2.GC_FGD
    mask[cv2.dilate(inside, ring) == 0] = cv2.GC_BGD
    return mask


def _graph_cut(small: Bytes, mask: Bytes, rounds: int, check: Check) -> Bytes:
    """Return what is inside by a graph cut whose models are those of the mask's split; around the split alone."""
    if not ((mask == cv2.GC_FGD) | (mask == cv2.GC_PR_FGD)).any():
        return np.zeros_like(mask)
    models = np.zeros((1, 65)), np.zeros((1, 65))
    mask = mask.copy()
    for number in range(rounds):
        check()
        mode = cv2.GC_INIT_WITH_MASK if number == 0 else cv2.GC_EVAL
        cv2.setRNGSeed(0)  # the same scribbles give the same matte
        cv2.grabCut(small, mask, None, models[0], models[1], 1, mode)
    return ((mask == cv2.GC_FGD) | (mask == cv2.GC_PR_FGD)).astype(np.uint8)


def _pieces(inside: Bytes, inner: Bytes) -> Bytes:
    """Return the pieces of what is inside that hold a stroke, without small holes."""
    _, labels = cv2.connectedComponents(inside)
    kept = np.unique(labels[(inner > 0) & (inside > 0)])
    return np.isin(labels, kept[kept > 0]).astype(np.uint8)


def _with_strokes(inside: NDArray[np.generic], inner: Bytes, outer: Bytes) -> Bytes:
    out = inside.astype(np.uint8)
    out[inner > 0], out[outer > 0] = 1, 0
    return _pieces(out, inner)


def softened(picture: Picture, inside: Bytes) -> Picture:
    """Return a cut (h, w), perhaps of a smaller picture, with the soft edge that the picture shows: (H, W) float32."""
    height, width = picture.shape[:2]
    hard = inside.astype(np.float32)
    if inside.shape != (height, width):
        hard = cv2.resize(hard, (width, height), interpolation=cv2.INTER_CUBIC)
        hard = (hard > 0.5).astype(np.float32)
    ys, xs = np.nonzero(hard)
    if not len(ys):
        return hard
    reach = 3 * EDGE_RADIUS
    rows = slice(max(int(ys.min()) - reach, 0), int(ys.max()) + reach + 1)
    columns = slice(max(int(xs.min()) - reach, 0), int(xs.max()) + reach + 1)
    part = hard[rows, columns]
    guide = np.cbrt(np.maximum(picture[rows, columns], 0))
    ring = np.ones((2 * EDGE_RADIUS + 1,) * 2, np.uint8)
    band = cv2.dilate(part, ring) - cv2.erode(part, ring) > 0
    out = hard.copy()
    out[rows, columns] = np.where(band, np.clip(_guided(guide, part), 0, 1), part)
    return out


def _guided(guide: Picture, wanted: Picture) -> Picture:
    """Return a picture (H, W) that is locally linear in the colours of its guide (H, W, 3)."""
    size = (2 * EDGE_RADIUS + 1,) * 2

    def mean(one: Picture) -> Picture:
        return cv2.boxFilter(one, cv2.CV_32F, size, borderType=cv2.BORDER_REFLECT)

    average, target = mean(guide), mean(wanted)
    with_guide = mean(guide * wanted[..., None]) - average * target[..., None]
    second = mean((guide[..., :, None] * guide[..., None, :]).reshape(*guide.shape[:2], 9)).reshape(
        *guide.shape[:2], 3, 3
    )
    spread = second - average[..., :, None] * average[..., None, :] + EDGE_EPSILON * np.eye(3, dtype=np.float32)
    slope = np.linalg.solve(spread, with_guide[..., None])[..., 0]
    offset = target - (slope * average).sum(axis=2)
    return (mean(slope.astype(np.float32)) * guide).sum(axis=2) + mean(offset.astype(np.float32))


# -- from frame to frame ------------------------------------------------------------------------------------


def carried(before: Picture, matte: Picture, after: Picture, check: Check = _never) -> Carried:
    """Return a matte of one frame on the next: moved along, and cut anew in a band around its edge.

    Parameters
    ----------
    before, after : (H, W, 3) float32
        Scene-linear; the frame of the matte, and the one it is carried to.
    matte : (H, W) float32
    check : callable

    References
    ----------
    T. Kroeger et al., Fast optical flow using dense inverse search, ECCV 2016, doi:10.1007/978-3-319-46493-0_29.
    """
    one, other = _small(before)[0], _small(after)[0]
    shape = other.shape[1], other.shape[0]
    was = cv2.resize(matte, shape, interpolation=cv2.INTER_AREA)
    places, is_lost = _flow_back(one, other)
    check()
    held = cv2.remap(was, places[..., 0], places[..., 1], cv2.INTER_LINEAR)
    guess = (held > 0.5).astype(np.uint8)
    if not guess.any():
        return Carried(np.zeros(matte.shape, np.float32), 0.0)
    mask = _band_mask(guess, BAND_PX)
    reach = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * LOST_PX + 1,) * 2)
    near = cv2.dilate(guess, reach) - cv2.erode(guess, reach, borderValue=1) > 0
    doubtful = is_lost & near  # what was covered a moment ago was nowhere: it may be either
    mask[doubtful & (mask == cv2.GC_FGD)], mask[doubtful & (mask == cv2.GC_BGD)] = cv2.GC_PR_FGD, cv2.GC_PR_BGD
    found = _cut_as_before(one, (was > 0.5).astype(np.uint8), other, mask, check)
    band = (mask == cv2.GC_PR_FGD) | (mask == cv2.GC_PR_BGD)
    drift = float((found != guess)[band].mean()) if band.any() else 0.0
    return Carried(softened(after, found), drift)


def _cut_as_before(one: Bytes, was: Bytes, other: Bytes, mask: Bytes, check: Check) -> Bytes:
    """Cut a frame by the colours of what was inside and outside on the one before, around its edge.

    Not by those of the frame's own guess: where the thing has left, that counts what is behind it to the thing.
    """
    reach = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * LOST_PX + 1,) * 2)
    ys, xs = np.nonzero(cv2.dilate(((mask != cv2.GC_BGD) | (was > 0)).astype(np.uint8), reach))
    box = slice(int(ys.min()), int(ys.max()) + 1), slice(int(xs.min()), int(xs.max()) + 1)
    known, here = np.ascontiguousarray(was[box]), np.ascontiguousarray(mask[box])
    if known.all() or not known.any() or here.min() == here.max():
        return (mask & 1).astype(np.uint8)
    models = np.zeros((1, 65)), np.zeros((1, 65))
    cv2.setRNGSeed(0)
    learnt = np.where(known > 0, cv2.GC_FGD, cv2.GC_BGD).astype(np.uint8)
    cv2.grabCut(np.ascontiguousarray(one[box]), learnt, None, models[0], models[1], 0, cv2.GC_INIT_WITH_MASK)
    check()
    cv2.grabCut(np.ascontiguousarray(other[box]), here, None, models[0], models[1], 1, cv2.GC_EVAL_FREEZE_MODEL)
    out = np.zeros_like(mask)
    out[box] = here & 1  # what is inside has the odd labels
    return out


def _flow_back(one: Bytes, other: Bytes) -> tuple[NDArray[np.float32], NDArray[np.bool_]]:
    """Return where pixels of a picture were in the one before, (h, w, 2) with whole numbers at centres, and where they
    were nowhere, (h, w): there and back does not lead home.
    """
    search: Any = cv2.DISOpticalFlow_create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM)  # type: ignore[attr-defined]
    first, second = (cv2.cvtColor(picture, cv2.COLOR_RGB2GRAY) for picture in (one, other))
    back, forth = search.calc(second, first, None), search.calc(first, second, None)
    y, x = np.mgrid[0 : back.shape[0], 0 : back.shape[1]].astype(np.float32)
    places = np.dstack([x + back[..., 0], y + back[..., 1]])
    returned = cv2.remap(forth, places[..., 0], places[..., 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    off = np.hypot(back[..., 0] + returned[..., 0], back[..., 1] + returned[..., 1])
    return places, np.asarray(off > NOWHERE_PX, bool)


def _band_cut(small: Bytes, mask: Bytes, most: Bytes, check: Check) -> Bytes:
    """Cut within the box of the band alone, with room around it for the colours outside."""
    ys, xs = np.nonzero(most)
    room = 4 * BAND_PX
    rows = slice(max(int(ys.min()) - room, 0), int(ys.max()) + room + 1)
    columns = slice(max(int(xs.min()) - room, 0), int(xs.max()) + room + 1)
    out = np.zeros_like(mask)
    out[rows, columns] = _graph_cut(np.ascontiguousarray(small[rows, columns]), mask[rows, columns], BAND_ROUNDS, check)
    return out
