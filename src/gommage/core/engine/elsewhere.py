"""Where else what a fix hides is seen: on one frame for each pixel, over the shot as a share of the cover."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from typing import Any

import numpy as np

from gommage.core.cover import MatteAt
from gommage.core.cover.parts import LineAt
from gommage.core.document import Donors, Fix, Shot
from gommage.core.engine.cache import Cache
from gommage.core.engine.inputs import inputs_at
from gommage.core.engine.pictures import NOTHING_IN_HAND, Pictures, never_freed
from gommage.core.engine.scenes import ShotScene
from gommage.core.fill import DonorsAt, Seen, seen_elsewhere
from gommage.core.geometry import Window
from gommage.core.picture import Picture, scale_of

__all__ = ["donor_map", "donors_of", "elsewhere_at", "share_level", "shares_seen", "striped", "told_of_place"]

Check = Callable[[], None]
MOST_LEVELS, SHARE_LEVEL, LEAST_PX = 6, 3, 3.0
"""A figure of the whole cover is told by an eighth of the size, or by that at which its thinnest line is still so
wide: what is thinner is lost in the pixels around it."""
NEAR, FAR, FULL_FRAMES = 0.03, 0.6, 64
"""How bright the map is for the next frame, and for one so many frames away or more."""
STRIPE_PX = 6


def donors_of(shot: Shot, fix: Fix, frame: int) -> DonorsAt | None:
    """Return the donors of a fix on a frame; None if it is not filled from any there."""
    inputs = inputs_at(shot, fix, frame) if isinstance(fix.fill, Donors) else None
    return inputs.fill if inputs is not None and isinstance(inputs.fill, DonorsAt) else None


def elsewhere_at(
    cache: Cache, pictures: Pictures, at: DonorsAt, level: int, check: Check, enough: int | None = None
) -> Seen:
    """Return where else everything is seen that a fix hides on a frame, at a level; see `seen_elsewhere`."""

    def look() -> Seen:
        scene = ShotScene(cache, pictures, level, never_freed, NOTHING_IN_HAND, check)
        return seen_elsewhere(at.planes, at.cover, at.footage, scene, check, enough)

    found: Seen = cache.get_or_make(_name_of(at, level, enough), look, check)
    return found


def _name_of(at: DonorsAt, level: int, enough: int | None = None) -> Hashable:
    return "elsewhere", at.footage, at.cover, at.planes, level, enough


def told_of_place(cache: Cache, at: DonorsAt, x: float, y: float) -> str:
    """Return from which frame a place of a frame comes, in words, as far as that was looked at already."""
    for level in range(MOST_LEVELS + 1):
        seen: Seen | None = cache.get(_name_of(at, level))
        if seen is None:
            continue
        column, row = int(x * scale_of(level)) - seen.window.left, int(y * scale_of(level)) - seen.window.top
        if not (0 <= row < seen.hole.shape[0] and 0 <= column < seen.hole.shape[1] and seen.hole[row, column]):
            return ""
        count = int(seen.count[row, column])
        return f"from {seen.frame[row, column]}, {count} could give it" if count else "no frame shows it"
    return ""


def shares_seen(
    cache: Cache, pictures: Pictures, shot: Shot, fix: Fix, check: Check, told: Callable[[dict[int, float]], Any]
) -> dict[int, float]:
    """Return for each frame that a fix is filled on from donors how much of its cover is seen on any, 0 to 1.

    Parameters
    ----------
    cache : Cache
    pictures : Pictures
    shot : Shot
    fix : Fix
    check : callable
        Called for each donor.
    told : callable
        Called with what is known so far, every ten frames.
    """
    found: dict[int, float] = {}
    for frame in shot.footage.frames:
        check()
        at = donors_of(shot, fix, frame)
        if at is not None:
            found[frame] = elsewhere_at(cache, pictures, at, share_level(at.cover), check, enough=1).share
            if len(found) % 10 == 0:
                told(dict(found))
    return found


def share_level(cover: MatteAt) -> int:
    """Return the level at which a figure of a cover is told."""
    widths = [
        2 * (part.grow_px + part.outwards_px / 2 + (0.0 if line.soft is None else float(line.soft.values[:, 0].min())))
        for part in cover.parts if isinstance(line := part.source, LineAt) and not line.is_closed
    ]  # fmt: skip
    return min(max(int(np.log2(max(min(widths) / LEAST_PX, 1.0))), 0), SHARE_LEVEL) if widths else SHARE_LEVEL


def striped(window: Window) -> Picture:
    """Return the stripes of what no frame shows over a window, (h, w, 1) scene-linear."""
    across = np.arange(window.left, window.right) + np.arange(window.top, window.bottom)[:, None]
    return np.where(across // STRIPE_PX % 2 == 0, np.float32(0.9), np.float32(0.01))[..., None]


def donor_map(seen: Seen, picture: Picture, window: Window, frame: int) -> Picture:
    """Return a window of the donor map: (h, w, 3), scene-linear.

    Around the cover the picture, grey and dim; in it the brighter, the further in time a pixel comes from; striped
    where no frame shows it.

    Parameters
    ----------
    seen : Seen
    picture : (h, w, 3) float32
        The window of what lies around, of the same scale as `seen`.
    window : Window
    frame : int
        The one that is filled.
    """
    grey = picture.mean(axis=2, keepdims=True) * np.float32(0.25)
    out = np.repeat(grey, 3, axis=2)
    shared = seen.window & window
    if shared.is_empty:
        return out
    inner = shared.within(seen.window)
    hole, first, count = seen.hole[inner], seen.frame[inner], seen.count[inner]
    away = np.log2(np.maximum(np.abs(first - frame), 1)) / np.log2(FULL_FRAMES)
    level = (NEAR + (FAR - NEAR) * np.clip(away, 0, 1) ** 2).astype(np.float32)
    shown = np.where(count > 0, level, striped(shared)[..., 0])[..., None]
    there = out[shared.within(window)]
    np.copyto(there, shown, where=hole[..., None])
    return out
