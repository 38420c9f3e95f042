"""A laid picture by its corners: drawn into perspective, moved, turned, made larger."""

from __future__ import annotations

from functools import partial

import cv2
import numpy as np

from gommage.app.hands.box import EVEN_DEG, KNOB_PX
from gommage.app.hands.gestures import GRAB_PX, Gesture, PointerEvent, Step
from gommage.app.hands.ground import Ground
from gommage.core.document import Array, Fix, Placed, edits
from gommage.core.fill.placed import corners_seen
from gommage.core.geometry import Points, composed, fitted, from_matrix, is_quad

__all__ = ["handle_picture", "picture_grips", "picture_quad"]

KNOB = 8


def _laid(ground: Ground) -> tuple[Fix, Placed] | None:
    fix = ground.fix
    return (fix, fix.fill) if fix is not None and isinstance(fix.fill, Placed) else None


def picture_quad(ground: Ground) -> Points | None:
    """Return where the corners of the laid picture are on the frame, (4, 2); None where it is not."""
    found, shot = _laid(ground), ground.shot
    if found is None or shot is None:
        return None
    quad = corners_seen(found[1], shot, found[0].surface_id, ground.frame)
    return quad if quad is not None and np.isfinite(quad).all() else None


def picture_grips(ground: Ground, quad: Points) -> Points:
    """Return where it is taken hold of in the viewport: corners, middles of sides, the knob: (9, 2)."""
    corners = ground.view_from_frame(quad)
    sides = (corners + np.roll(corners, -1, axis=0)) / 2
    out = sides[0] - corners.mean(axis=0)
    return np.vstack([corners, sides, sides[0] + out / max(float(np.hypot(*out)), 1e-9) * KNOB_PX])


def handle_picture(press: PointerEvent, ground: Ground) -> Gesture:
    """Drag a corner, a side, or all of it by its inside; the knob turns it.

    With Shift a corner makes it larger about the opposite one, and the knob turns by whole steps.
    """
    found, quad = _laid(ground), picture_quad(ground)
    if found is None:
        return Step(error="No picture is laid here. Fill a fix with a picture first.")
    if quad is None:
        return Step(error=f"The picture does not lie on frame {ground.frame}.")
    grips = picture_grips(ground, quad)
    far = np.hypot(*(grips - press.xy).T)
    grip = int(np.argmin(far)) if far.min() < GRAB_PX else None
    seen = ground.view_from_frame(quad).astype(np.float32)
    if grip is None and cv2.pointPolygonTest(seen, (press.x, press.y), measureDist=False) < 0:
        return None
    from_view = ground.view_from_frame.inverse()
    begin, step = from_view(press.xy), Step()
    while True:
        event, _ = yield step
        here = from_view(event.xy)
        if np.isfinite(here).all() and not np.array_equal(here, begin):
            step = _moved(ground, found, quad, dragged(quad, grip, begin, here, is_even=event.shift)) or step
        if event.kind == "release":
            return step if step.edit is not None else None


def dragged(quad: Points, grip: int | None, begin: Points, here: Points, *, is_even: bool) -> Points:
    """Return the corners (4, 2) of a quad, a grip of which was dragged from one place to another; None: its inside."""
    by, middle = here - begin, quad.mean(axis=0)
    if grip is None:
        return quad + by
    moved = quad.copy()
    if grip == KNOB:
        one, other = begin - middle, here - middle
        angle = np.arctan2(other[1], other[0]) - np.arctan2(one[1], one[0])
        if is_even:
            step = np.deg2rad(EVEN_DEG)
            angle = np.round(angle / step) * step
        cos, sin = np.cos(angle), np.sin(angle)
        return (quad - middle) @ np.array([[cos, sin], [-sin, cos]]) + middle
    if grip < 4 and is_even:
        fixed = quad[(grip + 2) % 4]
        arm = quad[grip] - fixed
        return fixed + (quad - fixed) * max(float((arm + by) @ arm / max(arm @ arm, 1e-9)), 0.01)
    held = (grip,) if grip < 4 else (grip - 4, (grip - 3) % 4)
    moved[list(held)] += by
    return moved


def _moved(ground: Ground, found: tuple[Fix, Placed], quad: Points, new: Points) -> Step | None:
    """Return the step that lays a picture with its corners elsewhere on the frame; None if nothing can lie so."""
    fix, fill = found
    here = ground.home_to_frame(fix.surface_id if fill.runs_along else "", ground.frame)
    if here is None or not is_quad(new) or not _is_convex(new):
        return None
    move = from_matrix(fitted(quad, new))
    corners = composed(here, move, here.inverse())(fill.corners.values)
    if not np.isfinite(corners).all() or not is_quad(corners):
        return None
    edit = partial(edits.change_picture, shot_id=ground.desk.shot_id, fix_id=fix.id, corners=Array(corners))
    return Step(f"Place {fix.name}", edit)


def _is_convex(quad: Points) -> bool:
    """Return whether a quad (4, 2) has no corner that points inwards: else no plane is seen so."""
    sides = np.roll(quad, -1, axis=0) - quad
    after = np.roll(sides, -1, axis=0)
    turns = sides[:, 0] * after[:, 1] - sides[:, 1] * after[:, 0]
    return bool((turns > 0).all() or (turns < 0).all())
