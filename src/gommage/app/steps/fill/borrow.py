"""Borrowing in the panel, and what is done there."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from msgspec.structs import replace
from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QHBoxLayout, QLabel, QVBoxLayout, QWidget

from gommage.app.desk import Desk
from gommage.app.hands.borrow import placed
from gommage.app.look.controls import ValueRow, choice, pick, push_button, quiet, small_number, spaced, tick_box
from gommage.app.session import Session
from gommage.app.steps.fill.times import told_time
from gommage.core.cover import matte_on, reach_of
from gommage.core.document import (
    Borrow,
    Fix,
    FrameOffset,
    Keys,
    PinnedFrame,
    Place,
    Shot,
    changed_on,
    edits,
    value_at,
    with_key,
)
from gommage.core.engine import FoundPlace, Look, Priority, Step, found_places

__all__ = ["BorrowCommands", "BorrowPart"]

TIMES = {"offset": "Frames away", "pinned": "Always frame"}
MOVED = ("dx", "dy", "turn_deg", "scale")


class BorrowCommands:
    """What is done with what is borrowed: begun, found, told from where."""

    def __init__(self, session: Session) -> None:
        self._session = session
        self._found_for: tuple[str, str, int] = ("", "", 0)
        self._places: tuple[FoundPlace, ...] = ()
        self._number = -1

    def _found(self) -> tuple[Shot, Fix, str] | None:
        """Return the fix in hand with the part whose place is meant; empty: all of it."""
        shot, fix = self._session.shot, self._session.desk.fix(self._session.project)
        if shot is None or fix is None:
            return None
        ids = [part.id for part in fix.cover.parts]
        part_id = self._session.desk.part_id if len(ids) > 1 and self._session.desk.part_id in ids else ""
        return shot, fix, part_id

    def fill_from_beside(self) -> None:
        """Borrow from beside, or from another frame; the best place is looked for at once."""
        found = self._found()
        if found is None or isinstance(found[1].fill, Borrow):
            return
        desk, fix = self._session.desk, found[1]
        if self._session.commit(f"Borrow for {fix.name}", edits.change_fix, desk.shot_id, fix.id, fill=Borrow()):
            self._session.set_desk(step=Step.FILL, tool="borrow", look=Look.RESULT)
            self.find_place()

    def find_place(self) -> None:
        """Find where surroundings are most alike; again: the next best."""
        found, session = self._found(), self._session
        if found is None or not isinstance(found[1].fill, Borrow):
            return
        shot, fix, part_id = found
        frame = session.desk.frame
        if self._found_for == (fix.id, part_id, frame) and self._places:
            self._take((self._number + 1) % len(self._places))
            return
        if reach_of(matte_on(shot, fix.cover, frame), shot.footage.bounds).is_empty:
            session.error_shown.emit(f"Nothing is covered on frame {frame}. Cover what is to be filled first.")
            return
        place = found[1].fill.place_of(part_id)

        def came(places: tuple[FoundPlace, ...]) -> None:
            if not places:
                session.error_shown.emit("No place is like what is around it. Drag the source by hand.")
                return
            self._found_for, self._places = (fix.id, part_id, frame), places
            self._take(0)

        session.submit(
            ("place", fix.id, part_id, frame), Priority.SCREEN,
            lambda check: found_places(session.engine, shot, fix, part_id, place, frame, check), came,
        )  # fmt: skip

    def _take(self, number: int) -> None:
        found = self._found()
        if found is None or not isinstance(found[1].fill, Borrow):
            return
        self._number = number
        best, time = self._places[number].place, self._places[number].place.time
        self.change_place("Found a place", dx=best.dx, dy=best.dy, time=time)
        away = time.frames if isinstance(time, FrameOffset) else 0
        where = f"{abs(away)} frames {'later' if away > 0 else 'before'}" if away else "on the same frame"
        self._session.note_shown.emit(f"Place {number + 1} of {len(self._places)}, {where}. The next with Alt+J.")

    def change_place(self, label: str, is_final: bool = True, **fields: Any) -> None:
        """Change where the part in hand is borrowed from."""
        found = self._found()
        if found is None or not isinstance(found[1].fill, Borrow):
            return
        _, fix, part_id = found
        fill = found[1].fill
        new = replace(fill.place_of(part_id), part_id=part_id, **fields)
        desk = self._session.desk
        self._session.commit_while(label, is_final, edits.change_fix, desk.shot_id, fix.id, fill=placed(fill, new))

    def change_borrow(self, label: str, **fields: Any) -> None:
        """Change what holds for all that is borrowed."""
        found, desk = self._found(), self._session.desk
        if found is not None and isinstance(found[1].fill, Borrow):
            fill = replace(found[1].fill, **fields)
            self._session.commit(label, edits.change_fix, desk.shot_id, found[1].id, fill=fill)

    def key_place(self) -> None:
        """Key where it is borrowed from on this frame, or take the keys off."""
        found, frame = self._found(), self._session.desk.frame
        if found is None or not isinstance(found[1].fill, Borrow):
            return
        place = found[1].fill.place_of(found[2])
        is_keyed = any(isinstance(getattr(place, name), Keys) for name in MOVED)
        fields: dict[str, Any] = {
            name: value_at(getattr(place, name), frame)
            if is_keyed
            else with_key(getattr(place, name), frame, value_at(getattr(place, name), frame))
            for name in MOVED
        }
        self.change_place("Take keys off" if is_keyed else f"Key the place on {frame}", **fields)


class BorrowPart(QWidget):
    """What a fill that borrows may be told."""

    def __init__(self, session: Session, commands: BorrowCommands, call: Callable[[str], None]) -> None:
        super().__init__()
        self._session, self._commands = session, commands
        self.told = quiet(name="Borrowed")
        self.search = push_button("Find a place", partial(call, "find_place"), tip="The best; again: the next (Alt+J)")
        self.drag = push_button("Drag it", partial(call, "tool_borrow"), tip="Drag the source in the picture (Alt+B)")
        self.across = ValueRow("Across", -2000, 2000, "px", 1, tip="So far to the right")
        self.down = ValueRow("Down", -2000, 2000, "px", 1, tip="So far down")
        self.turn = ValueRow("Turn", -180, 180, "°", 1, tip="The source, about the middle of what is covered")
        self.sized = ValueRow("Size", 0.2, 5, "", 2, curve=2.0, tip="Above 1 it is enlarged")
        for row, name in zip((self.across, self.down, self.turn, self.sized), MOVED, strict=True):
            row.value_changed.connect(partial(self._on_number, name))
        self.mirrored = tick_box("Mirrored", "Left to right", lambda on: self._change("Mirrored", is_mirrored=on))
        self.along = tick_box(
            "Along the surface", "It moves with the surface", lambda on: self._change("Along", runs_along=on)
        )
        self.lit = tick_box("Lit as here", "Each piece under the light around it",
                         lambda on: commands.change_borrow("Light of what is borrowed", is_lit=on))  # fmt: skip
        self.key = push_button("Key it", commands.key_place, tip="From here on the place changes over time")
        self.key.setCheckable(True)
        self.time = choice("From which frame", TIMES, "Another frame than the one that is filled, or always the same")
        self.time.activated.connect(self._on_time)
        self.frames = small_number("Frames", -9999, 99999, "", "How many frames, or which")
        self.frames.setDecimals(0)
        self.frames.valueChanged.connect(self._on_time)
        times = QHBoxLayout()
        times.addWidget(QLabel("From"))
        times.addWidget(self.time, 1)
        times.addWidget(self.frames)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(6)
        box.addWidget(self.told)
        box.addLayout(spaced(self.search, self.drag))
        box.addLayout(times)
        for row in (self.across, self.down, self.turn, self.sized):
            box.addWidget(row)
        box.addLayout(spaced(self.mirrored, self.key))
        box.addLayout(spaced(self.along, self.lit))

    def _change(self, label: str, is_final: bool = True, **fields: Any) -> None:
        self._commands.change_place(label, is_final, **fields)

    def _on_number(self, name: str, value: float, is_final: bool) -> None:
        fix, desk = self._session.desk.fix(self._session.project), self._session.desk
        if fix is not None and isinstance(fix.fill, Borrow):
            place = fix.fill.place_of(desk.part_id if len(fix.cover.parts) > 1 else "")
            self._change("Borrow from there", is_final, **{name: changed_on(getattr(place, name), desk.frame, value)})

    def _on_time(self) -> None:
        found, desk = self._session.desk.fix(self._session.project), self._session.desk
        if found is not None and isinstance(found.fill, Borrow):
            place = found.fill.place_of(desk.part_id if len(found.cover.parts) > 1 else "")
            is_pinned = self.time.currentData() == "pinned"
            self._change(
                "From another frame", time=told_time(place.time, is_pinned, int(self.frames.value()), desk.frame)
            )

    def show_fill(self, shot: Shot, fix: Fix, fill: Borrow, desk: Desk) -> None:
        """Show a fill as it is."""
        ids = [part.id for part in fix.cover.parts]
        part_id = desk.part_id if len(ids) > 1 and desk.part_id in ids else ""
        place: Place = fill.place_of(part_id)
        own = sum(bool(one.part_id) for one in fill.places)
        which = f"Part {ids.index(part_id) + 1} of {len(ids)}" if part_id else "All that has no place of its own"
        self.told.setText(f"{which}; {own} with places of their own" if own else "The cover, filled from elsewhere")
        for row, name in zip((self.across, self.down, self.turn, self.sized), MOVED, strict=True):
            row.set_value(value_at(getattr(place, name), desk.frame))
        is_pinned = isinstance(place.time, PinnedFrame)
        with QSignalBlocker(self.frames):
            self.frames.setValue(place.time.frame if isinstance(place.time, PinnedFrame) else place.time.frames)
        pick(self.time, "pinned" if is_pinned else "offset")
        self.along.setVisible(bool(fix.surface_id))
        for box, on in ((self.mirrored, place.is_mirrored), (self.along, place.runs_along), (self.lit, fill.is_lit)):
            with QSignalBlocker(box):
                box.setChecked(on)
        self.key.setChecked(any(isinstance(getattr(place, name), Keys) for name in MOVED))
