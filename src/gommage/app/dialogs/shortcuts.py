"""All keys, from the table of actions."""

from __future__ import annotations

from PySide6.QtWidgets import QDialog, QFormLayout, QLabel, QScrollArea, QVBoxLayout, QWidget

from gommage.app.actions import ACTIONS, HELD_KEYS
from gommage.app.look.controls import heading

__all__ = ["ShortcutsDialog"]


class ShortcutsDialog(QDialog):
    """All keys, from the table of actions."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Shortcuts")
        self.resize(560, 620)
        inside = QWidget()
        inside.setObjectName("panel")
        form = QFormLayout(inside)
        form.setVerticalSpacing(4)
        menu = ""
        for action in ACTIONS:
            if action.menu != menu:
                menu = action.menu
                form.addRow(heading(menu))
            if action.keys:
                form.addRow(", ".join(action.keys), QLabel(action.text.rstrip("…")))
        form.addRow(heading("Held"))
        for key, words in HELD_KEYS.items():
            form.addRow(key, QLabel(words))
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(inside)
        layout = QVBoxLayout(self)
        layout.addWidget(scroll)
