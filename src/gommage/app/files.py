"""The commands of files: opening footage and projects, saving, rendering, and asking before work is left.

Nothing is read or written in the interface thread: a job does it, and what comes back is shown.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

import platformdirs
from PySide6.QtWidgets import QFileDialog, QMessageBox, QWidget

from gommage.app.dialogs.footage import FootageDialog
from gommage.app.dialogs.render import RenderDialog
from gommage.app.recent import Recent, RecentFiles
from gommage.app.session import Session
from gommage.app.work import Work
from gommage.core.document import Project, Shot, edits, new_id, placement, store
from gommage.core.engine import Look, Priority, ViewRequest, view_pixels
from gommage.core.geometry import scaling
from gommage.core.picture import FootageReport, open_plates, probe
from gommage.core.picture.colour import colour_spaces
from gommage.errors import FootageError, GommageError

__all__ = ["FileCommands"]

PICTURE_FILTER = (
    "Pictures and movies (*.exr *.dpx *.cin *.tif *.tiff *.png *.jpg *.jpeg *.mov *.mp4 *.mkv *.avi *.mxf *.webm)"
    ";;All files (*)"
)
RECENT_WIDTH = 288


class FileCommands:
    """One method for each action of the table that belongs to files."""

    def __init__(self, session: Session, work: Work, window: QWidget, state_root: Path | None = None) -> None:
        self._session, self._work, self._window = session, work, window
        self._recent = RecentFiles(state_root or Path(platformdirs.user_state_dir("gommage")))

    # -- footage --------------------------------------------------------------------------------------------

    def open_footage(self, path: Path | None = None) -> None:
        """Ask for footage, show what was found, and begin a project with it."""
        if path is None:
            chosen, _ = QFileDialog.getOpenFileName(self._window, "Open footage", "", PICTURE_FILTER)
            if not chosen:
                return
            path = Path(chosen)
        self._session.note_shown.emit(f"Looking at {path.name} …")

        def look(check: object) -> FootageReport:
            colour_spaces()  # the dialog lists them; the configuration takes a moment to read
            return probe(path)

        self._session.submit(("probe", str(path)), Priority.SCREEN, look, self._on_probed)

    def _on_probed(self, report: FootageReport) -> None:
        self._session.note_shown.emit("")
        dialog = FootageDialog(report, self._window)
        accepted = dialog.exec() == FootageDialog.DialogCode.Accepted
        footage = dialog.footage()
        dialog.deleteLater()
        if not accepted:
            return
        name = Path(footage.path).name.split("#")[0].rstrip("._-") or Path(footage.path).stem
        fresh = Project.of(Shot(id=new_id(), name=name, footage=footage))
        self.leaving(lambda: self._session.begin(fresh, is_saved=False))

    def open_demo(self) -> None:
        """Draw the paper theatre, the first time, and begin on it as soon as there is a frame."""
        self.leaving(lambda: self._work.draw_demo(self._session.begin))

    # -- projects -------------------------------------------------------------------------------------------

    def open_project(self, folder: Path | None = None) -> None:
        """Open a project; footage that has moved is asked for."""
        if folder is None:
            chosen = QFileDialog.getExistingDirectory(self._window, "Open project")
            if not chosen:
                return
            folder = Path(chosen)
        self.leaving(partial(self._load, store.folder_of(folder)))

    def _load(self, folder: Path) -> None:
        def read(check: object) -> tuple[Project, dict[str, str]]:
            project = store.load(folder)
            return project, _moved_footage(project)

        def came(found: tuple[Project, dict[str, str]]) -> None:
            self._session.note_shown.emit("")
            project, moved = found
            self._find_footage(project, moved, partial(self._opened, folder))

        self._session.note_shown.emit(f"Opening {folder.name} …")
        self._session.submit(("load", str(folder)), Priority.SCREEN, read, came)

    def _opened(self, folder: Path, project: Project) -> None:
        self._session.begin(project, folder)
        self._note_recent(folder)

    def _find_footage(self, project: Project, moved: dict[str, str], done: Callable[[Project], None]) -> None:
        """Ask, shot by shot, where footage that has moved is now; then go on with what was found."""
        if not moved:
            done(project)
            return
        shot_id, words = next(iter(moved.items()))
        rest = {one: why for one, why in moved.items() if one != shot_id}
        box = QMessageBox(self._window)
        box.setWindowTitle("Footage has moved")
        box.setText(f"{words}\n\nWhere are the pictures of {project.shot(shot_id).name} now?")
        find = box.addButton("Find them…", QMessageBox.ButtonRole.AcceptRole)
        box.addButton("Open without", QMessageBox.ButtonRole.RejectRole)
        box.exec()
        is_wanted = box.clickedButton() is find
        box.deleteLater()
        chosen = ""
        if is_wanted:
            chosen, _ = QFileDialog.getOpenFileName(self._window, f"Pictures of {project.shot(shot_id).name}")
        if not chosen:
            self._find_footage(project, rest, done)
            return

        def relinked(check: object) -> Project:
            return edits.relink_footage(project, shot_id, probe(Path(chosen)).footage)

        def failed(sentence: str) -> None:
            self._session.error_shown.emit(sentence)
            self._find_footage(project, rest, done)

        self._session.submit(
            ("relink", chosen), Priority.SCREEN, relinked, lambda new: self._find_footage(new, rest, done), failed
        )

    def save(self, saved: Callable[[bool], None] = lambda done: None) -> None:
        """Save the project, asking for a place the first time."""
        if self._session.folder:
            self._write(self._session.folder, saved)
        else:
            self.save_as(saved)

    def save_as(self, saved: Callable[[bool], None] = lambda done: None) -> None:
        """Save the project under another name."""
        chosen, _ = QFileDialog.getSaveFileName(
            self._window, "Save project", "untitled.gommage", "Gommage projects (*.gommage)"
        )
        if not chosen:
            saved(False)
            return
        folder = Path(chosen)
        suffixed = folder.with_name(folder.name + store.FOLDER_SUFFIX)
        self._write(folder if folder.suffix == store.FOLDER_SUFFIX else suffixed, saved)

    def _write(self, folder: Path, saved: Callable[[bool], None]) -> None:
        def done(is_safe: bool) -> None:
            if is_safe:
                self._note_recent(folder)
            saved(is_safe)

        self._work.save(folder, done)

    def render_shot(self) -> None:
        """Ask where to and render beside the work."""
        session = self._session
        shot = session.desk.shot(session.project)
        if shot is None:
            return
        near = session.folder.parent if session.folder else Path(shot.footage.path).parent.parent
        dialog = RenderDialog(shot, near / "render", lambda surface: placement(shot, surface) is not None, self._window)
        if dialog.exec() == RenderDialog.DialogCode.Accepted:
            self._work.render(dialog.frames(), dialog.target())
        dialog.deleteLater()

    # -- leaving --------------------------------------------------------------------------------------------

    def leaving(self, go: Callable[[], object]) -> None:
        """Go on to something else; unsaved work is asked about first, and saved if that is wanted."""
        session = self._session
        if not session.has_unsaved or not session.project.shots or len(session.history.steps) < 2:
            go()
            return
        box = QMessageBox(self._window)
        box.setWindowTitle("Unsaved work")
        box.setText("This project has changes that are not saved.")
        save = box.addButton("Save", QMessageBox.ButtonRole.AcceptRole)
        box.addButton("Leave without", QMessageBox.ButtonRole.DestructiveRole)
        back = box.addButton("Back", QMessageBox.ButtonRole.RejectRole)
        box.exec()
        clicked = box.clickedButton()
        box.deleteLater()
        if clicked is save:
            self.save(lambda is_safe: self._go_if(is_safe, go))
        elif clicked is not back:
            go()

    @staticmethod
    def _go_if(is_safe: bool, go: Callable[[], object]) -> None:
        if is_safe:
            go()

    # -- last projects --------------------------------------------------------------------------------------

    def ask_recent(self, show: Callable[[tuple[Recent, ...]], None]) -> None:
        """Read the list of last projects."""
        self._session.submit(("recent",), Priority.IDLE, lambda check: self._recent.read(), show, lambda words: None)

    def _note_recent(self, folder: Path) -> None:
        session, shot = self._session, self._session.desk.shot(self._session.project)
        frame = session.desk.frame

        def note(check: Callable[[], None]) -> None:
            picture = None
            if shot is not None:
                scale = RECENT_WIDTH / shot.footage.width
                size = RECENT_WIDTH, max(round(shot.footage.height * scale), 1)
                try:
                    request = ViewRequest(shot, frame, Look.PLATE, scaling(scale), size)
                    picture = view_pixels(session.engine, request, check)
                except GommageError:
                    picture = None
            self._recent.note(folder, picture)

        session.submit(("note recent", str(folder)), Priority.IDLE, note, lambda _: None, lambda words: None)


def _moved_footage(project: Project) -> dict[str, str]:
    """Return the shots whose footage cannot be opened, and why in words."""
    moved = {}
    for shot in project.shots:
        try:
            open_plates(shot.footage)
        except FootageError as error:
            moved[shot.id] = str(error)
    return moved
