"""What the panels of all steps share."""

from __future__ import annotations

from PySide6.QtWidgets import QVBoxLayout, QWidget

from gommage.app.rows import AdviceBox
from gommage.app.session import Session
from gommage.core.document import CleanPlate, Fix, Shot, Surface

__all__ = ["Page"]


class Page(QWidget):
    """What one step needs. Subclasses build rows and show state; they report intents to the session."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.session = session
        self.advice = AdviceBox()
        self.box = QVBoxLayout(self)
        self.box.setContentsMargins(4, 4, 4, 4)
        self.box.setSpacing(8)
        self.box.addWidget(self.advice)
        self.build()
        self.box.addStretch()

    def build(self) -> None:
        """Add the page's rows."""

    def refresh(self, shot: Shot, surface: Surface | None, fix: Fix | None, plate: CleanPlate | None) -> None:
        """Show the state of the document and the desk."""

    def call(self, name: str) -> None:
        """Do one of the main window's actions."""
        window = self.window()
        window.call(name)  # type: ignore[attr-defined]
