"""Small covers, each filled by itself: from the frame beside it whose surroundings are most like its own.

For damage of a frame or two: dust, hairs, scratches. Nothing need be followed: each piece of the cover is looked for on
the nearest frames by the rim around it, a shift at a time.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.core.document import Footage
from gommage.core.fill.choosing import Blocked, DonorAt, blocked_of
from gommage.core.fill.gathering import Gathered, LightBetween, Stack
from gommage.core.fill.scene import Scene
from gommage.core.geometry import Window, shift
from gommage.core.picture import Picture, Splines, luminance
from gommage.errors import FootageError

__all__ = ["FRAMES_AWAY", "fill_by_piece"]

Mask = NDArray[np.bool_]
Check = Callable[[], None]
FRAMES_AWAY = 4
"""Farther frames are not looked at."""
RIM_GAP_PX, RIM_PX, FAR_PX = 1, 10, 4
"""The rim begins so far off a piece and is so wide; a piece may have moved so far on another frame."""
MOST_POINTS, LEAST_POINTS, DARKEST = 700, 24, 1e-4
AS_GOOD = 1.25
"""Frames whose rim differs by up to so many times what the best one's does fill what that does not show."""
SPLINE_REACH_PX = 8


@dataclass(frozen=True, slots=True)
class _Found:
    """A piece on another frame: how far it has moved, how unlike its rim is, and its light, logarithms a channel."""

    donor: DonorAt
    by: tuple[float, float]
    unlike: float
    light: NDArray[np.float64]


def fill_by_piece(
    donors: tuple[DonorAt, ...], footage: Footage, scene: Scene, wide: Window, frame: Picture, hole: Mask, known: Mask,
    window: Window, rim_px: int, check: Check = lambda: None,
) -> Gathered:  # fmt: skip
    """Return what other frames show of each piece of a hole, over a window.

    Each piece is taken from the frame whose rim is most like its own, grain and all; what that frame does not show,
    from the next that is nearly as good.

    Parameters
    ----------
    donors : tuple of DonorAt
        Nearest first; of these up to `FRAMES_AWAY` on either side.
    footage : Footage
    scene : Scene
    wide : Window
        Of the frame, in pixels of the scene's scale, where the following arrays lie.
    frame : (H, W, 3) float32
    hole, known : (H, W) bool
        What is filled; where the frame shows what is behind.
    window : Window
        What is asked for, within `wide`.
    rim_px : int
        So far around the hole is filled as well.
    check : callable
        Called for each piece and frame.
    """
    scene.ahead(footage, [donor.frame for donor in donors])
    total = Gathered(np.zeros((window.height, window.width, 3), np.float32), np.zeros(_shape_of(window), np.float32))
    side = 2 * rim_px + 1
    grown = cv2.dilate(hole.view(np.uint8), np.ones((side, side), np.uint8))
    count, labels, boxes, _ = cv2.connectedComponentsWithStats(grown)
    for number in range(1, count):
        left, top, width, height = boxes[number, :4].tolist()
        at = Window(left, top, left + width, top + height).shifted(wide.left, wide.top)
        part = at & window
        if part.is_empty:
            continue
        wanted = labels[part.within(wide)] == number
        around = at.grown(RIM_PX) & wide
        inner = around.within(wide)
        own = (labels[inner] == number) & hole[inner]
        found = _found(donors, footage, scene, around, frame[inner], own, known[inner], check)
        stack = Stack(part, wanted, 1)
        for one in found:
            check()
            _bring(one, footage, scene, stack)
        piece, inside = stack.gathered(), part.within(window)
        taken = piece.count > 0
        total.pixels[inside][taken], total.count[inside][taken] = piece.pixels[taken], piece.count[taken]
    return total


def _shape_of(window: Window) -> tuple[int, int]:
    return window.height, window.width


def _found(
    donors: tuple[DonorAt, ...], footage: Footage, scene: Scene, at: Window, frame: Picture, hole: Mask, known: Mask,
    check: Check,
) -> list[_Found]:  # fmt: skip
    """Return a piece on the frames that show its rim, the one that is most alike first."""
    rows, columns = _rim(hole, known)
    if len(rows) < LEAST_POINTS:
        return []
    shown = frame[rows, columns]
    bounds = footage.bounds.scaled(scene.scale)
    far = max(round(FAR_PX * scene.scale), 1)
    found = []
    for donor in donors:
        check()
        try:
            picture = scene.plate(footage, donor.frame, bounds)
        except FootageError:
            continue  # gives nothing; it says so itself when one goes there
        blocked = blocked_of(donor, footage, scene)
        one = _placed(donor, picture, blocked, rows + at.top, columns + at.left, shown, far)
        if one is not None:
            found.append(one)
    found.sort(key=lambda one: one.unlike)
    return [one for one in found if one.unlike <= AS_GOOD * found[0].unlike]


def _rim(hole: Mask, known: Mask) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return rows and columns of some pixels around a piece."""
    near, far = (
        cv2.dilate(hole.view(np.uint8), np.ones((2 * by + 1, 2 * by + 1), np.uint8)).view(bool)
        for by in (RIM_GAP_PX, RIM_PX)
    )
    rows, columns = np.nonzero(far & ~near & known)
    step = max(len(rows) // MOST_POINTS, 1)
    return rows[::step], columns[::step]


def _placed(
    donor: DonorAt, picture: Picture, blocked: Blocked, rows: NDArray[np.int64], columns: NDArray[np.int64],
    shown: Picture, far: int,
) -> _Found | None:  # fmt: skip
    """Return where the rim of a piece is found on a frame; None where too little of it is seen."""
    height, width = picture.shape[:2]
    there = np.stack([columns + 0.5, rows + 0.5], axis=1)
    seen = blocked.is_clean(there)
    seen &= (rows >= far) & (rows < height - far) & (columns >= far) & (columns < width - far)
    if seen.sum() < LEAST_POINTS:
        return None
    rows, columns, shown = rows[seen], columns[seen], shown[seen]
    here = _log(luminance(shown[None])[0])
    top, left = rows.min() - far, columns.min() - far
    luma = _log(luminance(picture[top : rows.max() + far + 1, left : columns.max() + far + 1]))
    moves = np.arange(-far, far + 1)
    down = (rows - top)[:, None, None] + moves[:, None]
    across = (columns - left)[:, None, None] + moves
    off = here[:, None, None] - luma[down, across]  # (N, 2 far + 1, 2 far + 1)
    unlike = np.abs(off - np.median(off, axis=0)).mean(axis=0)
    row, column = np.unravel_index(int(unlike.argmin()), unlike.shape)
    by = (moves[column] + _lowest(unlike[row], int(column)), moves[row] + _lowest(unlike[:, column], int(row)))
    ratio = np.log(
        np.maximum(shown, DARKEST) / np.maximum(picture[rows + moves[row], columns + moves[column]], DARKEST)
    )
    return _Found(donor, (float(by[0]), float(by[1])), float(unlike.min()), np.median(ratio, axis=0).astype(np.float64))


def _log(values: Picture) -> NDArray[np.float32]:
    return np.asarray(np.log(np.maximum(values, DARKEST)), np.float32)


def _lowest(curve: NDArray[np.floating], at: int) -> float:
    """Return how far from the lowest value of a curve its lowest place is, by the parabola through its neighbours."""
    if not 0 < at < len(curve) - 1:
        return 0.0
    before, here, after = (float(one) for one in curve[at - 1 : at + 2])
    bent = before - 2 * here + after
    return float(np.clip((before - after) / (2 * bent), -0.5, 0.5)) if bent > 0 else 0.0


def _bring(one: _Found, footage: Footage, scene: Scene, stack: Stack) -> None:
    """Take from a frame what is lacking of a piece."""
    bounds = footage.bounds.scaled(scene.scale)
    lacking = stack.lacking
    if lacking.is_empty:
        return
    dx, dy = one.by
    needed = lacking.grown(FAR_PX + SPLINE_REACH_PX) & bounds
    blocked = blocked_of(one.donor, footage, scene)
    stack.take(
        Splines.of(scene.plate(footage, one.donor.frame, needed), needed), shift(dx, dy), bounds,
        (blocked.window, blocked.mask), LightBetween.even(one.light), 0,
    )  # fmt: skip
