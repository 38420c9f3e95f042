"""Laid pictures in the panel, and what is done with them."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QLabel, QVBoxLayout, QWidget

from gommage.app.brush_form import BLEND_WORDS
from gommage.app.desk import Desk
from gommage.app.files import PICTURE_FILTER
from gommage.app.hands.names import free_name
from gommage.app.look.controls import choice, pick, push_button, quiet, small_number, spaced, tick_box
from gommage.app.session import Session
from gommage.app.steps.fill.times import told_time
from gommage.core.document import (
    Array,
    Blend,
    Fix,
    Matte,
    PinnedFrame,
    Placed,
    Project,
    Shot,
    edits,
    new_id,
)
from gommage.core.document.edits import Slot
from gommage.core.engine import Look, Priority, Step, find_picture, fitted_corners, near_frame
from gommage.core.fill.placed import frame_laid
from gommage.errors import FootageError

__all__ = ["PictureCommands", "PicturePart"]

TIMES = {"offset": "Frames away", "pinned": "Always number"}
NEAR = 10
"""The frame that is laid over another to begin with is so far away."""


class PictureCommands:
    """What is done with pictures that are laid: chosen, fitted, cut out."""

    def __init__(self, session: Session, window: QWidget | None = None) -> None:
        self._session, self._window = session, window

    def _found(self) -> tuple[Shot, Fix, Placed] | None:
        shot, fix = self._session.shot, self._session.desk.fix(self._session.project)
        return (shot, fix, fix.fill) if shot and fix is not None and isinstance(fix.fill, Placed) else None

    def fill_from_picture(self, path: Path | None = None) -> None:
        """Lay a picture, numbered ones or a movie on the surface of the fix in hand; without a fix as a new one."""
        session, shot, desk = self._session, self._session.shot, self._session.desk
        if shot is None:
            return
        if path is None:
            chosen, _ = QFileDialog.getOpenFileName(self._window, "Picture to lay", "", PICTURE_FILTER)
            if not chosen:
                return
            path = Path(chosen)
        fix, name, frame = desk.fix(session.project), path.name, desk.frame
        surface_id = fix.surface_id if fix is not None else desk.surface_id
        session.note_shown.emit(f"Looking at {name} …")
        session.submit(
            ("picture", str(path)), Priority.SCREEN,
            lambda check: find_picture(shot, fix, surface_id, path, frame, check),
            lambda fill: self._lay(f"Lay {name}", fill, fix, surface_id),
        )  # fmt: skip

    def lay_near_frame(self) -> None:
        """Lay another frame of the shot over this one, in register along the surface."""
        session, shot, desk = self._session, self._session.shot, self._session.desk
        fix = desk.fix(session.project)
        if shot is None or fix is None:
            return
        if not fix.cover.parts:
            session.error_shown.emit("Cover what the other frame is to fill first.")
            return
        frames = shot.footage.frames
        laid = desk.frame + NEAR if desk.frame + NEAR <= frames.last else max(desk.frame - NEAR, frames.first)
        self._lay(f"Lay frame {laid}", near_frame(shot, fix.surface_id, desk.frame, laid), fix, fix.surface_id)

    def _lay(self, label: str, fill: Placed, fix: Fix | None, surface_id: str) -> None:
        session, desk = self._session, self._session.desk
        part_id, frame = new_id(), desk.frame
        fresh = None
        if fix is None:
            assert session.shot is not None
            fresh = Fix(id=new_id(), name=free_name("Picture", session.shot.fixes), surface_id=surface_id)
        fix_id = fresh.id if fresh is not None else fix.id  # type: ignore[union-attr]

        def edit(project: Project) -> Project:
            project = edits.add_fix(project, desk.shot_id, fresh) if fresh is not None else project
            return edits.lay_picture(project, desk.shot_id, fix_id, fill, part_id, frame)

        if session.commit(label, edit):
            session.set_desk(step=Step.FILL, tool="picture", look=Look.RESULT, fix_id=fix_id, fix_ids=(fix_id,))
            how = "it shows the shot, so light and sharpness follow" if fill.is_of_shot else "drag its corners"
            session.note_shown.emit(f"{label}: {how}")

    def change_picture(self, label: str, is_final: bool = True, **fields: Any) -> None:
        """Change how the picture in hand is laid."""
        found, desk = self._found(), self._session.desk
        if found is not None:
            self._session.commit_while(label, is_final, edits.change_picture, desk.shot_id, found[1].id, **fields)

    def fit_picture(self) -> None:
        """Fit it to the cover; a frame of the shot goes back into register."""
        found = self._found()
        if found is None:
            return
        shot, fix, fill = found
        if fill.footage is None:
            self.change_picture("Back into register", corners=Array(shot.footage.bounds.corners))
            return
        along = fix.surface_id if fill.runs_along else ""
        try:
            corners = fitted_corners(fill.footage, shot, fix, along, self._session.desk.frame)
        except FootageError as error:
            self._session.error_shown.emit(str(error))
            return
        self.change_picture("Fit to the cover", corners=Array(corners))

    def scribble_subject(self) -> None:
        """Cut out what of it is laid: strokes inside it, with Alt outside."""
        if self._found() is None:
            self._session.error_shown.emit("No picture is laid here. Fill a fix with a picture first.")
            return
        self._session.set_desk(tool="scribble", slot=Slot.SUBJECT, step=Step.FILL, look=Look.RESULT, part_id="")

    def whole_picture(self) -> None:
        """Lay all of it again."""
        self.change_picture("All of the picture", subject=Matte())


class PicturePart(QWidget):
    """What a laid picture may be told."""

    def __init__(self, session: Session, commands: PictureCommands, call: Callable[[str], None]) -> None:
        super().__init__()
        self._session, self._commands = session, commands
        self.told = quiet(name="Picture")
        self.told.setWordWrap(True)
        self.load = push_button("Other file…", partial(call, "fill_from_picture"), tip="Lay another picture (Alt+P)")
        self.handles = push_button("Corners", partial(call, "tool_picture"), tip="Drag it by its corners (Alt+H)")
        self.fit = push_button("Fit", partial(call, "fit_picture"), tip="To the cover; a frame back into register")
        self.time = choice("Which picture", TIMES, "One for each frame, or always the same")
        self.time.activated.connect(self._on_time)
        self.number = small_number("Number", -9999, 99999, "", "How many frames later, or which picture")
        self.number.setDecimals(0)
        self.number.valueChanged.connect(self._on_time)
        self.time_row = QWidget()
        times = QHBoxLayout(self.time_row)
        times.setContentsMargins(0, 0, 0, 0)
        times.addWidget(self.time, 1)
        times.addWidget(self.number)
        self.blend = choice("How it is laid", BLEND_WORDS, "How it meets what lies below, in linear light")
        self.blend.activated.connect(lambda: commands.change_picture("Blend", blend=Blend(self.blend.currentData())))
        blends = QHBoxLayout()
        blends.addWidget(QLabel("Laid"))
        blends.addWidget(self.blend, 1)
        self.along = tick_box("Along the surface", "It moves with the surface",
                           lambda on: commands.change_picture("Along", runs_along=on))  # fmt: skip
        self.of_shot = tick_box("Shows the shot", "Its light, sharpness and grain are those of the shot's own pictures",
                             lambda on: commands.change_picture("Shows the shot", is_of_shot=on))  # fmt: skip
        self.cut = push_button("Cut out…", partial(call, "scribble_subject"),
                               tip="Scribble inside what is wanted of it, with Alt outside (Alt+C)")  # fmt: skip
        self.whole = push_button("All of it", commands.whole_picture, tip="Take the scribbles off")
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(6)
        box.addWidget(self.told)
        box.addLayout(spaced(self.handles, self.fit, self.load))
        box.addWidget(self.time_row)
        box.addLayout(blends)
        box.addLayout(spaced(self.cut, self.whole))
        box.addLayout(spaced(self.along, self.of_shot))

    def _on_time(self) -> None:
        fix, desk = self._session.desk.fix(self._session.project), self._session.desk
        if fix is not None and isinstance(fix.fill, Placed):
            is_pinned = self.time.currentData() == "pinned"
            time = told_time(fix.fill.time, is_pinned, int(self.number.value()), desk.frame)
            self._commands.change_picture("Which picture", time=time)

    def show_fill(self, shot: Shot, fix: Fix, fill: Placed, desk: Desk) -> None:
        """Show a fill as it is."""
        laid = frame_laid(fill, shot, desk.frame)
        if fill.footage is None:
            what = f"Frame {laid} of the shot" if laid is not None else "The shot"
        else:
            what = Path(fill.footage.path).name
            if len(fill.footage.frames) > 1:
                what = f"{what}, picture {laid}" if laid is not None else what
        self.told.setText(what if laid is not None else f"{what}: none for frame {desk.frame}")
        is_still = fill.footage is not None and len(fill.footage.frames) == 1
        self.time_row.setVisible(not is_still)
        with QSignalBlocker(self.number):
            self.number.setValue(fill.time.frame if isinstance(fill.time, PinnedFrame) else fill.time.frames)
        pick(self.time, "pinned" if isinstance(fill.time, PinnedFrame) else "offset")
        pick(self.blend, fill.blend)
        self.along.setVisible(bool(fix.surface_id))
        self.whole.setEnabled(bool(fill.subject.parts))
        self.handles.setEnabled(desk.tool != "picture")
        for box, on in ((self.along, fill.runs_along), (self.of_shot, fill.is_of_shot)):
            with QSignalBlocker(box):
                box.setChecked(on)
