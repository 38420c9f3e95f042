"""What is drawn over the picture, as data: built from the ground, drawn by the viewer."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from gommage.app.desk import Desk
from gommage.app.hands.borrow import seen_places
from gommage.app.hands.box import box_on, grips
from gommage.app.hands.gestures import Trace
from gommage.app.hands.ground import Ground
from gommage.app.hands.picture import picture_grips, picture_quad
from gommage.app.hands.pins import pin_places
from gommage.app.hands.scribble import picture_scribbled, scribbled_in_hand
from gommage.app.hands.seen import Seen, part_seen, soft_line, soft_places
from gommage.app.hands.spots import spots_on
from gommage.app.hands.strokes import outline_of, source_of_seen
from gommage.app.laid_out import Offered
from gommage.app.picture.scene_overlays import horizon, lattice, lattice_of, scene_points
from gommage.core.document import (
    Borrow,
    Fix,
    Matte,
    MattePart,
    Placed,
    PlaneFollow,
    PointsFollow,
    Span,
    Surface,
    Texture,
    VertexKind,
    is_within,
    outline,
    placement,
)
from gommage.core.document.edits import OF_FILL, Reach, Slot
from gommage.core.engine import Look, Step
from gommage.core.geometry import IDENTITY, Mapping, Points, lengths_along, then

__all__ = ["Handles", "Mark", "Outline", "Overlay", "overlay_of"]

MOST_KEYS = 8
"""So many other keys of a shape are shown at once."""
TRAIL_FRAMES = 24
"""How many frames before and after are drawn of a corner's way."""


@dataclass(frozen=True, slots=True)
class Outline:
    """A line through points (N, 2).

    Attributes
    ----------
    kind : str
        "area", "keep-out", "extent", "cover", "hold-out", "light", "guide", "drawing", "marquee", "box", "soft" (how
        far an edge fades) or "key" (the same shape on another of its keys).
    is_here : bool
        Whether it is on this frame; drawn faintly where it is not.
    colour : str
        Of the shape itself; empty: that of its kind.
    """

    points: Points
    kind: str
    is_closed: bool = True
    is_chosen: bool = True
    is_here: bool = True
    colour: str = ""


@dataclass(frozen=True, slots=True)
class Handles:
    """What can be taken hold of on a shape, in the viewport.

    Attributes
    ----------
    points : (N, 2)
        Its vertices, with `kinds`; `chosen` of them are in the hand.
    arms : tuple of (x, y, x, y)
        From vertices to the ends of their handles.
    soft : (M, 4)
        From the line to the handles of softness.
    grips : (K, 2)
        Of the box around it.
    """

    points: Points
    kinds: tuple[str, ...] = ()
    chosen: tuple[int, ...] = ()
    arms: tuple[tuple[float, float, float, float], ...] = ()
    soft: Points | None = None
    grips: Points | None = None


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
    handles : Handles or None
        Of what is in hand.
    dot_px : float
        How large they are drawn.
    lattice, trails : tuple of (N, 2)
        Lines of the grid on the surface; ways of its corners.
    marks : tuple of Mark
    labels : tuple of (x, y, words)
    points : tuple of (N, 2)
        Of the solved scene, those that are surest first.
    level : (2, 2) or None
        The horizon of the scene's ground.
    """

    outlines: tuple[Outline, ...] = ()
    handles: Handles | None = None
    lattice: tuple[Points, ...] = ()
    trails: tuple[Points, ...] = ()
    marks: tuple[Mark, ...] = ()
    labels: tuple[tuple[float, float, str], ...] = ()
    points: tuple[Points, ...] = ()
    level: Points | None = None
    dot_px: float = 4.0


def overlay_of(ground: Ground, trace: Trace | None = None) -> Overlay:
    """Return what the step in hand draws over the picture, and a line that is being drawn."""
    desk = ground.desk
    if ground.shot is None or desk.hides_overlays or ground.look is Look.SHEET:
        return Overlay()
    base = {Step.FOLLOW: _of_follow, Step.FILL: _of_fill}.get(desk.step, _of_cover)(ground)
    base = replace(base, dot_px=desk.dot_px, outlines=(*base.outlines, *_found(ground)))
    view = None if trace is None else IDENTITY if trace.is_in_view else ground.view_from(trace.surface_id)
    if trace is None or view is None or not len(trace.vertices):
        return base
    points = view(outline(trace.vertices, trace.kinds, is_closed=trace.is_closed))
    line = Outline(points, trace.kind, is_closed=trace.is_closed)
    handles = _handles_of(trace.vertices, trace.kinds, view, _with_arms(trace.kinds)) if trace.has_points else None
    return replace(base, outlines=(*base.outlines, line), handles=handles or base.handles)


def _found(ground: Ground) -> list[Outline]:
    """Return what was found on this frame and is neither taken nor left yet."""
    found, lines = ground.desk.found, []
    for number in found.on(ground.frame) if found is not None else ():
        assert found is not None
        one = found.items[number]
        view = ground.view_from(one.surface_id)
        if view is not None:
            closed = one.words != "scratch"
            line = view(one.outline_on(ground.frame))
            lines.append(Outline(line, "found", is_closed=closed, is_chosen=number == found.at))
    return lines


def _with_arms(kinds: tuple[VertexKind, ...]) -> tuple[int, ...]:
    return tuple(index for index, kind in enumerate(kinds) if kind is VertexKind.HANDLES)


def _handles_of(
    vertices: NDArray[np.float64], kinds: tuple[VertexKind, ...], view: Mapping, chosen: tuple[int, ...]
) -> Handles:
    """Return the vertices of a shape as handles, with arms at those that are chosen."""
    places = view(vertices[:, :2])
    arms = []
    for index in chosen:
        if kinds[index] is VertexKind.HANDLES:
            for column in (2, 4):
                x, y = view(vertices[index, :2] + vertices[index, column : column + 2])
                arms.append((float(places[index, 0]), float(places[index, 1]), float(x), float(y)))
    return Handles(places, kinds, chosen, tuple(arms))


def _matte_outlines(ground: Ground, matte: Matte, kind: str) -> list[Outline]:
    shot = ground.desk.shot(ground.project)
    parts = shot.unfolded(matte.parts) if shot is not None else ()
    return [line for part in parts for line in _part_outlines(ground, part, kind)]


def _part_outlines(ground: Ground, part: MattePart, kind: str) -> list[Outline]:
    """Return the line of a part, with how far it fades and where its other keys are if it is in hand."""
    seen = part_seen(ground, part)
    if seen is None:
        return []
    desk, in_hand = ground.desk, ground.desk.part(ground.project)
    is_chosen = (in_hand is not None and part.id == in_hand.id) or part.id in desk.part_ids
    is_here = part.is_on and is_within(part.frames, desk.frame) and desk.solo_id in ("", part.id)
    line = outline(seen.vertices, seen.shape.kinds, is_closed=seen.shape.is_closed)
    found = [
        Outline(
            seen.view(line), kind, is_closed=seen.shape.is_closed, is_chosen=is_chosen, is_here=is_here,
            colour=seen.shape.colour,
        )
    ]  # fmt: skip
    if is_chosen and desk.tool in ("edit", "mould"):
        found += _other_keys(seen, desk)
        for side, column in ((1, 7), (-1, 6)):
            if seen.vertices[:, column].any():
                found.append(Outline(soft_line(seen, side), "soft", is_closed=seen.shape.is_closed))
    return found


def _other_keys(seen: Seen, desk: Desk) -> list[Outline]:
    """Return where a shape is on the other keys that a change will reach, if it reaches any."""
    if desk.reach is Reach.THIS:
        return []
    first, last = desk.marked if desk.reach is Reach.MARKED and desk.marked else (-np.inf, np.inf)
    keys = [key for key in seen.shape.keys if key.frame != desk.frame and first <= key.frame <= last]
    near = sorted(keys, key=lambda key: abs(key.frame - desk.frame))[:MOST_KEYS]
    closed = seen.shape.is_closed
    return [
        Outline(
            seen.view(outline(key.vertices.values, seen.shape.kinds, is_closed=closed)), "key",
            is_closed=closed, is_chosen=False,
        )
        for key in near
    ]  # fmt: skip


def _handles(ground: Ground) -> Handles | None:
    """Return the handles of the shape in hand, while it can be reshaped."""
    desk, part = ground.desk, ground.desk.part(ground.project)
    seen = part_seen(ground, part) if part is not None and desk.tool in ("edit", "mould") else None
    if seen is None or seen.shape.is_locked:
        return None
    handles = _handles_of(seen.vertices, seen.shape.kinds, seen.view, desk.chosen_vertices(seen.part.id))
    if desk.tool == "mould":
        return handles
    if desk.softens:
        ends = [np.hstack([seen.places, soft_places(seen, side)[0]]) for side in (1, -1)]
        handles = replace(handles, soft=np.vstack(ends))
    box = box_on(ground) if desk.has_box else None
    return handles if box is None else replace(handles, grips=grips(ground, box))


# -- Fill ---------------------------------------------------------------------------------------------------


def _of_fill(ground: Ground) -> Overlay:
    """Return the lines of the fill itself, those round the chosen strokes and round where these take their pixels, and
    round all if asked for.
    """
    desk, lines = ground.desk, _lines_of_fill(ground)
    handles = _handles(ground) if desk.slot in OF_FILL else None
    quad = picture_quad(ground) if desk.tool == "picture" else None
    if quad is not None:
        handles = Handles(ground.view_from_frame(quad), grips=picture_grips(ground, quad))
    for seen in ground.strokes if desk.stroke_ids or desk.outlines_strokes else ():
        is_chosen = seen.stroke.id in desk.stroke_ids
        if not (is_chosen or desk.outlines_strokes):
            continue
        kind = "stroke" if is_chosen else "stroke-other"
        lines.append(Outline(outline_of(seen), kind, is_chosen=is_chosen, is_here=seen.stroke.is_on))
        source = source_of_seen(seen) if is_chosen else None
        if source is not None:
            lines.append(Outline(outline_of(source), "stroke-source"))
    return Overlay(tuple(lines), handles)


def _lines_of_fill(ground: Ground) -> list[Outline]:
    """Return guides and areas that a fill is told by."""
    fill = ground.fix.fill if ground.fix is not None else None
    if isinstance(fill, Borrow):
        lines = []
        for one in seen_places(ground):
            in_hand = ground.desk.part_id == one.part.id
            lines.append(Outline(one.line, "cover", is_chosen=in_hand))
            lines.append(Outline(one.source, "stroke-source", is_chosen=in_hand))
        return lines
    if isinstance(fill, Span) and ground.fix is not None:
        return _lines_and_stretches(ground, ground.fix, fill)
    if isinstance(fill, Placed):
        quad = picture_quad(ground) if ground.desk.tool in ("picture", "scribble") else None
        scribbled = picture_scribbled(ground) if ground.desk.slot is Slot.SUBJECT else None
        marks = [] if scribbled is None else _scribbles(ground, *scribbled)
        return marks if quad is None else [Outline(ground.view_from_frame(quad), "guide"), *marks]
    if not isinstance(fill, Texture) or ground.look is Look.CLEAN_PLATE:
        return []
    return _matte_outlines(ground, fill.guides, "guide") + _matte_outlines(ground, fill.take_from, "light")


def _lines_and_stretches(ground: Ground, fix: Fix, fill: Span) -> list[Outline]:
    """Return the lines of a span, and over them the stretches that are closed in a way of their own."""
    lines = _matte_outlines(ground, fix.cover, "cover")
    for part in fix.cover.parts:
        seen = part_seen(ground, part)
        if seen is None or seen.shape.is_closed:
            continue
        line = seen.view(outline(seen.vertices, seen.shape.kinds, is_closed=False))
        at = lengths_along(line)
        for one in fill.stretches:
            if one.part_id == part.id:
                along = np.linspace(one.first * at[-1], one.last * at[-1], 64)
                piece = np.column_stack([np.interp(along, at, line[:, k]) for k in range(2)])
                lines.append(Outline(piece, "guide", is_closed=False))
    return lines


# -- Cover and later ----------------------------------------------------------------------------------------


def _of_cover(ground: Ground) -> Overlay:
    desk, fix = ground.desk, ground.fix
    if fix is None or not (desk.step in (Step.COVER, Step.MATCH) or desk.tool in ("edit", "mould", "scribble")):
        return Overlay()
    lines = _matte_outlines(ground, fix.cover, "cover") + _matte_outlines(ground, fix.hold_outs, "hold-out")
    if desk.step is Step.MATCH:
        lines += _matte_outlines(ground, fix.light_area, "light")
    lines += _scribbles(ground, IDENTITY, desk.frame)
    handles = _handles(ground)
    if handles is not None and handles.grips is not None:
        lines.append(Outline(handles.grips[:4], "box"))
    return Overlay(tuple(lines), handles)


def _scribbles(ground: Ground, to_frame: Mapping, number: int) -> list[Outline]:
    """Return the scribbles in hand that are on a picture, given its number and where it is on the frame."""
    in_hand, view = scribbled_in_hand(ground), then(to_frame, ground.view_from_frame)
    return [
        Outline(view(mark.points.values), "scribble-inside" if mark.is_inside else "scribble-outside", is_closed=False)
        for mark in (in_hand[1].marks if in_hand is not None else ())
        if mark.frame == number
    ]


# -- Follow -------------------------------------------------------------------------------------------------


def _of_follow(ground: Ground) -> Overlay:
    surface, desk = ground.surface, ground.desk
    points, level = scene_points(ground), horizon(ground)
    if desk.offers is not None and desk.offers.frame == ground.frame:
        return _of_offers(ground, desk.offers)
    if surface is None:
        return Overlay(points=points, level=level)
    to_view = ground.view_from(surface.id)
    grid = lattice_of(ground, surface, to_view) if to_view is not None and desk.has_lattice else ()
    trails = _trails(ground, surface) if desk.has_trails else ()
    return Overlay(_areas(ground, surface), _follow_handles(ground, surface), grid, trails, _marks(ground, surface),
                   points=points, level=level)  # fmt: skip


def _of_offers(ground: Ground, offered: Offered) -> Overlay:
    """Return the surfaces that propose themselves, the one in hand with its lattice."""
    view = ground.view_from_frame
    lines = [
        Outline(view(piece.outline), "found", is_chosen=number == offered.at, is_here=number == offered.at)
        for number, piece in enumerate(offered.pieces)
    ]
    return Overlay(tuple(lines), lattice=lattice(offered.piece.outline, view) if ground.desk.has_lattice else ())


def _areas(ground: Ground, surface: Surface) -> tuple[Outline, ...]:
    if not isinstance(surface.how, PlaneFollow):
        to_view = ground.view_from(surface.id)
        return () if to_view is None else (Outline(to_view(surface.corners), "area"),)
    areas = _matte_outlines(ground, surface.how.areas, "area")
    extent = _matte_outlines(ground, surface.extent, "extent")
    return (*areas, *_matte_outlines(ground, surface.how.keep_outs, "keep-out"), *extent)


def _follow_handles(ground: Ground, surface: Surface) -> Handles | None:
    if ground.desk.tool != "pin":
        return _handles(ground)
    places = pin_places(ground, surface)
    return None if places is None else Handles(ground.view_from_frame(places))


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
