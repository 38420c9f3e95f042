"""Which tool does what on which step. A new tool is a new file and a line here."""

from __future__ import annotations

from collections.abc import Callable

from gommage.app.hands.borrow import borrow
from gommage.app.hands.brush import paint, size_brush
from gommage.app.hands.gestures import Gesture, PointerEvent
from gommage.app.hands.ground import Ground
from gommage.app.hands.mould import mould
from gommage.app.hands.picture import handle_picture
from gommage.app.hands.pins import place_pin
from gommage.app.hands.reshape import reshape
from gommage.app.hands.scribble import scribble
from gommage.app.hands.shapes import draw_shape
from gommage.app.hands.spots import move_spot, places_spots, set_spot
from gommage.app.hands.strokes import choose_strokes
from gommage.core.document import PointsFollow
from gommage.core.engine import Step

__all__ = ["gesture_of"]

Tool = Callable[[PointerEvent, Ground], Gesture]


def gesture_of(press: PointerEvent, ground: Ground) -> Gesture | None:
    """Return the gesture that a press begins with the tool in hand, or None if that does nothing."""
    desk = ground.desk
    if desk.paint_tool is not None and desk.sizes_brush:
        return size_brush(press, ground)
    if desk.paint_tool is not None:
        return paint(press, ground)
    follows = desk.step is Step.FOLLOW
    if desk.tool == "draw":
        return set_spot(press, ground) if follows and places_spots(ground) else draw_shape(press, ground)
    if desk.tool == "borrow":
        return borrow(press, ground)
    if desk.tool == "picture":
        return handle_picture(press, ground)
    if desk.tool == "scribble":
        return scribble(press, ground)
    if desk.tool == "mould":
        return mould(press, ground)
    if desk.tool == "pin":
        return place_pin(press, ground)
    if desk.edits_strokes:
        return choose_strokes(press, ground)
    if desk.tool == "edit":
        is_points = ground.surface is not None and isinstance(ground.surface.how, PointsFollow)
        return move_spot(press, ground) if follows and is_points else reshape(press, ground)
    return None
