"""Edits of pictures that are laid on a surface."""

from __future__ import annotations

from typing import Any

import numpy as np
from msgspec.structs import replace

from gommage.core.document.arrays import Array
from gommage.core.document.edits.changing import changed, in_shot, swapped
from gommage.core.document.records import (
    Drawn,
    Fix,
    Matte,
    MattePart,
    Placed,
    Project,
    Shape,
    ShapeKey,
    Shot,
    Softness,
    VertexKind,
)
from gommage.core.geometry import Points
from gommage.errors import EditError

__all__ = ["change_picture", "lay_picture"]


def lay_picture(project: Project, shot_id: str, fix_id: str, fill: Placed, part_id: str, frame: int) -> Project:
    """Return the project with a fix filled with a picture; without a cover it covers what it reaches over.

    Parameters
    ----------
    project : Project
    shot_id, fix_id : str
    fill : Placed
    part_id : str
        Of the cover's part, if there is none yet: the picture's outline, hard-edged, with one key.
    frame : int
        Of that key.
    """

    def change(shot: Shot) -> Shot:
        fix = shot.fix(fix_id)
        if fix.cover.parts:
            fix = changed(fix, fill=fill)
        else:
            vertices = Array(_corners_as_vertices(fill.corners.values))
            shape = Shape(id=part_id, keys=(ShapeKey(frame=frame, vertices=vertices),), kinds=(VertexKind.CORNER,) * 4)
            drawn = Drawn(shape=shape, surface_id=_carrier(fix, fill))
            cover = Matte(parts=(MattePart(id=part_id, source=drawn),), softness=Softness())
            fix = changed(fix, fill=replace(fill, outline_id=part_id), cover=cover)
        return changed(shot, fixes=swapped(shot.fixes, fix))

    return in_shot(project, shot_id, change)


def change_picture(project: Project, shot_id: str, fix_id: str, **fields: Any) -> Project:
    """Return the project with a laid picture changed; a part of the cover that is its outline comes along.

    Raises
    ------
    EditError
        If the fix has none.
    """

    def change(shot: Shot) -> Shot:
        fix = shot.fix(fix_id)
        if not isinstance(fix.fill, Placed):
            raise EditError(f"{fix.name} is not filled with a picture.")
        fill = changed(fix.fill, **fields)
        parts = tuple(_followed(fix, part, fill) for part in fix.cover.parts)
        fix = changed(fix, fill=fill, cover=changed(fix.cover, parts=parts))
        return changed(shot, fixes=swapped(shot.fixes, fix))

    return in_shot(project, shot_id, change)


def _carrier(fix: Fix, fill: Placed) -> str:
    return fix.surface_id if fill.runs_along else ""


def _corners_as_vertices(corners: Points) -> Points:
    return np.hstack([corners, np.zeros((4, 6))])


def _followed(fix: Fix, part: MattePart, new: Placed) -> MattePart:
    """Return a part of the cover, moved if it was the outline of the picture as it lay."""
    old, source = fix.fill, part.source
    assert isinstance(old, Placed)
    if part.id != old.outline_id or not isinstance(source, Drawn) or source.surface_id != _carrier(fix, old):
        return part
    key, *others = source.shape.keys
    if others or not np.array_equal(key.vertices.values, _corners_as_vertices(old.corners.values)):
        return part
    moved = replace(key, vertices=Array(_corners_as_vertices(new.corners.values)))
    shape = replace(source.shape, keys=(moved,))
    return replace(part, source=replace(source, shape=shape, surface_id=_carrier(fix, new)))
