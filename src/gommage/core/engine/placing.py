"""Where a cover could be borrowed from: places that fit on the frame in hand, and go on fitting where it moves."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.core.cover import MatteAt, matte_on, reach_of
from gommage.core.document import Fix, FrameOffset, Place, Shot, changed_on, is_within, mappings_of
from gommage.core.engine.evaluate import Engine
from gommage.core.engine.finding import THERE, found_sources, things_on
from gommage.core.fill.borrow import source_mapping
from gommage.core.fill.placed import frame_at
from gommage.core.geometry import Mapping, Window, around, spanning
from gommage.core.paint import Candidate
from gommage.core.picture import resample
from gommage.errors import FootageError

__all__ = ["FoundPlace", "found_places"]

ROOM_PX = 12
"""Around a cover, so far its surroundings are looked at."""
MOST_SIDE_PX = 1000
TRIED, MOST_TOLD = 24, 8
"""So many places that fit on the frame in hand are tried on others, and so many told."""
FRAMES_LOOKED_AT = 7
BAD = 1.0
"""What a place that is covered or out of the picture on a frame counts as."""
CALM = 1.4
"""What is borrowed may vary by so many times what its surroundings do."""
SPLINE_PX = 14
Mask = NDArray[np.bool_]
Check = Callable[[], None]


@dataclass(frozen=True, slots=True)
class FoundPlace:
    """A place to borrow from: how far surroundings differ over frames, light left aside, half by the worst of these."""

    place: Place
    mismatch: float


def found_places(
    engine: Engine, shot: Shot, fix: Fix, part_id: str, place: Place, frame: int, check: Check = lambda: None
) -> tuple[FoundPlace, ...]:
    """Return where a part of a cover could be borrowed from, the best first.

    Parameters
    ----------
    engine : Engine
    shot : Shot
    fix : Fix
    part_id : str
        Empty: all of the cover.
    place : Place
        As it is borrowed from now: what is not looked for stays as it is.
    frame : int
        On which it is looked for; it is then tried on others on which it is covered.
    check : callable

    Returns
    -------
    tuple of FoundPlace
        Empty if nothing is covered there, or nothing is like what is around it.
    """
    cover = _covered(shot, fix, part_id, frame)
    reach = reach_of(cover, shot.footage.bounds)
    if reach.is_empty or max(reach.width, reach.height) > MOST_SIDE_PX:
        return ()
    half = max(reach.width, reach.height) // 2 + 1 + ROOM_PX
    x, y = (reach.left + reach.right) // 2, (reach.top + reach.bottom) // 2
    square = Window(x - half, y - half, x + half + 1, y + half + 1)
    seen = square & shot.footage.bounds
    shape: Mask = np.zeros((square.height, square.width), bool)
    shape[seen.within(square)] = engine.pictures.matte(shot.footage, cover, seen, 1.0, check) > THERE
    if not shape.any():
        return ()
    thick = float(cv2.distanceTransform(shape.astype(np.uint8), cv2.DIST_L2, 5).max())
    found = found_sources(engine, shot, fix.id, frame, (float(x), float(y)), thick, check, shape, TRIED)
    on = _frames(shot, fix, part_id, frame)
    tried = []
    for one in found:
        new = _place_of(shot, fix, place, one, (float(x), float(y)), frame)
        if new is None:
            continue
        others = [_mismatch(engine, shot, fix, part_id, new, other, check) for other in on]
        off = [_mismatch(engine, shot, fix, part_id, new, frame, check), *others]
        tried.append(FoundPlace(new, float(np.mean(off) + np.max(off)) / 2))
    return tuple(sorted(tried, key=lambda one: one.mismatch)[:MOST_TOLD])


def _covered(shot: Shot, fix: Fix, part_id: str, frame: int) -> MatteAt:
    parts = tuple(part for part in fix.cover.parts if part_id in ("", part.id))
    return matte_on(shot, replace(fix.cover, parts=parts), frame)


def _frames(shot: Shot, fix: Fix, part_id: str, frame: int) -> list[int]:
    """Return some other frames on which something is covered, spread over all of them."""
    footage = shot.footage
    found = [
        one
        for one in footage.frames
        if one != frame and one not in footage.missing and is_within(fix.frames, one)
        and not reach_of(_covered(shot, fix, part_id, one), footage.bounds).is_empty
    ]  # fmt: skip
    chosen = np.linspace(0, len(found) - 1, min(FRAMES_LOOKED_AT, len(found))).round().astype(int)
    return [found[index] for index in chosen]


def _place_of(
    shot: Shot, fix: Fix, place: Place, found: Candidate, at: tuple[float, float], frame: int
) -> Place | None:
    """Return a place found in pixels of a frame as it is kept: along the surface in those of its home frame."""
    by = np.array([found.dx, found.dy], np.float64)
    if fix.surface_id and place.runs_along:
        here = mappings_of(shot)(fix.surface_id, frame)
        if here is None:
            return None
        ends = here.inverse()(np.array([at, np.add(at, by)]))
        by = ends[1] - ends[0]
    if not np.isfinite(by).all():
        return None
    return replace(
        place, dx=changed_on(place.dx, frame, float(by[0])), dy=changed_on(place.dy, frame, float(by[1])),
        time=FrameOffset(frames=found.frame - frame),
    )  # fmt: skip


def _mismatch(engine: Engine, shot: Shot, fix: Fix, part_id: str, place: Place, frame: int, check: Check) -> float:
    """Return how far the surroundings of a cover differ from those of its place on another frame."""
    check()
    footage, bad = shot.footage, BAD
    cover = _covered(shot, fix, part_id, frame)
    reach = reach_of(cover, footage.bounds)
    middle = (reach.left + reach.right) / 2, (reach.top + reach.bottom) / 2
    mapping, other = source_mapping(shot, fix.surface_id, place, frame, middle), frame_at(place.time, frame)
    window = reach.grown(ROOM_PX) & footage.bounds
    if mapping is None or other not in footage.frames or other in footage.missing:
        return bad
    brought = _brought(engine, shot, fix, mapping, other, window, check)
    if brought is None:
        return bad
    there, free = brought
    shape = engine.pictures.matte(footage, cover, window, 1.0, check) > THERE
    if not free[shape].all():
        return bad
    here = engine.plate(footage, frame, check)[window.slices]
    ring = (cv2.dilate(shape.astype(np.uint8), np.ones((2 * ROOM_PX - 3,) * 2, np.uint8)) > 0) & free
    ring &= ~things_on(engine, shot, shot.fixes, frame, window, check)
    if ring.sum() < ROOM_PX:
        return bad
    difference = here[ring] - there[ring]
    inside = there[shape] - np.median(there[ring], axis=0)
    around_it = here[ring] - np.median(here[ring], axis=0)
    crossed = max(float(np.abs(inside).mean() - CALM * np.abs(around_it).mean()), 0.0)
    level = float(np.abs(here[ring]).mean()) + 1e-6
    # distances, no squares: where a corner of it must differ anyhow, the rest still tells
    return (float(np.abs(difference - np.median(difference, axis=0)).mean()) + crossed) / level


def _brought(
    engine: Engine, shot: Shot, fix: Fix, mapping: Mapping, other: int, window: Window, check: Check
) -> tuple[NDArray[np.float32], Mask] | None:
    """Return what would be borrowed over a window, and where it may be taken."""
    footage = shot.footage
    spanned = spanning(mapping, window)
    needed = around(spanned, SPLINE_PX) & footage.bounds if np.isfinite(spanned).all() else Window(0, 0, 0, 0)
    if needed.is_empty:
        return None
    try:
        picture = engine.plate(footage, other, check)[needed.slices]
    except FootageError:
        return None
    pixels, inside = resample(np.ascontiguousarray(picture), mapping, window, at=needed)
    things = things_on(engine, shot, shot.fixes, other, needed, check).astype(np.float32)
    taken, _ = resample(things, mapping, window, at=needed)
    return pixels, (np.asarray(inside) > 0) & (np.asarray(taken) < THERE)
