"""Painting: sources set, strokes made."""

from __future__ import annotations

from functools import partial

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.app.hands.gestures import Gesture, Laying, PointerEvent, Step
from gommage.app.hands.ground import Ground
from gommage.app.hands.next_stroke import frames_of, other_frame, painted_on, source_of, takes_source
from gommage.app.hands.strokes import redraw
from gommage.core.document import Array, Source, Stroke, Tool, edits, new_id
from gommage.core.geometry import Mapping, Points

__all__ = ["paint", "source_for"]

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
        if not takes_source(tool):
            return None
        return Step(desk={"source_at": (float(at[0]), float(at[1])), "source": None})
    source, changes = source_for(ground, tool, at)
    if source is None:
        return Step(error="The brush has no source yet. Hold Alt and click where its pixels should come from.")
    brush = replace(desk.brush, tool=tool)
    start = [[*desk.last_point, press.pressure]] if press.shift and desk.last_point is not None else []
    points = np.array([*start, [*at, press.pressure]])
    stroke = Stroke(
        id=new_id(), points=Array(points[:1]), brush=brush, source=source, surface_id=on.surface_id,
        frames=frames_of(desk) if on.is_shot else (),
    )  # fmt: skip
    fresh, event = points, press
    while True:
        laying = Laying(stroke, on.holder_id, fresh)
        event, _ = yield Step(desk=changes, laying=laying)
        changes = {}
        fresh = _more(points, event, from_view)
        points = np.vstack([points, fresh])
        if event.kind == "release":
            break
    done = replace(stroke, points=Array(points))
    edit = partial(edits.add_stroke, shot_id=desk.shot_id, holder_id=on.holder_id, stroke=done)
    after: dict[str, object] = {"last_point": (float(points[-1, 0]), float(points[-1, 1]))}
    if on.is_shot and desk.steps_on and ground.shot is not None:
        after["frame"] = min(desk.frame + 1, ground.shot.footage.frames.last)
    return Step(f"{tool.capitalize()} stroke", edit, after, laying=Laying(done, on.holder_id, fresh))


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
    return (source_of(desk, 0, 0), {}) if other_frame(desk, ground.frame) != ground.frame else (None, {})


def _more(points: NDArray[np.float64], event: PointerEvent, from_view: Mapping) -> NDArray[np.float64]:
    """Return the next point (1, 3) of a stroke, or none (0, 3); lifting the pen keeps the last pressure."""
    x, y = from_view(event.xy)
    pressure = points[-1, 2] if event.kind == "release" else event.pressure
    if not np.isfinite([x, y]).all() or np.abs(points[-1, :2] - (x, y)).max() <= LEAST_STEP_PX:
        return np.empty((0, 3))
    return np.array([[x, y, pressure]])
