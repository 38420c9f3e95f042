"""Edits: pure functions from a project to a project.

Each validates and raises `EditError` with a sentence for the user. An edit that changes nothing returns the
same object, so that history makes no step of it.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

import numpy as np
from msgspec.structs import replace

from gommage.core.document.arrays import Array
from gommage.core.document.placements import placement, relative_to
from gommage.core.document.records import (
    Area,
    CleanPlate,
    CleanPlateFill,
    Cover,
    Fix,
    Footage,
    Frames,
    Match,
    Pin,
    PlaneFollow,
    Project,
    Record,
    Shape,
    ShapeKey,
    Shot,
    Stroke,
    Surface,
    Track,
)
from gommage.errors import EditError

__all__ = [
    "add_clean_plate",
    "add_fix",
    "add_shot",
    "add_stroke",
    "add_surface",
    "change_fix",
    "change_follow",
    "change_match",
    "change_surface",
    "move_fix",
    "move_surface",
    "relink_footage",
    "remove_area",
    "remove_area_key",
    "remove_clean_plate",
    "remove_fix",
    "remove_pin",
    "remove_shape_key",
    "remove_stroke",
    "remove_surface",
    "replace_stroke",
    "set_area",
    "set_area_key",
    "set_cover",
    "set_fill",
    "set_pin",
    "set_rides_on",
    "set_shape_key",
    "set_track",
    "trim_track",
]

_Any = TypeVar("_Any", bound=Record)
_Kind = TypeVar("_Kind", Shot, Surface, CleanPlate, Fix, Stroke)


def _swap(items: tuple[_Kind, ...], changed: _Kind) -> tuple[_Kind, ...]:
    return tuple(changed if item.id == changed.id else item for item in items)


def _without(items: tuple[_Kind, ...], gone: str) -> tuple[_Kind, ...]:
    return tuple(item for item in items if item.id != gone)


def _in_shot(project: Project, shot_id: str, change: Callable[[Shot], Shot]) -> Project:
    try:
        shot = project.shot(shot_id)
        changed = change(shot)
    except KeyError as error:
        raise EditError(f"There is no item {error.args[0]!r} in this project any more.") from error
    return project if changed is shot else replace(project, shots=_swap(project.shots, changed))


def _changed(record: _Any, **fields: Any) -> _Any:
    """Return the record with fields replaced, or the record itself if all are equal already."""
    if all(getattr(record, name) == value for name, value in fields.items()):
        return record
    try:
        return replace(record, **fields)
    except ValueError as error:
        raise EditError(f"{error}.".capitalize()) from error


def add_shot(project: Project, shot: Shot) -> Project:
    """Return the project with one more shot."""
    if any(other.id == shot.id for other in project.shots):
        raise EditError(f"The shot {shot.name} is in this project already.")
    return replace(project, shots=(*project.shots, shot))


def relink_footage(project: Project, shot_id: str, footage: Footage) -> Project:
    """Return the project with a shot's footage found at another place.

    Raises
    ------
    EditError
        If size or frame range are not those of the shot: its tracks and strokes would not fit.
    """

    def change(shot: Shot) -> Shot:
        was = shot.footage
        if (footage.width, footage.height) != (was.width, was.height):
            raise EditError(
                f"These pictures are {footage.width} x {footage.height}; the shot was made on "
                f"{was.width} x {was.height}. Choose the folder with the original pictures."
            )
        if footage.frames != was.frames:
            raise EditError(
                f"These pictures are frames {footage.frames.first}–{footage.frames.last}; the shot has "
                f"{was.frames.first}–{was.frames.last}. Choose the folder with the original pictures."
            )
        kept = replace(footage, colour_space=was.colour_space, keep_alpha=was.keep_alpha, rate=was.rate)
        return _changed(shot, footage=kept)

    return _in_shot(project, shot_id, change)


def add_surface(project: Project, shot_id: str, surface: Surface) -> Project:
    """Return the project with one more surface, in front of the others."""

    def change(shot: Shot) -> Shot:
        if surface.home_frame not in shot.footage.frames:
            frames = shot.footage.frames
            raise EditError(f"Frame {surface.home_frame} is outside the shot ({frames.first}–{frames.last}).")
        return replace(shot, surfaces=(*shot.surfaces, surface))

    return _in_shot(project, shot_id, change)


def _in_surface(project: Project, shot_id: str, surface_id: str, change: Callable[[Surface], Surface]) -> Project:
    def in_shot(shot: Shot) -> Shot:
        return _changed(shot, surfaces=_swap(shot.surfaces, change(shot.surface(surface_id))))

    return _in_shot(project, shot_id, in_shot)


def change_surface(project: Project, shot_id: str, surface_id: str, **fields: Any) -> Project:
    """Return the project with fields of a surface changed (name, track, pins)."""
    return _in_surface(project, shot_id, surface_id, lambda surface: _changed(surface, **fields))


def change_follow(project: Project, shot_id: str, surface_id: str, **fields: Any) -> Project:
    """Return the project with fields of how a surface is followed changed (motion, channel, spots …)."""
    return _in_surface(
        project, shot_id, surface_id, lambda surface: _changed(surface, how=_changed(surface.how, **fields))
    )


def move_surface(project: Project, shot_id: str, surface_id: str, index: int) -> Project:
    """Return the project with a surface at another place in the order (0 is the backmost)."""

    def change(shot: Shot) -> Shot:
        others = list(_without(shot.surfaces, surface_id))
        others.insert(index, shot.surface(surface_id))
        return _changed(shot, surfaces=tuple(others))

    return _in_shot(project, shot_id, change)


def _plane(surface: Surface) -> PlaneFollow:
    if not isinstance(surface.how, PlaneFollow):
        raise EditError(f"{surface.name} is not followed as a plane; it has no areas.")
    return surface.how


def set_area(project: Project, shot_id: str, surface_id: str, area: Area, *, is_keep_out: bool = False) -> Project:
    """Return the project with an area or keep-out of a plane drawn: the one of the same id anew, else one more.

    The track stays until the surface is followed again.
    """

    def change(surface: Surface) -> Surface:
        how = _plane(surface)
        field = "keep_outs" if is_keep_out else "areas"
        items: tuple[Area, ...] = getattr(how, field)
        known = any(item.shape.id == area.shape.id for item in items)
        items = tuple(area if item.shape.id == area.shape.id else item for item in items)
        return _changed(surface, how=_changed(how, **{field: items if known else (*items, area)}))

    return _in_surface(project, shot_id, surface_id, change)


def remove_area(project: Project, shot_id: str, surface_id: str, area_id: str) -> Project:
    """Return the project without an area or keep-out of a plane.

    Raises
    ------
    EditError
        If it is the plane's only area.
    """

    def change(surface: Surface) -> Surface:
        how = _plane(surface)
        areas, outs = (
            tuple(item for item in items if item.shape.id != area_id) for items in (how.areas, how.keep_outs)
        )
        if not areas:
            raise EditError(f"This is the only area of {surface.name}; draw another before it is removed.")
        return _changed(surface, how=_changed(how, areas=areas, keep_outs=outs))

    return _in_surface(project, shot_id, surface_id, change)


def _in_area(
    project: Project, shot_id: str, surface_id: str, area_id: str, change: Callable[[Shape], Shape]
) -> Project:
    def in_surface(surface: Surface) -> Surface:
        how = _plane(surface)
        areas, outs = (
            tuple(_changed(item, shape=change(item.shape)) if item.shape.id == area_id else item for item in items)
            for items in (how.areas, how.keep_outs)
        )
        return _changed(surface, how=_changed(how, areas=areas, keep_outs=outs))

    return _in_surface(project, shot_id, surface_id, in_surface)


def set_area_key(project: Project, shot_id: str, surface_id: str, area_id: str, frame: int, points: Array) -> Project:
    """Return the project with an area or keep-out keyed on a frame.

    A shape with one key is the same on all frames: it stays so while that key is changed on its own frame.
    """
    return _in_area(project, shot_id, surface_id, area_id, lambda shape: _keyed(shape, frame, points))


def remove_area_key(project: Project, shot_id: str, surface_id: str, area_id: str, frame: int) -> Project:
    """Return the project with a key taken off an area or keep-out; see `remove_shape_key`."""
    return _in_area(project, shot_id, surface_id, area_id, lambda shape: _unkeyed(shape, frame))


def set_track(project: Project, shot_id: str, surface_id: str, track: Track | None) -> Project:
    """Return the project with a surface followed (or, with None, not followed). Its pins stay."""
    return change_surface(project, shot_id, surface_id, track=track)


def trim_track(project: Project, shot_id: str, surface_id: str, frames: Frames) -> Project:
    """Return the project with a surface known only on a range of frames; pins outside it go.

    ::

        before   1001 ........ 1040 ........ 1072
        trim_track(1010–1040)
        after         1010 ... 1040
    """

    def change(surface: Surface) -> Surface:
        if surface.track is None:
            raise EditError(f"{surface.name} has not been followed; there is nothing to trim.")
        own = surface.track.frames
        first, last = max(frames.first, own.first), min(frames.last, own.last)
        if first > last:
            raise EditError(f"{surface.name} is followed on {own.first}–{own.last}; nothing of that would be left.")
        pins = tuple(pin for pin in surface.pins if first <= pin.frame <= last)
        return _changed(surface, track=surface.track.part(Frames(first=first, last=last)), pins=pins)

    return _in_surface(project, shot_id, surface_id, change)


def set_pin(project: Project, shot_id: str, surface_id: str, pin: Pin) -> Project:
    """Return the project with a surface corrected on a frame (a pin that is there is replaced)."""

    def change(shot: Shot) -> Shot:
        surface = shot.surface(surface_id)
        if pin.frame not in shot.footage.frames:
            raise EditError(f"Frame {pin.frame} is outside the shot.")
        if pin.frame == surface.home_frame:
            raise EditError(f"{surface.name} is at home on frame {pin.frame}: there it is where it was drawn.")
        others = [one for one in surface.pins if one.frame != pin.frame]
        pins = tuple(sorted([*others, pin], key=lambda one: one.frame))
        return _changed(shot, surfaces=_swap(shot.surfaces, _changed(surface, pins=pins)))

    return _in_shot(project, shot_id, change)


def remove_pin(project: Project, shot_id: str, surface_id: str, frame: int) -> Project:
    """Return the project without the correction on a frame."""

    def change(surface: Surface) -> Surface:
        return _changed(surface, pins=tuple(pin for pin in surface.pins if pin.frame != frame))

    return _in_surface(project, shot_id, surface_id, change)


def set_rides_on(project: Project, shot_id: str, surface_id: str, carrier_id: str) -> Project:
    """Return the project with a surface riding on another (empty: on the picture); it stays where it is.

    Raises
    ------
    EditError
        If the two would carry each other, or the carrier was not followed to the surface's home frame.
    """

    def change(shot: Shot) -> Shot:
        surface = shot.surface(surface_id)
        above = carrier_id
        while above:
            if above == surface_id:
                raise EditError(f"{surface.name} cannot ride on what rides on it.")
            above = shot.surface(above).rides_on
        was = surface.track and placement(shot, replace(surface, pins=()))
        riding = replace(surface, rides_on=carrier_id)
        if relative_to(shot, riding, surface.home_frame) is None:
            carrier = shot.surface(carrier_id)
            frame = surface.home_frame
            raise EditError(f"{carrier.name} is not followed to frame {frame}, where {surface.name} begins.")
        track = _relative(shot, riding, was) if was is not None else None
        return _changed(shot, surfaces=_swap(shot.surfaces, _changed(riding, track=track)))

    return _in_shot(project, shot_id, change)


def _relative(shot: Shot, surface: Surface, track: Track) -> Track | None:
    """Return a track in the picture as one relative to what a surface rides on, where both are known."""
    under = {frame: relative_to(shot, surface, frame) for frame in track.frames}
    known = [frame for frame, matrix in under.items() if matrix is not None]
    if not known:
        return None
    part = track.part(Frames(first=known[0], last=known[-1]))
    matrices = np.stack([np.linalg.inv(under[frame]) @ part.matrix(frame) for frame in part.frames])  # type: ignore[arg-type]
    return replace(part, home_to_frame=Array(matrices / matrices[:, 2:, 2:]))


def _riders(shot: Shot, surface_id: str) -> list[str]:
    """Return the names of what rides on a surface."""
    items: tuple[Fix | CleanPlate, ...] = (*shot.fixes, *shot.clean_plates)
    names = [item.name for item in items if item.surface_id == surface_id]
    return names + [surface.name for surface in shot.surfaces if surface.rides_on == surface_id]


def remove_surface(project: Project, shot_id: str, surface_id: str) -> Project:
    """Return the project without a surface.

    Raises
    ------
    EditError
        If fixes, clean plates or other surfaces ride on it.
    """

    def change(shot: Shot) -> Shot:
        surface = shot.surface(surface_id)
        if riders := _riders(shot, surface_id):
            raise EditError(f"{surface.name} carries {', '.join(riders)}. Remove those first.")
        return replace(shot, surfaces=_without(shot.surfaces, surface_id))

    return _in_shot(project, shot_id, change)


def add_clean_plate(project: Project, shot_id: str, plate: CleanPlate) -> Project:
    """Return the project with one more clean plate.

    Raises
    ------
    EditError
        If its surface was not followed to the plate's home frame.
    """

    def change(shot: Shot) -> Shot:
        surface = shot.surface(plate.surface_id)
        placed = placement(shot, surface)
        if placed is None or not placed.is_placed(plate.home_frame):
            raise EditError(f"{surface.name} was not followed to frame {plate.home_frame}. Follow it there first.")
        return replace(shot, clean_plates=(*shot.clean_plates, plate))

    return _in_shot(project, shot_id, change)


def remove_clean_plate(project: Project, shot_id: str, plate_id: str) -> Project:
    """Return the project without a clean plate; fixes that used it do so no longer."""

    def change(shot: Shot) -> Shot:
        shot.clean_plate(plate_id)
        fixes = tuple(
            _changed(
                fix,
                fill=CleanPlateFill(plate_ids=tuple(one for one in fix.fill.plate_ids if one != plate_id)),
            )
            for fix in shot.fixes
        )
        return replace(shot, clean_plates=_without(shot.clean_plates, plate_id), fixes=fixes)

    return _in_shot(project, shot_id, change)


def _in_plate(
    project: Project, shot_id: str, plate_id: str, change: Callable[[tuple[Stroke, ...]], tuple[Stroke, ...]]
) -> Project:
    def in_shot(shot: Shot) -> Shot:
        plate = shot.clean_plate(plate_id)
        painted = _changed(plate, strokes=change(plate.strokes))
        return _changed(shot, clean_plates=_swap(shot.clean_plates, painted))

    return _in_shot(project, shot_id, in_shot)


def add_stroke(project: Project, shot_id: str, plate_id: str, stroke: Stroke) -> Project:
    """Return the project with one more stroke on a clean plate, above the others."""
    return _in_plate(project, shot_id, plate_id, lambda strokes: (*strokes, stroke))


def replace_stroke(project: Project, shot_id: str, plate_id: str, stroke: Stroke) -> Project:
    """Return the project with the stroke of the same id replaced."""
    return _in_plate(project, shot_id, plate_id, lambda strokes: _swap(strokes, stroke))


def remove_stroke(project: Project, shot_id: str, plate_id: str, stroke_id: str) -> Project:
    """Return the project without a stroke."""
    return _in_plate(project, shot_id, plate_id, lambda strokes: _without(strokes, stroke_id))


def add_fix(project: Project, shot_id: str, fix: Fix) -> Project:
    """Return the project with one more fix, in front of the others."""

    def change(shot: Shot) -> Shot:
        shot.surface(fix.surface_id)
        return replace(shot, fixes=(*shot.fixes, fix))

    return _in_shot(project, shot_id, change)


def remove_fix(project: Project, shot_id: str, fix_id: str) -> Project:
    """Return the project without a fix; its surface and clean plates stay."""
    return _in_shot(project, shot_id, lambda shot: replace(shot, fixes=_without(shot.fixes, shot.fix(fix_id).id)))


def move_fix(project: Project, shot_id: str, fix_id: str, index: int) -> Project:
    """Return the project with a fix at another place in the order (0 is the backmost).

    ::

        before  back [ wall  label  rod ] front
        move_fix(rod, 0)
        after   back [ rod  wall  label ] front
    """

    def change(shot: Shot) -> Shot:
        others = list(_without(shot.fixes, fix_id))
        others.insert(index, shot.fix(fix_id))
        return _changed(shot, fixes=tuple(others))

    return _in_shot(project, shot_id, change)


def change_fix(project: Project, shot_id: str, fix_id: str, **fields: Any) -> Project:
    """Return the project with fields of a fix changed (name, is_on, frames, surface_id, cover, fill, match)."""
    return _in_shot(
        project,
        shot_id,
        lambda shot: _changed(shot, fixes=_swap(shot.fixes, _changed(shot.fix(fix_id), **fields))),
    )


def change_match(project: Project, shot_id: str, fix_id: str, **fields: Any) -> Project:
    """Return the project with fields of a fix's match changed."""
    match: Match = _changed(_fix(project, shot_id, fix_id).match, **fields)
    return change_fix(project, shot_id, fix_id, match=match)


def set_cover(project: Project, shot_id: str, fix_id: str, **fields: Any) -> Project:
    """Return the project with fields of a fix's cover changed (shapes, softness_px, grow_px)."""
    cover: Cover = _changed(_fix(project, shot_id, fix_id).cover, **fields)
    return change_fix(project, shot_id, fix_id, cover=cover)


def set_fill(project: Project, shot_id: str, fix_id: str, plate_ids: tuple[str, ...]) -> Project:
    """Return the project with the clean plates of a fix chosen."""
    return change_fix(project, shot_id, fix_id, fill=CleanPlateFill(plate_ids=plate_ids))


def set_shape_key(project: Project, shot_id: str, fix_id: str, shape_id: str, frame: int, points: Array) -> Project:
    """Return the project with a cover's shape keyed on a frame (a key that is there is replaced)."""
    return _with_shape(project, shot_id, fix_id, shape_id, lambda shape: _keyed(shape, frame, points))


def _keyed(shape: Shape, frame: int, points: Array) -> Shape:
    others = [key for key in shape.keys if key.frame != frame]
    keys = sorted([*others, ShapeKey(frame=frame, points=points)], key=lambda key: key.frame)
    return _changed(shape, keys=tuple(keys))


def remove_shape_key(project: Project, shot_id: str, fix_id: str, shape_id: str, frame: int) -> Project:
    """Return the project with a key taken off a cover's shape.

    Raises
    ------
    EditError
        If it is the shape's only key.
    """
    return _with_shape(project, shot_id, fix_id, shape_id, lambda shape: _unkeyed(shape, frame))


def _unkeyed(shape: Shape, frame: int) -> Shape:
    keys = tuple(key for key in shape.keys if key.frame != frame)
    if not keys:
        raise EditError(f"The key on frame {frame} is the only one of this shape; remove the shape instead.")
    return _changed(shape, keys=keys)


def _with_shape(
    project: Project, shot_id: str, fix_id: str, shape_id: str, change: Callable[[Shape], Shape]
) -> Project:
    shapes = _fix(project, shot_id, fix_id).cover.shapes
    return set_cover(
        project,
        shot_id,
        fix_id,
        shapes=tuple(change(shape) if shape.id == shape_id else shape for shape in shapes),
    )


def _fix(project: Project, shot_id: str, fix_id: str) -> Fix:
    try:
        return project.shot(shot_id).fix(fix_id)
    except KeyError as error:
        raise EditError(f"There is no item {error.args[0]!r} in this project any more.") from error
