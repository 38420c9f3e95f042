"""What of a fill from other frames is set: the surfaces behind, the frames, and how much they show."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from PySide6.QtCore import QSignalBlocker, Qt
from PySide6.QtWidgets import QHBoxLayout, QLabel, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from gommage.app.desk import Desk
from gommage.app.look.controls import Section, ValueRow, choice, pick, push_button, quiet, small_number, spaced
from gommage.app.session import Session
from gommage.app.steps.fill.commands import FillCommands
from gommage.core.document import Donors, DonorSide, Fix, FrameRange, Frames, Shot
from gommage.core.engine import Look
from gommage.core.engine.steps import SEEN_ENOUGH, is_of_lines

__all__ = ["DonorsPart"]

SIDES = {DonorSide.BOTH: "Before and after", DonorSide.BEFORE: "Before alone", DonorSide.AFTER: "After alone"}
ROW_PX, MOST_ROWS = 24, 5

ALONG = "Along the surfaces behind it"
BY_PIECE = "Each piece by itself, from the frames beside: for damage of a frame or two"


class DonorsPart(QWidget):
    """The settings of a fill from donor frames."""

    def __init__(self, session: Session, commands: FillCommands, call: Callable[[str], None]) -> None:
        super().__init__()
        self._session, self._commands = session, commands
        self.surfaces = QListWidget()
        self.surfaces.setAccessibleName("Surfaces behind")
        self.surfaces.setToolTip("Ticked ones are filled along, the upper in front; the lowest is everywhere")
        self.surfaces.itemChanged.connect(self._on_ticked)
        self.side = choice("Donors on which side", SIDES, "From frames before, after, or both")
        self.side.activated.connect(lambda: self._change("Donors on one side", side=DonorSide(self.side.currentData())))
        self.step = small_number("Every so many frames", 1, 99, "", "Take every so many frames")
        self.step.setDecimals(0)
        self.step.valueChanged.connect(lambda value: self._change("Every so many frames", step=int(value)))
        self.marked = push_button("Marked frames alone", self._mark, tip="Take from the marked frames alone")
        self.every = push_button("All frames", partial(self._change, "From all frames", frames=()))
        self.frames = quiet(name="Frames to take from")
        self.reach = ValueRow(
            "Left-over motion up to", 0, 4, "px", 1, tip="Each frame is moved by so much at most to fit the cover's rim"
        )
        self.reach.value_changed.connect(
            lambda value, final: commands.change_donors("Left-over motion", final, reach_px=value)
        )
        self.told = quiet(name="Seen elsewhere")
        self.map = push_button("Donor map", partial(call, "donor_map"), tip="From which frame each pixel comes (P)")
        self.map.setCheckable(True)
        self.least = push_button("Least seen", partial(call, "least_seen"), tip="The frame that others show least of")
        self.rest_title = quiet("What no frame shows", name="The rest")
        self.plate = push_button(
            "Clean plate", partial(call, "plate_for_rest"), tip="Merge one of that surface, and paint that alone on it"
        )
        self.texture = push_button(
            "Texture", partial(call, "texture_for_rest"), tip="Merge a plate, and close that alone with pieces of it"
        )
        self.strokes = push_button("Strokes", partial(call, "paint_on_shot"), tip="Paint it on the shot")
        times = QHBoxLayout()
        for widget in (self.side, QLabel("every"), self.step):
            times.addWidget(widget, int(widget is self.side))
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(6)
        self.along = quiet(name="How frames are brought")
        box.addWidget(self.along)
        box.addWidget(self.surfaces)
        self.times = Section("Frames", is_folded=True)
        self.times.box.addLayout(times)
        self.times.box.addWidget(self.frames)
        self.times.box.addLayout(spaced(self.marked, self.every))
        self.times.box.addWidget(self.reach)
        box.addWidget(self.times)
        box.addWidget(self.told)
        box.addLayout(spaced(self.map, self.least))
        box.addWidget(self.rest_title)
        box.addLayout(spaced(self.plate, self.texture, self.strokes))

    def _change(self, label: str, **fields: Any) -> None:
        self._commands.change_donors(label, **fields)

    def _mark(self) -> None:
        marked = self._session.desk.marked_frames
        if marked is not None:
            self._change("From marked frames", frames=(Frames(first=marked.first, last=marked.last),))

    def _on_ticked(self) -> None:
        ticked = [
            item.data(Qt.ItemDataRole.UserRole)
            for row in range(self.surfaces.count())
            if (item := self.surfaces.item(row)).checkState() is Qt.CheckState.Checked
        ]
        self._change("Surfaces behind", surface_ids=tuple(reversed(ticked)))  # listed as they lie: front on top

    # -- showing --------------------------------------------------------------------------------------------

    def show_fill(self, shot: Shot, fix: Fix, fill: Donors, desk: Desk) -> None:
        """Show a fill as it is, and ask how much of the cover its donors show."""
        self._show_surfaces(shot, fill)
        self.along.setText(ALONG if fill.surface_ids else BY_PIECE)
        self.reach.setVisible(bool(fill.surface_ids))
        pick(self.side, fill.side)
        with QSignalBlocker(self.step):
            self.step.setValue(fill.step)
        self.reach.set_value(fill.reach_px)
        frames = _words_of(fill.frames, shot.footage.frames)
        self.frames.setText(f"From {frames}")
        often = f", every {fill.step}" if fill.step > 1 else ""
        self.times.say(f"{frames}, {SIDES[fill.side].lower()}{often}")
        self.marked.setEnabled(desk.marked is not None)
        self.every.setEnabled(bool(fill.frames))
        self.map.setChecked(desk.look is Look.DONOR_MAP)
        self._session.ask_seen(fix.id)
        seen = self._session.seen(fix.id)
        self.told.setText(_told(seen, desk.frame))
        lacks = bool(seen) and min(seen.values()) < SEEN_ENOUGH
        self.least.setEnabled(lacks)
        for one in (self.plate, self.texture):
            one.setEnabled(lacks and not fill.rest_plate_ids)
        self.strokes.setEnabled(lacks)
        names = ", ".join(shot.clean_plate(one).name for one in fill.rest_plate_ids)
        names = names or ("both sides" if is_of_lines(fix) else "")
        self.rest_title.setText(f"What no frame shows, from {names}" if names else "What no frame shows")

    def _show_surfaces(self, shot: Shot, fill: Donors) -> None:
        wanted = [
            (one.id, one.name, one.id in fill.surface_ids)
            for one in reversed(shot.surfaces)
        ]  # fmt: skip
        shown = [
            (item.data(Qt.ItemDataRole.UserRole), item.text(), item.checkState() is Qt.CheckState.Checked)
            for item in (self.surfaces.item(row) for row in range(self.surfaces.count()))
        ]
        self.surfaces.setVisible(bool(wanted))
        if wanted == shown:
            return
        with QSignalBlocker(self.surfaces):
            self.surfaces.clear()
            for surface_id, name, is_ticked in wanted:
                item = QListWidgetItem(name)
                item.setData(Qt.ItemDataRole.UserRole, surface_id)
                item.setFlags(Qt.ItemFlag.ItemIsUserCheckable | Qt.ItemFlag.ItemIsEnabled)
                item.setCheckState(Qt.CheckState.Checked if is_ticked else Qt.CheckState.Unchecked)
                self.surfaces.addItem(item)
        self.surfaces.setFixedHeight(ROW_PX * min(max(len(wanted), 1), MOST_ROWS) + 6)


def _words_of(frames: tuple[Frames, ...], whole: FrameRange) -> str:
    found = [one for life in frames if (one := life.within(whole)) is not None]
    return "frames " + ", ".join(f"{one.first}–{one.last}" for one in found) if found else "all frames"


def _told(seen: dict[int, float], frame: int) -> str:
    """Return how much of the cover other frames show, in words."""
    if not seen:
        return "Looking where else it is seen…"
    worst = min(seen, key=lambda one: seen[one])
    if seen[worst] >= SEEN_ENOUGH:
        return "Everything it hides is seen on some other frame."
    here = f"{_percent(seen[frame])} seen elsewhere on this frame; " if frame in seen else ""
    lacking = sum(share < SEEN_ENOUGH for share in seen.values())
    more = f" {lacking} frames lack something." if lacking > 1 else ""
    return f"{here}least on {worst}: {_percent(seen[worst])}.{more}"


def _percent(share: float) -> str:
    return f"{100 * min(share, 0.999 if share < 1 else 1):.1f} %" if share < 1 else "all"
