"""Edits of surfaces: how they are followed, where they are, what they ride on."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from msgspec.structs import replace

from gommage.core.document.arrays import Array
from gommage.core.document.edits.changing import changed, in_shot, moved_to, refuse_what_is_there, swapped, without
from gommage.core.document.placements import Placement, carried_by, placement, without_pins
from gommage.core.document.records import (
    CleanPlate,
    Donors,
    Fix,
    FrameRange,
    Pin,
    Project,
    Shot,
    Surface,
    Track,
)
from gommage.core.geometry import relative_stack
from gommage.errors import EditError

__all__ = [
    "add_surface",
    "change_follow",
    "change_surface",
    "move_surface",
    "remove_pin",
    "remove_surface",
    "set_pin",
    "set_rides_on",
    "trim_track",
]


def add_surface(project: Project, shot_id: str, surface: Surface) -> Project:
    """Return the project with one more surface, in front of the others."""

    def change(shot: Shot) -> Shot:
        refuse_what_is_there(shot.surfaces, surface, "surface")
        if surface.home_frame not in shot.footage.frames:
            frames = shot.footage.frames
            raise EditError(f"Frame {surface.home_frame} is outside the shot ({frames.first}–{frames.last}).")
        return replace(shot, surfaces=(*shot.surfaces, surface))

    return in_shot(project, shot_id, change)


def in_surface(project: Project, shot_id: str, surface_id: str, change: Callable[[Surface], Surface]) -> Project:
    """Return the project with a surface changed."""

    def of_shot(shot: Shot) -> Shot:
        return changed(shot, surfaces=swapped(shot.surfaces, change(shot.surface(surface_id))))

    return in_shot(project, shot_id, of_shot)


def change_surface(project: Project, shot_id: str, surface_id: str, **fields: Any) -> Project:
    """Return the project with fields of a surface changed (name, how, track, pins)."""
    return in_surface(project, shot_id, surface_id, lambda surface: changed(surface, **fields))


def change_follow(project: Project, shot_id: str, surface_id: str, **fields: Any) -> Project:
    """Return the project with fields of how a surface is followed changed.

    The track stays until it is followed anew.
    """

    def change(surface: Surface) -> Surface:
        how = surface.how
        unknown = [name for name in fields if name not in how.__struct_fields__]
        if unknown:
            raise EditError(f"{surface.name} has no {unknown[0].replace('_', ' ')}: it is followed in another way.")
        return changed(surface, how=changed(how, **fields))

    return in_surface(project, shot_id, surface_id, change)


def move_surface(project: Project, shot_id: str, surface_id: str, index: int) -> Project:
    """Return the project with a surface at another place in the order (0 is the backmost)."""
    return in_shot(project, shot_id, lambda shot: changed(shot, surfaces=moved_to(shot.surfaces, surface_id, index)))


def trim_track(project: Project, shot_id: str, surface_id: str, frames: FrameRange) -> Project:
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
        return changed(surface, track=surface.track.part(FrameRange(first=first, last=last)), pins=pins)

    return in_surface(project, shot_id, surface_id, change)


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
        return changed(shot, surfaces=swapped(shot.surfaces, changed(surface, pins=pins)))

    return in_shot(project, shot_id, change)


def remove_pin(project: Project, shot_id: str, surface_id: str, frame: int) -> Project:
    """Return the project without the correction on a frame."""

    def change(surface: Surface) -> Surface:
        return changed(surface, pins=tuple(pin for pin in surface.pins if pin.frame != frame))

    return in_surface(project, shot_id, surface_id, change)


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
        was = without_pins(shot, surface) if surface.track is not None else None
        riding = replace(surface, rides_on=carrier_id)
        if carried_by(shot, riding, surface.home_frame) is None:
            carrier, frame = shot.surface(carrier_id), surface.home_frame
            raise EditError(f"{carrier.name} is not followed to frame {frame}, where {surface.name} begins.")
        track = _relative(shot, riding, was) if was is not None else None
        return changed(shot, surfaces=swapped(shot.surfaces, changed(riding, track=track)))

    return in_shot(project, shot_id, change)


def _relative(shot: Shot, surface: Surface, was: Placement) -> Track | None:
    """Return a placement in the picture as a track relative to what a surface rides on, where both are known."""
    track = was.as_track()
    if not surface.rides_on:
        return track
    under = placement(shot, shot.surface(surface.rides_on))
    assert under is not None
    first, last = max(track.frames.first, under.frames.first), min(track.frames.last, under.frames.last)
    if first > last:
        return None
    part = track.part(FrameRange(first=first, last=last))
    low = under.frames.first
    stack = under.matrices[first - low : last - low + 1]
    home = under.matrices[surface.home_frame - low]
    return replace(part, home_to_frame=Array(relative_stack(stack, home, part.home_to_frame.values)))


def _riders(shot: Shot, surface_id: str) -> list[str]:
    """Return the names of what rides on a surface."""
    items: tuple[Fix | CleanPlate, ...] = (*shot.fixes, *shot.clean_plates)
    names = [item.name for item in items if item.surface_id == surface_id]
    return names + [surface.name for surface in shot.surfaces if surface.rides_on == surface_id]


def remove_surface(project: Project, shot_id: str, surface_id: str) -> Project:
    """Return the project without a surface; fixes that were filled along it are so no longer.

    Raises
    ------
    EditError
        If fixes, clean plates or other surfaces ride on it.
    """

    def change(shot: Shot) -> Shot:
        surface = shot.surface(surface_id)
        if riders := _riders(shot, surface_id):
            raise EditError(f"{surface.name} carries {', '.join(riders)}. Remove those first.")
        fixes = tuple(_not_along(fix, surface_id) for fix in shot.fixes)
        camera = shot.camera
        if camera is not None and camera.ground_id == surface_id:
            camera = replace(camera, ground_id="")
        return replace(shot, surfaces=without(shot.surfaces, surface_id), fixes=fixes, camera=camera)

    return in_shot(project, shot_id, change)


def _not_along(fix: Fix, surface_id: str) -> Fix:
    if not isinstance(fix.fill, Donors) or surface_id not in fix.fill.surface_ids:
        return fix
    kept = tuple(one for one in fix.fill.surface_ids if one != surface_id)
    return changed(fix, fill=changed(fix.fill, surface_ids=kept))
