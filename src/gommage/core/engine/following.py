"""Follow a surface of a shot: what is in front of it, what carries it, and the follow that fits its kind."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from msgspec.structs import replace

from gommage.core.cover import matte_at
from gommage.core.document import (
    Drawn,
    Fix,
    FrameRange,
    MattePart,
    PlaneFollow,
    PointsFollow,
    Project,
    Shot,
    Surface,
    carried_by,
    edits,
    is_within,
    placement,
    without_pins,
)
from gommage.core.engine.evaluate import Engine
from gommage.core.follow import (
    Direction,
    FollowStep,
    Surroundings,
    follow_plane,
    follow_points,
    with_spots,
    with_step,
)
from gommage.core.geometry import IDENTITY, Mapping, Points
from gommage.errors import FollowError

__all__ = ["follow_surface", "followed", "followed_surface", "surroundings"]


def surroundings(shot: Shot, surface: Surface) -> Surroundings:
    """Return what a surface's follow must know of the rest of the shot."""
    index = [one.id for one in shot.surfaces].index(surface.id)
    in_front = [one for one in shot.surfaces[index + 1 :] if placement(shot, one) is not None]
    near = {surface.id, *(one.id for one in in_front)}
    fixes = [fix for fix in shot.fixes if fix.is_on and fix.cover.parts and _riding(fix.cover.parts, fix) & near]

    def outlines(frame: int, home_to_frame: Mapping) -> list[Points]:
        def mapping(surface_id: str) -> Mapping | None:
            if surface_id == surface.id:
                return home_to_frame
            if not surface_id:
                return IDENTITY
            placed = placement(shot, shot.surface(surface_id))
            return None if placed is None else placed.mapping(frame)

        found: list[Points] = []
        for one in in_front:
            there = mapping(one.id)
            if there is not None:
                found.append(there(one.outline))
        for fix in fixes:
            if is_within(fix.frames, frame):
                found += matte_at(fix.cover, frame, mapping).outlines
        return found

    return Surroundings(
        placed=placement(shot, surface),
        measured=without_pins(shot, surface),
        in_front=outlines if in_front or fixes else None,
        carried=lambda frame: carried_by(shot, surface, frame),
    )


def _riding(parts: tuple[MattePart, ...], fix: Fix) -> set[str]:
    """Return the surfaces that a cover's parts ride on, and the fix's own."""
    return {fix.surface_id} | {part.source.surface_id for part in parts if isinstance(part.source, Drawn)}


def follow_surface(
    engine: Engine,
    shot: Shot,
    surface: Surface,
    start_frame: int | None = None,
    direction: Direction = Direction.BOTH,
    frames: FrameRange | None = None,
    check: Callable[[], None] = lambda: None,
) -> Iterator[FollowStep]:
    """Follow a surface of a shot and yield each frame as it is found.

    Parameters
    ----------
    engine : Engine
    shot : Shot
    surface : Surface
        One of the shot's.
    start_frame : int, optional
        The home frame if left out.
    direction : Direction
    frames : FrameRange, optional
        How far to go; the whole shot if left out.
    check : callable
        Raises `Cancelled` to stop.

    Raises
    ------
    FollowError
        If it cannot be followed: a still camera, corners by hand, no texture.
    """
    follow = {PlaneFollow: follow_plane, PointsFollow: follow_points}.get(type(surface.how))
    if follow is None:
        raise FollowError(f"{surface.name} is not followed: it stands still or is keyed by hand.")
    return follow(
        lambda frame: engine.plate(shot.footage, frame, check),
        surface,
        frames or shot.footage.frames,
        surface.home_frame if start_frame is None else start_frame,
        direction,
        check,
        surroundings(shot, surface),
    )


def followed_surface(surface: Surface, step: FollowStep) -> Surface:
    """Return a surface with one step of its follow taken up.

    Where the step touches neither end of what was followed before, it begins anew.
    """
    track = surface.track
    if track is not None and not track.frames.first - 1 <= step.frame <= track.frames.last + 1:
        track = None
    return with_spots(replace(surface, track=with_step(track, step)), step)


def followed(
    engine: Engine,
    project: Project,
    shot_id: str,
    surface_id: str,
    start_frame: int | None = None,
    direction: Direction = Direction.BOTH,
    frames: FrameRange | None = None,
    check: Callable[[], None] = lambda: None,
) -> Project:
    """Return the project with a surface followed; see `follow_surface`."""
    shot = project.shot(shot_id)
    surface = shot.surface(surface_id)
    for step in follow_surface(engine, shot, surface, start_frame, direction, frames, check):
        surface = followed_surface(surface, step)
    return edits.change_surface(project, shot_id, surface_id, track=surface.track, how=surface.how)
