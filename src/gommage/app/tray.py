"""The tray above the picture.

The tools of the step in hand, and with a brush in hand a line with all about the next stroke.
"""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtGui import QAction
from PySide6.QtWidgets import QHBoxLayout, QSizePolicy, QToolButton, QVBoxLayout, QWidget

from gommage.app.brush_line import BrushLine
from gommage.app.desk import BRUSHES, Desk
from gommage.app.hands.ground import Ground
from gommage.app.hands.mould import Mould
from gommage.app.hands.spots import places_spots
from gommage.app.look.controls import ShortLine
from gommage.app.menus import TOOLS
from gommage.app.session import Session
from gommage.app.shape_line import ShapeLine
from gommage.core.document.edits import Slot
from gommage.core.engine import Look, Step

__all__ = ["Tray", "action_button", "hint_of"]

TOOLS_OF = {
    Step.FOLLOW: ("hand", "draw", "edit", "mould", "pin"),
    Step.COVER: ("hand", "draw", "edit", "mould", "scribble"),
    Step.FILL: ("hand", "edit", "borrow", "picture", *BRUSHES),
    Step.MATCH: ("hand", "edit", "mould"),
    Step.CHECK: ("hand",),
}
DRAWN = {
    "surface": "the area to follow",
    "area": "one more area to follow",
    "keep-out": "what is not to be looked at",
    "extent": "how far the surface reaches",
    "still": "what stands still",
    "by hand": "the thing, by its corners",
    "around": "the thing, to find what is behind it",
    "scene plane": "a flat part of the scene, or its solved points",
    "points": "the features",
}
DRAWN_IN = {
    Slot.COVER: "the thing",
    Slot.HOLD_OUTS: "what stays in front",
    Slot.LIGHT_AREA: "what shows the light, beside the thing",
    Slot.GUIDES: "an edge that must go through, from well before the hole to well behind it",
    Slot.TAKE_FROM: "where pieces may come from",
}

DRAW_HINTS = {
    "points": "Click round {}; click the first point to close",
    "freehand": "Draw round {} in one go",
    "ellipse": "Drag over {}; Shift makes a circle, Alt from its middle",
    "box": "Drag over {}; Shift makes a square, Alt from its middle",
}
MORE_HINTS = {
    "draw": "Drag while clicking pulls handles out. A click on the first point closes the line, one on the last leaves "
    "it open. Escape drops it.",
    "picture": "The knob turns it. With Shift a corner makes it larger as it is, the knob turns by steps of 15°.",
    "strokes": "Shift chooses more. A drag moves what is chosen; with Alt its source stays. The source's outline "
    "can be dragged, too. Delete removes, Escape lets go.",
    "edit": "Shift chooses more points; beside the shape a box chooses, with Alt a lasso, with Control a touch. "
    "Control on the line adds a point, on a point removes it. Alt pulls handles out of a point.",
}
MOULD_HINTS = {
    Mould.PULL: "Drag: what is within reach comes along (R and T change the reach)",
    Mould.PUSH: "Drag against the outline to push it (R and T change the reach)",
    Mould.SWELL: "Drag to swell what is within reach (R and T change the reach)",
    Mould.SHRINK: "Drag to draw in what is within reach (R and T change the reach)",
    Mould.SMOOTH: "Drag to smooth what is within reach (R and T change the reach)",
}


def action_button(action: QAction) -> QToolButton:
    """Return a button of an action, named after it."""
    button = QToolButton()
    button.setDefaultAction(action)
    button.setAccessibleName(action.text())
    return button


class Tray(QWidget):
    """Tools, a hint, undo and redo; below them the brush line."""

    def __init__(self, session: Session, action: Callable[[str], QAction]) -> None:
        super().__init__()
        self.setObjectName("panel")
        self._session = session
        self._tools = {tool: action_button(action(f"tool_{tool}")) for tool in TOOLS}
        row = QHBoxLayout()
        row.setContentsMargins(6, 3, 6, 0)
        row.setSpacing(2)
        for button in self._tools.values():
            row.addWidget(button)
        row.addSpacing(12)
        self.hint = ShortLine()
        self.hint.setProperty("quiet", True)
        self.hint.setAccessibleName("Hint")
        self.hint.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        row.addWidget(self.hint, 1)
        for name in ("undo", "redo"):
            row.addWidget(action_button(action(name)))
        self.brush_line = BrushLine(session)
        self._shape_line = ShapeLine(session, action)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 3)
        column.setSpacing(2)
        column.addLayout(row)
        column.addWidget(self.brush_line)
        column.addWidget(self._shape_line)
        session.desk_changed.connect(self._on_desk_changed)
        self._show_desk(session.desk)

    def _on_desk_changed(self, old: Desk, new: Desk) -> None:
        if _tools_of(old) != _tools_of(new):
            self._show_desk(new)
        self.brush_line.show_desk(new)
        self._shape_line.show_desk(new)

    def _show_desk(self, desk: Desk) -> None:
        shown = TOOLS_OF[desk.step]
        for tool, button in self._tools.items():
            button.setVisible(tool in shown)
        self.brush_line.show_desk(desk)
        self._shape_line.show_desk(desk)

    def show_source(self, words: str) -> None:
        """Say where the brush takes its pixels from."""
        self.brush_line.show_source(words)

    def show_hint(self, ground: Ground) -> None:
        """Say what the tool in hand does here."""
        self.hint.setText(hint_of(ground))
        self.hint.setToolTip(MORE_HINTS.get("strokes" if ground.desk.edits_strokes else ground.desk.tool, ""))


def _tools_of(desk: Desk) -> tuple[object, ...]:
    """Return what of the desk the tools that are offered depend on."""
    return desk.step, desk.tool, desk.look


def hint_of(ground: Ground) -> str:
    """Return in words what the tool in hand does here."""
    desk = ground.desk
    if ground.shot is None:
        return ""
    if desk.look is Look.SHEET:
        return "Click a frame to go there; what moves in the sheet slips"
    if desk.tool == "draw":
        follows = desk.step is Step.FOLLOW
        if follows and places_spots(ground):
            return "Click on features that stand out"
        if desk.draws_wire:
            return "Click one end of a wire and the other, or draw roughly along it; it finds itself"
        what = DRAWN[desk.draws] if follows else DRAWN_IN[desk.slot]
        if desk.draws_open and desk.draws_by == "points":
            return f"Click along {what}; click the last point once more to end it"
        return DRAW_HINTS[desk.draws_by].format(what)
    if desk.tool == "pin":
        own = f"{len(desk.pin_points)} own points" if desk.pin_points else "the corners"
        return f"Drag {own} where they belong here; Alt-click for own points"
    if desk.redraws:
        return "Draw the stroke's path anew; Escape lets it be"
    if desk.edits_strokes:
        return "Touch or box strokes to choose, drag to move"
    if desk.tool == "edit":
        if desk.has_box:
            return "Corners and sides scale, the knob turns; with Control perspective and shear"
        if desk.softens:
            return "Drag the outer dots: how far the edge fades at each point"
        return "Drag points, or inside to move the whole shape"
    if desk.tool == "borrow":
        return "Drag the source, click for one more"
    if desk.tool == "picture":
        return "Drag corners, sides or inside"
    if desk.tool == "scribble" and desk.slot is Slot.SUBJECT:
        return "Scribble inside it, with Alt outside"
    if desk.tool == "scribble":
        return "A few strokes inside the thing, with Alt some outside it"
    if desk.tool == "mould":
        return MOULD_HINTS[Mould(desk.mould)]
    if desk.paint_tool is not None:
        if desk.paints_shot:
            return f"Painting on the shot, strokes of {ground.fix.name}" if ground.fix else "Paint on the shot"
        plate = ground.plate
        return f"Painting on {plate.name}, home frame {plate.home_frame}" if plate else "Make a clean plate to paint on"
    return "Drag to move the picture, wheel to zoom"
