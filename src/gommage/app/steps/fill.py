"""The Fill step: clean plates, and the strokes on the one in hand."""

from __future__ import annotations

from typing import Any

from PySide6.QtWidgets import QHBoxLayout

from gommage.app.lists.rows import LineDelegate, Row, RowList
from gommage.app.look.controls import NameLine, ValueRow, heading, push_button, quiet, rule, spaced, tool_button
from gommage.app.steps.page import Advised, InHand, Page, next_step
from gommage.core.document import Plates, Project, edits
from gommage.core.engine import State, Step

__all__ = ["FillPage"]

MOST_STROKES = 5


class FillPage(Page):
    """What the cover is filled with."""

    def build(self) -> None:
        self.title = NameLine()
        self.make_title = quiet("New clean plate")
        self.make = push_button(
            "From this frame", lambda: self.call("new_plate"), primary=True, tip="A still to paint on (Shift+C)"
        )
        self.load = push_button(
            "From a picture…", lambda: self.call("plate_from_picture"), tip="A clean plate painted elsewhere"
        )
        self.strokes_title = heading("Strokes")
        self._delegate = LineDelegate()
        self.strokes = RowList("Strokes", self._delegate, most_rows=MOST_STROKES, takes_many=True)
        self.remove = tool_button("trash-2", "Remove strokes", tip="Remove the chosen strokes (Delete)")
        self.chosen_title = heading("")
        self.size_row = ValueRow("Size", 1, 400, "px", curve=2.0, tip="Diameter of the chosen strokes")
        self.soft = ValueRow("Softness", 0, 100, "%", tip="Of the chosen strokes")
        self.opacity = ValueRow("Opacity", 0, 100, "%", tip="Of the chosen strokes")
        self.note = quiet(name="Strokes, in short")
        strokes_row = QHBoxLayout()
        strokes_row.addWidget(self.strokes_title, 1)
        strokes_row.addWidget(self.remove)
        self.box.addWidget(self.title)
        self.box.addWidget(self.make_title)
        self.box.addLayout(spaced(self.make, self.load))
        self.box.addWidget(rule())
        self.box.addLayout(strokes_row)
        self._of_chosen = (rule(), self.chosen_title, self.size_row, self.soft, self.opacity)
        for widget in (self.strokes, self.note, *self._of_chosen):
            self.box.addWidget(widget)
        self.strokes.chosen.connect(lambda _, all_ids: self.session.set_desk(stroke_ids=all_ids))
        self.remove.clicked.connect(lambda: self.call("remove_strokes"))
        self.size_row.value_changed.connect(lambda v, final: self._on_value("size_px", v, final))
        self.soft.value_changed.connect(lambda v, final: self._on_value("softness", v / 100, final))
        self.opacity.value_changed.connect(lambda v, final: self._on_value("opacity", v / 100, final))

    def _on_value(self, field: str, value: float, final: bool) -> None:
        """Change the chosen strokes, all alike."""
        desk = self.session.desk
        if desk.stroke_ids:
            label = "Change stroke" if len(desk.stroke_ids) == 1 else f"Change {len(desk.stroke_ids)} strokes"
            self.session.commit_while(
                label, final, edits.change_brush, desk.shot_id, desk.plate_id, desk.stroke_ids, **{field: value}
            )

    def watched(self, hand: InHand) -> tuple[Any, ...]:
        return (*super().watched(hand), self.session.desk.stroke_ids)

    def show_hand(self, hand: InHand) -> None:
        desk, plate = self.session.desk, hand.plate
        self.title.setText(plate.name if plate is not None else "No clean plate yet")
        known = self.session.surface_summary(hand.surface.id) if hand.surface is not None else None
        can_make = known is not None and known.row(desk.frame) is not None
        self.make.setEnabled(can_make)
        self.load.setEnabled(can_make)
        if self.make.property("primary") != (plate is None):
            self.make.setProperty("primary", plate is None)
            self.make.style().polish(self.make)
        strokes = plate.painting.strokes if plate is not None else ()
        self.strokes.rows.set_rows(
            tuple(
                Row(stroke.id, f"{number}. {stroke.brush.tool.capitalize()}", f"{stroke.brush.size_px:.0f} px",
                    stroke.is_on)
                for number, stroke in reversed(list(enumerate(strokes, 1)))
            )
        )  # fmt: skip
        self.strokes_title.setText(f"Strokes ({len(strokes)})")
        self._show_chosen()

    def _show_chosen(self) -> None:
        chosen = self.session.desk.strokes(self.session.shown)
        first, *others = [stroke.id for stroke in chosen] or [""]
        self.strokes.select(first, tuple(others))
        self.remove.setEnabled(bool(chosen))
        for widget in self._of_chosen:
            widget.setVisible(bool(chosen))
        plate = self.session.desk.plate(self.session.shown)
        has_strokes = plate is not None and bool(plate.painting.strokes)
        self.note.setVisible(not chosen)
        self.note.setText("Choose strokes to change them." if has_strokes else "Nothing is painted yet.")
        words = f"{len(chosen)} strokes chosen" if len(chosen) > 1 else "Stroke chosen"
        self.chosen_title.setText(f"{words} (Esc lets go)")
        if chosen:
            brush = chosen[0].brush
            self.size_row.set_value(brush.size_px)
            self.soft.set_value(brush.softness * 100)
            self.opacity.set_value(brush.opacity * 100)

    def advise(self, hand: InHand) -> Advised:
        fix, plate = hand.fix, hand.plate
        known = self.session.surface_summary(hand.surface.id) if hand.surface is not None else None
        if hand.surface is None or (known is not None and not known.is_known):
            words = "A clean plate lies on a followed surface, and there is none yet."
            return Advised(words, "Go to Follow", "step_follow")
        if plate is None:
            return Advised(
                "Go to a frame where the surroundings of the thing are seen well, and make a clean plate of it.",
                "Make it of this frame", "new_plate", is_urgent=False,
            )  # fmt: skip
        if fix is None:
            return Advised(
                "There is no fix in hand yet: cover the thing.", "Go to Cover", "step_cover", is_urgent=False
            )
        if isinstance(fix.fill, Plates) and plate.id not in fix.fill.plate_ids:
            return Advised(f"{fix.name} is not filled from this plate.", "Use it", self._use)
        advice = self.state_of(fix, Step.FILL)
        return next_step(Step.FILL, "Filled.") if advice.state is not State.LOOK else Advised(advice.words)

    def _use(self) -> None:
        desk = self.session.desk

        def edit(project: Project) -> Project:
            fill = project.shot(desk.shot_id).fix(desk.fix_id).fill
            ids = fill.plate_ids if isinstance(fill, Plates) else ()
            return edits.change_fix(project, desk.shot_id, desk.fix_id, fill=Plates(plate_ids=(*ids, desk.plate_id)))

        self.session.commit("Fill from plate", edit)
