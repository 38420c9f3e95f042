"""Painting: sources set, strokes made freely or from corner to corner, the brush made larger by a drag."""

from __future__ import annotations

from collections.abc import Generator
from functools import partial

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.app.desk import Desk
from gommage.app.hands.gestures import Gesture, Laying, PointerEvent, Step, Trace
from gommage.app.hands.ground import Ground
from gommage.app.hands.next_stroke import PaintedOn, frames_of, other_frame, painted_on, source_of, takes_source
from gommage.app.hands.pen import Steadied
from gommage.app.hands.strokes import redraw
from gommage.core.document import Array, Source, Stroke, Tool, edits, new_id
from gommage.core.geometry import Mapping, Points

__all__ = ["SIZES_PX", "paint", "size_brush", "source_for"]

SIZES_PX = (1.0, 400.0)
DOUBLE_PX, SOFT_PX = 90.0, 160.0
"""So far a drag goes for a brush of double size, and for one that is soft instead of sharp, in pixels of the screen."""
LEAST_DRAG_PX = 4.0
LEAST_STEP_PX = 1e-6
"""Points that repeat their neighbour are not kept."""


def paint(press: PointerEvent, ground: Ground) -> Gesture:
    """Make a stroke on what is painted on, or with Alt set where its pixels come from."""
    desk, on = ground.desk, painted_on(ground)
    tool = Tool.ERASE if press.is_eraser else desk.paint_tool
    if isinstance(on, str) or tool is None:
        return Step(error=str(on))
    redrawn = next((one for one in desk.painting(ground.project)[1].strokes if one.id == desk.redraws), None)
    if redrawn is not None:
        return (yield from redraw(press, ground, redrawn))
    if on.view is None:
        where = "its surface is not followed here"
        return Step(error=f"{on.name} does not lie on this frame; {where}.")
    from_view = on.view.inverse()
    at = from_view(press.xy)
    if press.alt:
        return (yield from _set_source(press, ground, from_view)) if takes_source(tool) else None
    source, changes = source_for(ground, tool, at)
    if source is None:
        return Step(error="The brush has no source yet. Hold Alt and click where its pixels should come from.")
    brush = replace(desk.brush, tool=tool)
    start = [[*desk.last_point, press.pressure]] if press.shift and desk.last_point is not None else []
    points = np.array([*start, [*at, _force(press, desk)]])
    stroke = Stroke(
        id=new_id(), points=Array(points[:1]), brush=brush, source=source, surface_id=on.surface_id,
        frames=frames_of(desk) if on.is_shot else (),
    )  # fmt: skip
    if press.control:
        corners = yield from _cornered(press, ground, from_view)
        done = replace(stroke, points=Array(np.vstack([start, corners]) if start else corners))
        return _done(done, ground, on, fresh=None)
    fresh, event, steadied = points, press, Steadied(press.xy)
    while True:
        laying = Laying(stroke, on.holder_id, fresh)
        event, _ = yield Step(desk=changes, laying=laying)
        changes = {}
        is_end = event.kind == "release"
        place = event.xy if is_end or not event.is_pen else steadied.move(event.xy)
        fresh = _more(points, from_view(place), points[-1, 2] if is_end else _force(event, desk))
        points = np.vstack([points, fresh])
        if is_end:
            break
    return _done(replace(stroke, points=Array(points)), ground, on, fresh)


def _done(stroke: Stroke, ground: Ground, on: PaintedOn, fresh: NDArray[np.float64] | None) -> Step:
    """Return the step that keeps a stroke; `fresh` are its last points, if it was laid while it was made."""
    desk = ground.desk
    edit = partial(edits.add_stroke, shot_id=desk.shot_id, holder_id=on.holder_id, stroke=stroke)
    x, y = stroke.points.values[-1, :2].tolist()
    after: dict[str, object] = {"last_point": (x, y)}
    if on.is_shot and desk.steps_on and ground.shot is not None:
        after["frame"] = min(desk.frame + 1, ground.shot.footage.frames.last)
    laying = None if fresh is None else Laying(stroke, on.holder_id, fresh)
    return Step(f"{stroke.brush.tool.capitalize()} stroke", edit, after, laying=laying)


def _set_source(press: PointerEvent, ground: Ground, from_view: Mapping) -> Gesture:
    """Set where pixels come from: a click sets the place, a drag from the target to the source sets the distance."""
    event = press
    while event.kind != "release":
        line = np.vstack([press.xy, event.xy])
        event, _ = yield Step(trace=Trace.in_view(line, kind="stroke-source"))
    begun, ended = from_view(press.xy), from_view(event.xy)
    if np.hypot(*(event.xy - press.xy)) < LEAST_DRAG_PX:
        return Step(desk={"source_at": (float(begun[0]), float(begun[1])), "source": None})
    dx, dy = np.round(ended - begun).tolist()
    return Step(desk={"source": source_of(ground.desk, dx, dy), "source_at": None})


def _cornered(
    press: PointerEvent, ground: Ground, from_view: Mapping
) -> Generator[Step, tuple[PointerEvent, Ground], NDArray[np.float64]]:
    """Set corner after corner while Control is held; a click without it is the last. Returns points (N, 3)."""
    corners = [press.xy]
    event = press
    while True:
        event, _ = yield Step(trace=Trace.in_view(np.vstack([*corners, event.xy]), kind="stroke"))
        if event.kind == "press":
            corners.append(event.xy)
            if not event.control:
                break
    places = from_view(np.array(corners))
    return np.column_stack([places, np.ones(len(places))])


def size_brush(press: PointerEvent, ground: Ground) -> Gesture:
    """Drag to the right for a larger brush, down for a softer one."""
    begun = ground.desk.brush
    event = press
    while event.kind != "release":
        size = float(np.clip(begun.size_px * 2 ** ((event.x - press.x) / DOUBLE_PX), *SIZES_PX))
        softness = float(np.clip(begun.softness + (event.y - press.y) / SOFT_PX, 0, 1))
        event, _ = yield Step(desk={"brush": replace(begun, size_px=size, softness=softness)})
    return None


def source_for(ground: Ground, tool: Tool, at: Points) -> tuple[Source | None, dict[str, object]]:
    """Return a stroke's source, and what of the desk it changes: the first touch fixes the distance.

    From another frame pixels come from the same place unless another was set.
    """
    desk = ground.desk
    if not takes_source(tool):
        return Source(), {}
    if desk.source_at is not None and desk.source is None:
        away = np.round(np.array(desk.source_at) - at)
        source = source_of(desk, float(away[0]), float(away[1]))
        return source, {"source": source}
    if desk.source is not None:
        return source_of(desk, desk.source.dx, desk.source.dy), {}
    return (source_of(desk, 0, 0), {}) if other_frame(ground) != ground.painted_frame else (None, {})


def _force(event: PointerEvent, desk: Desk) -> float:
    """Return what takes the place of pressure: how hard the pen is pressed, or how flat it is held."""
    return event.tilt if desk.tilts and event.is_pen else event.pressure


def _more(points: NDArray[np.float64], place: Points, pressure: float) -> NDArray[np.float64]:
    """Return the next point (1, 3) of a stroke, or none (0, 3); lifting the pen keeps the last pressure."""
    x, y = place
    if not np.isfinite([x, y]).all() or np.abs(points[-1, :2] - (x, y)).max() <= LEAST_STEP_PX:
        return np.empty((0, 3))
    return np.array([[x, y, pressure]])
