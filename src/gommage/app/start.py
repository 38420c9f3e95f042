"""Start the window."""

from __future__ import annotations

import os
import sys
from functools import partial
from pathlib import Path

import platformdirs
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication, QMessageBox

from gommage.app.look.theme import apply_theme
from gommage.app.main_window import MainWindow
from gommage.core.document.journal import Recovered, abandoned, recover
from gommage.core.engine import Engine, Priority

__all__ = ["can_show", "make_application", "make_window", "offer_recovery", "start"]


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


def make_window(journals: Path | None = None, state_root: Path | None = None) -> MainWindow:
    """Return a window with an empty project, on a dressed application."""
    make_application()
    return MainWindow(Engine(), journals or journal_root(), state_root)


def start(*, folder: Path | None = None, footage: Path | None = None, is_demo: bool = False) -> int:
    """Show the window and run until it is closed.

    Parameters
    ----------
    folder : Path, optional
        A project's folder to open.
    footage : Path, optional
        Footage to open.
    is_demo : bool
        Whether to draw the paper theatre and begin on it.
    """
    application = make_application()
    window = make_window()
    window.show()
    if is_demo:
        begin = window.files.open_demo
    elif folder is not None:
        begin = partial(window.files.open_project, folder)
    elif footage is not None:
        begin = partial(window.files.open_footage, footage)
    else:
        begin = partial(offer_recovery, window)
    QTimer.singleShot(0, begin)
    return application.exec()


def offer_recovery(window: MainWindow) -> None:
    """Offer work that a crash left behind; it is looked for and read beside the interface."""

    def find(check: object) -> Recovered | None:
        found = abandoned(journal_root())
        return recover(found[0]) if found else None

    window.session.submit(("recover",), Priority.SCREEN, find, partial(_offer, window))


def _offer(window: MainWindow, found: Recovered | None) -> None:
    if found is None:
        return
    where = f" on {Path(found.saved_at).name}" if found.saved_at else ""
    box = QMessageBox(window)
    box.setWindowTitle("Work was left behind")
    box.setText(f"Gommage ended unexpectedly with {found.edits} unsaved edits{where}. Take them up again?")
    take = box.addButton("Take up", QMessageBox.ButtonRole.AcceptRole)
    box.addButton("Leave it", QMessageBox.ButtonRole.RejectRole)
    box.exec()
    is_taken = box.clickedButton() is take
    box.deleteLater()
    if is_taken:
        window.session.begin(found.project, Path(found.saved_at) if found.saved_at else None, is_saved=False)
