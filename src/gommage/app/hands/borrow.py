"""Where something is borrowed from, dragged in the picture; small covers dropped by clicks."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial

import cv2
import numpy as np
from msgspec.structs import replace

from gommage.app.hands.gestures import GRAB_PX, Gesture, PointerEvent, Step
from gommage.app.hands.ground import Ground
from gommage.app.hands.shapes import round_cover
from gommage.core.cover import matte_on
from gommage.core.cover.parts import LineAt
from gommage.core.document import Borrow, Drawn, Fix, Matte, MattePart, Place, Project, changed_on, edits, new_id
from gommage.core.document.edits import Slot
from gommage.core.fill.borrow import source_mapping
from gommage.core.geometry import Points, then

__all__ = ["SeenPlace", "borrow", "placed", "seen_places"]

FRESH_RADII = 2.6
"""A dropped cover borrows from so many of its radii to the right, until a better place is found."""


@dataclass(frozen=True, slots=True, eq=False)
class SeenPlace:
    """A part of a cover in the viewport, and where that is borrowed from: lines (N, 2)."""

    part: MattePart
    line: Points
    source: Points

    @property
    def middle(self) -> Points:
        """Of what is covered, (2,)."""
        return (self.line.min(axis=0) + self.line.max(axis=0)) / 2


def placed(fill: Borrow, place: Place) -> Borrow:
    """Return a fill with a place in it; one of the same part is replaced."""
    others = tuple(one for one in fill.places if one.part_id != place.part_id)
    return replace(fill, places=(*others, place))


def seen_places(ground: Ground) -> list[SeenPlace]:
    """Return the drawn parts of what the fix in hand borrows, the one in hand first."""
    fix, shot = ground.fix, ground.shot
    if shot is None or fix is None or not isinstance(fix.fill, Borrow):
        return []
    found = []
    in_hand = ground.desk.part(ground.project)
    for part in sorted(fix.cover.parts, key=lambda one: in_hand is None or one.id != in_hand.id):
        lines = [one.source for one in matte_on(shot, Matte(parts=(part,)), ground.frame).parts]
        if not lines or not isinstance(lines[0], LineAt):
            continue
        line = lines[0].points.values
        middle = (line.min(axis=0) + line.max(axis=0)) / 2
        place = fix.fill.place_of(part.id)
        mapping = source_mapping(shot, fix.surface_id, place, ground.frame, (float(middle[0]), float(middle[1])))
        if mapping is not None:
            found.append(SeenPlace(part, ground.view_from_frame(line), ground.view_from_frame(mapping(line))))
    return found


def borrow(press: PointerEvent, ground: Ground) -> Gesture:
    """Drag where a part is borrowed from; a click beside all of them drops one more small cover."""
    fix = ground.fix
    if fix is None or not isinstance(fix.fill, Borrow):
        return Step(error="Nothing is borrowed here. Fill a cover from beside first.")
    places = seen_places(ground)
    held = next((one for one in places if _is_in(one.source, press)), None)
    held = held or next((one for one in places if _is_in(one.line, press)), None)
    if held is None:
        return (yield from _drop(press, ground, fix))
    begin, step = press.xy, Step(desk={"part_id": held.part.id})
    start = held.source.mean(axis=0) if _is_in(held.source, press) else held.line.mean(axis=0)
    while True:
        event, ground = yield step
        if np.hypot(*(event.xy - begin)) > 1 and ground.fix is not None and isinstance(ground.fix.fill, Borrow):
            step = _moved(ground, held, start + event.xy - begin)
        if event.kind == "release":
            return step


def _is_in(line: Points, press: PointerEvent) -> bool:
    return bool(cv2.pointPolygonTest(line.astype(np.float32), (press.x, press.y), measureDist=True) > -GRAB_PX / 3)


def _moved(ground: Ground, held: SeenPlace, to: Points) -> Step:
    """Return the step that borrows a part from where the middle of its source is in the viewport."""
    fix, desk = ground.fix, ground.desk
    assert fix is not None
    fill = fix.fill
    assert isinstance(fill, Borrow)
    place = fill.place_of(held.part.id)
    surface_id = fix.surface_id if place.runs_along else ""
    home = ground.home_to_frame(surface_id, ground.frame)
    if home is None:
        return Step(error="It cannot be borrowed along its surface here: that is not followed to this frame.")
    back = then(ground.view_from_frame.inverse(), home.inverse())
    by = back(to[None])[0] - back(held.line.mean(axis=0)[None])[0]
    own = held.part.id if len(fix.cover.parts) > 1 else place.part_id
    new = replace(place, part_id=own, dx=changed_on(place.dx, desk.frame, float(by[0])),
                  dy=changed_on(place.dy, desk.frame, float(by[1])))  # fmt: skip
    edit = partial(edits.change_fix, shot_id=desk.shot_id, fix_id=fix.id, fill=placed(fill, new))
    return Step("Borrow from there", edit, {"part_id": held.part.id})


def _drop(press: PointerEvent, ground: Ground, fix: Fix) -> Gesture:
    """Drop a round cover where the pen is, as large as the brush; where it is borrowed from is found next."""
    event = press
    while event.kind != "release":
        event, ground = yield Step()
    desk, radius = ground.desk, ground.desk.brush.size_px / 2
    middle = ground.view_from_frame.inverse()(press.xy)
    surface_id = "" if desk.draws_on_picture else fix.surface_id
    shape = round_cover(ground, surface_id, middle, radius)
    if shape is None:
        return Step(error="It cannot be dropped here: its surface is not followed to this frame.")
    part = MattePart(id=new_id(), source=Drawn(shape=replace(shape, id=new_id()), surface_id=surface_id))
    part = replace(part, id=part.source.shape.id)  # type: ignore[union-attr]
    fill = fix.fill
    assert isinstance(fill, Borrow)
    place = replace(fill.place_of(""), part_id=part.id, dx=FRESH_RADII * radius, dy=0.0)

    def edit(project: Project) -> Project:
        project = edits.add_part(project, desk.shot_id, fix.id, Slot.COVER, part)
        return edits.change_fix(project, desk.shot_id, fix.id, fill=placed(fill, place))

    return Step("Drop one more", edit, {"part_id": part.id}, calls="find_place")
