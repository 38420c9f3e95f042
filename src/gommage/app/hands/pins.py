"""Pins: corners, or points of one's own, dragged where they belong on a frame."""

from __future__ import annotations

from functools import partial

import numpy as np

from gommage.app.hands.gestures import Gesture, PointerEvent, Step, hit_vertex, is_inside
from gommage.app.hands.ground import Ground
from gommage.core.document import Array, Pin, Surface, edits, placement
from gommage.core.geometry import Points

__all__ = ["pin_home", "pin_places", "place_pin"]

OWN_POINTS = 4


def pin_home(ground: Ground, surface: Surface) -> Points:
    """Return the points that the pin moves, (K, 2) home-frame pixels: one's own, or the surface's corners."""
    own = ground.desk.pin_points
    return np.array(own) if own else surface.corners


def pin_places(ground: Ground, surface: Surface) -> Points | None:
    """Return where the pin's handles are on this frame, (K, 2) pixels.

    Where the surface is not known, as on the nearest.
    """
    shot = ground.shot
    assert shot is not None
    mapping = ground.home_to_frame(surface.id, ground.desk.frame)
    if mapping is None:
        placed = placement(shot, surface)
        if placed is None:
            return None
        frames = placed.frames
        mapping = placed.home_to_frame(min(max(ground.desk.frame, frames.first), frames.last))
    return mapping(pin_home(ground, surface))


def place_pin(press: PointerEvent, ground: Ground) -> Gesture:
    """Drag a handle, or all of them by their middle; Alt sets a point of one's own instead."""
    surface = ground.surface
    if surface is None:
        return None
    if press.alt:
        return _own_point(press, ground, surface)
    places = pin_places(ground, surface)
    if places is None:
        return Step(error=f"{surface.name} is nowhere yet; follow it or go to its home frame.")
    view = ground.view_from_frame
    grabbed = hit_vertex(places, press, view)
    if grabbed is None and not (len(places) >= 3 and is_inside(places, press, view)):
        return None
    from_view, frame = view.inverse(), ground.desk.frame
    begin, home = from_view(press.xy), Array(pin_home(ground, surface))
    step = Step()
    while True:
        event, _ = yield step
        by = from_view(event.xy) - begin
        moved = places.copy()
        if grabbed is None:
            moved += by
        else:
            moved[grabbed] += by
        if np.isfinite(moved).all() and by.any():
            pin = Pin(frame=frame, home=home, placed=Array(moved))
            edit = partial(edits.set_pin, shot_id=ground.desk.shot_id, surface_id=surface.id, pin=pin)
            step = Step(f"Pin on {frame}", edit)
        if event.kind == "release":
            return step if step.edit is not None else None


def _own_point(press: PointerEvent, ground: Ground, surface: Surface) -> Step | None:
    view = ground.view_from(surface.id)
    if view is None:
        return None
    x, y = view.inverse()(press.xy)
    own = (*ground.desk.pin_points, (float(x), float(y)))
    return Step(desk={"pin_points": own[-OWN_POINTS:]})
