"""The commands of painting: clean plates, strokes on the shot, strokes that go."""

from __future__ import annotations

from PySide6.QtWidgets import QFileDialog, QWidget

from gommage.app.desk import Desk
from gommage.app.hands.names import free_name
from gommage.app.session import Session
from gommage.core.document import (
    CleanPlate,
    Fix,
    FromFrame,
    FromPicture,
    Painted,
    Plates,
    Project,
    Shot,
    edits,
    new_id,
    placement,
)
from gommage.core.engine import Look, Step

__all__ = ["PaintCommands"]


class PaintCommands:
    """What is painted on, and removing what was."""

    def __init__(self, session: Session, window: QWidget) -> None:
        self._session, self._window = session, window

    @property
    def _desk(self) -> Desk:
        return self._session.desk

    @property
    def _shot(self) -> Shot | None:
        return self._desk.shot(self._session.project)

    def new_plate(self) -> None:
        """Make a clean plate of the frame on screen and begin to paint."""
        self._add_plate(FromFrame())

    def plate_from_picture(self) -> None:
        """Make a clean plate of a picture that was painted elsewhere."""
        chosen, _ = QFileDialog.getOpenFileName(self._window, "Picture for the clean plate")
        if chosen:
            self._add_plate(FromPicture(path=chosen))

    def _add_plate(self, base: FromFrame | FromPicture) -> None:
        shot, surface = self._shot, self._desk.surface(self._session.project)
        if shot is None or surface is None or placement(shot, surface) is None:
            self._session.error_shown.emit(
                "A clean plate lies on a followed surface. Draw an area and follow it first."
            )
            return
        frame = self._desk.frame
        name = free_name("Plate", shot.clean_plates)
        plate = CleanPlate(id=new_id(), name=name, surface_id=surface.id, home_frame=frame, base=base)
        fix = self._desk.fix(self._session.project)

        def edit(project: Project) -> Project:
            project = edits.add_clean_plate(project, shot.id, plate)
            if fix is not None and fix.surface_id == surface.id and isinstance(fix.fill, Plates):
                fill = Plates(plate_ids=(*fix.fill.plate_ids, plate.id))
                project = edits.change_fix(project, shot.id, fix.id, fill=fill)
            return project

        if self._session.commit(f"Clean plate from {frame}", edit):
            self._session.set_desk(
                plate_id=plate.id,
                step=Step.FILL,
                tool="clone",
                look=Look.CLEAN_PLATE,
                stroke_ids=(),
                paints_shot=False,
            )

    def paint_on_shot(self) -> None:
        """Paint on the frames themselves: strokes of the fix in hand, or of a new one that is nothing but strokes."""
        shot, fix = self._shot, self._desk.fix(self._session.project)
        if shot is None:
            return
        fix_id = fix.id if fix is not None else new_id()
        if fix is None:
            surface = self._desk.surface(self._session.project)
            is_placed = surface is not None and placement(shot, surface) is not None
            riding = surface.id if surface is not None and is_placed else ""
            fresh = Fix(id=fix_id, name=free_name("Paint", shot.fixes), surface_id=riding, fill=Painted())
            if not self._session.commit("New paint", edits.add_fix, shot.id, fresh):
                return
        self._session.set_desk(
            fix_id=fix_id, fix_ids=(fix_id,), step=Step.FILL, paints_shot=True, look=Look.RESULT, stroke_ids=(),
            **self._desk.with_brush("clone"),
        )  # fmt: skip

    def remove_strokes(self) -> None:
        """Remove the chosen strokes, or else the last one."""
        desk = self._desk
        holder_id, painting = desk.painting(self._session.project)
        if not painting.strokes:
            return
        ids = desk.stroke_ids or (painting.strokes[-1].id,)
        self._session.set_desk(stroke_ids=())
        label = "Remove stroke" if len(ids) == 1 else f"Remove {len(ids)} strokes"
        self._session.commit(label, edits.remove_strokes, desk.shot_id, holder_id, ids)
