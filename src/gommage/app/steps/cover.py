"""The Cover step: the parts of the cover, its edge, and the frames it lives on."""

from __future__ import annotations

from typing import Any

from msgspec.structs import replace
from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QCheckBox

from gommage.app.lists.rows import LineDelegate, Row, RowList
from gommage.app.lists.summaries import life_words
from gommage.app.look.controls import NameLine, ValueRow, heading, push_button, quiet, rule, spaced, tool_button
from gommage.app.steps.page import Advised, InHand, Page, next_step
from gommage.core.document import Drawn, Fix, MattePart, VertexKind, edits, value_at
from gommage.core.document.edits import Slot
from gommage.core.engine import State, Step

__all__ = ["CoverPage"]

MOST_PARTS = 6


class CoverPage(Page):
    """What is covered."""

    def build(self) -> None:
        self.title = NameLine()
        self._delegate = LineDelegate()
        self.parts = RowList("Shapes", self._delegate, most_rows=MOST_PARTS)
        self.add = tool_button("plus", "Draw one more shape", tip="Draw one more shape of this cover (S)")
        self.remove = tool_button("trash-2", "Remove shape", tip="Remove the chosen shape")
        self._parts_title = heading("Shapes")
        head = spaced(self._parts_title)
        head.addWidget(self.add)
        head.addWidget(self.remove)
        self.soft = ValueRow("Soft edge", 1, 60, "px", tip="How far the cover fades outside the drawn line")
        self.grow = ValueRow("Grow", -20, 40, "px", tip="Move the edge outwards or inwards")
        self.smooth = QCheckBox("Rounded")
        self.smooth.setAccessibleName("Rounded shape")
        self.smooth.setToolTip("The line runs smoothly through the shape's points")
        self.keys = quiet(name="Keys")
        self.frames = quiet(name="Frames of the fix")
        self.new = push_button(
            "New fix on this surface", lambda: self.call("new_fix"), tip="Draw round another thing (Shift+S)"
        )
        self.box.addWidget(self.title)
        self.box.addLayout(head)
        for widget in (self.parts, self.smooth, self.keys, rule(), self.soft, self.grow, rule(), self.frames, self.new):
            self.box.addWidget(widget)
        self.add.clicked.connect(lambda: self.session.set_desk(tool="draw"))
        self.remove.clicked.connect(self._on_remove)
        self.parts.chosen.connect(lambda part_id, _: self.session.set_desk(part_id=part_id))
        self.soft.value_changed.connect(self._on_soft)
        self.grow.value_changed.connect(lambda v, final: self._set("Grow cover", final, grow_px=v))
        self.smooth.toggled.connect(self._on_smooth)

    # -- intents --------------------------------------------------------------------------------------------

    def _fix(self) -> Fix | None:
        return self.session.desk.fix(self.session.project)

    def _set(self, label: str, final: bool, **fields: Any) -> None:
        desk = self.session.desk
        if desk.fix_id:
            edit = edits.change_matte
            self.session.commit_while(label, final, edit, desk.shot_id, desk.fix_id, Slot.COVER, **fields)

    def _on_soft(self, value: float, final: bool) -> None:
        fix = self._fix()
        if fix is not None:
            self._set("Soft edge", final, softness=replace(fix.cover.softness, outwards_px=value))

    def _on_smooth(self, is_on: bool) -> None:
        desk, shape = self.session.desk, self.session.desk.shape(self.session.project)
        if shape is not None:
            kind = VertexKind.SMOOTH if is_on else VertexKind.CORNER
            kinds = (kind,) * len(shape.kinds)
            self.session.commit("Round the shape", edits.change_shape, desk.shot_id, shape.id, kinds=kinds)

    def _on_remove(self) -> None:
        desk, part = self.session.desk, self.session.desk.part(self.session.project)
        if part is not None:
            self.session.commit("Remove shape", edits.remove_part, desk.shot_id, part.id)

    # -- showing --------------------------------------------------------------------------------------------

    def show_hand(self, hand: InHand) -> None:
        fix = hand.fix
        parts = fix.cover.parts if fix is not None else ()
        for widget in (self.soft, self.grow, self.smooth, self.remove):
            widget.setEnabled(bool(parts))
        self.add.setEnabled(fix is not None)
        self.new.setEnabled(bool(parts))
        self.title.setText(fix.name if fix is not None else "Nothing covered yet")
        self.parts.rows.set_rows(tuple(_row(number, part) for number, part in enumerate(parts, 1)))
        if fix is None or not parts:
            self.keys.setText("")
            self.frames.setText("")
            return
        frame = self.session.desk.frame
        self.soft.set_value(value_at(fix.cover.softness.outwards_px, frame))
        self.grow.set_value(value_at(fix.cover.grow_px, frame))
        self._show_shape()
        self.frames.setText(
            f"Lives on {life_words(fix.frames)}. Drag the ends of its bar on the frame strip to change that."
        )

    def _show_shape(self) -> None:
        desk, project = self.session.desk, self.session.shown
        part, shape = desk.part(project), desk.shape(project)
        if part is None or shape is None:
            return
        self.parts.select(part.id)
        with QSignalBlocker(self.smooth):
            self.smooth.setChecked(VertexKind.SMOOTH in shape.kinds)
        frames = ", ".join(str(key.frame) for key in shape.keys)
        self.keys.setText(
            f"Keyed on {frames}. Drag a point on another frame to key it there; Delete takes the key off."
        )

    def advise(self, hand: InHand) -> Advised:
        surface, fix = hand.surface, hand.fix
        known = self.session.surface_summary(surface.id) if surface is not None else None
        if surface is None or (known is not None and not known.is_known):
            words = "A cover rides on a followed surface, and there is none yet."
            return Advised(words, "Go to Follow", "step_follow")
        if fix is None or not fix.cover.parts:
            return Advised(
                "Draw round the thing, a few pixels larger than it is, so that its blur and soft edges are inside.",
                is_urgent=False,
            )
        advice = self.state_of(fix, Step.COVER)
        return next_step(Step.COVER, "Covered.") if advice.state is not State.LOOK else Advised(advice.words)


def _row(number: int, part: MattePart) -> Row:
    name, keys = f"Shape {number}", 0
    if isinstance(part.source, Drawn):
        name, keys = part.source.shape.name or name, len(part.source.shape.keys)
    return Row(part.id, name, f"{keys} key" + ("s" if keys != 1 else ""), part.is_on)
