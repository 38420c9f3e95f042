"""Many small features followed from frame to frame: what a camera is solved from."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.document import FrameRange
from gommage.core.follow.masks import Mask
from gommage.core.picture import Picture, luminance

__all__ = ["Tracks", "tracked", "tracked_from"]

MOST_POINTS = 1200
CELLS_ACROSS = 16
"""Features are spread over squares of the picture, so that none takes them all."""
LARGEST_SIDE_PX, LOOKED_AT_PX = 1920, 960
"""Larger pictures are looked at at half their size: features are as well seen there; by the second width pieces are
told."""
THERE_AND_BACK_PX = 0.35
RENEWED_EVERY = 3
KEPT_FOR, STEADIED_PX = 9, 0.8
"""A feature is compared with how it looked so many frames ago at most, so that small errors of each step do not add up;
what lies further from where the steps led is not believed."""
WINDOW_PX, LEVELS = 19, 4
QUALITY, APART_PX = 0.004, 7
RIM_PX = 6
LEAST_LENGTH = 4
"""A track of fewer frames tells nothing."""
CUT_SHARE = 0.12
"""Where so few of the features go on from one frame to the next, there is a cut, or nothing to be seen."""


@dataclass(frozen=True, slots=True)
class Tracks:
    """Where features are on the frames of a range.

    Attributes
    ----------
    first_frame : int
    places : (P, N, 2) float64
        Pixels; NaN where a feature is not seen.
    size_wh : tuple of int
        Of the picture.
    cuts : tuple of int
        Frames on which another scene begins.
    """

    first_frame: int
    places: NDArray[np.float64]
    size_wh: tuple[int, int]
    cuts: tuple[int, ...] = ()

    @property
    def frames(self) -> FrameRange:
        """The frames that were looked at."""
        return FrameRange(first=self.first_frame, last=self.first_frame + self.places.shape[1] - 1)

    @property
    def seen(self) -> NDArray[np.bool_]:
        """Whether each feature is seen on each frame, (P, N)."""
        known: NDArray[np.bool_] = np.isfinite(self.places[..., 0])
        return known

    def moved_px(self, one: int, other: int) -> float:
        """Return by how much features that both frames (rows) show moved, in the middle; NaN where there are few."""
        step = np.hypot(*(self.places[:, other] - self.places[:, one]).T)
        step = step[np.isfinite(step)]
        return float(np.median(step)) if len(step) >= LEAST_SHARED else np.nan


LEAST_SHARED = 12
CRITERIA = (cv2.TERM_CRITERIA_COUNT | cv2.TERM_CRITERIA_EPS, 30, 0.003)


def looked_at(picture: Picture, scale: float) -> NDArray[np.uint8]:
    """Return a scene-linear picture (H, W, 3) as it is tracked: eight bits of its own range, as the eye spaces them."""
    grey = luminance(picture)
    if scale != 1.0:
        grey = cv2.resize(grey, None, fx=scale, fy=scale, interpolation=cv2.INTER_AREA)
    rooted = np.sqrt(np.maximum(grey, 0.0))
    top = float(np.quantile(rooted[::4, ::4], 0.995))
    return np.clip(rooted * (250.0 / max(top, 1e-6)), 0, 255).astype(np.uint8)


def tracked(
    read: Callable[[int], Picture | None],
    frames: FrameRange,
    hidden: Callable[[int], Mask | None] = lambda frame: None,
    progress: Callable[[float], object] = lambda share: None,
    check: Callable[[], None] = lambda: None,
    most: int = MOST_POINTS,
) -> Tracks:
    """Return features tracked over a range of frames.

    Parameters
    ----------
    read : callable
        Gives a frame's scene-linear (H, W, 3) float32, or None where there is no picture: it is passed over.
    frames : FrameRange
    hidden : callable, optional
        Gives a mask (H, W) uint8 of a frame, above 0 where nothing is to be looked at, or None.
    progress, check : callable
        Told the share that is done; asked between frames whether to go on.
    most : int
        How many features at once.

    References
    ----------
    J.-Y. Bouguet, Pyramidal Implementation of the Lucas Kanade Feature Tracker, 2001; J. Shi and C. Tomasi, Good
    Features to Track, 1994; forward and back: Z. Kalal et al., Forward-Backward Error, 2010.
    """
    following = _Following(len(frames), most)
    for row, frame in enumerate(frames):
        check()
        picture = read(frame)
        if picture is not None:
            following.step(row, picture, hidden(frame))
        progress((row + 1) / len(frames))
    return following.tracks(frames.first)


def tracked_from(
    read: Callable[[int], Picture],
    frames: Sequence[int],
    home_frame: int,
    region: Callable[[tuple[int, int]], Mask | None] = lambda size_wh: None,
    hidden: Callable[[int], Mask | None] = lambda frame: None,
    check: Callable[[], None] = lambda: None,
    most: int = MOST_POINTS,
) -> tuple[Tracks, list[NDArray[np.uint8]]]:
    """Return features of one frame tracked both ways over some frames, and the frames as they were looked at.

    Parameters
    ----------
    read : callable
        Gives a frame's scene-linear (H, W, 3) float32.
    frames : sequence of int
        In their order; the home frame among them. The rows of the tracks are these.
    home_frame : int
    region : callable
        From the picture's size to where features are looked for, (H, W) uint8 above 0, or None: everywhere.
    hidden : callable
        Gives what is not looked at on a frame, or None.
    check : callable
        Called between frames.
    most : int
        How many features.

    Returns
    -------
    tracks : Tracks
    pictures : list of (h, w) uint8
        At most 960 pixels wide.
    """
    home = frames.index(home_frame)
    first = read(home_frame)
    size = first.shape[1], first.shape[0]
    scale = min(LOOKED_AT_PX / size[0], 1.0)
    pictures = [np.zeros((0, 0), np.uint8)] * len(frames)
    paths: NDArray[np.float64] | None = None
    with ThreadPoolExecutor(1) as ahead:
        for way in (range(home, len(frames)), range(home, -1, -1)):
            following = _Following(len(frames), most)
            following.begin(size, scale)
            coming = None
            for row in way:
                check()
                picture = first if row == home else (coming.result() if coming is not None else read(frames[row]))
                after = row + (1 if way.step > 0 else -1)
                coming = ahead.submit(read, frames[after]) if 0 <= after < len(frames) else None
                pictures[row] = following.look(row, picture, hidden(frames[row]), region(size) if row == home else None)
            own = following.all_paths()
            paths = own if paths is None else np.where(np.isfinite(own), own, paths)
    assert paths is not None
    return Tracks(frames[0], paths, size), pictures


class _Following:
    """Features that are alive, and the paths of all there were."""

    def __init__(self, count: int, most: int) -> None:
        self._count, self._most = count, most
        self._paths: list[NDArray[np.float64]] = []
        self._alive = np.zeros(0, np.int64)
        self._points = np.zeros((0, 2), np.float32)
        self._grey = np.zeros((0, 0), np.uint8)
        self._anchor_rows = np.zeros(0, np.int64)
        self._anchors = np.zeros((0, 2), np.float32)
        self._looks: dict[int, NDArray[np.uint8]] = {}
        self._cuts: list[int] = []
        self._size = (0, 0)
        self._scale = 1.0

    def begin(self, size_wh: tuple[int, int], scale: float) -> None:
        """Say how large pictures are, and at what scale they are looked at."""
        self._size, self._scale = size_wh, scale

    def look(self, row: int, picture: Picture, mask: Mask | None, region: Mask | None) -> NDArray[np.uint8]:
        """Look at one more frame, on the first for features; those that are lost are not replaced."""
        grey = looked_at(picture, self._scale)
        shown = None if mask is None else self._shown(mask, grey.shape)
        if self._paths:
            self._advance(grey, shown)
        else:
            if region is not None:
                there = cv2.resize(region, (grey.shape[1], grey.shape[0]), interpolation=cv2.INTER_NEAREST)
                shown = there if shown is None else shown & there
                self._most = min(round(self._most / max(float(shown.mean()), 0.02)), 12 * self._most)
            self._renew(row, grey, shown)
        self._grey = grey
        for index, point in zip(self._alive, self._points, strict=True):
            self._paths[index][row] = point / self._scale
        return grey

    def all_paths(self) -> NDArray[np.float64]:
        """Return all paths, (P, N, 2)."""
        return np.stack(self._paths) if self._paths else np.zeros((0, self._count, 2))

    def step(self, row: int, picture: Picture, mask: Mask | None) -> None:
        """Look at one more frame."""
        if not self._size[0]:
            size = picture.shape[1], picture.shape[0]
            self.begin(size, 1.0 if max(size) <= LARGEST_SIDE_PX else 0.5)
        grey = looked_at(picture, self._scale)
        shown = None if mask is None else self._shown(mask, grey.shape)
        before = len(self._alive)
        if before:
            self._advance(grey, shown)
            if len(self._alive) < CUT_SHARE * before:
                self._cuts.append(row)
                self._keep(np.zeros(len(self._alive), np.bool_))
            self._steady(row, grey)
        self._grey = grey
        if not before or row % RENEWED_EVERY == 0 or len(self._alive) < self._most // 2:
            self._renew(row, grey, shown)
        self._looks = {at: look for at, look in self._looks.items() if at > row - KEPT_FOR - 2}
        if (self._anchor_rows == row).any():
            self._looks[row] = grey
        for index, point in zip(self._alive, self._points, strict=True):
            self._paths[index][row] = point / self._scale

    @staticmethod
    def _shown(mask: Mask, shape: tuple[int, ...]) -> Mask:
        small = cv2.resize(mask, (shape[1], shape[0]), interpolation=cv2.INTER_AREA) if mask.shape != shape else mask
        grown = cv2.dilate((small > 0).astype(np.uint8), np.ones((WINDOW_PX // 2 + 1,) * 2, np.uint8))
        shown: Mask = (1 - grown).astype(np.uint8)
        return shown

    def _advance(self, grey: NDArray[np.uint8], shown: Mask | None) -> None:
        if not len(self._points):
            return
        options: dict[str, Any] = {"winSize": (WINDOW_PX, WINDOW_PX), "maxLevel": LEVELS, "criteria": CRITERIA}
        from_centres = self._points - 0.5  # the library counts centres
        there, found, _ = cv2.calcOpticalFlowPyrLK(self._grey, grey, from_centres, None, **options)
        back, again, _ = cv2.calcOpticalFlowPyrLK(grey, self._grey, there, None, **options)
        off = np.abs(back - from_centres).max(axis=1)
        there = there + 0.5
        height, width = grey.shape
        inside = ((there > RIM_PX) & (there < (width - RIM_PX, height - RIM_PX))).all(axis=1)
        keep = inside & (found[:, 0] > 0) & (again[:, 0] > 0) & (off < THERE_AND_BACK_PX)
        if shown is not None:
            at = there.astype(np.int64).clip(0, (width - 1, height - 1))
            keep &= shown[at[:, 1], at[:, 0]] > 0
        self._points = there
        self._keep(keep)

    def _keep(self, which: NDArray[np.bool_]) -> None:
        self._alive, self._points = self._alive[which], np.ascontiguousarray(self._points[which])
        self._anchor_rows, self._anchors = self._anchor_rows[which], np.ascontiguousarray(self._anchors[which])

    def _steady(self, row: int, grey: NDArray[np.uint8]) -> None:
        """Compare features with how they looked some frames ago; those that look otherwise begin anew from here."""
        renewed = self._anchor_rows < row - KEPT_FOR
        for at in np.unique(self._anchor_rows[~renewed]):
            own = np.nonzero(self._anchor_rows == at)[0]
            start = self._points[own] - 0.5
            there, found, _ = cv2.calcOpticalFlowPyrLK(
                self._looks[int(at)], grey, self._anchors[own] - 0.5, start.copy(), winSize=(WINDOW_PX, WINDOW_PX),
                maxLevel=1, criteria=CRITERIA, flags=cv2.OPTFLOW_USE_INITIAL_FLOW,
            )  # fmt: skip
            good = (found[:, 0] > 0) & (np.abs(there - start).max(axis=1) < STEADIED_PX)
            self._points[own[good]] = there[good] + 0.5
            renewed[own[~good]] = True
        self._anchor_rows[renewed], self._anchors[renewed] = row, self._points[renewed]

    def _renew(self, row: int, grey: NDArray[np.uint8], shown: Mask | None) -> None:
        """Look for new features where there are few."""
        height, width = grey.shape
        side = max(width // CELLS_ACROSS, 16)
        across, down = -(-width // side), -(-height // side)
        each = max(self._most // (across * down), 3)
        free = np.full(grey.shape, 255, np.uint8) if shown is None else shown * np.uint8(255)
        for x, y in self._points.astype(np.int64):
            free[max(y - APART_PX, 0) : y + APART_PX + 1, max(x - APART_PX, 0) : x + APART_PX + 1] = 0
        free[:RIM_PX], free[-RIM_PX:], free[:, :RIM_PX], free[:, -RIM_PX:] = 0, 0, 0, 0
        cell_of = (self._points[:, 1] // side).astype(np.int64) * across + (self._points[:, 0] // side).astype(np.int64)
        held = np.bincount(cell_of, minlength=across * down)
        strength = cv2.cornerMinEigenVal(grey, 5)
        least = QUALITY * float(np.quantile(strength, 0.999))
        found = []
        for cell in range(across * down):
            lacking = each - int(held[cell])
            if lacking <= 0:
                continue
            top, left = cell // across * side, cell % across * side
            part = np.where(
                free[top : top + side, left : left + side] > 0, strength[top : top + side, left : left + side], 0
            )
            found += [(left + x, top + y) for x, y in _peaks(part, lacking, least)]
        if found:
            points = np.array(found, np.float32) + 0.5
            first = len(self._paths)
            self._paths += [np.full((self._count, 2), np.nan) for _ in points]
            self._alive = np.concatenate([self._alive, np.arange(first, first + len(points))])
            self._points = np.concatenate([self._points, points])
            self._anchors = np.concatenate([self._anchors, points])
            self._anchor_rows = np.concatenate([self._anchor_rows, np.full(len(points), row)])

    def tracks(self, first_frame: int) -> Tracks:
        """Return what was found."""
        least = min(LEAST_LENGTH, self._count)
        long_enough = [path for path in self._paths if np.isfinite(path[:, 0]).sum() >= least]
        places = np.stack(long_enough) if long_enough else np.zeros((0, self._count, 2))
        return Tracks(first_frame, places, self._size, tuple(first_frame + row for row in self._cuts))


def _peaks(strength: Picture, count: int, least: float) -> list[tuple[int, int]]:
    """Return the strongest places (x, y) of a small picture, some way apart."""
    own = strength.copy()
    found = []
    for _ in range(count):
        _, value, _, (x, y) = cv2.minMaxLoc(own)
        if value < least:
            break
        found.append((x, y))
        own[max(y - APART_PX, 0) : y + APART_PX + 1, max(x - APART_PX, 0) : x + APART_PX + 1] = 0
    return found
