"""Drawing shapes: areas, keep-outs, other surfaces, covers, hold-outs; by clicks, by hand, as ellipses, as boxes."""

from __future__ import annotations

from collections.abc import Callable, Generator
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np
from msgspec.structs import replace as replaced
from numpy.typing import NDArray

from gommage.app.hands.gestures import GRAB_PX, Gesture, PointerEvent, Step, Trace
from gommage.app.hands.ground import Ground
from gommage.app.hands.names import WORDS, free_name
from gommage.core.cover.freehand import FIT_TOLERANCE_PX, fitted_line
from gommage.core.document import (
    Array,
    ByHand,
    Combine,
    Drawn,
    Ease,
    Fix,
    How,
    Matte,
    MattePart,
    PlaneFollow,
    Shape,
    ShapeKey,
    Softness,
    Span,
    Still,
    Surface,
    VertexKind,
    edits,
    new_id,
)
from gommage.core.document.edits import Slot
from gommage.core.document.edits.shapes import moved_vertices
from gommage.core.engine import Step as WorkStep
from gommage.core.geometry import Mapping, box_of, growth

__all__ = ["WAYS", "draw_shape", "round_cover"]

WIRE_SOFTNESS_PX = 1.5
"""How soft the rim of a wire's cover is."""
PULL_PX = 4.0
"""A pen that went farther while it was down pulls handles out."""
PEN_STEP_PX = 2.0
"""So coarsely a mouse tells its places, on the screen: lines drawn by hand are freed of such steps."""
FINE_PX, FINEST_PX = 0.6, 0.2
"""Zoomed in, a hand means it more exactly: so near, on the screen, but no nearer in the picture."""
CIRCLE = 4 / 3 * (np.sqrt(2) - 1)
SLOTS = {"area": Slot.AREAS, "keep-out": Slot.KEEP_OUTS, "extent": Slot.EXTENT}
"""Which matte of the surface in hand a shape goes to, by what the desk draws."""
TRACES = {Slot.HOLD_OUTS: "hold-out", Slot.LIGHT_AREA: "light", Slot.GUIDES: "guide", Slot.TAKE_FROM: "light"}
ONE_OFF = {"slot": Slot.COVER, "draws_open": False, "combine": "add"}
"""What is drawn after an area for light, a guide, an area to take from: covers, as before."""
Vertices = NDArray[Any]
Line = tuple[Vertices, tuple[VertexKind, ...], bool]
"""Vertices (N, 8), their kinds, and whether the line is closed."""
Drawing = Generator[Step, tuple[PointerEvent, Ground], tuple[Line, Ground] | Step | None]


def draw_shape(press: PointerEvent, ground: Ground) -> Gesture:
    """Draw a shape in the way that the desk says.

    In the Follow step it is counted in the frame's pixels and becomes what the desk says; in all others it is a
    cover's or a hold-out's, counted in its surface's.
    """
    surface_id = "" if ground.desk.step is WorkStep.FOLLOW else _matte_surface(ground)
    if ground.view_from(surface_id) is None:
        return Step(error=_why_not(ground))
    way = _wire if ground.desk.draws_wire else WAYS[ground.desk.draws_by]
    drawn = yield from way(press, ground, surface_id)
    if isinstance(drawn, Step) or drawn is None:
        return drawn
    line, ground = drawn
    words = f"Drawn with {len(line[0])} points" if ground.desk.draws_by == "freehand" else ""
    step = _in_follow(ground, line) if ground.desk.step is WorkStep.FOLLOW else _in_matte(ground, line, surface_id)
    return replace(step, note=words)


def _kind(ground: Ground) -> str:
    if ground.desk.step is WorkStep.FOLLOW:
        return ground.desk.draws if ground.desk.draws in SLOTS else "area"
    return TRACES.get(ground.desk.slot, "drawing")


def _by_clicks(press: PointerEvent, ground: Ground, surface_id: str) -> Drawing:
    """Click by click; a drag pulls handles out. The first point closes the line, the last once more ends it open."""
    vertices: Vertices = np.empty((0, 8))
    kinds: list[VertexKind] = []
    plain = VertexKind.SMOOTH if ground.desk.draws_round else VertexKind.CORNER
    event, pressed, pulls, is_closed = press, press, False, not ground.desk.draws_open
    while True:
        view = ground.view_from(surface_id)
        if view is None:
            return Step(error=_why_not(ground))
        if event.kind == "press":
            seen = view(vertices[:, :2]) if len(vertices) else np.empty((0, 2))
            if len(vertices) >= 3 and np.hypot(*(seen[0] - event.xy)) < GRAB_PX:
                is_closed = True
                break
            if len(vertices) >= 2 and np.hypot(*(seen[-1] - event.xy)) < GRAB_PX:
                is_closed = False
                break
            vertices = np.vstack([vertices, [*view.inverse()(event.xy), *np.zeros(6)]])
            kinds.append(plain)
            pressed, pulls = event, True
        elif pulls and np.hypot(event.x - pressed.x, event.y - pressed.y) > PULL_PX:
            arm = view.inverse()(event.xy) - vertices[-1, :2]
            vertices = vertices.copy()
            vertices[-1, 2:4], vertices[-1, 4:6] = -arm, arm
            kinds[-1] = VertexKind.HANDLES
        if event.kind == "release":
            pulls = False
        event, ground = yield Step(trace=Trace(vertices, tuple(kinds), surface_id, _kind(ground)))
    return (vertices, tuple(kinds), is_closed), ground


def _freehand(press: PointerEvent, ground: Ground, surface_id: str) -> Drawing:
    """By one movement; what comes of it has few points and stays within half a pixel of the line."""
    from_view = ground.view_from_frame.inverse()
    points: list[Vertices] = []
    scale = growth(ground.view_from_frame, from_view(press.xy))
    event = press
    while True:
        points.append(from_view(event.xy))
        if event.kind == "release":
            break
        trace = _in_frame(np.array(points), ground, _kind(ground))
        event, ground = yield Step(trace=trace)
    is_closed = not ground.desk.draws_open
    try:
        vertices, kinds = fitted_line(
            np.array(points),
            float(np.clip(FINE_PX / scale, FINEST_PX, FIT_TOLERANCE_PX)),
            is_closed=is_closed,
            steps_px=PEN_STEP_PX / max(scale, 1e-6),
        )
    except ValueError:
        return None
    return _onto(ground, surface_id, (vertices, kinds, is_closed)), ground


def _in_frame(points: Vertices, ground: Ground, kind: str) -> Trace:
    plain = np.hstack([points, np.zeros((len(points), 6))])
    return Trace(plain, (VertexKind.CORNER,) * len(plain), "", kind, has_points=False)


def _wire(press: PointerEvent, ground: Ground, surface_id: str) -> Drawing:
    """Along a wire: from one end to the other, by two clicks, or roughly by one movement."""
    from_view = ground.view_from_frame.inverse()
    points, event = [from_view(press.xy)], press
    is_down, is_rough, is_ended = True, False, False
    while not is_ended:
        trace = _in_frame(np.array([*points, from_view(event.xy)]), ground, _kind(ground))
        event, ground = yield Step(trace=trace)
        from_view = ground.view_from_frame.inverse()
        away = np.hypot(event.x - press.x, event.y - press.y)
        if event.kind == "move" and is_down and (is_rough or away > 3 * GRAB_PX):
            is_rough = True
            points.append(from_view(event.xy))
        elif event.kind == "release":
            is_down, is_ended = False, is_rough
        elif event.kind == "press":
            points.append(from_view(event.xy))
            is_ended = True
    line = np.array(points)
    if len(line) > 2:
        line = line[np.unique(np.linspace(0, len(line) - 1, min(len(line), 9)).astype(int))]
    vertices = np.hstack([line, np.zeros((len(line), 6))])
    return _onto(ground, surface_id, (vertices, (VertexKind.SMOOTH,) * len(line), False)), ground


def _spanned(press: PointerEvent, ground: Ground, surface_id: str) -> Drawing:
    """From corner to corner; with Shift as wide as high, with Alt from the middle."""
    from_view = ground.view_from_frame.inverse()
    begin, by = from_view(press.xy), np.zeros(2)
    line: Line | None = None
    while True:
        trace = None if line is None else Trace(line[0], line[1], "", _kind(ground), is_closed=True)
        event, ground = yield Step(trace=trace)
        by = from_view(event.xy) - begin
        if event.shift:
            by = np.where(by < 0, -1, 1) * np.abs(by).max()
        line = _round(begin, by, event.alt) if ground.desk.draws_by == "ellipse" else _square(begin, by, event.alt)
        if event.kind == "release":
            break
    if np.abs(by).min() < 1:
        return None
    return _onto(ground, surface_id, line), ground


WAYS: dict[str, Callable[[PointerEvent, Ground, str], Drawing]] = {
    "points": _by_clicks,
    "freehand": _freehand,
    "ellipse": _spanned,
    "box": _spanned,
}
"""How shapes are drawn."""


def round_cover(ground: Ground, surface_id: str, middle: Vertices, radius: float) -> Shape | None:
    """Return a round shape about a place in the frame; None where what it rides on is not known."""
    if ground.home_to_frame(surface_id, ground.frame) is None:
        return None
    line = _round(middle, np.array([radius, radius]), True)
    return _shape(_onto(ground, surface_id, line), ground.desk.frame)


def _ends(begin: Vertices, by: Vertices, is_about: bool) -> Vertices:
    return np.array([begin - by, begin + by] if is_about else [begin, begin + by])


def _square(begin: Vertices, by: Vertices, is_about: bool) -> Line:
    corners = box_of(_ends(begin, by, is_about))
    return np.hstack([corners, np.zeros((4, 6))]), (VertexKind.CORNER,) * 4, True


def _round(begin: Vertices, by: Vertices, is_about: bool) -> Line:
    low, high = np.sort(_ends(begin, by, is_about), axis=0)
    middle, radii = (low + high) / 2, (high - low) / 2
    out = np.array([[0, -1], [1, 0], [0, 1], [-1, 0.0]])
    along = np.array([[1, 0], [0, 1], [-1, 0], [0, -1.0]]) * CIRCLE * radii
    vertices = np.hstack([middle + out * radii, -along, along, np.zeros((4, 2))])
    return vertices, (VertexKind.HANDLES,) * 4, True


def _onto(ground: Ground, surface_id: str, line: Line) -> Line:
    """Return a line in pixels of the frame on the surface that it is drawn on."""
    home = ground.home_to_frame(surface_id, ground.frame)
    assert home is not None
    return _moved(line, home.inverse())


def _moved(line: Line, mapping: Mapping) -> Line:
    vertices, kinds, is_closed = line
    return moved_vertices(vertices, kinds, mapping, is_closed=is_closed), kinds, is_closed


def _shape(line: Line, frame: int, name: str = "") -> Shape:
    vertices, kinds, is_closed = line
    key = ShapeKey(frame=frame, vertices=Array(vertices))
    return Shape(id=new_id(), name=name, keys=(key,), kinds=kinds, is_closed=is_closed, ease=Ease.SMOOTH)


# -- covers and hold-outs -----------------------------------------------------------------------------------


def _matte_surface(ground: Ground) -> str:
    """Return what a matte's shape rides on: the surface in hand, else the fix's own, or nothing if it shall not."""
    if ground.desk.draws_on_picture:
        return ""
    if ground.surface is not None:
        return ground.surface.id
    return ground.fix.surface_id if ground.fix is not None else ""


def _why_not(ground: Ground) -> str:
    surface = ground.surface
    words = f"{surface.name} is not followed to this frame." if surface else "Follow a surface first."
    what = WORDS[ground.desk.slot]
    return f"{'An' if what[0] in 'aeiou' else 'A'} {what} cannot be drawn here. {words}"


def _in_matte(ground: Ground, line: Line, surface_id: str) -> Step:
    shot, fix, desk = ground.shot, ground.fix, ground.desk
    assert shot is not None
    slot = desk.slot if fix is not None else Slot.COVER
    try:
        matte = Matte() if fix is None else edits.matte_in(shot, fix.id, slot)
    except KeyError:
        return Step(error=f"{ground.fix.name if ground.fix else 'It'} has no {WORDS[slot]} as it is filled now.")
    taken = {shape.name or f"Shape {number}" for number, shape in enumerate(matte.shapes, 1)}
    name = next(f"Shape {number}" for number in range(1, len(taken) + 2) if f"Shape {number}" not in taken)
    shape = _shape(line, desk.frame, name)
    combine = Combine(desk.combine) if matte.parts or slot is Slot.TAKE_FROM else Combine.ADD
    part = MattePart(id=shape.id, source=Drawn(shape=shape, surface_id=surface_id), combine=combine)
    tool = "draw" if desk.draws_wire else "edit"  # wires come in numbers
    desk_after = {"tool": tool, "part_id": part.id, "part_ids": (), "vertices": ()}
    if desk.draws_wire and not (fix is not None and isinstance(fix.fill, Span)):
        return _new_fix(ground, part, surface_id, desk_after)
    if fix is not None:
        is_more = slot is Slot.COVER and matte.parts
        label = "Draw one more shape" if is_more else f"Draw {WORDS[slot]}"
        edit = partial(edits.add_part, shot_id=shot.id, holder_id=fix.id, slot=slot, part=part)
        after = desk_after if slot in (Slot.COVER, Slot.HOLD_OUTS) else desk_after | ONE_OFF
        return Step(label, edit, after, calls="snap_line" if desk.draws_wire else "")
    return _new_fix(ground, part, surface_id, desk_after)


def _new_fix(ground: Ground, part: MattePart, surface_id: str, desk_after: dict[str, Any]) -> Step:
    """Return the step that begins a fix with a part of its cover; along a wire it is a span."""
    shot, is_wire = ground.shot, ground.desk.draws_wire
    assert shot is not None
    name = free_name("Wire" if is_wire else "Fix", shot.fixes)
    plain = Fix(id=new_id(), name=name, surface_id=surface_id)
    softness = Softness(outwards_px=WIRE_SOFTNESS_PX) if is_wire else plain.cover.softness
    fresh = replaced(plain, cover=Matte(parts=(part,), softness=softness), fill=Span() if is_wire else plain.fill)
    edit = partial(edits.add_fix, shot_id=shot.id, fix=fresh)
    after = {**desk_after, "fix_id": fresh.id, "fix_ids": (fresh.id,), "slot": Slot.COVER}
    return Step(f"New {'wire' if is_wire else 'fix'}", edit, after, calls="snap_line" if is_wire else "propose_fill")


# -- areas --------------------------------------------------------------------------------------------------


DRAWN_FOR = {"scene plane": "lay_scene_plane", "around": "find_surfaces_around"}


def _in_follow(ground: Ground, line: Line) -> Step:
    desk, shot, surface = ground.desk, ground.shot, ground.surface
    assert shot is not None
    if not line[2]:
        return Step(error="An area to follow has to be closed; click its first point.")
    if surface is not None and desk.draws in SLOTS:
        return _one_more_area(ground, surface, line)
    if desk.draws in ("scene plane", "around"):
        outline = tuple((float(x), float(y)) for x, y in line[0][:, :2])
        reach = GRAB_PX / growth(ground.view_from_frame, line[0][:, :2].mean(axis=0))
        return Step(desk={"scene_outline": outline, "pick_px": reach}, calls=DRAWN_FOR[desk.draws])
    surface_id, points = new_id(), line[0][:, :2]
    corners = Array(points if len(points) == 4 else box_of(points))
    kinds: dict[str, How] = {"still": Still(corners=corners), "by hand": ByHand(corners=corners)}
    area = _shape(line, desk.frame)
    how = kinds.get(desk.draws, PlaneFollow(areas=Matte.of(area, surface_id=surface_id)))
    name = free_name({"still": "Still", "by hand": "By hand"}.get(desk.draws, "Surface"), shot.surfaces)
    fresh = Surface(id=surface_id, name=name, home_frame=desk.frame, how=how)
    tool = "pin" if desk.draws == "by hand" else "edit"
    after = {"surface_id": fresh.id, "part_id": "", "pin_points": (), "tool": tool, "draws": "surface"}
    return Step("New surface", partial(edits.add_surface, shot_id=shot.id, surface=fresh), after)


def _one_more_area(ground: Ground, surface: Surface, line: Line) -> Step:
    desk = ground.desk
    home = ground.home_to_frame(surface.id, desk.frame)
    if home is None:
        return Step(error=f"{surface.name} is not followed to frame {desk.frame}; draw its areas where it is.")
    shape = _shape(_moved(line, home.inverse()), desk.frame)
    part = MattePart(id=shape.id, source=Drawn(shape=shape, surface_id=surface.id))
    slot = SLOTS[desk.draws]
    edit = partial(edits.add_part, shot_id=desk.shot_id, holder_id=surface.id, slot=slot, part=part)
    return Step(f"Draw {desk.draws}", edit, {"tool": "edit", "part_id": part.id})
