"""The tray above the picture.

The tools of the step in hand, and with a brush in hand a line with all about the next stroke.
"""

from __future__ import annotations

from collections.abc import Callable

from msgspec.structs import replace
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QHBoxLayout, QLabel, QSizePolicy, QToolButton, QVBoxLayout, QWidget

from gommage.app.desk import Desk
from gommage.app.hands.ground import Ground
from gommage.app.hands.spots import places_spots
from gommage.app.look.controls import DragNumber
from gommage.app.session import Session
from gommage.core.engine import Look, Step

__all__ = ["Tray", "action_button", "hint_of"]

TOOLS = ("hand", "draw", "edit", "pin", "clone", "heal", "restore")
TOOLS_OF = {
    Step.FOLLOW: ("hand", "draw", "edit", "pin"),
    Step.COVER: ("hand", "draw", "edit"),
    Step.FILL: ("hand", "clone", "heal", "restore"),
    Step.MATCH: ("hand", "edit"),
    Step.CHECK: ("hand",),
}
DRAWN = {
    "surface": "the area to follow",
    "area": "one more area to follow",
    "keep-out": "what is not to be looked at",
    "still": "what stands still",
    "by hand": "the thing, by its corners",
    "points": "the features",
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
        self.hint = QLabel()
        self.hint.setProperty("quiet", True)
        self.hint.setAccessibleName("Hint")
        self.hint.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        row.addWidget(self.hint, 1)
        for name in ("undo", "redo"):
            row.addWidget(action_button(action(name)))
        self._line = self._brush_line()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 3)
        column.setSpacing(2)
        column.addLayout(row)
        column.addWidget(self._line)
        session.desk_changed.connect(self._on_desk_changed)
        self._show_desk(session.desk)

    def _brush_line(self) -> QWidget:
        line = QWidget()
        row = QHBoxLayout(line)
        row.setContentsMargins(10, 0, 8, 0)
        row.setSpacing(6)
        self.size_number = DragNumber(
            "Size", 1, 400, "px", tip="Diameter of the brush (R smaller, T larger)", is_even=False
        )
        self.softness_number = DragNumber("Softness", 0, 100, "%", tip="How soft the rim is")
        self.opacity_number = DragNumber("Opacity", 0, 100, "%", tip="Of the whole stroke")
        for words, number, field, unit in (
            ("Size", self.size_number, "size_px", 1.0),
            ("Softness", self.softness_number, "softness", 100.0),
            ("Opacity", self.opacity_number, "opacity", 100.0),
        ):
            row.addWidget(QLabel(words))
            row.addWidget(number)
            number.valueChanged.connect(lambda value, f=field, u=unit: self._set_brush(f, value / u))
        row.addSpacing(6)
        self._source_label = QLabel("Source")
        self.source = QLabel()
        self.source.setProperty("quiet", True)
        self.source.setAccessibleName("Source")
        self.source.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        row.addWidget(self._source_label)
        row.addWidget(self.source, 1)
        return line

    def _set_brush(self, field: str, value: float) -> None:
        self._session.set_desk(brush=replace(self._session.desk.brush, **{field: value}))

    def _on_desk_changed(self, old: Desk, new: Desk) -> None:
        if (old.step, old.tool, old.brush, old.look) != (new.step, new.tool, new.brush, new.look):
            self._show_desk(new)

    def _show_desk(self, desk: Desk) -> None:
        shown = TOOLS_OF[desk.step]
        for tool, button in self._tools.items():
            button.setVisible(tool in shown)
        self._line.setVisible(desk.paint_tool is not None and desk.step is Step.FILL)
        self.size_number.set_value(desk.brush.size_px)
        self.softness_number.set_value(desk.brush.softness * 100)
        self.opacity_number.set_value(desk.brush.opacity * 100)

    def show_source(self, words: str) -> None:
        """Say where the brush takes its pixels from."""
        self.source.setText(words)

    def show_hint(self, ground: Ground) -> None:
        """Say what the tool in hand does here."""
        self.hint.setText(hint_of(ground))


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
        what = DRAWN[desk.draws] if follows else "the thing"
        return f"Click round {what}; click the first point to close"
    if desk.tool == "pin":
        own = f"{len(desk.pin_points)} own points" if desk.pin_points else "the corners"
        return f"Drag {own} where they belong here; Alt-click for own points"
    if desk.tool == "edit":
        return "Drag points, or inside to move the whole shape"
    if desk.paint_tool is not None:
        plate = ground.plate
        return f"Painting on {plate.name}, home frame {plate.home_frame}" if plate else "Make a clean plate to paint on"
    return "Drag to move the picture, wheel to zoom"
