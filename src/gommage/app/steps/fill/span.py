"""Closing lines as a span in the panel: how wide, from where, and stretches that differ."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from msgspec.structs import replace
from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QListWidget, QVBoxLayout, QWidget

from gommage.app.desk import Desk
from gommage.app.look.controls import Section, ValueRow, choice, pick, push_button, quiet, spaced
from gommage.app.session import Session
from gommage.app.steps.cover.lines import open_line
from gommage.app.steps.fill.commands import FillCommands
from gommage.core.document import ClosedFrom, Drawn, Fix, MattePart, Shot, Span, Stretch, edits, value_at

__all__ = ["SpanPart"]

SIDES = {
    ClosedFrom.BOTH: "Both sides", ClosedFrom.LEFT: "Its left side alone", ClosedFrom.RIGHT: "Its right side alone",
}  # fmt: skip
ROW_PX, MOST_ROWS = 24, 4


class SpanPart(QWidget):
    """What is set of a span: of the line in hand, of all of it, and of the stretch that is chosen."""

    def __init__(self, session: Session, commands: FillCommands, call: Callable[[str], None]) -> None:
        super().__init__()
        self._session, self._commands = session, commands
        self._fill = Span()
        self._part: MattePart | None = None
        self.told = quiet(name="Lines")
        self.draw = push_button("One more", partial(call, "draw_wire"), tip="Two clicks, or a stroke (Shift+I)")
        self.snap = push_button("Snap", partial(call, "snap_line"), tip="Lay the line on its wire here (Ctrl+L)")
        self.edit = push_button("Edit", partial(call, "edit_line"), tip="Drag the points of lines, in Cover")
        self.follow = push_button("Follow", partial(call, "follow_line"), tip="The line in hand, both ways (Alt+L)")
        self.follow_all = push_button("Follow all", partial(call, "follow_lines"), tip="All lines (Ctrl+Shift+L)")
        self.wide = ValueRow("Width", 0, 60, "px", 1, tip="Of the line in hand")
        self.wide.value_changed.connect(self._on_width)
        self.side = choice("Closed from", SIDES, "Left and right as one goes along the line")
        self.side.activated.connect(lambda: self._change("Closed from", closed_from=self.side.currentData()))
        self.left = ValueRow("Reach left", 0, 40, "px", 1, tip="So far off the line's rim pixels are taken on its left")
        self.right = ValueRow("Reach right", 0, 40, "px", 1, tip="The same on its right")
        for row, name in ((self.left, "left_px"), (self.right, "right_px")):
            row.value_changed.connect(lambda value, final, name=name: self._change("Reach", final, **{name: value}))
        self.stretches = QListWidget()
        self.stretches.setAccessibleName("Stretches")
        self.stretches.setToolTip("Pieces of the line in hand that are closed in a way of their own")
        self.stretches.currentRowChanged.connect(self._on_chosen)
        self.more = push_button("New stretch", self._on_more, tip="Between chosen points, else the middle of the line")
        self.less = push_button("Remove", self._on_less, tip="The chosen stretch")
        self.first = ValueRow("From", 0, 100, "%", 1, tip="Of the line's length")
        self.last = ValueRow("To", 0, 100, "%", 1, tip="Of the line's length")
        self.own_width = ValueRow("Its width", 0, 60, "px", 1, tip="Of the line there")
        self.own_softness = ValueRow("Its softness", 0, 20, "px", 1, tip="Of its rim there")
        for row, name, unit in (
            (self.first, "first", 100), (self.last, "last", 100), (self.own_width, "width_px", 1),
            (self.own_softness, "softness_px", 1),
        ):  # fmt: skip
            row.value_changed.connect(partial(self._on_own, name, unit))
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(6)
        box.addWidget(self.told)
        box.addLayout(spaced(self.draw, self.snap, self.edit))
        box.addLayout(spaced(self.follow, self.follow_all))
        box.addWidget(self.wide)
        section = Section("Stretches", is_folded=False)
        self.section = section
        section.box.addWidget(self.stretches)
        section.box.addLayout(spaced(self.more, self.less))
        for row in (self.first, self.last, self.own_width, self.own_softness):
            section.box.addWidget(row)
        box.addWidget(section)
        box.addWidget(self.side)
        box.addWidget(self.left)
        box.addWidget(self.right)

    # -- intents --------------------------------------------------------------------------------------------

    @property
    def _own(self) -> list[Stretch]:
        """The stretches of the line in hand."""
        part_id = self._part.id if self._part is not None else ""
        return [one for one in self._fill.stretches if one.part_id == part_id]

    @property
    def _chosen(self) -> Stretch | None:
        row, own = self.stretches.currentRow(), self._own
        return own[row] if 0 <= row < len(own) else None

    def _change(self, label: str, is_final: bool = True, **fields: Any) -> None:
        """Change the chosen stretch, or all of the span if none is."""
        if "closed_from" in fields:
            fields["closed_from"] = ClosedFrom(fields["closed_from"])
        chosen = self._chosen
        self._session.set_desk(hides_overlays=not is_final)  # nothing in the way while a line is judged
        if chosen is None:
            self._commands.change_span(label, is_final, **fields)
            return
        try:
            new = replace(chosen, **fields)
        except ValueError:
            return
        stretches = tuple(new if one is chosen else one for one in self._fill.stretches)
        self._commands.change_span(f"{label} of a stretch", is_final, stretches=stretches)

    def _on_own(self, name: str, unit: float, value: float, is_final: bool) -> None:
        if self._chosen is not None:
            self._change("Stretch", is_final, **{name: value / unit})

    def _on_width(self, value: float, is_final: bool) -> None:
        desk, part = self._session.desk, self._part
        if part is not None:
            self._session.set_desk(hides_overlays=not is_final)
            self._session.commit_while(
                "Width of the line", is_final, edits.change_part, desk.shot_id, part.id, grow_px=value / 2
            )

    def _on_more(self) -> None:
        part, desk = self._part, self._session.desk
        if part is None or not isinstance(part.source, Drawn):
            return
        chosen, count = sorted(desk.chosen_vertices(part.id)), len(part.source.shape.kinds)
        first, last = (chosen[0] / (count - 1), chosen[-1] / (count - 1)) if len(chosen) > 1 else (1 / 3, 2 / 3)
        fresh = Stretch(part_id=part.id, first=first, last=last, left_px=_number(self._fill.left_px, desk),
                        right_px=_number(self._fill.right_px, desk), closed_from=self._fill.closed_from)  # fmt: skip
        self._commands.change_span("New stretch", stretches=(*self._fill.stretches, fresh))
        self.stretches.setCurrentRow(len(self._own) - 1)

    def _on_less(self) -> None:
        chosen = self._chosen
        if chosen is not None:
            left = tuple(one for one in self._fill.stretches if one is not chosen)
            self._commands.change_span("Remove stretch", stretches=left)

    def _on_chosen(self) -> None:
        self._show_chosen(self._session.desk)

    # -- showing --------------------------------------------------------------------------------------------

    def show_fill(self, shot: Shot, fix: Fix, fill: Span, desk: Desk) -> None:
        """Show a span as it is."""
        lines = [part for part in fix.cover.parts if open_line(part)]
        in_hand = desk.part(self._session.project)
        self._fill, self._part = fill, in_hand if open_line(in_hand) else (lines[0] if lines else None)
        number = f"{len(lines)} line{'s' if len(lines) != 1 else ''}"
        self.told.setText(f"{number}, closed from both sides under each frame's own light")
        for one in (self.snap, self.follow, self.wide, self.more):
            one.setEnabled(self._part is not None)
        self.follow_all.setEnabled(len(lines) > 1)
        if self._part is not None:
            self.wide.set_value(2 * value_at(self._part.grow_px, desk.frame))
        words = [
            f"{100 * one.first:.0f} to {100 * one.last:.0f} %, {SIDES[one.closed_from].lower()}" for one in self._own
        ]
        shown = [self.stretches.item(row).text() for row in range(self.stretches.count())]
        if words != shown:
            row = self.stretches.currentRow()
            with QSignalBlocker(self.stretches):
                self.stretches.clear()
                self.stretches.addItems(words)
                self.stretches.setCurrentRow(min(row, len(words) - 1))
        self.stretches.setVisible(bool(words))
        self.stretches.setFixedHeight(ROW_PX * min(max(len(words), 1), MOST_ROWS) + 6)
        self._show_chosen(desk)

    def _show_chosen(self, desk: Desk) -> None:
        chosen = self._chosen
        self.less.setEnabled(chosen is not None)
        for row in (self.first, self.last, self.own_width, self.own_softness):
            row.setVisible(chosen is not None)
        of = self._fill if chosen is None else chosen
        pick(self.side, of.closed_from)
        self.left.set_value(_number(of.left_px, desk))
        self.right.set_value(_number(of.right_px, desk))
        if chosen is not None:
            part = self._part
            plain = 2 * value_at(part.grow_px, desk.frame) if part is not None else 0.0
            self.first.set_value(100 * chosen.first)
            self.last.set_value(100 * chosen.last)
            self.own_width.set_value(plain if chosen.width_px is None else chosen.width_px)
            self.own_softness.set_value(1.5 if chosen.softness_px is None else chosen.softness_px)


def _number(value: Any, desk: Desk) -> float:
    return float(value_at(value, desk.frame))
