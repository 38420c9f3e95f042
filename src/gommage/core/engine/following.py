"""Follow a surface of a shot: what is in front of it, what carries it, and the follow that fits its kind."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from msgspec.structs import replace

from gommage.core.cover import shape_outline_in_frame
from gommage.core.document import Frames, PlaneFollow, PointsFollow, Project, Shot, Surface, edits, placement
from gommage.core.document.placements import relative_to
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
from gommage.core.picture import Matrix, Points, apply_matrix
from gommage.errors import FollowError

__all__ = ["follow_surface", "followed", "followed_surface", "surroundings"]


def surroundings(shot: Shot, surface: Surface) -> Surroundings:
    """Return what a surface's follow must know of the rest of the shot."""
    index = [one.id for one in shot.surfaces].index(surface.id)
    in_front = [one for one in shot.surfaces[index + 1 :] if placement(shot, one) is not None]
    near = {surface.id, *(one.id for one in in_front)}
    covers = [
        (fix, shot.surface(fix.surface_id))
        for fix in shot.fixes
        if fix.is_on and fix.cover.shapes and fix.surface_id in near
    ]

    def outlines(frame: int, home_to_frame: Matrix) -> list[Points]:
        found: list[Points] = []
        for one in in_front:
            placed = placement(shot, one)
            if placed is not None and placed.is_placed(frame):
                found.append(apply_matrix(placed.matrix(frame), one.outline))
        for fix, rides_on in covers:
            if fix.frames is not None and frame not in fix.frames:
                continue
            matrix: Matrix | None = home_to_frame
            if rides_on.id != surface.id:
                placed = placement(shot, rides_on)
                matrix = placed.matrix(frame) if placed is not None and placed.is_placed(frame) else None
            if matrix is not None:
                found += [shape_outline_in_frame(shape, frame, matrix) for shape in fix.cover.shapes]
        return found

    return Surroundings(
        placed=placement(shot, surface),
        measured=placement(shot, replace(surface, pins=())),
        in_front=outlines if in_front or covers else None,
        carried=lambda frame: relative_to(shot, surface, frame),
    )


def follow_surface(
    engine: Engine,
    shot: Shot,
    surface: Surface,
    start_frame: int | None = None,
    direction: Direction = Direction.BOTH,
    frames: Frames | None = None,
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
    frames : Frames, optional
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
        lambda frame: engine.plate(shot.footage, frame),
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
    frames: Frames | None = None,
    check: Callable[[], None] = lambda: None,
) -> Project:
    """Return the project with a surface followed; see `follow_surface`."""
    shot = project.shot(shot_id)
    surface = shot.surface(surface_id)
    for step in follow_surface(engine, shot, surface, start_frame, direction, frames, check):
        surface = followed_surface(surface, step)
    return edits.change_surface(project, shot_id, surface_id, track=surface.track, how=surface.how)
