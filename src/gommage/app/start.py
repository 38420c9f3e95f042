"""Start the window."""

from __future__ import annotations

import os
import sys
from pathlib import Path

import platformdirs
from PySide6.QtWidgets import QApplication, QMessageBox

from gommage.app.main_window import MainWindow
from gommage.app.theme import apply_theme
from gommage.core.document import Project
from gommage.core.document.journal import abandoned, recover
from gommage.core.engine import Engine
from gommage.errors import ProjectError

__all__ = ["can_show", "make_window", "start"]


def journal_root() -> Path:
    """Return where recovery journals are kept."""
    return Path(platformdirs.user_state_dir("gommage")) / "recovery"


def can_show() -> bool:
    """Return whether there is a display, or Qt was told to do without."""
    return bool(os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY") or os.environ.get("QT_QPA_PLATFORM"))


def make_application() -> QApplication:
    """Return the application, made and dressed."""
    application = QApplication.instance() or QApplication(sys.argv[:1])
    assert isinstance(application, QApplication)
    application.setApplicationName("Gommage")
    apply_theme(application)
    return application


def make_window(journals: Path | None = None) -> MainWindow:
    """Return a window with an empty project, on a dressed application."""
    make_application()
    return MainWindow(Engine(), journals or journal_root())


def start(project: Project | None = None, folder: Path | None = None, footage: Path | None = None) -> int:
    """Show the window and run until it is closed.

    Parameters
    ----------
    project : Project, optional
        To begin with (the demo).
    folder : Path, optional
        A project's folder to open.
    footage : Path, optional
        Footage to open.
    """
    application = make_application()
    window = make_window()
    window.show()
    if project is not None:
        window.session.begin(project)
    elif folder is not None:
        window.files.open_project(folder)
    elif footage is not None:
        window.files.open_footage(footage)
    else:
        offer_recovery(window)
    return application.exec()


def offer_recovery(window: MainWindow) -> None:
    """Offer work that a crash left behind."""
    for journal in abandoned(journal_root())[:1]:
        try:
            found = recover(journal)
        except ProjectError as error:
            window.show_error(str(error))
            return
        where = f" on {Path(found.saved_at).name}" if found.saved_at else ""
        box = QMessageBox(window)
        box.setWindowTitle("Work was left behind")
        box.setText(f"Gommage ended unexpectedly with {found.edits} unsaved edits{where}. Take them up again?")
        take = box.addButton("Take up", QMessageBox.ButtonRole.AcceptRole)
        box.addButton("Leave it", QMessageBox.ButtonRole.RejectRole)
        box.exec()
        if box.clickedButton() is take:
            window.session.begin(found.project, Path(found.saved_at) if found.saved_at else None, is_saved=False)
