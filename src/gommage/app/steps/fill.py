"""The Fill step: clean plates, and the strokes on the one in hand."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QLabel, QWidget

from gommage.app.desk import Desk, Life
from gommage.app.hands.next_stroke import LIFE_WORDS, frames_of
from gommage.app.lists.rows import LineDelegate, Row, RowList
from gommage.app.lists.summaries import life_words
from gommage.app.look.controls import (
    NameLine,
    ValueRow,
    choice,
    heading,
    pick,
    push_button,
    quiet,
    rule,
    spaced,
    tool_button,
)
from gommage.app.steps.page import Advised, InHand, Page, next_step
from gommage.core.document import Fix, Plates, Project, Stroke, edits, is_within
from gommage.core.engine import Look, State, Step

__all__ = ["FillPage"]

MOST_STROKES = 7
ON_WORDS = {"plate": "A clean plate", "shot": "The shot"}
CHANGE_WORDS: dict[str, str] = {"": "Frames…", **{str(life): words for life, words in LIFE_WORDS.items()}}


class FillPage(Page):
    """What the cover is filled with."""

    def build(self) -> None:
        self.title = NameLine()
        self.on = choice("Paint on", ON_WORDS, "On a still that is carried along, or on every frame itself")
        self.on.activated.connect(self._on_paints)
        on_row = QHBoxLayout()
        on_row.addWidget(QLabel("Paint on"))
        on_row.addWidget(self.on, 1)
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
        self.here = QCheckBox("On this frame")
        self.here.setAccessibleName("On this frame")
        self.here.setToolTip("List the strokes of this frame alone")
        self.here.toggled.connect(lambda is_on: self.session.set_desk(lists_all=not is_on))
        self.remove = tool_button("trash-2", "Remove strokes", tip="Remove the chosen strokes (Delete)")
        self.chosen_title = heading("")
        self.size_row = ValueRow("Size", 1, 400, "px", curve=2.0, tip="Diameter of the chosen strokes")
        self.soft = ValueRow("Softness", 0, 100, "%", tip="Of the chosen strokes")
        self.opacity = ValueRow("Opacity", 0, 100, "%", tip="Of the chosen strokes")
        self.life = choice("Frames of the chosen strokes", CHANGE_WORDS, "For which frames they live")
        self.life.activated.connect(self._on_life)
        self.switch = push_button("Switch", self._on_switch, tip="Switch the chosen strokes off or on")
        self._life_row = QWidget()
        self._life_row.setLayout(spaced(self.life, self.switch))
        self.note = quiet(name="Strokes, in short")
        strokes_row = QHBoxLayout()
        strokes_row.addWidget(self.strokes_title, 1)
        strokes_row.addWidget(self.here)
        strokes_row.addWidget(self.remove)
        self.box.addWidget(self.title)
        self.box.addLayout(on_row)
        self.box.addWidget(self.make_title)
        self.box.addLayout(spaced(self.make, self.load))
        self.box.addWidget(rule())
        self.box.addLayout(strokes_row)
        self._of_chosen = (rule(), self.chosen_title, self.size_row, self.soft, self.opacity, self._life_row)
        for widget in (self.strokes, self.note, *self._of_chosen):
            self.box.addWidget(widget)
        self.strokes.chosen.connect(lambda _, all_ids: self.session.set_desk(stroke_ids=all_ids))
        self.remove.clicked.connect(lambda: self.call("remove_strokes"))
        self.size_row.value_changed.connect(lambda v, final: self._on_value("size_px", v, final))
        self.soft.value_changed.connect(lambda v, final: self._on_value("softness", v / 100, final))
        self.opacity.value_changed.connect(lambda v, final: self._on_value("opacity", v / 100, final))

    # -- intents --------------------------------------------------------------------------------------------

    def _on_paints(self) -> None:
        desk = self.session.desk
        if self.on.currentData() == "shot":
            self.call("paint_on_shot")
        else:
            look = Look.CLEAN_PLATE if desk.plate(self.session.project) is not None else Look.RESULT
            self.session.set_desk(paints_shot=False, stroke_ids=(), look=look)

    def _on_value(self, field: str, value: float, final: bool) -> None:
        """Change the chosen strokes, all alike."""
        self._change(final, edits.change_brush, **{field: value})

    def _on_life(self) -> None:
        desk, chosen = self.session.desk, self.life.currentData()
        if chosen:
            self._change(True, edits.change_strokes, frames=frames_of(replace(desk, life=Life(chosen))))

    def _on_switch(self) -> None:
        chosen = self.session.desk.strokes(self.session.project)
        if chosen:
            self._change(True, edits.change_strokes, is_on=not chosen[0].is_on)

    def _change(self, final: bool, edit: Any, **fields: Any) -> None:
        desk = self.session.desk
        holder_id, _ = desk.painting(self.session.project)
        if desk.stroke_ids and holder_id:
            label = "Change stroke" if len(desk.stroke_ids) == 1 else f"Change {len(desk.stroke_ids)} strokes"
            self.session.commit_while(label, final, edit, desk.shot_id, holder_id, desk.stroke_ids, **fields)

    # -- showing --------------------------------------------------------------------------------------------

    def watched(self, hand: InHand) -> tuple[Any, ...]:
        desk = self.session.desk
        return (*super().watched(hand), desk.stroke_ids, desk.paints_shot, desk.lists_all)

    def show_hand(self, hand: InHand) -> None:
        desk, plate, fix = self.session.desk, hand.plate, hand.fix
        on_shot = desk.paints_shot
        pick(self.on, "shot" if on_shot else "plate")
        if on_shot:
            self.title.setText(fix.name if fix is not None else "No fix in hand")
        else:
            self.title.setText(plate.name if plate is not None else "No clean plate yet")
        known = self.session.surface_summary(hand.surface.id) if hand.surface is not None else None
        can_make = known is not None and known.row(desk.frame) is not None
        for widget in (self.make_title, self.make, self.load):
            widget.setVisible(not on_shot)
            widget.setEnabled(can_make)
        if self.make.property("primary") != (plate is None):
            self.make.setProperty("primary", plate is None)
            self.make.style().polish(self.make)
        self._show_strokes(desk, on_shot=on_shot)
        self._show_chosen()

    def _show_strokes(self, desk: Desk, *, on_shot: bool) -> None:
        strokes = desk.painting(self.session.shown)[1].strokes
        self.here.setVisible(on_shot)
        with QSignalBlocker(self.here):
            self.here.setChecked(not desk.lists_all)
        numbered = [
            (number, stroke)
            for number, stroke in enumerate(strokes, 1)
            if not on_shot or desk.lists_all or is_within(stroke.frames, desk.frame)
        ]
        self.strokes.rows.set_rows(
            tuple(
                Row(stroke.id, f"{number}. {stroke.brush.tool.capitalize()}", _detail(stroke, on_shot=on_shot),
                    stroke.is_on and (not on_shot or is_within(stroke.frames, desk.frame)))
                for number, stroke in reversed(numbered)
            )
        )  # fmt: skip
        count = f"{len(numbered)} of {len(strokes)}" if len(numbered) < len(strokes) else f"{len(strokes)}"
        self.strokes_title.setText(f"Strokes ({count})")

    def _show_chosen(self) -> None:
        chosen = self.session.desk.strokes(self.session.shown)
        first, *others = [stroke.id for stroke in chosen] or [""]
        self.strokes.select(first, tuple(others))
        self.remove.setEnabled(bool(chosen))
        for widget in self._of_chosen:
            widget.setVisible(bool(chosen))
        has_strokes = bool(self.session.desk.painting(self.session.shown)[1].strokes)
        self._life_row.setVisible(bool(chosen) and self.session.desk.paints_shot)
        pick(self.life, "")
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
        if self.session.desk.paints_shot:
            return self._advise_on_shot(fix)
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

    def _advise_on_shot(self, fix: Fix | None) -> Advised:
        if fix is None:
            return Advised("Strokes belong to a fix, and none is in hand.", "Paint on the shot", "paint_on_shot")
        if not fix.touch_up.strokes:
            return Advised(
                "Paint over the thing. Pixels come from beside (Alt-click), or from another frame: set it above.",
                is_urgent=False,
            )
        if not fix.cover.parts:
            return Advised("Step through the frames on which the strokes live.", "Go to Check", "step_check",
                           is_urgent=False)  # fmt: skip
        advice = self.state_of(fix, Step.FILL)
        return next_step(Step.FILL, "Filled.") if advice.state is not State.LOOK else Advised(advice.words)

    def _use(self) -> None:
        desk = self.session.desk

        def edit(project: Project) -> Project:
            fill = project.shot(desk.shot_id).fix(desk.fix_id).fill
            ids = fill.plate_ids if isinstance(fill, Plates) else ()
            return edits.change_fix(project, desk.shot_id, desk.fix_id, fill=Plates(plate_ids=(*ids, desk.plate_id)))

        self.session.commit("Fill from plate", edit)


def _detail(stroke: Stroke, *, on_shot: bool) -> str:
    """Return what is to be said of a stroke in its line."""
    size = f"{stroke.brush.size_px:.0f} px"
    return f"{life_words(stroke.frames)}, {size}" if on_shot else size
