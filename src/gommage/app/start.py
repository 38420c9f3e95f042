"""Start the window."""

from __future__ import annotations

import gc
import os
import sys
import tempfile
from functools import partial
from pathlib import Path

import platformdirs
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication

from gommage.app.faults import Faults
from gommage.app.look.theme import apply_theme
from gommage.app.main_window import MainWindow
from gommage.app.warming import warm_up
from gommage.core.engine import Engine, Priority

__all__ = ["can_show", "make_application", "make_window", "start"]


def journal_roots() -> tuple[Path, ...]:
    """Return where recovery journals are kept: with the program's state, or beside it where that cannot be written."""
    beside = os.environ.get("XDG_RUNTIME_DIR") or tempfile.gettempdir()
    return Path(platformdirs.user_state_dir("gommage")) / "recovery", Path(beside) / f"gommage-recovery-{os.getuid()}"


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


def make_window(journals: tuple[Path, ...] | None = None, state_root: Path | None = None) -> MainWindow:
    """Return a window with an empty project, on a dressed application."""
    make_application()
    return MainWindow(Engine(), journals or journal_roots(), state_root)


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
    faults = Faults(window.session.report)
    faults.install()
    window.show()
    # What is loaded stays: to look through it for what nobody holds any more would stop the hand for 150 ms.
    window.session.submit(("warm",), Priority.IDLE, warm_up, lambda _: gc.freeze())
    QTimer.singleShot(0, partial(window.projects.recover_work, partial(_begin, window, folder, footage, is_demo)))
    code = application.exec()
    faults.remove()
    return code


def _begin(window: MainWindow, folder: Path | None, footage: Path | None, is_demo: bool) -> None:
    if is_demo:
        window.files.open_demo()
    elif folder is not None:
        window.projects.open_project(folder)
    elif footage is not None:
        window.files.open_footage(footage)
