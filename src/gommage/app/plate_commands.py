"""Clean plates out to a picture editor and back; files that are watched."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from msgspec.structs import replace
from PySide6.QtCore import QFileSystemWatcher, QObject, QTimer
from PySide6.QtWidgets import QFileDialog, QWidget

from gommage.app.dialogs.home_frame import HomeFrameDialog
from gommage.app.hands.names import free_name
from gommage.app.session import Session
from gommage.app.steps.fill.commands import with_plate_used
from gommage.core.document import CleanPlate, Fix, FromPicture, Painting, Placed, Project, edits, new_id
from gommage.core.engine import (
    FoundPlate,
    Look,
    Priority,
    Step,
    find_plate,
    picture_stamp,
    stamp_of,
    watched_file,
    write_plate,
)

__all__ = ["PlateCommands", "PlateWatch"]

SETTLE_MS = 150
"""Editors write in several goes; a file is looked at once it has been quiet for so long."""


class PlateCommands:
    """What takes clean plates out and brings them back."""

    def __init__(self, session: Session, window: QWidget) -> None:
        self._session, self._window = session, window
        self.watch = PlateWatch(session, window)

    def plate_from_picture(self, path: Path | None = None) -> None:
        """Make a clean plate of a picture that was painted elsewhere."""
        session, shot = self._session, self._session.shot
        if shot is None:
            return
        if path is None:
            chosen, _ = QFileDialog.getOpenFileName(self._window, "Picture for the clean plate")
            if not chosen:
                return
            path = Path(chosen)
        engine = session.engine
        session.submit(
            ("plate file", str(path)), Priority.SCREEN, lambda check: find_plate(engine, shot, path, check), self._came
        )

    def _came(self, found: FoundPlate) -> None:
        """Lay a picture on its surface; ask for its frame if it does not say that itself."""
        session, shot, desk = self._session, self._session.shot, self._session.desk
        if shot is None:
            return
        frame = found.home_frame
        if not found.is_told:
            dialog = HomeFrameDialog(Path(found.path).name, shot.footage.frames, frame, found.why, self._window)
            is_given, frame = bool(dialog.exec()), dialog.frame
            dialog.deleteLater()
            if not is_given:
                return
        surface_id = found.surface_id or desk.surface_id
        base = FromPicture(path=found.path, is_watched=True, stamp=found.stamp)
        plate = CleanPlate(
            id=new_id(), name=free_name("Plate", shot.clean_plates), surface_id=surface_id, home_frame=frame,
            window=found.window, base=base, scale=found.scale,
        )  # fmt: skip

        def edit(project: Project) -> Project:
            return with_plate_used(edits.add_clean_plate(project, shot.id, plate), shot.id, desk.fix_id, plate)

        if session.commit(f"Clean plate from {Path(found.path).name}", edit):
            session.set_desk(plate_id=plate.id, step=Step.FILL, look=Look.CLEAN_PLATE, paints_shot=False)
            session.note_shown.emit(f"{plate.name} lies at frame {frame}, {found.why}. Its file is watched")

    def plate_to_file(self, path: Path | None = None) -> None:
        """Write the clean plate in hand for a picture editor, and watch the file from then on."""
        session, shot = self._session, self._session.shot
        plate = session.desk.plate(session.project)
        if shot is None or plate is None:
            return
        if path is None:
            near = (session.folder or Path(shot.footage.path).parent.parent) / "plates"
            name = f"{plate.name.lower().replace(' ', '-')}.{plate.home_frame}.exr"
            start = (near if near.is_dir() else near.parent) / name
            chosen, _ = QFileDialog.getSaveFileName(self._window, "Write clean plate", str(start), "EXR (*.exr)")
            if not chosen:
                return
            path = Path(chosen)
        if path.suffix.lower() != ".exr":
            path = path.with_name(path.name + ".exr")
        engine, out = session.engine, path

        def write(check: object) -> str:
            write_plate(engine, shot, plate, out, check)  # type: ignore[arg-type]
            return stamp_of(out)

        session.submit(("plate out", str(out)), Priority.SCREEN, write, partial(self._is_out, plate, out))

    def _is_out(self, plate: CleanPlate, path: Path, stamp: str) -> None:
        """Let the plate be its file from now on."""
        base = FromPicture(path=str(path), is_watched=True, stamp=stamp)
        window = plate.window
        desk, session = self._session.desk, self._session
        if session.commit(
            f"{plate.name} to a file", edits.change_clean_plate, desk.shot_id, plate.id, base=base, window=window,
            painting=Painting(),
        ):  # fmt: skip
            session.note_shown.emit(f"Wrote {path.name}; what is saved there shows here at once")


@dataclass(frozen=True, slots=True)
class Watched:
    """A picture that is painted elsewhere: whose it is, its file or folder, the state that is known, what finds out the
    state that it is in, and what takes that up.
    """

    name: str
    path: Path
    stamp: str
    look: Callable[[], str]
    again: Callable[[str, Project], Project]


class PlateWatch(QObject):
    """Watches the files of clean plates and of laid pictures, and takes up what was saved."""

    def __init__(self, session: Session, parent: QObject) -> None:
        super().__init__(parent)
        self._session = session
        self._watcher = QFileSystemWatcher(self)
        self._watcher.fileChanged.connect(self._heard)
        self._watcher.directoryChanged.connect(self._heard)
        self._settling = QTimer(self)
        self._settling.setSingleShot(True)
        self._settling.setInterval(SETTLE_MS)
        self._settling.timeout.connect(self._look)
        session.document_changed.connect(lambda old, new: self._renew())

    def _watched(self) -> dict[str, Watched]:
        """Return the watched pictures of the shot: clean plates painted elsewhere, and pictures that are laid."""
        shot = self._session.desk.shot(self._session.project)
        if shot is None:
            return {}
        found = {}
        for plate in shot.clean_plates:
            base = plate.base
            if isinstance(base, FromPicture) and base.is_watched:
                found[plate.id] = Watched(
                    plate.name, Path(base.path), base.stamp, partial(stamp_of, Path(base.path)),
                    partial(_with_base, shot.id, plate),
                )  # fmt: skip
        for fix in shot.fixes:
            if isinstance(fix.fill, Placed) and fix.fill.footage is not None:
                files = fix.fill.footage
                found[fix.id] = Watched(fix.name, watched_file(files), files.stamp, partial(picture_stamp, files),
                                        partial(_laid_again, shot.id, fix))  # fmt: skip
        return found

    def _renew(self) -> None:
        """Watch the files there are, and their folders: most editors replace a file by a new one."""
        wanted = set()
        for one in self._watched().values():
            wanted |= {str(one.path), str(one.path.parent)}
        watched = {*self._watcher.files(), *self._watcher.directories()}
        if gone := list(watched - wanted):
            self._watcher.removePaths(gone)
        if fresh := list(wanted - watched):
            self._watcher.addPaths(fresh)

    def _heard(self) -> None:
        self._settling.start()

    def _look(self) -> None:
        watched = self._watched()

        def stamps(check: object) -> dict[str, str]:
            return {key: one.look() for key, one in watched.items()}

        self._session.submit(("picture stamps",), Priority.SCREEN, stamps, self._take_up)

    def _take_up(self, stamps: dict[str, str]) -> None:
        session = self._session
        for key, one in self._watched().items():
            stamp = stamps.get(key, "")
            if (
                stamp
                and stamp != one.stamp
                and session.commit(f"{one.name} saved elsewhere", partial(one.again, stamp))
            ):
                session.note_shown.emit(f"{one.name} was saved elsewhere: read again")
        self._renew()  # a file that was replaced is another one to the system


def _with_base(shot_id: str, plate: CleanPlate, stamp: str, project: Project) -> Project:
    assert isinstance(plate.base, FromPicture)
    return edits.change_clean_plate(project, shot_id, plate.id, base=replace(plate.base, stamp=stamp))


def _laid_again(shot_id: str, fix: Fix, stamp: str, project: Project) -> Project:
    assert isinstance(fix.fill, Placed)
    assert fix.fill.footage is not None
    footage = replace(fix.fill.footage, stamp=stamp)
    return edits.change_picture(project, shot_id, fix.id, footage=footage)
