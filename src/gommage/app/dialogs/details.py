"""The details of an error that nobody expected, to be copied."""

from __future__ import annotations

from PySide6.QtGui import QFontDatabase, QGuiApplication
from PySide6.QtWidgets import QDialog, QHBoxLayout, QLabel, QPlainTextEdit, QVBoxLayout, QWidget

from gommage.app.look.controls import push_button, quiet

__all__ = ["DetailsDialog"]


class DetailsDialog(QDialog):
    """Show what happened and where, and copy it."""

    def __init__(self, words: str, details: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Details")
        self.resize(720, 420)
        said = QLabel(words)
        said.setWordWrap(True)
        self.text = QPlainTextEdit(details)
        self.text.setAccessibleName("Details")
        self.text.setReadOnly(True)
        self.text.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.text.setFont(QFontDatabase.systemFont(QFontDatabase.SystemFont.FixedFont))
        copy = push_button("Copy", self._copy, primary=True, tip="Copy all of it")
        copy.setDefault(True)
        row = QHBoxLayout()
        row.addStretch()
        row.addWidget(copy)
        row.addWidget(push_button("Close", self.reject))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 16, 16, 12)
        layout.setSpacing(12)
        layout.addWidget(said)
        layout.addWidget(quiet("This says where in the program it happened. Nothing of your pictures is in it."))
        layout.addWidget(self.text, 1)
        layout.addLayout(row)

    def _copy(self) -> None:
        QGuiApplication.clipboard().setText(self.text.toPlainText())
