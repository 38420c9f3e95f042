"""Reshaping: vertices and whole shapes chosen, dragged, made more of and taken away."""

from __future__ import annotations

from functools import partial

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.app.hands.box import drag_box, grip_at
from gommage.app.hands.gestures import GRAB_PX, Gesture, PointerEvent, Step, Trace
from gommage.app.hands.ground import Ground
from gommage.app.hands.seen import Seen, desk_of, in_frame, parts_seen, reshaped, soft_places
from gommage.core.cover.reshaping import moved_together
from gommage.core.document import VertexKind, edits
from gommage.core.geometry import Points, shift

__all__ = ["reshape"]

CLICK_PX = 3.0
"""A pen that went no farther has clicked."""
STRAIGHT = 0.98
"""Cosine from which on two handles count as one line."""


def reshape(press: PointerEvent, ground: Ground) -> Gesture:
    """Change what is under the pen.

    A vertex is dragged with all that are chosen; with Shift it is chosen too, with Control it is taken away, with Alt
    handles are pulled out of it. A line gets one more vertex with Control. Inside a shape all of it is moved. Beside
    everything vertices are chosen: by a box, with Alt by a lasso, with Control by touching them.
    """
    seen = parts_seen(ground)
    in_hand = next((one for one in seen if one.part.id == ground.desk.part_id), seen[0] if seen else None)
    if in_hand is not None:
        if ground.desk.has_box and grip_at(ground, press) is not None:
            return (yield from drag_box(press, ground))
        soft = _soft_handle(in_hand, press, ground)
        if soft is not None:
            return (yield from _soften(press, ground, in_hand, *soft))
        arm = _arm_at(in_hand, press, ground)
        if arm is not None:
            return (yield from _turn_arm(press, ground, in_hand, *arm))
    for one in seen:
        index = one.vertex_at(press)
        if index is not None:
            return (yield from _on_vertex(press, ground, one, index))
    for one in seen:
        where = one.place_at(press) if press.control else None
        if where is not None:
            return _one_more(ground, one, where)
    around = [one for one in seen if one.is_around(press)]
    if around and not (press.shift or press.alt or press.control):
        return (yield from _move_whole(press, ground, around))
    on_line = next((one for one in seen if not one.shape.is_closed and one.place_at(press) is not None), None)
    if on_line is not None and not press.shift:
        return (yield from _move_whole(press, ground, [on_line]))
    return (yield from _choose(press, ground, in_hand))


def _moves(press: PointerEvent, ground: Ground, seen: Seen, chosen: tuple[int, ...]) -> Gesture:
    """Drag chosen vertices until the pen leaves."""
    from_view = ground.view_from_frame.inverse()
    begin, step = from_view(press.xy), Step(desk=desk_of(seen.part, chosen))
    while True:
        event, _ = yield step
        by = from_view(event.xy) - begin
        if np.isfinite(by).all() and by.any():
            moved = moved_together(seen.vertices, chosen, in_frame(ground, seen, shift(*by)))
            step = reshaped(ground, seen, moved, vertex_ids=chosen)
        if event.kind == "release":
            return step


def _on_vertex(press: PointerEvent, ground: Ground, seen: Seen, index: int) -> Gesture:
    desk = ground.desk
    if press.control:
        edit = partial(edits.remove_vertices, shot_id=desk.shot_id, shape_id=seen.shape.id, indices=(index,))
        return Step("Remove point", edit, desk_of(seen.part))
    if press.alt:
        return (yield from _pull_handles(press, ground, seen, index))
    chosen = desk.chosen_vertices(seen.part.id)
    if press.shift:
        others = tuple(one for one in chosen if one != index)
        return Step(desk=desk_of(seen.part, others if index in chosen else (*chosen, index)))
    together = chosen if index in chosen else (index,)
    done = yield from _moves(press, ground, seen, together)
    if done is not None and done.edit is not None:  # what was only dragged is not chosen: Delete would take it away
        return Step(done.label, done.edit, desk_of(seen.part, chosen))
    return done


def _move_whole(press: PointerEvent, ground: Ground, around: list[Seen]) -> Gesture:
    """Move a shape; a click without moving goes on to the one below it."""
    seen = around[0]
    result = yield from _moves(press, ground, seen, tuple(range(len(seen.vertices))))
    assert result is not None
    if result.edit is not None:
        return Step(result.label, result.edit, desk_of(seen.part))
    is_chosen = seen.part.id == ground.desk.part_id
    following = around[1 % len(around)] if is_chosen else seen
    return Step(desk=desk_of(following.part))


def _one_more(ground: Ground, seen: Seen, where: float) -> Step:
    edit = partial(edits.insert_vertex, shot_id=ground.desk.shot_id, shape_id=seen.shape.id, where=where)
    return Step("Add point", edit, desk_of(seen.part, (int(where) + 1,)))


# -- handles ------------------------------------------------------------------------------------------------


def _arm_at(seen: Seen, press: PointerEvent, ground: Ground) -> tuple[int, int] | None:
    """Return the vertex and the column of the handle under the pen; handles of chosen vertices alone are there."""
    for index in ground.desk.chosen_vertices(seen.part.id):
        if seen.shape.kinds[index] is not VertexKind.HANDLES:
            continue
        for column in (2, 4):
            end = seen.vertices[index, :2] + seen.vertices[index, column : column + 2]
            if np.hypot(*(seen.view(end) - press.xy)) < GRAB_PX:
                return index, column
    return None


def _turn_arm(press: PointerEvent, ground: Ground, seen: Seen, index: int, column: int) -> Gesture:
    """Drag a handle; the one opposite turns along if both were one line, unless Alt is held."""
    own, other = slice(column, column + 2), slice(6 - column, 8 - column)
    vertex = seen.vertices[index]
    lengths = np.hypot(*vertex[own]), np.hypot(*vertex[other])
    is_line = min(lengths) > 0 and -(vertex[own] @ vertex[other]) > STRAIGHT * lengths[0] * lengths[1]
    from_view, chosen = seen.view.inverse(), ground.desk.chosen_vertices(seen.part.id)
    step = Step(desk=desk_of(seen.part, chosen))
    while True:
        event, _ = yield step
        moved = seen.vertices.copy()
        moved[index, own] = from_view(event.xy) - vertex[:2]
        length = np.hypot(*moved[index, own])
        if is_line and not event.alt and length > 0:
            moved[index, other] = -moved[index, own] / length * lengths[1]
        step = reshaped(ground, seen, moved, "Turn handle")
        if event.kind == "release":
            return step


def _pull_handles(press: PointerEvent, ground: Ground, seen: Seen, index: int) -> Gesture:
    """Pull two handles out of a vertex; a click makes a corner of it."""
    from_view, kinds = seen.view.inverse(), list(seen.shape.kinds)
    step = Step(desk=desk_of(seen.part, (index,)))
    while True:
        event, _ = yield step
        if np.hypot(event.x - press.x, event.y - press.y) > CLICK_PX:
            moved, arm = seen.vertices.copy(), from_view(event.xy) - seen.vertices[index, :2]
            moved[index, 2:4], moved[index, 4:6] = -arm, arm
            kinds[index] = VertexKind.HANDLES
            step = reshaped(ground, seen, moved, "Pull handles", kinds=tuple(kinds), vertex_ids=(index,))
        if event.kind == "release":
            break
    if step.edit is not None:
        return step
    edit = partial(
        edits.set_vertex_kinds, shot_id=ground.desk.shot_id, shape_id=seen.shape.id,
        kind=VertexKind.CORNER, indices=(index,),
    )  # fmt: skip
    return Step("Make a corner", edit, desk_of(seen.part, (index,)))


# -- softness -----------------------------------------------------------------------------------------------


def _soft_handle(seen: Seen, press: PointerEvent, ground: Ground) -> tuple[int, int] | None:
    """Return the vertex and the side of the handle of softness under the pen."""
    if not ground.desk.softens:
        return None
    for side in (1, -1):
        places, _ = soft_places(seen, side)
        far = np.hypot(*(places - press.xy).T)
        if np.isfinite(far).any() and np.nanmin(far) < GRAB_PX:
            return int(np.nanargmin(far)), side
    return None


def _soften(press: PointerEvent, ground: Ground, seen: Seen, index: int, side: int) -> Gesture:
    """Drag how far the edge fades at a vertex, and at those that are chosen with it."""
    chosen = ground.desk.chosen_vertices(seen.part.id)
    together = chosen if index in chosen else (index,)
    _, ahead = soft_places(seen, side)
    column = 7 if side > 0 else 6
    here = seen.places[index]
    across = seen.view.inverse()
    a_pixel = float(np.hypot(*(across(here + ahead[index]) - across(here))))
    step = Step(desk=desk_of(seen.part, chosen))
    while True:
        event, _ = yield step
        by = float((event.xy - press.xy) @ ahead[index]) * a_pixel
        moved = seen.vertices.copy()
        moved[list(together), column] = np.maximum(seen.vertices[list(together), column] + by, 0)
        step = reshaped(ground, seen, moved, "Soften points")
        if event.kind == "release":
            return step


# -- choosing -----------------------------------------------------------------------------------------------


def _choose(press: PointerEvent, ground: Ground, seen: Seen | None) -> Gesture:
    """Choose vertices of the shape in hand: by a box, a lasso (Alt), or touching (Control); Shift adds."""
    points: list[Points] = [press.xy]
    while True:
        event, _ = yield Step(trace=_marquee(press, points))
        points.append(event.xy)
        if event.kind == "release":
            break
    if seen is None:
        return Step()
    if np.hypot(*np.ptp(np.array(points), axis=0)) < CLICK_PX:
        return Step(desk={"vertices": ()})
    inside = _inside(press, np.array(points), seen.places)
    kept = ground.desk.chosen_vertices(seen.part.id) if press.shift else ()
    return Step(desk=desk_of(seen.part, tuple(sorted({*kept, *np.flatnonzero(inside).tolist()}))))


def _marquee(press: PointerEvent, points: list[Points]) -> Trace:
    if press.alt or press.control:
        line = np.array(points)
    else:
        (x0, y0), (x1, y1) = points[0], points[-1]
        line = np.array([(x0, y0), (x1, y0), (x1, y1), (x0, y1), (x0, y0)])
    return Trace.in_view(line)


def _inside(press: PointerEvent, points: Points, places: Points) -> NDArray[np.bool_]:
    known = np.isfinite(places.sum(axis=1))
    if press.control:
        far = np.hypot(*np.moveaxis(places[:, None] - points[None], -1, 0)).min(axis=1)
        return known & (far < GRAB_PX)
    if press.alt:
        lasso = points.astype(np.float32)
        held = [cv2.pointPolygonTest(lasso, (float(x), float(y)), measureDist=False) >= 0 for x, y in places]
        return np.array(held, bool) & known
    low, high = np.minimum(points[0], points[-1]), np.maximum(points[0], points[-1])
    return known & ((places >= low) & (places <= high)).all(axis=1)
