"""Which donors a place needs, and what no frame shows of it: mattes and mappings alone, no pixels of the shot."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import reduce
from operator import or_

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.cover import MatteAt, reach_of
from gommage.core.document import Donors, DonorSide, Footage, is_within
from gommage.core.document.records import Record
from gommage.core.fill.scene import Scene
from gommage.core.geometry import Mapping, Points, Window, composed, scaling

__all__ = [
    "COVERED",
    "Blocked",
    "DonorAt",
    "PlaneAt",
    "Seen",
    "blocked_of",
    "chosen_of",
    "is_clean_at",
    "mixed_alike",
    "nearest_first",
    "places_of",
    "points_at",
    "scaled_back",
    "seen_elsewhere",
]

Mask = NDArray[np.bool_]
Check = Callable[[], None]
COVERED, EDGE_PX, MIXED_PX, ALIKE_PX = 1 / 64, 2, 1, 2.0
"""What is covered by more than this is not taken, nor what is so near to the edge of a plane in front. Where nothing
else is there it is, up to so far inside, from frames on which the two have moved apart by little: mixed alike."""

EACH_UP_TO, THEN_BY = 12, 1.2
"""Every frame that is so near is looked at, then ever fewer: each so many times as far as the one before."""
MOST_BLURRIER_PX = 0.7


class DonorAt(Record, frozen=True):
    """Another frame, as it lies on the one that is filled.

    Attributes
    ----------
    frame : int
    frame_from_donor : Mapping
    blocked : tuple of MatteAt
        What must not be taken there: what fixes cover and hold out.
    nearer : tuple of MatteAt
        Where planes in front of this one are seen there.
    excess_px : float
        How much more it is blurred than the frame.
    apart_px : float
        How far planes in front have gone from this one between it and the frame.
    """

    frame: int
    frame_from_donor: Mapping
    blocked: tuple[MatteAt, ...]
    nearer: tuple[MatteAt, ...]
    excess_px: float = 0.0
    apart_px: float = 0.0


class PlaneAt(Record, frozen=True):
    """One of the surfaces behind the thing.

    Attributes
    ----------
    surface_id : str
    extent : MatteAt or None
        Where it is seen; None: everywhere.
    donors : tuple of DonorAt
        Who shows it.
    passing : tuple of float
        How it moves on the frame, in pixels a frame.
    """

    surface_id: str
    extent: MatteAt | None
    donors: tuple[DonorAt, ...]
    passing: tuple[float, float] = (0.0, 0.0)


def nearest_first(fill: Donors, footage: Footage, frame: int) -> Iterator[int]:
    """Yield the frames that may be taken from: the nearest first, one from before and one from after in turn."""
    sides = {DonorSide.BOTH: (-1, 1), DonorSide.BEFORE: (-1,), DonorSide.AFTER: (1,)}[fill.side]
    steps = 1
    while steps * fill.step < len(footage.frames):
        for side in sides:
            other = frame + side * steps * fill.step
            is_there = other in footage.frames and other not in footage.missing
            if is_there and is_within(fill.frames, other):
                yield other
        steps = steps + 1 if steps < EACH_UP_TO else int(np.ceil(steps * THEN_BY))


@dataclass(frozen=True, slots=True)
class Blocked:
    """What may not be taken from a frame: where it may be, `window`, and where it is there, (h, w) bool."""

    window: Window
    mask: Mask

    def is_clean(self, points: Points) -> Mask:
        """Return which of some points (N, 2) are free."""
        x, y = np.floor(points - (self.window.left, self.window.top)).astype(np.int64).T
        within = (x >= 0) & (y >= 0) & (x < self.window.width) & (y < self.window.height)
        clean: Mask = ~within
        clean[within] = ~self.mask[y[within], x[within]]
        return clean


def blocked_of(donor: DonorAt, footage: Footage, scene: Scene, *, is_strict: bool = True) -> Blocked:
    """Return what may not be taken from a donor: what is covered, by a pixel more, and what planes in front hide.

    If it is strict, so is what lies near the edge of these; else what is mixed there may be taken.
    """

    def make() -> Blocked:
        bounds = footage.bounds.scaled(scene.scale)
        reaches = [
            reach_of(matte, footage.bounds).scaled(scene.scale).grown(EDGE_PX) & bounds
            for matte in (*donor.blocked, *donor.nearer)
        ]
        window = reduce(or_, [one for one in reaches if not one.is_empty], Window(0, 0, 0, 0))
        found = np.zeros((window.height, window.width), np.uint8)
        for mattes, grown_px in ((donor.blocked, 1), (donor.nearer, EDGE_PX if is_strict else -MIXED_PX)):
            here = np.zeros_like(found)
            for matte in mattes if found.size else ():
                here |= (scene.matte(footage, matte, window) > COVERED).view(np.uint8)
            if here.any():
                kernel = np.ones((2 * abs(grown_px) + 1,) * 2, np.uint8)
                found |= cv2.dilate(here, kernel) if grown_px > 0 else cv2.erode(here, kernel)
        return Blocked(window, found.view(bool))

    return scene.kept(("blocked", footage, donor.blocked, donor.nearer, is_strict), make)


def mixed_alike(donors: tuple[DonorAt, ...]) -> tuple[DonorAt, ...]:
    """Return the donors on which the edges of planes in front show what they show on the frame."""
    return tuple(donor for donor in donors if donor.nearer and donor.apart_px <= ALIKE_PX)


def scaled_back(donor: DonorAt, scale: float) -> Mapping:
    """Return where in a donor each place of the frame is, both in pixels of a scale."""
    donor_from_frame = donor.frame_from_donor.inverse()
    return donor_from_frame if scale == 1 else composed(scaling(1 / scale), donor_from_frame, scaling(scale))


def places_of(mask: Mask, most: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return rows and columns of a mask's pixels, evenly so many of them at most."""
    rows, columns = np.nonzero(mask)
    some = slice(None, None, -(-max(len(rows), 1) // most))
    return rows[some], columns[some]


def points_at(places: tuple[NDArray[np.int64], NDArray[np.int64]], window: Window) -> Points:
    """Return the centres (N, 2) of pixels given by rows and columns of a window."""
    return np.stack([places[1] + (window.left + 0.5), places[0] + (window.top + 0.5)], axis=1)


def is_clean_at(donor: DonorAt, footage: Footage, scene: Scene, points: Points, *, is_strict: bool = True) -> Mask:
    """Return which of some points of the frame a donor shows; see `blocked_of`."""
    there = scaled_back(donor, scene.scale)(points)
    bounds = footage.bounds.scaled(scene.scale)
    above, below = there > (bounds.left, bounds.top), there < (bounds.right, bounds.bottom)
    clean: Mask = np.asarray((above & below).all(axis=1))
    inside = clean.copy()
    if inside.any():
        clean[inside] = blocked_of(donor, footage, scene, is_strict=is_strict).is_clean(there[inside])
    return clean


def chosen_of(
    donors: tuple[DonorAt, ...], points: Points, count: NDArray[np.int64], enough: int, worth: float, footage: Footage,
    scene: Scene, check: Check = lambda: None, *, is_strict: bool = True,
) -> tuple[list[DonorAt], list[DonorAt], tuple[DonorAt, ...]]:  # fmt: skip
    """Return who is taken from, in turn, until some points have enough; who is passed; and who is not needed.

    Parameters
    ----------
    donors : tuple of DonorAt
        The best first.
    points : (N, 2) float64
        Of the frame, in pixels of the scene's scale.
    count : (N,) int64
        How many values each has. Not modified.
    enough : int
        So many are enough.
    worth : float
        Who gives less than this share of the points, and of four times what is left of them, is passed; and so is who
        is blurred much more than the frame, unless anything is worth it.
    footage : Footage
    scene : Scene
    check : callable
    is_strict : bool
        See `blocked_of`.
    """
    chosen: list[DonorAt] = []
    passed: list[DonorAt] = []
    count = count.copy()
    for number, donor in enumerate(donors):
        check()
        lacks = np.flatnonzero(count < enough)
        if not len(lacks):
            return chosen, passed, donors[number:]
        gives = is_clean_at(donor, footage, scene, points[lacks], is_strict=is_strict)
        total = int(gives.sum())
        is_too_blurred = bool(worth) and donor.excess_px * scene.scale > MOST_BLURRIER_PX
        if not total or is_too_blurred or total < worth * min(len(points), 4 * len(lacks)):
            passed.append(donor)
        else:
            chosen.append(donor)
            count[lacks[gives]] += 1
    return chosen, passed, ()


@dataclass(frozen=True, slots=True)
class Seen:
    """Where else what a fix hides on a frame is seen.

    Attributes
    ----------
    window : Window
        In pixels of the scale.
    hole : (h, w) bool
        What is hidden.
    frame : (h, w) int32
        The frame that is taken from first.
    plane : (h, w) int32
        On which of the planes it lies.
    count : (h, w) int32
        How many could give it; 0 where none does.
    """

    window: Window
    hole: Mask
    frame: NDArray[np.int32]
    plane: NDArray[np.int32]
    count: NDArray[np.int32]

    @property
    def share(self) -> float:
        """How much of the hole is seen on any other frame, 0 to 1."""
        total = int(self.hole.sum())
        return float((self.count[self.hole] > 0).sum()) / total if total else 1.0


def seen_elsewhere(
    planes: tuple[PlaneAt, ...], cover: MatteAt, footage: Footage, scene: Scene, check: Check = lambda: None,
    enough: int | None = None,
) -> Seen:  # fmt: skip
    """Return where else everything that a cover hides is seen.

    Parameters
    ----------
    planes : tuple of PlaneAt
        Back to front.
    cover : MatteAt
    footage : Footage
    scene : Scene
        Its scale is the one that is looked at: a quarter tells enough for a figure.
    check : callable
        Called for each donor.
    enough : int, optional
        Where so many are found nothing more is looked for.
    """
    window = reach_of(cover, footage.bounds).scaled(scene.scale) & footage.bounds.scaled(scene.scale)
    hole = scene.matte(footage, cover, window) > COVERED
    frame, lies_on, count = np.zeros((3, window.height, window.width), np.int32)
    rows, columns = places_of(hole, max(hole.size, 1))
    points = points_at((rows, columns), window)
    for index, plane in enumerate(planes):
        on_plane = np.ones(len(points), bool)
        if plane.extent is not None:
            on_plane = scene.matte(footage, plane.extent, window)[rows, columns] > 0.5
        first, many = np.zeros((2, len(points)), np.int32)
        wanted: NDArray[np.intp] = np.flatnonzero(on_plane)
        for is_strict in (True, False):
            for donor in plane.donors if is_strict else mixed_alike(plane.donors):
                check()
                if not len(wanted):
                    break
                shown = wanted[is_clean_at(donor, footage, scene, points[wanted], is_strict=is_strict)]
                first[shown[many[shown] == 0]] = donor.frame
                many[shown] += 1
                if enough is not None:
                    wanted = wanted[many[wanted] < enough]
            wanted = wanted[many[wanted] == 0]
        lies_on[rows[on_plane], columns[on_plane]] = index
        given = on_plane & (many > 0)
        frame[rows[given], columns[given]] = first[given]
        count[rows[given], columns[given]] = many[given]
    return Seen(window, hole, frame, lies_on, count)
