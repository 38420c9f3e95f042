"""The brush line: all about the next stroke, above the picture.

How it paints, for which frames it lives, where and when its pixels are from.
"""

from __future__ import annotations

from msgspec.structs import replace
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QFrame, QHBoxLayout, QLabel, QSizePolicy, QVBoxLayout, QWidget

from gommage.app.brush_form import BrushForm
from gommage.app.desk import Desk, Life
from gommage.app.hands.next_stroke import LIFE_WORDS, takes_source
from gommage.app.look.controls import DragNumber, choice, pick, tool_button
from gommage.app.session import Session
from gommage.core.document import Pressure, Tones, Tool
from gommage.core.engine import Step
from gommage.core.paint import TOOLS

__all__ = ["BrushLine"]

MOST_FRAMES, NUMBER_PX = 999, 60
PRESSURES: dict[str, tuple[Pressure, ...]] = {
    "size": (Pressure.SIZE,),
    "opacity": (Pressure.OPACITY,),
    "both": (Pressure.SIZE, Pressure.OPACITY),
    "nothing": (),
}
PRESSURE_WORDS = {"size": "Pen: size", "opacity": "Pen: opacity", "both": "Pen: both", "nothing": "Pen: neither"}
TONE_WORDS = {Tones.ALL: "All tones", Tones.SHADOWS: "Shadows", Tones.MIDDLE: "Middle", Tones.HIGHLIGHTS: "Highlights"}
TIME_WORDS = {"offset": "Frames off", "pinned": "Frame"}


class BrushLine(QWidget):
    """Two rows: the brush, and the stroke's frames and source."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 0, 8, 0)
        column.setSpacing(3)
        column.addLayout(self._brush_row())
        self._second = QWidget()
        self._second.setLayout(self._stroke_row())
        column.addWidget(self._second)
        self.popup = self._popup()

    def _brush_row(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(6)
        self.size_number = DragNumber(
            "Size", 1, 400, "px", tip="Diameter of the brush (R smaller, T larger)", is_even=False
        )
        self.softness_number = DragNumber("Softness", 0, 100, "%", tip="How soft the rim is")
        self.opacity_number = DragNumber("Opacity", 0, 100, "%", tip="Of the whole stroke")
        self.flow_number = DragNumber("Flow", 1, 100, "%", tip="Below 100 % dabs build up on one another")
        self.strength_number = DragNumber("Strength", 0, 100, "%", tip="How much it changes what is there")
        for words, number, field, unit in (
            ("Size", self.size_number, "size_px", 1.0),
            ("Soft", self.softness_number, "softness", 100.0),
            ("Opacity", self.opacity_number, "opacity", 100.0),
            ("Flow", self.flow_number, "flow", 100.0),
            ("Strength", self.strength_number, "strength", 100.0),
        ):
            number.setFixedWidth(NUMBER_PX)
            label = QLabel(words)
            row.addWidget(label)
            row.addWidget(number)
            number.valueChanged.connect(lambda value, f=field, u=unit: self._set_brush(**{f: value / u}))
            if field == "strength":
                self._strength_label = label
        self.tones = choice("Tones", TONE_WORDS, "Which tones are lightened or darkened")
        self.tones.activated.connect(lambda: self._set_brush(tones=Tones(self.tones.currentData())))
        self.pressure = choice("Pressure", PRESSURE_WORDS, "What the pen's pressure sets")
        self.pressure.activated.connect(lambda: self._set_brush(pressure=PRESSURES[self.pressure.currentData()]))
        row.addWidget(self.pressure)
        self.more = tool_button("more", "More of the brush", tip="Blend, channels, spacing; the source's picture, turn")
        self.more.clicked.connect(self._show_more)
        row.addWidget(self.more)
        row.addStretch()
        return row

    def _stroke_row(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(6)
        self.life = choice("Frames of the next stroke", LIFE_WORDS, "For which frames the next stroke lives")
        self.life.activated.connect(lambda: self._session.set_desk(life=Life(self.life.currentData())))
        self.rides = QCheckBox("rides")
        self.rides.setAccessibleName("Stroke rides")
        self.rides.setToolTip(
            "The stroke rides on the fix's surface; off, it stays put in the picture, as a scratch does"
        )
        self.rides.toggled.connect(lambda is_on: self._session.set_desk(rides=is_on))
        self.steps_on = QCheckBox("steps on")
        self.steps_on.setAccessibleName("Frame after frame")
        self.steps_on.setToolTip("Frame after frame: the next frame comes by itself after each stroke")
        self.steps_on.toggled.connect(lambda is_on: self._session.set_desk(steps_on=is_on))
        self._source_label = QLabel("from")
        self.time = choice("Source's time", TIME_WORDS, "So many frames before or after, or always one frame")
        self.time.activated.connect(self._on_time)
        self.frame_number = DragNumber(
            "Source's frame",
            -MOST_FRAMES,
            9_999_999,
            "",
            tip="From which frame pixels come; 0 is this one (Y shows it)",
        )
        self.frame_number.valueChanged.connect(self._on_frame)
        self.along = QCheckBox("along")
        self.along.setAccessibleName("Along the surface")
        self.along.setToolTip("Another frame is brought into register by the surface; off, it is as it was filmed")
        self.along.toggled.connect(lambda is_on: self._session.set_desk(source_along=is_on))
        self.source = QLabel()
        self.source.setProperty("quiet", True)
        self.source.setAccessibleName("Source")
        self.source.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self._of_source = (self._source_label, self.time, self.frame_number, self.along)
        for widget in (self.life, self.steps_on, self.rides, self.tones, *self._of_source):
            row.addWidget(widget)
        row.addWidget(self.source, 1)
        return row

    def _popup(self) -> QFrame:
        """Return what is shown under the button with more of the brush."""
        popup = QFrame(self, Qt.WindowType.Popup)
        popup.setObjectName("popup")
        self.form = BrushForm("the next stroke")
        self.form.brush_changed.connect(lambda fields, _: self._set_brush(**fields))
        self.form.source_changed.connect(lambda fields, _: self._set_source(**fields))
        column = QVBoxLayout(popup)
        column.setContentsMargins(12, 12, 12, 12)
        column.addWidget(self.form)
        return popup

    # -- intents --------------------------------------------------------------------------------------------

    def _set_brush(self, **fields: object) -> None:
        self._session.set_desk(brush=replace(self._session.desk.brush, **fields))

    def _set_source(self, **fields: object) -> None:
        desk = self._session.desk
        base = replace(desk.source_base, **fields)
        source = desk.source and replace(desk.source, **fields)
        self._session.set_desk(source_base=base, source=source)

    def _show_more(self) -> None:
        self._show_form(self._session.desk)
        self.popup.adjustSize()
        place = self.more.mapToGlobal(self.more.rect().bottomLeft())
        end = self.mapToGlobal(self.rect().bottomRight()).x()
        self.popup.move(min(place.x(), end - self.popup.width()), place.y())
        self.popup.show()

    def _show_form(self, desk: Desk) -> None:
        fix_id = desk.fix_id if desk.paints_shot else ""
        brush = replace(desk.brush, tool=desk.paint_tool or desk.brush.tool)
        self.form.show_brush(brush, desk.source_base, self._session.shot, fix_id)

    def _on_time(self) -> None:
        desk = self._session.desk
        is_pinned = self.time.currentData() == "pinned"
        self._session.set_desk(source_pinned=desk.frame if is_pinned else None, source_frames=0)

    def _on_frame(self, value: float) -> None:
        desk, shot = self._session.desk, self._session.shot
        if shot is None:
            return
        if desk.source_pinned is None:
            self._session.set_desk(source_frames=round(value))
        else:
            frames = shot.footage.frames
            self._session.set_desk(source_pinned=min(max(round(value), frames.first), frames.last))

    # -- showing --------------------------------------------------------------------------------------------

    def show_desk(self, desk: Desk) -> None:
        """Show the brush in hand."""
        tool = desk.paint_tool
        if tool is None or desk.step is not Step.FILL:
            self.hide()
            return
        brush = desk.brush
        for number, value in (
            (self.size_number, brush.size_px),
            (self.softness_number, brush.softness * 100),
            (self.opacity_number, brush.opacity * 100),
            (self.flow_number, brush.flow * 100),
            (self.strength_number, brush.strength * 100),
        ):
            number.set_value(value)
        self.strength_number.setVisible(TOOLS[tool].has_strength)
        self._strength_label.setVisible(TOOLS[tool].has_strength)
        self.tones.setVisible(tool in (Tool.LIGHTEN, Tool.DARKEN))
        pick(self.tones, brush.tones)
        pick(self.pressure, next((name for name, one in PRESSURES.items() if one == brush.pressure), "size"))
        self.life.setVisible(desk.paints_shot)
        self.rides.setVisible(desk.paints_shot)
        self.steps_on.setVisible(desk.paints_shot)
        pick(self.life, desk.life)
        for widget in self._of_source:
            widget.setVisible(takes_source(tool))
        is_pinned = desk.source_pinned is not None
        pick(self.time, "pinned" if is_pinned else "offset")
        self.frame_number.set_value(desk.source_pinned if desk.source_pinned is not None else desk.source_frames)
        for box, is_on in (
            (self.along, desk.source_along),
            (self.rides, desk.rides),
            (self.steps_on, desk.steps_on),
        ):
            box.blockSignals(True)
            box.setChecked(is_on)
            box.blockSignals(False)
        if self.popup.isVisible():
            self._show_form(desk)
        self.along.setEnabled(is_pinned or desk.source_frames != 0)
        self.show()  # only now: what is not shown takes no room

    def show_source(self, words: str) -> None:
        """Say where the brush takes its pixels from."""
        self.source.setText(words)
        self.source.setToolTip(words)
