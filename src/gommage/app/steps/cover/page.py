"""The Cover step: the parts of cover and hold-outs, what is selected in them, its edge and its time."""

from __future__ import annotations

from functools import partial
from typing import Any

from msgspec.structs import replace
from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QCheckBox, QGridLayout, QHBoxLayout, QLabel, QToolButton, QWidget

from gommage.app.lists.rows import RowList
from gommage.app.lists.summaries import life_words
from gommage.app.look.controls import (
    NameLine,
    Section,
    choice,
    heading,
    pick,
    push_button,
    quiet,
    rule,
    small_number,
    spaced,
    tool_button,
)
from gommage.app.steps.cover.file_row import FileRow
from gommage.app.steps.cover.found import FoundCommands, FoundPart
from gommage.app.steps.cover.part_menu import MATTE_ACTIONS, part_menu
from gommage.app.steps.cover.parts_list import PartDelegate, Thumbs, part_rows, sentence
from gommage.app.steps.cover.scribbles import advise_on_scribbles
from gommage.app.steps.page import Advised, InHand, Page, next_step
from gommage.core.document import (
    Combine,
    Drawn,
    Ease,
    Fix,
    FromFile,
    Matte,
    MattePart,
    Scribbled,
    Shape,
    Shared,
    Shot,
    Softness,
    edits,
    value_at,
)
from gommage.core.document.edits import Slot, matte_in, slot_of
from gommage.core.engine import State, Step

__all__ = ["CoverPage"]

MOST_PARTS = 5
COMBINE_WORDS = {Combine.ADD: "Adds", Combine.SUBTRACT: "Takes away", Combine.INTERSECT: "Keeps within"}
EASE_WORDS = {Ease.SMOOTH: "Smooth", Ease.STRAIGHT: "Straight", Ease.HELD: "Held"}
SURE = 0.5
"""A proposed key that agrees less with its edge is doubtful."""


class CoverPage(Page):
    """What is covered, and what is held out of it."""

    def build(self) -> None:
        self.title = NameLine()
        self.box.addWidget(self.title)
        self.found = FoundPart(self.session, FoundCommands(self.session, self.work), self.call)
        self.box.addWidget(self.found)
        self.lists: dict[Slot, RowList] = {}
        self._thumbs: dict[Slot, Thumbs] = {}
        for slot, words, add in (
            (Slot.COVER, "Covered", "Draw one more shape of this cover (S)"),
            (Slot.HOLD_OUTS, "Held out", "Draw what stays in front"),
        ):
            self._build_list(slot, words, add)
        self.box.addWidget(rule())
        for section in (self._shape_section(), self._edge_section(), self._time_section()):
            self.box.addWidget(section)
        self.frames = quiet(name="Frames of the fix")
        self.new = push_button(
            "New fix on this surface", lambda: self.call("new_fix"), tip="Draw round another thing (Shift+S)"
        )
        self.box.addWidget(self.frames)
        self.box.addWidget(self.new)

    # -- building -------------------------------------------------------------------------------------------

    def _build_list(self, slot: Slot, words: str, add: str) -> None:
        delegate = PartDelegate(self)
        rows = RowList(
            f"Parts: {words.lower()}", delegate, most_rows=MOST_PARTS, can_rename=True, can_move=True, takes_many=True
        )
        more = tool_button("plus", f"Add: {words.lower()}", tip=add)
        ways = tool_button("chevron-down", f"Mattes: {words.lower()}", tip="Mattes from files, shared, to files")
        ways.clicked.connect(lambda: self._show_ways(slot, ways))
        gone = tool_button("trash-2", f"Remove: {words.lower()}", tip="Remove the chosen part")
        head = QHBoxLayout()
        head.addWidget(heading(words))
        head.addStretch()
        head.addWidget(ways)
        head.addWidget(more)
        head.addWidget(gone)
        self.box.addLayout(head)
        self.box.addWidget(rows)
        self.lists[slot], self._thumbs[slot] = rows, Thumbs(self.session, str(slot), rows)
        more.clicked.connect(lambda: self.session.set_desk(tool="draw", slot=slot, draws_wire=False))
        gone.clicked.connect(lambda: self.remove(slot))
        rows.chosen.connect(lambda part_id, ids: self._choose(slot, part_id, ids))
        rows.rows.moved.connect(partial(self._on_moved, rows))
        rows.rows.renamed.connect(self._on_renamed)
        rows.menu_asked.connect(lambda part_id, at: part_menu(self, rows, part_id, slot, self.remove).popup(at))
        delegate.toggled.connect(self._on_toggled)

    def _shape_section(self) -> QWidget:
        self.shape = Section("Shape")
        self.combine = choice("What it does", COMBINE_WORDS, "What it does to what stands before it in the list")
        self.inverted = QCheckBox("Inverted")
        self.inverted.setAccessibleName("Inverted")
        self.inverted.setToolTip("All but what is inside")
        self.ride = choice("Shape rides on", {}, "What carries it; it stays where it is on this frame")
        row = QHBoxLayout()
        row.addWidget(self.combine, 1)
        row.addWidget(self.inverted)
        rides = QHBoxLayout()
        rides.addWidget(QLabel("Rides on"))
        rides.addWidget(self.ride, 1)
        self.shape.box.addLayout(row)
        self.shape.box.addLayout(rides)
        self.of_file = FileRow()
        self.of_file.changed.connect(self._on_file)
        self.shape.box.addWidget(self.of_file)
        self.combine.activated.connect(self._on_combine)
        self.inverted.toggled.connect(lambda is_on: self._change_part("Invert", is_inverted=is_on))
        self.ride.activated.connect(self._on_ride)
        return self.shape

    def _on_file(self, label: str, is_final: bool, fields: dict[str, Any]) -> None:
        part, shot_id = self._part(), self.session.desk.shot_id
        if part is not None and isinstance(part.source, FromFile):
            source = replace(part.source, **fields)
            self.session.commit_while(label, is_final, edits.change_part, shot_id, part.id, source=source)

    def _edge_section(self) -> QWidget:
        self.edge = Section("Edge")
        self.whole = choice("Edge of", {True: "All of it", False: "This part"}, "Whose edge these numbers are")
        self.outside = small_number("Soft outside", 0, 200, "px", "How far it fades outside the line")
        self.inside = small_number("Soft inside", 0, 200, "px", "How far it fades inside the line")
        self.grow = small_number("Grow", -100, 100, "px", "Move the edge outwards or inwards")
        self.shutter = small_number("Shutter", 0, 360, "°", "Blurred along its motion, as the shutter does it")
        grid = QGridLayout()
        grid.setContentsMargins(0, 0, 0, 0)
        grid.addWidget(self.whole, 0, 0, 1, 2)
        for row, column, words, widget in (
            (0, 2, "Grow", self.grow),
            (1, 0, "Outside", self.outside),
            (1, 2, "Inside", self.inside),
            (2, 2, "Shutter", self.shutter),
        ):
            grid.addWidget(QLabel(words), row, column)
            grid.addWidget(widget, row, column + 1)
        self.edge.box.addLayout(grid)
        self.whole.activated.connect(lambda: self._show_edge())
        self.outside.number_changed.connect(partial(self._on_edge, "Soft edge", "outwards_px"))
        self.inside.number_changed.connect(partial(self._on_edge, "Soft edge inside", "inwards_px"))
        self.shutter.number_changed.connect(partial(self._on_edge, "Motion softness", "shutter_deg"))
        self.grow.number_changed.connect(self._on_grow)
        return self.edge

    def _time_section(self) -> QWidget:
        self.time = Section("Time")
        self.keys = quiet(name="Keys")
        self.ease = choice("Between keys", EASE_WORDS, "How points go from key to key")
        self.reach = small_number(
            "Reach of the proposal", 2, 100, "px", "So far from the outline its edge is looked for"
        )
        self.reach.setValue(14)
        self.propose = push_button(
            "Propose a key",
            lambda: self.call("propose_key"),
            tip="Along the edge it was drawn on (Ctrl+K)",
        )
        self.on = push_button("On from here", lambda: self.call("on_from_here"), tip="It is there from this frame on")
        self.off = push_button("Off from here", lambda: self.call("off_from_here"), tip="It is gone from this frame on")
        first = QHBoxLayout()
        first.addWidget(self.propose, 1)
        first.addWidget(self.reach)
        self.time.box.addWidget(self.keys)
        self.time.box.addLayout(first)
        self.time.box.addLayout(spaced(self.on, self.off))
        last = QHBoxLayout()
        last.addWidget(QLabel("Between keys"))
        last.addWidget(self.ease, 1)
        self.time.box.addLayout(last)
        self.ease.activated.connect(self._on_ease)
        self.reach.valueChanged.connect(self._on_reach)
        return self.time

    # -- intents --------------------------------------------------------------------------------------------

    def _fix(self) -> Fix | None:
        return self.session.desk.fix(self.session.project)

    def _part(self) -> MattePart | None:
        return self.session.desk.part(self.session.project)

    def _shape(self) -> Shape | None:
        return self.session.desk.shape(self.session.project)

    def _holder(self) -> tuple[str, Slot]:
        """Return whose matte it is that the part in hand belongs to, and which."""
        shot, part = self.session.shot, self._part()
        if shot is None or part is None:
            return self.session.desk.fix_id, Slot.COVER
        return slot_of(shot, part.id)

    def _show_ways(self, slot: Slot, button: QToolButton) -> None:
        self.session.set_desk(slot=slot)
        self.pop_up(button, MATTE_ACTIONS)

    def _choose(self, slot: Slot, part_id: str, ids: tuple[str, ...]) -> None:
        others = tuple(one for one in ids if one != part_id)
        tool = self.session.desk.tool if self.session.desk.tool in ("edit", "mould") else "edit"
        self.session.set_desk(part_id=part_id, part_ids=others, vertices=(), keys=(), slot=slot, tool=tool)
        self.window().viewer.setFocus()  # type: ignore[attr-defined]  # the other hand goes on with its keys

    def remove(self, slot: Slot) -> None:
        """Remove the chosen parts of a list."""
        ids = self.lists[slot].chosen_ids()
        shot_id = self.session.desk.shot_id

        def edit(project: Any) -> Any:
            for part_id in ids:
                project = edits.remove_part(project, shot_id, part_id)
            return project

        if ids:
            self.session.commit("Remove shape" if len(ids) == 1 else f"Remove {len(ids)} shapes", edit)

    def _on_moved(self, rows: RowList, part_id: str, row: int) -> None:
        shot = self.session.shot
        if shot is not None:
            row -= row > rows.rows.row_of(part_id)
            ids = [one for one in rows.rows.ids() if one != part_id]
            own = {one.id for one in matte_in(shot, *slot_of(shot, part_id)).parts}
            place = sum(one in own for one in ids[:row])  # parts of shared mattes stand between
            self.session.commit("Reorder parts", edits.move_part, shot.id, part_id, place)

    def _on_renamed(self, part_id: str, name: str) -> None:
        for part in self.session.desk.parts(self.session.project):
            if part.id == part_id and isinstance(part.source, Drawn):
                edit = edits.change_shape
                self.session.commit("Rename", edit, self.session.desk.shot_id, part.source.shape.id, name=name)
            elif part.id == part_id and isinstance(part.source, Shared):
                self.session.commit("Rename", edits.rename_matte, self.session.desk.shot_id, part.source.matte_id, name)

    def _on_toggled(self, part_id: str) -> None:
        for part in self.session.desk.parts(self.session.project):
            if part.id == part_id:
                label = "Switch off" if part.is_on else "Switch on"
                edit = edits.change_part
                self.session.commit(label, edit, self.session.desk.shot_id, part_id, is_on=not part.is_on)

    def _change_part(self, label: str, **fields: Any) -> None:
        part = self._part()
        if part is not None:
            self.session.commit(label, edits.change_part, self.session.desk.shot_id, part.id, **fields)

    def _on_combine(self) -> None:
        combine = Combine(self.combine.currentData())
        self._change_part(COMBINE_WORDS[combine], combine=combine)

    def _on_ride(self) -> None:
        desk, part, surface_id = self.session.desk, self._part(), self.ride.currentData()
        if part is not None:
            label = f"Ride on {self.ride.currentText()}"
            if not self.session.commit(
                label, edits.set_part_surface, desk.shot_id, part.id, surface_id=surface_id, frame=desk.frame
            ):
                self._show_part()

    def _on_ease(self) -> None:
        shape = self._shape()
        if shape is not None:
            ease = Ease(self.ease.currentData())
            label = f"{EASE_WORDS[ease]} between keys"
            self.session.commit(label, edits.change_shape, self.session.desk.shot_id, shape.id, ease=ease)

    def _on_reach(self, value: float) -> None:
        self.window().shapes.proposal_reach_px = value  # type: ignore[attr-defined]

    def _edge_holder(self) -> Matte | MattePart | None:
        shot, part = self.session.shot, self._part()
        return matte_in(shot, *self._holder()) if shot and part and self.whole.currentData() else part

    def _on_edge(self, label: str, field: str, value: float, is_final: bool) -> None:
        holder = self._edge_holder()
        if holder is not None:
            self._set_edge(label, is_final, softness=replace(holder.softness, **{field: value}))

    def _on_grow(self, value: float, is_final: bool) -> None:
        self._set_edge("Grow", is_final, grow_px=value)

    def _set_edge(self, label: str, is_final: bool, **fields: Any) -> None:
        desk, part = self.session.desk, self._part()
        if self.whole.currentData() and part is not None:
            edit = edits.change_matte
            self.session.commit_while(label, is_final, edit, desk.shot_id, *self._holder(), **fields)
        elif part is not None:
            self.session.commit_while(label, is_final, edits.change_part, desk.shot_id, part.id, **fields)

    # -- showing --------------------------------------------------------------------------------------------

    def watched(self, hand: InHand) -> tuple[Any, ...]:
        desk = self.session.desk
        return (
            *super().watched(hand),
            desk.part_ids,
            desk.vertices,
            desk.proposal,
            desk.proposal_sure,
            desk.slot,
            desk.found,
        )

    def show_hand(self, hand: InHand) -> None:
        fix, frame = hand.fix, self.session.desk.frame
        self.found.show_found(self.session.desk)
        parts = (*fix.cover.parts, *fix.hold_outs.parts) if fix is not None else ()
        for widget in (self.shape, self.edge, self.time):
            widget.setEnabled(bool(parts))
            widget.setVisible(bool(parts))
        self.new.setEnabled(bool(parts))
        self.title.setText(fix.name if fix is not None else "Nothing covered yet")
        for slot, rows in self.lists.items():
            matte = getattr(fix, slot) if fix is not None else Matte()
            rows.rows.set_rows(part_rows(hand.shot, matte, frame))
            rows.setVisible(bool(matte.parts) or slot is Slot.COVER)
            rows.setToolTip(sentence(matte))
            if matte.parts:
                self._thumbs[slot].show(hand.shot, matte, frame)
        self.frames.setText(
            f"The fix lives on {life_words(fix.frames)}. Drag the ends of its bar on the frame strip to change that."
            if fix is not None and parts else ""
        )  # fmt: skip
        self._show_part()
        self._show_edge()

    def _show_part(self) -> None:
        desk, shot = self.session.desk, self.session.shot
        part = desk.part(self.session.shown)
        if part is None or shot is None:
            self.shape.say("")
            self.keys.setText("")
            return
        for rows in self.lists.values():
            rows.select(part.id, desk.part_ids)
        for combo, value in ((self.combine, part.combine), (self.ease, None)):
            if value is not None:
                pick(combo, value)
        with QSignalBlocker(self.inverted):
            self.inverted.setChecked(part.is_inverted)
        self._fill_ride(shot, part)
        is_file = isinstance(part.source, FromFile)
        self.of_file.setVisible(is_file)
        for widget in (self.time, self.ride):
            widget.setEnabled(isinstance(part.source, Drawn))
        if isinstance(part.source, Drawn):
            self._show_shape(part, part.source.shape)
        elif isinstance(part.source, FromFile):
            self.shape.say(self.of_file.show_source(part.source))
        elif isinstance(part.source, Scribbled):
            count = len(part.source.marks)
            self.shape.say(f"{count} scribble{'s' if count != 1 else ''}")
        else:
            self.shape.say("shared")

    def _fill_ride(self, shot: Shot, part: MattePart) -> None:
        wanted = [("The picture", ""), *((surface.name, surface.id) for surface in shot.surfaces)]
        have = [(self.ride.itemText(n), self.ride.itemData(n)) for n in range(self.ride.count())]
        if wanted != have:
            self.ride.clear()
            for words, surface_id in wanted:
                self.ride.addItem(words, surface_id)
        self.ride.setEnabled(isinstance(part.source, Drawn))
        if isinstance(part.source, Drawn):
            pick(self.ride, part.source.surface_id)

    def _show_shape(self, part: MattePart, shape: Shape) -> None:
        pick(self.ease, shape.ease)
        count = len(shape.kinds)
        self.shape.say(f"{shape.name or 'Shape'}, {count} points")
        frames = [key.frame for key in shape.keys]
        listed = (
            ", ".join(map(str, frames)) if len(frames) <= 6 else f"{len(frames)} frames, {frames[0]} to {frames[-1]}"
        )
        lives = f" On {life_words(part.frames)}." if part.frames else ""
        self.keys.setText(f"Keyed on {listed}.{lives}")
        self.time.say(f"{len(frames)} key{'s' if len(frames) != 1 else ''}")

    def _show_edge(self) -> None:
        holder, frame = self._edge_holder(), self.session.desk.frame
        if holder is None:
            return
        soft: Softness = holder.softness
        for number, value in (
            (self.outside, soft.outwards_px),
            (self.inside, soft.inwards_px),
            (self.shutter, soft.shutter_deg),
            (self.grow, holder.grow_px),
        ):
            number.set_value(value_at(value, frame))
        self.edge.say(f"{value_at(soft.outwards_px, frame):.0f} px outside")

    def advise(self, hand: InHand) -> Advised:
        surface, fix, desk = hand.surface, hand.fix, self.session.desk
        if desk.proposal is not None:
            doubt = "" if desk.proposal_sure >= SURE else " It agrees little with the edge it was drawn on; look well."
            return Advised(f"This is the key proposed for frame {desk.proposal}.{doubt} Escape leaves it.",
                           "Take it", "take_proposal", is_urgent=bool(doubt))  # fmt: skip
        if desk.found is not None and desk.found.open:
            return Advised("These were found. K takes the one in hand, L leaves it; lower or raise what is shown.",
                           "Take all", "take_all_found", is_urgent=False)  # fmt: skip
        part = self._part()
        if part is not None and isinstance(part.source, Scribbled):
            return advise_on_scribbles(self.session, part.id, part.source)
        known = self.session.surface_summary(surface.id) if surface is not None else None
        if not _goes_by_itself(fix) and (surface is None or (known is not None and not known.is_known)):
            words = "A cover rides on a followed surface, and there is none yet."
            return Advised(words, "Go to Follow", "step_follow")
        if fix is None or not fix.cover.parts:
            return Advised(
                "Draw round the thing, a few pixels larger than it is, so that its blur and soft edges are inside.",
                is_urgent=False,
            )
        advice = self.state_of(fix, Step.COVER)
        return next_step(Step.COVER, "Covered.") if advice.state is not State.LOOK else Advised(advice.words)


def _goes_by_itself(fix: Fix | None) -> bool:
    """Return whether a cover needs no surface: it is keyed, as a followed line is, or comes from files."""
    parts = fix.cover.parts if fix is not None else ()
    drawn = [part.source.shape for part in parts if isinstance(part.source, Drawn) and not part.source.surface_id]
    return bool(parts) and all(len(shape.keys) > 1 for shape in drawn)
