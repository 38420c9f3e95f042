"""Strokes afterwards: found under the pen, chosen by touch or a box, moved with their source or without, drawn anew."""

from __future__ import annotations

from functools import partial

import cv2
import numpy as np
from msgspec.structs import replace

from gommage.app.hands.gestures import GRAB_PX, Gesture, PointerEvent, Step, Trace
from gommage.app.hands.ground import Ground, SeenStroke
from gommage.core.document import Array, FrameOffset, Source, Stroke, edits
from gommage.core.geometry import Points, growth, shift, then

__all__ = ["choose_strokes", "is_dot", "moved_by", "outline_of", "redraw", "ridden", "source_of_seen", "strokes_under"]

DOT_SHARE = 0.25
"""A stroke that goes less far than this share of its width is a dot: mostly an accidental touch."""
LEAST_WAY_PX = 3.0
CAP_STEPS = 10
STRAIGHT_PX = 0.75


def is_dot(stroke: Stroke) -> bool:
    """Return whether a stroke is a mere touch."""
    places = stroke.points.values[:, :2]
    return bool(np.ptp(places, axis=0).max() < DOT_SHARE * stroke.brush.size_px)


def strokes_under(ground: Ground, at: Points) -> tuple[SeenStroke, ...]:
    """Return the strokes that a place of the viewport is on, last laid first."""
    return tuple(seen for seen in ground.strokes if seen.stroke.is_on and _is_on(seen, at))


def _is_on(seen: SeenStroke, at: Points) -> bool:
    low, high = seen.points.min(axis=0), seen.points.max(axis=0)
    reach = max(float(seen.radii.max()), GRAB_PX / 2)
    if not np.isfinite([low, high]).all() or (at < low - reach).any() or (at > high + reach).any():
        return False
    return _distance(seen.points, at) <= reach


def _distance(line: Points, at: Points) -> float:
    """Return how far a place is from a line (N, 2)."""
    if len(line) == 1:
        return float(np.hypot(*(line[0] - at)))
    begin, along = line[:-1], np.diff(line, axis=0)
    share = np.clip(((at - begin) * along).sum(axis=1) / np.maximum((along**2).sum(axis=1), 1e-12), 0, 1)
    return float(np.hypot(*(begin + share[:, None] * along - at).T).min())


# -- lines --------------------------------------------------------------------------------------------------


def outline_of(seen: SeenStroke) -> Points:
    """Return the line round a stroke in the viewport, (N, 2)."""
    if not np.isfinite(seen.points).all():
        return np.empty((0, 2))
    path = cv2.approxPolyDP(seen.points.astype(np.float32)[:, None], STRAIGHT_PX, closed=False)[:, 0].astype(float)
    radius = max(float(seen.radii.max()), 1.0)
    along = np.diff(path, axis=0)
    ways = along / np.maximum(np.hypot(*along.T), 1e-9)[:, None] if len(path) > 1 else np.array([[1.0, 0.0]])
    at_points = np.vstack([ways[:1], ways[:-1] + ways[1:], ways[-1:]]) if len(path) > 1 else ways
    at_points = at_points / np.maximum(np.hypot(*at_points.T), 1e-9)[:, None]
    across = np.column_stack([-at_points[:, 1], at_points[:, 0]]) * radius
    return np.vstack([path + across, _cap(path[-1], at_points[-1], radius),
                      (path - across)[::-1], _cap(path[0], -at_points[0], radius)])  # fmt: skip


def _cap(end: Points, way: Points, radius: float) -> Points:
    """Return the half circle round the end of a line."""
    turn = np.linspace(np.pi / 2, -np.pi / 2, CAP_STEPS)[:, None]
    across = np.array([-way[1], way[0]])
    return end + radius * (np.cos(turn) * way + np.sin(turn) * across)


def source_of_seen(seen: SeenStroke) -> SeenStroke | None:
    """Return a stroke where it takes its pixels, if that is beside it on the same frame."""
    source = seen.stroke.source
    if not (source.dx or source.dy) or source.time != FrameOffset():
        return None
    return SeenStroke(seen.stroke, seen.view, (source.dx, source.dy))


# -- choosing and moving ------------------------------------------------------------------------------------


def choose_strokes(press: PointerEvent, ground: Ground) -> Gesture:
    """Choose a stroke by touching it, or several by a box; drag to move what is chosen, or where it takes its pixels.

    With Alt the source stays where it is.
    """
    desk = ground.desk
    by_source = next(
        (seen for seen in ground.strokes if seen.stroke.id in desk.stroke_ids and _touches_source(seen, press)),
        None,
    )
    under = strokes_under(ground, press.xy)
    if by_source is not None and not any(seen.stroke.id in desk.stroke_ids for seen in under):
        return (yield from _drag_source(press, by_source, ground))
    if not under:
        return (yield from _box(press, ground))
    own = under[0].stroke.id
    is_chosen = any(seen.stroke.id in desk.stroke_ids for seen in under)
    if press.shift:
        kept = tuple(one for one in desk.stroke_ids if one != own)
        event, _ = yield Step(desk={"stroke_ids": kept if own in desk.stroke_ids else (own, *kept)})
        while event.kind != "release":
            event, _ = yield Step()
        return None
    ids = desk.stroke_ids if is_chosen else (own,)
    chosen = tuple(seen for seen in ground.strokes if seen.stroke.id in ids and not seen.stroke.is_locked)
    step = Step(desk={"stroke_ids": ids})
    while True:
        event, _ = yield step
        by = event.xy - press.xy
        is_moved = np.hypot(*by) >= LEAST_WAY_PX
        step = moved_by(ground, chosen, by, with_source=not event.alt) if chosen and is_moved else Step()
        if event.kind == "release":
            break
    if not is_moved and is_chosen and own not in ids:
        return Step(desk={"stroke_ids": (own,)})
    return step if step.edit is not None else None


def moved_by(ground: Ground, chosen: tuple[SeenStroke, ...], by: Points, *, with_source: bool = True) -> Step:
    """Return the step that moves strokes by a distance in the viewport."""
    places: dict[str, Array] = {}
    sources: dict[str, Source] = {}
    for seen in chosen:
        values = seen.stroke.points.values
        moved = then(then(seen.view, shift(*by)), seen.view.inverse())(values[:, :2])
        places[seen.stroke.id] = Array(np.column_stack([moved, values[:, 2]]))
        if not with_source:
            dx, dy = (moved - values[:, :2]).mean(axis=0)
            source = seen.stroke.source
            sources[seen.stroke.id] = replace(source, dx=source.dx - float(dx), dy=source.dy - float(dy))
    holder_id, _ = ground.desk.painting(ground.project)
    words = "stroke" if len(chosen) == 1 else f"{len(chosen)} strokes"
    edit = partial(
        edits.place_strokes, shot_id=ground.desk.shot_id, holder_id=holder_id, places=places, sources=sources
    )
    return Step(f"Move {words}", edit)


def _touches_source(seen: SeenStroke, press: PointerEvent) -> bool:
    there = source_of_seen(seen)
    return there is not None and not seen.stroke.is_locked and _is_on(there, press.xy)


def _drag_source(press: PointerEvent, seen: SeenStroke, ground: Ground) -> Gesture:
    holder_id, _ = ground.desk.painting(ground.project)
    source, step = seen.stroke.source, Step()
    from_view = seen.view.inverse()
    while True:
        event, _ = yield step
        by = from_view(event.xy) - from_view(press.xy)
        moved = replace(source, dx=round(source.dx + float(by[0])), dy=round(source.dy + float(by[1])))
        edit = partial(
            edits.change_sources, shot_id=ground.desk.shot_id, holder_id=holder_id, stroke_ids=(seen.stroke.id,),
            dx=moved.dx, dy=moved.dy,
        )  # fmt: skip
        step = Step("Move a stroke's source", edit)
        if event.kind == "release":
            return step


def _box(press: PointerEvent, ground: Ground) -> Gesture:
    """Choose the strokes that a box touches; a click beside all chooses none."""
    step = Step()
    while True:
        event, _ = yield step
        low, high = np.minimum(press.xy, event.xy), np.maximum(press.xy, event.xy)
        corners = np.array([low, (high[0], low[1]), high, (low[0], high[1]), low])
        step = Step(trace=Trace.in_view(corners))
        if event.kind == "release":
            break
    touched = [
        seen.stroke.id
        for seen in ground.strokes
        if ((seen.points >= low - seen.radii[:, None]) & (seen.points <= high + seen.radii[:, None])).all(axis=1).any()
    ]
    kept = ground.desk.stroke_ids if press.shift else ()
    is_box = np.hypot(*(high - low)) >= LEAST_WAY_PX
    return Step(desk={"stroke_ids": tuple(dict.fromkeys((*kept, *touched))) if is_box else kept})


# -- changing -----------------------------------------------------------------------------------------------


def ridden(ground: Ground, surface_id: str) -> Step:
    """Return the step that lets the chosen strokes ride on another surface, where they are on this frame."""
    view = ground.view_from(surface_id)
    chosen = tuple(seen for seen in ground.strokes if seen.stroke.id in ground.desk.stroke_ids)
    if view is None:
        return Step(error="That surface is not followed on this frame.")
    if not chosen or not ground.desk.paints_shot:
        return Step(error="No stroke on this frame is chosen.")
    places, surfaces, sources = {}, {}, {}
    for seen in chosen:
        values, source = seen.stroke.points.values, seen.stroke.source
        moved = then(seen.view, view.inverse())
        places[seen.stroke.id] = Array(np.column_stack([moved(values[:, :2]), values[:, 2]]))
        surfaces[seen.stroke.id] = surface_id
        scale = growth(moved, values[0, :2])
        if np.isfinite(scale) and (source.dx or source.dy):
            sources[seen.stroke.id] = replace(source, dx=source.dx * scale, dy=source.dy * scale)
    holder_id, _ = ground.desk.painting(ground.project)
    edit = partial(
        edits.place_strokes, shot_id=ground.desk.shot_id, holder_id=holder_id, places=places, sources=sources,
        surfaces=surfaces,
    )  # fmt: skip
    return Step("Ride on another surface", edit)


def redraw(press: PointerEvent, ground: Ground, stroke: Stroke) -> Gesture:
    """Draw a stroke's path anew: everything else of it stays."""
    seen = next((one for one in ground.strokes if one.stroke.id == stroke.id), None)
    if seen is None:
        return Step(error="The stroke is not on this frame.", desk={"redraws": ""})
    path = [(press.x, press.y, press.pressure)]
    while True:
        line = np.array(path)[:, :2]
        event, _ = yield Step(trace=Trace.in_view(line, kind="stroke"))
        if event.kind == "release":
            break
        path.append((event.x, event.y, event.pressure))
    drawn = np.array(path)
    points = Array(np.column_stack([seen.view.inverse()(drawn[:, :2]), drawn[:, 2]]))
    holder_id, _ = ground.desk.painting(ground.project)
    edit = partial(edits.place_strokes, shot_id=ground.desk.shot_id, holder_id=holder_id, places={stroke.id: points})
    return Step("Draw a stroke anew", edit, {"redraws": ""})
