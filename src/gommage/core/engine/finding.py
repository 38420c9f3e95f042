"""Where a brush could take its pixels from, in place and time: what a shot offers near a place."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.core.cover import matte_on
from gommage.core.document import CleanPlate, Fix, Shot, is_within, mappings_of
from gommage.core.engine.evaluate import Engine
from gommage.core.fill import canvas_key
from gommage.core.geometry import IDENTITY, Mapping, Window, around, scaling, spanning, then
from gommage.core.paint.finding import Candidate, Other, best_sources
from gommage.core.picture import Filter, Picture, resample

__all__ = ["THERE", "found_sources", "things_on"]

REACH_RADII, LEAST_REACH_PX = 9.0, 110.0
"""How far around the brush places are looked for."""
FRAMES_AWAY = (-1, 1, -2, 2, -3, 3, -5, 5, -8, 8, -13, 13, -21, 21, -34, 34)
THERE = 0.02
"""What a matte covers by more than this is not taken."""
SPLINE_PX = 14
Mask = NDArray[np.bool_]


def found_sources(
    engine: Engine, shot: Shot, holder_id: str, frame: int, at: tuple[float, float], radius_px: float,
    check: Callable[[], None] = lambda: None, shape: Mask | None = None, count: int = 6,
) -> tuple[Candidate, ...]:  # fmt: skip
    """Return the best places for a brush to take its pixels from, near a place and on other frames along the surface.

    Parameters
    ----------
    engine : Engine
    shot : Shot
    holder_id : str
        The fix whose strokes are painted on the shot, or the clean plate that is painted on.
    frame : int
        The one that is painted on; of a clean plate it is its home frame.
    at : (x, y)
        The brush, in pixels of that frame.
    radius_px : float
    check : callable
    shape : (2 K + 1, 2 K + 1) bool, optional
        What is covered, around `at`, in place of a round brush; see `best_sources`.

    count : int
        How many on this frame, and on others, at most.

    Returns
    -------
    tuple of Candidate
        In pixels of the frame; empty if nothing is like the surroundings. What fixes cover that are not laid yet, and
        what this fix holds out, is never taken.
    """
    plate = next((one for one in shot.clean_plates if one.id == holder_id), None)
    if plate is not None:
        frame, surface_id = plate.home_frame, plate.surface_id
        things, behind = shot.fixes, replace(shot, fixes=())
        whole = _at_home(engine, shot, plate, check)
    else:
        index = [fix.id for fix in shot.fixes].index(holder_id)
        surface_id, things = shot.fixes[index].surface_id, shot.fixes[index:]
        behind = replace(shot, fixes=shot.fixes[:index])
        whole = engine.result(replace(shot, fixes=shot.fixes[: index + 1]), frame, check=check)
    own = 0.0 if shape is None else shape.shape[0] / 2
    reach = max(REACH_RADII * radius_px, LEAST_REACH_PX) + own
    window = around(np.array([at]), reach) & shot.footage.bounds
    if window.is_empty:
        return ()
    place = int(np.floor(at[0])) - window.left, int(np.floor(at[1])) - window.top
    picture = np.ascontiguousarray(whole[window.slices])
    allowed = ~things_on(engine, shot, things, frame, window, check)
    near = around(np.array([at]), max(3 * radius_px, own) + SPLINE_PX) & shot.footage.bounds
    others = []
    for away in FRAMES_AWAY:
        check()
        other = _other(engine, shot, behind, things, surface_id, frame, frame + away, near, check)
        if other is not None:
            others.append(other)
    beside = best_sources(picture, allowed, place, radius_px, frame, count=count, shape=shape)
    local = np.ascontiguousarray(whole[near.slices])
    known = ~things_on(engine, shot, things, frame, near, check)
    there = best_sources(
        local,
        known,
        (int(np.floor(at[0])) - near.left, int(np.floor(at[1])) - near.top),
        radius_px,
        frame,
        others,
        count,
        shape,
    )
    best = [*beside, *(one for one in there if one.frame != frame)]
    return tuple(sorted(best, key=lambda one: one.mismatch))


def _at_home(engine: Engine, shot: Shot, plate: CleanPlate, check: Callable[[], None]) -> Picture:
    """Return a clean plate as its home frame sees it, (H, W, 3): it may be larger than the picture, and finer."""
    key, bounds = canvas_key(shot, plate), shot.footage.bounds
    seen = bounds.scaled(key.scale) & key.window
    whole = engine.pictures.canvas(key, check).read(seen)
    if key.scale == 1 and seen == bounds:
        return whole
    return resample(whole, scaling(key.scale), bounds, at=seen, filter=Filter.LOOK).pixels


def things_on(
    engine: Engine, shot: Shot, fixes: tuple[Fix, ...], frame: int, window: Window, check: Callable[[], None]
) -> Mask:
    """Return where on a frame something is that must not be taken: what fixes cover, and what they hold out, (h, w)."""
    mask: Mask = np.zeros((window.height, window.width), bool)
    for fix in fixes:
        if fix.is_on and is_within(fix.frames, frame):
            for matte in (fix.cover, fix.hold_outs):
                if matte.parts:
                    there = matte_on(shot, matte, frame)
                    mask |= engine.pictures.matte(shot.footage, there, window, 1.0, check) > THERE
    return mask


def _other(
    engine: Engine, shot: Shot, behind: Shot, things: tuple[Fix, ...], surface_id: str, frame: int, other: int,
    window: Window, check: Callable[[], None],
) -> Other | None:  # fmt: skip
    """Return another frame brought into register with a window of the one painted on, if it can be."""
    footage = shot.footage
    if other not in footage.frames or other in footage.missing:
        return None
    mapping = _between(shot, surface_id, frame, other)
    if mapping is None:
        return None
    spanned = spanning(mapping, window)
    if not np.isfinite(spanned).all():
        return None
    needed = around(spanned, SPLINE_PX) & footage.bounds
    if needed.is_empty:
        return None
    picture: Picture = engine.result(behind, other, needed, check=check)
    pixels, inside = resample(picture, mapping, window, at=needed)
    blocked = things_on(engine, shot, things, other, needed, check).astype(np.float32)
    taken, _ = resample(blocked, mapping, window, at=needed)
    return Other(other, pixels, (np.asarray(inside) > 0) & (taken < THERE))


def _between(shot: Shot, surface_id: str, frame: int, other: int) -> Mapping | None:
    """Return where pixels of a frame are on another, along a surface; the same place if there is none."""
    if not surface_id:
        return IDENTITY
    placed = mappings_of(shot)
    here, there = placed(surface_id, frame), placed(surface_id, other)
    return None if here is None or there is None else then(here.inverse(), there)
