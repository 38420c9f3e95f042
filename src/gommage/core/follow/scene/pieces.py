"""The planes that a picture falls into, told by how features move together: surfaces that propose themselves."""

from __future__ import annotations

import warnings
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.document import Channel, FrameRange, MotionModel
from gommage.core.follow.align import align, make_pyramid, make_template
from gommage.core.follow.masks import Mask, polygon_mask
from gommage.core.follow.scene.motions import LEAST_POINTS, SharedMotion, shared_motions
from gommage.core.follow.scene.tracks import Tracks, tracked_from
from gommage.core.follow.sight import choose_sight
from gommage.core.geometry import Points, Window, apply_matrix
from gommage.core.picture import Picture
from gommage.errors import FollowError

__all__ = ["Piece", "found_pieces"]

Floats = NDArray[np.float64]
REACH_FRAMES, MOST_LOOKED_AT, SAMPLED = 40, 25, 8
"""So many frames each way, of which so many are looked at in all; hypotheses are held against some of these."""
MOST_POINTS = 600
STILL_PX = 0.35
MAP_SIDE_PX = 480
"""Areas are told on a picture of at most this width."""
SMOOTH_SHARE = 0.02
LEAST_MARGIN = 0.12
RING_SHARE, LEAST_RING_PX = 0.9, 70.0
"""Around what was drawn round, so far (in its sizes) planes count most."""
LARGEST_DISAGREEMENT_PX, LEAST_OFFERED = 1.0, 0.03


@dataclass(frozen=True, slots=True)
class Piece:
    """A flat piece of the scene that proposes itself as a surface.

    Attributes
    ----------
    outline : (N, 2) float64
        Its area, home-frame pixels.
    frames : FrameRange
        On which it was seen to hold.
    trust_px : float
        By how much its own texture and the features disagree about where it goes.
    share : float
        Of what was looked at, how much belongs to it.
    is_still : bool
        It does not move at all.
    """

    outline: Floats
    frames: FrameRange
    trust_px: float
    share: float
    is_still: bool = False

    @property
    def words(self) -> str:
        """What is to be said of it."""
        if self.is_still:
            return "Nothing moves here: a still surface"
        return f"{100 * self.share:.0f} % of what is around, texture and features agree within {self.trust_px:.2f} px"


def found_pieces(
    read: Callable[[int], Picture],
    within: FrameRange,
    home_frame: int,
    thing: Points | None = None,
    hidden: Callable[[int], Mask | None] = lambda frame: None,
    check: Callable[[], None] = lambda: None,
    missing: Collection[int] = (),
) -> tuple[Piece, ...]:
    """Return the flat pieces around a thing, or over the whole picture, the best first.

    Parameters
    ----------
    read : callable
        Gives a frame's scene-linear (H, W, 3) float32.
    within : FrameRange
        Frames that there are.
    home_frame : int
    thing : (N, 2) float64, optional
        What was drawn round, home-frame pixels: what is inside it is not looked at, what is near it counts most.
    hidden : callable
        Gives what is not looked at on a frame, or None.
    check : callable
        Called between stages.
    missing : collection of int
        Frames that have no picture.

    Raises
    ------
    FollowError
        If there is too little texture.

    References
    ----------
    Sequential consensus: M. Fischler and R. Bolles, Random Sample Consensus, 1981; smoothing of areas: K. He, J. Sun
    and X. Tang, Guided Image Filtering, 2010, doi:10.1007/978-3-642-15549-9_1.
    """
    frames = [frame for frame in _looked_at(within, home_frame) if frame not in missing]
    if home_frame not in frames:
        raise FollowError(f"Frame {home_frame} has no picture. Look for surfaces on another.")
    tracks, pictures = tracked_from(read, frames, home_frame, _region(thing), hidden, check, MOST_POINTS)
    if len(tracks.places) < LEAST_POINTS:
        raise FollowError("There is too little texture around it to find surfaces by. Draw an area by hand.")
    home = frames.index(home_frame)
    rows = _sampled(tracks, home)
    places = tracks.places[:, [home, *rows]] * (pictures[home].shape[1] / tracks.size_wh[0])
    moved = np.nanmax(np.nanmedian(np.hypot(*np.moveaxis(places - places[:, :1], -1, 0)), axis=0)) if rows else 0.0
    if not rows or moved < STILL_PX:
        return (_still(tracks, pictures[home], thing, frames),)
    known = np.isfinite(places[..., 0]).mean(axis=1) >= 0.6
    places, own = places[known], np.nonzero(known)[0]
    models = shared_motions(places, home, rows, check)
    areas = _areas(pictures, home, models, places, check)
    found = []
    for number, model in enumerate(models):
        check()
        piece = _piece(tracks, own, pictures, frames, home, model, areas == number, thing, check)
        if piece is not None and piece.share > LEAST_OFFERED:
            found.append(piece)
    return tuple(sorted(found, key=lambda one: -one.share))


def _looked_at(within: FrameRange, home_frame: int) -> list[int]:
    first, last = max(home_frame - REACH_FRAMES, within.first), min(home_frame + REACH_FRAMES, within.last)
    step = max(-(-(last - first) // MOST_LOOKED_AT), 1)
    before = list(range(home_frame - step, first - 1, -step))
    return [*reversed(before), *range(home_frame, last + 1, step)]


def _region(thing: Points | None) -> Callable[[tuple[int, int]], Mask | None]:
    """Return what gives, for a picture's size, where features are looked for on the home frame."""

    def region(size_wh: tuple[int, int]) -> Mask | None:
        if thing is None:
            return None
        bounds = Window.of(*size_wh)
        inside = polygon_mask([thing], bounds)
        reach = _ring_px(thing)
        distance = cv2.distanceTransform(1 - inside, cv2.DIST_L2, 5)
        shown: Mask = ((inside == 0) & (distance < 3 * reach)).astype(np.uint8)
        return shown

    return region


def _ring_px(thing: Points) -> float:
    return max(float(np.ptp(thing, axis=0).max()) * RING_SHARE, LEAST_RING_PX)


def _sampled(tracks: Tracks, home: int) -> list[int]:
    """Return rows of frames to hold hypotheses against: spread, with enough of the features on them."""
    counts = tracks.seen.sum(axis=0)
    good = [row for row in range(tracks.places.shape[1]) if row != home and counts[row] >= 0.4 * counts[home]]
    if len(good) <= SAMPLED:
        return good
    return [good[round(i)] for i in np.linspace(0, len(good) - 1, SAMPLED)]


# -- areas --------------------------------------------------------------------------------------------------


def _areas(
    pictures: Sequence[NDArray[np.uint8]],
    home: int,
    models: Sequence[SharedMotion],
    places: Floats,
    check: Callable[[], None],
) -> NDArray[np.int64]:
    """Return to which model each pixel of the small home picture belongs; -1 where that is unsure."""
    height, width = pictures[home].shape
    factor = min(MAP_SIDE_PX / width, 1.0)
    size = round(width * factor), round(height * factor)
    shrink = np.diag([factor, factor, 1.0])
    wanted = {home, *(row for model in models for row in model.rows)}
    small = {row: cv2.resize(pictures[row], size, interpolation=cv2.INTER_AREA).astype(np.float32) for row in wanted}
    guide = small[home] / 255
    costs = []
    for model in models:
        check()
        differences = []
        for row, motion in zip(model.rows, model.motions, strict=True):
            to_frame = shrink @ motion @ np.linalg.inv(shrink)
            back = cv2.warpPerspective(
                small[row], to_frame, size, flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP,
                borderMode=cv2.BORDER_CONSTANT, borderValue=-1e4,
            )  # fmt: skip
            there = np.where(back < -1, np.nan, back)
            gain = np.nanmedian(there) / max(float(np.median(small[home])), 1.0)
            differences.append(np.abs(there / max(float(gain), 0.05) - small[home]))
        with warnings.catch_warnings(action="ignore", category=RuntimeWarning):  # where no frame shows it
            cost = np.nanmedian(np.stack(differences), axis=0)
        costs.append(_smoothed(np.nan_to_num(cost, nan=60.0).astype(np.float32), guide, SMOOTH_SHARE * size[0]))
    if not costs:
        return np.full((size[1], size[0]), -1)
    near = np.stack([_evidence(model.members, places[:, 0] * factor, size) for model in models])
    scaled = np.stack(costs) / (1e-3 + np.mean(costs)) + 0.6 * near
    best = scaled.argmin(axis=0)
    ordered = np.sort(scaled, axis=0)
    if len(models) > 1:
        margin = (ordered[1] - ordered[0]) / np.maximum(ordered[1], 1e-6)
        best = np.where(margin < LEAST_MARGIN, -1, best)
    thin = near.min(axis=0) > 0.97
    return np.where(thin, -1, best)


def _evidence(members: NDArray[np.bool_], points: Points, size: tuple[int, int]) -> Floats:
    """Return how far each pixel is from a model's points: 0 among them, 1 where none is near."""
    seen = np.ones((size[1], size[0]), np.uint8)
    for x, y in points[members].astype(int):
        if 0 <= x < size[0] and 0 <= y < size[1]:
            seen[y, x] = 0
    distance = cv2.distanceTransform(seen, cv2.DIST_L2, 5)
    return 1 - np.exp(-((distance / (0.05 * size[0])) ** 2)).astype(np.float64)


def _smoothed(cost: Picture, guide: Picture, radius: float) -> Picture:
    """Return a cost evened along the picture's own edges: a guided filter."""
    side = 2 * max(round(radius), 2) + 1

    def mean(values: Picture) -> Picture:
        return cv2.blur(values, (side, side))

    middle, level = mean(guide), mean(cost)
    variance = mean(guide * guide) - middle * middle
    slope = (mean(guide * cost) - middle * level) / (variance + np.float32(1e-3))
    return mean(slope) * guide + mean(level - slope * middle)


# -- pieces -------------------------------------------------------------------------------------------------


def _piece(
    tracks: Tracks,
    own: NDArray[np.intp],
    pictures: Sequence[NDArray[np.uint8]],
    frames: Sequence[int],
    home: int,
    model: SharedMotion,
    area: NDArray[np.bool_],
    thing: Points | None,
    check: Callable[[], None],
) -> Piece | None:
    """Return a model as a piece with an outline, if its own texture agrees with it."""
    width = pictures[home].shape[1]
    scale = tracks.size_wh[0] / width
    factor = area.shape[1] / width
    members = tracks.places[own[model.members], home] / scale
    outline = _outline(area, members * factor, None if thing is None else thing / scale * factor)
    if outline is None:
        return None
    outline = outline / factor
    trust, held = _agreement(pictures, home, model, outline, check)
    if trust > LARGEST_DISAGREEMENT_PX:
        return None
    holds = [frames[home], *(frames[row] for row in held)]
    share = _share(area, factor, thing, scale)
    return Piece(outline * scale, FrameRange(first=min(holds), last=max(holds)), trust * scale, share)


def _share(area: NDArray[np.bool_], factor: float, thing: Points | None, scale: float) -> float:
    """Return how much of the ring around the thing, the nearest the most, belongs to an area; or of the picture."""
    if thing is None:
        return float(area.mean())
    line = thing / scale * factor
    inside = polygon_mask([line], Window.of(area.shape[1], area.shape[0]))
    distance = cv2.distanceTransform(1 - inside, cv2.DIST_L2, 5)
    weight = np.exp(-((distance / (_ring_px(thing) / scale * factor)) ** 2)) * (inside == 0)
    return float((weight * area).sum() / max(float(weight.sum()), 1e-9))


def _outline(area: NDArray[np.bool_], members: Points, thing: Points | None) -> Floats | None:
    """Return the outline (N, 2) of the part of an area that holds most of the model's points, without the thing."""
    mask = area.astype(np.uint8)
    if thing is not None:
        mask &= 1 - polygon_mask([thing], Window.of(mask.shape[1], mask.shape[0]))
    kernel = np.ones((3, 3), np.uint8)
    mask = cv2.morphologyEx(cv2.morphologyEx(mask, cv2.MORPH_OPEN, kernel), cv2.MORPH_CLOSE, kernel, iterations=2)
    count, labels = cv2.connectedComponents(mask)
    at = members.astype(int).clip(0, (mask.shape[1] - 1, mask.shape[0] - 1))
    held = np.bincount(labels[at[:, 1], at[:, 0]], minlength=count)
    held[0] = 0
    if not held.max():
        return None
    lines, _ = cv2.findContours((labels == held.argmax()).astype(np.uint8), cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_NONE)
    longest = max(lines, key=cv2.contourArea)
    if cv2.contourArea(longest) < 60:
        return None
    simple = cv2.approxPolyDP(longest, 1.6, closed=True)[:, 0].astype(np.float64) + 0.5
    return simple if len(simple) >= 3 else None


def _agreement(
    pictures: Sequence[NDArray[np.uint8]],
    home: int,
    model: SharedMotion,
    outline: Floats,
    check: Callable[[], None],
) -> tuple[float, list[int]]:
    """Return by how much the area's texture, aligned directly, disagrees with the model, and on which rows it is found.

    In pixels of the small pictures: the middle over frames of the mean over the outline's corners.
    """
    first = pictures[home].astype(np.float32) / 255
    mask = polygon_mask([outline], Window.of(first.shape[1], first.shape[0]))
    try:
        sight = choose_sight(np.repeat(first[..., None], 3, axis=2), mask, Channel.LUMINANCE)
        template = make_template(first, mask, None, sight)
    except FollowError:
        return np.inf, []
    off, held = [], []
    inner = template.points_inside
    for row, start in zip(model.rows, model.motions, strict=True):
        check()
        pyramid = make_pyramid(pictures[row].astype(np.float32) / 255, 2, sight)
        found = align(template, pyramid, start, MotionModel.PERSPECTIVE, levels=2, check=check)
        if found.correlation < 0.5:
            continue
        moved = apply_matrix(found.matrix, inner) - apply_matrix(start, inner)
        off.append(float(np.nanmean(np.hypot(*moved.T))))
        if off[-1] < LARGEST_DISAGREEMENT_PX:
            held.append(row)
    return (float(np.median(off)), held) if off else (np.inf, [])


def _still(tracks: Tracks, picture: NDArray[np.uint8], thing: Points | None, frames: Sequence[int]) -> Piece:
    """Return the one surface of a camera that stands."""
    width, height = tracks.size_wh
    outline = np.array([[0, 0], [width, 0], [width, height], [0, height]], float)
    if thing is not None:
        reach = _ring_px(thing)
        (left, top), (right, bottom) = thing.min(axis=0) - reach, thing.max(axis=0) + reach
        box = np.array([[left, top], [right, top], [right, bottom], [left, bottom]])
        outline = box.clip(0, (width, height))
    return Piece(outline, FrameRange(first=frames[0], last=frames[-1]), 0.0, 1.0, is_still=True)
