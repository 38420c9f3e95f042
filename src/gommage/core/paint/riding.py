"""Strokes as they lie on one frame: where their points are there, and where their pixels come from."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache
from typing import Any

import numpy as np
from msgspec.structs import replace

from gommage.core.cover import MatteAt
from gommage.core.document import (
    Array,
    BelowPicture,
    Brush,
    CleanPlatePicture,
    FixPicture,
    Footage,
    FrameOffset,
    Group,
    Painting,
    Source,
    Stroke,
    Tool,
    is_within,
    value_at,
)
from gommage.core.document.records import Record
from gommage.core.geometry import (
    IDENTITY,
    Mapping,
    Window,
    around,
    composed,
    growth,
    scaling,
    shift,
    then,
    turning,
)
from gommage.core.paint.tools import TOOLS

__all__ = ["Origin", "OwnCanvas", "ShotFrame", "StrokeAt", "on_larger", "plainly", "scaled", "strokes_at"]

MappingOf = Callable[[str, int], Mapping | None]
KEPT = 16384
"""So many strokes where they lie are kept: those of a painting are asked for with every new one."""
MARGIN_PX = 2
"""So far beyond its size a stroke may reach, in pixels."""


class OwnCanvas(Record, frozen=True, tag="own"):
    """What is painted on, as it was before the stroke."""


class ShotFrame(Record, frozen=True, tag="shot"):
    """A frame of the shot, with the fixes that lie below laid on it."""

    footage: Footage
    frame: int
    below: tuple[Any, ...] = ()


Origin = Any
"""`OwnCanvas`, `ShotFrame`, or the key of a clean plate's canvas: what a stroke takes its pixels from."""


class StrokeAt(Record, frozen=True):
    """A stroke on one frame, in pixels of what is painted on.

    Attributes
    ----------
    points : Array
        (N, 3): x, y, pressure.
    brush : Brush
        Its size in these pixels, its opacity with that of its group.
    origin : Origin
    origin_from_canvas : Mapping
        From where in its origin each pixel comes.
    is_fixed : bool
        Whether all dabs come from the place that the first one does.
    barred : tuple of MatteAt
        Where on the origin's frame nothing is taken: what stays in front, and the thing itself where it still shows.
    in_front : tuple of MatteAt
        What stays in front on this frame: it is no part of the surroundings that a source is fitted to.
    """

    id: str
    points: Array
    brush: Brush
    origin: Origin = OwnCanvas()
    origin_from_canvas: Mapping = IDENTITY
    is_fixed: bool = False
    barred: tuple[MatteAt, ...] = ()
    in_front: tuple[MatteAt, ...] = ()

    @property
    def reach(self) -> Window:
        """The window that it may change, wherever that is."""
        return _reach(self)


@lru_cache(maxsize=KEPT)
def _reach(stroke: StrokeAt) -> Window:
    return around(stroke.points.values[:, :2], stroke.brush.size_px / 2 + MARGIN_PX)


def plainly(stroke: Stroke) -> StrokeAt:
    """Return a stroke as it lies on a canvas that has no frames: from beside itself."""
    return _on_itself(stroke, IDENTITY, 1.0)


def strokes_at(
    painting: Painting, footage: Footage, frame: int, mapping_of: MappingOf, *,
    along: str = "",
    below: Callable[[int], tuple[Any, ...]] = lambda frame: (),
    plate: Callable[[str], tuple[Origin, Mapping] | None] = lambda plate_id: None,
    fix: Callable[[str, int], tuple[Any, ...] | None] = lambda fix_id, frame: None,
    barred: Callable[[int, bool], tuple[MatteAt, ...]] = lambda frame, is_bare: (),
) -> tuple[StrokeAt, ...]:  # fmt: skip
    """Return the strokes of a painting that are there on a frame, first to last.

    Parameters
    ----------
    painting : Painting
    footage : Footage
    frame : int
    mapping_of : callable
        For a surface's id and a frame: home pixels to that frame's; None where the surface is not.
    along : str
        The surface along which other frames are brought into register for strokes that ride on none.
    below : callable
        Gives what lies below on a frame: the inputs of fixes behind.
    plate : callable
        Gives a clean plate's canvas by its id, and where its pixels lie on the frame; None where it does not.
    fix : callable
        Gives the inputs of a fix behind, by its id and a frame; None if it is not behind.
    barred : callable
        Gives where nothing is taken on a frame of the shot; told whether the thing that is removed still shows there.

    Notes
    -----
    A stroke that rides on a surface, or takes from a frame, that is not there, is not laid.
    """
    groups = {group.id: group for group in painting.groups}
    found = []
    for stroke in painting.strokes:
        group = groups.get(stroke.group_id)
        if not stroke.is_on or not is_within(stroke.frames, frame) or not _is_there(group, frame):
            continue
        here = mapping_of(stroke.surface_id, frame)
        if here is None:
            continue
        fade = 1.0 if group is None else float(np.clip(value_at(group.opacity, frame), 0, 1))
        laid = _on_itself(stroke, here, fade)
        if TOOLS[stroke.brush.tool].takes_source:
            if not _takes_from_itself(stroke, frame):
                taken = _taken(stroke, footage, frame, here, mapping_of, along, below, plate, fix)
                if taken is None:
                    continue
                laid = replace(laid, origin=taken[0], origin_from_canvas=taken[1])
            laid = _with_bars(laid, frame, barred)
        found.append(laid)
    return tuple(found)


def _takes_from_itself(stroke: Stroke, frame: int) -> bool:
    """Return whether a stroke takes its pixels from what it is laid on."""
    return isinstance(stroke.source.picture, BelowPicture) and _other_frame(stroke, frame) == frame


def _other_frame(stroke: Stroke, frame: int) -> int:
    time = stroke.source.time
    return frame + time.frames if isinstance(time, FrameOffset) else time.frame


def _with_bars(laid: StrokeAt, frame: int, barred: Callable[[int, bool], tuple[MatteAt, ...]]) -> StrokeAt:
    """Return a stroke that knows where it takes nothing, and what it is not fitted to."""
    origin = laid.origin
    if not isinstance(origin, OwnCanvas | ShotFrame):
        return laid
    is_bare = isinstance(origin, ShotFrame)
    bars = barred(origin.frame if isinstance(origin, ShotFrame) else frame, is_bare)
    in_front = barred(frame, False) if laid.brush.tool is Tool.HEAL else ()
    return replace(laid, barred=bars, in_front=in_front) if bars or in_front else laid


def _is_there(group: Group | None, frame: int) -> bool:
    return group is None or (group.is_on and is_within(group.frames, frame))


@lru_cache(maxsize=KEPT)
def _on_itself(stroke: Stroke, here: Mapping, fade: float) -> StrokeAt:
    """Return a stroke where a mapping takes it, its pixels taken from what it is laid on."""
    points, brush = stroke.points, stroke.brush
    if here is not IDENTITY:
        moved = np.column_stack([here(points.values[:, :2]), points.values[:, 2]])
        larger = growth(here, points.values[:, :2].mean(axis=0))
        if not np.isfinite(moved).all() or not np.isfinite(larger):
            moved, larger = np.array([[-1e6, -1e6, 1.0]]), 1.0  # behind the camera: nowhere
        points, brush = Array(moved), replace(brush, size_px=max(brush.size_px * larger, 1e-3))
    if fade != 1.0:
        brush = replace(brush, opacity=brush.opacity * fade)
    mapping = IDENTITY
    if TOOLS[stroke.brush.tool].takes_source:
        beside = _from_beside(stroke)
        mapping = beside if here is IDENTITY else composed(here.inverse(), beside, here)
    return StrokeAt(
        id=stroke.id, points=points, brush=brush, origin_from_canvas=mapping, is_fixed=stroke.source.is_fixed
    )


def _taken(
    stroke: Stroke, footage: Footage, frame: int, here: Mapping, mapping_of: MappingOf, along: str,
    below: Callable[[int], tuple[Any, ...]], plate: Callable[[str], tuple[Origin, Mapping] | None],
    fix: Callable[[str, int], tuple[Any, ...] | None],
) -> tuple[Origin, Mapping] | None:  # fmt: skip
    """Return what else than what it is laid on a stroke takes from, and where in it; None where that is not there."""
    source = stroke.source
    beside = _from_beside(stroke)
    back = IDENTITY if here is IDENTITY else here.inverse()
    if isinstance(source.picture, CleanPlatePicture):
        found = plate(source.picture.plate_id)
        if found is None:
            return None
        key, frame_from_plate = found
        return key, composed(back, beside, here, frame_from_plate.inverse())
    other = _other_frame(stroke, frame)
    laid = fix(source.picture.fix_id, other) if isinstance(source.picture, FixPicture) else ()
    if laid is None:
        return None
    if other == frame:
        return ShotFrame(footage=footage, frame=frame, below=laid), composed(back, beside, here)
    there = _in_register(stroke, frame, other, mapping_of, along) if source.runs_along else here
    if there is None or other not in footage.frames or other in footage.missing:
        return None
    laid = below(other) if isinstance(source.picture, BelowPicture) else laid
    return ShotFrame(footage=footage, frame=other, below=laid), composed(back, beside, there)


def _in_register(stroke: Stroke, frame: int, other: int, mapping_of: MappingOf, along: str) -> Mapping | None:
    """Return where a stroke's own pixels lie on another frame, brought there by a surface."""
    if stroke.surface_id:
        return mapping_of(stroke.surface_id, other)
    if not along:
        return IDENTITY
    here, there = mapping_of(along, frame), mapping_of(along, other)
    return None if here is None or there is None else then(here.inverse(), there)


def _from_beside(stroke: Stroke) -> Mapping:
    """Return from where each pixel comes, in the stroke's own pixels: moved, and turned about where it comes from."""
    source: Source = stroke.source
    if source.turn_deg == 0 and source.scale == 1 and not source.is_mirrored:
        return shift(source.dx, source.dy)
    x, y = stroke.points.values[0, :2].tolist()
    size = source.scale
    larger = scaling(-size if source.is_mirrored else size, size)
    turned = composed(larger, turning(np.deg2rad(source.turn_deg)))
    return composed(shift(-x, -y), turned.inverse(), shift(x + source.dx, y + source.dy))


def on_larger(stroke: StrokeAt, scale: float) -> StrokeAt:
    """Return a stroke for a canvas of another scale than what it takes its pixels from."""
    if scale == 1:
        return stroke
    moved = scaled(stroke, scale)
    if isinstance(stroke.origin, OwnCanvas):
        return moved
    return replace(moved, origin_from_canvas=then(scaling(1 / scale), stroke.origin_from_canvas))


def scaled(stroke: StrokeAt, scale: float) -> StrokeAt:
    """Return a stroke for a picture that is smaller, as is its origin."""
    if scale == 1:
        return stroke
    points = stroke.points.values * (scale, scale, 1.0)
    return replace(
        stroke,
        points=Array(points),
        brush=replace(stroke.brush, size_px=stroke.brush.size_px * scale),
        origin_from_canvas=composed(scaling(1 / scale), stroke.origin_from_canvas, scaling(scale)),
    )
