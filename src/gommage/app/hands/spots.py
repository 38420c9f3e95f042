"""Spots: set by a click, dragged to another place or another feature."""

from __future__ import annotations

from functools import partial

import numpy as np
from msgspec.structs import replace

from gommage.app.hands.gestures import Gesture, PointerEvent, Step, hit_vertex
from gommage.app.hands.ground import Ground
from gommage.app.hands.names import free_name
from gommage.core.document import PointsFollow, Spot, Surface, edits, new_id
from gommage.core.follow import aimed
from gommage.core.geometry import Points

__all__ = ["move_spot", "places_spots", "set_spot", "spots_on"]


def places_spots(ground: Ground) -> bool:
    """Return whether a click in the Follow step sets a spot rather than a corner of a shape."""
    surface, draws = ground.surface, ground.desk.draws
    is_points = surface is not None and isinstance(surface.how, PointsFollow)
    return draws == "points" or (draws in ("area", "keep-out") and is_points)


def spots_on(ground: Ground, surface: Surface) -> list[tuple[Spot, Points, float]]:
    """Return the spots that are known on this frame: the spot, where it is in the frame's pixels, how surely."""
    assert isinstance(surface.how, PointsFollow)
    frame = ground.desk.frame
    mapping = ground.home_to_frame(surface.id, frame)
    found: list[tuple[Spot, Points, float]] = []
    for spot in surface.how.spots:
        row = frame - spot.path.first_frame if spot.path is not None else -1
        if spot.path is not None and 0 <= row < len(spot.path.certainty):
            found.append((spot, spot.path.positions.values[row], float(spot.path.certainty.values[row])))
        elif mapping is not None:
            home = np.array([spot.x, spot.y])
            found.append((spot, mapping(home), 1.0 if frame == surface.home_frame else 0.0))
    return found


def set_spot(press: PointerEvent, ground: Ground) -> Gesture:
    """Set a spot under the pen: the first begins a surface of points."""
    shot, surface, desk = ground.shot, ground.surface, ground.desk
    assert shot is not None
    yield Step()  # a click is done when the pen leaves
    x, y = ground.view_from_frame.inverse()(press.xy)
    if surface is None or not isinstance(surface.how, PointsFollow) or desk.draws == "points":
        how = PointsFollow(spots=(Spot(id=new_id(), x=float(x), y=float(y)),))
        name = free_name("Points", shot.surfaces)
        fresh = Surface(id=new_id(), name=name, home_frame=desk.frame, how=how)
        after = {"surface_id": fresh.id, "part_id": "", "pin_points": (), "draws": "area", "tool": "draw"}
        return Step("New surface", partial(edits.add_surface, shot_id=shot.id, surface=fresh), after)
    mapping = ground.home_to_frame(surface.id, desk.frame)
    if mapping is None:
        return Step(error=f"{surface.name} is not followed to this frame; set spots where it is.")
    home = mapping.inverse()(np.array([x, y]))
    spots = (*surface.how.spots, Spot(id=new_id(), x=float(home[0]), y=float(home[1])))
    edit = partial(edits.change_follow, shot_id=shot.id, surface_id=surface.id, spots=spots)
    return Step("Set spot", edit)


def move_spot(press: PointerEvent, ground: Ground) -> Gesture:
    """Move a spot on the home frame; on others follow it by another feature from here on, without a jump."""
    surface, desk = ground.surface, ground.desk
    assert surface is not None
    assert isinstance(surface.how, PointsFollow)
    view = ground.view_from_frame
    under = [one for one in spots_on(ground, surface) if hit_vertex(one[1][None], press, view) is not None]
    if not under:
        return Step(desk={"part_id": ""})
    spot, place, _ = under[0]
    from_view = view.inverse()
    begin = from_view(press.xy)
    step = Step(desk={"part_id": spot.id})
    while True:
        event, _ = yield step
        by = from_view(event.xy) - begin
        if by.any() and np.isfinite(by).all():
            changed, label = _moved(spot, place, place + by, desk.frame, is_home=desk.frame == surface.home_frame)
            spots = tuple(changed if one.id == spot.id else one for one in surface.how.spots)
            edit = partial(edits.change_follow, shot_id=desk.shot_id, surface_id=surface.id, spots=spots)
            step = Step(label, edit, {"part_id": spot.id})
        if event.kind == "release":
            return step


def _moved(spot: Spot, place: Points, at: Points, frame: int, *, is_home: bool) -> tuple[Spot, str]:
    if is_home:
        return replace(spot, x=float(at[0]), y=float(at[1]), path=None), "Move spot"
    others = tuple(one for one in spot.aims if one.frame != frame)
    aims = tuple(sorted((*others, aimed(spot, frame, at, place)), key=lambda one: one.frame))
    return replace(spot, aims=aims), f"Re-aim spot from {frame}"
