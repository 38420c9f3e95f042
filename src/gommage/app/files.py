"""The commands of pictures: opening footage, the paper theatre, rendering.

Nothing is read or written in the interface thread: a job does it, and what comes back is shown.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QWidget

from gommage.app.dialogs.footage import FootageDialog
from gommage.app.dialogs.render import RenderDialog
from gommage.app.projects import ProjectCommands
from gommage.app.session import Session
from gommage.app.work import Work
from gommage.core.document import Project, Shot, new_id, placement
from gommage.core.engine import Priority
from gommage.core.picture import FootageReport, probe
from gommage.core.picture.colour import colour_spaces

__all__ = ["FileCommands"]

PICTURE_FILTER = (
    "Pictures and movies (*.exr *.dpx *.cin *.tif *.tiff *.png *.jpg *.jpeg *.mov *.mp4 *.mkv *.avi *.mxf *.webm)"
    ";;All files (*)"
)


class FileCommands:
    """One method for each action of the table that belongs to pictures on disk."""

    def __init__(self, session: Session, work: Work, projects: ProjectCommands, window: QWidget) -> None:
        self._session, self._work, self._projects, self._window = session, work, projects, window

    def open_footage(self, path: Path | None = None) -> None:
        """Ask for footage, show what was found, and begin a project with it."""
        if path is None:
            chosen, _ = QFileDialog.getOpenFileName(self._window, "Open footage", "", PICTURE_FILTER)
            if not chosen:
                return
            path = Path(chosen)
        self._session.note_shown.emit(f"Looking at {path.name} …")

        def look(check: Callable[[], None]) -> FootageReport:
            colour_spaces()  # the dialog lists them; the configuration takes a moment to read
            return probe(path, check)

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
        self._projects.leaving(lambda: self._session.begin(fresh, is_saved=False))

    def open_demo(self) -> None:
        """Draw the paper theatre's label, the first time, and begin on it as soon as there is a frame."""
        self._projects.leaving(lambda: self._work.draw_demo("label", self._session.begin))

    def open_crosses(self) -> None:
        """Draw the paper theatre's crosses, the first time, and begin on them."""
        self._projects.leaving(lambda: self._work.draw_demo("crosses", self._session.begin))

    def open_reel(self) -> None:
        """Draw the paper theatre's old reel, the first time, and begin on it."""
        self._projects.leaving(lambda: self._work.draw_demo("old reel", self._session.begin))

    def open_passer_by(self) -> None:
        """Draw the paper theatre's passer-by, the first time, and begin on it."""
        self._projects.leaving(lambda: self._work.draw_demo("passer-by", self._session.begin))

    def open_moth(self) -> None:
        """Draw the paper theatre's moth on a rod, the first time, and begin on it."""
        self._projects.leaving(lambda: self._work.draw_demo("moth on a rod", self._session.begin))

    def open_strings(self) -> None:
        """Draw the paper theatre's strings, the first time, and begin on them."""
        self._projects.leaving(lambda: self._work.draw_demo("strings", self._session.begin))

    def open_sign(self) -> None:
        """Draw the paper theatre's sign on brick, the first time, and begin on it."""
        self._projects.leaving(lambda: self._work.draw_demo("sign on brick", self._session.begin))

    def open_footlights(self) -> None:
        """Draw the paper theatre's panorama, the first time, and begin on it."""
        self._projects.leaving(lambda: self._work.draw_demo("footlights", self._session.begin))

    def open_turned_footlights(self) -> None:
        """Draw the paper theatre's panorama that is turned by hand, the first time, and begin on it."""
        self._projects.leaving(lambda: self._work.draw_demo("footlights turned", self._session.begin))

    def open_backstage(self) -> None:
        """Draw the paper theatre's walk backstage, the first time, and begin on it."""
        self._projects.leaving(lambda: self._work.draw_demo("backstage", self._session.begin))

    def open_stage_hand(self) -> None:
        """Draw the paper theatre's stage hand, the first time, and begin on it."""
        self._projects.leaving(lambda: self._work.draw_demo("stage hand", self._session.begin))

    def render_shot(self) -> None:
        """Ask where to and render beside the work."""
        session = self._session
        shot = session.desk.shot(session.project)
        if shot is None:
            return
        shot = session.project.whole_of(shot.id)
        near = session.folder.parent if session.folder else Path(shot.footage.path).parent.parent
        dialog = RenderDialog(shot, near / "render", lambda surface: placement(shot, surface) is not None, self._window)
        if dialog.exec() == RenderDialog.DialogCode.Accepted:
            self._work.render(dialog.frames(), dialog.target())
        dialog.deleteLater()
