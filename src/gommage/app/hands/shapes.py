"""Drawing shapes: areas, keep-outs, other surfaces, covers."""

from __future__ import annotations

from functools import partial

import numpy as np

from gommage.app.hands.gestures import GRAB_PX, Gesture, PointerEvent, Step, Trace
from gommage.app.hands.ground import Ground
from gommage.app.hands.names import free_name
from gommage.core.document import (
    Array,
    ByHand,
    Drawn,
    Fix,
    How,
    Matte,
    MattePart,
    PlaneFollow,
    Shape,
    Still,
    Surface,
    edits,
    new_id,
)
from gommage.core.document.edits import Slot
from gommage.core.engine import Step as WorkStep
from gommage.core.geometry import Points, box_of

__all__ = ["draw_shape"]


def draw_shape(press: PointerEvent, ground: Ground) -> Gesture:
    """Draw a closed shape click by click; a click on the first point closes it.

    In the Follow step it is counted in the frame's pixels and becomes what the desk says; in all others it is a
    cover's, counted in its surface's.
    """
    follows = ground.desk.step is WorkStep.FOLLOW
    surface_id = "" if follows else _cover_surface(ground)
    points: tuple[tuple[float, float], ...] = ()
    event = press
    while True:
        if event.kind == "press":
            view = ground.view_from(surface_id)
            if view is None:
                return Step(error=_why_not(ground))
            if len(points) >= 3 and np.hypot(*(view(np.array(points[0])) - event.xy)) < GRAB_PX:
                break
            x, y = view.inverse()(event.xy)
            points = (*points, (float(x), float(y)))
        kind = ("keep-out" if ground.desk.draws == "keep-out" else "area") if follows else "drawing"
        event, ground = yield Step(trace=Trace(points, surface_id, kind))
    drawn = np.array(points)
    return _in_follow(ground, drawn) if follows else _in_cover(ground, drawn, surface_id)


def _cover_surface(ground: Ground) -> str:
    """Return what a cover's shape rides on: the surface in hand, else the fix's own."""
    if ground.surface is not None:
        return ground.surface.id
    return ground.fix.surface_id if ground.fix is not None else ""


def _why_not(ground: Ground) -> str:
    surface = ground.surface
    words = f"{surface.name} is not followed to this frame." if surface else "Follow a surface first."
    return f"A cover cannot be drawn here. {words}"


def _in_cover(ground: Ground, points: Points, surface_id: str) -> Step:
    shot, fix, desk = ground.shot, ground.fix, ground.desk
    assert shot is not None
    shape = Shape.of(new_id(), desk.frame, points)
    part = MattePart(id=shape.id, source=Drawn(shape=shape, surface_id=surface_id))
    desk_after = {"tool": "edit", "part_id": part.id}
    if fix is not None:
        label = "Draw one more shape" if fix.cover.parts else "Draw cover"
        edit = partial(edits.add_part, shot_id=shot.id, holder_id=fix.id, slot=Slot.COVER, part=part)
        return Step(label, edit, desk_after)
    plain = Fix(id=new_id(), name=free_name("Fix", shot.fixes), surface_id=surface_id)
    cover = Matte(parts=(part,), softness=plain.cover.softness)
    fresh = Fix(id=plain.id, name=plain.name, surface_id=surface_id, cover=cover)
    edit = partial(edits.add_fix, shot_id=shot.id, fix=fresh)
    return Step("New fix", edit, {**desk_after, "fix_id": fresh.id, "fix_ids": (fresh.id,)})


def _in_follow(ground: Ground, points: Points) -> Step:
    desk, shot, surface = ground.desk, ground.shot, ground.surface
    assert shot is not None
    if surface is not None and desk.draws in ("area", "keep-out"):
        return _one_more_area(ground, surface, points)
    surface_id = new_id()
    corners = Array(points if len(points) == 4 else box_of(points))
    kinds: dict[str, How] = {"still": Still(corners=corners), "by hand": ByHand(corners=corners)}
    area = Shape.of(new_id(), desk.frame, points)
    how = kinds.get(desk.draws, PlaneFollow(areas=Matte.of(area, surface_id=surface_id)))
    name = free_name({"still": "Still", "by hand": "By hand"}.get(desk.draws, "Surface"), shot.surfaces)
    fresh = Surface(id=surface_id, name=name, home_frame=desk.frame, how=how)
    tool = "pin" if desk.draws == "by hand" else "edit"
    after = {"surface_id": fresh.id, "part_id": "", "pin_points": (), "tool": tool, "draws": "surface"}
    return Step("New surface", partial(edits.add_surface, shot_id=shot.id, surface=fresh), after)


def _one_more_area(ground: Ground, surface: Surface, points: Points) -> Step:
    desk = ground.desk
    home = ground.home_to_frame(surface.id, desk.frame)
    if home is None:
        return Step(error=f"{surface.name} is not followed to frame {desk.frame}; draw its areas where it is.")
    shape = Shape.of(new_id(), desk.frame, home.inverse()(points))
    part = MattePart(id=shape.id, source=Drawn(shape=shape, surface_id=surface.id))
    is_keep_out = desk.draws == "keep-out"
    slot = Slot.KEEP_OUTS if is_keep_out else Slot.AREAS
    edit = partial(edits.add_part, shot_id=desk.shot_id, holder_id=surface.id, slot=slot, part=part)
    return Step("Draw keep-out" if is_keep_out else "Draw area", edit, {"tool": "edit", "part_id": part.id})
