"""Dirt and marks that find themselves: started, shown by frame, taken or left by a key."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial

from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QListWidget, QVBoxLayout, QWidget

from gommage.app.desk import Desk
from gommage.app.hands.names import free_name
from gommage.app.laid_out import FoundList
from gommage.app.look.controls import Section, ValueRow, push_button, quiet, spaced
from gommage.app.session import Session
from gommage.app.steps.follow.offers import leave_offer, next_offer, take_offer
from gommage.app.work import Work
from gommage.core.cover.found import Found
from gommage.core.document import Donors, Fix, Matte, Project, Shot, Softness, Span, edits, new_id, placement
from gommage.core.document.edits import Slot
from gommage.core.document.records import Fill
from gommage.core.engine import Look, Step, found_dirt, found_marks, found_scratches, part_of

__all__ = ["FoundCommands", "FoundPart"]

LEAST_DIRT, LEAST_MARK = 7.0, 60.0
"""What is shown at first: dirt by spreads of the grain, marks by hundredths of a likeness."""
DIRT_SOFTNESS_PX, SCRATCH_SOFTNESS_PX = 2.0, 1.5
ROW_PX, MOST_ROWS, MOST_LISTED = 22, 7, 300
DIRT, SCRATCHES = "Dirt", "Scratches"


class FoundCommands:
    """What is done with what finds itself."""

    def __init__(self, session: Session, work: Work) -> None:
        self._session, self._work = session, work

    def find_dirt(self) -> None:
        """Look for dust, hairs and scratches over the shot, or the marked frames."""
        session, shot = self._session, self._session.shot
        if shot is None:
            return
        frames, words = session.desk.marked_frames, "Looking for dirt"
        told = partial(self._work.tell_later, words)

        def run(check: Callable[[], None]) -> tuple[Found, ...]:
            dirt = found_dirt(session.engine, shot, frames, check, told)
            scratches = found_scratches(session.engine, shot, frames, check)
            return (*scratches, *(one for one in dirt if not _lies_on(one, scratches)))

        self._work.run(words, "found", run, partial(self._came, LEAST_DIRT, ""))

    def find_marks(self) -> None:
        """Look for everything that looks like what the shape in hand is drawn around."""
        session, shot = self._session, self._session.shot
        fix, part = session.desk.fix(session.project), session.desk.part(session.project)
        if shot is None or fix is None or part is None:
            session.error_shown.emit("Draw round one of the marks first; that is the example.")
            return
        frame, words = session.desk.frame, "Looking for marks"
        told = partial(self._work.tell_later, words)

        self._work.run(
            words, "found", lambda check: found_marks(session.engine, shot, fix, part, frame, check, told),
            partial(self._came, LEAST_MARK, fix.id),
        )  # fmt: skip

    def _came(self, least: float, holder_id: str, found: tuple[Found, ...]) -> None:
        items = tuple(sorted(found, key=lambda one: one.frame))
        listed = FoundList(items, least, holder_id=holder_id)
        if not listed.open:
            self._session.note_shown.emit("Nothing was found." if not items else "Nothing clear; lower the threshold.")
        self._session.set_desk(found=listed if items else None, step=Step.COVER, tool="hand", look=Look.RESULT)
        if listed.open:
            self._go(listed, listed.open[0])
            self._session.note_shown.emit(f"{len(listed.open)} found: K takes one, L leaves it.")

    def _go(self, listed: FoundList, number: int) -> None:
        """Take one into the hand, and go to its frame unless it is on this one."""
        one, frame = listed.items[number], self._session.desk.frame
        self._session.set_desk(found=replace(listed, at=number), **({} if one.is_on(frame) else {"frame": one.frame}))

    def choose_found(self, number: int) -> None:
        """Take one of the list into the hand."""
        listed = self._session.desk.found
        if listed is not None and 0 <= number < len(listed.items):
            self._go(listed, number)

    def change_least(self, value: float) -> None:
        """Show what is at least so clear."""
        listed = self._session.desk.found
        if listed is not None:
            self._session.set_desk(found=replace(listed, least=value))

    def next_found(self) -> None:
        """Go to the next that is neither taken nor left."""
        next_offer(self._session)
        listed = self._session.desk.found
        if listed is not None and listed.open:
            self._go(listed, next((one for one in listed.open if one > listed.at), listed.open[0]))

    def take_found(self) -> None:
        """Cover the one in hand, and go to the next; a surface that is offered becomes one of the shot's."""
        if self._session.desk.offers is not None:
            take_offer(self._session, self._work)
            return
        listed = self._session.desk.found
        if listed is not None and listed.at in listed.open:
            self._take(listed, [listed.at])

    def leave_found(self) -> None:
        """Leave the one in hand as it is, and go to the next."""
        leave_offer(self._session)
        listed = self._session.desk.found
        if listed is not None and listed.at in listed.open:
            self._go_on(replace(listed, done=listed.done | {listed.at}))

    def take_all_found(self) -> None:
        """Cover all that are shown."""
        listed = self._session.desk.found
        if listed is not None and listed.open:
            self._take(listed, listed.open)

    def forget_found(self) -> None:
        """Drop what was found and not taken."""
        self._session.set_desk(found=None, offered=None)

    def _take(self, listed: FoundList, numbers: list[int]) -> None:
        session, shot = self._session, self._session.shot
        if shot is None:
            return
        taken = [listed.items[number] for number in numbers]
        label = f"Cover a {taken[0].words}" if len(taken) == 1 else f"Cover {len(taken)} that were found"
        ids: list[str] = []

        def edit(project: Project) -> Project:
            ids.clear()
            for is_line in (False, True):
                ones = [one for one in taken if (one.part is not None) == is_line]
                if ones:
                    project, fix_id = _covered(project, shot.id, listed.holder_id, ones, is_line)
                    ids.append(fix_id)
            return project

        if session.commit(label, edit):
            session.set_desk(fix_id=ids[0], fix_ids=(ids[0],))
            self._go_on(replace(listed, done=listed.done | set(numbers)))

    def _go_on(self, listed: FoundList) -> None:
        if not listed.open:
            self._session.set_desk(found=None)
            self._session.note_shown.emit("That was all that was found.")
            return
        self._go(listed, next((one for one in listed.open if one > listed.at), listed.open[0]))


def _covered(project: Project, shot_id: str, holder_id: str, found: list[Found], is_line: bool) -> tuple[Project, str]:
    """Return the project with what was found covered: by the fix that is told, or by one of its own; and that fix."""
    shot: Shot = project.shot(shot_id)
    name = SCRATCHES if is_line else DIRT
    holder = next((one for one in shot.fixes if one.id == holder_id), None)
    holder = holder or next((one for one in shot.fixes if one.name.startswith(name)), None)
    if holder is None:
        softness = Softness(outwards_px=SCRATCH_SOFTNESS_PX if is_line else DIRT_SOFTNESS_PX)
        holder = Fix(id=new_id(), name=free_name(name, shot.fixes), cover=Matte(softness=softness),
                     fill=_fill_for(shot, is_line))  # fmt: skip
        project = edits.add_fix(project, shot_id, holder)
    for one in found:
        project = edits.add_part(project, shot_id, holder.id, Slot.COVER, part_of(one))
    return project, holder.id


def _fill_for(shot: Shot, is_line: bool) -> Fill:
    """Return what dirt is filled from: other frames along what is followed, else what is beside it."""
    followed = tuple(one.id for one in shot.surfaces if placement(shot, one) is not None and not one.rides_on)[:1]
    return Donors(surface_ids=followed) if followed or not is_line else Span()


def _lies_on(one: Found, scratches: tuple[Found, ...]) -> bool:
    """Return whether a speck is a piece of a scratch."""
    x, y = one.outline_on(one.frame).mean(axis=0)
    for scratch in scratches:
        if scratch.is_on(one.frame):
            line = scratch.outline_on(one.frame)
            if abs(float((line[:, 0] - x)[abs(line[:, 1] - y).argmin()])) < 8:
                return True
    return False


class FoundPart(QWidget):
    """What finds itself, and what of it is to be taken or left."""

    def __init__(self, session: Session, commands: FoundCommands, call: Callable[[str], None]) -> None:
        super().__init__()
        self._session, self._commands = session, commands
        self._shown: FoundList | None = None
        self.dirt = push_button("Dirt", partial(call, "find_dirt"), tip="Dust, hairs, scratches (Ctrl+Shift+J)")
        self.marks = push_button("Marks like this", partial(call, "find_marks"), tip="As the shape in hand (Ctrl+J)")
        self.told = quiet(name="Found")
        self.least = ValueRow("At least", 3, 100, "", 1, tip="Less clear ones are not shown")
        self.least.value_changed.connect(lambda value, final: commands.change_least(value))
        self.list = QListWidget()
        self.list.setAccessibleName("What was found")
        self.list.currentRowChanged.connect(self._on_row)
        self.take = push_button("Take", partial(call, "take_found"), tip="Cover it (K)")
        self.leave = push_button("Leave", partial(call, "leave_found"), tip="Not this one (L)")
        self.all = push_button("Take all", partial(call, "take_all_found"), tip="All that are shown (Shift+U)")
        self.rest = QWidget()
        inner = QVBoxLayout(self.rest)
        inner.setContentsMargins(0, 0, 0, 0)
        inner.setSpacing(6)
        for widget in (self.told, self.least, self.list):
            inner.addWidget(widget)
        inner.addLayout(spaced(self.take, self.leave, self.all))
        section = Section("Find", is_folded=False)
        section.box.addLayout(spaced(self.dirt, self.marks))
        section.box.addWidget(self.rest)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.addWidget(section)

    def _on_row(self, row: int) -> None:
        if self._shown is not None and 0 <= row < len(self._shown.open):
            self._commands.choose_found(self._shown.open[row])

    def show_found(self, desk: Desk) -> None:
        """Show what was found, and the one in hand."""
        listed = desk.found
        self.rest.setVisible(listed is not None)
        self._shown = listed
        if listed is None:
            return
        self.least.set_value(listed.least)
        numbers = listed.open
        here = sum(listed.items[number].is_on(desk.frame) for number in numbers)
        on_frame = f", {here} on this frame" if here else ""
        self.told.setText(f"{len(numbers)} to take or leave{on_frame}")
        shown = numbers[:MOST_LISTED]
        words = [
            f"{listed.items[number].frame}   {listed.items[number].words}, {listed.items[number].score:.0f}"
            for number in shown
        ]
        if len(numbers) > len(shown):
            words.append(f"{len(numbers) - len(shown)} more; raise what is shown")
        with QSignalBlocker(self.list):
            if words != [self.list.item(row).text() for row in range(self.list.count())]:
                self.list.clear()
                self.list.addItems(words)
            self.list.setCurrentRow(shown.index(listed.at) if listed.at in shown else -1)
        self.list.setFixedHeight(ROW_PX * min(max(len(words), 1), MOST_ROWS) + 6)
