"""Reshaping: vertices and whole shapes dragged; on a frame without a key that makes one."""

from __future__ import annotations

from functools import partial

import numpy as np

from gommage.app.hands.gestures import Gesture, PointerEvent, Step, hit_vertex, is_inside
from gommage.app.hands.ground import Ground
from gommage.core.document import Drawn, MattePart, PlaneFollow, ShapeKey, edits, outline
from gommage.core.engine import Step as WorkStep
from gommage.core.geometry import Mapping

__all__ = ["reshape"]


def reshape(press: PointerEvent, ground: Ground) -> Gesture:
    """Drag a vertex, or a shape that is grabbed inside.

    The one in hand comes first, then the frontmost under the pen.
    """
    found = _under_pen(press, ground)
    if found is None:
        return None
    part, grabbed, view = found
    assert isinstance(part.source, Drawn)
    shape, frame = part.source.shape, ground.desk.frame
    vertices = shape.vertices_at(frame)
    points = vertices[:, :2]
    from_view = view.inverse()
    begin = from_view(press.xy)
    label = _label(ground, part)
    step = Step(desk={"part_id": part.id})
    while True:
        event, _ = yield step
        here = from_view(event.xy)
        moved = points.copy()
        if grabbed is None:
            moved += here - begin
        else:
            moved[grabbed] += here - begin
        if np.isfinite(moved).all() and not np.array_equal(moved, points):
            key = ShapeKey.of(frame, moved)
            changed = vertices.copy()
            changed[:, :2] = moved
            key = ShapeKey(frame=frame, vertices=type(key.vertices)(changed))
            edit = partial(edits.set_shape_key, shot_id=ground.desk.shot_id, shape_id=shape.id, key=key)
            step = Step(label, edit, {"part_id": part.id})
        if event.kind == "release":
            return step


def _under_pen(press: PointerEvent, ground: Ground) -> tuple[MattePart, int | None, Mapping] | None:
    """Return the part that is grabbed, which vertex (None: all of it), and where its pixels are in the viewport."""
    chosen = ground.desk.part(ground.project)
    parts = [part for part in ground.desk.parts(ground.project) if isinstance(part.source, Drawn)]
    frontmost_first = parts[::-1]
    in_order = sorted(frontmost_first, key=lambda part: chosen is None or part.id != chosen.id)
    seen = [(part, view) for part in in_order if (view := _view_of(part, ground)) is not None]
    for part, view in seen:
        assert isinstance(part.source, Drawn)
        grabbed = hit_vertex(part.source.shape.points_at(ground.desk.frame), press, view)
        if grabbed is not None:
            return part, grabbed, view
    for part, view in seen:
        assert isinstance(part.source, Drawn)
        shape = part.source.shape
        if is_inside(outline(shape.vertices_at(ground.desk.frame), shape.kinds), press, view):
            return part, None, view
    return None


def _view_of(part: MattePart, ground: Ground) -> Mapping | None:
    assert isinstance(part.source, Drawn)
    return ground.view_from(part.source.surface_id)


def _label(ground: Ground, part: MattePart) -> str:
    assert isinstance(part.source, Drawn)
    frame, is_new = ground.desk.frame, part.source.shape.key_at(ground.desk.frame) is None
    if ground.desk.step is not WorkStep.FOLLOW:
        return f"Key cover on {frame}" if is_new else "Move cover"
    how = ground.surface.how if ground.surface is not None else None
    is_area = isinstance(how, PlaneFollow) and part in how.areas.parts
    name = "area" if is_area else "keep-out"
    return f"Key {name} on {frame}" if is_new else f"Change {name}"
