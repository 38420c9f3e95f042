"""The commands of mattes on disk, and of mattes that several fixes share."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from msgspec.structs import replace
from PySide6.QtGui import QCursor
from PySide6.QtWidgets import QFileDialog, QMenu, QWidget

from gommage.app.files import PICTURE_FILTER
from gommage.app.hands.names import free_name
from gommage.app.session import Session
from gommage.app.strip.lanes.drift import DRIFT_TO_LOOK_AT
from gommage.app.work import Work
from gommage.core.document import (
    FromFile,
    Matte,
    MattePart,
    Project,
    Scribbled,
    Shared,
    SharedMatte,
    edits,
    new_id,
)
from gommage.core.document.edits import Slot
from gommage.core.engine import FoundMatte, MatteTarget, Priority, Step, carried_over, find_matte, write_mattes
from gommage.core.picture.writing import STILL_FORMATS

__all__ = ["MatteFileCommands"]

WRITE_FILTER = "EXR, half float (*.exr);;TIFF, 16 bit (*.tif);;PNG, 16 bit (*.png)"
KINDS = {".exr": "exr-half", ".tif": "tiff-16", ".tiff": "tiff-16", ".png": "png-16"}


class MatteFileCommands:
    """Parts from files, mattes to files, shared mattes."""

    def __init__(self, session: Session, work: Work, window: QWidget) -> None:
        self._session, self._work, self._window = session, work, window

    # -- from files -----------------------------------------------------------------------------------------

    def matte_from_file(self, path: Path | None = None) -> None:
        """Ask for a matte's file, find out how it is numbered, and add it as a part."""
        shot = self._session.shot
        if shot is None:
            return
        if path is None:
            chosen, _ = QFileDialog.getOpenFileName(self._window, "Matte from a file", "", PICTURE_FILTER)
            if not chosen:
                return
            path = Path(chosen)
        self._session.note_shown.emit(f"Looking at {path.name} …")
        engine = self._session.engine
        self._session.submit(
            ("matte file", str(path)), Priority.SCREEN, lambda check: find_matte(engine, shot, str(path), check),
            self._came,
        )  # fmt: skip

    def _came(self, found: FoundMatte) -> None:
        offset = found.numbering.offset
        words = f"Its numbers are the shot's {offset:+d}: {found.numbering.why}."
        if not found.numbering.is_sure:
            words += " Look whether that is right, and set it in the panel."
        self._add(FromFile(path=found.path, channel=found.channels[0], frame_offset=offset), "Matte from a file")
        self._session.note_shown.emit(words)

    def alpha_as_part(self) -> None:
        """Add the plate's own alpha as a part."""
        shot = self._session.shot
        if shot is not None:
            self._add(FromFile(path=shot.footage.path, channel="A"), "The plate's alpha")

    def _add(self, source: FromFile | Shared, label: str) -> None:
        """Add a part to the fix's cover or hold-outs; in Follow to what is not looked at."""
        desk, part = self._session.desk, MattePart(id=new_id(), source=source)
        slot: Slot = desk.slot if desk.slot in (Slot.COVER, Slot.HOLD_OUTS) else Slot.COVER
        holder_id = desk.fix_id
        if desk.step is Step.FOLLOW:
            holder_id, slot = desk.surface_id, Slot.KEEP_OUTS
        if not holder_id:
            kind = "a surface" if desk.step is Step.FOLLOW else "a fix"
            self._session.error_shown.emit(f"A matte belongs to {kind}, and none is in hand.")
            return
        if self._session.commit(label, edits.add_part, desk.shot_id, holder_id, slot, part):
            self._session.set_desk(part_id=part.id, part_ids=(), vertices=())

    # -- to files -------------------------------------------------------------------------------------------

    def write_matte(self, path: Path | None = None) -> None:
        """Write the matte of the fix in hand."""
        self._write(path, of_all=False, part_ids=())

    def write_matte_parts(self, path: Path | None = None) -> None:
        """Write the chosen parts alone."""
        desk = self._session.desk
        part = desk.part(self._session.project)
        if part is not None:
            self._write(path, of_all=False, part_ids=(part.id, *desk.part_ids))

    def write_all_mattes(self, path: Path | None = None) -> None:
        """Write the mattes of all fixes together."""
        self._write(path, of_all=True, part_ids=())

    def _write(self, path: Path | None, *, of_all: bool, part_ids: tuple[str, ...]) -> None:
        desk, project = self._session.desk, self._session.project
        shot, fix = desk.shot(project), desk.fix(project)
        if shot is None or (fix is None and not of_all):
            return
        if path is None:
            name = "mattes" if of_all or fix is None else fix.name.lower().replace(" ", "-")
            near = Path(shot.footage.path).parent.parent / f"{name}.exr"
            chosen, _ = QFileDialog.getSaveFileName(self._window, "Write matte", str(near), WRITE_FILTER)
            if not chosen:
                return
            path = Path(chosen)
        kind = KINDS.get(path.suffix.lower(), "exr-half")
        target, frames = MatteTarget(path.parent, path.stem, kind), desk.marked_frames or shot.footage.frames
        engine, work = self._session.engine, self._work
        whose = None if of_all else fix

        def run(check: Callable[[], None]) -> list[Path]:
            def told(share: float) -> None:
                self._session.later(partial(work.tell, "Writing mattes", share))

            return write_mattes(engine, shot, target, frames, whose, part_ids, told, check)

        def done(files: list[Path]) -> None:
            kind_words = STILL_FORMATS[kind].label
            self._session.note_shown.emit(f"{len(files)} pictures written to {target.folder} ({kind_words})")

        work.run("Writing mattes", "mattes", run, done)

    # -- scribbles ------------------------------------------------------------------------------------------

    def carry_scribbles(self) -> None:
        """Carry the scribbles in hand over all frames, and tell where they drift most."""
        desk, project, session = self._session.desk, self._session.project, self._session
        shot, part = desk.shot(project), desk.part(project)
        if shot is None or part is None or not isinstance(part.source, Scribbled):
            session.note_shown.emit("Choose a part of scribbles first.")
            return
        source, engine, work = part.source, session.engine, self._work

        def run(check: Callable[[], None]) -> dict[int, float]:
            def told(share: float) -> None:
                session.later(partial(work.tell, "Carrying scribbles", share))

            return carried_over(engine, shot, source, told, check)

        def done(drifts: dict[int, float]) -> None:
            session.keep_drift((shot.footage, source), drifts)
            if not drifts:
                session.note_shown.emit("Scribble inside the thing and outside it on one frame first.")
                return
            worst = max(drifts, key=lambda frame: drifts[frame])
            words = f"{drifts[worst]:.0%} of its edge was moved on frame {worst}".replace("%", " %")
            asks = drifts[worst] > DRIFT_TO_LOOK_AT
            session.note_shown.emit(f"{words}: look there, and scribble once more if it is wrong." if asks else
                                    f"Carried over {len(drifts)} frames; {words}.")  # fmt: skip

        work.run("Carrying scribbles", "scribbles", run, done)

    # -- shared ---------------------------------------------------------------------------------------------

    def share_matte(self) -> None:
        """Make a shared matte of the cover or the hold-outs in hand, which the fix then uses as others can."""
        desk, project = self._session.desk, self._session.project
        shot, fix = desk.shot(project), desk.fix(project)
        if shot is None or fix is None:
            return
        slot = desk.slot if desk.slot in (Slot.COVER, Slot.HOLD_OUTS) else Slot.COVER
        matte: Matte = getattr(fix, slot)
        if not matte.parts or any(isinstance(part.source, Shared) for part in matte.parts):
            self._session.error_shown.emit("There is nothing of its own here that could be shared.")
            return
        shared = SharedMatte(id=new_id(), name=free_name("Matte", shot.mattes), matte=Matte(parts=matte.parts))
        part = MattePart(id=new_id(), source=Shared(matte_id=shared.id))

        def edit(project: Project) -> Project:
            project = edits.change_shot(project, shot.id, mattes=(*shot.mattes, shared))
            return edits.change_matte(project, shot.id, fix.id, slot, parts=(part,))

        if self._session.commit(f"Share as {shared.name}", edit):
            self._session.set_desk(part_id=part.id, part_ids=(), vertices=())

    def add_shared_matte(self) -> None:
        """Add one of the shared mattes as a part; of several a menu asks."""
        shot = self._session.shot
        if shot is None or not shot.mattes:
            self._session.note_shown.emit("There are no shared mattes yet: share the cover or the hold-outs of a fix.")
            return
        if len(shot.mattes) == 1:
            self._add_shared(shot.mattes[0].id)
            return
        menu = QMenu(self._window)
        menu.setObjectName("shared_menu")
        for one in shot.mattes:
            menu.addAction(one.name, partial(self._add_shared, one.id))
        menu.aboutToHide.connect(menu.deleteLater)
        menu.popup(QCursor.pos())

    def _add_shared(self, matte_id: str) -> None:
        self._add(Shared(matte_id=matte_id), "Use a shared matte")

    def own_matte(self) -> None:
        """Give the fix shapes of its own in place of the shared matte in hand."""
        desk, project = self._session.desk, self._session.project
        shot, part = desk.shot(project), desk.part(project)
        if shot is None or part is None or not isinstance(part.source, Shared):
            return
        shared = shot.matte(part.source.matte_id)
        holder_id, slot = edits.slot_of(shot, part.id)
        own = tuple(_copied(one) for one in shared.matte.parts)
        parts = edits.matte_in(shot, holder_id, slot).parts
        fresh = tuple(one for old in parts for one in (own if old is part else (old,)))
        self._session.commit("Shapes of its own", edits.change_matte, shot.id, holder_id, slot, parts=fresh)


def _copied(part: MattePart) -> MattePart:
    fresh = new_id()
    source = part.source
    if hasattr(source, "shape"):
        source = replace(source, shape=replace(source.shape, id=fresh))
    return replace(part, id=fresh, source=source)
