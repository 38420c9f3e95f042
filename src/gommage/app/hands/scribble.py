"""Scribbles: strokes inside a thing and outside it that make a matte."""

from __future__ import annotations

from functools import partial

import numpy as np
from msgspec.structs import replace

from gommage.app.hands.gestures import Gesture, PointerEvent, Step, Trace
from gommage.app.hands.ground import Ground
from gommage.app.hands.names import free_name
from gommage.core.document import (
    Array,
    Fix,
    Matte,
    MattePart,
    Placed,
    Scribbled,
    ScribbleMark,
    Softness,
    VertexKind,
    edits,
    new_id,
)
from gommage.core.document.edits import Slot
from gommage.core.fill.placed import frame_from_picture, frame_laid
from gommage.core.geometry import Mapping

__all__ = ["picture_scribbled", "scribble", "scribbled_in_hand"]

LEAST_PX = 2.0
"""Points of a scribble are so far apart at least, in pixels of the frame."""


def scribbled_in_hand(ground: Ground) -> tuple[MattePart, Scribbled] | None:
    """Return the part in hand if it is one of scribbles."""
    part = ground.desk.part(ground.project)
    return (part, part.source) if part is not None and isinstance(part.source, Scribbled) else None


def scribble(press: PointerEvent, ground: Ground) -> Gesture:
    """Draw a scribble inside the thing; with Alt, or the pen's eraser end, outside it.

    The first makes a new part, if none of scribbles is in hand.
    """
    if ground.desk.slot is Slot.SUBJECT and picture_scribbled(ground) is None:
        return Step(error="No picture lies on this frame.")
    from_view, is_inside = ground.view_from_frame.inverse(), not (press.alt or press.is_eraser)
    points = [from_view(press.xy)]
    kind = "scribble-inside" if is_inside else "scribble-outside"
    while True:
        plain = np.hstack([np.array(points), np.zeros((len(points), 6))])
        event, ground = yield Step(trace=Trace(plain, (VertexKind.CORNER,) * len(plain), "", kind, has_points=False))
        here = from_view(event.xy)
        if np.isfinite(here).all() and np.hypot(*(here - points[-1])) >= LEAST_PX:
            points.append(here)
        if event.kind == "release":
            break
    if len(points) < 2:
        points.append(points[0] + (1.0, 0.0))
    mark = ScribbleMark(frame=ground.desk.frame, points=Array(np.array(points)), is_inside=is_inside)
    return _done(ground, mark)


def picture_scribbled(ground: Ground) -> tuple[Mapping, int] | None:
    """Return where the laid picture is on the frame, and its own number."""
    fix, shot = ground.fix, ground.shot
    if fix is None or shot is None or not isinstance(fix.fill, Placed):
        return None
    mapping = frame_from_picture(fix.fill, shot, fix.surface_id, ground.desk.frame)
    laid = frame_laid(fix.fill, shot, ground.desk.frame)
    return None if mapping is None or laid is None else (mapping, laid)


def _done(ground: Ground, mark: ScribbleMark) -> Step:
    shot, fix, desk, in_hand = ground.shot, ground.fix, ground.desk, scribbled_in_hand(ground)
    assert shot is not None
    label = "Scribble inside" if mark.is_inside else "Scribble outside"
    picture = picture_scribbled(ground) if desk.slot is Slot.SUBJECT else None
    if picture is not None:
        mark = replace(mark, frame=picture[1], points=Array(picture[0].inverse()(mark.points.values)))
    if in_hand is not None:
        part, source = in_hand
        more = replace(source, marks=(*source.marks, mark))
        return Step(label, partial(edits.change_part, shot_id=shot.id, part_id=part.id, source=more))
    part = MattePart(id=new_id(), source=Scribbled(marks=(mark,)))
    after = {"part_id": part.id, "part_ids": (), "vertices": ()}
    if fix is not None:
        slot = desk.slot if desk.slot in (Slot.HOLD_OUTS, Slot.SUBJECT) else Slot.COVER
        edit = partial(edits.add_part, shot_id=shot.id, holder_id=fix.id, slot=slot, part=part)
        return Step(label, edit, after)
    fresh = Fix(id=new_id(), name=free_name("Fix", shot.fixes), surface_id=desk.surface_id,
                cover=Matte(parts=(part,), softness=Softness(outwards_px=2.0)))  # fmt: skip
    after |= {"fix_id": fresh.id, "fix_ids": (fresh.id,), "slot": Slot.COVER}
    return Step("New fix", partial(edits.add_fix, shot_id=shot.id, fix=fresh), after)
