"""Lines of covers that find themselves: snapped to a wire on a frame, and followed over others."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from gommage.core.document import (
    Array,
    Drawn,
    FrameRange,
    MattePart,
    Project,
    Shape,
    ShapeKey,
    Shot,
    VertexKind,
    edits,
    mappings_of,
    outline_at,
    value_at,
)
from gommage.core.engine.evaluate import Engine
from gommage.core.follow import Direction
from gommage.core.follow.wires import Wire, find_wire, known_wire, smooth_line, wire_again
from gommage.core.geometry import Mapping, Points, Window, around, evenly
from gommage.core.picture import Picture, encoded
from gommage.errors import EditError, FollowError, FootageError

__all__ = ["LineStep", "follow_line", "snapped_line", "with_line"]

Check = Callable[[], None]
NEAR_PX, BEYOND = 96, 0.35
"""So far around a line pictures are looked at; by such a share of its length a line that reaches the border goes on
beyond it."""
BORDER_PX, BORDER_SHARE, AHEAD_SHARE = 12.0, 0.03, 0.4
"""A line reaches the border if it ends so near to it, or within that share of the picture's lesser side if the wire is
seen on to it: with so much of its contrast."""
MOST_LOST = 24
"""After so many frames on which it is not found a follow ends."""
BLURRED_PX, LEAST_WIDTH_PX = 1.8, 1.2
"""A wire is covered by so much more than its width at half its contrast."""
SIDE_PX = 6.0
"""So far beside a wire it is not seen any more."""
RIM_PX = 0.5
"""So much wider than it shows a wire is covered."""


@dataclass(frozen=True, slots=True)
class LineStep:
    """A line on one frame: its key, or None where it was not found, and then why not."""

    frame: int
    key: ShapeKey | None
    doubt: str = ""


def _line(part: MattePart) -> tuple[Shape, str]:
    if not isinstance(part.source, Drawn) or part.source.shape.is_closed:
        raise EditError("Only an open line can be snapped to a wire and followed.")
    return part.source.shape, part.source.surface_id


def _around(engine: Engine, shot: Shot, frame: int, line: Points, check: Check) -> tuple[Picture, Window]:
    """Return what of a frame lies around a line."""
    picture = engine.plate(shot.footage, frame, check)
    seen = line[np.isfinite(line).all(axis=1)]
    window = around(seen, NEAR_PX) & shot.footage.bounds if len(seen) else Window(0, 0, 0, 0)
    if window.is_empty:
        raise FollowError(f"The line is out of the picture on frame {frame}.")
    return np.ascontiguousarray(picture[window.slices]), window


def snapped_line(engine: Engine, shot: Shot, part: MattePart, frame: int, check: Check = lambda: None) -> MattePart:
    """Return an open line of a cover laid on the wire that it was roughly drawn along, as wide as that shows.

    Raises
    ------
    EditError
        If it is not an open line.
    FollowError
        If there is no wire.
    """
    shape, surface_id = _line(part)
    here = mappings_of(shot)(surface_id, frame)
    if here is None:
        raise FollowError(f"{shot.surface(surface_id).name} is not followed to frame {frame}.")
    is_clicked = len(shape.kinds) == 2
    stroke = here(shape.points_at(frame) if is_clicked else outline_at(shape, frame))
    picture, window = _around(engine, shot, frame, stroke, check)
    check()
    wire = find_wire(picture, stroke, (window.left, window.top))
    if wire is None:
        raise FollowError("No wire is found along this line; draw it nearer to it.")
    points = _reaching_out(wire.points, picture, window, shot.footage.bounds)
    if len(shape.keys) > 1:
        points = evenly(smooth_line(points), len(shape.kinds))
    half = wire.covering_px / 2 + RIM_PX
    keyed = _keyed(shape, frame, here.inverse()(points))
    return replace(part, source=replace(part.source, shape=keyed), grow_px=half)


def _keyed(shape: Shape, frame: int, points: Points) -> Shape:
    """Return a shape with a key on a frame; with as many vertices as there are points if it has no other key."""
    key = ShapeKey(frame=frame, vertices=Array(np.hstack([points, np.zeros((len(points), 6))])), is_measured=True)
    others = tuple(one for one in shape.keys if one.frame != frame)
    if not others:
        return replace(shape, keys=(key,), kinds=(VertexKind.SMOOTH,) * len(points))
    return replace(shape, keys=tuple(sorted((*others, key), key=lambda one: one.frame)))


def _reaching_out(points: Points, picture: Picture, window: Window, bounds: Window) -> Points:
    """Return a line whose ends, where they lie at the border of the picture, go on beyond it.

    `picture` is what is seen around it, over a window.
    """
    line = smooth_line(points)
    way = BEYOND * len(line)
    found = [line]
    share = BORDER_SHARE * min(bounds.width, bounds.height)
    for end, inner, is_first in ((0, 8, True), (-1, -9, False)):
        x, y = line[end]
        ahead = line[end] - line[inner]
        ahead = ahead / max(float(np.hypot(*ahead)), 1e-9)
        left = min(x, y, bounds.right - x, bounds.bottom - y)
        if left < BORDER_PX or (left < share and _goes_on(line, end, ahead, left, picture, window)):
            more = line[end] + ahead * way
            found = [more[None], *found] if is_first else [*found, more[None]]
    whole = np.vstack(found)
    return evenly(whole, len(points) + len(found) - 1) if len(found) > 1 else points


def _goes_on(line: Points, end: int, ahead: Points, left: float, picture: Picture, window: Window) -> bool:
    """Return whether a wire is seen on from the end of its line, straight ahead, for so many pixels."""
    beyond = line[end] + ahead * np.arange(2.0, max(left - 1.0, 4.0))[:, None]
    own = line[-40:] if end else line[:40]
    seen = [_contrast(one, ahead, picture, window) for one in (own, beyond)]
    return float(seen[0] * seen[1]) > 0 and abs(seen[1]) > AHEAD_SHARE * abs(seen[0])


def _contrast(line: Points, ahead: Points, picture: Picture, window: Window) -> float:
    """Return by how much a line is lighter than what lies a few pixels to both sides of it, in the middle of it."""
    grey, across = encoded(picture).mean(axis=2), np.array([-ahead[1], ahead[0]])
    rows = []
    for by in (-SIDE_PX, 0.0, SIDE_PX):
        places = np.floor(line + by * across - (window.left, window.top)).astype(int)
        x, y = np.clip(places[:, 0], 0, grey.shape[1] - 1), np.clip(places[:, 1], 0, grey.shape[0] - 1)
        rows.append(grey[y, x])
    return float(np.median(rows[1] - 0.5 * (rows[0] + rows[2])))


# -- following ----------------------------------------------------------------------------------------------


def follow_line(
    engine: Engine, shot: Shot, part: MattePart, start: int, direction: Direction = Direction.BOTH,
    frames: FrameRange | None = None, check: Check = lambda: None,
) -> Iterator[LineStep]:  # fmt: skip
    """Follow an open line of a cover and yield each frame as it is found.

    Where it was keyed by hand it is taken from there; where it is not found it is looked for on, and nothing is keyed.

    Raises
    ------
    EditError, FollowError
        If it is not an open line, or not known on the frame from which it is followed.
    """
    shape, surface_id = _line(part)
    mapping_of = mappings_of(shot)
    here = mapping_of(surface_id, start)
    if here is None:
        raise FollowError(f"{shot.surface(surface_id).name} is not followed to frame {start}.")
    line = here(outline_at(shape, start))
    picture, window = _around(engine, shot, start, line, check)
    width = max(2 * (value_at(part.grow_px, start) - RIM_PX) - BLURRED_PX, LEAST_WIDTH_PX)
    first = known_wire(picture, line, len(shape.kinds), width, (window.left, window.top))
    yield LineStep(start, _key(shape, start, here, first.points))
    whole = frames or shot.footage.frames
    ways = {Direction.FORWARDS: (1,), Direction.BACKWARDS: (-1,)}.get(direction, (1, -1))
    for way in ways:
        yield from _along(engine, shot, shape, surface_id, first, start, way, whole, check)


def _along(
    engine: Engine, shot: Shot, shape: Shape, surface_id: str, first: Wire, start: int, way: int, whole: FrameRange,
    check: Check,
) -> Iterator[LineStep]:  # fmt: skip
    """Follow a line one way, until it ends or was lost for long."""
    mapping_of = mappings_of(shot)
    wire, lost, before = first, 0, mapping_of(surface_id, start)
    speed: Points = np.zeros((1, 2))
    by_hand = {key.frame for key in shape.keys if not key.is_measured}
    frame = start + way
    while frame in whole and lost < MOST_LOST:
        check()
        here = mapping_of(surface_id, frame)
        if here is None or before is None or frame in shot.footage.missing:
            return
        carried = here(before.inverse()(wire.points)) if surface_id else wire.points
        try:
            if frame in by_hand:
                line = here(outline_at(shape, frame))
                picture, window = _around(engine, shot, frame, line, check)
                wire = known_wire(picture, line, len(shape.kinds), wire.width_px, (window.left, window.top))
                lost = 0
                speed = np.zeros((1, 2))
            else:
                picture, window = _around(engine, shot, frame, carried + speed, check)
                found = wire_again(picture, wire, carried + speed, (window.left, window.top))
                if found.doubt:
                    lost, speed = lost + 1, 0.8 * speed
                    yield LineStep(frame, None, found.doubt)
                else:
                    lost, speed = 0, _steadily(found.points - carried)
                    yield LineStep(frame, _key(shape, frame, here, found.points))
                wire = found
        except (FootageError, FollowError) as error:
            lost += 1
            yield LineStep(frame, None, str(error).rstrip("."))
        before, frame = here, frame + way


def _steadily(by: Points) -> Points:
    """Return by how much the points of a line (K, 2) move, as far as all of it does: what trembles in it is not carried
    on.
    """
    u = np.linspace(-1, 1, len(by))
    return np.asarray(by.mean(axis=0) + u[:, None] * (u @ by / (u @ u)))


def _key(shape: Shape, frame: int, here: Mapping, points: Points) -> ShapeKey:
    """Return the key of a line on a frame, as wide and as soft as its vertices were."""
    vertices: NDArray[np.float64] = shape.vertices_at(frame).copy()
    vertices[:, :2], vertices[:, 2:6] = here.inverse()(points), 0.0
    return ShapeKey(frame=frame, vertices=Array(vertices), is_measured=True)


def with_line(project: Project, shot_id: str, shape_id: str, steps: tuple[LineStep, ...]) -> Project:
    """Return the project with what a follow found of a line; keys by hand stay, measured ones on its frames go."""
    shot = project.shot(shot_id)
    holder_id, slot = edits.slot_of(shot, shape_id)
    part = next(one for one in edits.matte_in(shot, holder_id, slot).parts if one.id == shape_id)
    assert isinstance(part.source, Drawn)
    shape, passed = part.source.shape, {step.frame for step in steps}
    keys = {key.frame: key for key in shape.keys if not (key.is_measured and key.frame in passed)}
    keys |= {step.frame: step.key for step in steps if step.key is not None and _may(keys.get(step.frame))}
    if not keys:
        return project
    ordered = tuple(keys[frame] for frame in sorted(keys))
    return edits.change_shape(project, shot_id, shape_id, keys=ordered, kinds=(VertexKind.SMOOTH,) * len(shape.kinds))


def _may(key: ShapeKey | None) -> bool:
    return key is None or key.is_measured
