"""Soft reshape: a round influence pushes, pulls, swells and smooths what is near it, like clay."""

from __future__ import annotations

from enum import StrEnum
from functools import reduce

import numpy as np
from numpy.typing import NDArray

from gommage.app.hands.gestures import Gesture, PointerEvent, Step
from gommage.app.hands.ground import Ground
from gommage.app.hands.seen import Seen, part_seen, parts_seen, reshaped
from gommage.core.cover.reshaping import filled_in, moved_together, pulled, smoothed, swollen
from gommage.core.document import Drawn
from gommage.core.document.edits.shapes import shape_with_vertex
from gommage.core.geometry import Mapping, Points

__all__ = ["Mould", "mould"]

AMOUNT = 0.12
"""What one movement of the pen swells or smooths where it is felt most."""


class Mould(StrEnum):
    """What the influence does."""

    PULL = "pull"
    PUSH = "push"
    SWELL = "swell"
    SHRINK = "shrink"
    SMOOTH = "smooth"


def mould(press: PointerEvent, ground: Ground) -> Gesture:
    """Drag over the shape in hand: pull takes along what was near at first, the others act on what they pass."""
    desk = ground.desk
    part = desk.part(ground.project)
    seen = part_seen(ground, part) if part is not None else None
    if seen is None or seen.shape.is_locked:
        others = parts_seen(ground)
        if not others:
            return Step(error="There is no shape to reshape. Draw one first.")
        seen = others[0]
    assert isinstance(seen.part.source, Drawn)
    home = ground.home_to_frame(seen.part.source.surface_id, ground.frame)
    assert home is not None
    from_view, radius = ground.view_from_frame.inverse(), desk.mould_px / 2
    begin = from_view(press.xy)
    places = _places(ground, seen, home, begin, radius) if desk.mould_adds else ()
    shape = reduce(shape_with_vertex, places, seen.shape)
    start = _carried(shape.vertices_at(desk.frame), home)
    now, last, step = start, begin, Step()
    while True:
        event, _ = yield step
        here = from_view(event.xy)
        if np.isfinite(here).all() and (here != last).any():
            now = _moulded(desk.mould, start, now, begin, last, here, radius, is_closed=shape.is_closed)
            last = here
            if not np.array_equal(now, start):
                step = reshaped(ground, seen, _carried(now, home.inverse()), "Reshape", places=places)
        if event.kind == "release":
            return step


def _moulded(
    kind: str, start: NDArray[np.float64], now: NDArray[np.float64], begin: Points, last: Points, here: Points,
    radius: float, *, is_closed: bool,
) -> NDArray[np.float64]:  # fmt: skip
    if kind == Mould.PULL:
        return pulled(start, begin, here - begin, radius)
    if kind == Mould.PUSH:
        return pulled(now, last, here - last, radius)
    if kind == Mould.SMOOTH:
        return smoothed(now, here, radius, 4 * AMOUNT, is_closed=is_closed)
    return swollen(now, here, radius, AMOUNT if kind == Mould.SWELL else -AMOUNT)


def _places(ground: Ground, seen: Seen, home: Mapping, at: Points, radius: float) -> tuple[float, ...]:
    seen_here = _carried(seen.vertices, home)
    return tuple(filled_in(seen_here, seen.shape.kinds, at, radius, is_closed=seen.shape.is_closed))


def _carried(vertices: NDArray[np.float64], mapping: Mapping) -> NDArray[np.float64]:
    return moved_together(vertices, range(len(vertices)), mapping)
