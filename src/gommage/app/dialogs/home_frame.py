"""At which frame a picture lies that does not say so itself."""

from __future__ import annotations

from PySide6.QtWidgets import QDialog, QHBoxLayout, QLabel, QSpinBox, QVBoxLayout, QWidget

from gommage.app.look.controls import push_button
from gommage.app.look.theme import tabular_font
from gommage.core.document import FrameRange

__all__ = ["HomeFrameDialog"]


class HomeFrameDialog(QDialog):
    """Asks for the frame, with a proposal and what it was told by."""

    def __init__(self, name: str, frames: FrameRange, proposal: int, why: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Home frame")
        self.setMinimumWidth(420)
        words = QLabel(f"{name} does not say to which frame it belongs. Proposed is {proposal}: {why}.")
        words.setWordWrap(True)
        self._box = QSpinBox()
        self._box.setAccessibleName("Home frame of the picture")
        self._box.setRange(frames.first, frames.last)
        self._box.setValue(proposal)
        self._box.setFont(tabular_font(10))
        self._box.setButtonSymbols(QSpinBox.ButtonSymbols.NoButtons)
        row = QHBoxLayout()
        row.addWidget(QLabel("It lies at frame"))
        row.addWidget(self._box)
        row.addStretch()
        cancel = push_button("Cancel", self.reject)
        accept = push_button("Lay it there", self.accept, primary=True)
        accept.setDefault(True)
        row.addWidget(accept)
        row.addWidget(cancel)
        box = QVBoxLayout(self)
        box.setContentsMargins(16, 16, 16, 12)
        box.setSpacing(16)
        box.addWidget(words)
        box.addLayout(row)

    @property
    def frame(self) -> int:
        """The frame that was given."""
        return self._box.value()
