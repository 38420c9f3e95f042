"""Follow a surface of a shot: what is in front of it, what carries it, and the follow that fits its kind."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np
from msgspec.structs import replace

from gommage.core.cover import matte_at, reach_of
from gommage.core.document import (
    Combine,
    Fix,
    FrameRange,
    Matte,
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
from gommage.core.engine.inputs import mappings_of
from gommage.core.follow import (
    Direction,
    FollowStep,
    Mask,
    Surroundings,
    follow_plane,
    follow_points,
    polygon_mask,
    with_spots,
    with_step,
)
from gommage.core.geometry import Mapping, Window
from gommage.errors import FollowError

NOTHING = 1 / 16
"""What is less full than this does not count as being there: things are kept out with their soft edges."""

__all__ = ["follow_surface", "followed", "followed_surface", "surroundings"]


def surroundings(
    engine: Engine, shot: Shot, surface: Surface, check: Callable[[], None] = lambda: None
) -> Surroundings:
    """Return what a surface's follow must know of the rest of the shot.

    What is in front are the surfaces that are listed later, and the covers of fixes that ride on it, on one of them,
    or on nothing but the picture.
    """
    index = [one.id for one in shot.surfaces].index(surface.id)
    in_front = [one for one in shot.surfaces[index + 1 :] if placement(shot, one) is not None]
    near = {surface.id, *(one.id for one in in_front)}
    fixes = [fix for fix in shot.fixes if fix.is_on and fix.cover.parts and _is_near(fix, near)]
    placed_on = mappings_of(shot)

    def inside(matte: Matte, frame: int, home_to_frame: Mapping, window: Window) -> Mask:
        def mapping(surface_id: str, at: int) -> Mapping | None:
            return home_to_frame if surface_id == surface.id and at == frame else placed_on(surface_id, at)

        there = matte_at(matte, frame, mapping, lambda matte_id: shot.matte(matte_id).matte)
        mask = np.zeros((window.height, window.width), np.uint8)
        near = reach_of(there, shot.footage.bounds) & window
        if not near.is_empty:
            mask[near.within(window)] = engine.pictures.matte(shot.footage, there, near, 1.0, check) > NOTHING
        return mask

    def in_front_on(frame: int, home_to_frame: Mapping, window: Window) -> Mask:
        lines = [there(one.outline) for one in in_front if (there := placed_on(one.id, frame)) is not None]
        mask = polygon_mask(lines, window)
        for fix in fixes:
            if is_within(fix.frames, frame):
                mask |= inside(fix.cover, frame, home_to_frame, window)
        return mask

    def undrawn(part: MattePart, frame: int, home_to_frame: Mapping, window: Window) -> Mask:
        plain = replace(part, combine=Combine.ADD, is_inverted=False)
        return inside(Matte(parts=(plain,)), frame, home_to_frame, window)

    return Surroundings(
        placed=placement(shot, surface),
        measured=without_pins(shot, surface),
        in_front=in_front_on if in_front or fixes else None,
        undrawn=undrawn,
        carried=lambda frame: carried_by(shot, surface, frame),
    )


def _is_near(fix: Fix, surface_ids: set[str]) -> bool:
    """Return whether a fix or a part of its cover rides on one of some surfaces, or all of it on none."""
    riding = {fix.surface_id, *(drawn.surface_id for _, drawn in fix.cover.drawn)}
    return bool(riding & surface_ids) or riding == {""}


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
        surroundings(engine, shot, surface, check),
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
