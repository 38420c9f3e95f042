"""Edits of shapes: their vertices, their keys, and what they ride on."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from enum import StrEnum
from typing import Any

import numpy as np
from numpy.typing import NDArray

from gommage.core.document.arrays import Array
from gommage.core.document.edits.changing import changed
from gommage.core.document.edits.mattes import Slot, add_part, change_part, in_shape, matte_in, remove_part, slot_of
from gommage.core.document.outlines import handles, normals, sampled, sides, softness_along
from gommage.core.document.placements import placement
from gommage.core.document.records import (
    Drawn,
    Frames,
    MattePart,
    Project,
    Shape,
    ShapeKey,
    Shot,
    VertexKind,
    is_within,
)
from gommage.core.geometry import IDENTITY, Mapping
from gommage.errors import EditError

__all__ = [
    "Reach",
    "change_shape",
    "copy_shape_keys",
    "insert_vertex",
    "mirror_shape_keys",
    "move_part_to",
    "move_shape_keys",
    "moved_vertices",
    "remove_shape_keys",
    "remove_vertices",
    "reshape",
    "set_part_surface",
    "set_shape_key",
    "set_vertex_kinds",
    "shape_with_vertex",
    "switch_part",
]

SAME_PX = 0.01
"""A shape that is nearer than this is where it was."""
Vertices = NDArray[Any]


class Reach(StrEnum):
    """Which keys of a shape a change by hand reaches."""

    THIS = "this key"
    ALL = "all keys"
    MARKED = "marked frames"


def change_shape(project: Project, shot_id: str, shape_id: str, **fields: Any) -> Project:
    """Return the project with fields of a shape changed (kinds, ease, name, colour, keys)."""
    return in_shape(project, shot_id, shape_id, lambda shape: changed(shape, **fields))


# -- keys ---------------------------------------------------------------------------------------------------


def _with_keys(shape: Shape, keys: Iterable[ShapeKey]) -> Shape:
    """Return the shape with keys added, in the order of their frames; one on the same frame is replaced."""
    by_frame = {key.frame: key for key in (*shape.keys, *keys)}
    return changed(shape, keys=tuple(by_frame[frame] for frame in sorted(by_frame)))


def set_shape_key(project: Project, shot_id: str, shape_id: str, key: ShapeKey) -> Project:
    """Return the project with a shape keyed on a frame (a key that is there is replaced)."""
    return in_shape(project, shot_id, shape_id, lambda shape: _with_keys(shape, [key]))


def remove_shape_keys(project: Project, shot_id: str, shape_id: str, frames: Iterable[int]) -> Project:
    """Return the project with keys taken off a shape.

    Raises
    ------
    EditError
        If none would be left.
    """
    gone = set(frames)

    def change(shape: Shape) -> Shape:
        keys = tuple(key for key in shape.keys if key.frame not in gone)
        if not keys:
            which = f"The key on frame {shape.keys[0].frame} is" if len(shape.keys) == 1 else "These keys are"
            raise EditError(f"{which} all that this shape has; remove the shape instead.")
        return changed(shape, keys=keys)

    return in_shape(project, shot_id, shape_id, change)


def move_shape_keys(project: Project, shot_id: str, shape_id: str, frames: Iterable[int], by: int) -> Project:
    """Return the project with keys of a shape moved in time; keys that are in their way are replaced."""
    moved = set(frames)

    def change(shape: Shape) -> Shape:
        there = [changed(key, frame=key.frame + by) for key in shape.keys if key.frame in moved]
        taken = {key.frame for key in there}
        rest = [key for key in shape.keys if key.frame not in moved and key.frame not in taken]
        return changed(shape, keys=tuple(sorted([*rest, *there], key=lambda key: key.frame)))

    return in_shape(project, shot_id, shape_id, change)


def copy_shape_keys(project: Project, shot_id: str, shape_id: str, frames: Iterable[int], by: int) -> Project:
    """Return the project with copies of a shape's keys so many frames later."""
    copied = set(frames)

    def change(shape: Shape) -> Shape:
        return _with_keys(shape, [changed(key, frame=key.frame + by) for key in shape.keys if key.frame in copied])

    return in_shape(project, shot_id, shape_id, change)


def mirror_shape_keys(project: Project, shot_id: str, shape_id: str, frames: Iterable[int]) -> Project:
    """Return the project with keys of a shape in reverse order, between the first and the last of them."""
    mirrored = set(frames)

    def change(shape: Shape) -> Shape:
        there = [key for key in shape.keys if key.frame in mirrored]
        if len(there) < 2:
            return shape
        whole = there[0].frame + there[-1].frame
        rest = tuple(key for key in shape.keys if key.frame not in mirrored)
        turned = [changed(key, frame=whole - key.frame) for key in there]
        by_frame = {key.frame: key for key in (*rest, *turned)}
        return changed(shape, keys=tuple(by_frame[frame] for frame in sorted(by_frame)))

    return in_shape(project, shot_id, shape_id, change)


def reshape(
    project: Project, shot_id: str, shape_id: str, frame: int, vertices: Vertices, reach: Reach = Reach.THIS,
    marked: tuple[int, int] | None = None,
) -> Project:  # fmt: skip
    """Return the project with a shape's vertices where a hand put them on a frame.

    Parameters
    ----------
    vertices : (N, 8) float64
        As they shall be on the frame; see `ShapeKey`.
    reach : Reach
        `THIS` sets a key on the frame. `ALL` adds what changed to all keys and makes none. `MARKED` adds it on the
        marked frames and leaves those beyond as they are, by keys at both ends.
    marked : (first, last), optional

    Raises
    ------
    EditError
        If `MARKED` is asked for without marked frames, or on a frame that is not among them.
    """

    def change(shape: Shape) -> Shape:
        if reach is Reach.THIS:
            return _with_keys(shape, [ShapeKey(frame=frame, vertices=Array(vertices))])
        by = vertices - shape.vertices_at(frame)
        if reach is Reach.ALL:
            return changed(shape, keys=tuple(_offset(key, by) for key in shape.keys))
        if marked is None or not marked[0] <= frame <= marked[1]:
            raise EditError("Mark the frames that are to change, this one among them, or change all keys.")
        return _within(shape, by, *marked)

    return in_shape(project, shot_id, shape_id, change)


def _offset(key: ShapeKey, by: Vertices) -> ShapeKey:
    values = key.vertices.values + by
    values[:, 6:] = np.maximum(values[:, 6:], 0)
    return ShapeKey(frame=key.frame, vertices=Array(values), is_measured=key.is_measured)


def _within(shape: Shape, by: Vertices, first: int, last: int) -> Shape:
    """Return the shape with an offset on some frames; keys just outside and at the ends keep it there."""
    outside = [ShapeKey(frame=at, vertices=Array(shape.vertices_at(at))) for at in (first - 1, last + 1)]
    ends = [ShapeKey(frame=at, vertices=Array(shape.vertices_at(at))) for at in (first, last)]
    inside = {key.frame: key for key in (*ends, *(key for key in shape.keys if first <= key.frame <= last))}
    kept = _with_keys(shape, [one for one in outside if shape.key_at(one.frame) is None])
    return _with_keys(kept, [_offset(key, by) for key in inside.values()])


# -- vertices -----------------------------------------------------------------------------------------------


def _with_vertex(vertices: Vertices, kinds: tuple[VertexKind, ...], where: float, *, is_closed: bool) -> Vertices:
    """Return vertices (N + 1, 8) with one more on the line, at a place as `outlines.sampled` counts it.

    Handles on either side are shortened so that a line with handles stays exactly what it was.
    """
    side, share = int(where), where - int(where)
    following = (side + 1) % len(vertices)
    p = sides(vertices, kinds, is_closed=is_closed)[side]
    a, b, c = (p[k] + share * (p[k + 1] - p[k]) for k in range(3))
    d, e = a + share * (b - a), b + share * (c - b)
    middle = d + share * (e - d)
    soft = softness_along(vertices, np.array([where]), is_closed=is_closed)[0]
    own = vertices.copy()
    own[side, 4:6], own[following, 2:4] = a - p[0], c - p[3]
    fresh = np.concatenate([middle, d - middle, e - middle, soft])
    return np.insert(own, side + 1, fresh, axis=0)


def shape_with_vertex(shape: Shape, where: float) -> Shape:
    """Return a shape with one more vertex on its line, on all its keys; see `insert_vertex`."""
    kinds, side = shape.kinds, int(where)
    following = (side + 1) % len(kinds)
    around = {kinds[side], kinds[following]}
    kind = VertexKind.SMOOTH if VertexKind.SMOOTH in around else VertexKind.CORNER
    if VertexKind.HANDLES in around:
        kind = VertexKind.HANDLES
        shape = _with_kinds(shape, kind, [n for n in (side, following) if kinds[n] is not kind])
    keys = tuple(
        changed(key, vertices=Array(_with_vertex(key.vertices.values, shape.kinds, where, is_closed=shape.is_closed)))
        for key in shape.keys
    )
    return changed(shape, kinds=(*shape.kinds[: side + 1], kind, *shape.kinds[side + 1 :]), keys=keys)


def insert_vertex(project: Project, shot_id: str, shape_id: str, where: float) -> Project:
    """Return the project with one more vertex on a shape's line, on all its keys.

    Parameters
    ----------
    where : float
        On which side, counted from 0, and how far along it.
    """
    return in_shape(project, shot_id, shape_id, lambda shape: shape_with_vertex(shape, where))


def remove_vertices(project: Project, shot_id: str, shape_id: str, indices: Iterable[int]) -> Project:
    """Return the project with vertices taken off a shape, on all its keys.

    Raises
    ------
    EditError
        If too few would be left for a shape.
    """
    gone = set(indices)

    def change(shape: Shape) -> Shape:
        kept = [index for index in range(len(shape.kinds)) if index not in gone]
        least = 3 if shape.is_closed else 2
        if len(kept) < least:
            raise EditError(f"A {'closed shape' if shape.is_closed else 'line'} needs at least {least} points.")
        keys = tuple(changed(key, vertices=Array(key.vertices.values[kept])) for key in shape.keys)
        return changed(shape, kinds=tuple(shape.kinds[index] for index in kept), keys=keys)

    return in_shape(project, shot_id, shape_id, change)


def _with_kinds(shape: Shape, kind: VertexKind, indices: Iterable[int]) -> Shape:
    chosen = sorted(set(indices))
    kinds = tuple(kind if index in chosen else one for index, one in enumerate(shape.kinds))
    keys = []
    for key in shape.keys:
        values = key.vertices.values.copy()
        if kind is VertexKind.HANDLES:  # the line stays what it was
            fresh = [index for index in chosen if shape.kinds[index] is not VertexKind.HANDLES]
            arms = np.hstack(handles(key.vertices.values, shape.kinds, is_closed=shape.is_closed))
            values[fresh, 2:6] = arms[fresh]
        keys.append(changed(key, vertices=Array(values)))
    return changed(shape, kinds=kinds, keys=tuple(keys))


def set_vertex_kinds(
    project: Project, shot_id: str, shape_id: str, kind: VertexKind, indices: Iterable[int] = ()
) -> Project:
    """Return the project with the kind of some vertices of a shape changed, of all if none are given."""
    chosen = tuple(indices)

    def change(shape: Shape) -> Shape:
        return _with_kinds(shape, kind, chosen or range(len(shape.kinds)))

    return in_shape(project, shot_id, shape_id, change)


# -- parts --------------------------------------------------------------------------------------------------


def switch_part(project: Project, shot_id: str, part_id: str, frame: int, *, is_on: bool) -> Project:
    """Return the project with a part of a matte on, or off, from a frame to where it changes anyway."""
    holder_id, slot = slot_of(project.shot(shot_id), part_id)
    part = next(one for one in matte_in(project.shot(shot_id), holder_id, slot).parts if one.id == part_id)
    return change_part(project, shot_id, part_id, frames=_switched(part.frames, frame, is_on=is_on))


def _switched(ranges: tuple[Frames, ...], frame: int, *, is_on: bool) -> tuple[Frames, ...]:
    ranges = ranges or (Frames(),)
    if is_within(ranges, frame) == is_on:
        return ranges
    if not is_on:
        here = next(one for one in ranges if frame in one)
        left = () if here.first == frame else (Frames(first=here.first, last=frame - 1),)
        found = tuple(one for other in ranges for one in (left if other is here else (other,)))
        if not found:
            raise EditError("The shape would be on no frame at all; switch it off in the list instead.")
        return found
    later = [one for one in ranges if one.first is not None and one.first > frame]
    joined = min(later, key=lambda one: one.first or 0) if later else None
    fresh = Frames(first=frame, last=joined.first - 1 if joined is not None and joined.first is not None else None)
    earlier = tuple(one for one in ranges if one not in later)
    if joined is not None and fresh.last is not None:
        fresh, later = Frames(first=frame, last=joined.last), [one for one in later if one is not joined]
    return (*earlier, fresh, *later)


def move_part_to(
    project: Project, shot_id: str, part_id: str, holder_id: str, slot: Slot, index: int | None = None
) -> Project:
    """Return the project with a part of one matte in another; what it rides on, and so its place, stays."""
    shot = project.shot(shot_id)
    from_id, from_slot = slot_of(shot, part_id)
    part = next(one for one in matte_in(shot, from_id, from_slot).parts if one.id == part_id)
    if (from_id, from_slot) == (holder_id, slot):
        return project
    return add_part(remove_part(project, shot_id, part_id), shot_id, holder_id, slot, part, index)


def set_part_surface(project: Project, shot_id: str, part_id: str, surface_id: str, frame: int) -> Project:
    """Return the project with a drawn part riding on another surface, or with the empty id on none.

    The shape stays where it is on the frame, and on the frames of its keys; all keys are expressed anew.

    Raises
    ------
    EditError
        If one of the surfaces is not where it would have to be known.
    """
    shot = project.shot(shot_id)
    holder_id, slot = slot_of(shot, part_id)
    part = next(one for one in matte_in(shot, holder_id, slot).parts if one.id == part_id)
    if not isinstance(part.source, Drawn):
        raise EditError("Only what was drawn rides on a surface.")
    if part.source.surface_id == surface_id:
        return project
    shape = _carried(shot, part, part.source.shape, surface_id, frame)
    return change_part(project, shot_id, part_id, source=Drawn(shape=shape, surface_id=surface_id))


def _carried(shot: Shot, part: MattePart, shape: Shape, surface_id: str, frame: int) -> Shape:
    assert isinstance(part.source, Drawn)
    old = part.source.surface_id

    def between(at: int) -> Callable[[Vertices], Vertices] | None:
        there, here = _home_to_frame(shot, old, at), _home_to_frame(shot, surface_id, at)
        if there is None or here is None:
            return None
        back = here.inverse()
        return lambda vertices: moved_vertices(
            vertices, shape.kinds, lambda points: back(there(points)), is_closed=shape.is_closed
        )

    at_frame = between(frame)
    if at_frame is None:
        lost = [one for one in (old, surface_id) if one and _home_to_frame(shot, one, frame) is None]
        names = [shot.surface(one).name for one in lost]
        raise EditError(f"{' and '.join(names)} is not followed to frame {frame}; go to a frame where it is.")
    shown = at_frame(shape.vertices_at(frame))
    if len(shape.keys) == 1:
        return changed(shape, keys=(changed(shape.keys[0], vertices=Array(shown)),))
    keys = tuple(
        changed(key, vertices=Array((between(key.frame) or at_frame)(key.vertices.values))) for key in shape.keys
    )
    moved = changed(shape, keys=keys)
    if np.abs(moved.vertices_at(frame)[:, :2] - shown[:, :2]).max() > SAME_PX:
        return _with_keys(moved, [ShapeKey(frame=frame, vertices=Array(shown))])
    return moved


def _home_to_frame(shot: Shot, surface_id: str, frame: int) -> Mapping | None:
    if not surface_id:
        return IDENTITY
    surface = shot.surface(surface_id)
    placed = placement(shot, surface)
    found = placed.mapping(frame) if placed is not None else None
    return IDENTITY if found is None and frame == surface.home_frame else found


def moved_vertices(
    vertices: Vertices, kinds: tuple[VertexKind, ...], move: Callable[[Vertices], Vertices], *, is_closed: bool
) -> Vertices:
    """Return vertices (N, 8) moved with their handles and their softness, which lies across the line."""
    points = vertices[:, :2]
    out = vertices.copy()
    out[:, :2] = move(points)
    for columns in (slice(2, 4), slice(4, 6)):
        out[:, columns] = move(points + vertices[:, columns]) - out[:, :2]
    if vertices[:, 6:].any():
        line, where = sampled(vertices, kinds, is_closed=is_closed)
        across = normals(line, is_closed=is_closed)[np.searchsorted(where, np.arange(len(vertices)) - 1e-9)]
        for column, sign in ((6, -1.0), (7, 1.0)):
            out[:, column] = np.hypot(*(move(points + sign * vertices[:, [column]] * across) - out[:, :2]).T)
    return out
