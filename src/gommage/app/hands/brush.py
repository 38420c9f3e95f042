"""Painting: sources set, strokes made."""

from __future__ import annotations

from functools import partial

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.app.hands.gestures import Gesture, Laying, PointerEvent, Step
from gommage.app.hands.ground import Ground
from gommage.core.document import Array, Source, Stroke, Tool, edits, new_id
from gommage.core.geometry import Mapping, Points

__all__ = ["paint", "source_words", "takes_source"]

SOURCELESS = (Tool.RESTORE,)
LEAST_STEP_PX = 1e-6
"""Points that repeat their neighbour are not kept."""


def takes_source(tool: Tool | None) -> bool:
    """Return whether a brush takes its pixels from somewhere."""
    return tool is not None and tool not in SOURCELESS


def source_words(ground: Ground) -> str:
    """Return in words where the brush in hand takes its pixels from."""
    desk = ground.desk
    if not takes_source(desk.paint_tool):
        return "brings the untouched frame back"
    if desk.source is not None:
        return f"{desk.source.dx:+.0f}, {desk.source.dy:+.0f} px from the brush"
    if desk.source_at is not None:
        return "set; the first touch fixes its distance"
    return "none yet: Alt-click on the picture"


def paint(press: PointerEvent, ground: Ground) -> Gesture:
    """Make a stroke on the clean plate in hand, or with Alt set where its pixels come from."""
    plate, view, desk = ground.plate, ground.view_from_plate, ground.desk
    tool = Tool.RESTORE if press.is_eraser else desk.paint_tool
    if plate is None or tool is None:
        return Step(error="There is no clean plate to paint on. Make one of a good frame first.")
    if view is None:
        return Step(error=f"{plate.name} does not lie on this frame; its surface is not followed here.")
    from_view = view.inverse()
    at = from_view(press.xy)
    if press.alt:
        if not takes_source(tool):
            return None
        return Step(desk={"source_at": (float(at[0]), float(at[1])), "source": None})
    source, changes = _source(ground, tool, at)
    if source is None:
        return Step(error="The brush has no source yet. Hold Alt and click where its pixels should come from.")
    brush = replace(desk.brush, tool=tool)
    start = [[*desk.last_point, press.pressure]] if press.shift and desk.last_point is not None else []
    points = np.array([*start, [*at, press.pressure]])
    stroke = Stroke(id=new_id(), points=Array(points[:1]), brush=brush, source=source)
    fresh, event = points, press
    while True:
        laying = Laying(stroke, plate.id, fresh)
        event, _ = yield Step(desk=changes, laying=laying)
        changes = {}
        fresh = _more(points, event, from_view)
        points = np.vstack([points, fresh])
        if event.kind == "release":
            break
    done = replace(stroke, points=Array(points))
    edit = partial(edits.add_stroke, shot_id=desk.shot_id, holder_id=plate.id, stroke=done)
    end = (float(points[-1, 0]), float(points[-1, 1]))
    return Step(f"{tool.capitalize()} stroke", edit, {"last_point": end}, laying=Laying(done, plate.id, fresh))


def _source(ground: Ground, tool: Tool, at: Points) -> tuple[Source | None, dict[str, object]]:
    """Return a stroke's source, and what of the desk it changes: the first touch fixes the distance."""
    desk = ground.desk
    if not takes_source(tool):
        return Source(), {}
    if desk.source is not None or desk.source_at is None:
        return desk.source, {}
    away = np.round(np.array(desk.source_at) - at)
    source = Source(dx=float(away[0]), dy=float(away[1]))
    return source, {"source": source}


def _more(points: NDArray[np.float64], event: PointerEvent, from_view: Mapping) -> NDArray[np.float64]:
    """Return the next point (1, 3) of a stroke, or none (0, 3); lifting the pen keeps the last pressure."""
    x, y = from_view(event.xy)
    pressure = points[-1, 2] if event.kind == "release" else event.pressure
    if not np.isfinite([x, y]).all() or np.abs(points[-1, :2] - (x, y)).max() <= LEAST_STEP_PX:
        return np.empty((0, 3))
    return np.array([[x, y, pressure]])
