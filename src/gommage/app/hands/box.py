"""The box around what is chosen: moved, turned, scaled, sheared, drawn into perspective."""

from __future__ import annotations

from functools import reduce

import numpy as np

from gommage.app.hands.gestures import GRAB_PX, Gesture, PointerEvent, Step
from gommage.app.hands.ground import Ground
from gommage.app.hands.seen import Seen, change_label, desk_of, in_frame, part_seen, reshaped
from gommage.core.cover.reshaping import moved_together
from gommage.core.document import Project
from gommage.core.geometry import Mapping, Points, box_of, composed, fitted, from_matrix, scaling, shift, turning

__all__ = ["box_on", "drag_box", "grip_at", "grips", "in_box"]

KNOB_PX = 26.0
"""So far above the box the knob is by which it is turned, on the screen."""
EVEN_DEG = 15.0
"""With Shift it is turned by whole steps."""
THIN_PX = 1.0


def in_box(ground: Ground) -> list[tuple[Seen, tuple[int, ...]]]:
    """Return what the box holds: of several chosen shapes all, of one its chosen vertices, or all if none is."""
    desk = ground.desk
    parts = [part for part in desk.parts(ground.project) if part.id in (desk.part_id, *desk.part_ids)]
    part = desk.part(ground.project)
    if not parts and part is not None:
        parts = [part]
    seen = [one for one in (part_seen(ground, part) for part in parts) if one is not None and not one.shape.is_locked]
    found = []
    for one in seen:
        chosen = desk.chosen_vertices(one.part.id) if len(seen) == 1 else ()
        found.append((one, chosen if len(chosen) > 1 else tuple(range(len(one.vertices)))))
    return found


def box_on(ground: Ground) -> Points | None:
    """Return the box in pixels of the frame: (4, 2) from the top left, or None if there is nothing to hold."""
    from_view = ground.view_from_frame.inverse()
    places = [from_view(one.places[list(chosen)]) for one, chosen in in_box(ground)]
    if not places:
        return None
    points = np.vstack(places)
    points = points[np.isfinite(points).all(axis=1)]
    if len(points) < 2:
        return None
    box = box_of(points)
    thin = np.ptp(box, axis=0) < THIN_PX
    return box_of(points, THIN_PX) if thin.any() else box


def grips(ground: Ground, box: Points) -> Points:
    """Return where the box is taken hold of in the viewport: corners, middles of sides, the knob: (9, 2)."""
    corners = ground.view_from_frame(box)
    sides = (corners + np.roll(corners, -1, axis=0)) / 2
    up = corners[0] + corners[1] - corners[2] - corners[3]
    knob = sides[0] + up / max(float(np.hypot(*up)), 1e-9) * KNOB_PX
    return np.vstack([corners, sides, knob])


def grip_at(ground: Ground, press: PointerEvent) -> int | None:
    """Return the grip under the pen, None if there is none."""
    box = box_on(ground)
    if box is None:
        return None
    far = np.hypot(*(grips(ground, box) - press.xy).T)
    return int(np.argmin(far)) if far.min() < GRAB_PX else None


def drag_box(press: PointerEvent, ground: Ground) -> Gesture:
    """Drag the box by one of its grips.

    A corner scales, with Shift evenly, with Control it alone is drawn into perspective. A side scales one way, with
    Control it shears. The knob turns, with Shift by whole steps. With Alt about the middle.
    """
    box, grip, held = box_on(ground), grip_at(ground, press), in_box(ground)
    assert box is not None
    assert grip is not None
    from_view = ground.view_from_frame.inverse()
    begin, step = from_view(press.xy), Step()
    while True:
        event, _ = yield step
        here = from_view(event.xy)
        if np.isfinite(here).all() and not np.array_equal(here, begin):
            step = _moved(ground, held, movement(box, grip, begin, here, event))
        if event.kind == "release":
            return step


def _moved(ground: Ground, held: list[tuple[Seen, tuple[int, ...]]], move: Mapping) -> Step:
    steps = [
        reshaped(ground, one, moved_together(one.vertices, chosen, in_frame(ground, one, move))) for one, chosen in held
    ]
    made = [step.edit for step in steps if step.edit is not None]

    def edit(project: Project) -> Project:
        return reduce(lambda so_far, one: one(so_far), made, project)

    first = held[0][0]
    label = change_label(ground, first) if len(held) == 1 else f"Change {len(held)} shapes"
    kept = ground.desk.chosen_vertices(first.part.id)
    return Step(label, edit if made else None, desk_of(first.part, kept) if len(held) == 1 else {})


def movement(box: Points, grip: int, begin: Points, here: Points, event: PointerEvent) -> Mapping:
    """Return the movement, in pixels of the frame, that dragging a grip of a box from one place to another makes."""
    middle = box.mean(axis=0)
    if grip == 8:
        one, other = begin - middle, here - middle
        angle = float(np.arctan2(other[1], other[0]) - np.arctan2(one[1], one[0]))
        if event.shift:
            angle = float(np.deg2rad(np.round(np.rad2deg(angle) / EVEN_DEG) * EVEN_DEG))
        return _about(middle, turning(angle))
    if grip < 4:
        if event.control:
            corners = box.copy()
            corners[grip] += here - begin
            return from_matrix(fitted(box, corners))
        fixed = middle if event.alt else box[(grip + 2) % 4]
        share = (here - begin + box[grip] - fixed) / _away_from_zero(box[grip] - fixed)
        if event.shift:
            share[:] = np.sign(share) * np.sqrt(abs(share[0] * share[1]))
        return _about(fixed, scaling(*(float(one) for one in _away_from_zero(share, 1e-3))))
    side = grip - 4
    axis = 1 if side in (0, 2) else 0
    if event.control:
        ends = box.copy()
        along = 1 - axis
        ends[[side, (side + 1) % 4], along] += (here - begin)[along]
        return from_matrix(fitted(box[:3], ends[:3]) if side != 2 else fitted(box[1:], ends[1:]))
    fixed = middle if event.alt else box[(side + 2) % 4]
    share = np.ones(2)
    share[axis] = (here - begin + box[side] - fixed)[axis] / _away_from_zero((box[side] - fixed)[axis : axis + 1])[0]
    return _about(fixed, scaling(*(float(one) for one in _away_from_zero(share, 1e-3))))


def _away_from_zero(values: Points, least: float = 1e-6) -> Points:
    return np.where(np.abs(values) < least, np.where(values < 0, -least, least), values)


def _about(place: Points, move: Mapping) -> Mapping:
    return composed(shift(*-place), move, shift(*place))
