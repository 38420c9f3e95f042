"""What is drawn over the picture, as data: built from the ground, drawn by the viewer."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from gommage.app.hands.gestures import Trace
from gommage.app.hands.ground import Ground
from gommage.app.hands.pins import pin_places
from gommage.app.hands.spots import spots_on
from gommage.core.document import Drawn, MattePart, PlaneFollow, PointsFollow, Surface, outline, placement
from gommage.core.engine import Look, Step
from gommage.core.geometry import Mapping, Points

__all__ = ["Mark", "Outline", "Overlay", "overlay_of"]

LATTICE_LINES = 9
CURVED_STEPS = 16
TRAIL_FRAMES = 24
"""How many frames before and after are drawn of a corner's way."""


@dataclass(frozen=True, slots=True)
class Outline:
    """A line through points (N, 2). Kind is "area", "keep-out", "cover" or "drawing"."""

    points: Points
    kind: str
    is_closed: bool = True
    is_chosen: bool = True


@dataclass(frozen=True, slots=True)
class Mark:
    """A followed spot."""

    x: float
    y: float
    is_seen: bool
    is_chosen: bool


@dataclass(frozen=True, slots=True)
class Overlay:
    """What is drawn over the picture, in viewport coordinates.

    Attributes
    ----------
    outlines : tuple of Outline
    vertices : (N, 2) or None
        Handles of what is in hand.
    lattice, trails : tuple of (N, 2)
        Lines of the grid on the surface; ways of its corners.
    marks : tuple of Mark
    labels : tuple of (x, y, words)
    """

    outlines: tuple[Outline, ...] = ()
    vertices: Points | None = None
    lattice: tuple[Points, ...] = ()
    trails: tuple[Points, ...] = ()
    marks: tuple[Mark, ...] = ()
    labels: tuple[tuple[float, float, str], ...] = ()


def overlay_of(ground: Ground, trace: Trace | None = None) -> Overlay:
    """Return what the step in hand draws over the picture, and a line that is being drawn."""
    desk = ground.desk
    if ground.shot is None or desk.hides_overlays or ground.look is Look.SHEET:
        return Overlay()
    base = _of_follow(ground) if desk.step is Step.FOLLOW else _of_cover(ground)
    line = _traced(ground, trace)
    if line is None:
        return base
    return Overlay((*base.outlines, line), line.points, base.lattice, base.trails, base.marks)


def _traced(ground: Ground, trace: Trace | None) -> Outline | None:
    view = ground.view_from(trace.surface_id) if trace is not None and trace.points else None
    if trace is None or view is None:
        return None
    return Outline(view(np.array(trace.points)), trace.kind, is_closed=False)


def _part_outline(ground: Ground, part: MattePart, kind: str, *, is_chosen: bool) -> Outline | None:
    if not isinstance(part.source, Drawn):
        return None
    view = ground.view_from(part.source.surface_id)
    if view is None:
        return None
    shape = part.source.shape
    return Outline(view(outline(shape.vertices_at(ground.desk.frame), shape.kinds)), kind, is_chosen=is_chosen)


def _handles(ground: Ground) -> Points | None:
    """Return the vertices of the shape in hand, while it can be reshaped."""
    part = ground.desk.part(ground.project)
    if ground.desk.tool != "edit" or part is None or not isinstance(part.source, Drawn):
        return None
    view = ground.view_from(part.source.surface_id)
    return None if view is None else view(part.source.shape.points_at(ground.desk.frame))


# -- Cover and later ----------------------------------------------------------------------------------------


def _of_cover(ground: Ground) -> Overlay:
    desk, fix = ground.desk, ground.fix
    if fix is None or not (desk.step in (Step.COVER, Step.MATCH) or desk.tool == "edit"):
        return Overlay()
    chosen = desk.part(ground.project)
    lines = [
        _part_outline(ground, part, "cover", is_chosen=chosen is not None and part.id == chosen.id)
        for part in fix.cover.parts
    ]
    return Overlay(tuple(line for line in lines if line is not None), _handles(ground))


# -- Follow -------------------------------------------------------------------------------------------------


def _of_follow(ground: Ground) -> Overlay:
    surface, desk = ground.surface, ground.desk
    if surface is None:
        return Overlay()
    to_view = ground.view_from(surface.id)
    lattice = _lattice(surface.outline, to_view) if to_view is not None and desk.has_lattice else ()
    trails = _trails(ground, surface) if desk.has_trails else ()
    return Overlay(_areas(ground, surface), _follow_handles(ground, surface), lattice, trails, _marks(ground, surface))


def _areas(ground: Ground, surface: Surface) -> tuple[Outline, ...]:
    if not isinstance(surface.how, PlaneFollow):
        to_view = ground.view_from(surface.id)
        return () if to_view is None else (Outline(to_view(surface.corners), "area"),)
    chosen = ground.desk.part(ground.project)
    found = []
    for matte, kind in ((surface.how.areas, "area"), (surface.how.keep_outs, "keep-out")):
        for part in matte.parts:
            line = _part_outline(ground, part, kind, is_chosen=chosen is not None and part.id == chosen.id)
            if line is not None:
                found.append(line)
    return tuple(found)


def _follow_handles(ground: Ground, surface: Surface) -> Points | None:
    if ground.desk.tool != "pin":
        return _handles(ground)
    places = pin_places(ground, surface)
    return None if places is None else ground.view_from_frame(places)


def _marks(ground: Ground, surface: Surface) -> tuple[Mark, ...]:
    if not isinstance(surface.how, PointsFollow):
        return ()
    view = ground.view_from_frame
    found = []
    for spot, place, sure in spots_on(ground, surface):
        x, y = view(place)
        found.append(Mark(float(x), float(y), is_seen=sure > 0, is_chosen=spot.id == ground.desk.part_id))
    return tuple(found)


def _trails(ground: Ground, surface: Surface) -> tuple[Points, ...]:
    """Return the ways of the corners over the frames around."""
    shot, frame = ground.shot, ground.desk.frame
    placed = placement(shot, surface) if shot is not None else None
    if placed is None:
        return ()
    near = range(frame - TRAIL_FRAMES, frame + TRAIL_FRAMES + 1)
    places = [mapping(surface.corners) for at in near if (mapping := placed.mapping(at)) is not None]
    if len(places) < 2:
        return ()
    ways = np.stack(places)
    return tuple(ground.view_from_frame(ways[:, corner]) for corner in range(4))


def _lattice(points: Points, to_view: Mapping) -> tuple[Points, ...]:
    """Return the lines of a grid over a shape's box on its surface, as the viewport sees them."""
    low, high = points.min(axis=0), points.max(axis=0)
    step = max(high - low) / (LATTICE_LINES - 1)
    low, high = low - step, high + step
    across = np.arange(low[0], high[0] + step / 2, step)
    down = np.arange(low[1], high[1] + step / 2, step)
    count = 2 if to_view.matrix is not None else CURVED_STEPS
    along_x, along_y = np.linspace(low[0], across[-1], count), np.linspace(low[1], down[-1], count)
    lines = [np.column_stack([np.full(count, x), along_y]) for x in across]
    lines += [np.column_stack([along_x, np.full(count, y)]) for y in down]
    return tuple(to_view(np.stack(lines)))
