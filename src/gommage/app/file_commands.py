"""The commands of files: opening footage and projects, saving, rendering, and asking before work is left."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QMessageBox, QWidget

from gommage.app.dialogs import FootageDialog, RenderDialog
from gommage.app.session import Session
from gommage.core.document import Project, Shot, edits, new_id, store
from gommage.core.engine import Priority
from gommage.core.picture import FootageReport, open_plates, probe
from gommage.errors import FootageError, GommageError, ProjectError

__all__ = ["FileCommands"]

PICTURE_FILTER = (
    "Pictures and movies (*.exr *.dpx *.cin *.tif *.tiff *.png *.jpg *.jpeg *.mov *.mp4 *.mkv *.avi *.mxf *.webm)"
    ";;All files (*)"
)


class FileCommands:
    """One method for each action of the table that belongs to files."""

    def __init__(self, session: Session, window: QWidget) -> None:
        self._session, self._window = session, window

    def open_footage(self, path: Path | None = None) -> None:
        """Ask for footage, show what was found, and begin a project with it."""
        if path is None:
            chosen, _ = QFileDialog.getOpenFileName(
                self._window,
                "Open footage",
                "",
                PICTURE_FILTER,
            )
            if not chosen:
                return
            path = Path(chosen)
        self._session.note_shown.emit(f"Looking at {path.name} …")
        self._session.submit(("probe", str(path)), Priority.SCREEN, lambda check: probe(path), self._on_probed)

    def _on_probed(self, report: FootageReport) -> None:
        self._session.note_shown.emit("")
        dialog = FootageDialog(report, self._window)
        if dialog.exec() != FootageDialog.DialogCode.Accepted or not self.may_leave():
            return
        footage = dialog.footage()
        name = Path(footage.path).name.split("#")[0].rstrip("._-") or Path(footage.path).stem
        self._session.begin(Project.of(Shot(id=new_id(), name=name, footage=footage)), is_saved=False)

    def open_demo(self) -> None:
        """Draw the paper theatre, the first time, and begin on it."""
        if self.may_leave():
            self._session.draw_demo()

    def open_project(self, folder: Path | None = None) -> None:
        """Open a project; footage that has moved is asked for."""
        if folder is None:
            chosen = QFileDialog.getExistingDirectory(self._window, "Open project")
            if not chosen:
                return
            folder = Path(chosen)
        if not self.may_leave():
            return
        try:
            project = store.load(folder)
        except ProjectError as error:
            self._session.error_shown.emit(str(error))
            return
        folder = folder.parent if folder.name == store.FILE_NAME else folder
        project = self._with_found_footage(project)
        self._session.begin(project, folder)

    def _with_found_footage(self, project: Project) -> Project:
        for shot in project.shots:
            try:
                open_plates(shot.footage)
                continue
            except FootageError as error:
                words = str(error)
            box = QMessageBox(self._window)
            box.setWindowTitle("Footage has moved")
            box.setText(f"{words}\n\nWhere are the pictures of {shot.name} now?")
            find = box.addButton("Find them…", QMessageBox.ButtonRole.AcceptRole)
            box.addButton("Open without", QMessageBox.ButtonRole.RejectRole)
            box.exec()
            if box.clickedButton() is find:
                chosen, _ = QFileDialog.getOpenFileName(self._window, f"Pictures of {shot.name}")
                if chosen:
                    try:
                        project = edits.relink_footage(project, shot.id, probe(Path(chosen)).footage)
                    except GommageError as error:
                        self._session.error_shown.emit(str(error))
        return project

    def save(self) -> bool:
        """Save the project, asking for a place the first time."""
        return self._session.save(self._session.folder) if self._session.folder else self.save_as()

    def save_as(self) -> bool:
        """Save the project under another name."""
        chosen, _ = QFileDialog.getSaveFileName(
            self._window, "Save project", "untitled.gommage", "Gommage projects (*.gommage)"
        )
        if not chosen:
            return False
        folder = Path(chosen)
        saved = self._session.save(
            folder if folder.suffix == store.FOLDER_SUFFIX else folder.with_name(folder.name + store.FOLDER_SUFFIX)
        )
        return saved

    def render_shot(self) -> None:
        """Ask where to and render beside the work."""
        shot = self._session.desk.shot(self._session.project)
        if shot is None:
            return
        near = self._session.folder.parent if self._session.folder else Path(shot.footage.path).parent.parent
        dialog = RenderDialog(shot, near / "render", self._window)
        if dialog.exec() == RenderDialog.DialogCode.Accepted:
            self._session.render(dialog.frames(), dialog.target())

    def may_leave(self) -> bool:
        """Ask about unsaved work; returns whether the project may be left."""
        if not self._session.has_unsaved or not self._session.project.shots or len(self._session.history.steps) < 2:
            return True
        box = QMessageBox(self._window)
        box.setWindowTitle("Unsaved work")
        box.setText("This project has changes that are not saved.")
        save = box.addButton("Save", QMessageBox.ButtonRole.AcceptRole)
        box.addButton("Leave without", QMessageBox.ButtonRole.DestructiveRole)
        back = box.addButton("Back", QMessageBox.ButtonRole.RejectRole)
        box.exec()
        if box.clickedButton() is save:
            return self.save()
        return box.clickedButton() is not back
